"""Recording the demo's evidence: an hour of the Mto network, played with real packets in the replica.

Run as `python -m kiboko.demo.recording FOLDER`. The replica has one fault, a relay on which filters are not enforced,
and one session that was opened under the rules of two days before. What is written is what the kernels logged and the
probes saw; only the clock is moved: the minutes of the story pass in moments, and each packet bears the story's time.
"""

from __future__ import annotations

import contextlib
import dataclasses
import functools
import os
import socket
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TypeVar

from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import TCP, UDP, Service, parse_services
from kiboko.core.network.model import ALLOW, Rule, Topology
from kiboko.core.network.peers import Named
from kiboko.core.queries.ends import Ends, resolve_service, single_service
from kiboko.core.records.records import FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.documents.saving import write_whole
from kiboko.files.logs.probe_log import to_line
from kiboko.files.network.network_file import load_network
from kiboko.files.store.flow_export import flows_csv
from kiboko.replica.faults import NOT_ENFORCED, Fault
from kiboko.replica.holder import HolderTask, run_inside
from kiboko.replica.kernel import Services, build, enter, replace_rules
from kiboko.replica.laying_out import lay_out
from kiboko.replica.layout import Layout
from kiboko.replica.recorder import Recorder
from kiboko.replica.trials import Trial
from kiboko.replica.verify import probe_record
from kiboko.wire.probes import Outcome, Sending, Target, probe

READERS = [f"203.0.113.{last}" for last in (240, 241, 242, 243, 244, 250)]
OUTSIDES = {"internet": READERS, "crews": ["198.51.100.20"], "met-office": ["192.0.2.14"]}
MORNING = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)
TWO_DAYS_BEFORE = datetime(2026, 11, 18, 22, 14, tzinfo=UTC)
_T = TypeVar("_T")
_PAUSE = 0.06  # seconds for the kernel's log to be read before the clock is moved


@dataclass(frozen=True, slots=True)
class Session:
    """Something that one machine does to another: a session of some octets and seconds, or a probe.

    `at` is seconds after the morning's beginning; `source` and `destination` names or addresses.
    """

    at: float
    source: str
    destination: str
    service: str
    port: int | None
    octets: int = 0
    seconds: float = 0.0
    is_probe: bool = False


@dataclass(frozen=True, slots=True)
class Played:
    """A session with its ends worked out, as the replica needs it."""

    session: Session
    trial: Trial


def sessions() -> list[Session]:
    """The hour, in the order of time."""
    found = []
    gauges = ("gauge-03", "gauge-04", "gauge-07")
    for minute in range(0, 60, 2):
        # Every gauge hands in its readings; the clients' ports that the front filter lets back to, mostly.
        for index, gauge in enumerate(gauges):
            port = 49152 + (minute * 389 + index * 3797) % 11800
            found.append(
                Session(minute * 60 + 5 + index * 7, gauge, "ingest-1", "telemetry", port, 1400 + minute * 13, 4)
            )
    found += [Session(361, "gauge-04", "ingest-1", "telemetry", 40222, 240, 8),
              Session(1501, "gauge-07", "ingest-1", "telemetry", 41960, 240, 8)]  # fmt: skip
    for minute in range(30, 36):
        found.append(Session(minute * 60, "gauge-08", "relay-2", "tcp/9100", 51514 + minute, 21000, 8))
    for minute in range(3, 60, 6):
        found.append(Session(minute * 60 + 40, "gauge-03", "relay-1", "telemetry", 52000 + minute, 600, 2))
        found.append(Session(minute * 60 + 41, "gauge-07", "relay-1", "ntp", 40500 + minute, 48))
    for minute, last in ((20, 0), (21, 1), (22, 2), (23, 3)):
        found.append(Session(minute * 60 + 30, "192.0.2.14", "gauge-07", "ssh", 51546 + last))
    for minute, reader in zip((40, 41, 42, 43), READERS, strict=False):
        found.append(Session(minute * 60, reader, "bulletin", "https", 49300 + minute * 113, 24000, 2))
    found += [
        Session(1200, "198.51.100.20", "gauge-07", "ssh", 40112, 9000, 640),
        Session(1470, "192.0.2.14", "gauge-03", "telemetry", 51560),
        Session(2220, "gauge-08", "relay-2", "telemetry", 44010, 900, 1),
        Session(2640, READERS[4], "bulletin", "https", 39000, 200, 1),
        Session(3000, "desk-1", "forecast-1", "forecast-api", 43210),
        Session(3060, "desk-1", "gauge-03", "ssh", 43212, 30000, 480),
        Session(3120, "desk-2", "203.0.113.20", "https", 52000, 2100, 1),
        Session(3180, "bulletin", "forecast-1", "forecast-api", 50500, 15000, 2),
    ]
    found += [
        Session(at, source, destination, service, port, is_probe=True)
        for at, source, destination, service, port in (
            (1.1, "198.51.100.20", "gauge-07", "ssh", 40114), (2.4, "198.51.100.20", "gauge-04", "ssh", 40118),
            (3.0, "198.51.100.20", "relay-2", "tcp/9100", 40120), (310.5, "gauge-08", "relay-2", "tcp/9100", 51540),
            (311.0, "192.0.2.14", "gauge-07", "ssh", 51542), (312.7, "192.0.2.14", "relay-1", "ssh", 51550),
            (600.3, "desk-1", "forecast-1", "forecast-api", 43216), (601.3, "desk-1", "gauge-03", "ssh", 43218),
            (602.0, "desk-1", "gauge-03", "ping", None), (720.0, "gauge-03", "ingest-2", "telemetry", 58000),
            (722.0, "gauge-03", "ingest-1", "telemetry", 51002), (723.0, "gauge-03", "ingest-1", "telemetry", 38000),
            (900.0, "gauge-03", "relay-1", "ntp", 40900), (960.0, READERS[5], "bulletin", "ssh", 55012),
        )
    ]  # fmt: skip
    return sorted(found, key=lambda each: each.at)


