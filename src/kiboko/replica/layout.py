"""What has to be made in the kernel: namespaces, cables, addresses, routes, rules. Plain values, nothing done yet."""

from __future__ import annotations

from dataclasses import dataclass, field

BASE_SETTINGS = (
    "net/ipv4/conf/all/rp_filter=0", "net/ipv4/conf/default/rp_filter=0", "net/ipv4/icmp_ratelimit=0",
    "net/ipv6/icmp/ratelimit=0", "net/ipv4/icmp_msgs_per_sec=100000", "net/ipv4/icmp_msgs_burst=100000",
    "net/ipv6/conf/all/accept_dad=0", "net/ipv6/conf/default/accept_dad=0", "net/ipv6/conf/all/accept_ra=0",
    "net/ipv6/conf/default/accept_ra=0", "net/ipv4/fwmark_reflect=1", "net/ipv6/fwmark_reflect=1",
    "net/netfilter/nf_conntrack_tcp_be_liberal=1", "net/ipv4/conf/all/accept_local=1",
    "net/ipv4/conf/all/send_redirects=0", "net/ipv4/conf/default/send_redirects=0",
    "net/ipv4/ip_local_port_range=61000 65535", "net/bridge/bridge-nf-call-iptables=0",
    "net/bridge/bridge-nf-call-ip6tables=0", "net/bridge/bridge-nf-call-arptables=0",
)  # fmt: skip
LOG_GROUP = 7
"""The netlink log group that taps write to, in each namespace its own."""
FORWARDING = ("net/ipv4/ip_forward=1", "net/ipv6/conf/all/forwarding=1")


@dataclass(slots=True)
class Machine:
    """One namespace: its `ip` commands for each family, settings, rules, and what listens in it.

    `host_rules` names the listing of the machine's own rule set, in which the interfaces of `renamed` bear the
    names that they have here. `client_ports` are those that a connection made inside by hand comes from.
    `listeners` are `(protocol, address, port)` with an empty address for all of IPv4 and `::` for all of IPv6.
    """

    name: str
    role: str
    forwards: bool = False
    commands: list[str] = field(default_factory=list)
    commands4: list[str] = field(default_factory=list)
    commands6: list[str] = field(default_factory=list)
    rules: list[str] = field(default_factory=list)
    host_rules: str | None = None
    renamed: dict[str, str] = field(default_factory=dict)
    client_ports: tuple[int, int] | None = None
    listeners: list[tuple[str, str, int]] = field(default_factory=list)

    def route(self, to: str, how: str, table: int | None = None) -> None:
        """Add a route: `how` is `via A dev D`, `dev D`, or empty for a `kind` such as blackhole in `to`."""
        where = f" table {table}" if table is not None else ""
        self.family(":" in to).append(f"route replace {to} {how}{where}".replace("  ", " "))

    def both(self, command: str) -> None:
        """Add a command to both families."""
        self.commands4.append(command)
        self.commands6.append(command)

    def family(self, six: bool) -> list[str]:
        """The commands of one family."""
        return self.commands6 if six else self.commands4


@dataclass(frozen=True, slots=True)
class Cable:
    """A veth pair between two namespaces, with the hardware address of each end."""

    one: str
    one_device: str
    one_mac: str
    other: str
    other_device: str
    other_mac: str


@dataclass(frozen=True, slots=True)
class ReplicaEnd:
    """One end of a point-to-point cable: its device, and the far end's addresses as next hops."""

    device: str
    far4: str
    far6: str

    def via(self, six: bool) -> str:
        """The way to the far end."""
        return f"via {self.far6 if six else self.far4} dev {self.device} onlink"


@dataclass(frozen=True, slots=True)
class Tap:
    """Where packets are logged: which observation point, None where the network file names none, and whether the
    packet is `passed` there or only seen."""

    point: str | None
    passed: bool


@dataclass(slots=True)
class Layout:
    """The whole replica."""

    machines: dict[str, Machine] = field(default_factory=dict)
    cables: list[Cable] = field(default_factory=list)
    homes: dict[str, str] = field(default_factory=dict)
    """Which machine an instance or outside is, by its name."""
    outside_addresses: dict[str, list[str]] = field(default_factory=dict)
    """The addresses that stand for each outside."""
    taps: list[Tap] = field(default_factory=list)
    """What the number in a log prefix stands for."""
    tapped: dict[str, None] = field(default_factory=dict)
    """The machines that log packets, by name."""

    def log(self, machine: Machine, point: str | None, passed: bool) -> str:
        """The statement that logs a packet at a new tap of a machine."""
        self.taps.append(Tap(point, passed))
        self.tapped[machine.name] = None
        return f'log prefix "{len(self.taps) - 1}" group {LOG_GROUP} snaplen 128 queue-threshold 1'

    def machine(self, name: str, role: str, forwards: bool = False) -> Machine:
        """Make a machine."""
        made = self.machines[name] = Machine(name, role, forwards)
        return made

    def mac(self) -> str:
        """A hardware address of our own that is not used yet (locally administered, IEEE 802)."""
        number = 2 * len(self.cables)
        return f"02:6b:{number >> 24 & 255:02x}:{number >> 16 & 255:02x}:{number >> 8 & 255:02x}:{number & 255:02x}"

    def plug(self, one: Machine, one_device: str, other: Machine, other_device: str) -> Cable:
        """Lay a cable."""
        first = self.mac()
        second = first[:-2] + f"{int(first[-2:], 16) | 1:02x}"
        made = Cable(one.name, one_device, first, other.name, other_device, second)
        self.cables.append(made)
        one.commands.append(f"link set {one_device} up")
        other.commands.append(f"link set {other_device} up")
        return made

    def join(self, one: Machine, one_device: str, other: Machine, other_device: str) -> tuple[ReplicaEnd, ReplicaEnd]:
        """Lay a cable between two routers, with an address at each end."""
        number = len(self.cables)
        cable = self.plug(one, one_device, other, other_device)
        four = f"100.127.{number >> 6}.{(number & 63) * 4}"
        base = four.rpartition(".")[0]
        low = int(four.rpartition(".")[2])
        a4, b4 = f"{base}.{low + 1}", f"{base}.{low + 2}"
        a6, b6 = f"fd7f:7f7f:0:{number:x}::1", f"fd7f:7f7f:0:{number:x}::2"
        one.commands += [f"addr add {a4}/30 dev {one_device}", f"addr add {a6}/64 dev {one_device} nodad"]
        other.commands += [f"addr add {b4}/30 dev {other_device}", f"addr add {b6}/64 dev {other_device} nodad"]
        # The kernel keeps what it learns of neighbours in one small table for all namespaces (arp(7)).
        one.commands += [
            f"neigh replace {far} lladdr {cable.other_mac} dev {one_device} nud permanent" for far in (b4, b6)
        ]
        other.commands += [
            f"neigh replace {far} lladdr {cable.one_mac} dev {other_device} nud permanent" for far in (a4, a6)
        ]
        return ReplicaEnd(one_device, b4, b6), ReplicaEnd(other_device, a4, a6)
