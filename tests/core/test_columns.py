"""Distinct values and sums of columns, against plain loops."""

import unittest
from unittest import mock

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core import columns
from kiboko.core.columns import combined, distinct

NUMBERS = st.lists(st.integers(-5, 5) | st.integers(-(2**62), 2**62), max_size=60)


class Columns(unittest.TestCase):
    def by_loop(self, values):
        met = {}
        return [met.setdefault(value, len(met)) for value in values], [values.index(value) for value in met]

    @given(NUMBERS, st.integers(1, 20))
    def test_distinct_values_in_the_order_they_are_met_whatever_falls_on_one_slot(self, values, bits):
        with mock.patch.object(columns, "_BITS", bits):
            found = distinct(np.array(values, dtype=np.int64))
        self.assertEqual((found.codes.tolist(), found.first.tolist()), self.by_loop(values))

    @given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 2**60), st.integers(0, 2**62)), max_size=40))
    def test_sums_are_exact_however_large(self, rows):
        keys, small, large = (
            (np.array(side, dtype=np.int64) for side in zip(*rows)) if rows else [np.zeros(0, np.int64)] * 3
        )
        found = distinct(keys)
        order = [int(keys[row]) for row in found.first]
        for values in (small, large):
            want = [sum(int(v) for k, v in zip(keys, values, strict=True) if k == key) for key in order]
            self.assertEqual(found.sums(values), want)
            self.assertEqual(
                found.most(values),
                [max(int(v) for k, v in zip(keys, values, strict=True) if k == key) for key in order],
            )
        self.assertEqual(found.counts().tolist(), [int((keys == key).sum()) for key in order])

    def test_least_knows_what_is_missing(self):
        found = distinct(np.array([7, 7, 8]))
        self.assertEqual(found.least(np.array([-1, 5, -1]), -1), [5, -1])

    def test_rows_of_several_columns(self):
        found = combined([np.array([1, 1, 2, 1]), np.array([5, 6, 5, 5])], 4)
        self.assertEqual((found.codes.tolist(), found.first.tolist()), ([0, 1, 2, 0], [0, 1, 2]))
        self.assertEqual(combined([], 3).codes.tolist(), [0, 0, 0])


if __name__ == "__main__":
    unittest.main()
