"""Rules as `show` puts them on a sheet: a table for each direction, a section for each filter, a line for each rule."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from typing import Any

from kiboko.core.header.addresses import AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Filter, Instance, Interface, Rule
from kiboko.core.network.peers import Literal, Peer, peer_text
from kiboko.core.queries.inspection import IN, OUT, AppliedRule, applied_rules, filter_rules, rules_for_replies
from kiboko.core.walk.walk import Walker
from kiboko.views.sheet import Cell, Sheet, SheetTable

_MOST_ADDRESSES = 2
_MOST_CROSSINGS = 3
_MOST_OF_OTHERS = 20
"""So many rules of a filter that are not for the one who is shown are shown all the same."""


class RulesShown:
    """Adds tables of rules to sheets. `services` and `peers` leave only the rules that could concern them; `options`
    are those of lines to be pasted."""

    def __init__(
        self, walker: Walker, services: RangeSet | None = None, peers: AddressSet | None = None, options: str = ""
    ) -> None:
        self._walker, self._options = walker, options
        self._services = services
        self._peers = peers
        # By the set that they are of, which is kept, so that it stays the one.
        self._texts: dict[int, tuple[AddressSet, list[str]]] = {}

    def could_concern(self, rules: Iterable[AppliedRule], way: str) -> list[AppliedRule]:
        """Those of some rules that could concern what is asked about."""
        return [rule for rule in rules if rule.concerns(self._services, self._peers, way)]

    def applied(self, sheet: Sheet, interface: Interface, way: str, title: str) -> None:
        """Add the rules in force at an interface, of one direction."""
        applied = applied_rules(self._walker, interface, way)
        own = AddressSet.of_addresses(interface.addresses)
        asked = self._services is not None or self._peers is not None
        chosen = [rule for rule in self.could_concern(applied, way) if not asked or rule.is_for(own, way)]
        if len(chosen) < len(applied):
            title = f"{title} ({len(chosen)} of {len(applied)}: only what could concern the traffic asked about)"
        other = "from" if way == IN else "to"
        self.table(sheet, title, chosen, [other], "nothing filters this direction", (own, way))
        if self._services is not None:
            self._replies(sheet, interface, way, own)

    def _replies(self, sheet: Sheet, interface: Interface, way: str, own: AddressSet) -> None:
        """The rules that the replies need to requests that go `way`: of filters that do not know all of these."""
        assert self._services is not None
        back, clients = (OUT, IN) if way == IN else (IN, OUT)
        instance = self._walker.directory.instance_of(interface)
        ports = self._walker.topology.defaults.ephemeral_ports
        if clients == OUT and instance.ephemeral_ports is not None:
            ports = instance.ephemeral_ports
        rules = [
            rule
            for rule in rules_for_replies(self._walker, interface, back)
            if rule.concerns_reply(self._services, ports, self._peers, back) and rule.is_for(own, back)
        ]
        if rules:
            sides = {IN: "inbound", OUT: "outbound"}
            title = (f"Replies to those {sides[way]} requests, {sides[back]} at {interface.device}:"
                     " the rules that could match them, where a filter may not know the request")  # fmt: skip
            self.table(sheet, title, rules, ["to" if back == OUT else "from"], own=(own, back))

    def table(
        self,
        sheet: Sheet,
        title: str,
        rules: list[AppliedRule],
        peers: list[str],
        empty: str = "",
        own: tuple[AddressSet, str] | None = None,
    ) -> None:
        """Add a table of rules, a section for each filter; `own` are the addresses whose rules these are."""
        told = [name for name in ("condition", "note")
                if any(each.rule is not None and getattr(each.rule, name) for each in rules)]  # fmt: skip
        headings = ["rule", "action", *peers, "service", "file", *told]
        table = sheet.table(title, headings, (*peers, "service", "condition", "note"), empty)
        for _, group in itertools.groupby(rules, lambda each: (each.gate, each.where, each.filter.name)):
            listed = list(group)
            first, chosen = listed[0], listed[0].filter
            table.section(_section(first), gate=first.gate, at=first.where or None, filter=chosen.name,
                          decide=chosen.decide, stateful=chosen.stateful, otherwise=chosen.otherwise)  # fmt: skip
            named = [(each, each.rule, own is None or each.is_for(*own)) for each in listed if each.rule is not None]
            others = sum(not for_it for *_, for_it in named)
            for each, rule, for_it in named:
                self._rule_row(table, each, rule, peers, for_it, not for_it and others > _MOST_OF_OTHERS)
            if others > _MOST_OF_OTHERS:
                table.remark(f"  and {others:,} that are not for this one: kiboko show {chosen.name}{self._options}")

    def _rule_row(
        self, table: SheetTable, each: AppliedRule, rule: Rule, peers: list[str], for_it: bool, is_left_out: bool
    ) -> None:
        both = {"from": (rule.sources, each.sources), "to": (rule.destinations, each.destinations)}
        shown = [self._peer(*both[which]) for which in peers]
        for which in ("from", "to"):
            if which not in peers and both[which][0] is not None and not for_it:
                shown[0] += f"; not for this one, only {which} {peer_text(both[which][0])}"
        action = rule.action if rule.enabled and for_it else f"({rule.action})"
        if not rule.enabled:
            shown[0] += "; not enabled"
        values: dict[str, Any] = {which: self._peer_values(*pair) for which, pair in both.items()}
        values |= {"rule": rule.name, "action": rule.action, "enabled": rule.enabled, "applies": for_it,
                   "service": rule.service_text, "established": rule.established,
                   "condition": rule.condition or None, "note": rule.note,
                   "source_ports": str(rule.source_ports) if rule.source_ports else None}  # fmt: skip
        told = [getattr(rule, name) for name in ("condition", "note") if name in table.headings]
        cells: list[Cell] = [f"  {rule.name}", action, *shown, rule.service_words, each.place, *told]
        table.add(cells, "" if rule.enabled and for_it else "quiet", is_left_out=is_left_out, **values)

    def _peer(self, peer: Peer | None, addresses: AddressSet | None) -> str:
        """A peer with the addresses it comes to, where its text is not the address itself."""
        if peer is None:
            return "any"
        text = ", ".join(str(item) for item in peer) or "nobody"
        if addresses is None or all(isinstance(item, Literal) for item in peer):
            return text
        return f"{text} ({some_of(self._addresses(addresses), _MOST_ADDRESSES) or 'no address'})"

    def _peer_values(self, peer: Peer | None, addresses: AddressSet | None) -> dict[str, object] | str:
        """A peer as values: what is written, and the addresses it comes to; `any` where it is left out."""
        if peer is None:
            return "any"
        return {"written": [str(item) for item in peer], "addresses": self._addresses(addresses or AddressSet())}

    def _addresses(self, addresses: AddressSet) -> list[str]:
        """What a set holds, as texts: rules have most of their peers in common with others."""
        if id(addresses) not in self._texts:
            self._texts[id(addresses)] = addresses, addresses.texts()
        return self._texts[id(addresses)][1]

    def directions(self, sheet: Sheet, chosen: Filter, where: str = "") -> None:
        """Add the rules of a filter, each of its directions; `where` it is attached, if that is one place."""
        ways = [(IN, "Rules")] if chosen.rules is not None else [(IN, "Inbound"), (OUT, "Outbound")]
        for way, title in ways:
            kept = self.could_concern(filter_rules(self._walker, chosen, way, chosen.layer, where), way)
            empty = "this direction is not filtered"
            self.table(sheet, f"{title}, in the order they decide", kept, ["from", "to"], empty)

    @staticmethod
    def kernel_rules(sheet: Sheet, instance: Instance) -> None:
        """Add the rule set of a machine's own kernel, where it has one."""
        rules = instance.host_filter
        if rules is None or isinstance(rules, str):
            return
        table = sheet.table(f"The kernel's own rules ({rules.file})", ["rule", "what it does"], ("what it does",))
        for chain in rules.chains:
            hooked = f"hook {chain.hook}, priority {chain.priority}, policy {chain.policy}" if chain.hook else "no hook"
            if chain.hook and chain.sleeps is not False:
                hooked += ", its table is dormant" if chain.sleeps else ", its table may be dormant"
            table.section(f"{chain.family} {chain.table} {chain.name} ({hooked})", family=chain.family,
                          of_table=chain.table, chain=chain.name, hook=chain.hook,
                          priority=chain.priority if chain.hook else None,
                          policy=chain.policy if chain.hook else None)  # fmt: skip
            for rule in chain.rules:
                table.add([f"  {rule.name}", str(rule)], rule=rule.name)


def _section(each: AppliedRule) -> str:
    """A filter in one line: its gate and place, how it decides, and what it does where no rule matches."""
    chosen = each.filter
    decides = "first match decides" if chosen.decide == "first" else "any match allows"
    state = "stateful" if chosen.stateful else "stateless"
    where = f" {some_of(each.where.split(', '), _MOST_CROSSINGS)}" if each.where else ""
    told = f"{decides}, {state}, otherwise {chosen.otherwise}"
    return f"{each.gate}{where}: {chosen.name} ({told}) {chosen.default_place}"


def some_of(texts: list[str], most: int) -> str:
    """The first of some texts, and how many more there are."""
    more = f", {len(texts) - most} more" if len(texts) > most else ""
    return ", ".join(texts[:most]) + more
