"""A host's own kernel rule set as values, as the file reader makes them of what `nft -j list ruleset` prints
(schema: libnftables-json(5)). What a rule set decides is for `kiboko.core.filters.host_judge`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import EMPTY, RangeSet

OF_IPTABLES = "of iptables"
"""What the text ends with of a condition or a target that iptables made: a listing has the name alone."""
DEVICE_FIELDS = frozenset(("iif", "iifname", "oif", "oifname"))
"""The fields that name the device by which a packet comes in or goes out."""
PRESENCE = "presence"
"""Of an extension header of IPv6, whether it is there, 1 or 0."""
WAY_BACK = ("fib", "way back")
"""Whether the machine's routes lead back to a packet's source by the interface that it came in by, 1 or 0."""
LISTED_WHOLE = (
    "nft list ruleset | sed -E 's/xt match ([a-z0-9]+)/ct helper \"xt-\\1\"/g' > rules.nft"
    " && unshare -rn sh -c 'nft -f rules.nft && nft -j list ruleset'"
)
"""The commands that list such rules as nftables would have made them. What it has no word for is listed as a condition
on the name of a helper, `xt-NAME`; a target that it has no word for makes them fail."""
BESIDE_NFTABLES = "what a machine keeps beside nftables (by iptables-legacy, eBPF or tc) is in no listing of this"
"""What is to be thought of where a listing stops nothing."""


@dataclass(frozen=True, slots=True)
class Unjudged:
    """A statement that does to the packet what Kiboko does not judge (translation, queueing), as text: what becomes of
    a packet that meets it is not known.

    `diverts` tells whether the packet may go elsewhere by it, be answered by somebody else, or get other addresses or
    ports, so that nothing is known either of what it meets on its further way.
    """

    text: str
    diverts: bool = False


@dataclass(frozen=True, slots=True)
class Unclear:
    """A condition that Kiboko does not judge, as text: the rule may match or not. Where the packet has not one of the
    `fields` that it looks at, it surely does not."""

    text: str
    fields: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Values:
    """The right side of a match: numbers as ranges, or names (interfaces, connection states).

    With a `mask` only those bits of the field are compared, as of `tcp flags` and `ct status`.
    """

    numbers: RangeSet = EMPTY
    names: frozenset[str] = frozenset()
    mask: int | None = None


@dataclass(frozen=True, slots=True)
class Match:
    """A comparison of one or several packet fields with a list of value tuples, joined by or.

    `fields` are pairs such as `("ip", "saddr")`; each alternative has one `Values` for each field.
    """

    fields: tuple[tuple[str, str], ...]
    alternatives: tuple[tuple[Values, ...], ...]
    negated: bool = False


@dataclass(frozen=True, slots=True)
class Verdict:
    """`accept`, `drop`, `reject`, `return`, `continue`, or `jump`/`goto` to the chain `target`.

    `icmp` tells what a reject sends: the code of an ICMP destination unreachable (RFC 792) and of an ICMPv6 one
    (RFC 4443), or None for a TCP reset. `untold` is the statement as text where that is not known.
    """

    kind: str
    target: str = ""
    icmp: tuple[int, int] | None = None
    untold: str = ""


@dataclass(frozen=True, slots=True)
class VerdictMap:
    """`vmap`: the verdict of the first alternative that matches."""

    fields: tuple[tuple[str, str], ...]
    entries: tuple[tuple[tuple[Values, ...], Verdict], ...]


Statement = Match | Verdict | VerdictMap | Unjudged | Unclear


@dataclass(frozen=True, slots=True)
class HostRule:
    """One rule: its comment or handle as name, its statements in order, and what its counter has counted, packets and
    octets, None without one."""

    name: str
    statements: tuple[Statement, ...]
    counted: tuple[int, int] | None = None

    @property
    def action(self) -> str:
        """What it does with a packet that matches: the kind of its last verdict."""
        verdicts = [each.kind for each in self.statements if isinstance(each, Verdict)]
        return verdicts[-1] if verdicts else "map" if any(isinstance(s, VerdictMap) for s in self.statements) else "-"

    @property
    def conditions(self) -> str:
        """What a packet has to be like that meets its verdict, as text."""
        return " ".join(statement_text(s) for s in self.statements if not isinstance(s, Verdict)) or "anything"

    def __str__(self) -> str:
        return " ".join(statement_text(each) for each in self.statements) or "nothing"


def statement_text(statement: Statement) -> str:
    """A statement in the words that nft(8) prints, as far as it was read."""
    if isinstance(statement, Unjudged | Unclear):
        return f"[{statement.text}]"
    if isinstance(statement, Verdict):
        return f"{statement.kind} {statement.target}".rstrip()
    fields = " . ".join(_field_text(*each) for each in statement.fields)
    if isinstance(statement, VerdictMap):
        entries = ", ".join(f"{_joined(statement.fields, each)} : {statement_text(verdict)}"
                            for each, verdict in statement.entries)  # fmt: skip
        return f"{fields} vmap {{{entries}}}"
    listed = [_joined(statement.fields, each) for each in statement.alternatives]
    right = listed[0] if len(listed) == 1 and "," not in listed[0] else f"{{{', '.join(listed)}}}"
    return f"{fields} {'!= ' if statement.negated else ''}{right}"


def _field_text(protocol: str, name: str) -> str:
    return name if protocol == "meta" else f"{protocol} {name}"


def _joined(fields: tuple[tuple[str, str], ...], values: tuple[Values, ...]) -> str:
    return " . ".join(_values_text(*pair) for pair in zip(fields, values, strict=True))


def _values_text(field: tuple[str, str], values: Values) -> str:
    if values.names:
        return ", ".join(sorted(values.names))
    numbers = str(values.numbers)
    if field[1] in ("saddr", "daddr"):
        numbers = str(AddressSet(v6=values.numbers) if field[0] == "ip6" else AddressSet(v4=values.numbers))
    return numbers if values.mask is None else f"& {values.mask} == {numbers}"


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain of a table; a base chain has a hook, a type, a priority and a policy.

    `label` is its name where no other chain of the rule set bears it, else that with its family and table. `sleeps`
    tells whether its table is dormant, so that the kernel asks none of its chains (nft(8), TABLES); None where the
    listing does not say.
    """

    family: str
    table: str
    name: str
    rules: tuple[HostRule, ...] = ()
    hook: str | None = None
    type: str | None = None
    priority: int = 0
    policy: str = "accept"
    label: str = ""
    sleeps: bool | None = False

    @property
    def shown(self) -> str:
        """What tells it apart from every other chain of its rule set."""
        return self.label or self.name

    @property
    def is_foreign(self) -> bool:
        """Whether it is hooked where IP packets are not judged as such, and could still stop them."""
        return self.hook in ("ingress", "egress") and (bool(self.rules) or self.policy != "accept")


