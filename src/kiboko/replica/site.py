"""What all parts of the replica's layout share: the layout so far, and who is joined to what."""

from __future__ import annotations

from collections.abc import Iterable

from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address, Prefix, is_global_ipv6
from kiboko.core.network.model import Gateway, Instance, Interface, Outside, RouteEntry, Subnet, Topology
from kiboko.replica.faults import Fault, as_built, blocked_senders, unenforced
from kiboko.replica.kernel_rules import ROUTERS4
from kiboko.replica.layout import Layout, Machine, ReplicaEnd
from kiboko.replica.part import Part, whole
from kiboko.replica.peers import Peers

GATEWAY4, GATEWAY6 = "100.127.255.254", "fd7f:7f7f:ffff::1"
ROUTER_MAC = "02:6b:ff:ff:ff:fe"
ARRIVING = 90  # the table of what comes in to a subnet: delivered, no entry of its own table is asked (S26)
NEIGHBOUR_DISCOVERY = "icmpv6 type { 133-137 } return"
_FIRST_TABLE = 1000  # those from 253 to 255 are the kernel's own
_RANK = {"static": 0, "learned": 1, "connected": 2}


class Site:
    """The state of one layout, and the questions that several of its parts ask."""

    def __init__(
        self,
        topology: Topology,
        services: list[tuple[str, int]],
        faults: tuple[Fault, ...] = (),
        tapping: bool = False,
        part: Part | None = None,
    ) -> None:
        self.topology = as_built(topology, faults)
        self.peers = Peers(self.topology)
        part = part or whole(topology)
        self.instances = part.instances_of(self.topology)
        """Those that are built; so with `subnets`."""
        self.subnets = part.subnets_of(self.topology)
        self.services = services
        self.unenforced = unenforced(faults)
        self.blocked_senders = blocked_senders(faults)
        self.tapping = tapping
        self.layout = Layout()
        self.core = self.layout.machine("core", "core", forwards=True)
        self.internet = self.layout.machine("net", "the internet", forwards=True)
        self.routers: dict[str, Machine] = {}
        self.local_link: dict[str, ReplicaEnd] = {}
        self.zone_of_device: dict[str, str | None] = {}
        self.public_devices: list[str] = []
        self.table = _FIRST_TABLE
        self.source_rules: list[str] = []
        self.mark_rules: list[str] = []
        self.uplinks: dict[str, dict[str, ReplicaEnd]] = {}
        self.gateway_link: dict[str, ReplicaEnd] = {}
        self.gateway_machines: dict[str, Machine] = {}
        self.tunnels: dict[str, ReplicaEnd] = {}
        self.pending_local: list[tuple[str, int]] = []
        self.neighbours: dict[str, list[tuple[str, str, str, str]]] = {}

    def check_ranges(self) -> None:
        """Refuse a network whose addresses the replica needs for itself. Raises UsageError."""
        own = Prefix(4, int.from_bytes(bytes((100, 127, 0, 0)), "big"), 16)
        for network in self.topology.networks.values():
            for block in network.blocks:
                if block.overlaps(own):
                    raise UsageError(
                        f"network {network.name} uses {block}; the replica needs {ROUTERS4} for its own routers"
                    )

    def client_ports(self, end: Instance | Outside) -> tuple[int, int]:
        """The first range of the client ports that the network file gives a machine (S23)."""
        low, high = (end.ephemeral_ports or self.topology.defaults.ephemeral_ports).ranges[0]
        return low, high

    def next_table(self) -> int:
        """A routing table that is not used yet."""
        self.table += 1
        return self.table

    def uplink(self, subnet: Subnet, kind: str, number: int) -> tuple[ReplicaEnd, ReplicaEnd]:
        """A cable from a subnet's router to the core; its device at the core belongs to the subnet's zone."""
        router = self.routers[subnet.name]
        device = f"c{len(self.zone_of_device)}"
        made = self.layout.join(router, f"u{number}", self.core, device)
        self.zone_of_device[device] = subnet.zone
        router.both(f"rule add iif u{number} lookup {ARRIVING} priority {50 + number}")
        if kind == "local":
            self.uplinks.setdefault(subnet.name, {})["local"] = made[0]
            self.route_in(device, (subnet.network,))
        return made

    def route_in(self, device: str, networks: Iterable[str]) -> None:
        """What comes in over a device is delivered locally; no table of the networks is asked (S26)."""
        table = self.next_table()
        self.core.both(f"rule add iif {device} lookup {table} priority {table}")
        for every in ("0.0.0.0/0", "::/0"):
            self.core.route(f"blackhole {every}", "", table)
        self.pending_local += [(network, table) for network in networks]

    def local_routes(self, network: str, table: int) -> None:
        """The core delivers to the subnets of a network; what lies between them is unreachable."""
        for block in self.topology.networks[network].blocks:
            self.core.route(f"unreachable {block}", "", table)
        for subnet in self.subnets:
            if subnet.network == network:
                for block in subnet.blocks:
                    self.core.route(str(block), self.local_link[subnet.name].via(block.family == 6), table)

    def winners(self, subnet: Subnet) -> dict[Prefix, RouteEntry | None]:
        """The entry that wins for each prefix of a subnet's table; None is local (S25)."""
        found: dict[Prefix, RouteEntry | None] = dict.fromkeys(self.topology.networks[subnet.network].blocks)
        entries = self.topology.route_tables[subnet.route_table].entries if subnet.route_table else ()
        for entry in sorted(entries, key=lambda each: -_RANK[each.origin]):
            found[entry.to] = entry
        return found

    def next_hop(self, entry: RouteEntry) -> Interface:
        """The interface that a route by an instance leads to (S30)."""
        instance = self.topology.instances[entry.instance or ""]
        if entry.interface is not None:
            return next(each for each in instance.interfaces if each.name == entry.interface)
        return next((i for i in instance.interfaces if i.address(entry.to.family)), instance.interfaces[0])

    def first_internet(self, network: str) -> Gateway | None:
        """The network's first internet gateway, which owns its public addresses."""
        return next(
            (g for g in self.topology.gateways.values() if g.kind == "internet" and network in g.networks), None
        )

    def public_blocks(self, network: str) -> list[Prefix]:
        """The blocks of a network that are reached from outside as they are (S6), by its first internet gateway."""
        known = self.topology.networks[network]
        six = [block for block in known.blocks if block.family == 6 and is_global_ipv6(Address(6, block.value))]
        return [*six, *known.public]

    def interfaces_of(self, network: str) -> list[Interface]:
        """The interfaces in a network, of instances that are built."""
        subnets = {each.name for each in self.subnets if each.network == network}
        return [i for each in self.instances for i in each.interfaces if i.subnet in subnets]


def base_chain(name: str, hook: str, priority: int, body: list[str]) -> list[str]:
    """A chain at a hook of the kernel, which lets through what it does not stop."""
    return [f"chain {name} {{ type filter hook {hook} priority {priority}; policy accept;", *body, "}"]


def chain(name: str, body: list[str]) -> list[str]:
    """A chain that others jump to."""
    return [f"chain {name} {{", *body, "}"]
