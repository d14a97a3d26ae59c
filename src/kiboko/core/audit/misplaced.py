"""Findings on rules that name no end which is where their filter is: nothing that meets the filter matches them."""

from __future__ import annotations

from collections.abc import Iterator

from kiboko.core.audit.findings import LOW, MEDIUM, Finding, few, found
from kiboko.core.audit.rules import RuleList, directions
from kiboko.core.filters.filters import ReadyRule
from kiboko.core.header.addresses import AddressSet
from kiboko.core.network.model import Filter
from kiboko.core.walk.walk import Walker

_SIDES = ("from", "to")


def of_misplaced(walker: Walker, chosen: Filter) -> Iterator[Finding]:
    """Rules on what comes in that are for other receivers than those that carry the filter, or on what goes out from
    other senders; foremost those that name a public address where its private one is seen (S16, S29)."""
    own = _behind(walker, chosen)
    if not own:
        return
    for way in directions(chosen):
        listed = RuleList(walker, chosen, way)
        for ready in listed.rules:
            sides = {"in": (1,), "out": (0,), "": (0, 1)}[way]
            named = [(side, each) for side in sides if (each := (ready.sources, ready.destinations)[side])]
            if len(named) == len(sides) and not any(each.meets(own) for _, each in named):
                yield _finding(walker, listed, ready, named, own)


def _behind(walker: Walker, chosen: Filter) -> AddressSet:
    """The addresses that one end of whatever meets a filter has; none where it is not known: between zones, where
    nobody carries it, and where a machine passes on what is for others."""
    topology = walker.topology
    if chosen.layer == "subnet":
        subnets = [each for each in topology.subnets.values() if each.filter == chosen.name]
        blocks = [block for each in subnets for block in each.blocks]
        blocks += [
            block for each in topology.outsides.values() if each.filter == chosen.name for block in each.prefixes
        ]
        machines = {each.instance for each in walker.directory.interfaces() if each.subnet in {s.name for s in subnets}}
        own = AddressSet.of_prefixes(blocks)
    elif chosen.layer == "instance":
        carriers = [each for each in walker.membership.carriers(chosen.name) if each.addresses]
        machines = {each.instance for each in carriers}
        own = AddressSet.of_addresses(address for each in carriers for address in each.addresses)
    elif chosen.layer == "host":
        machines = {each.name for each in topology.instances.values() if each.host_filter == chosen.name}
        own = AddressSet.of_addresses(address for each in walker.directory.interfaces() if each.instance in machines
                                      for address in each.addresses)  # fmt: skip
    else:
        return AddressSet()
    return AddressSet() if any(topology.instances[name].forwards for name in machines) else own


def _finding(
    walker: Walker, listed: RuleList, ready: ReadyRule, named: list[tuple[int, AddressSet]], own: AddressSet
) -> Finding:
    what = " and ".join(f"{_SIDES[side]} {few(each.texts())}" for side, each in named)
    where = {"in": "comes in", "out": "goes out", "": "comes in or goes out"}[listed.way]
    public = {address: owner for _, each in named for address in walker.directory.public_addresses() if address in each
              and (owner := walker.directory.public_owner(address)) is not None
              and any(address_ in own for address_ in owner.addresses)}  # fmt: skip
    proof = f"it is for what {where} {what}, and nobody with such an address is where the filter is"
    fix = "name somebody who is there, or put it into the filter of those whom it is for"
    if public:
        address, owner = next(iter(public.items()))
        proof += f": {address} is the public address of {owner.instance}, whose own address is seen here"
        fix = f"name {owner.instance}, or {owner.addresses[0]}"
    return found("misplaced-rule", listed.name(ready.rule), ready.rule.place, proof, fix,
                 severity=MEDIUM if public else LOW)  # fmt: skip
