"""Records judged with what lies around them, as far as it matters.

That nobody answered can be told only where every record of that time is at hand (clause E7). Where a log is read piece
by piece, the answer may stand in the piece beside: it is looked for where a conversation near the edge of what was read
seems to have had none, and nowhere else.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.brought_together import of_the_same
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.proofs import ALONE, UNASKED, UNSETTLED
from kiboko.core.records.columns import ascending, distinct
from kiboko.core.records.flow_table import FlowTable, joined
from kiboko.core.records.records import REFUSED
from kiboko.files.logs.window_reader import WindowPart


def heard_out(evaluator: Evaluator, part: WindowPart) -> tuple[FlowTable, NDArray[np.bool_], Judged]:
    """What records of a window come to: the table that was judged, which of its records are the window's own (bool[n]),
    and what they come to. Of conversations whose answer may lie where nothing was read no silence is told."""
    table, own, surroundings = part.table, part.own, part.around
    outer, is_dense = part.outer, part.is_dense
    judged = _judged(evaluator, part, outer, np.ones(len(table), dtype=np.bool_) if is_dense else None)
    if judged.found is None or judged.around is None:
        return table, own, judged
    alone = judged.around != ALONE
    if is_dense:
        alone = judged.around == UNASKED
    else:  # and a reset may be the end of what was answered
        is_refused = np.array([each.observed == REFUSED for each in judged.concluded], dtype=np.bool_)
        alone |= is_refused[judged.conclusion[judged.found.first]]
    alone &= judged.found.union(own)
    if not alone.any():
        return table, own, judged
    held = surroundings.extent.holds(surroundings.times(table))
    begun, ended = _from_to(surroundings.times(table), judged.found.of, alone)
    asked = table.taken(judged.found.first[alone])
    beside: dict[bool, list[FlowTable]] = {False: [], True: []}
    is_met = np.zeros(len(asked), dtype=np.bool_)
    while True:
        extent = surroundings.extent
        left = ~is_met & ~(extent.holds(begun) & extent.holds(ended))
        further = surroundings.read_on(np.append(begun[left], ended[left])) if left.any() else None
        if further is None:
            break
        at_end, found = further
        rows, is_met_there = of_the_same(asked, found, evaluator.ends)
        is_met |= is_met_there
        beside[at_end].append(found.taken(ascending(np.append(rows, _newest(found)))[0]))
    # What was read may tell of others that theirs were recorded, too, whose own answers were not looked for there.
    held = np.where(alone[judged.found.of], surroundings.extent.holds(surroundings.times(table)), held)
    is_settled = not (beside[False] or beside[True]) or not (judged.around[alone] == UNSETTLED).any()
    if is_settled and not left.any() and not is_met.any():
        return table, own, judged
    before, behind = (sum(map(len, tables)) for tables in beside.values())
    table = joined([*reversed(beside[False]), table, *beside[True]])
    outer = np.zeros(len(own), dtype=np.bool_) if outer is None else outer
    outer = np.concatenate([np.ones(before, dtype=np.bool_), outer, np.ones(behind, dtype=np.bool_)])
    own = np.concatenate([np.zeros(before, dtype=np.bool_), own, np.zeros(behind, dtype=np.bool_)])
    held = np.concatenate([np.ones(before, dtype=np.bool_), held, np.ones(behind, dtype=np.bool_)])
    unheard = ~(surroundings.extent.holds(surroundings.times(table)) & held) | is_dense
    return table, own, evaluator.judge(table, unheard, since=part.since, outer=outer)


def _judged(
    evaluator: Evaluator, part: WindowPart, outer: NDArray[np.bool_] | None, unheard: NDArray[np.bool_] | None
) -> Judged:
    """What records come to where nothing is missing beside them, but for those `unheard`. Who began is not told by
    times where something may be: it may be an earlier packet."""
    judged = evaluator.judge(part.table, unheard, since=part.since, outer=outer)
    if unheard is not None or judged.found is None or not (by_time := judged.found.told_by_time(part.table)).any():
        return judged
    at_edge = ~part.around.extent.holds(part.around.times(part.table))
    is_cut_off = (by_time & judged.found.union(at_edge)).any()
    return evaluator.judge(part.table, at_edge=at_edge, since=part.since, outer=outer) if is_cut_off else judged


def _from_to(
    times: NDArray[np.int64], of: NDArray[np.int64], which: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """From when to when some conversations are, by the times of records and the numbers of their conversations."""
    rows = np.flatnonzero(which[of])
    place = (np.cumsum(which) - 1)[of[rows]]
    begun = np.full(int(which.sum()), np.iinfo(np.int64).max)
    ended = np.full(len(begun), np.iinfo(np.int64).min)
    np.minimum.at(begun, place, times[rows])
    np.maximum.at(ended, place, times[rows])
    return begun, ended


def _newest(table: FlowTable) -> NDArray[np.int64]:
    """The newest record of each file and point: until then they recorded."""
    if not len(table):
        return np.zeros(0, dtype=np.int64)
    last = table.last()
    places = distinct(table.optional("file").astype(np.int64), table.point)
    if len(places) == 1:
        return np.array([last.argmax()], dtype=np.int64)
    newest = np.zeros(len(places), dtype=np.int64)
    order = np.argsort(last, kind="stable")
    newest[places.codes[order]] = order  # of each the one that is written last
    return newest