OLD_SESSION = Session(0, "desk-2", "database", "postgresql", 50444, 60000)


def rules_before(topology: Topology) -> Topology:
    """The network two days before: the duty desk could still ask the database."""
    wanted = parse_services("postgresql")
    for name in ("office-to-core", "core-guard"):
        chosen = topology.filters[name]
        extra = Rule(1, ALLOW, chosen.place, id="desk-database", sources=(Named("duty"),), services=wanted)
        if chosen.rules is not None:
            topology = topology.with_filter(dataclasses.replace(chosen, rules=(extra, *chosen.rules)))
        else:
            topology = topology.with_filter(dataclasses.replace(chosen, inbound=(extra, *(chosen.inbound or ()))))
    return topology


def record(topology: Topology) -> tuple[list[ProbeRecord], list[FlowRecord]]:
    """Play the hour in a replica of the Mto network; what the probes saw and the kernels logged."""
    walker = Walker(topology)
    faults = (Fault(NOT_ENFORCED, "relay-2"),)
    all_sessions = [OLD_SESSION, *sessions()]
    services = [_service(walker, each) for each in all_sessions]
    ports = list(dict.fromkeys(({TCP: "tcp", UDP: "udp"}[s.protocol], s.detail) for s in services if s.has_ports))
    before = lay_out(rules_before(topology), ports, OUTSIDES, faults, tapping=True)
    today = lay_out(topology, ports, OUTSIDES, faults, tapping=True)
    played = [Played(each, _trial(walker, each)) for each in all_sessions]
    argument = (before, today, played)
    outcomes, flows, lost = run_inside(HolderTask("kiboko.demo.recording", "play", argument))
    if lost:
        raise SystemExit("the kernel's packet log overran: record again")
    probes = [
        probe_record(walker, each.trial, _when(each.session).timestamp(), outcome)
        for each, outcome in zip(played, outcomes, strict=True)
        if outcome is not None
    ]
    return probes, flows


def _service(walker: Walker, session: Session) -> Service:
    service = single_service(resolve_service(session.service, walker.topology.services))
    return service if service is not None else Service(1, 8 << 8)


def _trial(walker: Walker, session: Session) -> Trial:
    """Where a session's packets start, and the address that its sender uses for its destination (S1)."""
    ends = Ends(walker)
    pair = ends.pairs(ends.resolve(session.source).members[0], ends.resolve(session.destination).members[0], 4)[0]
    home = session.source
    if pair.source.outside is not None:
        home = pair.source.outside.name
    source = pair.source.address
    target = Target(parse_address(str(pair.target)), _service(walker, session), session.port, source)
    return Trial(home, source, target)


