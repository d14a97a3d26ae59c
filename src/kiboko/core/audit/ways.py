"""Findings on whole ways: what is open to the outside, what one gate alone holds back, and hosts that stop whom a rule
above lets in by name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.audit.rules import is_limited
from kiboko.core.audit.scope import WHOLE, Scope
from kiboko.core.errors import Place
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.nesting import Nesting
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import services_texts
from kiboko.core.network.model import ALLOW, Instance, Rule
from kiboko.core.network.peers import Literal, Named, PeerItem
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import End, Member, member_addresses
from kiboko.core.reachability.doors import Door, single_doors
from kiboko.core.reachability.letting_in import LetIn
from kiboko.core.reachability.reach import ReachLine, ReachQuestion, reach
from kiboko.core.reachability.space import Space
from kiboko.core.spreading import Spread
from kiboko.core.walk.walk import ALLOWED, PARTLY

_VERY_MANY = 1 << 16
"""As many addresses outside are more than those of any partner or office."""
_LAYERS = ("instance-in", "host-in", "subnet-in", "zone", "outside")
"""Where one would close first what is open: nearest to the machine."""
_FEW_ASKED, _MOST_ASKED = 6, 48


def of_openness(ends: Ends, scope: Scope = WHOLE) -> Iterator[Finding]:
    """Administrative services that very many outside can reach, and those that one gate alone keeps from them."""
    topology = ends.topology
    administration = scope.among(topology.administration)
    crowds = _crowds(ends)
    families = {member.low.family for end in crowds for member in end.members if member.low is not None}
    borne = (address for each in ends.directory.interfaces() for address in each.addresses)
    if not administration or not any(address.family in families for address in borne):
        return
    names = ", ".join(end.text for end in crowds)
    outside = End(names, tuple(dict.fromkeys(member for end in crowds for member in end.members)), True)
    question = ReachQuestion(outside, administration, is_out=True, only="recorded")
    answer = reach(ends, question)
    for line in answer.lines:
        if line.verdict in (ALLOWED, PARTLY) and sum(member.count for member in line.near) >= _VERY_MANY:
            met = AddressSet.union(map(member_addresses, line.near))
            among = (end.text for end in crowds if any(member_addresses(each).meets(met) for each in end.members))
            yield _open(line, ", ".join(among))
    by_door: dict[tuple[str, str, Place | None], dict[Member, RangeSet]] = {}
    space = Space(ends, administration)
    exposed = [
        ends.resolve(instance.name).members[0]
        for instance in topology.instances.values()
        if _is_exposed(ends, instance)
    ]
    for end in crowds:
        for family in (4, 6):
            # The most of them are treated alike: what keeps these out is told.
            alike = max(space.ends_of(end.members, family, True), key=lambda each: each.count, default=None)
            near = [alike] if alike is not None else []
            for door, _, receiver, served in single_doors(space, family, near, space.ends_of(exposed, family, False)):
                if door.filter is not None:
                    services = by_door.setdefault((door.gate, f"{door.filter}/{door.rule}", door.place), {})
                    member = receiver.members[0]
                    services[member] = services.get(member, RangeSet()) | served
    for (gate, rule, place), who in by_door.items():
        told = RangeSet.of(pair for each in who.values() for pair in each)
        yield found("one-door-only", rule, place,
                    f"it alone ({gate}) keeps {names} from {few(services_texts(told))} of {_few_ends(who)}",
                    "close the way at a second layer as well, where that is not meant so",
                    machines=dict.fromkeys(each.instance or each.name for each in who))  # fmt: skip


def _few_ends(members: Iterable[Member]) -> str:
    """The first few of some ends, a machine at another address of its own by that address as well."""
    return few(f"{each.name} ({each.instance})" if each.is_by_address and each.instance else each.name
               for each in members)  # fmt: skip


def _is_exposed(ends: Ends, instance: Instance) -> bool:
    """Whether somebody outside could send to an instance at all: to a public address, or by IPv6."""
    is_global = ends.directory.is_global
    return any(each.public is not None or each.address(6) is not None or any(map(is_global, each.addresses))
               for each in instance.interfaces)  # fmt: skip


def _crowds(ends: Ends) -> list[End]:
    """The outsides with very many addresses, each without others that lie within it."""
    outsides = {name: ends.directory.outside_addresses(name) for name in ends.topology.outsides}
    nesting = Nesting(outsides)
    owned = (
        ends.block_end(name, nesting.own(name) - ends.directory.network_blocks)
        for name, whole in outsides.items() if whole.size >= _VERY_MANY
    )  # fmt: skip
    return [end for end in owned if _size(end) >= _VERY_MANY]


def _size(end: End) -> int:
    return sum(member.count for member in end.members if member.outside is not None)


def _open(line: ReachLine, names: str) -> Finding:
    nearest = min(line.rules, key=_closeness, default=None)
    source, destination, service = line.example
    who = _few_ends(line.far)
    over = " over IPv6" if line.family == 6 else ""
    let_in = "; ".join(f"{rule.gate} {rule.filter}/{rule.rule}" for rule in line.rules if rule.direction == "forward")
    return found(
        "open-administration", f"{nearest.filter}/{nearest.rule}" if nearest is not None else who,
        nearest.place if nearest is not None else None,
        f"{', '.join(services_texts(line.services))} of {who} can be reached from {names}{over}; let in by"
        f" {let_in or 'no filter'}",
        "name in that rule who may come in",
        others=tuple((f"{rule.filter}/{rule.rule}", rule.place) for rule in line.rules if rule.place is not None),
        check=f"kiboko check {source.low or source.name} {destination.name} {service}",
        opened=dict.fromkeys((member.instance or member.name for member in line.far), line.services),
    )  # fmt: skip


def _closeness(rule: LetIn) -> tuple[int, bool]:
    """How near to the machine a rule is; defaults come after rules that say so."""
    place = _LAYERS.index(rule.gate) if rule.gate in _LAYERS and rule.direction == "forward" else len(_LAYERS)
    return place + (len(_LAYERS) + 1) * (rule.rule == "otherwise"), rule.rule == "otherwise"


# Hosts, and who is let in to them.


@dataclass(frozen=True, slots=True)
class _LetInByName:
    """A rule that lets somebody in by name to machines with a host filter: whom, and to which."""

    filter: str
    rule: Rule
    senders: tuple[Member, ...]
    receivers: tuple[Member, ...]

    @property
    def name(self) -> str:
        """How the rule is called."""
        return f"{self.filter}/inbound/{self.rule.name}"


def of_hosts(ends: Ends, scope: Scope = WHOLE, spread: Spread = map) -> Iterator[Finding]:
    """Hosts whose own filter alone stops whom a rule of their instance filter lets in by name."""
    asked = list(_let_in_by_name(ends, scope))
    if not asked:
        return
    left = len(asked) - _MOST_ASKED
    if left > 0:
        first = asked[_MOST_ASKED]
        yield found("hosts-in-part", first.name, first.rule.place,
                    f"{left:,} of {len(asked):,} rules that let somebody in by name to a machine with a host filter"
                    " were not held against that filter, from this one on",
                    "ask of those that matter: kiboko reach NAME --doors")  # fmt: skip
    chosen = asked[:_MOST_ASKED]
    space = Space(ends, RangeSet.of(pair for each in chosen for pair in each.rule.services or ()))
    space.prepare_for(dict.fromkeys(member for each in chosen for member in each.receivers))

    def against(number: int) -> list[Finding]:
        return list(_against_hosts(space, chosen[number]))

    for findings in (spread if len(chosen) > _FEW_ASKED else map)(against, range(len(chosen))):
        yield from findings


def _let_in_by_name(ends: Ends, scope: Scope) -> Iterator[_LetInByName]:
    """Such rules, those first whose machines come first."""
    topology, membership = ends.topology, ends.walker.membership
    asked: dict[tuple[str, str], tuple[Rule, dict[Member, None]]] = {}
    for instance in topology.instances.values():
        for interface in instance.interfaces if instance.host_filter is not None else ():
            for chosen in membership.filters_on(interface) if interface.addresses else ():
                for rule in chosen.inbound or () if chosen.name in interface.filters else ():
                    is_named = rule.sources is not None and bool(scope.among(rule.services or RangeSet()))
                    if rule.enabled and rule.action == ALLOW and is_named and not is_limited(rule):
                        member = ends.resolve(instance.name).members[0]
                        asked.setdefault((chosen.name, rule.name), (rule, {}))[1][member] = None
    for (name, _), (rule, members) in asked.items():
        senders = dict.fromkeys(each for item in rule.sources or () for each in _members_of(ends, item))
        for near, far in scope.between(senders, members):
            if near and far:
                yield _LetInByName(name, rule, tuple(near), tuple(far))


def _against_hosts(space: Space, asked: _LetInByName) -> Iterator[Finding]:
    """Where the host filter alone stops whom such a rule lets in."""
    rule = asked.rule
    for family in (4, 6):
        near, far = space.ends_of(asked.senders, family, True), space.ends_of(asked.receivers, family, False)
        stopped: dict[Door, tuple[dict[str, None], dict[str, None]]] = {}
        for door, sender, receiver, _ in single_doors(space, family, near, far, rule.services or RangeSet()):
            who, machines = stopped.setdefault(door, ({}, {}))
            who[sender.outside or sender.instance or sender.name] = None
            machines[receiver.instance or receiver.name] = None
        for door, (who, machines) in stopped.items():
            place = door.place or space.ends.topology.instances[next(iter(machines))].place
            here = few(list(machines))
            yield found("host-filter-against", f"{here}: {door.filter}/{door.rule}", place,
                        f"rule {asked.name} lets in {few(list(who))} on {rule.service_text}, and the host filter of"
                        f" {here} alone stops it ({door.filter}/{door.rule})",
                        "let them in there too, or nowhere", others=((asked.name, rule.place),),
                        machines=machines)  # fmt: skip


def _members_of(ends: Ends, item: PeerItem) -> Iterator[Member]:
    """The ends that a rule names."""
    if isinstance(item, Named):
        yield from ends.resolve(item.name).members
    elif isinstance(item, Literal):
        yield from ends.block_end(item.text, item.addresses).members
