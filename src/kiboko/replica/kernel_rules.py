"""Filters of the network file as rules of the kernel's packet filter, in nft(8) notation.

Each attachment is a chain of its own, entered by a jump: `allow` returns from it, so that the next attachment
is asked. State is kept for each attachment by a bit of the connection's mark, since one connection-tracking entry
serves all chains of a namespace (S18). A packet in the connection's own direction is always asked by the rules; one
in the reply's direction passes if the attachment's bit is set.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from kiboko.core.header.addresses import AddressSet, range_text
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import ICMP, ICMP6, PROTOCOL_NAMES, TCP, WITH_PORTS
from kiboko.core.network.model import Filter, Rule
from kiboko.replica.peers import Peers

ROUTERS4, ROUTERS6 = "100.127.0.0/16", "fd7f:7f7f::/32"
"""Addresses of the replica's own routers: a refusal from one matches only rules that name no address, or all (S34)."""

REJECT = ("meta l4proto tcp reject with tcp reset", "reject with icmpx port-unreachable")


def verdict_lines(match: str, action: str) -> list[str]:
    """A rule's lines: `allow` returns, `reject` is a reset for TCP and port unreachable for the rest (S33)."""
    lead = f"{match} " if match else ""
    if action == "allow":
        return [f"{lead}return"]
    if action == "drop":
        return [f"{lead}drop"]
    return [f"{lead}{each}" for each in REJECT]


def rule_matches(peers: Peers, rule: Rule) -> Iterator[str]:
    """The nft matches that together are one rule: one for each family and kind of service."""
    sources, destinations = peers.of(rule.sources), peers.of(rule.destinations)
    for addresses in _address_matches(sources, destinations):
        for service in _service_matches(rule):
            flags = "tcp flags & (ack | rst) != 0x0" if rule.established else ""
            yield " ".join(each for each in (addresses, service, flags) if each)


def _address_matches(sources: AddressSet | None, destinations: AddressSet | None) -> Iterator[str]:
    if sources is None and destinations is None:
        yield ""
        return
    for family, keyword, routers in ((4, "ip", ROUTERS4), (6, "ip6", ROUTERS6)):
        parts = []
        for side, chosen in (("saddr", sources), ("daddr", destinations)):
            if chosen is not None:
                ranges = chosen.family(family)
                if not ranges:
                    break
                texts = ", ".join(_interval(family, low, high) for low, high in ranges)
                parts.append(f"{keyword} {side} {{ {texts} }}")
        else:
            # A router's own address matches no `from` that names one, but for one that names all (S34).
            named = sources is not None and not sources.is_whole(family)
            yield " ".join([f"{keyword} saddr != {routers}"] * named + parts)


def _interval(family: int, low: int, high: int) -> str:
    return range_text(family, low, high)


def _service_matches(rule: Rule) -> Iterator[str]:
    client = rule.source_ports
    if rule.services is None:
        if client is None:
            yield ""
        else:
            for protocol in (TCP,) if rule.established else sorted(WITH_PORTS):
                yield f"{PROTOCOL_NAMES[protocol]} sport {_ports(client)}"
        return
    whole: list[tuple[int, int]] = []
    for protocol in sorted({each for low, high in rule.services for each in range(low >> 16, (high >> 16) + 1)}):
        base = protocol << 16
        details = RangeSet(tuple((a - base, b - base) for a, b in rule.services & RangeSet.span(base, base | 0xFFFF)))
        if protocol in WITH_PORTS:
            name = PROTOCOL_NAMES[protocol]
            ports = "" if details.size == 65536 else f"{name} dport {_ports(details)} "
            yield (ports + (f"{name} sport {_ports(client)}" if client else "")).strip() or f"meta l4proto {protocol}"
        elif client is None and protocol in (ICMP, ICMP6) and details.size < 65536:
            yield from _icmp(protocol, details)
        elif client is None:
            whole.append((protocol, protocol))
    for low, high in RangeSet.of(whole):
        yield f"meta l4proto {low}-{high}" if low != high else f"meta l4proto {low}"


def _ports(ports: RangeSet) -> str:
    return "{ " + ", ".join(ports.texts()) + " }"


def _icmp(protocol: int, details: RangeSet) -> Iterator[str]:
    name = "icmp" if protocol == ICMP else "icmpv6"
    for low, high in details:
        for kind in range(low >> 8, (high >> 8) + 1):
            first, last = max(low, kind << 8) & 255, min(high, kind << 8 | 255) & 255
            codes = (
                ""
                if (first, last) == (0, 255)
                else f" {name} code {first}-{last}"
                if first != last
                else f" {name} code {first}"
            )
            yield f"{name} type {kind}{codes}"


