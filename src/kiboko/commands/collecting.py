"""The work of `kiboko collect`: flow records and log messages off the wire into a store."""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import re
import signal
import sys
from dataclasses import dataclass, field
from datetime import UTC, datetime
from time import monotonic

import numpy as np

from kiboko.commands.following import Following
from kiboko.commands.options import INTERRUPTED, columns_of
from kiboko.commands.streams import write_while_read
from kiboko.core.errors import EnvironmentFailure, UsageError
from kiboko.core.evidence.causes import Causes
from kiboko.core.evidence.comparison import BREAK, LEAK
from kiboko.core.evidence.watch import Watch
from kiboko.core.header.addresses import reads_as_address
from kiboko.core.records.flow_table import FlowTable
from kiboko.files.collection.intake import Intake
from kiboko.files.store.day_log import DayLog
from kiboko.files.store.flow_store import FlowStore, Keeping, finish_segment
from kiboko.views.collect_view import (
    EarlierRules,
    LiveTally,
    collect_json_text,
    disagreement_line,
    disagreement_lines,
    show_collected,
)
from kiboko.views.live_view import LiveView
from kiboko.views.output import Output
from kiboko.views.text import clean
from kiboko.wire.framing import IpfixFrames
from kiboko.wire.receivers import Certificate, Receivers

_TURN = 0.1
"""Seconds between two looks at what has come in."""
_ROWS_AT_ONCE = 4000
_JUDGED_AT_ONCE = 100_000
_CALM = 3
"""As many times as long as a judging took is waited for the next, unless very many records wait."""
_MOST_TOLD = 20
"""As many leaks and breaks are told one by one of what is judged at once: each takes a walk."""
_MOST_DAYS = 36_500
_UNITS = {"": 1, "k": 10**3, "m": 10**6, "g": 10**9, "t": 10**12}


def run(args: argparse.Namespace) -> int:
    """Collect until told to stop; 0, or 1 where `--confirm` met a leak or a break."""
    keeping = Keeping(_days(args.keep_days), _octets(args.keep_size))
    ports = {name: _port(getattr(args, name) or usual) for name, usual in _USUAL_PORTS.items()}
    if args.certificate is None:
        if args.key or args.client_authority:
            raise UsageError("--key and --client-authority go with --certificate")
        for name in ("tls_port", "flow_tls_port"):
            if getattr(args, name) not in (None, "none"):
                raise UsageError(
                    f"--{name.replace('_', '-')} goes with --certificate: nothing is taken over TLS without"
                )
        ports["tls_port"] = ports["flow_tls_port"] = None
    if not args.listen.strip():
        raise UsageError("--listen wants an address; 0.0.0.0 or :: is anywhere")
    if ":" in args.listen and not reads_as_address(args.listen.partition("%")[0]):
        raise UsageError(f"'{args.listen}' is no address to listen at; the port goes to --flow-port or --syslog-port")
    if all(port is None for port in ports.values()):
        raise UsageError("nothing to listen to: every port is 'none'")
    columns = columns_of(args)
    following = Following(args) if args.confirm else None
    if args.store.is_file():
        raise UsageError(f"{args.store}: it is a file; records are kept in a folder")
    store = FlowStore.opened(args.store, keeping, datetime.now(UTC))
    collector = _Collector(args, store, Intake(columns), following.first if following is not None else None, following)
    try:
        status = asyncio.run(collector.run(ports))
    finally:
        try:
            store.close()
        finally:  # what was taken in is told, whatever became of the disk
            if collector.began:
                collector.report()
    return status


_USUAL_PORTS = {"flow_port": "4739", "syslog_port": "5514", "tls_port": "6514", "flow_tls_port": "4740"}


def _port(text: str) -> int | None:
    if text == "none":
        return None
    if not text.isdecimal() or int(text) > 65535:
        raise UsageError(f"'{text}' is no port, from 0 to 65535, or 'none'")
    return int(text)


def _days(number: int | None) -> int | None:
    if number is not None and not 1 <= number <= _MOST_DAYS:
        raise UsageError(f"--keep-days is from 1 to {_MOST_DAYS:,}")
    return number


def _octets(text: str | None) -> int | None:
    if text is None:
        return None
    found = re.fullmatch(r"(\d+)([kmgt]?)b?", text.lower())
    if found is None or not int(found[1]):
        raise UsageError(f"'{text}' is no size; write it as 500M or 20G")
    return int(found[1]) * _UNITS[found[2]]


