"""A verification made visible: how much was compared, and every difference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from kiboko.core.evidence.verification import Difference, Verification
from kiboko.core.wording import counted
from kiboko.views.check_view import decider_json, decider_text
from kiboko.views.output import Grid, Output

_MOST = 40


def show_standing(network: str, machines: Mapping[str, str], addresses: Mapping[str, list[str]], out: Output) -> None:
    """What stands now, and how to use it."""
    out.parts(("STANDING", "agree"), (f": a replica of {network}, {counted(len(machines), 'machine')} to try.", ""))
    for name, own in addresses.items():
        if own:
            out.line(f"  {name} is {', '.join(own)}", "quiet")
    first = next((name for name in machines if machines[name].startswith("i")), "NAME")
    out.line(f"  try it: kiboko replica at {first} ip addr")
    out.line("  take it away: kiboko replica remove")


def show_verification(found: Verification, seconds: float, faults: Sequence[str], out: Output) -> None:
    """The result in one line, then the differences."""
    probes = counted(found.compared, "probe")
    if found.differences:
        out.parts(("DIFFERENT", "break"), (f": {counted(len(found.differences), 'difference')} in {probes}.", ""))
    else:
        out.parts(("AGREE", "agree"), (f": the kernel and the walk say the same of {probes}.", ""))
    out.line(
        f"  {counted(found.machines, 'machine')} built from namespaces and kernel filters, probed with real packets and"
        f" removed in {seconds:.0f} s",
        "quiet",
    )
    for fault in faults:
        out.line(f"  with a fault put in on request: {fault}", "unsure")
    if found.as_of is not None:
        out.line(f"  the rules of today are in force since {_time(found.as_of)}: give the network file"
                 f" 'as_of: {_time(found.as_of)}' before confirm reads what was recorded", "unsure")  # fmt: skip
    if found.log_overruns:
        out.line("  the kernel's packet log overran: the flow records are not complete", "unsure")
    if found.not_known:
        out.line(f"  {counted(found.not_known, 'probe')} left out: they rest on a gate that is not known", "quiet")
    if found.differences:
        out.line()
        grid = Grid(["from", "to", "service", "port", "kernel", "walk", "why"], wide=("why",))
        for each in found.differences[:_MOST]:
            grid.add(_cells(each), "break")
        out.grid(grid)
        if len(found.differences) > _MOST:
            out.line(f"and {len(found.differences) - _MOST} more, all in --json", "quiet")


def _time(moment: datetime) -> str:
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _cells(each: Difference) -> list[str]:
    flow = each.walk.flow
    decider = each.walk.decided_by
    return [
        str(each.source), str(flow.target), str(flow.service), str(each.source_port or "-"),
        each.outcome, each.walk.signal, decider_text(decider) if decider else "allowed at every gate",
    ]  # fmt: skip


def verification_json(found: Verification, seconds: float, faults: Sequence[str]) -> dict[str, Any]:
    """The result as `replica/1`."""
    return {
        "kiboko": "replica/1",
        "summary": {
            "compared": found.compared,
            "not_known": found.not_known,
            "differences": len(found.differences),
            "machines": found.machines,
            "flow_records": len(found.flows),
            "log_overruns": found.log_overruns,
            "faults": list(faults),
            "as_of": _time(found.as_of) if found.as_of is not None else None,
            "seconds": round(seconds, 1),
        },
        "rows": [
            {
                "source": str(each.source),
                "destination": str(each.walk.flow.target),
                "service": str(each.walk.flow.service),
                "source_port": each.source_port,
                "kernel": each.outcome,
                "verdict": each.walk.verdict,
                "signal": each.walk.signal,
                "decided_by": decider_json(each.walk.decided_by) if each.walk.decided_by else None,
            }
            for each in found.differences
        ],
        "caveats": [],
    }
