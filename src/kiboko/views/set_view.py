"""Verdicts on sets made visible: one line for each distinct outcome."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.holders import Holders
from kiboko.core.queries.members import Member
from kiboko.core.reachability.naming import Namer
from kiboko.core.reachability.set_answer import EndCount, Product, SetAnswer, SetRow, member_texts, together
from kiboko.core.walk.gates import REPLY
from kiboko.core.walk.walk import ALLOWED, PARTLY, UNKNOWN
from kiboko.core.wording import counted
from kiboko.views.check_view import decider_json, decider_text, headline, show_asked
from kiboko.views.output import Grid, Output
from kiboko.views.text import network_option

_FEW, _LINES = 8, 20
"""As many rows are shown one by one; of more a line for each of so many."""
_MOST_NAMES = 4
_MOST_SERVICES, _LINE_SERVICES = 8, 2
_MOST_PARTS = 2


@dataclass(frozen=True, slots=True)
class SetShown:
    """How an answer on sets is shown: the words that were asked, the toggles and further words of the command line,
    only rows of one verdict, and all rows and names instead of the first few (of rows `top`, where that is given)."""

    source: str
    destination: str
    service: str
    asked: Sequence[str] = ()
    options: str = ""
    only: str | None = None
    full: bool = False
    top: int | None = None


def chosen_rows(answer: SetAnswer, only: str | None) -> list[SetRow]:
    """The rows that are wanted."""
    return [row for row in answer.rows if only in (None, row.example.verdict)]


def show_set(answer: SetAnswer, shown: SetShown, ends: Ends, out: Output) -> None:
    """The totals, then the rows in their order: few of them one by one, of many a line for each of the first. `ends`
    has the names that hold theirs."""
    totals = Counter(row.example.verdict for row in answer.rows)
    told = _by_verdict(totals)
    one = len(totals) == 1
    style = answer.rows[0].example.verdict if one else ""
    asked = f"{shown.source} ({count_text(answer.sources)}) to {shown.destination} ({count_text(answer.destinations)})"
    outcomes = counted(len(answer.rows), "distinct outcome")
    split = "" if one else f": {told}"
    out.parts((headline(style) if one else "MIXED", style or "partly"),
              (f": {asked} on {shown.service}: {outcomes}{split}.", ""))  # fmt: skip
    show_asked(shown.asked, out)
    rows = chosen_rows(answer, shown.only)
    if not rows:
        out.line(f"No outcome is {shown.only}.")
    sets = {id(part.services): part.services for row in answer.rows for part in row.parts}
    asked_services = RangeSet.of(pair for each in sets.values() for pair in each)
    if not shown.full and len(rows) > _FEW:
        rows = together(rows)
    few = rows if shown.full or len(rows) <= _FEW else _some_of_each(rows, _LINES if shown.top is None else shown.top)
    few = few if shown.top is None else few[: shown.top]
    if shown.full or len(rows) <= _FEW:
        named = _Named(ends)
        for number, row in enumerate(few, 1):
            _show_row(number, row, asked_services, shown, named, out)
    else:
        _show_lines(few, totals.most_common(1)[0][0], asked_services, shown, Holders(ends.walker), out)
    if len(few) < len(rows):
        left = Counter(row.example.verdict for row in rows for _ in range(row.outcomes))
        left.subtract(row.example.verdict for row in few for _ in range(row.outcomes))
        told = f"and {counted(left.total(), 'more outcome')}: {_by_verdict(+left)}"
        out.line(f"{told}; --top N shows more of them, --only VERDICT those of one verdict, --full all with every name")
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(list(answer.caveats))


def _by_verdict(totals: Counter[str]) -> str:
    return ", ".join(f"{number:,} {_word(verdict)}" for verdict, number in totals.items())


def _some_of_each(rows: Sequence[SetRow], most: int) -> list[SetRow]:
    """The first rows of each verdict, as many as there is room for; those first that are fewest, since they are what
    one looks for among so many."""
    by_verdict: dict[str, list[SetRow]] = {}
    for row in rows:
        by_verdict.setdefault(row.example.verdict, []).append(row)
    found: list[SetRow] = []
    for number, alike in enumerate(sorted(by_verdict.values(), key=len)):
        found += alike[: (most - len(found)) // (len(by_verdict) - number)]
    return found


def _show_lines(
    rows: Sequence[SetRow], usual: str, asked: RangeSet, shown: SetShown, holders: Holders, out: Output
) -> None:  # fmt: skip
    """A line for each row, and how to ask about its example. What stands out are those not of the usual verdict."""
    several = any(row.outcomes > 1 for row in rows)
    grid = Grid(["", *(["outcomes"] if several else []), "outcome", "from", "to", "service", "decided by", "example"],
                wide=("from", "to", "service", "decided by"), numbers=("", "outcomes"), last=("example",))  # fmt: skip
    for number, row in enumerate(rows, 1):
        walk = row.example
        family = f", IPv{row.family}" if row.family is not None else ""
        services = _service_texts(RangeSet.of(pair for part in row.parts for pair in part.services), asked)
        service = first_few(services, _LINE_SERVICES)
        grid.add(
            [str(number), *([f"{row.outcomes:,}"] if several else []), f"{_word(walk.verdict)}, {walk.signal}{family}",
             held_text(row.sources, holders), held_text(row.destinations, holders), service,
             _decided_by(row), _asked_again(row)],
            walk.verdict if walk.verdict != usual else "",
        )  # fmt: skip
    out.line()
    out.grid(grid)
    out.line(f"to see one: {check_line(rows[0], shown)}", "quiet")


def held_text(count: EndCount, holders: Holders) -> str:
    """How many ends, instances by the smallest name that holds them."""
    told = [holders.holding(set(count.instances), "instances")] if count.instances else []
    if count.addresses:
        told.append(counted(count.addresses, "unrecorded address", "unrecorded addresses"))
    if count.outsides:
        told.append(", ".join(count.outsides))
    return " and ".join(told) or "nobody"


def _decided_by(row: SetRow) -> str:
    """What stops a row, in few words."""
    decider = row.example.decided_by
    if decider is None:
        return "-"
    gate = f"{decider.gate}{', reply' if decider.direction == REPLY else ''}"
    if decider.filter is not None:
        return f"{decider.filter}/{decider.rule} ({gate})"
    return f"{gate}: {row.reason or decider.reason}"


class _Named:
    """Ends by their names, and what is left of blocks and outsides by the fewest names or ranges."""

    def __init__(self, ends: Ends) -> None:
        self._ends = ends

    @cached_property
    def _namer(self) -> Namer:
        return Namer(self._ends)

    def texts(self, members: Sequence[Member]) -> list[str]:
        """Their names; in the place of ranges the names of what these are the whole of, where those are fewer."""
        found = member_texts(members)
        ranges = [each for each in members if each.low is not None]
        if len(found) == 1 or not ranges:
            return found
        named = member_texts([each for each in members if each.low is None])
        named += [each.text for each in self._namer.names(ranges)]
        return named if len(named) < len(found) else found


def _show_row(number: int, row: SetRow, asked: RangeSet, shown: SetShown, named: _Named, out: Output) -> None:
    walk = row.example
    family = f", IPv{row.family}" if row.family is not None else ""
    out.line()
    out.parts(
        (f"{number}. ", "quiet"),
        (_word(walk.verdict), walk.verdict),
        (f", {walk.signal}{family}: {count_text(row.sources)} to {count_text(row.destinations)}", ""),
        (f" ({row.outcomes:,} outcomes)" if row.outcomes > 1 else "", "quiet"),
    )
    most = len(row.parts) if shown.full else _MOST_PARTS
    for part in row.parts[:most]:
        _show_part(part, asked, shown.full, named, out)
    if len(row.parts) > most:
        out.line(f"   and {len(row.parts) - most} more such combinations; --full shows all", "quiet")
    if walk.verdict == PARTLY:
        out.parts(("   only     ", "quiet"), (f"client ports {walk.answered} get an answer", ""))
    if walk.verdict == UNKNOWN and walk.either is not None:
        out.parts(("   either   ", "quiet"), (" or ".join(walk.either), ""))
    if walk.decided_by is not None:
        out.parts(("   by       ", "quiet"), (decider_text(walk.decided_by, row.reason), ""))
    out.parts(("   see      ", "quiet"), (check_line(row, shown), ""))


def _word(verdict: str) -> str:
    return "not known" if verdict == UNKNOWN else verdict


def _show_part(part: Product, asked: RangeSet, full: bool, named: _Named, out: Output) -> None:
    told = member_texts if full else named.texts
    for label, texts, most in (
        ("from", told(part.sources), _MOST_NAMES),
        ("to", told(part.destinations), _MOST_NAMES),
        ("service", _service_texts(part.services, asked), _MOST_SERVICES),
    ):
        text = ", ".join(texts) if full else first_few(texts, most)
        out.parts((f"   {label:<9}", "quiet"), (text, ""))


def first_few(texts: Sequence[str], most: int) -> str:
    """Some of many texts, and how many more there are."""
    more = f" and {len(texts) - most:,} more" if len(texts) > most else ""
    return ", ".join(texts[:most]) + more


def _service_texts(services: RangeSet, asked: RangeSet) -> list[str]:
    """Services as text; of many that were asked about, what is left out where that is shorter."""
    found = services_texts(services)
    if len(found) <= _MOST_SERVICES:
        return found
    missing = services_texts(asked - services)
    if not missing:
        return ["all that were asked about"]
    return [f"all but {missing[0]}", *missing[1:]] if len(missing) < len(found) else found


def count_text(count: EndCount) -> str:
    """How many ends: instances, addresses with nobody recorded, outsides by name."""
    told = []
    if count.instances:
        told.append(counted(len(count.instances), "instance"))
    if count.addresses:
        told.append(f"{counted(count.addresses, 'address', 'addresses')} with nobody recorded")
    if count.outsides:
        told.append(f"outside {', '.join(count.outsides)}")
    return " and ".join(told) or "nobody"


def check_line(row: SetRow, shown: SetShown) -> str:
    """The question about the row's example, to be pasted."""
    return f"kiboko check {_asked_again(row)}{shown.options}"


