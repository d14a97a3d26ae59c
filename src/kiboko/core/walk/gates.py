"""Asking the gates of a path about a flow: what each attachment rules, and what it keeps in mind.

The clauses are S5, S11 to S22, S32, S35 and S41. A path comes from `kiboko.core.routing.path`; the verdict that follows
from the rows is in `kiboko.core.walk.walk`.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from kiboko.core.errors import Place
from kiboko.core.filters import host_judge
from kiboko.core.filters.discovery import LETS_FIND, UNDISCOVERED
from kiboko.core.filters.filters import Ruling, Share
from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import PORT_UNREACHABLE, Packet
from kiboko.core.header.ranges import EMPTY, RangeSet
from kiboko.core.header.services import ICMP, ICMP6, WITH_PORTS, Service
from kiboko.core.network.host_rules import LISTED_WHOLE, OF_IPTABLES, HostRuleSet
from kiboko.core.network.model import ALLOW, DROP, REJECT, Filter, Instance, Rule
from kiboko.core.routing.steps import NOT_KNOWN, REFUSED, SILENT, UNREACHABLE, Step

FORWARD, REPLY, REFUSAL = "forward", "reply", "refusal"


class Row(NamedTuple):
    """One line of the gate table: what one rule (or route, or listener) did with some of the client ports.

    `action` is None where the gate is not known; `possible` are the actions that it may come to, also where it stops
    its ports in any case and only how is not known. `signal` is what the sender would see if this row stops it, before
    asking whether a refusal gets back (clause S34). `step` is the gate with its addresses.
    """

    gate: str
    at: str
    direction: str
    ports: RangeSet
    action: str | None
    step: Step
    filters: tuple[str, ...] = ()
    filter: str | None = None
    rule: str | None = None
    stateful: bool | None = None
    reason: str = ""
    place: Place | None = None
    signal: str = SILENT
    tracked: bool = False
    icmp_code: int | None = None
    """Of a kernel's own reject by ICMP: the code of the destination unreachable that it sends."""
    chain: str | None = None
    """Of a kernel's own rule set: the chain that the rule is of."""
    possible: tuple[str, ...] = ()
    note: str = ""
    """What the network file notes beside the rule."""
    condition: str = ""
    """Of a gate that is not known for the condition of a rule: the condition (clause S41)."""
    besides: tuple[str, str] | None = None
    """And the filter and rule that decide if no condition holds."""

    @property
    def stops(self) -> bool:
        """Whether this row stops its ports."""
        return self.action in (DROP, REJECT)

    @property
    def is_doubtful(self) -> bool:
        """Whether it may stop its ports and nothing tells (clause S35). What listens is not known either, often, but
        stays a caveat (clause S32)."""
        return self.action is None and bool(self.possible)


AttachmentKey = tuple[str, ...]
"""What keeps state: one filter or one `any` set on one interface, host, subnet, crossing or outside (S18)."""


Entry = tuple[AttachmentKey, Address, Address]
"""What an attachment keeps of a flow: the addresses of its request as they stood there. A reply that passes in front of
a translation where its request passed behind it bears other addresses, and is not recognised."""


