"""Findings on kernel rule sets that let through the first packet of a connection and stop what follows (S35)."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

from kiboko.core.audit.findings import Finding, found
from kiboko.core.errors import Place
from kiboko.core.filters import host_judge
from kiboko.core.header.addresses import Address
from kiboko.core.header.packet import Packet, following, request
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import TCP, UDP, Service
from kiboko.core.network.host_rules import Chain, HostRule, HostRuleSet, Match, Verdict, VerdictMap
from kiboko.core.network.model import Instance
from kiboko.core.tables.cuts import kernel_values
from kiboko.core.walk.walk import Walker

_STATE, _KNOWN = (("ct", "state"),), "established"
_MOST_SERVICES, _MOST_SOURCES, _MOST_OTHERS = 24, 12, 4
"""So many services and other ends are tried on each rule set: those that it names, and some machines."""


def of_first_packets(walker: Walker) -> Iterator[Finding]:
    """Kernel rule sets that accept what is new and no known connections, so that what is opened hangs; those of one
    meaning once, at the first machine that has one and listens to the same."""
    asked: set[tuple[object, ...]] = set()
    for instance in walker.topology.instances.values():
        rules = instance.host_filter
        if not isinstance(rules, HostRuleSet):
            continue
        key = rules.meaning, *(each.services for each in instance.listens or ())
        if key not in asked:
            asked.add(key)
            lost = _first_lost(walker, instance, rules)
            if lost is not None:
                yield _finding(instance, rules, lost)


@dataclass(frozen=True, slots=True)
class _Lost:
    """A connection of which a rule set lets through the first packet alone: on which path, its first packet, and what
    stops the next one."""

    path: str
    first: Packet
    by: host_judge.HostShare


def _finding(instance: Instance, rules: HostRuleSet, lost: _Lost) -> Finding:
    packet, by = lost.first, lost.by
    rule = "its policy" if by.rule == "otherwise" else f"rule '{by.rule}'"
    check = f"kiboko check {packet.source} {packet.destination} {packet.service}"
    return found("first-packet-only", f"{instance.name}: {by.chain}", Place(rules.file, 1),
                 f"on the way {_PATHS[lost.path]}, {rules.file} lets through the first packet of {packet.source} to"
                 f" {packet.destination} on {packet.service} and stops what follows it (chain {by.chain}, {rule}): what"
                 " is opened hangs",
                 "accept known connections in front of it: ct state established,related accept",
                 check=check)  # fmt: skip


_PATHS = {"input": "in", "output": "out", "forward": "through"}


def _first_lost(walker: Walker, instance: Instance, rules: HostRuleSet) -> _Lost | None:
    ports = RangeSet.one(walker.topology.defaults.ephemeral_ports.lowest)
    paths = {path for path in _PATHS if not _accepts_what_is_known(rules, path)}
    for path, devices, packet in _first_packets(walker, instance, _services(instance)) if paths else ():
        if path not in paths:
            continue
        assert packet.source is not None and packet.destination is not None
        later = following(packet.source, packet.destination, packet.service, True)
        after = host_judge.judge(rules, path, later, ports, *devices)
        if not after or any(each.action not in (host_judge.DROP, host_judge.REJECT) for each in after):
            continue
        before = host_judge.judge(rules, path, packet, ports, *devices)
        if before and all(each.action == host_judge.ALLOW for each in before):
            return _Lost(path, packet, after[0])
    return None


def _accepts_what_is_known(rules: HostRuleSet, path: str) -> bool:
    """Whether every chain on a path plainly accepts known connections before it stops anything, as nearly all do, or
    makes no difference between these and what is new."""
    hooked = [each for each in rules.chains if each.hook in host_judge.HOOKS[path]]
    others = [each for each in rules.chains if each.hook is None]
    return all(_accepts_first(each) for each in hooked) or not any(map(_looks_at_state, (*hooked, *others)))


def _looks_at_state(chain: Chain) -> bool:
    fields = (field for rule in chain.rules for each in rule.statements if isinstance(each, Match | VerdictMap)
              for field in each.fields)  # fmt: skip
    return any(protocol == "ct" or (protocol, name) == ("tcp", "flags") for protocol, name in fields)


def _accepts_first(chain: Chain) -> bool:
    for rule in chain.rules:
        if _is_for_known(rule):
            return True
        if rule.action != "accept":
            return False
    return chain.policy == "accept"


def _is_for_known(rule: HostRule) -> bool:
    """Whether a rule accepts all known connections, whatever else it says of other packets."""
    match rule.statements:
        case (VerdictMap(fields=fields, entries=entries),):
            accepted = [values for values, verdict in entries if verdict.kind == "accept"]
        case (Match(fields=fields, alternatives=alternatives, negated=False), Verdict(kind="accept")):
            accepted = list(alternatives)
        case _:
            return False
    return fields == _STATE and any(_KNOWN in each.names for values in accepted for each in values)


def _first_packets(
    walker: Walker, instance: Instance, services: list[Service]
) -> Iterator[tuple[str, tuple[str, str], Packet]]:
    """Opening packets that come to a machine, leave it, or come through it: the path of each, the devices by which it
    comes in and goes out, and the packet."""
    for interface in instance.interfaces:
        for address in interface.addresses:
            others = _others(walker, instance, address)
            for service in services:
                for other in others:
                    yield "input", (interface.device, ""), request(other, address, service)
            for service in services:
                for other in others:
                    yield "output", ("", interface.device), request(address, other, service)
            for egress in instance.interfaces if instance.forwards else ():
                for service in services:
                    for source in others:
                        for destination in others:
                            if source != destination:
                                devices = interface.device, egress.device
                                yield "forward", devices, request(source, destination, service)


def _services(instance: Instance) -> list[Service]:
    """What a machine listens to, and the ports that its rule set names, of TCP and of UDP."""
    numbers = [low for each in instance.listens or () for low, _ in each.services if low >> 16 in (TCP, UDP)]
    for (protocol, name), values in kernel_values([instance]):
        if name == "dport":
            numbers += [kind << 16 | low for low, _ in values for kind in (TCP, UDP)
                        if protocol in ({TCP: "tcp", UDP: "udp"}[kind], "th")]  # fmt: skip
    numbers += [TCP << 16 | 22, UDP << 16 | 53]
    return [Service(each >> 16, each & 0xFFFF) for each in dict.fromkeys(numbers)][:_MOST_SERVICES]


def _others(walker: Walker, instance: Instance, own: Address) -> list[Address]:
    """Addresses at the other end, of those that a rule set tells apart and some machines."""
    family, directory = own.family, walker.directory
    own_protocol = "ip" if family == 4 else "ip6"
    named = [Address(family, low) for (protocol, name), values in kernel_values([instance])
             if name in ("saddr", "daddr") and protocol == own_protocol for low, _ in values]  # fmt: skip
    machines = (address for interface in directory.interfaces() if interface.instance != instance.name
                and (address := interface.address(family)) is not None)  # fmt: skip
    mine = {address for each in instance.interfaces for address in each.addresses}
    fit = (each for each in dict.fromkeys([*itertools.islice(machines, _MOST_OTHERS), *named])
           if each not in mine and directory.why_undeliverable(each) is None)  # fmt: skip
    return list(fit)[:_MOST_SOURCES]
