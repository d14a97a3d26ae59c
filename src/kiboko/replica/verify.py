"""Real packets between the ends of a replica, compared with the walk, and recorded as evidence."""

from __future__ import annotations

import dataclasses
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import UTC, datetime

from kiboko.core.evidence.verification import Difference, Verification
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, Service
from kiboko.core.network.edits import settled
from kiboko.core.network.model import Topology
from kiboko.core.records.records import SILENT, UNREACHABLE, FlowRecord, ProbeRecord
from kiboko.core.walk.walk import Walk, Walker
from kiboko.replica.earlier import played_before
from kiboko.replica.faults import OF_TIME, OLDER_SESSION, Fault, check_faults, strangers
from kiboko.replica.holder import HolderTask, run_inside
from kiboko.replica.kernel import Services, build, enter
from kiboko.replica.laying_out import lay_out
from kiboko.replica.layout import Layout
from kiboko.replica.part import Part, check_size, part_for
from kiboko.replica.recorder import Recorder
from kiboko.replica.trials import Choice, Trial, chosen_services, chosen_trials, outside_addresses
from kiboko.wire.probes import Outcome, Sending, probe

_AT_ONCE = 400
_PROTOCOLS = {"tcp": TCP, "udp": UDP}


@dataclass(frozen=True, slots=True)
class Observed:
    """What the replica saw: when each trial was sent (seconds since 1970) and its outcome, in the order of the
    trials; flow records where packets were logged; how often the kernel's log overran; and since when the rules of
    today are in force, where others were before."""

    outcomes: tuple[tuple[float, Outcome], ...]
    flows: tuple[FlowRecord, ...] = ()
    lost: int = 0
    changed_at: float | None = None


@dataclass(frozen=True, slots=True)
class Earlier:
    """What goes before the trials: the layout of today, which takes the place of what was, what is sent until then,
    and whether it goes on."""

    today: Layout
    trials: list[Trial]
    goes_on: bool


def draw(
    topology: Topology, walker: Walker, services: list[Service], faults: tuple[Fault, ...], tapping: bool, part: Part
) -> Layout:
    """The layout of a part of a network, with an address or two for each outside."""
    names = {number: name for name, number in _PROTOCOLS.items()}
    ports = [(names[each.protocol], each.detail) for each in services if each.protocol in names]
    return lay_out(topology, ports, outside_addresses(topology, walker.directory), faults, tapping, part)


def verify(
    topology: Topology,
    choice: Choice | None = None,
    faults: tuple[Fault, ...] = (),
    record: bool = False,
    timeout: float = 0.7,
    built: Topology | None = None,
) -> Verification:
    """Build the network, probe the chosen pairs of addresses on the chosen services, compare, take it down.

    By default all pairs on all services that matter. Only the machines that take part are built. `faults` are put into
    the replica, not into the walk; `record` has its kernels log what they do. `timeout` is the seconds to wait for an
    answer. `built` is the network while conditions of its rules hold or do not (`settled`), by default while none
    holds: what rests on them is compared with what would be so then (clause S41). With a fault of time, `as_of` of what
    is found tells since when the rules are in force.

    Raises UsageError for a choice of nothing, or of more than one replica holds.
    """
    choice = choice or Choice()
    walker = Walker(topology)
    if built is None:
        built = settled(topology)
    check_faults(faults, topology)
    services = chosen_services(topology, choice)
    trials, before = _trials(walker, services, choice, faults), _trials_before(walker, services, choice, faults)
    part = part_for(topology, _taking_part([*trials, *before], faults))
    check_size(topology, part, "choose ends with --source and --destination, or have fewer drawn with --most N")
    layout = draw(built, walker, services, faults, record, part)
    _keep_asked(layout, [*trials, *before])
    earlier = None
    if _staying(faults) != faults:
        today = draw(built, walker, services, _staying(faults), record, part)
        earlier = Earlier(today, before, any(fault.kind == OLDER_SESSION for fault in faults))
    observed = _observed(layout, trials, timeout, earlier)
    walks = [_walk(walker, trial) for trial in trials]
    if built is not topology:
        as_built = Walker(built)
        walks = [said if _is_known(said) else _walk(as_built, trial)
                 for said, trial in zip(walks, trials, strict=True)]  # fmt: skip
    unknown = sum(not _is_known(said) for said in walks)
    again = [index for index, (_, outcome) in enumerate(observed.outcomes) if _differs(walks[index], outcome)]
    if again and not record:
        # What a busy machine answered too late is no verdict: only what shows again, with time to spare, differs.
        few = [trials[index] for index in again]
        second = _observed(layout, few, 4 * timeout, earlier)
        outcomes = list(observed.outcomes)
        for index, outcome in zip(again, second.outcomes, strict=True):
            outcomes[index] = outcome
        observed = dataclasses.replace(observed, outcomes=tuple(outcomes))
    differences = [
        Difference(trial.source, trial.target.source_port, outcome.outcome, said)
        for trial, said, (_, outcome) in zip(trials, walks, observed.outcomes, strict=True)
        if _differs(said, outcome)
    ]
    probes = tuple(
        probe_record(walker, trial, when, outcome)
        for trial, (when, outcome) in zip(trials, observed.outcomes, strict=True)
    )
    as_of = datetime.fromtimestamp(observed.changed_at, UTC) if observed.changed_at is not None else None
    return Verification(
        len(trials) - unknown,
        unknown,
        tuple(differences),
        len(layout.machines),
        probes,
        observed.flows,
        observed.lost,
        as_of,
    )


