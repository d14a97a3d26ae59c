"""What can reach an end made visible: lines of names, the rules that let them in, and what stands before the rest."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import Service, services_texts
from kiboko.core.queries.ends import services_for
from kiboko.core.queries.members import Member
from kiboko.core.reachability.doors import Door, DoorsLine
from kiboko.core.reachability.letting_in import ON_THE_WAY, LetIn
from kiboko.core.reachability.naming import Name, Namer
from kiboko.core.reachability.reach import ReachAnswer, ReachLine
from kiboko.core.reachability.stepping_stones import Chain
from kiboko.core.walk.gates import REPLY
from kiboko.core.walk.walk import ALLOWED, PARTLY, UNKNOWN
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output

_KINDS = ("Instances", "Addresses of subnets where nobody is recorded", "Outside the networks")
_MOST_NAMES = 6
_MOST_SERVICES = 8
_FEW_SERVICES = 3
_MOST_RULES = 8
_FEW, _FEW_NAMES, _FEW_RULES = 8, 3, 2
"""Of a kind as many lines are shown with all that there is to say; of more each is a line of a table, with so much."""


@dataclass(frozen=True, slots=True)
class ReachShown:
    """How an answer is shown: the words that were asked, what else goes on a command line, all names or the first few,
    and how many lines."""

    name: str
    service: str
    is_out: bool
    options: str
    full: bool = False
    top: int = 20
    asked: RangeSet = EMPTY


def show_reach(answer: ReachAnswer, shown: ReachShown, namer: Namer, near: Sequence[Member], out: Output) -> None:
    """The totals, then the lines: instances, addresses with nobody recorded, outsides."""
    verb = "can be reached from" if shown.is_out else "can reach"
    what = f" {verb} {shown.name} on {'any service' if shown.service == 'any' else shown.service}, at least in part"
    in_doubt = {line.verdict == UNKNOWN for line in answer.lines}
    told = {frozenset((True,)): "; of none is it known", frozenset((False, True)): "; not of all is it known"}
    out.parts((_totals(answer), "heading"), (f"{what}{told.get(frozenset(in_doubt), '')}.", ""))
    if not answer.lines:
        out.line("Nothing gets through.", "quiet")
    whole = {family: {name.text for name in namer.names(each for each in near if family in each.families)}
             for family in (4, 6)}  # fmt: skip
    for kind, title in enumerate(_KINDS):
        lines = [line for line in answer.lines if line.kind == kind]
        if not lines:
            continue
        out.heading(title)
        if shown.full or len(lines) <= _FEW:
            for number, line in enumerate(lines[: shown.top], 1):
                _show_line(number, line, shown, namer, whole, out)
        else:
            _show_lines(lines[: shown.top], shown, namer, whole, out)
        if len(lines) > shown.top:
            pairs = sum(line.pairs for line in lines[shown.top :])
            out.line(f"and {counted(len(lines) - shown.top, 'more line')} of {counted(pairs, 'pair')};"
                     " --top N shows more, --full all their rules, --json all", "quiet")  # fmt: skip
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(list(answer.caveats))


def _totals(answer: ReachAnswer) -> str:
    units = (("instance", "instances"), ("address with nobody recorded", "addresses with nobody recorded"),
             ("outside", "outsides"))  # fmt: skip
    told = [
        f"{found:,} of {counted(looked_at, *units[kind])}" if looked_at < 10**12 else
        f"{counted(found, *units[kind])}" if found else f"no {units[kind][0]}"
        for kind, (found, looked_at) in enumerate(zip(answer.found, answer.looked_at, strict=True))
        if looked_at
    ]  # fmt: skip
    return ", ".join(told)


def _show_lines(
    lines: Sequence[ReachLine], shown: ReachShown, namer: Namer, whole: dict[int, set[str]], out: Output
) -> None:  # fmt: skip
    """Many lines in a table, with the rules that tell most."""
    near = [namer.names(line.near) for line in lines]
    with_near = any(
        {name.text for name in names} != whole[line.family] for names, line in zip(near, lines, strict=True)
    )
    sides = ["from", "to"] if with_near else ["to" if shown.is_out else "from"]
    grid = Grid(["", "outcome", *sides, "on", "let in by", "example"], wide=("from", "to", "on", "let in by"),
                numbers=("",), last=("example",))  # fmt: skip
    for number, (line, names) in enumerate(zip(lines, near, strict=True), 1):
        far = named(namer.names(line.far), False, _FEW_NAMES)
        ends = [far, named(names, False, _FEW_NAMES)] if with_near else [far]
        word = "not known" if line.verdict == UNKNOWN else line.verdict
        only = f" (client ports {line.ports})" if line.verdict == PARTLY else ""
        rules = sorted(line.rules, key=_telling)
        let_in = [f"{each.filter}/{each.rule} ({each.gate}{', reply' if each.direction == REPLY else ''}"
                  f"{'' if each.is_known else ', not known'})" for each in rules[:_FEW_RULES]]  # fmt: skip
        more = f" and {len(rules) - _FEW_RULES:,} more" if len(rules) > _FEW_RULES else ""
        example = check_words(line.example, line.family, "").removeprefix("kiboko check ")
        grid.add([str(number), f"{word}{only}{', IPv6' if line.family == 6 else ''}",
                  *(reversed(ends) if shown.is_out else ends),
                  service_words(line.services, shown, line.family, _FEW_SERVICES), ", ".join(let_in) + more or "-",
                  example],
                 line.verdict if line.verdict != ALLOWED else "")  # fmt: skip
    out.grid(grid)
    if any(each.is_sampled for each in lines):
        out.line("let in by: where pairs are too many to look at all, the rules of some of them", "quiet")
    out.line(f"to see one: {check_words(lines[0].example, lines[0].family, shown.options)}", "quiet")


def _telling(rule: LetIn) -> tuple[bool, bool, bool, int]:
    """Which rules tell most of why somebody gets in: those of which that is not known, then those of the request that
    are written, nearest to the receiver."""
    return rule.is_known, rule.direction == REPLY, rule.rule == "otherwise", -ON_THE_WAY.index(rule.gate)


def _show_line(
    number: int, line: ReachLine, shown: ReachShown, namer: Namer, whole: dict[int, set[str]], out: Output
) -> None:
    far, near = namer.names(line.far), namer.names(line.near)
    family = ", IPv6" if line.family == 6 else ""
    word = "not known" if line.verdict == UNKNOWN else line.verdict
    out.parts((f"{number:>3}. ", "quiet"), (word, line.verdict), (f"{family}: ", ""), (named(far, shown.full), "mark"))
    if {name.text for name in near} != whole[line.family]:
        out.parts((f"     {'from' if shown.is_out else 'to':<10}", "quiet"), (named(near, shown.full), ""))
    out.labelled("     on        ", service_words(line.services, shown, line.family))
    if line.verdict == PARTLY:
        out.parts(("     only      ", "quiet"), (f"client ports {line.ports} get an answer", ""))
    _show_rules(line.rules, line.is_sampled, shown, out)
    out.labelled("     see       ", check_words(line.example, line.family, shown.options), is_paste=True)


def _show_rules(rules: Sequence[LetIn], is_sampled: bool, shown: ReachShown, out: Output) -> None:
    texts = [rule_text(each) for each in rules if each.is_known]
    for place, each in enumerate(each for each in rules if not each.is_known):
        out.parts((f"     {'rests on' if not place else '':<10}", "quiet"), (f"{rule_text(each)}, not known", ""))
    most = len(texts) if shown.full else _MOST_RULES
    for place, text in enumerate(texts[:most]):
        out.parts((f"     {'let in by' if not place else '':<10}", "quiet"), (text, ""))
    if len(texts) > most:
        out.line(f"               and {len(texts) - most} more; --full shows all", "quiet")
    if is_sampled:
        out.line("               (rules of some of the pairs: there are too many to look at all)", "quiet")


def rule_text(rule: LetIn | Door) -> str:
    """A rule at a gate: `subnet-in bank-edge/10 (network.yaml:84)`."""
    back = ", reply" if rule.direction == "reply" else ""
    if isinstance(rule, Door) and rule.at:
        back = f" at {rule.at}{back}"
    if rule.filter is None:
        why = rule.reason if isinstance(rule, Door) else ""
        return f"{rule.gate}{back}{': ' + why if why else ''}"
    where = f" ({rule.place})" if rule.place is not None else ""
    return f"{rule.gate}{back}: {rule.filter}/{rule.rule}{where}"


def named(names: Sequence[Name], full: bool, few: int = _MOST_NAMES) -> str:
    """Names in words: all, or the first few with how many more there are."""
    most = len(names) if full else few
    texts = [f"{name.text} ({counted(name.count, 'instance') if name.is_instances else f'{name.count:,}'})"
             if name.is_instances and name.count > 1 else name.text for name in names[:most]]  # fmt: skip
    more = f" and {len(names) - most:,} more" if len(names) > most else ""
    return ", ".join(texts) + more


def service_words(services: RangeSet, shown: ReachShown, family: int, few: int = _MOST_SERVICES) -> str:
    """Services in words: of many that were asked about, what is left out where that is shorter."""
    texts = services_texts(services)
    missing = services_texts(services_for(shown.asked, family) - services)
    if not missing and len(texts) > _FEW_SERVICES:
        return "all that was asked about"
    if 0 < len(missing) < len(texts):
        texts = [f"all but {missing[0]}", *missing[1:]]
    most = len(texts) if shown.full else few
    return ", ".join(texts[:most]) + (f" and {len(texts) - most} more" if len(texts) > most else "")


def names_asked(source: Member, destination: Member) -> tuple[str, str]:
    """What a pair is called in a question about it: of a range by one address."""
    one, other = (str(each.high if at else each.low) if each.low is not None else each.name
                  for at, each in enumerate((source, destination)))  # fmt: skip
    return one, other


def check_words(example: tuple[Member, Member, Service], family: int, options: str) -> str:
    """A line to be pasted that asks about an example."""
    source, destination, service = example
    both = all(len(each.families) > 1 for each in (source, destination))
    return question_words(names_asked(source, destination), str(service), family if both else None, options)


def question_words(names: tuple[str, str], service: str, family: int | None, options: str) -> str:
    """The same by the names of both ends, in a family where that has to be said."""
    return f"kiboko check {names[0]} {names[1]} {service}{f' -{family}' if family is not None else ''}{options}"


# Stepping stones and doors.


def show_chains(chains: Sequence[Chain], shown: ReachShown, namer: Namer, out: Output) -> None:
    """Ends that get there by way of machines, the shortest chain of each shown with its rules."""
    out.heading("By way of other machines")
    if not chains:
        out.line("Nothing more gets there by logging in to a machine on the way.", "quiet")
    for number, chain in enumerate(chains[: shown.top], 1):
        family = ", IPv6" if chain.family == 6 else ""
        out.parts((f"{number:>3}. ", "quiet"), (f"in {chain.steps} connections{family}: ", "partly"),
                  (named(namer.names(chain.sources), shown.full), "mark"))  # fmt: skip
        for place, hop in enumerate(chain.hops):
            label = "first" if not place else "then"
            names = [
                str(m.low) if m.low is not None and m.count == 1 else m.name for m in (hop.source, hop.destination)
            ]
            out.parts((f"     {label:<10}", "quiet"), (f"{names[0]} to {names[1]} on {hop.service}", ""))
            for rule in hop.rules if shown.full else hop.rules[:_MOST_RULES]:
                out.line(f"                {rule_text(rule)}", "quiet")
    if len(chains) > shown.top:
        out.line(f"and {counted(len(chains) - shown.top, 'more line')}; --top N shows more, --json all", "quiet")


def show_doors(lines: Sequence[DoorsLine], shown: ReachShown, namer: Namer, out: Output) -> None:
    """What does not get through, those with the fewest doors first."""
    verb = "cannot be reached from" if shown.is_out else "cannot reach"
    out.heading(f"What {verb} {shown.name}, and every gate that stops it by itself")
    if not lines:
        out.line("Everything gets through.", "quiet")
    for number, line in enumerate(lines[: shown.top], 1):
        family = ", IPv6" if line.family == 6 else ""
        style = "blocked" if len(line.doors) == 1 else ""
        out.parts((f"{number:>3}. ", "quiet"), (counted(len(line.doors), "door"), style), (f"{family}: ", ""),
                  (named(namer.names(line.far), shown.full), "mark"))  # fmt: skip
        out.labelled("     on        ", service_words(line.services, shown, line.family))
        for place, door in enumerate(line.doors):
            label = "" if place else "one change opens:" if len(line.doors) == 1 else "doors"
            out.parts(
                (f"     {label:<10}", "quiet"), (("" if not label or len(label) < 9 else " ") + rule_text(door), "")
            )
        out.labelled("     see       ", check_words(line.example, line.family, shown.options), is_paste=True)
    if len(lines) > shown.top:
        out.line(f"and {counted(len(lines) - shown.top, 'more line')}; --top N shows more, --json all", "quiet")


# JSON.


def reach_json(
    answer: ReachAnswer, shown: ReachShown, namer: Namer, chains: Sequence[Chain] | None,
    lines: Sequence[DoorsLine] | None,
) -> dict[str, Any]:  # fmt: skip
    """The answer as `reach/1`."""
    kinds = ("instances", "addresses", "outsides")
    found: dict[str, Any] = {
        "kiboko": "reach/1",
        "summary": {
            "name": shown.name, "direction": "out" if shown.is_out else "in", "service": shown.service,
            "looked_at": dict(zip(kinds, answer.looked_at, strict=True)),
            "found": dict(zip(kinds, answer.found, strict=True)), "lines": len(answer.lines),
        },
        "rows": [
            {
                "verdict": line.verdict, "family": line.family, "kind": kinds[line.kind],
                "far": _names_json(namer.names(line.far)), "near": _names_json(namer.names(line.near)),
                "services": services_texts(line.services),
                "client_ports": line.ports.texts() if line.verdict == PARTLY else [],
                "rules": _rules_json(line.rules), "rules_are_sampled": line.is_sampled,
                "check": check_words(line.example, line.family, shown.options),
            }
            for line in answer.lines
        ],
        "caveats": list(answer.caveats),
    }  # fmt: skip
    if chains is not None:
        found["chains"] = [
            {
                "connections": chain.steps, "family": chain.family, "kind": kinds[chain.kind],
                "sources": _names_json(namer.names(chain.sources)),
                "hops": [
                    {
                        "source": hop.source.name, "destination": hop.destination.name, "service": str(hop.service),
                        "rules": _rules_json(hop.rules),
                    }
                    for hop in chain.hops
                ],
            }
            for chain in chains
        ]  # fmt: skip
    if lines is not None:
        found["doors"] = [
            {
                "family": line.family, "kind": kinds[line.kind], "far": _names_json(namer.names(line.far)),
                "near": _names_json(namer.names(line.near)), "services": services_texts(line.services),
                "doors": _rules_json(line.doors), "check": check_words(line.example, line.family, shown.options),
            }
            for line in lines
        ]  # fmt: skip
    return found


def _names_json(names: Iterable[Name]) -> list[dict[str, Any]]:
    return [{"name": name.text, "count": name.count} for name in names]


def _rules_json(rules: Iterable[LetIn | Door]) -> list[dict[str, Any]]:
    return [
        {
            "gate": rule.gate, "direction": rule.direction, "filter": rule.filter, "rule": rule.rule,
            "file": rule.place.file if rule.place else None, "line": rule.place.line if rule.place else None,
            **({"reason": rule.reason or None, "at": rule.at or None} if isinstance(rule, Door) else
               {} if rule.is_known else {"is_known": False}),
        }
        for rule in rules
    ]  # fmt: skip
