"""What changed rules touch: the traffic that they match, between pairs that their filters judge."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kiboko.core.changes.changed_rules import Matched, all_matched, changed_rules, matched_by, united
from kiboko.core.changes.sameness import is_same
from kiboko.core.changes.sides import Chosen, Touching, Way, carriers_of, crossings_of, within
from kiboko.core.network.model import Filter
from kiboko.core.queries.ends import Ends

_FEW_FILTERS = 100
"""As many changed filters are looked at one by one; of more, all that any of them touches is taken together."""


class OfRules:
    """What changed rules touch: traffic that they match, where one end carries the filter or crosses where it is."""

    def __init__(self, old: Ends, new: Ends) -> None:
        self._versions, self._way = (old, new), Way(old, new)
        before, after = old.topology.filters, new.topology.filters
        listed = {name: self._matched(before[name], after[name]) for name in before.keys() & after.keys()
                  if not is_same(before[name], after[name])}  # fmt: skip
        matched = {name: traffic for name, traffic in listed.items() if traffic}
        self.filters = frozenset(matched)
        self.traffic = [each for traffic in matched.values() for each in traffic]
        together = [(frozenset((name,)), traffic) for name, traffic in sorted(matched.items())]
        if len(together) > _FEW_FILTERS:
            together = [(self.filters, self.traffic)]
        self.parts = [part for names, traffic in together for part in self._parts(names, traffic)]

    def _matched(self, before: Filter, after: Filter) -> list[Matched]:
        own = changed_rules(before, after)
        if own is None:
            return list(all_matched())
        return [traffic for ends, some in zip(self._versions, own, strict=True) for way, rule in some
                for traffic in matched_by(ends.walker, rule, way, after.layer)]  # fmt: skip

    def _parts(self, names: frozenset[str], traffic: Sequence[Matched]) -> Iterator[Touching]:
        carriers = frozenset(name for ends in self._versions for name in carriers_of(ends, names))
        crossings = crossings_of(self._versions, names)
        for each in united(traffic):
            from_them, to_them = Chosen(None, each.senders), Chosen(None, each.receivers)
            if self._way.has(carriers):
                yield from_them, to_them
                continue
            if carriers and each.by_sender:
                yield Chosen(carriers, each.senders), to_them
            if carriers and each.by_receiver:
                yield from_them, Chosen(carriers, each.receivers)
            for pair in crossings:
                for sender, receiver in self._way.across(pair[::-1] if each.is_reply else pair):
                    yield within(sender, each.senders), within(receiver, each.receivers)
