"""What a run of real packets says of the walk: how much was compared, and where the two differ."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from kiboko.core.header.addresses import Address
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walk


@dataclass(frozen=True, slots=True)
class Difference:
    """What the kernel did with a probe (`outcome`) and what the walk said of it, where they differ.

    `source` is the address that sent it, `source_port` its client port, None for a protocol without ports.
    """

    source: Address
    source_port: int | None
    outcome: str
    walk: Walk

    def __str__(self) -> str:
        flow = self.walk.flow
        return (
            f"{flow.source.name} ({self.source}) to {flow.target} on {flow.service} from port {self.source_port}:"
            f" the kernel says {self.outcome}, the walk {self.walk.verdict}, {self.walk.signal}"
        )


@dataclass(frozen=True, slots=True)
class Verification:
    """A whole run: how many probes were compared, how many rest on a gate that is not known, the differences, and how
    many machines were built for it.

    `probes` are the records of all of them; `flows` what the kernels logged, where they were asked to, and
    `log_overruns` how often a log lost packets because they came too fast. `as_of` is since when the rules are in
    force, where others were before.
    """

    compared: int
    not_known: int
    differences: tuple[Difference, ...]
    machines: int
    probes: tuple[ProbeRecord, ...] = ()
    flows: tuple[FlowRecord, ...] = ()
    log_overruns: int = 0
    as_of: datetime | None = None