def _when(session: Session) -> datetime:
    return MORNING + timedelta(seconds=session.at)


# Inside the namespaces.


def play(argument: tuple[Layout, Layout, list[Played]]) -> tuple[list[Outcome | None], list[FlowRecord], int]:
    """Build the network of two days before, open the old session, put today's rules in force, play the hour."""
    before, today, played = argument
    build(before)
    services = Services(before)
    recorder = Recorder(before)
    old, hour = played[0], played[1:]
    clock = _Clock(recorder)
    clock.set(TWO_DAYS_BEFORE)
    connection = _at(today.homes[old.trial.sender], lambda: _connect(old.trial.target))
    assert isinstance(connection, socket.socket)
    _exchange(connection, old.session.octets)
    clock.wait()
    replace_rules(today, keeping=("core", today.homes["database"]))
    outcomes: list[Outcome | None] = [None]
    for each in hour:
        clock.set(_when(each.session))
        outcomes.append(_at(today.homes[each.trial.sender], functools.partial(_perform, each, clock)))
    clock.set(MORNING + timedelta(minutes=58))
    _exchange(connection, old.session.octets)
    clock.wait()
    flows = recorder.stop()
    services.close()
    connection.close()
    return outcomes, flows, recorder.lost


class _Clock:
    """Moves the time of what is logged to the story's."""

    def __init__(self, recorder: Recorder) -> None:
        self._recorder = recorder

    def wait(self) -> None:
        """Let the log be read before anything changes."""
        time.sleep(_PAUSE)

    def set(self, moment: datetime) -> None:
        """From now on it is this moment of the story."""
        self.wait()
        self._recorder.moved_by = moment.timestamp() - time.time()

    def pass_by(self, seconds: float) -> None:
        """Some seconds of the story go by."""
        self.wait()
        self._recorder.moved_by += seconds


def _at(machine: str, action: Callable[[], _T]) -> _T:
    """Do something in a machine's namespace."""
    found: list[_T] = []

    def work() -> None:
        enter(machine)
        found.append(action())

    thread = threading.Thread(target=work)
    thread.start()
    thread.join()
    return found[0]


def _perform(each: Played, clock: _Clock) -> Outcome | None:
    target, session = each.trial.target, each.session
    if session.is_probe:
        return probe(target, Sending(0.7, 2))
    if target.service.protocol == UDP:
        probe(target, Sending(0.7, 1, b"\x23" + bytes(47)))
        return None
    with contextlib.suppress(OSError), contextlib.closing(_connect(target)) as connection:
        _exchange(connection, session.octets // 2)
        clock.pass_by(session.seconds)
        _exchange(connection, session.octets - session.octets // 2)
    return None


def _connect(target: Target) -> socket.socket:
    made = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
    made.settimeout(1.3)  # one repeated SYN
    made.bind((str(target.source), target.source_port or 0))
    made.connect((str(target.address), target.service.detail))
    return made


def _exchange(connection: socket.socket, octets: int) -> None:
    """Send so much and hear it back."""
    left = octets
    while left > 0:
        connection.sendall(os.urandom(min(left, 1400)))
        heard = 0
        while heard < min(left, 1400):
            data = connection.recv(65536)
            if not data:
                return
            heard += len(data)
        left -= 1400


def main() -> None:
    """Write `probes.jsonl` and `flows.csv` to the folder named."""
    if len(sys.argv) != 2 or sys.argv[1].startswith("-"):
        raise SystemExit("usage: python -m kiboko.demo.recording FOLDER")
    with tempfile.TemporaryDirectory() as folder:
        write_demo(Path(folder))
        topology = load_network(str(Path(folder) / "network.yaml"))
        probes, flows = record(topology)
    target = Path(sys.argv[1])
    write_whole(target / "probes.jsonl", "".join(to_line(each) + "\n" for each in probes).encode())
    write_whole(target / "flows.csv", flows_csv(flows).encode())
    print(f"{len(probes)} probes and {len(flows)} flow records in {target}")


if __name__ == "__main__":
    # By its own name, so that what is handed to the process inside can be found there.
    from kiboko.demo import recording

    recording.main()
