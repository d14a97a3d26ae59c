"""Judged records summed up: how many there were of each class, and between which addresses."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence.addressed import Asked
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.judged import Judged
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.evidence.tallies import Tallies, no_tallies
from kiboko.core.records.columns import Distinct, ascending, distinct, numbered
from kiboko.core.records.flow_table import NO_TIME, AddressTable, FlowTable, joined
from kiboko.core.tables.lines import AddressLine, NumberLine

_MOST_COUNTED = 1 << 56
"""As many packets or octets are counted of one tally: more are no measurement, and many such still add up."""
Rows = NDArray[np.int64]


@dataclass(frozen=True, slots=True)
class Summing:
    """Sums up the records of judged tables, of which `ends` knows the atoms of addresses on the line of `addresses`;
    services that no rule tells apart are those of one atom of the line of `services`."""

    ends: SeenEnds
    addresses: AddressLine
    services: NumberLine

    def of(self, table: FlowTable, judged: Judged, rows: Rows) -> Tallies:
        """Some records of a judged table summed up by what they come to and by class."""
        found, asked = judged.found, judged.asked
        if found is None or asked is None or not len(rows):
            return no_tallies()
        together = as_slice(rows)
        classes = judged.classes[together]
        groups = distinct(judged.conclusion[together] * (int(classes.max()) + 1) + classes)
        first = rows[groups.first]
        of = found.of[first]
        conclusions, conclusion_of = numbered(judged.conclusion[first])
        number = asked.service[of]
        atoms = self.services.atoms(number)
        starts = np.append(self.services.starts, self.services.end)
        alike = np.stack([starts[atoms], starts[atoms + 1] - 1], axis=1).astype(np.int64)
        met = np.stack([number, number], axis=1)
        several = (alike[:, 0] < alike[:, 1])[groups.codes]
        if several.any():
            services = asked.service[found.of[rows[several]]]
            np.minimum.at(met[:, 0], groups.codes[several], services)
            np.maximum.at(met[:, 1], groups.codes[several], services)
        weight, is_reply = judged.weight[together], judged.is_reply[together]
        packets, octets = table.packets[together], table.octets[together]
        if not weight.all():
            packets, octets = packets * weight, octets * weight
        replies = np.flatnonzero(is_reply)
        of_replies = Distinct(groups.codes[replies], groups.first)
        addresses, source, target = self._addresses_of(table, found, asked, of)
        examples = table.taken(first)
        if len(first) < len(table.addresses):
            examples = joined([examples])  # with no more addresses than they have

        def total(groups: Distinct, values: NDArray[np.int64]) -> Rows:
            found: Rows = np.minimum(groups.sums(values), _MOST_COUNTED).astype(np.int64)
            return found

        return Tallies(
            tuple(judged.concluded[each] for each in conclusions.tolist()), conclusion_of,
            examples, addresses, source, target, number, asked.port[of], judged.kinds.passed[judged.classes[first]],
            alike, met,
            total(groups, judged.is_first[together].astype(np.int64)), groups.counts(), of_replies.counts(),
            total(groups, packets), total(groups, octets),
            total(of_replies, packets[replies]), total(of_replies, octets[replies]),
            groups.least(table.start[together], int(NO_TIME)),
            groups.most(table.last()[together]),
        )  # fmt: skip

    def _addresses_of(
        self, table: FlowTable, found: Conversations, asked: Asked, of: Rows
    ) -> tuple[AddressTable, Rows, Rows]:
        """Addresses, and the places among them of the senders' own and of those that they sent to: of ours, those that
        were asked about; of others, as they were recorded."""
        first = found.first[of]
        is_reply = found.side[first] != found.taken_as_turned[of]
        places = [np.where(is_reply, table.destination[first], table.source[first]),
                  np.where(is_reply, table.source[first], table.destination[first])]  # fmt: skip
        addresses = table.addresses
        if len(of) < len(addresses):  # of a large table a few are asked about
            used, back = ascending(np.concatenate(places))
            addresses, places = addresses.taken(used), np.split(back, 2)
        own, atoms = self.ends.atoms(addresses), (asked.sender[of], asked.target[of])
        rows = [np.flatnonzero(own[place] != atom) for place, atom in zip(places, atoms, strict=True)]
        listed, back = numbered(np.concatenate([atom[mine] for atom, mine in zip(atoms, rows, strict=True)]))
        instead = np.split(len(addresses) + back, [len(rows[0])])
        for place, mine, others in zip(places, rows, instead, strict=True):
            place[mine] = others
        more = AddressTable.of([self.addresses.first(atom) for atom in listed.tolist()])
        return addresses.and_more(more), places[0], places[1]

    def ends_of(self, table: FlowTable, judged: Judged) -> tuple[AddressTable, AddressTable]:
        """Of each conversation of a judged table who asked, and which address was asked: two tables of k addresses; of
        a table without records none."""
        if judged.found is None or judged.asked is None:
            return AddressTable.of(()), AddressTable.of(())
        of = np.arange(len(judged.found))
        addresses, source, target = self._addresses_of(table, judged.found, judged.asked, of)
        return addresses.taken(source), addresses.taken(target)


def as_slice(rows: Rows) -> Rows | slice:
    """Rows that lie together as a slice, which copies nothing."""
    if len(rows) and rows[-1] - rows[0] + 1 == len(rows):
        return slice(int(rows[0]), int(rows[-1]) + 1)
    return rows