@dataclass(slots=True)
class _Collector:
    """The work of one run."""

    args: argparse.Namespace
    store: FlowStore
    intake: Intake
    watch: Watch | None
    following: Following | None = None
    tally: LiveTally = field(default_factory=LiveTally)
    status: int = 0
    began: bool = False
    _judged: float = 0.0
    _judging: float = 0.0
    """When it was last judged, and for how many seconds."""
    _view: LiveView | None = None
    _leaks: DayLog | None = None
    _failed: EnvironmentFailure | None = None
    _unjudged: int = 0
    """What was not judged by earlier rules."""
    _finishing: set[asyncio.Task[tuple[int, bool]]] = field(default_factory=set)
    _stop: asyncio.Event = field(default_factory=asyncio.Event)

    async def run(self, ports: dict[str, int | None]) -> int:
        """Receive until stopped."""
        receivers = Receivers(self.intake.fault)
        loop = asyncio.get_running_loop()
        for number, status in ((signal.SIGINT, INTERRUPTED), (signal.SIGTERM, 0)):
            loop.add_signal_handler(number, self._end, status)
        with contextlib.ExitStack() as stack:
            if self.watch is not None:
                self._leaks = stack.enter_context(DayLog(self.args.store, datetime.now(UTC)))
            for where in await self._listen(receivers, ports):
                print(f"kiboko collect: receiving {where}", file=sys.stderr, flush=True)
            self.began = True
            if not self.args.quiet and sys.stdout.isatty():
                self._view = stack.enter_context(LiveView(lambda: self._end(0), self.tally))
            try:
                await self._work(receivers)
            finally:
                await receivers.close()
                self._take_in(at_once=True)
                for outcome in await asyncio.gather(*self._finishing, return_exceptions=True):
                    if isinstance(outcome, EnvironmentFailure):
                        self._failed = self._failed or outcome
        if self._failed is not None:
            raise self._failed
        if self.status == 0 and self.watch is not None and self.tally.leaks + self.tally.breaks:
            return 1
        return self.status

    def _end(self, status: int) -> None:
        self.status = status
        self._stop.set()

    async def _listen(self, receivers: Receivers, ports: dict[str, int | None]) -> list[str]:
        at, args = self.args.listen, self.args
        found = []
        if ports["flow_port"] is not None:
            found.append(f"IPFIX and NetFlow at {receivers.datagrams(at, ports['flow_port'], self._flows, True)}")
            where = await receivers.streams(at, ports["flow_port"], self._flows, None, IpfixFrames, True)
            found.append(f"IPFIX at {where}")
        if ports["syslog_port"] is not None:
            found.append(f"syslog at {receivers.datagrams(at, ports['syslog_port'], self._logs)}")
            found.append(f"syslog at {await receivers.streams(at, ports['syslog_port'], self._logs)}")
        if ports["tls_port"] is not None:
            tls = Certificate(args.certificate, args.key, args.client_authority)
            found.append(f"syslog at {await receivers.streams(at, ports['tls_port'], self._logs, tls)}")
        if ports["flow_tls_port"] is not None:
            tls = Certificate(args.certificate, args.key, args.client_authority)
            where = await receivers.streams(at, ports["flow_tls_port"], self._flows, tls, IpfixFrames, True)
            found.append(f"IPFIX at {where}")
        return found

    def _flows(self, data: bytes, sender: str) -> None:
        self.intake.flow_message(data, sender, datetime.now(UTC))
        self._take_if_many()

    def _logs(self, data: bytes, sender: str) -> None:
        self.intake.log_message(data, sender, datetime.now(UTC))
        self._take_if_many()

    def _take_if_many(self) -> None:
        if self.intake.waiting >= _ROWS_AT_ONCE:
            self._store_all()
            # With each judging the window of those before is looked at again: that is worth while for many.
            if self.watch is not None and self.watch.waiting >= _JUDGED_AT_ONCE:
                self._judge(self.watch)

    async def _work(self, receivers: Receivers) -> None:
        began, looked = monotonic(), 0.0
        limit = self.args.stop_after
        while not self._stop.is_set() and self._failed is None:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._stop.wait(), _TURN)
            self._take_in()
            if monotonic() - looked >= 1:
                looked = monotonic()
                receivers.count_dropped()
                receivers.end_stalled()
                self._tell()
                self._follow()
                try:
                    if self._leaks is not None:
                        self._leaks.end_day(datetime.now(UTC))
                    self.store.remove_old(datetime.now(UTC))
                except EnvironmentFailure as error:
                    self._failed = self._failed or error
            if limit is not None and monotonic() - began >= limit:
                return

    def _take_in(self, at_once: bool = False) -> None:
        """Store what has come in, and judge it: since each judging looks at those before it again, not all the time."""
        self._store_all()
        watch = self.watch
        if watch is not None and (at_once or monotonic() - self._judged >= _CALM * self._judging):
            self._judge(watch)

    def _store_all(self) -> None:
        """Store what has come in, and have it judged."""
        tables = self.intake.take()
        for table in tables:
            self._store(table)
            if self.watch is not None:
                self.watch.add(table)
            if self._view is not None:
                self._view.add(table, self.watch.summary.directory.name_of if self.watch is not None else str)

    def _store(self, table: FlowTable) -> None:
        try:
            full = self.store.append(table, datetime.now(UTC))
        except EnvironmentFailure as error:
            self._failed = self._failed or error
            self.tally.lost += len(table)
            return
        self.tally.add(table)
        if full is not None:
            task = asyncio.get_running_loop().create_task(asyncio.to_thread(finish_segment, full))
            self._finishing.add(task)
            task.add_done_callback(self._finishing.discard)

    def _judge(self, watch: Watch) -> None:
        began = monotonic()
        met = [each for each in watch.judge() if len(each)]
        if met and self._leaks is not None:
            try:
                self._leaks.append(
                    "\n".join(line for each in met for line in disagreement_lines(each, self.args.network)),
                    datetime.now(UTC),
                )
            except EnvironmentFailure as error:
                self._failed = self._failed or error
        self._judged = monotonic()
        self._judging = self._judged - began
        self.tally.unjudged = self._unjudged + watch.unjudged
        for each in met:
            self.tally.leaks += each.records(LEAK)
            self.tally.breaks += each.records(BREAK)
        fresh = [(each, row) for each in met for row in np.flatnonzero(each.is_first).tolist()]
        for each, row in fresh[:_MOST_TOLD]:
            if self._view is not None:
                self._view.tell(disagreement_line(each[row]))
            elif not self.args.quiet and not self.args.json:
                print(disagreement_line(each[row]), flush=True)
        left = len(fresh) - _MOST_TOLD
        if left > 0 and self._leaks is not None and self._view is None and not self.args.quiet and not self.args.json:
            print(f"and {left:,} more kinds of leaks and breaks at once: {self._leaks.path} has all of"
                  " them", flush=True)  # fmt: skip

    def _follow(self) -> None:
        """Hold what comes from now on against the network file as it is by now, where that has changed."""
        found = self.following.look() if self.following is not None else None
        if isinstance(found, Watch):
            self._take_over(found)
        elif found is not None:
            self.tally.unused = str(found).splitlines()[0]
            self._say(f"{self.args.network} has changed and cannot be used; records are held against it as it was",
                      *str(found).splitlines())  # fmt: skip

    def _take_over(self, watch: Watch) -> None:
        before = self.watch
        assert before is not None
        self._take_in(at_once=True)
        now = datetime.now(UTC)
        self.tally.earlier.append(EarlierRules(now, dict(before.summary.totals)))
        self.tally.unused = None
        self._unjudged += before.unjudged
        self.watch = watch
        self._say(f"{self.args.network} has changed; from {now:%H:%M:%S}Z on records are held against it as it is")

    def _say(self, *lines: str) -> None:
        for line in lines:
            if self._view is not None:
                self._view.tell(clean(line))
            else:
                print(f"kiboko collect: {clean(line)}", file=sys.stderr, flush=True)

    def _tell(self) -> None:
        self.tally.counts = self.intake.counts
        if self._view is not None:
            self._view.refresh()

    def report(self) -> None:
        """What came of it all, on standard output."""
        self.tally.finish(self.intake, self.store)
        watch = self.watch
        summary = watch.summary if watch is not None else None
        causes = Causes(watch.comparison.walker, watch.summary.rows()) if watch is not None else None
        if self.args.json:
            write_while_read(collect_json_text(self.tally, summary, causes))
        else:
            show_collected(self.tally, summary, causes, Output())
