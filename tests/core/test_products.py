"""What holds for many pairs on many services as products: each cell in one of them, no other cell in any, and few."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, arrays

from kiboko.core.reachability.products import products, products_of

TRUTHS = arrays(np.bool_, array_shapes(min_dims=3, max_dims=3, max_side=6))


class Products(unittest.TestCase):
    def covered(self, shape, found):
        counts = np.zeros(shape, dtype=int)
        for rows, columns, services in found:
            self.assertTrue(len(rows) and len(columns) and len(services))
            counts[np.ix_(rows, columns, services)] += 1
        return counts

    @settings(max_examples=100, deadline=None)
    @given(TRUTHS)
    def test_every_cell_is_in_one_product_and_no_other_in_any(self, truths):
        self.assertTrue(np.array_equal(truths.astype(int), self.covered(truths.shape, products(truths))))

    @settings(max_examples=100, deadline=None)
    @given(st.data())
    def test_the_same_of_patterns_some_of_them_equal_or_of_nothing(self, data):
        holds = data.draw(arrays(np.bool_, st.tuples(st.integers(1, 5), st.integers(1, 5))))
        shape = data.draw(array_shapes(min_dims=2, max_dims=2, max_side=6))
        table = data.draw(arrays(np.int32, shape, elements=st.integers(0, len(holds) - 1)))
        truths = holds[table]
        self.assertTrue(np.array_equal(truths.astype(int), self.covered(truths.shape, products_of(table, holds))))

    def test_a_whole_row_and_a_whole_column_take_as_many_products_as_the_shorter_side(self):
        """One receiver whom all send to, and nine senders who send to one other each: ten products by receivers."""
        truths = np.zeros((40, 10, 3), dtype=np.bool_)
        truths[:, 0, 1] = True
        for column in range(1, 10):
            truths[column::9, column, 1] = True
        self.assertEqual(10, len(products(truths)))

    def test_services_that_hold_for_the_same_pairs_stay_together(self):
        truths = np.zeros((3, 3, 4), dtype=np.bool_)
        truths[0, 1, :2] = truths[2, 0, :2] = True
        truths[1, 2, 2:] = True
        found = products(truths)
        self.assertEqual(3, len(found))
        self.assertEqual({(0, 1), (2, 3)}, {tuple(services.tolist()) for *_, services in found})


if __name__ == "__main__":
    unittest.main()
