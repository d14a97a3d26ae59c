"""Many findings brought together for a person: by the rule that decides and the smallest names that hold their ends."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from kiboko.core.evidence.finding_rows import FindingRows
from kiboko.core.queries.holders import Holders
from kiboko.core.records.columns import distinct, numbered


@dataclass(frozen=True)
class Gathered:
    """Findings of one conclusion: the pairs and services that it was met at, the largest first. What they have in
    common is worked out when it is asked for: of very many, few are shown."""

    groups: FindingRows
    by: Holders

    @cached_property
    def source(self) -> str:
        """What the senders have in common."""
        return self.by.holding(self.groups.names("source"))

    @cached_property
    def destination(self) -> str:
        """What the receivers have in common."""
        return self.by.holding(self.groups.names("destination"))

    @cached_property
    def services(self) -> tuple[str, ...]:
        """The services, those of most records first."""
        numbers, which = numbered(self.groups.column("service"))
        counts = np.zeros(len(numbers), dtype=np.int64)
        np.add.at(counts, which, self.groups.column("count"))
        ordered = numbers[np.argsort(-counts, kind="stable")].tolist()
        return tuple(self.groups.table.services[number] for number in ordered)

    @property
    def records(self) -> int:
        """How many records there are of it."""
        return self.groups.total("count")

    @property
    def packets(self) -> int:
        """Their packets."""
        return self.groups.total("packets")

    @property
    def octets(self) -> int:
        """Their octets."""
        return self.groups.total("octets")

    @property
    def latest(self) -> int:
        """When the last of them ended, in milliseconds since 1970."""
        return int(self.groups.column("latest").max())


def gathered(rows: FindingRows, holders: Holders) -> list[Gathered]:
    """The findings by conclusion, those of most records first; of as many, the newest. `holders` has the names that
    hold their ends."""
    if not len(rows):
        return []
    kinds = distinct(rows.column("told"), rows.column("is_flow"))
    order = np.argsort(kinds.codes, kind="stable")
    found = []
    for places in np.split(order, np.cumsum(kinds.counts())[:-1]):
        alike = rows.taken(places)
        found.append(Gathered(alike.taken(np.argsort(-alike.column("count"), kind="stable")), holders))
    found.sort(key=lambda each: (-each.records, -each.latest))
    return found
