"""Requests and replies found by hashes, against plain dictionaries."""

import unittest

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import TCP, Service
from kiboko.core.records.conversations import FlowHash, OtherEnds, partners, port_hash
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import PASSED, FlowRecord

ANN, DAN, PUBLIC = map(parse_address, ("10.1.1.10", "10.2.1.10", "203.0.113.10"))
FEW = st.lists(st.sampled_from([0, 1, 2, 1 << 44, (1 << 44) + 1, (1 << 64) - 1]), max_size=20)


def record(source, source_port, destination, port):
    return FlowRecord(source, destination, Service(TCP, port), source_port, PASSED)


class Conversations(unittest.TestCase):
    @given(FEW, FEW)
    def test_each_wanted_hash_finds_the_first_row_that_has_it(self, wanted, hashes):
        rows = np.arange(100, 100 + len(hashes))
        found = partners(np.array(wanted, dtype=np.uint64), np.array(hashes, dtype=np.uint64), rows)
        self.assertEqual(found.tolist(), [100 + hashes.index(each) if each in hashes else -1 for each in wanted])

    def test_a_reply_turned_round_has_the_hash_of_its_request_and_no_other_record_has(self):
        table = table_of([
            record(ANN, 40000, DAN, 22), record(DAN, 22, ANN, 40000), record(ANN, 22, DAN, 40000),
            record(DAN, 40000, ANN, 22), record(ANN, 40000, PUBLIC, 22),
        ])  # fmt: skip
        hashes, rows = FlowHash.of(table.addresses), np.arange(5)
        own = hashes.as_source[table.source] ^ hashes.as_destination[table.destination] ^ port_hash(table, rows, False)
        self.assertEqual(len(set(own.tolist())), 5)
        turned = hashes.turned(table, rows).tolist()
        # Two pairs, each the reply of the other; what goes to the public address has none.
        self.assertEqual([own.tolist().index(each) if each in own else None for each in turned], [1, 0, 3, 2, None])

    def test_an_end_behind_a_gateway_stands_for_its_own_only_where_there_is_one(self):
        table = table_of([record(ANN, 1, DAN, 2), record(PUBLIC, 1, DAN, 2)])
        hashes = FlowHash.of(table.addresses)
        ends = OtherEnds.of([None, ANN], True)
        own = hashes.as_source[table.source]
        self.assertEqual(ends.instead(own, np.array([0, 1])).tolist(), [own[0], own[0]])


if __name__ == "__main__":
    unittest.main()
