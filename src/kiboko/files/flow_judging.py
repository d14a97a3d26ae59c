"""Flow logs read and judged piece by piece, by several processes where there is enough to read.

Each worker reads a piece, judges it with the compiled evaluator, and hands back its tallies, which are small; they are
taken in in the order of the pieces, so that the result is the same whoever did the work.
"""

from __future__ import annotations

import dataclasses
import multiprocessing
import os
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from kiboko.core.comparison import Comparison, Finding
from kiboko.core.compiled import CompiledComparison, Tally
from kiboko.core.coverage import Coverage
from kiboko.core.flow_query import FlowFilter
from kiboko.core.model import Topology
from kiboko.core.rule_usage import RuleUsage
from kiboko.core.summary import Summary
from kiboko.core.walk import Walker
from kiboko.files import flow_pieces
from kiboko.files.column_map import USUAL, ColumnMap
from kiboko.files.flow_pieces import Piece, pieces_of, without_copies
from kiboko.files.flow_reader import PieceReader
from kiboko.files.rejects import Rejects


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of a piece: its tallies, what was rejected, its lines, how many records were not wanted, and what the
    others cover."""

    tallies: list[Tally]
    rejects: Rejects
    lines: int
    left_out: int
    coverage: Coverage


class Worker:
    """Judges pieces for one topology."""

    def __init__(self, topology: Topology, wanted: FlowFilter, columns: ColumnMap) -> None:
        self._compiled = CompiledComparison(Comparison(Walker(topology)))
        self._reader = PieceReader(columns)
        self._wanted = wanted

    def judge(self, piece: Piece) -> Outcome:
        """Read and judge one piece. Raises InputError."""
        rejects = Rejects(piece.path, word=piece.word)
        tallies: list[Tally] = []
        lines = left_out = 0
        coverage = Coverage()
        for part in self._reader.read(piece, rejects):
            wanted = part.own & self._wanted.mask(part.table)
            left_out += int(part.own.sum() - wanted.sum())
            tallies.extend(self._compiled.tallies(part.table, wanted, coverage.add))
            lines += part.lines
        return Outcome(tallies, rejects, lines, left_out, coverage)


_worker: list[Worker] = []
"""The worker of a process of the pool, made once when the process starts."""


def _start_worker(topology: Topology, wanted: FlowFilter, columns: ColumnMap) -> None:
    _worker.append(Worker(topology, wanted, columns))


def _work(piece: Piece) -> Outcome:
    return _worker[0].judge(piece)


class FlowJudge:
    """Takes flow logs into a summary, and into the usage of rules where that is asked for."""

    def __init__(
        self,
        comparison: Comparison,
        summary: Summary,
        strict: bool = False,
        wanted: FlowFilter | None = None,
        usage: RuleUsage | None = None,
        columns: ColumnMap = USUAL,
    ) -> None:
        self._comparison = comparison
        self._summary = summary
        self._usage = usage
        self._strict = strict
        self._wanted = wanted or FlowFilter()
        self._columns = columns
        self._findings: dict[tuple[int, ...], Finding] = {}
        self.left_out = 0
        self.coverage = Coverage()

    def take(self, paths: list[Path], workers: int | None = None) -> list[str]:
        """Judge some files. What was rejected, in sentences. Raises InputError where a file cannot be used."""
        paths, copies = without_copies(paths)
        pieces = [piece for path in paths for piece in pieces_of(path, self._columns)]
        count = workers or os.cpu_count() or 1
        small = sum(os.path.getsize(path) for path in paths) < flow_pieces.PIECE
        topology = self._comparison.walker.topology
        if count == 1 or small or len(pieces) == 1:
            worker = Worker(topology, self._wanted, self._columns)
            return copies + self._take_all(pieces, map(worker.judge, pieces))
        context = multiprocessing.get_context("fork" if os.name == "posix" else None)
        with ProcessPoolExecutor(count, context, _start_worker, (topology, self._wanted, self._columns)) as pool:
            return copies + self._take_all(pieces, _in_order(pool, pieces, 2 * count))

    def _take_all(self, pieces: list[Piece], outcomes: Iterator[Outcome]) -> list[str]:
        found: dict[str, Rejects] = {}
        lines: dict[str, int] = {}
        for piece, outcome in zip(pieces, outcomes, strict=True):
            headers = piece.header_lines or outcome.rejects.headers
            rejects = found.setdefault(piece.path, Rejects(piece.path, self._strict, piece.word, headers))
            before = lines.setdefault(piece.path, headers)
            rejects.take(outcome.rejects, before)
            for tally in outcome.tallies:
                self._take_tally(tally, before)
            lines[piece.path] = before + outcome.lines
            self.left_out += outcome.left_out
            self.coverage.merge(outcome.coverage)
        return [sentence for rejects in found.values() for sentence in rejects.sentences()]

    def _take_tally(self, tally: Tally, lines_before: int) -> None:
        finding = self._findings.get(tally.key)
        if finding is None:
            finding = self._findings[tally.key] = self._finding(tally)
        record = dataclasses.replace(tally.record, line=tally.record.line + lines_before)
        self._summary.take(record, finding, tally)
        if self._usage is not None:
            self._usage.take(finding, tally)

    def _finding(self, tally: Tally) -> Finding:
        if tally.request is not None:
            return self._comparison.judge_reply(tally.record, self._comparison.judge(tally.request))
        alone = self._comparison.judge(tally.record)
        return self._comparison.decided(alone) if tally.is_decided else alone


def _in_order(pool: Executor, pieces: list[Piece], ahead: int) -> Iterator[Outcome]:
    """The outcomes in the order of the pieces, with a few of them worked on ahead."""
    waiting: deque[Future[Outcome]] = deque()
    for piece in pieces:
        waiting.append(pool.submit(_work, piece))
        if len(waiting) > ahead:
            yield waiting.popleft().result()
    while waiting:
        yield waiting.popleft().result()
