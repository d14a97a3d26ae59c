"""Cells as columns: what products of them hold, against the cells themselves."""

import random
import unittest
from unittest import mock

import numpy as np

from kiboko.core.header.ranges import RangeSet
from kiboko.core.reachability.cell_columns import CellColumns
from kiboko.core.reachability.end_classes import Cells

SETS = [RangeSet.one(value) for value in (22, 80, 443)]


def random_cells(chance):
    """Some of twelve sources by nine destinations by three sets of services, many of them alike."""
    rows = [[chance.sample(range(9), chance.randrange(9)) for _ in SETS] for _ in range(4)]
    found = []
    for source in range(12):
        for services, targets in zip(SETS, rows[chance.randrange(4)]):
            if targets:
                found.append(Cells(services, [source] * len(targets), targets))
    return found


def spelled_out(cells):
    """Every source, destination and set of services."""
    return sorted((i, j, str(each.services)) for each in cells for i, j in zip(each.sources, each.destinations))


class Shapes(unittest.TestCase):
    def check(self, seed):
        cells = random_cells(random.Random(seed))
        shapes = list(CellColumns.of(cells).shapes())
        told = sorted((i, j, str(services)) for services, sources, targets in shapes for i in sources for j in targets)
        self.assertEqual(told, spelled_out(cells))
        # Sources with the same destinations on the same services stand in one.
        self.assertEqual(len(shapes), len({(services, tuple(targets)) for services, _, targets in shapes}))

    def test_products_hold_every_cell_once_and_are_as_few_as_may_be(self):
        for seed in range(20):
            with self.subTest(seed=seed):
                self.check(seed)

    def test_destinations_of_one_hash_are_still_told_apart(self):
        with mock.patch("kiboko.core.reachability.cell_columns.mixed", np.zeros_like):
            for seed in range(20):
                with self.subTest(seed=seed):
                    self.check(seed)

    def test_more_cells_with_other_sets_of_services_keep_their_own(self):
        cells = random_cells(random.Random(3))
        one, other = cells[: len(cells) // 2], cells[len(cells) // 2 :]
        told = list(CellColumns.of(one).with_more(CellColumns.of(other)).shapes())
        self.assertEqual(
            sorted((i, j, str(services)) for services, sources, targets in told for i in sources for j in targets),
            spelled_out(cells),
        )


if __name__ == "__main__":
    unittest.main()
