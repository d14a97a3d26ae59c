"""Which rules recorded traffic hit, and which nothing ever hit."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from kiboko.core.errors import Place
from kiboko.core.evidence.judging import REASONS, SHARED_UNKNOWN
from kiboko.core.evidence.rules_met import Met, RuleKey
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Filter, Rule, Topology
from kiboko.core.network.peers import peer_text
from kiboko.core.records.columns import distinct
from kiboko.core.records.flow_table import NO_TIME
from kiboko.core.records.group_sums import Sum
from kiboko.core.tables.places import NONE

_CONDITION, _ESTABLISHED = "condition", "established"
_UNTOLD = REASONS[SHARED_UNKNOWN].text


@dataclass(frozen=True, slots=True)
class RuleLine:
    """One rule of the network and what hit it.

    `is_rule` is false for what is done where no rule matches. `counted` are the packets and octets that the kernel's
    own counter has, None without one.
    """

    key: RuleKey
    action: str
    what: str
    place: Place
    sum: Sum
    is_rule: bool = True
    is_enabled: bool = True
    counted: tuple[int, int] | None = None
    logs: bool | None = None
    """Whether the rule logs; None where that cannot be told."""
    untold: str = ""
    """Why records would not tell of a hit: of a rule with a condition, or one that what follows an opening may meet
    (clauses S41, S42)."""

    @property
    def is_never_hit(self) -> bool:
        """Whether it is a rule that nothing hit, as far as that is known of it."""
        return self.is_rule and not self.untold and not self.is_hit

    @property
    def is_hit(self) -> bool:
        """Whether anything hit it, by the records or by its counter."""
        return self.sum.records > 0 or (self.counted is not None and self.counted[0] > 0)


@dataclass(slots=True)
class RuleUsage:
    """Hits of every rule. A record hits the rules that the walk of its packets meets, up to the one that stops it,
    also those behind its observation point; a reply that a filter lets back unasked hits none there. `shared` of the
    `records` are of senders behind a shared address: they hit the rules of each that may have sent them, but for those
    that are `untold`, of whom there are too many.

    `listings` are rule sets of instances as the kernel listed them later, for their counters; `only` are the filters,
    and the files of kernel rule sets, whose rules are told, empty for all.
    """

    topology: Topology
    listings: Mapping[str, HostRuleSet] = field(default_factory=dict)
    hits: dict[RuleKey, Sum] = field(default_factory=dict)
    records: int = 0
    shared: int = 0
    untold: int = 0
    only: Collection[str] = ()

    def take(self, tallies: Tallies, met: Met, again: bool = False) -> None:
        """Count the records of tallies at every rule that they met; `again`, where they were counted before, as if the
        other end had begun."""
        if not again:
            self.records += int(tallies.count.sum())
            told = [each.is_shared + (each.is_shared and each.why.startswith(_UNTOLD)) for each in tallies.concluded]
            kind = np.array(told or [0])[tallies.conclusion]
            self.shared += int(tallies.count[kind == 1].sum())
            self.untold += int(tallies.count[kind == 2].sum())
        replies = np.stack([tallies.replies, tallies.reply_packets, tallies.reply_octets])
        requests = np.stack([tallies.count, tallies.packets, tallies.octets]) - replies
        for numbers, amounts in ((met.request, requests), (met.reply, replies)):
            row, column = np.nonzero((numbers != NONE) & (amounts[0] > 0)[:, np.newaxis])
            groups = distinct(numbers[row, column])
            columns = [numbers[row, column][groups.first], *(groups.sums(each[row]) for each in amounts),
                       groups.least(tallies.first[row], int(NO_TIME)), groups.most(tallies.last[row])]  # fmt: skip
            listed = zip(*(each.tolist() for each in columns), strict=True)
            for number, records, packets, octets, first, last in listed:
                self.hits.setdefault(met.keys[number], Sum()).add(records, packets, octets, first, last)

    def merge(self, other: RuleUsage) -> None:
        """Take in what others of the same network came to."""
        self.records += other.records
        self.shared += other.shared
        self.untold += other.untold
        for key, each in other.hits.items():
            self.hits.setdefault(key, Sum()).add(each.records, each.packets, each.octets, each.first, each.last)

    @property
    def caveats(self) -> list[str]:
        """What has to be borne in mind: that nothing is known of usage, or not who sent some of the records."""
        found = [] if self.records else ["no record was held against the rules: nothing is known of which are used"]
        for count, what in (
            (self.shared, "for the rules of each that may have sent"),
            (self.untold, "for no rule: of those who may have sent"),
        ):
            if count:
                told = "1 record is of a sender" if count == 1 else f"{count:,} records are of senders"
                word, them = ("counts", "it") if count == 1 else ("count", "them")
                found.append(f"{told} behind a shared address, and {word} {what} {them}")
        if self.untold:
            found[-1] += " rules tell too many apart, and a rule of theirs that was never hit may have been"
        return [*found, *self._of_untold()]

    def _of_untold(self) -> Iterator[str]:
        """What has to be borne in mind of rules of which records do not tell whether they were hit."""
        filters = self.topology.filters.values()
        if not any(chosen.has_conditions or chosen.has_established for chosen in filters):
            return
        lines = [line for line in self.lines() if line.is_enabled and line.untold]
        for why, what in ((_CONDITION, "a condition"), (_ESTABLISHED, "'established'")):
            if count := sum(line.untold == why and not line.is_hit for line in lines):
                rules, them = ("rule has", "it") if count == 1 else ("rules have", "them")
                yield f"{count:,} {rules} {what}: whether anything hit {them} is not told by records of traffic"
        if any(line.untold == _CONDITION and line.is_hit for line in lines):
            yield ("what is counted for a rule with a condition may have hit it, or the one behind it that would decide"
                   " then: it counts for both")  # fmt: skip

    def lines(self) -> list[RuleLine]:
        """Every rule of the network, or of what is asked about alone, in the order of the file, then those of hosts,
        hit or not."""
        found = [line for chosen in self.topology.filters.values() for line in self._of_filter(chosen)]
        for instance in self.topology.instances.values():
            if isinstance(instance.host_filter, HostRuleSet):
                found.extend(self._of_host(instance.host_filter, self.listings.get(instance.name)))
        return [line for line in found if not self.only or line.key[0] in self.only]

    def _of_filter(self, chosen: Filter) -> Iterator[RuleLine]:
        for direction, rules in (
            ("rules", chosen.rules),
            ("inbound", chosen.inbound),
            ("outbound", chosen.outbound),
        ):
            for rule in rules or ():
                key = (chosen.name, direction, rule.id or str(rule.order))
                yield RuleLine(key, rule.action, _what(rule), rule.place, self._sum(key), is_enabled=rule.enabled,
                               logs=rule.log, untold=_untold(rule))  # fmt: skip
            if rules is not None:
                key = (chosen.name, direction, "otherwise")
                yield RuleLine(key, chosen.otherwise, "no rule matched", chosen.place, self._sum(key), is_rule=False)

    def _of_host(self, rules: HostRuleSet, listing: HostRuleSet | None) -> Iterator[RuleLine]:
        place = Place(rules.file, 1)
        for chain in rules.chains:
            other = listing.by_name.get((chain.family, chain.table, chain.name)) if listing is not None else None
            later = {rule.name: rule.counted for rule in other.rules} if other is not None else {}
            for rule in chain.rules:
                key = (rules.file, chain.shown, rule.name)
                counted = later.get(rule.name, rule.counted if listing is None else None)
                yield RuleLine(key, rule.action, rule.conditions, place, self._sum(key), counted=counted)
            if chain.hook is not None:
                key = (rules.file, chain.shown, "otherwise")
                yield RuleLine(key, chain.policy, "no rule matched", place, self._sum(key), is_rule=False)

    def _sum(self, key: RuleKey) -> Sum:
        return self.hits.get(key, Sum())


def _untold(rule: Rule) -> str:
    return _CONDITION if rule.condition else _ESTABLISHED if rule.established else ""


def _what(rule: Rule) -> str:
    parts = [f"from {peer_text(rule.sources)}" if rule.sources is not None else "",
             f"to {peer_text(rule.destinations)}" if rule.destinations is not None else "",
             rule.service_text if rule.services is not None else ""]  # fmt: skip
    what = " ".join(part for part in (*parts, "established" * rule.established) if part) or "anything"
    return f'{what} if "{rule.condition}"' if rule.condition else what