def rules_of(chosen: Filter, way: str) -> tuple[Rule, ...] | None:
    """The rules of one direction; None where the filter does not name it (S13)."""
    if chosen.rules is not None:
        return chosen.rules
    return chosen.inbound if way == "in" else chosen.outbound


def first_chain(peers: Peers, chosen: Filter, way: str, bit: int | None, reply_bit: int | None = None) -> list[str]:
    """The body of a chain for one `decide: first` filter in one direction (S11, S13, S17).

    `bit` is the attachment's mark where the filter keeps state. In zone filters a rule may differ, so that there the
    bit is set rule by rule; there `reply_bit` is the bit of the crossing the other way round (S22).
    """
    rules = rules_of(chosen, way)
    lines = []
    by_rule = chosen.layer == "zone"
    back = reply_bit if by_rule else bit
    if back is not None:
        lines.append(let_back(back))
    if bit is not None and chosen.stateful and not by_rule:
        lines.append(mark(bit))
    if rules is None:
        return [*lines, "return"]
    for rule in sorted((rule for rule in rules if rule.enabled), key=lambda rule: rule.order):
        keeps = chosen.stateful if rule.stateful is None else rule.stateful
        for match in rule_matches(peers, rule):
            if by_rule and keeps and bit is not None and rule.action == "allow":
                lines.append(f"{match} {mark(bit)}".strip())
            lines += verdict_lines(match, rule.action)
    if by_rule and chosen.stateful and bit is not None and chosen.otherwise == "allow":
        lines.append(mark(bit))
    return lines + verdict_lines("", chosen.otherwise)


def any_chain(peers: Peers, members: Iterable[Filter], way: str, bit: int) -> list[str]:
    """The body of a chain for the `decide: any` set of an interface in one direction (S12, S20)."""
    members = list(members)
    lines = [let_back(bit)]
    naming = [each for each in members if rules_of(each, way) is not None]
    if not naming:
        return [*lines, *([mark(bit)] if any(each.stateful for each in members) else []), "return"]
    # A rule of a stateful member tracks whichever other rule allows as well: those are asked first.
    for each in sorted(naming, key=lambda member: not member.stateful):
        rules = rules_of(each, way)
        for rule in rules or ():
            for match in rule_matches(peers, rule) if rule.enabled else ():
                if each.stateful:
                    lines.append(f"{match} {mark(bit)}".strip())
                lines.append(f"{match} return".strip())
    if any(each.stateful for each in naming):
        lines.append(mark(bit))
    return lines + verdict_lines("", "reject" if all(each.otherwise == "reject" for each in naming) else "drop")


MARK_BITS = 32
"""Bits of a connection's mark. What has a higher one keeps its connections in a set of its own, by their number."""


def let_back(bit: int) -> str:
    """The statement that lets a tracked connection's replies, and refusals of it, through unasked."""
    return f"ct direction reply {tracked(bit)} return"


def tracked(bit: int) -> str:
    """The match of a connection that is tracked by an attachment."""
    if bit.bit_length() > MARK_BITS:
        return f"ct id @{state_set(bit)}"
    return f"ct mark & {bit:#x} == {bit:#x}"


def state_set(bit: int) -> str:
    """The name of the set that keeps the connections of an attachment beyond the bits of the mark."""
    return f"state-{bit.bit_length() - 1}"


def tracking(peers: Peers, members: list[Filter], way: str, bit: int) -> list[str]:
    """The lines that note a request as tracked by an attachment without deciding anything.

    Asked at the receiver ahead of all decisions: its own stateful attachments let its refusals out, also those
    behind the one that refuses (S34).
    """
    if members[0].decide == "first":
        return [mark(bit)] if members[0].stateful else []
    chosen = [(each, rules_of(each, way)) for each in members]
    naming = [(each, rules) for each, rules in chosen if rules is not None]
    if not naming:
        return [mark(bit)] if any(each.stateful for each in members) else []
    lines = []
    for each, rules in sorted(naming, key=lambda pair: not pair[0].stateful):
        for rule in rules:
            for match in rule_matches(peers, rule) if rule.enabled else ():
                lines += [f"{match} {mark(bit)}".strip()] if each.stateful else []
                lines.append(f"{match} return".strip())
    return lines + ([mark(bit)] if any(each.stateful for each, _ in naming) else [])


def mark(bit: int) -> str:
    """The statement that notes a connection as tracked by an attachment: for its own packets, not for an ICMP error
    that only speaks of it."""
    note = f"add @{state_set(bit)} {{ ct id }}" if bit.bit_length() > MARK_BITS else f"ct mark set ct mark or {bit:#x}"
    return f"ct direction original ct state new,established {note}"
