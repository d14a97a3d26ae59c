"""The way of a packet made visible: each hop, the entry that won, and the ones it beat."""

from __future__ import annotations

from typing import Any

from kiboko.core.network.model import RouteEntry
from kiboko.core.queries.pair import Ways
from kiboko.core.routing.steps import Path, Step
from kiboko.views.output import Grid, Output

_SHOWN = ("source", "route", "translate", "instance-in", "instance-out", "outside")


def show_route(ways: Ways, out: Output) -> None:
    """Both directions, the request first."""
    stop = ways.stop
    names = f"{ways.source_name} to {ways.destination_name}"
    if stop is None:
        out.parts(("ROUTED", "allowed"), (f": {names} ({ways.request.target}) and back.", ""))
    else:
        which = "the reply" if ways.request.stop_step is None else "the request"
        reason = stop.stop.reason if stop.stop else ""
        out.parts(("NOT ROUTED", "blocked"), (f": {names}; {which} stops at {stop.gate} of {stop.at}: {reason}", ""))
    _show_path("Request", ways.request, out)
    if ways.reply is not None:
        _show_path("Reply", ways.reply, out)
    out.line()
    out.line("Only the way is asked here, no filter: kiboko check asks those.", "quiet")


def _show_path(title: str, path: Path, out: Output) -> None:
    out.heading(f"{title}: {path.origin.address} to {path.target}")
    grid = Grid(["hop", "where", "what happens", "beats", "file"], wide=("what happens", "beats"))
    for step in hops(path):
        grid.add(
            [step.gate, step.at, _happens(step), "; ".join(beaten(step)) or "-", str(step.place or "")],
            "drop" if step.stop else "",
        )
    out.grid(grid)


def hops(path: Path) -> list[Step]:
    """The steps that show the way, as far as it leads: ends, look-ups, translations, and the interfaces passed."""
    found = []
    for step in path.steps:
        if step.gate in _SHOWN:
            found.append(step)
        if step is path.stop_step:
            break
    return found


def _happens(step: Step) -> str:
    if step.stop is not None:
        return f"stops: {step.stop.reason}"
    if step.gate == "route":
        return f"takes {step.lookup.entry}" if step.lookup else step.reason
    if step.gate == "source":
        return f"sends as {step.source}"
    if step.gate == "outside":
        return f"{'leaves' if step.way == 'out' else 'reaches'} {step.at} as {step.source} to {step.destination}"
    return step.reason or f"{step.source} to {step.destination}"


def beaten(step: Step) -> list[str]:
    """The entries that lost, each with why."""
    if step.lookup is None or step.lookup.entry is None:
        return []
    return [f"{entry} [{_why(step.lookup.entry, entry)}]" for entry in step.lookup.beaten]


def _why(winner: RouteEntry, loser: RouteEntry) -> str:
    return "shorter prefix" if loser.to.length < winner.to.length else f"{loser.origin} yields to {winner.origin}"


def route_json(ways: Ways) -> dict[str, Any]:
    """The ways as `route/1`."""
    return {
        "kiboko": "route/1",
        "summary": {
            "source": ways.source_name,
            "destination": ways.destination_name,
            "address": str(ways.request.target),
            "routed": ways.stop is None,
            "seen_as": str(ways.request.source_seen),
            "stopped_at": {"gate": ways.stop.gate, "at": ways.stop.at} if ways.stop else None,
        },
        "rows": [*_rows(ways.request, "forward"), *(_rows(ways.reply, "reply") if ways.reply else ())],
        "caveats": [],
    }


def _rows(path: Path, direction: str) -> list[dict[str, Any]]:
    return [
        {
            "direction": direction,
            "hop": step.gate,
            "at": step.at,
            "source": str(step.source),
            "destination": str(step.destination),
            "entry": str(step.lookup.entry) if step.lookup and step.lookup.entry else None,
            "beaten": beaten(step),
            "stops": step.stop is not None,
            "signal": step.stop.signal if step.stop else None,
            "reason": step.stop.reason if step.stop else _happens(step),
            "file": step.place.file if step.place else None,
            "line": step.place.line if step.place else None,
        }
        for step in hops(path)
    ]
