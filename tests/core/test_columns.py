"""Distinct values and sums of columns, against plain loops."""

import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.records import columns
from kiboko.core.records.columns import Growing, KeyNumbers, combined, distinct, in_order, repeated

SMALL, WIDE = st.integers(-5, 5), st.integers(-(2**62), 2**62)


class Columns(unittest.TestCase):
    def by_loop(self, values):
        met = {}
        return [met.setdefault(value, len(met)) for value in values], [values.index(value) for value in met]

    @given(st.lists(st.tuples(SMALL | WIDE, SMALL | WIDE), max_size=60), st.integers(1, 20), st.sampled_from([0, 100]))
    def test_distinct_rows_in_the_order_they_are_met_whatever_falls_on_one_slot(self, rows, bits, few):
        columns_of = [np.array(side, dtype=np.int64) for side in zip(*rows)] or [np.zeros(0, np.int64)] * 2
        # Few rows are sorted; here the hash is tried on few as well, with as many collisions as its slots make.
        with mock.patch.object(columns, "_BITS", bits), mock.patch.object(columns, "_FEW", few):
            both, one = distinct(*columns_of), distinct(columns_of[0])
        self.assertEqual((both.codes.tolist(), both.first.tolist()), self.by_loop(rows))
        self.assertEqual((one.codes.tolist(), one.first.tolist()), self.by_loop([row[0] for row in rows]))

    @given(st.lists(
        st.tuples(st.sampled_from([0, 1, 2**63 - 1, 2**63, 2**63 + 5, 2**64 - 1]), st.integers(0, 255),
                  st.sampled_from([-(2**63), -1, 0, 7, 2**63 - 1]), st.integers(0, 3), st.integers(2**40, 2**40 + 9)),
        max_size=40,
    ))  # fmt: skip
    def test_columns_of_small_range_are_brought_together_without_a_row_lost_or_won(self, rows):
        kinds = (np.uint64, np.uint8, np.int64, np.int32, np.int64)
        columns_of = [np.array([row[at] for row in rows], dtype=kind) for at, kind in enumerate(kinds)]
        with mock.patch.object(columns, "_FEW", 0):
            found = distinct(*columns_of)
        self.assertEqual((found.codes.tolist(), found.first.tolist()), self.by_loop(rows))

    @given(st.lists(st.integers(0, 9), min_size=1, max_size=40))
    def test_small_numbers_of_any_width(self, values):
        with mock.patch.object(columns, "_FEW", 0):
            for kind in (np.uint8, np.int16, np.int32, np.int64, np.uint64):
                found = distinct(np.array(values, dtype=kind))
                self.assertEqual((found.codes.tolist(), found.first.tolist()), self.by_loop(values))

    @given(st.lists(st.tuples(SMALL | WIDE, SMALL | WIDE), unique=True, max_size=40), st.sampled_from([1, 3, 20]))
    def test_numbers_of_keys_may_be_forgotten_and_are_never_wrong(self, keys, bits):
        both = [np.array(side, dtype=np.int64) for side in zip(*keys)] or [np.zeros(0, np.int64)] * 2
        with mock.patch.object(columns, "_BITS", bits):
            memory = KeyNumbers(2)
            self.assertTrue((memory.find(*both) == -1).all())
            half = len(keys) // 2
            for begin, end in ((0, half), (half, len(keys))):
                memory.note(np.arange(begin, end), *(column[begin:end] for column in both))
            found = memory.find(*both).tolist()
        known = [index for index, number in enumerate(found) if number >= 0]
        self.assertEqual([found[index] for index in known], known)
        # One key has each place, the last that was noted; that few share one holds of keys that nobody has sought out.
        self.assertTrue(not keys or len(keys) - 1 in known)

    def test_a_memory_that_grows_keeps_what_it_knew(self):
        memory, keys = KeyNumbers(2), np.random.default_rng(2).permutation(50_000)
        for begin, end in ((0, 100), (100, 3_000), (3_000, 3_001), (3_001, 50_000)):
            memory.note(np.arange(begin, end), keys[begin:end], keys[begin:end] % 7)
            found = memory.find(keys[:end], keys[:end] % 7)
            known = found >= 0
            self.assertGreater(known.mean(), 0.9, "a place for eight times as many, so that few share one")
            self.assertTrue((found[known] == np.arange(end)[known]).all())
        memory.clear()
        self.assertTrue((memory.find(keys, keys % 7) < 0).all())

    def test_a_column_that_grows_has_all_that_was_added(self):
        column, expected = Growing(np.dtype(np.uint8)), []
        for count in (0, 3, 2_000, 1, 5_000):
            more = np.random.default_rng(count).integers(0, 256, count)
            column.add(more)
            expected += more.tolist()
            self.assertEqual((len(column), column.values.tolist()), (len(expected), expected))

    @given(st.lists(st.tuples(st.integers(0, 9), st.integers(-3, 3)), max_size=40), st.sampled_from([1, 3, 20]))
    def test_rows_that_another_is_equal_to_whatever_falls_on_one_slot(self, rows, bits):
        both = [np.array([row[part] for row in rows], dtype=np.int64) for part in (0, 1)]
        with mock.patch.object(columns, "_BITS", bits):
            found = repeated(*both).tolist()
        self.assertEqual([place for place, row in enumerate(rows) if rows.count(row) > 1], found)

    def test_many_rows_that_all_differ(self):
        values = np.random.default_rng(1).permutation(300_000) * 1_000_003
        found = distinct(values, values)
        self.assertTrue((found.codes == np.arange(300_000)).all() and len(found) == 300_000)

    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 2**60), st.integers(0, 2**62)), max_size=40))
    def test_sums_are_exact_however_large(self, rows):
        keys, small, large = (
            (np.array(side, dtype=np.int64) for side in zip(*rows)) if rows else [np.zeros(0, np.int64)] * 3
        )
        found = distinct(keys)
        order = [int(keys[row]) for row in found.first]
        for values in (small, large):
            want = [sum(int(v) for k, v in zip(keys, values, strict=True) if k == key) for key in order]
            self.assertEqual(found.sums(values).tolist(), want)
            self.assertEqual(
                found.most(values).tolist(),
                [max(int(v) for k, v in zip(keys, values, strict=True) if k == key) for key in order],
            )
        self.assertEqual(found.counts().tolist(), [int((keys == key).sum()) for key in order])

    def test_sums_of_numbers_of_any_size_add_up_again(self):
        found = distinct(np.array([1, 2, 1]))
        for values in ([1 << 70, 2, 3], [1, 2, 3]):
            self.assertEqual(found.sums(np.array(values, dtype=object)).tolist(), [values[0] + 3, 2])

    @given(st.lists(st.integers(-4, 4)))
    def test_ascending_values_and_the_place_of_each(self, values):
        known, places = columns.ascending(np.array(values, dtype=np.int64))
        self.assertEqual(known.tolist(), sorted(set(values)))
        self.assertEqual(places.tolist(), [sorted(set(values)).index(each) for each in values])

    def test_least_knows_what_is_missing(self):
        found = distinct(np.array([7, 7, 8]))
        self.assertEqual(found.least(np.array([-1, 5, -1]), -1).tolist(), [5, -1])

    @given(st.lists(st.integers(-40, 40), min_size=1), st.lists(st.integers(-40, 40)), st.integers(1, 9),
           st.sampled_from([1, 1 << 22]))  # fmt: skip
    def test_what_lies_a_step_beside_others_whether_looked_up_or_sorted(self, values, known, step, close):
        known = [each for each in known if each in values]
        with mock.patch.object(columns, "_CLOSE", close):
            found = columns.beside(np.array(values), np.array(known, dtype=np.int64), step)
        near = {each + move for each in known for move in (-step, 0, step)}
        self.assertEqual(found.tolist(), [each in near for each in values])

    def test_rows_of_several_columns(self):
        found = combined([np.array([1, 1, 2, 1]), np.array([5, 6, 5, 5])], 4)
        self.assertEqual((found.codes.tolist(), found.first.tolist()), ([0, 1, 2, 0], [0, 1, 2]))
        self.assertEqual(combined([], 3).codes.tolist(), [0, 0, 0])

    @given(
        st.lists(
            st.one_of(st.integers(0, (1 << 128) - 1), st.integers(0, 300), st.integers(0, 40).map(lambda n: n << 64))
        )
    )
    def test_numbers_of_128_bits_sort_as_their_bytes_do(self, numbers):
        halves = [np.array([part(n) for n in numbers], dtype=np.uint64)
                  for part in (lambda n: n >> 64, lambda n: n & (1 << 64) - 1)]  # fmt: skip
        made = in_order(*halves)
        order = np.argsort(made, kind="stable").tolist()
        self.assertEqual([numbers[at] for at in order], sorted(numbers))
        asked = np.searchsorted(made[order], made, side="right").tolist()
        self.assertEqual(asked, [sum(other <= each for other in numbers) for each in numbers])


if __name__ == "__main__":
    unittest.main()
