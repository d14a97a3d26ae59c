"""Two versions of a network side by side: what they say differently, and what that opens and closes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.changes.difference import CLOSED, IN_PART, OPENED, Changed, Difference
from kiboko.core.changes.said import RuleLine, RulesBeside, Said, rules_beside
from kiboko.core.changes.turning_gates import turning_gate
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.holders import Holders
from kiboko.core.queries.members import Member
from kiboko.core.queries.pair import walk_between
from kiboko.core.reachability.naming import Namer
from kiboko.core.reachability.set_answer import EndCount
from kiboko.core.walk.gates import REPLY, Row
from kiboko.core.walk.walk import Walk
from kiboko.core.wording import counted
from kiboko.views.check_view import decider_text
from kiboko.views.output import Grid, Output
from kiboko.views.reach_view import check_words, named, names_asked
from kiboko.views.set_view import first_few, held_text
from kiboko.views.text import network_option

_STYLES = {OPENED: "allowed", CLOSED: "blocked", IN_PART: "partly"}
_MOST_SAID = 40
_MOST_NAMES, _FEW_NAMES = 8, 2
_MOST_LISTS = 6
_AROUND = 2
_MOST_SERVICES, _LINE_SERVICES = 8, 2
_COUNTED = 1_000_000
"""Of more addresses where nobody is recorded the number tells nothing."""
_FEW = 12
"""As many lines of a kind are shown one by one; of more those together that the same rules turn."""
_MOST_WALKED = 10_000
"""Of as many lines an example is looked at."""


@dataclass(frozen=True, slots=True)
class CompareShown:
    """How it is shown: both network files as they were named, all names or the first few, and how many lines."""

    old: str
    new: str
    full: bool = False
    top: int = 20
    toggles: str = ""
    """What else goes on a command line, where rules are toggled rather than files compared."""

    @property
    def options(self) -> str:
        """What goes on the command line of a question about the second version."""
        return network_option(self.new) + self.toggles


def show_difference(found: Difference, shown: CompareShown, ends: tuple[Ends, Ends], out: Output) -> None:
    """What the files say differently, then every verdict that is another one."""
    met = Counter(each.kind for each in found.changed)
    told = ", ".join(f"{met[kind]:,} {kind}" for kind in (OPENED, CLOSED, IN_PART) if met[kind]) or "no verdict changes"
    out.line(f"{counted(len(found.said), 'difference')} in what the files say; {told}.", "heading")
    _show_said(found.said, shown, out)
    lists = list(rules_beside(ends[0].topology, ends[1].topology))
    for beside in lists if shown.full else lists[:_MOST_LISTS]:
        _show_beside(beside, shown, out)
    namer = Namer(ends[1])
    changed = {f"{filter_}/{rule}" for each in found.said if each.section == "rules"
               for filter_, _, rule in [each.name.split("/", 2)]}  # fmt: skip
    for kind in (OPENED, CLOSED, IN_PART):
        listed = [each for each in found.changed if each.kind == kind]
        if not listed:
            continue
        out.heading(f"What is {kind}" if kind != IN_PART else "What is changed in part")
        lines = list(_in_both_families(listed)) if shown.full or len(listed) <= 2 * _FEW else []
        if shown.full or 0 < len(lines) <= _FEW:
            for number, each in enumerate(lines[: shown.top], 1):
                _show_line(number, each, shown, ends, namer, out)
            if len(lines) > shown.top:
                out.line(f"and {counted(len(lines) - shown.top, 'more line')}; --top N shows more, --json all", "quiet")
        else:
            _show_lines(listed, changed, shown, ends, namer, out)
    caveats = caveats_of(found)
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def caveats_of(found: Difference) -> list[str]:
    """What has to be borne in mind."""
    told = []
    for names, where in ((found.gone, "the first"), (found.new, "the second")):
        if names:
            more = f" and {len(names) - _MOST_NAMES} more" if len(names) > _MOST_NAMES else ""
            told.append(f"only {where} file has {', '.join(names[:_MOST_NAMES])}{more}: verdicts on them are not"
                        " compared; reach tells of them")  # fmt: skip
    if found.moved:
        more = f" and {len(found.moved) - _MOST_NAMES} more" if len(found.moved) > _MOST_NAMES else ""
        told.append(f"not compared, since the files do not both have them, or have them at other addresses:"
                    f" {', '.join(found.moved[:_MOST_NAMES])}{more}; reach tells of them")  # fmt: skip
    return told


def _show_said(said: Sequence[Said], shown: CompareShown, out: Output) -> None:
    if not said:
        return
    out.heading("What the files say")
    most = len(said) if shown.full else _MOST_SAID
    for each in said[:most]:
        sign = "-" if each.after is None else "+" if each.before is None else "~"
        style = {"-": "blocked", "+": "allowed", "~": "partly"}[sign]
        where = f"  ({each.place})" if each.place is not None else ""
        out.parts((f"  {sign} ", style), (f"{each.section} ", "quiet"), (each.name, "mark"), (where, "quiet"))
        for label, text in (("before", each.before), ("now", each.after)):
            if text is not None and text != "there":
                out.labelled(f"      {label:<8}", text)
    if len(said) > most:
        out.line(f"  and {len(said) - most:,} more; --full shows all", "quiet")


def _show_beside(beside: RulesBeside, shown: CompareShown, out: Output) -> None:
    """A list of rules in both versions, in the order in which they decide: what differs, and the rules around it."""
    out.heading(f"{beside.filter}, {beside.way}: the rules before and after, in the order in which they decide")
    grid = Grid(["", "before", "after"], wide=("before", "after"))
    left_out = 0
    for at, line in enumerate(beside.lines):
        near = beside.lines[max(0, at - _AROUND) : at + _AROUND + 1]
        if not shown.full and all(each.is_same for each in near):
            left_out += 1
            continue
        sign, style = _sign(line)
        grid.add([sign, line.before or "", line.after or ""], style)
    out.grid(grid)
    if left_out:
        stays = counted(left_out, "rule that stays as it is", "rules that stay as they are")
        out.line(f"  and {stays}; --full shows all", "quiet")


def _sign(line: RuleLine) -> tuple[str, str]:
    if line.is_same:
        return " ", "quiet"
    return ("-", "blocked") if line.after is None else ("+", "allowed") if line.before is None else ("~", "partly")


_Line = tuple[Changed, bool]
"""What changed, and whether it did in both families."""


def _in_both_families(lines: Sequence[Changed]) -> Iterator[_Line]:
    """Lines that say the same of either family brought together, each in the place of the first."""
    alike: dict[tuple[object, ...], list[Changed]] = {}
    for each in lines:
        ends = [tuple((member.name, member.low) for member in side) for side in (each.sources, each.destinations)]
        alike.setdefault((each.before, each.after, each.ports, each.services.ranges, *ends), []).append(each)
    yield from ((same[0], len(same) > 1) for same in alike.values())


def _family(line: _Line) -> str:
    each, is_in_both = line
    return ", also IPv6" if is_in_both else ", IPv6" if each.family == 6 else ""


@dataclass(slots=True)
class _Alike:
    """Lines of one kind whose examples turn at the same gate by the same rules."""

    lines: list[Changed]
    by: str

    def ends(self, is_source: bool, holders: Holders, namer: Namer) -> str:
        """All that send, or are sent to, in any of the lines: addresses where nobody is recorded by few names."""
        sides = [each.sources if is_source else each.destinations for each in self.lines]
        met: dict[int, Member] = {}  # most members are those of many lines, and many lines have the very same
        for side in {id(each): each for each in sides}.values():
            met.update(zip(map(id, side), side, strict=True))
        members = list(met.values())
        nobody = [each for each in members if each.machine is None and each.outside is None]
        names = list(dict.fromkeys(each.text.removesuffix(" (IPv6)") for each in namer.names(nobody)))
        if len(names) > _FEW_NAMES:
            count = sum(each.count for each in nobody)
            names = [f"{count:,} unrecorded addresses" if count < _COUNTED else "unrecorded addresses"]
        others = [each for each in members if each.machine is not None or each.outside is not None]
        return " and ".join([*([held_text(EndCount.of(others), holders)] if others else []), *names])


def _alike(lines: Sequence[Changed], ends: tuple[Ends, Ends], changed: Collection[str]) -> list[_Alike]:
    """Lines brought together by what turns their examples, those of outsides apart, each where its first line is;
    `changed` are the rules that the files say otherwise, as FILTER/RULE."""
    found: dict[tuple[object, ...], _Alike] = {}
    for each in lines:
        by = _turned_by(_walks(each, ends), changed)
        found.setdefault((each.before, each.after, each.ports, by, each.beyond), _Alike([], by)).lines.append(each)
    return list(found.values())


def _turned_by(walks: Sequence[Walk | None], changed: Collection[str]) -> str:
    """What turns an example, in few words: the rule that is not what it was, else the one that is written, else what
    decides there before and now."""
    before, after = walks
    turning = turning_gate(before, after) if before is not None and after is not None else None
    if turning is None:
        return "-"
    row = turning.after or turning.before
    assert row is not None
    reply = " (reply)" if row.direction == REPLY else ""
    both = [_rule_words(each) for each in turning]
    written = [text for text, each in zip(both, turning, strict=True)
               if each is not None and each.rule not in (None, "otherwise")]  # fmt: skip
    for some in ([text for text in written if text in changed], written):
        if len(set(some)) == 1:
            return some[0] + reply
    return f"{row.gate}{reply}: {' → '.join(both)}"


def _rule_words(row: Row | None) -> str:
    """A rule by its filter, else why the gate does what it does."""
    if row is None:
        return "not asked"
    return f"{row.filter}/{row.rule}" if row.rule is not None else row.reason or "no filter"


def _show_lines(
    lines: Sequence[Changed], changed: Collection[str], shown: CompareShown, ends: tuple[Ends, Ends], namer: Namer,
    out: Output,
) -> None:  # fmt: skip
    """Many lines in a table, those together that the same rules turn."""
    alike, holders = _alike(lines[:_MOST_WALKED], ends, changed), Holders(ends[1].walker)
    grid = Grid(["", "before and now", "turned by", "from", "to", "on", "example"],
                wide=("before and now", "turned by", "from", "to", "on"), numbers=("",), last=("example",))  # fmt: skip
    for number, each in enumerate(alike[: shown.top], 1):
        first = each.lines[0]
        is_in_both = len({line.family for line in each.lines}) > 1
        only = [f" (client ports {some})" if some else "" for some in first.ports]
        services = RangeSet.of(pair for line in each.lines for pair in line.services)
        grid.add([
            str(number), f"{first.before}{only[0]} → {first.after}{only[1]}{_family((first, is_in_both))}", each.by,
            *(each.ends(is_source, holders, namer) for is_source in (True, False)),
            first_few(services_texts(services), _LINE_SERVICES),
            check_words(first.example, first.family, "").removeprefix("kiboko check "),
        ])  # fmt: skip
    out.grid(grid)
    first = lines[0]
    out.line("turned by: the rule that decides before or now, of examples; from, to, on: all that are met in it, not"
             " each with each", "quiet")  # fmt: skip
    out.line(f"to see one: {check_words(first.example, first.family, shown.options)}", "quiet")
    left = max(0, len(alike) - shown.top)
    if left:
        out.line(f"and {counted(left, 'more line')}; --top N shows more, --full every name, --json all", "quiet")
    if len(lines) > _MOST_WALKED:
        out.line(f"the first {_MOST_WALKED:,} of {len(lines):,} products of ends and services were brought together;"
                 " --json has all", "quiet")  # fmt: skip


def _show_line(
    number: int, line: _Line, shown: CompareShown, ends: tuple[Ends, Ends], namer: Namer, out: Output
) -> None:
    each = line[0]
    out.parts((f"{number:>3}. ", "quiet"), (f"{each.before} → {each.after}", _STYLES[each.kind]),
              (f"{_family(line)}: ", ""), (named(namer.names(each.sources), shown.full), "mark"))  # fmt: skip
    out.labelled("     to        ", named(namer.names(each.destinations), shown.full))
    texts = services_texts(each.services)
    more = "" if shown.full or len(texts) <= _MOST_SERVICES else f" and {len(texts) - _MOST_SERVICES} more"
    out.labelled("     on        ", ", ".join(texts if shown.full else texts[:_MOST_SERVICES]) + more)
    for label, ports, walk in zip(("before", "now"), each.ports, _walks(each, ends), strict=True):
        decider = walk.decided_by if walk is not None else None
        does = "rests on" if decider is not None and decider.is_doubtful else "stopped by"
        text = f"client ports {ports} get an answer" if ports else decider and f"{does} {decider_text(decider)}"
        if text:
            out.labelled(f"     {label:<10}", text)
    out.labelled("     see       ", check_words(each.example, each.family, shown.options), is_paste=True)


def _walks(each: Changed, ends: tuple[Ends, Ends]) -> list[Walk | None]:
    """The example in each version, as the line to paste asks about it."""
    source, destination, service = each.example
    names = names_asked(source, destination)
    return [walk_between(which, *names, service, each.family) for which in ends]


def compare_json(found: Difference, shown: CompareShown, ends: tuple[Ends, Ends]) -> dict[str, Any]:
    """All that differs, as `compare/1`."""
    namer = Namer(ends[1])
    met = Counter(each.kind for each in found.changed)
    return {
        "kiboko": "compare/1",
        "summary": {"old": shown.old, "new": shown.new, "said": len(found.said), "opened": met[OPENED],
                    "closed": met[CLOSED], "changed_in_part": met[IN_PART]},
        "said": [
            {"section": each.section, "name": each.name, "before": each.before, "after": each.after,
             "file": each.place.file if each.place else None, "line": each.place.line if each.place else None}
            for each in found.said
        ],
        "rows": [
            {
                "kind": each.kind, "before": each.before, "after": each.after, "family": each.family,
                "sources": [name.text for name in namer.names(each.sources)],
                "destinations": [name.text for name in namer.names(each.destinations)],
                "services": services_texts(each.services),
                "client_ports_before": each.ports[0].texts(), "client_ports_after": each.ports[1].texts(),
                "check": check_words(each.example, each.family, shown.options),
            }
            for each in found.changed
        ],
        "caveats": caveats_of(found),
    }  # fmt: skip
