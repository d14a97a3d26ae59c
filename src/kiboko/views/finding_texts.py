"""The groups of findings as rows of `confirm/1`: of a large log very many, written by several processes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from kiboko.batch import processors
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.finding_groups import FindingGroup, line_that_asks
from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.records.records import ProbeRecord
from kiboko.views.check_view import decider_json
from kiboko.views.text import iso, network_option, row_texts

if TYPE_CHECKING:
    from kiboko.core.evidence.row_verdicts import RowVerdict, RowVerdicts

_PIECE_ROWS = 2_000
"""So many are written at a time."""


def rows_json(rows: FindingRows, causes: Causes) -> list[dict[str, Any]]:
    """The rows of `confirm/1`."""
    job = _RowTexts(rows, causes)
    verdicts = job.verdicts()
    return [row for places in job.pieces() for row in job.made(places, verdicts)]


def texts_of(rows: FindingRows, causes: Causes) -> Iterator[str]:
    """The rows of `confirm/1` as texts (`streamed`), many in each; of very many by as many processes as there are
    processors."""
    job = _RowTexts(rows, causes)
    workers = processors.usable()
    # Processes that are forked off share the rows, which cannot be sent elsewhere.
    if workers == 1 or os.name != "posix" or not job.is_large:
        return map(job.start(), job.pieces())
    from kiboko.batch.piecework import shared_out  # which reads logs: not everybody pays for that

    causes.weigh()
    return shared_out(job, job.pieces(), workers)


@dataclass(frozen=True, slots=True)
class _RowTexts:
    """Makes the rows of some groups at a time: where all are many, by tables instead of walks as far as these tell the
    same."""

    rows: FindingRows
    causes: Causes

    @property
    def is_large(self) -> bool:
        """Whether there are so many rows that tables are worth making."""
        from kiboko.core.evidence.row_verdicts import FEW

        return len(self.rows) > FEW

    def pieces(self) -> list[range]:
        """The places of the rows that are made at a time."""
        count = len(self.rows)
        return [range(at, min(at + _PIECE_ROWS, count)) for at in range(0, count, _PIECE_ROWS)]

    def verdicts(self) -> RowVerdicts | None:
        """What tells of rows by tables, where they are many."""
        from kiboko.core.evidence.row_verdicts import RowVerdicts

        return RowVerdicts(Comparison(self.causes.walker)) if self.is_large else None

    def start(self) -> Callable[[range], str]:
        """What makes texts, in this process or another."""
        verdicts = self.verdicts()
        return lambda places: row_texts(self.made(places, verdicts))

    def made(self, places: range, verdicts: RowVerdicts | None) -> Iterator[dict[str, Any]]:
        """The rows at some places, of which nothing is kept."""
        some = self.rows[places.start : places.stop]
        groups = list(some)
        told = verdicts.of(groups) if verdicts is not None else [None] * len(groups)
        for group, verdict in zip(groups, told, strict=True):
            yield _row_json(group, self.causes, verdict)
            group.forget()
        some.let_go()


def _row_json(group: FindingGroup, causes: Causes, told: RowVerdict | None) -> dict[str, Any]:
    """A row, by what the rules say of it: `told` by tables, None where the walk of its example is to tell."""
    concluded, line = group.concluded, group.line
    if line is not None:
        where: dict[str, Any] = {"file": line[0], "line": line[1]}
    else:
        assert isinstance(group.example, ProbeRecord)
        where = {"time": iso(group.example.time)}
    verdict: str | None
    signal: str | None
    if told is not None:
        verdict, signal, check = told.verdict, told.signal, line_that_asks(told.asked)
        decider = decider_json(told.decider) if told.decider is not None else None
    else:
        walk = group.finding.walk
        verdict, signal = (walk.verdict, walk.signal) if walk is not None else (None, None)
        check = group.check_line()
        decider = decider_json(group.finding.decider) if group.finding.decider is not None else None
    return {
        "status": concluded.status, "evidence": group.evidence, "source": group.source,
        "destination": group.destination, "service": group.service, "observed": concluded.observed, "verdict": verdict,
        "signal": signal, "different_signal": concluded.different_signal, "as_far_as_seen": concluded.as_far_as_seen,
        "stopped_elsewhere": concluded.is_elsewhere, "inventory_out_of_date": concluded.is_inventory,
        "first_packet_only": concluded.is_first_alone, "why": concluded.why,
        "behind_shared_address": concluded.is_shared,
        "reply": group.evidence == "flow" and group.replies == group.count,
        "causes": [{"id": c.id, "looked_at": c.looked_at, "to_confirm": c.to_confirm} for c in causes.of(group)],
        "decided_by": decider,
        "count": group.count, "conversations": group.conversations, "replies": group.replies,
        "packets": group.packets, "octets": group.octets,
        "first": iso(group.first), "last": iso(group.last),
        "example": {**where, "check": check + network_option(causes.walker.topology.file)},
    }  # fmt: skip
