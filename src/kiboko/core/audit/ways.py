"""Findings on whole ways: what is open to the outside, what one gate alone holds back, what listens in vain, and
replies that a stateless filter does not let back."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

import numpy as np

from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.audit.rules import WAY_NAMES, RuleList, directions
from kiboko.core.errors import Place
from kiboko.core.filters.filters import ReadyRule
from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, services_texts
from kiboko.core.network.model import ALLOW, Carrying, Filter, Instance, Literal, Named, Rule
from kiboko.core.queries.ends import End, Ends, Member
from kiboko.core.reachability.doors import Door, single_doors
from kiboko.core.reachability.letting_in import LetIn
from kiboko.core.reachability.reach import ReachLine, ReachQuestion, reach
from kiboko.core.reachability.space import Space
from kiboko.core.walk.walk import ALLOWED, PARTLY, Walker

_VERY_MANY = 1 << 16
"""As many addresses outside are more than those of any partner or office."""
_LAYERS = ("instance-in", "host-in", "subnet-in", "zone", "outside")
"""Where one would close first what is open: nearest to the machine."""
_MOST_REGIONS, _FEW_CLIENT_PORTS = 64, 1000
_MOST_ASKED, _FEW_SENDERS = 12, 200


def of_openness(ends: Ends) -> Iterator[Finding]:
    """Administrative services that very many outside can reach, and those that one gate alone keeps from them."""
    topology = ends.topology
    crowds = [end for name in topology.outsides if _size(end := _own(ends, name)) >= _VERY_MANY]
    if not crowds or not topology.administration or not topology.instances:
        return
    names = ", ".join(end.text for end in crowds)
    outside = End(names, tuple(dict.fromkeys(member for end in crowds for member in end.members)), True)
    question = ReachQuestion(outside, topology.administration, is_out=True, only="recorded")
    answer = reach(ends, question)
    for line in answer.lines:
        if line.verdict in (ALLOWED, PARTLY) and sum(member.count for member in line.near) >= _VERY_MANY:
            yield _open(line, names)
    by_door: dict[tuple[str, str, Place | None], dict[str, RangeSet]] = {}
    space = Space(ends, topology.administration)
    exposed = [
        ends.resolve(instance.name).members[0] for instance in topology.instances.values() if _is_exposed(instance)
    ]
    for end in crowds:
        for family in (4, 6):
            # The most of them are treated alike: what keeps these out is told.
            alike = max(space.ends_of(end.members, family, True), key=lambda each: each.count, default=None)
            near = [alike] if alike is not None else []
            for door, _, receiver, served in single_doors(space, family, near, space.ends_of(exposed, family, False)):
                if door.filter is not None:
                    services = by_door.setdefault((door.gate, f"{door.filter}/{door.rule}", door.place), {})
                    services[receiver.name] = services.get(receiver.name, RangeSet()) | served
    for (gate, rule, place), who in by_door.items():
        told = RangeSet.of(pair for each in who.values() for pair in each)
        yield found("one-door-only", rule, place,
                    f"it alone ({gate}) keeps {names} from {few(services_texts(told))} of {few(list(who))}",
                    "close the way at a second layer as well, where that is not meant so")  # fmt: skip


def _is_exposed(instance: Instance) -> bool:
    """Whether somebody outside could send to an instance at all: to a public address, or by IPv6."""
    return any(each.public is not None or each.address(6) is not None for each in instance.interfaces)


def _own(ends: Ends, name: str) -> End:
    """An outside without others that lie within it."""
    topology = ends.topology
    whole = AddressSet.of_prefixes(topology.outsides[name].prefixes)
    others = [AddressSet.of_prefixes(each.prefixes) for each in topology.outsides.values() if each.name != name]
    within = [each for each in others if not each - whole and each != whole]
    return ends.block_end(name, whole - AddressSet.union(within) - ends.directory.network_blocks)


def _size(end: End) -> int:
    return sum(member.count for member in end.members if member.outside is not None)


def _open(line: ReachLine, names: str) -> Finding:
    nearest = min(line.rules, key=_closeness, default=None)
    source, destination, service = line.example
    who = few([member.name for member in line.far])
    let_in = "; ".join(f"{rule.gate} {rule.filter}/{rule.rule}" for rule in line.rules if rule.direction == "forward")
    return found(
        "open-administration", f"{nearest.filter}/{nearest.rule}" if nearest is not None else who,
        nearest.place if nearest is not None else None,
        f"{', '.join(services_texts(line.services))} of {who} can be reached from {names}; let in by"
        f" {let_in or 'no filter'}",
        "name in that rule who may come in",
        others=tuple((f"{rule.filter}/{rule.rule}", rule.place) for rule in line.rules if rule.place is not None),
        check=f"kiboko check {source.low or source.name} {destination.name} {service}",
    )  # fmt: skip


def _closeness(rule: LetIn) -> tuple[int, bool]:
    """How near to the machine a rule is; defaults come after rules that say so."""
    place = _LAYERS.index(rule.gate) if rule.gate in _LAYERS and rule.direction == "forward" else len(_LAYERS)
    return place + (len(_LAYERS) + 1) * (rule.rule == "otherwise"), rule.rule == "otherwise"


# What listens, and who is let in to it.


def of_listeners(ends: Ends, among: Collection[str] | None = None) -> Iterator[Finding]:
    """Rules that let in what nobody listens to, and machines that listen to what nobody can reach; `among` are the
    names of the filters whose rules are looked at, None for all."""
    yield from _unserved(ends, among)
    yield from _unallowed(ends)


def _unserved(ends: Ends, among: Collection[str] | None) -> Iterator[Finding]:
    topology = ends.topology
    for chosen in topology.filters.values():
        if among is not None and chosen.name not in among:
            continue
        carried_by = [(each.instance, Member(each.name, each.instance, (each,)))
                      for each in ends.walker.membership.carriers(chosen.name) if each.addresses]  # fmt: skip
        if not carried_by or any(
            topology.instances[who].listens is None or not topology.instances[who].running for who, _ in carried_by
        ):
            continue
        for rule in chosen.inbound or ():
            if rule.enabled and rule.action == ALLOW and rule.services is not None:
                yield from _unserved_rule(ends, chosen, rule, carried_by)


def _unserved_rule(
    ends: Ends, chosen: Filter, rule: Rule, carried_by: Sequence[tuple[str, Member]]
) -> Iterator[Finding]:
    wanted = RangeSet.of(pair for pair in rule.services or () if pair[0] >> 16 in (TCP, UDP))
    if not wanted or wanted.size > _VERY_MANY:
        return
    served, elsewhere = [], []
    for who, member in carried_by:
        listens = ends.topology.instances[who].listens or ()
        addresses = [address for interface in member.interfaces for address in interface.addresses]
        mine = [each for each in listens if each.services & wanted]
        if any(each.accepts(address) for each in mine for address in addresses):
            served.append(who)
        elif mine:
            elsewhere.append((who, mine[0]))
    name = f"{chosen.name}/inbound/{rule.name}"
    for who, listener in elsewhere:
        yield found("bound-elsewhere", f"{who}: {rule.service_text}", listener.place,
                    f"rule {name} lets in {rule.service_text} to {who}, where it is bound to {listener.text}",
                    f"bind it to an address that others reach, or take {who} out of that rule",
                    others=((name, rule.place),))  # fmt: skip
    if not served and not elsewhere:
        who = few([each for each, _ in carried_by])
        yield found("unserved-rule", name, rule.place,
                    f"it lets in {rule.service_text}, which none of {who} listens to",
                    "take it out, or start the service")  # fmt: skip


def _unallowed(ends: Ends) -> Iterator[Finding]:
    """Machines that listen at an address that others could reach to what nobody can."""
    topology = ends.topology
    heard: dict[str, RangeSet] = {}
    for instance in topology.instances.values():
        addresses = [address for interface in instance.interfaces for address in interface.addresses]
        own = RangeSet.of(
            pair for each in instance.listens or () if any(each.accepts(address) for address in addresses)
            for pair in each.services
        )  # fmt: skip
        if own and addresses and instance.running:
            heard[instance.name] = own
    if not heard:
        return
    every = RangeSet.of(pair for own in heard.values() for pair in own)
    reached: dict[str, RangeSet] = {name: RangeSet() for name in heard}
    space = Space(ends, every, None, [topology.instances[name] for name in heard])
    members = ends.resolve("any").members
    asked = [ends.resolve(name).members[0] for name in heard]
    for family in (4, 6):
        senders, receivers = space.ends_of(members, family, True), space.ends_of(asked, family, False)
        # Most are reached by somebody among a few: the others alone are asked about with everybody.
        for some in (senders[:: max(1, len(senders) // _FEW_SENDERS)], senders):
            left = [each for each in receivers if heard[each.instance or ""] - reached[each.instance or ""]]
            if not some or not left:
                continue
            space.prepare(receivers)
            kinds = space.kinds(family)
            words = np.zeros((len(left), kinds.words), dtype=np.uint64)
            for block in space.blocks(some, left, family):
                passed = np.where(block.there[..., None], block.outcome.answered, np.uint64(0))
                words[block.receivers] |= np.bitwise_or.reduce(passed, axis=1)
            for end, truths in zip(left, kinds.by_service(kinds.unpacked(words)), strict=True):
                open_ = [kinds.services[each] for each in np.flatnonzero(truths).tolist()]
                name = end.instance or ""
                reached[name] = reached[name] | RangeSet.of(pair for each in open_ for pair in each)
    alike: dict[RangeSet, list[str]] = {}
    for name, own in heard.items():
        shut = own - reached[name]
        if shut:
            alike.setdefault(shut, []).append(name)
    for shut, names in alike.items():
        texts = services_texts(shut)
        yield found("unallowed-listener", few(names), topology.instances[names[0]].place,
                    f"{'it listens' if len(names) == 1 else f'these {len(names)} listen'} to {few(texts)}, which"
                    " nobody at all can reach", "let in whom it is there for, or stop it",
                    check=f"kiboko reach {names[0]} --service {texts[0]} --doors")  # fmt: skip


def of_hosts(ends: Ends) -> Iterator[Finding]:
    """Hosts whose own filter alone stops whom a rule of their instance filter lets in by name."""
    topology, membership = ends.topology, ends.walker.membership
    asked: dict[tuple[str, str], tuple[Filter, Rule, list[Member]]] = {}
    for instance in topology.instances.values():
        for interface in instance.interfaces if instance.host_filter is not None else ():
            for chosen in membership.filters_on(interface) if interface.addresses else ():
                for rule in chosen.inbound or () if chosen.name in interface.filters else ():
                    is_named = rule.sources is not None and rule.services is not None
                    if rule.enabled and rule.action == ALLOW and is_named:
                        key = (chosen.name, rule.name)
                        asked.setdefault(key, (chosen, rule, []))[2].append(ends.resolve(instance.name).members[0])
    every = RangeSet.of(pair for _, rule, _ in asked.values() for pair in rule.services or ())
    if not asked:
        return
    space = Space(ends, every)
    for chosen, rule, members in list(asked.values())[:_MOST_ASKED]:
        senders = [member for item in rule.sources or () for member in _members_of(ends, item)]
        for family in (4, 6):
            near = space.ends_of(dict.fromkeys(senders), family, True)
            far = space.ends_of(dict.fromkeys(members), family, False)
            stopped: dict[Door, tuple[dict[str, None], dict[str, None]]] = {}
            for door, sender, receiver, services in single_doors(space, family, near, far):
                if door.gate == "host-in" and services & (rule.services or RangeSet()):
                    who, machines = stopped.setdefault(door, ({}, {}))
                    who[sender.outside or sender.instance or sender.name] = None
                    machines[receiver.instance or receiver.name] = None
            for door, (who, machines) in stopped.items():
                name = f"{chosen.name}/inbound/{rule.name}"
                place = door.place or topology.instances[next(iter(machines))].place
                here = few(list(machines))
                yield found("host-filter-against", f"{here}: {door.filter}/{door.rule}", place,
                            f"rule {name} lets in {few(list(who))} on {rule.service_text}, and the host filter of"
                            f" {here} alone stops it ({door.filter}/{door.rule})",
                            "let them in there too, or nowhere", others=((name, rule.place),))  # fmt: skip


def _members_of(ends: Ends, item: Named | Literal | Carrying) -> Iterator[Member]:
    """The ends that a rule names."""
    if isinstance(item, Named):
        yield from ends.resolve(item.name).members
    elif isinstance(item, Literal):
        yield from ends.block_end(item.text, item.addresses).members


# Replies through stateless filters.


def of_replies(walker: Walker, among: Collection[str] | None = None) -> Iterator[Finding]:
    """Stateless filters that let requests pass one way, and their replies not back the other, or only to some ports;
    `among` are the names of those looked at, None for all."""
    topology = walker.topology
    attached = {each.filter for each in topology.subnets.values()} | {
        each.filter for each in topology.outsides.values()
    }
    for chosen in topology.filters.values():
        if among is not None and chosen.name not in among:
            continue
        if chosen.stateful or chosen.layer != "subnet" or chosen.name not in attached:
            continue
        ways = [way for way in directions(chosen) if way]
        for way in ways:
            back = {"in": "out", "out": "in"}[way]
            if back in ways:
                yield from _of_replies(RuleList(walker, chosen, way), RuleList(walker, chosen, back))


def _of_replies(asked: RuleList, back: RuleList) -> Iterator[Finding]:
    """Each rule that lets TCP or UDP services pass, by the replies to what it alone decides."""
    clients = asked.walker.topology.defaults.ephemeral_ports
    for number, ready in enumerate(asked.rules):
        rule = ready.rule
        if rule.action != ALLOW or rule.source_ports is not None or asked.by_earlier[number] is not None:
            continue
        for protocol, word in ((TCP, "tcp"), (UDP, "udp")):
            if rule.services is None and protocol == UDP:
                continue  # who lets all pass means TCP first, and would be told of it twice
            named = _details(rule.services, protocol)
            ports = named - clients
            if not ports or (named & clients).size > _FEW_CLIENT_PORTS:
                continue  # what names the clients' own ports lets replies pass, and asks for none
            worst = min(_let_back(back, ready, protocol, ports, clients), key=lambda each: each[1].size)
            who, passed = worst
            if passed == clients:
                continue
            told = rule.service_text if rule.services is not None else word
            where = f"{back.filter.name}/{WAY_NAMES[back.way]}"
            to = "" if who is None else f" to {_who(who)}"
            if not passed:
                yield found("no-way-back", asked.name(rule), rule.place,
                            f"it lets {told} pass, and {where} lets no {word} reply back{to} to client ports {clients}",
                            f"allow {word}/{clients} in {where}")  # fmt: skip
            else:
                yield found("partial-way-back", asked.name(rule), rule.place,
                            f"it lets {told} pass, and {where} lets {word} replies back{to} to client ports {passed}"
                            f" only, of {clients}", f"allow {word}/{clients} in {where}")  # fmt: skip


def _details(services: RangeSet | None, protocol: int) -> RangeSet:
    """The ports of one protocol among some services."""
    if services is None:
        return RangeSet.span(1, 1023)
    whole = RangeSet.span(protocol << 16, protocol << 16 | 0xFFFF)
    return RangeSet.of((low & 0xFFFF, high & 0xFFFF) for low, high in services & whole)


def _let_back(
    back: RuleList, asked: ReadyRule, protocol: int, ports: RangeSet, clients: RangeSet
) -> Iterator[tuple[AddressSet | None, RangeSet]]:
    """Whoever asked, as far as the rules for replies tell them apart, and the client ports that replies from some ports
    may go back to; None where nothing tells them apart."""
    regions: list[AddressSet | None] = [asked.sources]
    for ready in back.rules:
        if ready.destinations is not None:
            regions = [*(part for each in regions for part in _split(each, ready.destinations))][:_MOST_REGIONS]
    for region in regions:
        left, passed = clients, RangeSet()
        for ready in back.rules:
            rule = ready.rule
            here = clients if rule.services is None else _details(rule.services, protocol)
            fits = rule.source_ports is None or bool(rule.source_ports & ports)
            to = ready.destinations is None or (region is not None and not region - ready.destinations)
            if fits and to and _meet(ready.sources, asked.destinations):
                if rule.action == ALLOW:
                    passed = passed | (here & left)
                left = left - here
        if back.filter.otherwise == ALLOW:
            passed = passed | left
        yield (region if len(regions) > 1 else None), passed & clients


_WHOLE = AddressSet(RangeSet.span(0, (1 << 32) - 1), RangeSet.span(0, (1 << 128) - 1))


def _who(region: AddressSet) -> str:
    """A region in words: by what is in it, or by what is not where that is shorter."""
    inside, outside = region.texts(), (_WHOLE - region).texts()
    return few(inside) if len(inside) <= len(outside) else f"all but {few(outside)}"


def _split(region: AddressSet | None, at: AddressSet) -> Iterator[AddressSet | None]:
    """A region in two: within some addresses and outside of them."""
    whole = _WHOLE if region is None else region
    yield from (part for part in (whole & at, whole - at) if part)


def _meet(one: AddressSet | None, other: AddressSet | None) -> bool:
    return one is None or other is None or bool(one & other)