def _asked_again(row: SetRow) -> str:
    """FROM, TO and SERVICE of the row's example."""
    flow = row.example.flow
    named = flow.source.interface is not None or not flow.source.is_anywhere
    source, destination = row.example_names
    if not named or _is_range(source):
        source = str(flow.source.address)
    if _is_range(destination):  # where nothing is sent at all there is no address that it is sent to
        destination = str(flow.target) if flow.target.value else destination.partition("-")[0]
    is_ambiguous = row.family is not None or "/" in source or "/" in destination
    family = f" -{flow.target.family}" if is_ambiguous and flow.target.value else ""
    return f"{source} {destination} {flow.service}{family}"


def _is_range(name: str) -> bool:
    """Whether an end is called by its first and its last address."""
    return "-" in name and (name[0].isdigit() or ":" in name)


def options_text(network: str, asked: Sequence[tuple[str, str]]) -> str:
    """The further words of a command line that its answer rests on: the network file and the toggles."""
    return network_option(network) + "".join(f" --{option} {value}" for option, value in asked)


def set_json(answer: SetAnswer, shown: SetShown) -> dict[str, Any]:
    """The answer as `check-set/1`."""
    totals = Counter(row.example.verdict for row in answer.rows)
    return {
        "kiboko": "check-set/1",
        "source": shown.source,
        "destination": shown.destination,
        "service": shown.service,
        "summary": {
            "sources": _count_json(answer.sources),
            "destinations": _count_json(answer.destinations),
            "outcomes": len(answer.rows),
            **totals,
        },
        "toggles": list(shown.asked),
        "rows": [_row_json(row, shown) for row in chosen_rows(answer, shown.only)],
        "caveats": list(answer.caveats),
    }


def _count_json(count: EndCount) -> dict[str, Any]:
    return {"instances": len(count.instances), "addresses": count.addresses, "outsides": list(count.outsides)}


def _row_json(row: SetRow, shown: SetShown) -> dict[str, Any]:
    walk = row.example
    with_ports = walk.verdict in (ALLOWED, PARTLY) and walk.flow.service.has_ports
    decider = walk.decided_by
    return {
        "verdict": walk.verdict,
        "either": list(walk.either) if walk.either else None,
        "signal": walk.signal,
        "family": row.family,
        "sources": _count_json(row.sources),
        "destinations": _count_json(row.destinations),
        "parts": [
            {
                "sources": part.source_texts(),
                "destinations": part.destination_texts(),
                "services": services_texts(part.services),
            }
            for part in row.parts
        ],
        "allowed_client_ports": walk.answered.texts() if with_ports else [],
        "decided_by": decider_json(decider) if decider else None,
        "reason": row.reason or (decider.reason if decider else None),
        "example": {
            "source": str(walk.flow.source.address),
            "destination": str(walk.flow.target),
            "service": str(walk.flow.service),
            "check": check_line(row, shown),
        },
    }  # fmt: skip
