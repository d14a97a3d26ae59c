"""Findings on what listens: rules that let in what nobody listens to, and machines that listen to what nobody can
reach."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np

from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.audit.scope import WHOLE, Scope
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, services_texts
from kiboko.core.network.model import ALLOW, Filter, Rule
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.members import Member
from kiboko.core.reachability.space import Space, SpaceEnd
from kiboko.core.spreading import Spread

_VERY_MANY = 1 << 16
"""As many services are more than a rule is about, and no listener is missed of them."""
_FEW_SENDERS = 200
_FEW_SETS = 10
"""As many sets of services that nobody can reach are told one by one."""
_MANY_PAIRS = 4_000_000
"""As many pairs take long enough that other processes help."""


def of_listeners(ends: Ends, scope: Scope = WHOLE, spread: Spread = map) -> Iterator[Finding]:
    """Rules that let in what nobody listens to, and machines that listen to what nobody can reach."""
    yield from _unserved(ends, scope)
    yield from of_unreached(ends, unreached(ends, scope, spread))


def _unserved(ends: Ends, scope: Scope) -> Iterator[Finding]:
    topology = ends.topology
    for chosen in topology.filters.values():
        if not scope.has_filter(chosen.name):
            continue
        carried_by = [(each.instance, Member(each.name, each.instance, (each,)))
                      for each in ends.walker.membership.carriers(chosen.name) if each.addresses]  # fmt: skip
        if not carried_by or any(
            topology.instances[who].listens is None or not topology.instances[who].running for who, _ in carried_by
        ):
            continue
        for rule in chosen.inbound or ():
            if rule.enabled and rule.action == ALLOW and rule.services is not None and not rule.established:
                to = ends.walker.membership.peer_addresses(rule.destinations)
                meant = [(who, member) for who, member in carried_by
                         if to is None or any(address in to for address in member.interfaces[0].addresses)]  # fmt: skip
                if meant:
                    yield from _unserved_rule(ends, chosen, rule, meant)


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


def unreached(ends: Ends, scope: Scope = WHOLE, spread: Spread = map) -> dict[str, RangeSet]:
    """The machines that listen at an address that others could reach to what nobody can, each with those services.
    `spread` has a function called with some items, as `map` does, perhaps by other processes."""
    heard = _heard(ends, scope)
    if not heard:
        return {}
    asking = _Asking(ends, heard)
    # Most are reached by somebody among a few: the others alone are asked about with everybody.
    for family in (4, 6):
        asking.note(asking.by_few(family))
    for reached in (spread if asking.is_much() else map)(asking.by_everybody, (4, 6)):
        asking.note(reached)
    return asking.left()


def reached_by(ends: Ends, senders: Sequence[Member], scope: Scope = WHOLE) -> dict[str, RangeSet]:
    """What some senders reach of what machines listen to, of each machine of which they reach anything."""
    heard = _heard(ends, scope) if senders else {}
    if not heard:
        return {}
    asking = _Asking(ends, heard, senders)
    found: dict[str, RangeSet] = {}
    for family in (4, 6):
        for name, services in asking.by_everybody(family).items():
            found[name] = found.get(name, RangeSet()) | (services & heard[name])
    return {name: services for name, services in found.items() if services}


def _heard(ends: Ends, scope: Scope) -> dict[str, RangeSet]:
    """What machines listen to at an address that others could reach, of those that run and are asked about."""
    heard: dict[str, RangeSet] = {}
    for instance in ends.topology.instances.values():
        if not scope.has_machine(instance.name):
            continue
        addresses = [address for interface in instance.interfaces for address in interface.addresses]
        own = scope.listened_to(instance.name, RangeSet.of(
            pair for each in instance.listens or () if any(each.accepts(address) for address in addresses)
            for pair in each.services
        ))  # fmt: skip
        if own and addresses and instance.running:
            heard[instance.name] = own
    return heard


class _Asking:
    """Asks who reaches some machines on what they listen to (`heard`): anybody, or one of some senders."""

    def __init__(self, ends: Ends, heard: dict[str, RangeSet], senders: Sequence[Member] | None = None) -> None:
        topology = ends.topology
        every = RangeSet.of(pair for own in heard.values() for pair in own)
        self._heard = heard
        self._reached = {name: RangeSet() for name in heard}
        self._space = Space(ends, every, None, [topology.instances[name] for name in heard])
        self._members = ends.resolve("any").members if senders is None else senders
        self._asked = [ends.resolve(name).members[0] for name in heard]
        self._ends: dict[int, tuple[list[SpaceEnd], list[SpaceEnd]]] = {}

    def left(self) -> dict[str, RangeSet]:
        """What nobody was found to reach, of each machine that has such."""
        return {name: shut for name, own in self._heard.items() if (shut := own - self._reached[name])}

    def note(self, reached: Mapping[str, RangeSet]) -> None:
        """Take in what is reached."""
        for name, services in reached.items():
            self._reached[name] = self._reached[name] | services

    def is_much(self) -> bool:
        """Whether asking about everybody takes long enough to be shared out."""
        return sum(len(senders) * len(self._of_left(family)) for family in (4, 6)
                   for senders in [self._of_family(family)[0]]) > _MANY_PAIRS  # fmt: skip

    def by_few(self, family: int) -> dict[str, RangeSet]:
        """What some senders reach, of each machine."""
        senders = self._of_family(family)[0]
        return self._by(senders[:: max(1, len(senders) // _FEW_SENDERS)], family)

    def by_everybody(self, family: int) -> dict[str, RangeSet]:
        """What all senders reach, of each machine of which something is left."""
        return self._by(self._of_family(family)[0], family)

    def _of_family(self, family: int) -> tuple[list[SpaceEnd], list[SpaceEnd]]:
        if family not in self._ends:
            space = self._space
            self._ends[family] = space.ends_of(self._members, family, True), space.ends_of(self._asked, family, False)
        return self._ends[family]

    def _of_left(self, family: int) -> list[SpaceEnd]:
        left = self.left()
        return [end for end in self._of_family(family)[1] if (end.instance or "") in left]

    def _by(self, senders: list[SpaceEnd], family: int) -> dict[str, RangeSet]:
        space, receivers = self._space, self._of_left(family)
        if not senders or not receivers:
            return {}
        space.prepare(self._of_family(family)[1])
        kinds = space.kinds(family)
        words = np.zeros((len(receivers), kinds.words), dtype=np.uint64)
        sends = kinds.sent_by([each.ports for each in senders])
        left = self.left()
        wanted = kinds.met_by([left[end.instance or ""] for end in receivers])
        for block in space.blocks(senders, receivers, family, kinds, wanted=wanted):
            answered = block.outcome.answered & sends[block.senders][None]
            passed = np.where(block.there[..., None], answered, np.uint64(0))
            words[block.receivers] |= np.bitwise_or.reduce(passed, axis=1)
        reached: dict[str, RangeSet] = {}
        for end, truths in zip(receivers, kinds.by_service(kinds.unpacked(words)), strict=True):
            name = end.instance or ""
            open_ = (pair for each in np.flatnonzero(truths).tolist() for pair in kinds.services[each])
            reached[name] = reached.get(name, RangeSet()) | RangeSet.of(open_)
        return reached


def of_unreached(ends: Ends, machines: Mapping[str, RangeSet]) -> Iterator[Finding]:
    """Machines that listen to what nobody can reach: those of the same services together, or all of the same service
    where that tells it in fewer words; of very many machines hardly two listen to the same."""
    topology = ends.topology
    alike: dict[RangeSet, list[str]] = {}
    for name, shut in machines.items():
        alike.setdefault(shut, []).append(name)
    told = list(alike.items())
    if len(told) > _FEW_SETS:
        told = min(told, _by_service(machines), key=len)
    for shut, names in sorted(told, key=lambda each: -len(each[1])):
        texts = services_texts(shut)
        yield found("unallowed-listener", few(names), topology.instances[names[0]].place,
                    f"{'it listens' if len(names) == 1 else f'these {len(names):,} listen'} to {few(texts)}, which"
                    " nobody at all can reach", "let in whom it is there for, or stop it",
                    check=f"kiboko reach {names[0]} --service {texts[0]} --doors", machines=names)  # fmt: skip


def _by_service(machines: Mapping[str, RangeSet]) -> list[tuple[RangeSet, list[str]]]:
    """The machines that listen to each service, those services together that the same ones listen to."""
    edges = sorted({edge for shut in set(machines.values()) for low, high in shut for edge in (low, high + 1)})
    place = {edge: number for number, edge in enumerate(edges)}
    listening: dict[int, list[str]] = {}
    for name, shut in machines.items():
        for low, high in shut:
            for number in range(place[low], place[high + 1]):
                listening.setdefault(number, []).append(name)
    together: dict[tuple[str, ...], list[tuple[int, int]]] = {}
    for number, who in sorted(listening.items()):
        together.setdefault(tuple(who), []).append((edges[number], edges[number + 1] - 1))
    return [(RangeSet.of(pairs), list(names)) for names, pairs in together.items()]
