"""What gateways carry, and what they do not (clauses S26 to S29)."""

from __future__ import annotations

from kiboko.core.header.addresses import PRIVATE_USE, Address
from kiboko.core.network.directory import Directory
from kiboko.core.network.model import Outside, RouteEntry
from kiboko.core.routing.steps import UNREACHABLE, Stop
from kiboko.core.wording import all_of


def not_carried(
    directory: Directory, entry: RouteEntry, network: str | None, source: Address, destination: Address
) -> Stop | None:  # fmt: skip
    """Why the gateway of a route entry does not carry a packet, None where it does (S26, S28). `network` is that of the
    sender, None where its address tells."""
    gateway = directory.topology.gateways[entry.gateway or ""]
    from_network, to_network = directory.network_of(source), directory.network_of(destination)
    owner = network or (from_network.name if from_network else None)
    if gateway.kind == "peering":
        if (
            owner not in gateway.networks
            or to_network is None
            or to_network.name not in gateway.networks
            or to_network.name == owner
        ):
            return Stop(f"{entry}: {gateway.name} carries only {all_of(gateway.networks)}")
        if directory.subnet_of(destination) is None:
            return Stop(f"no subnet of {to_network.name} holds {destination}", UNREACHABLE, "no subnet", True)
        return None
    if owner not in gateway.networks:
        return Stop(f"{entry}: {gateway.name} carries only senders of {all_of(gateway.networks)}")
    if gateway.kind == "tunnel":
        outside = directory.outside_of(destination)
        if outside is None or outside.name != gateway.outside:
            return Stop(f"{entry}: {gateway.name} leads only to {gateway.outside}")
        return None
    is_led_to = gateway.kind == "internet" or destination.family == 4
    if to_network is not None and not (is_led_to and directory.is_global(destination)):
        told = f"{entry}: {gateway.name} does not lead to "
        return Stop(f"{told}a private block of {to_network.name}", of_entry=f"{told}private blocks")
    if gateway.kind == "nat" and destination.family == 6:
        return Stop(f"{entry}: IPv6 is not translated by {gateway.name}")
    if not is_public_of_ours(directory, destination) and directory.outside_holding(destination) is None:
        return Stop(directory.belongs_nowhere(destination, "network"), UNREACHABLE, "nowhere", True)
    return None


def is_public_of_ours(directory: Directory, address: Address) -> bool:
    """Whether a packet that has left by an internet gateway comes back in for an address (S29)."""
    return (
        directory.public_owner(address) is not None
        or directory.shared_owner(address) is not None
        or directory.network_of(address) is not None
    )


def no_way_in(directory: Directory, destination: Address, network: str, outside: Outside | None) -> str:
    """Why nothing leads from outside to an address of a network, in words (S27)."""
    if directory.is_global(destination):
        beyond = f" from {outside.name}" if outside else ""
        return f"{network} has no gateway to the internet, and no tunnel leads there{beyond}"
    owner = directory.interface_at(destination)
    if owner is None:
        why = "and nobody there has a public address"
    elif owner.public is not None:
        why = f"and {owner.name} is reached from outside at {owner.public}"
    else:
        why = f"and {owner.name} has no public address"
    if owner is None or owner.public is None:
        why += _where_it_is_public(destination, network)
    leads = f"no tunnel leads there from {outside.name}" if outside else "the internet does not lead there"
    return f"{destination} is private to {network}: {leads}, {why}"


def _where_it_is_public(address: Address, network: str) -> str:
    """What to write where an address that nothing says to be private is reached from outside as it is (S6)."""
    if address.family != 4 or address in PRIVATE_USE:
        return ""
    return f" (if its block is routed on the internet as it is, say so at {network}: 'public:')"