def _trials(walker: Walker, services: list[Service], choice: Choice, faults: tuple[Fault, ...]) -> list[Trial]:
    outside = outside_addresses(walker.topology, walker.directory)
    return chosen_trials(walker, outside, strangers(faults), services, choice)


def _taking_part(trials: list[Trial], faults: tuple[Fault, ...]) -> set[str]:
    """Who sends, is sent to, or has a fault."""
    ends = {name for each in trials for name in (each.sender, each.receiver) if name is not None}
    return ends | {name for fault in faults for name in (fault.who, fault.at)}


def _keep_asked(layout: Layout, trials: list[Trial]) -> None:
    """Have nobody listen where nothing is sent: there are many machines, with many services each."""
    asked = {
        (layout.homes[each.receiver], each.target.service.protocol, each.target.service.detail)
        for each in trials
        if each.receiver is not None
    }
    for machine in layout.machines.values():
        machine.listeners = [
            each for each in machine.listeners if (machine.name, _PROTOCOLS[each[0]], each[2]) in asked
        ]


def _observed(layout: Layout, trials: list[Trial], timeout: float, earlier: Earlier | None) -> Observed:
    """What a replica of a layout saw of some trials. It has the time that they take if each of them is silent."""
    rounds = 2 if earlier is None else 4
    most = 600.0 + 2 * rounds * timeout * len(trials) / _AT_ONCE
    task = HolderTask("kiboko.replica.verify", "probe_inside", (layout, trials, timeout, earlier))
    observed: Observed = run_inside(task, most)
    return observed


def _staying(faults: tuple[Fault, ...]) -> tuple[Fault, ...]:
    """The faults that are not over when the rules of today are in force."""
    return tuple(fault for fault in faults if fault.kind not in OF_TIME)


def _trials_before(walker: Walker, services: list[Service], choice: Choice, faults: tuple[Fault, ...]) -> list[Trial]:
    """What goes before the trials, where there is a fault of time: as much, from other client ports."""
    staying = _staying(faults)
    if staying == faults:
        return []
    others = dataclasses.replace(choice, seed=choice.seed + 1)
    return [each for each in _trials(walker, services, others, staying) if each.target.service.has_ports]


def _walk(walker: Walker, trial: Trial) -> Walk:
    target = trial.target
    port = RangeSet.one(target.source_port) if target.source_port is not None else None
    return walker.walk(walker.directory.endpoint(trial.source), target.address, target.service, port)


def _is_known(said: Walk) -> bool:
    if said.later is not None:  # whether the probe sees the answer or what becomes of its next packet is a race
        return False
    return said.signal_known and not any(row.action is None and row.gate != "listener" for row in said.rows)


def _differs(said: Walk, outcome: Outcome) -> bool:
    return _is_known(said) and _class(outcome.outcome) != _class(said.signal)


def _class(signal: str) -> str:
    """`silent` and `unreachable` count as the same failure."""
    return SILENT if signal == UNREACHABLE else signal


def probe_record(walker: Walker, trial: Trial, when: float, outcome: Outcome) -> ProbeRecord:
    """A trial and its outcome as the record that `confirm` reads."""
    target = trial.target
    return ProbeRecord(
        datetime.fromtimestamp(when, UTC), _sender_name(walker, trial.source), _receiver_name(walker, trial),
        str(target.address), str(target.service), outcome.outcome, target.source_port, outcome.rtt_ms,
        outcome.attempts, str(trial.source),
    )  # fmt: skip


def _sender_name(walker: Walker, address: Address) -> str:
    """The machine's name where that stands for this very address, else the address."""
    interface = walker.directory.interface_at(address)
    if interface is None or len(walker.directory.instance_of(interface).interfaces) > 1:
        return str(address)
    return interface.instance if interface.address(address.family) == address else str(address)


def _receiver_name(walker: Walker, trial: Trial) -> str:
    """The machine's name where that means the address that was probed, for this sender (S1), else the address."""
    target = trial.target.address
    directory = walker.directory
    interface = directory.public_owner(target) or directory.interface_at(target)
    if interface is None or len(directory.instance_of(interface).interfaces) > 1:
        return str(target)
    source = directory.endpoint(trial.source)
    if target == interface.public:
        network = walker.topology.subnets[interface.subnet].network
        named = source.outside is not None and directory.tunnel(network, source.outside.name) is None
    else:
        named = interface.address(target.family) == target and (
            target.family == 6 or source.outside is None or directory.is_global(target)
        )
    return interface.instance if named else str(target)


# Inside the namespaces.


def probe_inside(argument: tuple[Layout, list[Trial], float, Earlier | None]) -> Observed:
    """Build, serve, and probe."""
    layout, trials, timeout, earlier = argument
    build(layout)
    services = Services(layout)
    recorder = Recorder(layout) if layout.taps else None
    changed_at = None
    if earlier is not None:
        changed_at = played_before(earlier.today, earlier.trials, earlier.goes_on, timeout)
    outcomes = tuple(send_all(layout, trials, Sending(timeout, 2)))  # a lost packet is no verdict
    services.close()
    if recorder is None:
        return Observed(outcomes, changed_at=changed_at)
    flows = recorder.stop()
    return Observed(outcomes, tuple(flows), recorder.lost, changed_at)


def send_all(layout: Layout, trials: list[Trial], sending: Sending) -> list[tuple[float, Outcome]]:
    """Send many probes at once: when each was sent, and what it saw."""

    def send(trial: Trial) -> tuple[float, Outcome]:
        enter(layout.homes[trial.sender])
        return time.time(), probe(trial.target, sending)

    # The threads change namespaces, which this one must not: it belongs to none of the machines.
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        return list(pool.map(send, trials))
