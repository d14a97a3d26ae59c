"""Columns narrowed for the way between processes: every value comes back as it was, and takes no more room."""

import pickle
import random
import unittest
from dataclasses import fields

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.records.flow_table import NO_TIME, AddressTable, table_of
from kiboko.core.records.narrow import narrowed, put_away, whole
from kiboko.core.walk.walk import Walker
from tests.core.test_evaluator import random_records
from tests.helpers import load
from tests.random_networks import random_network

KINDS = (np.int64, np.uint64, np.int32, np.int16, np.uint8)


def of_kind(kind):
    """A type, and values at its ends and near any other."""
    bounds = np.iinfo(kind)
    near = st.integers(int(bounds.min), int(bounds.max)).flatmap(
        lambda low: st.lists(st.integers(low, min(low + 300, int(bounds.max))), max_size=8)
    )
    ends = st.lists(st.sampled_from([int(bounds.min), 0, int(bounds.max)]), max_size=8)
    return st.tuples(st.just(kind), near | ends)


class Narrowing(unittest.TestCase):
    @given(st.sampled_from(KINDS).flatmap(of_kind), st.data())
    def test_whatever_numbers_come_back_with_their_type_and_shape_whole_and_in_part(self, drawn, data):
        kind, values = drawn
        plain = np.array(values, dtype=kind)
        for column in (plain, np.stack([plain, plain], axis=1)):
            sent = pickle.loads(pickle.dumps(narrowed(column)))
            back = whole(sent)
            self.assertEqual((back.dtype, back.shape, back.tolist()), (column.dtype, column.shape, column.tolist()))
            self.assertTrue(back.flags.writeable)
            self.assertEqual(len(sent), len(column))
            some = data.draw(st.lists(st.integers(0, len(values) - 1), max_size=5)) if values else []
            for rows in (np.array(some, dtype=np.int64), np.arange(len(values)) % 2 > 0, slice(1, 4)):
                part, wanted = sent[rows], column[rows]
                self.assertEqual((part.dtype, part.tolist()), (wanted.dtype, wanted.tolist()))
            for row in some:
                self.assertEqual(np.array(sent[row]).tolist(), column[row].tolist())

    def test_times_of_a_day_take_little_more_than_half_the_room_and_a_constant_none(self):
        day = np.arange(1_763_600_000_000, 1_763_686_400_000, 86_400)
        self.assertLess(len(pickle.dumps(narrowed(day))), 0.6 * day.nbytes)
        self.assertLess(len(pickle.dumps(narrowed(np.full(100_000, 7)))), 300)

    def test_a_column_with_and_without_times_stays_as_it_is(self):
        times = np.array([NO_TIME, 1_763_600_000_000])
        self.assertIs(narrowed(times), times)

    def test_truths_and_whole_numbers_of_any_size_are_left_alone(self):
        for column in (np.array([True, False]), np.array([1 << 70, 2], dtype=object)):
            self.assertIs(narrowed(column), column)


class PutAway(unittest.TestCase):
    def test_tallies_are_the_same_in_another_process_row_by_row_and_in_part(self):
        for seed in (3, 11):
            topology = load(random_network(seed))
            records = random_records(topology, random.Random(seed), 300)
            tallies = Evaluator(Comparison(Walker(topology))).tallies(table_of(records))
            rows = np.array([len(tallies) - 1, 0, 7])
            self.assertGreater(len(tallies), 20)
            for back in (pickle.loads(pickle.dumps(tallies)), put_away(tallies), put_away(put_away(tallies))):
                self.assertEqual(list(back), list(tallies))
                for part in (back.taken(rows), pickle.loads(pickle.dumps(back)).taken(rows)):
                    self.assertEqual(list(part), [tallies[row] for row in rows.tolist()])
                    self.assertIsInstance(part.count, np.ndarray)
            sent = len(pickle.dumps(tallies))
            self.assertLess(sent, 0.5 * len(pickle.dumps([getattr(tallies, each.name) for each in fields(tallies)])))

    def test_addresses_of_both_families_at_their_ends(self):
        for addresses in ((), Walker(load(random_network(5))).directory.name_edges()):
            table = AddressTable.of(addresses)
            back = pickle.loads(pickle.dumps(put_away(table)))
            self.assertEqual([back[at] for at in range(len(back))], [table[at] for at in range(len(table))])
