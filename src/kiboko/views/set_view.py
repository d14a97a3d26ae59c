"""Verdicts on sets made visible: one line for each distinct outcome."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.reachability.set_answer import EndCount, Product, SetAnswer, SetRow
from kiboko.core.walk.walk import ALLOWED, PARTLY, UNKNOWN
from kiboko.views.check_view import decider_json, decider_text, headline, show_asked
from kiboko.views.output import Output
from kiboko.views.text import counted, network_option

_MOST_NAMES = 4
_MOST_SERVICES = 8
_MOST_PARTS = 2


@dataclass(frozen=True, slots=True)
class SetShown:
    """How an answer on sets is shown: the words that were asked, the toggles and further words of the command line,
    only rows of one verdict, and all names instead of the first few."""

    source: str
    destination: str
    service: str
    asked: Sequence[str] = ()
    options: str = ""
    only: str | None = None
    full: bool = False


def chosen_rows(answer: SetAnswer, only: str | None) -> list[SetRow]:
    """The rows that are wanted."""
    return [row for row in answer.rows if only in (None, row.example.verdict)]


def show_set(answer: SetAnswer, shown: SetShown, out: Output) -> None:
    """The totals, then the rows in their order."""
    totals = Counter(row.example.verdict for row in answer.rows)
    told = ", ".join(f"{number} {_word(verdict)}" for verdict, number in totals.items())
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
    for number, row in enumerate(rows, 1):
        _show_row(number, row, asked_services, shown, out)
    if answer.caveats:
        out.heading("Bear in mind")
        out.bullets(list(answer.caveats))


def _show_row(number: int, row: SetRow, asked: RangeSet, shown: SetShown, out: Output) -> None:
    walk = row.example
    family = f", IPv{row.family}" if row.family is not None else ""
    out.line()
    out.parts(
        (f"{number}. ", "quiet"),
        (_word(walk.verdict), walk.verdict),
        (f", {walk.signal}{family}: {count_text(row.sources)} to {count_text(row.destinations)}", ""),
    )
    most = len(row.parts) if shown.full else _MOST_PARTS
    for part in row.parts[:most]:
        _show_part(part, asked, shown.full, out)
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


def _show_part(part: Product, asked: RangeSet, full: bool, out: Output) -> None:
    for label, texts, most in (
        ("from", part.source_texts(), _MOST_NAMES),
        ("to", part.destination_texts(), _MOST_NAMES),
        ("service", _service_texts(part.services, asked), _MOST_SERVICES),
    ):
        text = (
            ", ".join(texts)
            if full or len(texts) <= most
            else f"{', '.join(texts[:most])} and {len(texts) - most:,} more"
        )
        out.parts((f"   {label:<9}", "quiet"), (text, ""))


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
    flow = row.example.flow
    named = flow.source.interface is not None or not flow.source.is_anywhere
    source, destination = row.example_names
    if not named or _is_range(source):
        source = str(flow.source.address)
    if _is_range(destination):  # where nothing is sent at all there is no address that it is sent to
        destination = str(flow.target) if flow.target.value else destination.partition("-")[0]
    is_ambiguous = row.family is not None or "/" in source or "/" in destination
    family = f" -{flow.target.family}" if is_ambiguous and flow.target.value else ""
    return f"kiboko check {source} {destination} {flow.service}{family}{shown.options}"


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
