"""Findings on rules that name no end which is where their filter is: nothing that meets the filter matches them."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from kiboko.core.audit.findings import LOW, MEDIUM, Finding, few, found
from kiboko.core.audit.rules import RuleList
from kiboko.core.filters.filters import ReadyRule
from kiboko.core.header.addresses import AddressSet, Prefix
from kiboko.core.network.model import Filter, Interface
from kiboko.core.walk.walk import Walker

_SIDES = ("from", "to")


class Misplaced:
    """Looks for rules on what comes in that are for other receivers than those that carry the filter, or on what goes
    out from other senders; foremost those that name a public address where its private one is seen (S16, S29)."""

    def __init__(self, walker: Walker) -> None:
        self._walker, self._topology = walker, walker.topology

    def of_filter(self, chosen: Filter, lists: dict[str, RuleList]) -> Iterator[Finding]:
        """Those of one filter."""
        own = self._behind(chosen)
        if not own:
            return
        for way, listed in lists.items():
            for ready in listed.rules:
                sides = {"in": (1,), "out": (0,), "": (0, 1)}[way]
                named = [(side, each) for side in sides if (each := (ready.sources, ready.destinations)[side])]
                if len(named) == len(sides) and not any(each.meets(own) for _, each in named):
                    yield _finding(self._walker, listed, ready, named, own)

    def _behind(self, chosen: Filter) -> AddressSet:
        """The addresses that one end of whatever meets a filter has; none where it is not known: between zones, where
        nobody carries it, and where a machine passes on what is for others."""
        if chosen.layer == "subnet":
            places, blocks = self._edges.get(chosen.name, (set(), []))
            passing = bool(places & self._passed_through)
            own = AddressSet.of_prefixes(blocks)
        elif chosen.layer == "zone":
            return AddressSet()
        else:
            carriers = (self._walker.membership.carriers(chosen.name) if chosen.layer == "instance" else
                        self._by_host_filter.get(chosen.name, []))  # fmt: skip
            passing = any(self._topology.instances[each.instance].forwards for each in carriers)
            own = AddressSet.of_addresses(address for each in carriers for address in each.addresses)
        return AddressSet() if passing else own

    @cached_property
    def _edges(self) -> dict[str, tuple[set[str], list[Prefix]]]:
        """Of each filter of subnets and outsides the subnets that carry it, and all blocks of both."""
        found: dict[str, tuple[set[str], list[Prefix]]] = {}
        for subnet in self._topology.subnets.values():
            if subnet.filter is not None:
                places, blocks = found.setdefault(subnet.filter, (set(), []))
                places.add(subnet.name)
                blocks.extend(subnet.blocks)
        for outside in self._topology.outsides.values():
            if outside.filter is not None:
                found.setdefault(outside.filter, (set(), []))[1].extend(outside.prefixes)
        return found

    @cached_property
    def _passed_through(self) -> set[str]:
        """The subnets in which a machine passes on what is for others."""
        return {each.subnet for machine in self._topology.instances.values() if machine.forwards
                for each in machine.interfaces}  # fmt: skip

    @cached_property
    def _by_host_filter(self) -> dict[str, list[Interface]]:
        """The interfaces of the machines that have each filter as their own."""
        found: dict[str, list[Interface]] = {}
        for machine in self._topology.instances.values():
            if isinstance(machine.host_filter, str):
                found.setdefault(machine.host_filter, []).extend(machine.interfaces)
        return found


def _finding(
    walker: Walker, listed: RuleList, ready: ReadyRule, named: list[tuple[int, AddressSet]], own: AddressSet
) -> Finding:
    what = " and ".join(f"{_SIDES[side]} {few(each.texts())}" for side, each in named)
    where = {"in": "comes in", "out": "goes out", "": "comes in or goes out"}[listed.way]
    owners = ((address, walker.directory.public_owner(address)) for _, each in named
              for address in walker.directory.public_addresses() if address in each)  # fmt: skip
    public = {address: owner for address, owner in owners
              if owner is not None and any(each in own for each in owner.addresses)}  # fmt: skip
    proof = f"it is for what {where} {what}, and nobody with such an address is where the filter is"
    fix = "name somebody who is there, or put it into the filter of those whom it is for"
    if public:
        address, owner = next(iter(public.items()))
        proof += f": {address} is the public address of {owner.instance}, whose own address is seen here"
        fix = f"name {owner.instance}, or {owner.addresses[0]}"
    return found("misplaced-rule", listed.name(ready.rule), ready.rule.place, proof, fix,
                 severity=MEDIUM if public else LOW)  # fmt: skip
