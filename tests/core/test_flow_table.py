"""Flow records as columns: what goes in comes out, and what is cut out of them."""

import ipaddress
import unittest
from datetime import UTC, datetime

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from kiboko.core.header.addresses import BITS, Address, AddressSet
from kiboko.core.header.ranges import RangeSet
from kiboko.core.records.flow_query import among
from kiboko.core.records.flow_table import NO_TIME, AddressTable, FlowTable, milliseconds, moment, table_of
from tests.core.test_comparison import flow

TEN = datetime(2026, 11, 20, 10, 0, tzinfo=UTC)
ADDRESSES = st.one_of(
    st.builds(Address, st.just(4), st.integers(0, 2**32 - 1)),
    st.builds(Address, st.just(6), st.integers(0, 2**128 - 1)),
)


def three():
    """ssh from ten to a quarter past, dns at eleven, and one that nobody timed."""
    quarter = datetime(2026, 11, 20, 10, 15, tzinfo=UTC)
    eleven = datetime(2026, 11, 20, 11, 0, tzinfo=UTC)
    return [
        flow("10.1.1.10", "10.2.1.10", "ssh", 40000, start=TEN, end=quarter),
        flow("fd00::1", "fd00::2", "udp/53", 40001, "denied", start=eleven, end=None),
        flow("10.1.1.10", "10.2.1.10", "ping", None, "seen", start=None, end=None),
    ]


class Addresses(unittest.TestCase):
    @given(st.lists(ADDRESSES, max_size=20))
    def test_addresses_come_back_as_they_were(self, addresses):
        table = AddressTable.of(addresses)
        self.assertEqual(len(table), len(addresses))
        self.assertEqual([table[index] for index in range(len(table))], addresses)

    @given(st.lists(st.one_of(ADDRESSES, st.builds(Address, st.just(6), st.integers(0, 2**49))), max_size=20))
    @example(
        [Address(6, 0xFFFF << 32 | 0x01020304), Address(6, 0x01020304), Address(4, 0), Address(6, 1), Address(6, 0)]
    )
    def test_texts_are_those_of_the_standard_library(self, addresses):
        of = {4: ipaddress.IPv4Address, 6: ipaddress.IPv6Address}
        wanted = [str(of[each.family](each.value)) for each in addresses]
        self.assertEqual(AddressTable.of(addresses).texts(), wanted)
        self.assertEqual(list(map(str, addresses)), wanted)

    @given(st.lists(ADDRESSES, max_size=20), st.lists(st.tuples(ADDRESSES, st.integers(0, 1 << 70)), max_size=6))
    def test_addresses_are_among_those_of_a_set_as_each_is_by_itself(self, addresses, blocks):
        spans = {4: [], 6: []}
        for address, size in blocks:
            spans[address.family].append((address.value, min(address.value + size, (1 << BITS[address.family]) - 1)))
        wanted = AddressSet(RangeSet.of(spans[4]), RangeSet.of(spans[6]))
        edges = [Address(family, edge) for family in (4, 6) for low, high in spans[family]
                 for edge in (low - 1, low, high, high + 1) if 0 <= edge < 1 << BITS[family]]  # fmt: skip
        listed = [*addresses, *edges]
        self.assertEqual(among(wanted, AddressTable.of(listed)).tolist(), [each in wanted for each in listed])


class Tables(unittest.TestCase):
    def setUp(self):
        self.table = table_of(three())

    def test_records_come_back_and_addresses_are_kept_once(self):
        self.assertEqual([self.table.record(index) for index in range(3)], three())
        self.assertEqual(len(self.table.addresses), 4)
        self.assertEqual(len(FlowTable.empty()), 0)

    def test_some_of_the_records_by_mask_indices_or_slice(self):
        for rows in (np.array([False, True, True]), np.array([1, 2]), slice(1, 3)):
            taken = self.table.taken(rows)
            self.assertEqual([taken.record(index) for index in range(len(taken))], three()[1:])

    def test_what_touches_a_time(self):
        at = {name: milliseconds(datetime(2026, 11, 20, *clock, tzinfo=UTC))
              for name, clock in {"ten": (10, 0), "past": (10, 15), "later": (10, 16), "eleven": (11, 0)}.items()}  # fmt: skip
        cases = {
            (None, None): [True, True, True],
            (at["ten"], None): [True, True, False],
            (at["past"], None): [True, True, False],
            (at["later"], None): [False, True, False],
            (None, at["ten"]): [False, False, False],
            (None, at["eleven"]): [True, False, False],
            (at["later"], at["eleven"]): [False, False, False],
        }
        for limits, want in cases.items():
            with self.subTest(limits):
                self.assertEqual(self.table.within(*limits).tolist(), want)

    def test_times_are_whole_milliseconds_and_none_stays_none(self):
        self.assertEqual(moment(milliseconds(TEN)), TEN)
        self.assertEqual(milliseconds(None), NO_TIME)
        self.assertIsNone(moment(int(NO_TIME)))
        self.assertEqual(milliseconds(datetime(1970, 1, 1, 0, 0, 1, 499_600, tzinfo=UTC)), 1500)


if __name__ == "__main__":
    unittest.main()
