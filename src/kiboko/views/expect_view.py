"""Expectations made visible: which are held, and of those that are not one pair that breaks them; JSON and JUnit."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from kiboko.core.changes.expecting import BROKEN, Counterexample, Held
from kiboko.core.changes.spoken_of import ONLY
from kiboko.core.network.model import Expectation
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output

if TYPE_CHECKING:
    from kiboko.batch.promises import SeenPromise

_STYLES = {"held": "allowed", BROKEN: "blocked"}

_MOST_IN_FULL = 20
"""So many broken promises are shown in full, and as many may be listed of which nothing was recorded."""


@dataclass(frozen=True, slots=True)
class ExpectShown:
    """How it is shown: what else goes on a command line, and whether held ones are listed too."""

    options: str = ""
    every: bool = False


def show_expectations(
    outcomes: Sequence[Held], shown: ExpectShown, out: Output, seen: Mapping[str, SeenPromise] = MappingProxyType({}),
    told: Sequence[str] = (),
) -> None:  # fmt: skip
    """How many are held, then those that are broken, by the rules or by what was recorded."""
    broken = [each for each in outcomes if each.state == BROKEN]
    pairs = sum(each.pairs for each in outcomes)
    words = f"{counted(len(outcomes), 'expectation')}, {counted(pairs, 'pair of ends', 'pairs of ends')} looked at: "
    out.parts((words, ""), (f"{len(outcomes) - len(broken):,} held", "allowed"), (", ", ""),
              (f"{len(broken):,} broken", "blocked" if broken else ""), (".", ""))  # fmt: skip
    for each in broken[:_MOST_IN_FULL]:
        asked = each.expectation
        out.line()
        out.parts(("BROKEN ", "blocked"), (asked.id, "mark"), (f"  ({asked.place})", "quiet"))
        out.labelled("  promise  ", promise_text(asked))
        count = f" ({counted(each.wrong, 'pair')} of {each.pairs:,})" if each.pairs else ""
        out.labelled("  but      ", f"{each.why}{count}")
        if each.example is not None:
            out.labelled("  see      ", check_line(each, shown.options), is_paste=True)
        for label, text in (("owner", asked.owner), ("reason", asked.reason)):
            if text:
                out.labelled(f"  {label:<9}", text)
    if len(broken) > _MOST_IN_FULL:
        out.heading(f"{len(broken) - _MOST_IN_FULL:,} more broken; --id ID has one in full")
        grid = Grid(["id", "promise", "but"], wide=("promise", "but"))
        for each in broken[_MOST_IN_FULL:]:
            grid.add([each.expectation.id, promise_text(each.expectation), each.why], "blocked")
        out.grid(grid)
    _show_seen(outcomes, seen, shown, out)
    held = [each for each in outcomes if each.state != BROKEN]
    if held and shown.every:
        out.heading("Held")
        grid = Grid(["id", "promise", "pairs"], wide=("promise",), numbers=("pairs",))
        for each in held:
            grid.add([each.expectation.id, promise_text(each.expectation), f"{each.pairs:,}"])
        out.grid(grid)
    if told:
        out.heading("Bear in mind")
        out.bullets(list(told))


def _show_seen(outcomes: Sequence[Held], seen: Mapping[str, SeenPromise], shown: ExpectShown, out: Output) -> None:
    """What was recorded of each promise: what breaks it first; of many not those of which nothing tells."""
    if not seen:
        return
    out.heading("What was recorded of them")
    grid = Grid(["expectation", "by the rules", "recorded", "keep it", "break it", "seen"],
                numbers=("keep it", "break it"), wide=("seen",))  # fmt: skip
    listed = [each for each in outcomes if seen[each.expectation.id].breaks or seen[each.expectation.id].keeps]
    if shown.every or len(outcomes) <= _MOST_IN_FULL:
        listed = list(outcomes)
    listed.sort(key=lambda each: -seen[each.expectation.id].breaks)
    for each in listed:
        mine = seen[each.expectation.id]
        word = "breaks it" if mine.breaks else "keeps it" if mine.keeps else "tells nothing"
        words = [f"{count:,} {seen_as}" for seen_as, count in mine.seen.counts.items()]
        if each.expectation.expect == ONLY:
            words += [f"of others {count:,} {seen_as}" for seen_as, count in mine.others.counts.items()]
        grid.add(
            [each.expectation.id, each.state, word, f"{mine.keeps:,}", f"{mine.breaks:,}", ", ".join(words)],
            "blocked" if mine.breaks else "allowed" if mine.keeps else "quiet",
        )
    if listed:
        out.grid(grid)
    left = len(outcomes) - len(listed)
    if left:
        out.line(
            f"of {left:,}{' others' if listed else ''} nothing was recorded that tells; --every lists them", "quiet"
        )


def promise_text(asked: Expectation) -> str:
    """A promise in words."""
    sources, destinations = ", ".join(asked.sources), ", ".join(asked.destinations)
    but = f", except {', '.join(asked.excepted)}" if asked.excepted else ""
    what = asked.service_text + (f" over IPv{asked.family}" if asked.family is not None else "")
    if asked.expect == "only":
        return f"only {sources} to {destinations} on {what}{but}"
    return f"{sources} to {destinations} on {what} is {asked.expect}{but}"


def check_line(each: Held, options: str) -> str:
    """The question about the pair that breaks a promise, to be pasted."""
    example = each.example
    assert isinstance(example, Counterexample)
    ports = (
        f" --client-ports {example.port}" if example.port is not None and each.expectation.expect == "allowed" else ""
    )
    family = f" -{each.family}" if each.family == 6 and not any(":" in name for name in _names(example)) else ""
    return f"kiboko check {' '.join(_names(example))} {example.service}{ports}{family}{options}"


def _names(example: Counterexample) -> tuple[str, str]:
    return example.source.name, example.destination.name


def _seen_json(each: Held, seen: Mapping[str, SeenPromise]) -> dict[str, Any] | None:
    mine = seen.get(each.expectation.id)
    if mine is None:
        return None
    others = mine.others.counts if each.expectation.expect == ONLY else {}
    return {"keep": mine.keeps, "break": mine.breaks, "seen": mine.seen.counts, "of_others": others}


def expect_json(
    outcomes: Sequence[Held], shown: ExpectShown, seen: Mapping[str, SeenPromise] = MappingProxyType({}),
    told: Sequence[str] = (),
) -> dict[str, Any]:  # fmt: skip
    """What came of all of them, as `expect/1`."""
    broken = sum(each.state == BROKEN for each in outcomes)
    return {
        "kiboko": "expect/1",
        "summary": {"held": len(outcomes) - broken, "broken": broken},
        "rows": [
            {
                "id": each.expectation.id, "state": each.state, "from": list(each.expectation.sources),
                "to": list(each.expectation.destinations), "service": each.expectation.service_text,
                "expect": each.expectation.expect, "except": list(each.expectation.excepted),
                "family": each.expectation.family,
                "owner": each.expectation.owner or None, "reason": each.expectation.reason or None,
                "file": each.expectation.place.file, "line": each.expectation.place.line,
                "pairs": each.pairs, "wrong": each.wrong, "why": each.why or None,
                "check": check_line(each, shown.options) if each.example is not None else None,
                "recorded": _seen_json(each, seen),
            }
            for each in outcomes
        ],
        "caveats": list(told),
    }  # fmt: skip


def junit(
    outcomes: Sequence[Held], shown: ExpectShown, name: str, seen: Mapping[str, SeenPromise] = MappingProxyType({})
) -> bytes:
    """The outcomes as JUnit XML, a case for each expectation, and one more for what was recorded of it."""
    from xml.dom.minidom import parseString

    from junitparser import Failure, JUnitXml, TestCase, TestSuite

    suite = TestSuite(name)
    for each in outcomes:
        case = TestCase(each.expectation.id, classname="expectations")
        if each.state == BROKEN:
            failure = Failure(f"{promise_text(each.expectation)}: {each.why}", each.expectation.expect)
            if each.example is not None:
                failure.text = check_line(each, shown.options)
            case.result = [failure]
        suite.add_testcase(case)
        mine = seen.get(each.expectation.id)
        if mine is not None:
            recorded = TestCase(each.expectation.id, classname="expectations.recorded")
            if mine.breaks:
                text = f"{promise_text(each.expectation)}: {mine.breaks:,} recorded conversations break it"
                recorded.result = [Failure(text, each.expectation.expect)]
            suite.add_testcase(recorded)
    xml = JUnitXml()
    xml.add_testsuite(suite)
    text = xml.tostring()  # type: ignore[no-untyped-call]
    return bytes(parseString(text).toprettyxml(encoding="utf-8"))


def draft_yaml(expectations: Sequence[Expectation]) -> str:
    """A file of expectations as text."""
    import json

    if not expectations:
        return "# Nothing was found that could be promised.\nkiboko: expectations/1\nexpectations: []\n"
    lines = ["# A first set: what holds today. Cut it down to what is meant."]
    lines += ["kiboko: expectations/1", "expectations:"]
    for each in expectations:
        services = [text.strip() for text in each.service_text.split("+")]
        values = {"id": each.id, "from": each.sources[0], "to": each.destinations[0], "service": services,
                  "expect": each.expect}  # fmt: skip
        inner = ", ".join(f"{key}: {json.dumps(value)}" for key, value in values.items())
        lines.append(f"  - {{{inner}}}")
    return "\n".join(lines) + "\n"