class GateAsker:
    """The gates of one flow being asked: what each attachment tracks, and what has to be said beside it.

    `ports` are the flow's client ports. Requests must be asked before replies and refusals, since these are let
    back by what the request left behind: `tracked` has the ports that each attachment tracks, `perhaps_tracked` those
    that it tracks if a rule's condition holds (clause S41),
    `hosts_passed` the machines that saw the request. `diverted` are the ports whose packet may have gone elsewhere by
    now, or be another one, so that no gate is sure to stop it any more (clause S35).
    """

    def __init__(self, ground: Ground, service: Service, ports: RangeSet) -> None:
        self.ground = ground
        self.topology = ground.topology
        self.service = service
        self.ports = ports
        self.tracked: dict[Entry, RangeSet] = {}
        self.perhaps_tracked: dict[Entry, tuple[RangeSet, Filter, Rule]] = {}
        self.hosts_passed: set[str] = set()
        self.diverted = EMPTY
        self.caveats: list[str] = []

    def ask(self, step: Step, packet: Packet, direction: str) -> list[Row]:
        """The rows of one gate: one for each rule that decides some of the ports."""
        diverted = self.diverted
        rows = self._rows(step, packet, direction)
        why = "of a packet that may have been changed or sent elsewhere"
        return [part for row in rows for part in _in_doubt(row, diverted, why)] if diverted else rows

    def _rows(self, step: Step, packet: Packet, direction: str) -> list[Row]:
        match step.gate:
            case "instance-out" | "instance-in":
                return self._ask_interface(step, packet, direction)
            case "host-out" | "host-in":
                return self._ask_host(step, packet, direction)
            case "subnet-out" | "subnet-in":
                assert step.subnet is not None
                return self._ask_one(step, packet, direction, step.subnet.filter, ("subnet", step.at))
            case "outside":
                assert step.outside is not None
                return self._ask_one(step, packet, direction, step.outside.filter, ("outside", step.at))
            case "zone":
                return self._ask_zone(step, packet, direction)
            case "listener":
                return [self._ask_listener(step, direction)]
        return [self._fixed(step, direction)]

    def _fixed(self, step: Step, direction: str) -> Row:
        """A gate that the way itself decides: source, route, translation, a stopped receiver."""
        if step.stop is None:
            return self._row(step, direction, ALLOW, reason=step.reason, place=step.place)
        action = REJECT if step.stop.signal == UNREACHABLE else DROP
        return self._row(step, direction, action, reason=step.stop.reason, place=step.place, signal=step.stop.signal)

    def _row(
        self, step: Step, direction: str, action: str | None, *, ports: RangeSet | None = None, **details: Any
    ) -> Row:
        """A row of the flow's ports, or of some of them."""
        return Row(step.gate, step.at, direction, self.ports if ports is None else ports, action, step, **details)

    def _open(self, step: Step, direction: str, reason: str) -> Row:
        return self._row(step, direction, ALLOW, reason=reason)

    def _ask_one(self, step: Step, packet: Packet, direction: str, name: str | None, key: AttachmentKey) -> list[Row]:
        """A gate that carries at most one filter."""
        if name is None:
            return [self._open(step, direction, "no filter")]
        return self._ask_members(step, packet, direction, [self.topology.filters[name]], key)

    def _ask_interface(self, step: Step, packet: Packet, direction: str) -> list[Row]:
        """The instance gates of an interface: each `first` filter one, all `any` filters together one."""
        assert step.interface is not None
        filters = self.ground.membership.filters_on(step.interface)
        if not filters:
            return [self._open(step, direction, "no filter")]
        rows: list[Row] = []
        together = [each for each in filters if each.decide == "any"]
        for each in filters:
            if each.decide == "first":
                members, key = [each], ("instance", step.at, each.name)
            elif each is together[0]:
                members, key = together, ("instance", step.at, "")
            else:
                continue
            rows.extend(self._ask_members(step, packet, direction, members, key))
        return rows

    def _ask_members(
        self, step: Step, packet: Packet, direction: str, members: Sequence[Filter], key: AttachmentKey
    ) -> list[Row]:
        names: tuple[str, ...] = (members[0].name,)
        stateful = members[0].stateful
        if len(members) > 1:
            names = tuple(member.name for member in members)
            stateful = any(member.stateful for member in members)
        entry = _entry(key, step, direction)
        rows, ports = self._let_back(step, direction, names, entry)
        if not ports:
            return rows
        if direction == REPLY and stateful and entry not in self.tracked:
            self._caveat_new(step, names)
        ruling = self._judge(members, step.bound, packet, ports)
        if direction == FORWARD:
            self.tracked[entry] = self.tracked.get(entry, EMPTY) | ruling.tracked
            if ruling.perhaps is not None:
                known = self.perhaps_tracked.get(entry, ruling.perhaps)  # of an appliance both ways through it
                self.perhaps_tracked[entry] = (known[0] | ruling.perhaps[0], *known[1:])
        found = self._ruling_rows(step, direction, names, stateful, ruling, ports)
        if direction != FORWARD and entry in self.perhaps_tracked:
            found = list(self._perhaps_let_back(step, found, *self.perhaps_tracked[entry]))
        return rows + found

    def _perhaps_let_back(
        self, step: Step, rows: Sequence[Row], perhaps: RangeSet, chosen: Filter, rule: Rule
    ) -> Iterator[Row]:
        """Rows of what no state surely lets back: what they stop may be let back by that which a rule left."""
        way = "out" if step.bound == "in" else "in"
        path = chosen.path_of(rule, way)
        for row in rows:
            if row.stops and row.ports & perhaps:
                why = f"it comes back if {path} let the request {way}"
                self._caveat_rule(step, path, rule, "what came by it is let back")
                yield from _in_doubt(row, perhaps, why)
            else:
                yield row

    def _let_back(self, step: Step, direction: str, names: tuple[str, ...], entry: Entry) -> tuple[list[Row], RangeSet]:
        """The row for the ports that state lets back, and the ports that have to be judged."""
        let_back = EMPTY if direction == FORWARD else self.tracked.get(entry, EMPTY) & self.ports
        if not let_back.ranges:
            return [], self.ports
        reason = f"{direction} to a request that it tracks"
        row = self._row(
            step, direction, ALLOW, ports=let_back, filters=names, filter=names[0] if names else None,
            stateful=True, reason=reason, tracked=True,
        )  # fmt: skip
        return [row], self.ports - let_back

    def _judge(self, members: Sequence[Filter], way: str, packet: Packet, ports: RangeSet) -> Ruling:
        if members[0].decide == "first":
            return self.ground.judge.first(members[0], way, packet, ports)
        return self.ground.judge.any(members, way, packet, ports)

    def _ruling_rows(
        self,
        step: Step,
        direction: str,
        names: tuple[str, ...],
        stateful: bool,
        ruling: Ruling,
        ports: RangeSet,
    ) -> list[Row]:
        if ruling.shares is None:
            bound = {"in": "inbound", "out": "outbound"}[step.bound]
            reason = f"does not filter {bound}"
            return [
                self._row(
                    step,
                    direction,
                    ALLOW,
                    ports=ports,
                    filters=names,
                    filter=names[0],
                    stateful=stateful,
                    reason=reason,
                    place=self.topology.filters[names[0]].place,
                )  # fmt: skip
            ]
        self._caveat_empty_members(names, step.bound)
        rows = []
        for share in ruling.shares:
            if share.rule is None:
                name, reason = "otherwise", "no rule matches"
                place = share.filter.default_place
                keeps = share.filter.stateful
            else:
                name, reason, place = share.rule.name, str(share.rule), share.rule.place
                keeps = share.filter.stateful if share.rule.stateful is None else share.rule.stateful
            signal = REFUSED if share.action == REJECT else SILENT
            if share.possible:
                signal = NOT_KNOWN
                self._caveat_condition(step, share)
            rows.append(
                self._row(
                    step,
                    direction,
                    share.action,
                    ports=share.ports,
                    filters=names,
                    filter=share.filter.name,
                    rule=name,
                    stateful=keeps,
                    reason=reason,
                    place=place,
                    signal=self._own_signal(step, signal),
                    note=share.rule.note if share.rule is not None else "",
                    possible=share.possible,
                    condition=share.rule.condition if share.rule is not None and share.action is None else "",
                    besides=_named(*share.besides) if share.besides is not None else None,
                )  # fmt: skip
            )
        return rows

    def _caveat_condition(self, step: Step, share: Share) -> None:
        """Say what a gate hangs on where that is a rule's condition (clause S41)."""
        may = " or ".join(share.possible)
        if share.action is not None:
            assert share.on is not None
            path = share.filter.path_of(share.on, step.bound)
            self.caveats.append(f"{step.gate} at {step.at} stops this, and how hangs on rule {path} ({share.on.place}):"
                                f' if "{share.on.condition}"; it may {may}')  # fmt: skip
        elif share.rule is not None:
            self._caveat_rule(step, share.filter.path_of(share.rule, step.bound), share.rule, f"it may {may}")

    def _caveat_rule(self, step: Step, path: str, rule: Rule, effect: str) -> None:
        self.caveats.append(
            f'{step.gate} at {step.at} is not known: rule {path} ({rule.place}) holds if "{rule.condition}", which no'
            f" header tells; {effect} (--with {path} asks as if it held, --without {path} as if it did not)"
        )

    def _own_signal(self, step: Step, signal: str) -> str:
        """Gates at a stopped instance's own interface or host refuse nothing (clause S5)."""
        interface = step.interface or step.egress
        if interface is not None and not self.ground.directory.instance_of(interface).running:
            return SILENT
        return signal

    def _caveat_new(self, step: Step, names: tuple[str, ...]) -> None:
        self.caveats.append(
            f"the reply meets {', '.join(names)} ({step.gate} at {step.at}), which never saw the request:"
            " it is judged by the rules alone; many devices drop such a packet"
        )

    def _caveat_empty_members(self, names: tuple[str, ...], way: str) -> None:
        for name in names:
            self.caveats.extend(self.ground.empty_members(name, way))

    # Zones (clause S22).

    def _ask_zone(self, step: Step, packet: Packet, direction: str) -> list[Row]:
        assert step.zones is not None
        source, destination = step.zones
        chosen = self.ground.crossing_filter(source, destination)
        forward = direction == FORWARD
        key = ("zone", source, destination) if forward else ("zone", destination, source)
        if chosen is not None:
            return self._ask_members(step, packet, direction, [chosen], key)
        entry = _entry(key, step, direction)
        rows, ports = self._let_back(step, direction, (), entry)
        if not ports:
            return rows
        if forward:
            self.tracked[entry] = ports
        defaults = self.topology.defaults
        action, which = defaults.between_zones, "between_zones"
        if source == destination:
            action, which = defaults.same_zone, "same_zone"
        reason = f"no crossing {source}>{destination} is listed; {which} is {action}"
        signal = REFUSED if action == REJECT else SILENT
        return [
            *rows,
            self._row(step, direction, action, ports=ports, stateful=True, reason=reason, signal=signal),
        ]

    # Hosts (clause S35).

    def _ask_host(self, step: Step, packet: Packet, direction: str) -> list[Row]:
        interface = step.interface or step.egress
        assert interface is not None
        instance = self.ground.directory.instance_of(interface)
        rules = instance.host_filter
        if direction == FORWARD:
            self.hosts_passed.add(instance.name)
        if rules is None:
            return [self._open(step, direction, "no host filter")]
        if isinstance(rules, str):
            return self._ask_members(step, packet, direction, [self.topology.filters[rules]], ("host", instance.name))
        return self._ask_kernel_rules(step, packet, direction, instance, rules)

    def _ask_kernel_rules(
        self, step: Step, packet: Packet, direction: str, instance: Instance, rules: HostRuleSet
    ) -> list[Row]:
        ingress = step.interface.device if step.interface else ""
        egress = step.egress.device if step.egress else ""
        if rules.caveat is not None:
            self.caveats.append(rules.caveat)
        shares = self.ground.discovery.judge(rules, step.way, packet, self.ports, ingress, egress)
        if shares is None:
            return [self._open(step, direction, f"{rules.file} has no chain at this hook")]
        rows, diverted = [], self.diverted
        for share in shares:
            known = share.action != host_judge.UNKNOWN
            reason = f"chain {share.chain}" + (f": cannot judge {share.detail}" if share.detail else "")
            if not known:
                self.caveats.append(
                    f"{step.gate} at {step.at} is not known: {rules.file}, chain {share.chain}, rule"
                    f" {share.rule}: cannot judge {share.detail}; it may {' or '.join(share.possible)}"
                    f"{'; what lies behind is not known either' if share.diverts else ''}{_what_helps(share.detail)}"
                )
            elif share.possible:
                self.caveats.append(
                    f"{step.gate} at {step.at} stops this, and how is not known: {rules.file}, chain {share.chain}:"
                    f" cannot judge {share.detail}; it may {' or '.join(share.possible)}{_what_helps(share.detail)}"
                )
            if share.diverts:
                diverted |= share.ports
            signal, code = SILENT, None
            if share.possible:
                signal = NOT_KNOWN
            elif share.action == REJECT:
                signal = REFUSED
                if share.icmp is not None:
                    code = share.icmp[0 if packet.family == 4 else 1]
                    signal = REFUSED if code == PORT_UNREACHABLE[packet.family] else UNREACHABLE
            rows.append(
                self._row(step, direction, share.action if known else None, ports=share.ports,
                          filters=(rules.file,), filter=rules.file, rule=share.rule, reason=reason,
                          place=Place(rules.file, 1), signal=self._own_signal(step, signal), icmp_code=code,
                          chain=share.chain, possible=share.possible)
            )  # fmt: skip
        self.diverted = diverted
        return rows

    # Listeners (clause S32).

    def _ask_listener(self, step: Step, direction: str) -> Row:
        if step.interface is None:
            return self._not_known(step, direction, "no instance recorded")
        instance = self.ground.directory.instance_of(step.interface)
        if self.service.protocol not in WITH_PORTS:
            if self.service in (Service(ICMP, 8 << 8), Service(ICMP6, 128 << 8)):
                return self._open(step, direction, "the system itself answers echo requests")
            return self._not_known(step, direction, "whether the system answers this is not known")
        if instance.listens is None:
            self.caveats.append(f"whether {instance.name} listens on {self.service} is not known")
            return self._not_known(step, direction, "listeners not given")
        elsewhere = None
        for listener in instance.listens:
            if self.service.number in listener.services:
                if listener.accepts(step.destination):
                    return self._row(step, direction, ALLOW, reason=f"listens: {listener.text}", place=listener.place)
                elsewhere = listener
        reason = f"nothing listens on {self.service}"
        if elsewhere is not None:
            bound = elsewhere.address or f"IPv{elsewhere.family}"
            reason = f"listens on {bound} only, not on {step.destination}"
        return self._row(
            step, direction, REJECT, reason=reason, signal=REFUSED,
            place=elsewhere.place if elsewhere else instance.place,
        )  # fmt: skip

    def _not_known(self, step: Step, direction: str, reason: str) -> Row:
        return self._row(step, direction, None, reason=reason)


