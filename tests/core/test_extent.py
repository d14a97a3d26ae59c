"""Of which time all records of a log are at hand, by the records at the edge of what was read."""

import unittest

import numpy as np

from kiboko.core.records.extent import EVER, NOTHING, WHOLE, Extent, extent_of, is_by_start, span_of
from kiboko.core.records.flow_table import NO_TIME, table_of
from tests.core.test_watch import record

SECOND = 1000


class Extents(unittest.TestCase):
    def test_a_log_in_order_is_at_hand_up_to_its_edge(self):
        times = np.arange(1000) * SECOND
        self.assertEqual(extent_of(times, at_end=True).since, -EVER)
        self.assertLessEqual(extent_of(times, at_end=True).until, 999 * SECOND)
        self.assertGreater(extent_of(times, at_end=True).until, 850 * SECOND)
        begin = extent_of(times, at_end=False)
        self.assertEqual((begin.until, 0 <= begin.since < 150 * SECOND), (EVER, True))

    def test_what_comes_late_moves_the_edge_by_as_much(self):
        draw = np.random.default_rng(3)
        times = np.arange(100_000) * 10
        late = times - draw.integers(0, 20 * SECOND, len(times))
        prompt, delayed = (extent_of(each, at_end=True).until for each in (times, late))
        self.assertAlmostEqual(prompt - delayed, 20 * SECOND, delta=3 * SECOND)

    def test_of_a_log_with_its_newest_records_first_what_is_not_at_hand_behind_is_older(self):
        times = np.arange(1000)[::-1] * SECOND
        self.assertEqual(extent_of(times, at_end=True).until, EVER)
        self.assertLess(extent_of(times, at_end=True).since, 150 * SECOND)
        self.assertEqual(extent_of(times, at_end=False).since, -EVER)

    def test_of_a_log_in_no_order_nothing_is_at_hand(self):
        times = np.random.default_rng(4).permutation(np.arange(5000) * SECOND)
        both = extent_of(times, at_end=True).within(extent_of(times, at_end=False))
        self.assertFalse(both.holds(times).any())

    def test_without_times_nothing_is_at_hand(self):
        times = np.full(9, int(NO_TIME))
        self.assertEqual((extent_of(times, at_end=True), span_of(times)), (NOTHING, None))
        self.assertFalse(NOTHING.holds(np.array([0, EVER // 2])).any())

    def test_a_margin_lies_inside_of_each_edge(self):
        times = np.array([0, 10, 20, 90, 91]) * SECOND
        self.assertEqual(Extent(10 * SECOND, 100 * SECOND).holds(times).tolist(), [False, False, True, True, False])
        self.assertTrue(WHOLE.holds(times).all())

    def test_a_log_is_in_order_of_beginnings_or_of_ends(self):
        def flows(by_start):
            found = [record("10.1.1.10", "10.1.2.10", 40000, 22, "passed", 2, at) for at in range(50)]
            table = table_of(found)
            lasting = np.where(np.arange(50) % 7 == 0, 30 * SECOND, 0)
            if by_start:
                table.end[:] += lasting
            else:
                table.start[:] -= lasting
            return table

        self.assertEqual([is_by_start([flows(True)]), is_by_start([flows(False)])], [True, False])


if __name__ == "__main__":
    unittest.main()
