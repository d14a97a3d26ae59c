"""From a network file to a layout: which namespaces, how joined, how routed.

Every instance is a machine. Every subnet has a router, where its filter and its route table are; a cable of its
own leads from there to the core for each kind of next hop, so that the core knows which one was chosen. The core has
the zone filters and hands on what gateways, peerings and tunnels carry. Gateways translate; the machine `net` is the
internet between gateways and outsides; each outside is a machine with its filter at its own edge.
"""

from __future__ import annotations

from kiboko.core.network.model import Topology
from kiboko.replica.crossings import add_core
from kiboko.replica.faults import Fault
from kiboko.replica.gateways import add_gateway, add_internet_routes, add_outside
from kiboko.replica.instances import add_instance
from kiboko.replica.layout import Layout
from kiboko.replica.part import Part
from kiboko.replica.site import Site
from kiboko.replica.subnets import add_router, add_routes
from kiboko.replica.taps import add_taps


def lay_out(
    topology: Topology,
    services: list[tuple[str, int]],
    outside_addresses: dict[str, list[str]],
    faults: tuple[Fault, ...] = (),
    tapping: bool = False,
    part: Part | None = None,
) -> Layout:
    """The layout of a network; `services` are the `(protocol, port)` pairs that machines whose listeners are not
    known answer on, `outside_addresses` the addresses that stand for each outside. `faults` are put in; `tapping`
    has the observation points log packets; `part` is what is built, None all of it."""
    site = Site(topology, services, faults, tapping, part)
    site.layout.outside_addresses = outside_addresses
    site.check_ranges()
    for index, subnet in enumerate(site.subnets):
        site.routers[subnet.name] = site.layout.machine(f"s{index}", f"router of {subnet.name}", forwards=True)
        add_router(site, subnet)
    for index, gateway in enumerate(site.topology.gateways.values()):
        if gateway.kind in ("internet", "nat"):
            add_gateway(site, f"g{index}", gateway)
    for index, outside in enumerate(site.topology.outsides.values()):
        add_outside(site, f"o{index}", outside)
    for index, instance in enumerate(site.instances):
        add_instance(site, f"i{index}", instance)
    for subnet in site.subnets:
        add_routes(site, subnet)
    add_core(site)
    add_internet_routes(site)
    if tapping:
        add_taps(site)
    return site.layout