def _named(chosen: Filter, rule: Rule | None) -> tuple[str, str]:
    return chosen.name, rule.name if rule is not None else "otherwise"


def _entry(key: AttachmentKey, step: Step, direction: str) -> Entry:
    """The entry that a request makes at a gate, or that a reply or refusal there belongs to."""
    if direction == FORWARD:
        return key, step.source, step.destination
    return key, step.destination, step.source


def _in_doubt(row: Row, perhaps: RangeSet, why: str) -> Iterator[Row]:
    """A row that stops some ports, with those apart that it perhaps does not."""
    mine = row.ports & perhaps
    if not row.stops or row.action is None or not mine:
        yield row
        return
    others = row.ports - mine
    if others:
        yield row._replace(ports=others)
    yield row._replace(ports=mine, action=None, possible=(row.action, ALLOW), signal=NOT_KNOWN,
                       reason=f"{row.reason} ({why})")  # fmt: skip


def _what_helps(detail: str) -> str:
    """How to list what iptables made so that it can be judged, and which rule lets neighbours be found."""
    if detail.startswith(UNDISCOVERED):
        return f" ({LETS_FIND}, in front of that, lets them through)"
    return f" (this lists it so that it can be judged: {LISTED_WHOLE})" if detail.endswith(OF_IPTABLES) else ""
