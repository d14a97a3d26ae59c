"""Sums of flow records held to a plain loop over the records themselves."""

import pickle
import unittest
from datetime import UTC, datetime, timedelta
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.header.addresses import Address
from kiboko.core.header.services import Service
from kiboko.core.records import group_sums
from kiboko.core.records.flow_sums import Sums
from kiboko.core.records.flow_table import NO_TIME, milliseconds, table_of
from kiboko.core.records.group_sums import MEASURES
from kiboko.core.records.records import DENIED, PASSED, SEEN, FlowRecord

NOON = datetime(2026, 11, 20, 12, tzinfo=UTC)
TIMES = st.one_of(st.none(), st.integers(-90, 90).map(lambda n: NOON + timedelta(minutes=n)))
COUNTS = st.one_of(st.integers(0, 3), st.integers(0, (1 << 63) - 1))
ADDRESSES = st.one_of(st.integers(1, 3).map(lambda n: Address(4, n)), st.integers(1, 3).map(lambda n: Address(6, n)))
RECORDS = st.builds(
    FlowRecord, ADDRESSES, ADDRESSES, st.builds(Service, st.sampled_from((6, 17)), st.sampled_from((22, 53))),
    st.one_of(st.none(), st.sampled_from((40000, 40001))), st.sampled_from((PASSED, SEEN, DENIED)), TIMES, TIMES,
    COUNTS, COUNTS,
)  # fmt: skip
PLAIN = {
    "source": lambda record: str(record.source),
    "service": lambda record: str(record.service),
    "source-port": lambda record: "-" if record.source_port is None else str(record.source_port),
    "outcome": lambda record: record.event,
    "hour": lambda record: f"{record.start:%Y-%m-%d %H}:00Z" if record.start else "no time",
}


def plainly(records, fields):
    """For each group, in the order of the first record of each: records, packets, octets, first and last time."""
    found = {}
    for record in records:
        found.setdefault(tuple(PLAIN[name](record) for name in fields), []).append(record)
    return {key: amounts(group) for key, group in found.items()}


def amounts(group):
    starts = [milliseconds(each.start) for each in group if each.start]
    ends = [milliseconds(each.end or each.start) for each in group if each.end or each.start]
    return (len(group), sum(each.packets for each in group), sum(each.octets for each in group),
            min(starts, default=NO_TIME), max(ends, default=NO_TIME))  # fmt: skip


def told(each):
    return each.records, each.packets, each.octets, each.first, each.last


class ByFields(unittest.TestCase):
    @given(st.lists(st.lists(RECORDS, max_size=12), max_size=4),
           st.sampled_from([(), ("source",), ("service", "source-port"), ("hour", "outcome", "source")]),
           st.integers(0, 4), st.booleans())  # fmt: skip
    def test_sums_are_those_of_a_loop_however_they_come_and_however_large(self, tables, fields, waiting, sent):
        """Taken in table by table, or by sums of each that were sent from elsewhere."""
        records = [record for table in tables for record in table]
        with mock.patch.object(group_sums, "_FEW_WAITING", waiting):
            sums = Sums(fields)
            for table in tables:
                part = Sums(fields) if sent else sums
                part.add(table_of(table))
                if sent:
                    sums.merge(pickle.loads(pickle.dumps(part)))
            expected = plainly(records, fields)
            self.assertEqual({key: told(each) for key, each in sums.groups.items()}, expected)
            self.assertEqual((len(sums), sums.left_out), (len(expected), 0))
            self.assertEqual(told(sums.total), amounts(records))

    @given(st.lists(RECORDS, max_size=20), st.sampled_from(MEASURES), st.integers(1, 6))
    def test_the_largest_come_first_and_equal_ones_by_name(self, records, measure, most):
        sums = Sums(("service", "source"))
        sums.add(table_of(records))
        place = {"records": 0, "packets": 1, "octets": 2}[measure]
        expected = sorted(plainly(records, sums.fields).items(), key=lambda item: (-item[1][place], item[0]))
        self.assertEqual([(key, told(each)) for key, each in sums.largest(measure, most)], expected[:most])
        self.assertEqual([key for key, _ in sums.largest(measure)], [key for key, _ in expected])

    @given(st.lists(st.lists(RECORDS, max_size=8), max_size=4))
    def test_of_too_many_groups_the_first_are_kept_and_the_rest_counted(self, tables):
        records = [record for table in tables for record in table]
        with mock.patch.object(group_sums, "_MOST_GROUPS", 3):
            sums = Sums(("source", "outcome"))
            for table in tables:
                sums.add(table_of(table))
            kept = dict(list(plainly(records, sums.fields).items())[:3])
            self.assertEqual({key: told(each) for key, each in sums.groups.items()}, kept)
            self.assertEqual(sums.left_out, len(records) - sum(count for count, *_ in kept.values()))
            self.assertEqual(sums.total.records, len(records))

    def test_what_began_just_before_1970_is_not_taken_for_what_has_no_time(self):
        early = datetime(1969, 12, 31, 23, 59, 30, tzinfo=UTC)
        ends = Address(4, 1), Address(4, 2), Service(6, 22), 40000, PASSED
        sums = Sums(("minute",))
        sums.add(table_of([FlowRecord(*ends, early, None, 1, 1), FlowRecord(*ends, None, None, 1, 1)]))
        self.assertEqual(sorted(sums.groups), [("1969-12-31 23:59Z",), ("no time",)])

    def test_addresses_are_called_what_they_are_called_once_for_each(self):
        asked = []

        def name(address):
            asked.append(address)
            return "pair" if address.value < 3 else "single"

        ends = [FlowRecord(Address(4, n), Address(4, 9), Service(6, 22), 40000, PASSED, NOON, NOON, 1, 10)
                for n in (1, 2, 3, 1, 2)]  # fmt: skip
        sums = Sums(("source",), name)
        for _ in range(2):
            sums.add(table_of(ends))
        self.assertEqual({key: each.records for key, each in sums.groups.items()}, {("pair",): 8, ("single",): 2})
        self.assertEqual(len(asked), 3)


if __name__ == "__main__":
    unittest.main()
