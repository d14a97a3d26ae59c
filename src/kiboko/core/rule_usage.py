"""Which rules recorded traffic hit, and which nothing ever hit."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from kiboko.core.comparison import Finding
from kiboko.core.compiled import Tally
from kiboko.core.flow_query import Sum
from kiboko.core.gates import Row
from kiboko.core.model import Filter, Rule, Topology

RuleKey = tuple[str, str, str]
"""A rule: its filter, its direction (`inbound`, `outbound`, `rules`), and its id or order; `otherwise` for none."""


@dataclass(frozen=True, slots=True)
class RuleLine:
    """One rule of the network and what hit it."""

    filter: Filter
    direction: str
    rule: Rule | None
    name: str
    sum: Sum

    @property
    def is_hit(self) -> bool:
        """Whether anything hit it."""
        return self.sum.records > 0


@dataclass(slots=True)
class RuleUsage:
    """Hits of every rule. A record hits the rules that the walk of its packets meets, up to the one that stops it,
    also those behind its observation point; a reply that a filter lets back unasked hits none there."""

    topology: Topology
    hits: dict[RuleKey, Sum] = field(default_factory=dict)
    records: int = 0

    def take(self, finding: Finding, tally: Tally) -> None:
        """Count the records of a tally at every rule that they met."""
        self.records += tally.count
        walk = finding.walk
        if walk is None:
            return
        rows = walk.reply if finding.is_reply else walk.forward
        for key in dict.fromkeys(self._met(rows)):
            met = self.hits.setdefault(key, Sum())
            met.add(tally.count, tally.packets, tally.octets, tally.first, tally.last)

    def _met(self, rows: tuple[Row, ...]) -> Iterator[RuleKey]:
        for row in rows:
            for name in row.filters:
                chosen = self.topology.filters.get(name)
                if chosen is None or row.tracked or row.rule is None or (row.filter or name) != name:
                    continue
                direction = "rules" if chosen.rules is not None else {"in": "inbound"}.get(row.step.bound, "outbound")
                yield name, direction, row.rule
            if row.stops:
                return

    def lines(self) -> list[RuleLine]:
        """Every rule of the network in the order of the file, hit or not."""
        return [
            RuleLine(chosen, direction, rule, name, self.hits.get((chosen.name, direction, name), Sum()))
            for chosen in self.topology.filters.values()
            for direction, rules in (
                ("rules", chosen.rules),
                ("inbound", chosen.inbound),
                ("outbound", chosen.outbound),
            )
            if rules is not None
            for rule, name in [*((rule, rule.id or str(rule.order)) for rule in rules), (None, "otherwise")]
        ]