@dataclass(frozen=True, slots=True)
class HostRuleSet:
    """A whole rule set and the file it was listed in. `tracked` are the address families, 4 and 6, of which something
    in it has the kernel track connections: chains of type nat are asked nothing where nothing does."""

    file: str
    chains: tuple[Chain, ...]
    by_name: Mapping[tuple[str, str, str], Chain] = field(default_factory=dict)
    tracked: tuple[int, ...] = (4, 6)

    def with_chains(self, chains: tuple[Chain, ...]) -> HostRuleSet:
        """The same with other chains."""
        by_name = {(each.family, each.table, each.name): each for each in chains}
        return HostRuleSet(self.file, chains, by_name, self.tracked)

    @property
    def filters_nothing(self) -> bool:
        """Whether no chain of it can stop a packet: as where a machine's filter is kept beside nftables."""
        return not any(
            each.hook and not each.sleeps and (each.rules or each.policy != "accept") for each in self.chains
        )

    def looks_at(self, protocol: str, name: str) -> bool:
        """Whether any rule of it compares a field with something."""
        return any((protocol, name) in statement.fields for chain in self.chains for rule in chain.rules
                   for statement in rule.statements if isinstance(statement, Match | VerdictMap))  # fmt: skip

    @property
    def caveat(self) -> str | None:
        """What is to be borne in mind of a listing that stops nothing; None of one that stops something."""
        return f"{self.file} filters nothing: {BESIDE_NFTABLES}" if self.filters_nothing else None

    @property
    def meaning(self) -> tuple[object, ...]:
        """All of it but its file and what its counters counted: rule sets of one meaning decide alike, by rules of the
        same names."""
        chains = tuple(
            (each.family, each.table, each.name, each.hook, each.type, each.priority, each.policy, each.label,
             each.sleeps, tuple((rule.name, rule.statements) for rule in each.rules))
            for each in self.chains
        )  # fmt: skip
        return (self.tracked, *chains)
