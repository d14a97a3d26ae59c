"""Which filters' rules may be asked about a reply: the state that requests leave lets most replies back unasked.

Only what these tell apart matters of a client's port, which is the service of the reply (clauses S18 to S22).
"""

from __future__ import annotations

from collections.abc import Iterator

from kiboko.core.filters.ground import Ground
from kiboko.core.header.addresses import Address
from kiboko.core.network.model import Network, Subnet
from kiboko.core.routing.routes import Router


def asked_of_replies(ground: Ground) -> frozenset[str]:
    """The filters whose rules may judge a reply; of a host's kernel rule set that is never known.

    These are the filters that do not keep the state of everything they let pass, alone or with others of one `any` set,
    and those of crossings back from one that such a filter judges. Where a reply may take another way than its request,
    it is all filters there: where an appliance passes packets on, its own, those of its subnets, and those of crossings
    from or to the zones that it or its users are in; where networks send IPv6 to one another by a peering and get it
    back through the internet, those of crossings from or to outside zones. Left out is what a route or a gateway stops:
    where no request arrives or no reply comes back, nothing hangs on what rules say of the reply.
    """
    return frozenset((*_stateless(ground), *_beside_appliances(ground), *_round_by_the_internet(ground)))


def _stateless(ground: Ground) -> Iterator[str]:
    filters = ground.topology.filters
    lax = {
        name for name, each in filters.items()
        if not each.stateful or any(rule.stateful is False for rule in each.every_rule())
    }  # fmt: skip
    yield from lax
    carried = {ground.membership.filter_names_on(each) for each in ground.directory.interfaces()}
    for names in carried:
        together = [name for name in names if filters[name].decide == "any"]
        if not lax.isdisjoint(together):
            yield from together
    back = {(each.destination, each.source) for each in ground.topology.crossings if each.filter in lax}
    yield from (each.filter for each in ground.topology.crossings if (each.source, each.destination) in back)


def _beside_appliances(ground: Ground) -> Iterator[str]:
    topology = ground.topology
    tables = {
        name: {entry.instance for entry in table.entries if entry.instance is not None}
        for name, table in topology.route_tables.items()
    }
    appliances = [topology.instances[name] for name in set().union(*tables.values())]
    around = {each.subnet for appliance in appliances for each in appliance.interfaces}
    for appliance in appliances:
        for interface in appliance.interfaces:
            yield from ground.membership.filter_names_on(interface)
        if isinstance(appliance.host_filter, str):
            yield appliance.host_filter
    zones: set[str | None] = set()
    for name, subnet in topology.subnets.items():
        if name in around and subnet.filter is not None:
            yield subnet.filter
        if name in around or tables.get(subnet.route_table or ""):
            zones.add(subnet.zone)
    for crossing in topology.crossings:
        if not zones.isdisjoint((crossing.source, crossing.destination)):
            yield crossing.filter


def _round_by_the_internet(ground: Ground) -> Iterator[str]:
    """What is not translated (IPv6, public blocks) and went by a peering may come back by the internet (clause S26)."""
    topology = ground.topology
    router = Router(ground.directory)
    ways: dict[frozenset[str], set[bool]] = {}
    for subnet in {(each.route_table, each.network): each for each in topology.subnets.values()}.values():
        for network in topology.networks.values():
            pair = frozenset((subnet.network, network.name))
            ways.setdefault(pair, set()).update(_is_by_internet(ground, router, subnet, network))
    if any(len(each) > 1 for each in ways.values()):
        beyond = {each.zone for each in topology.outsides.values()}
        yield from (
            each.filter for each in topology.crossings if not beyond.isdisjoint((each.source, each.destination))
        )


def _is_by_internet(ground: Ground, router: Router, subnet: Subnet, network: Network) -> Iterator[bool]:
    """Whether what a subnet sends to a network's public addresses goes by an internet gateway, for each part of its
    blocks."""
    topology = ground.topology
    entries = topology.route_tables[subnet.route_table].entries if subnet.route_table else ()
    for block in (*network.blocks, *network.public):
        family = block.family
        if ground.directory.is_global(Address(family, block.value)):
            edges = {edge for each in entries if each.to.family == family for edge in (each.to.value, each.to.last + 1)}
            for edge in {block.value, *(each for each in edges if block.value <= each <= block.last)}:
                entry = router.look_up(subnet, Address(family, edge)).entry
                gateway = topology.gateways.get(entry.gateway or "") if entry is not None else None
                if entry is not None:
                    yield gateway is not None and gateway.kind == "internet"
