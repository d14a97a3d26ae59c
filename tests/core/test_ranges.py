"""Exact sets against brute force on a small universe, and addresses and services as texts."""

import ipaddress
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.header import addresses, services
from kiboko.core.header.addresses import Address, AddressSet, parse_address_set, parse_prefix
from kiboko.core.header.prefixes import PrefixTable
from kiboko.core.header.ranges import RangeSet, shared_parts
from kiboko.core.header.services import parse_services, services_texts
from kiboko.core.tables.cuts import AddressAtoms

UNIVERSE = range(40)
small_sets = st.lists(st.tuples(st.integers(0, 39), st.integers(0, 8)), max_size=6).map(
    lambda pairs: RangeSet.of((low, min(39, low + more)) for low, more in pairs)
)


def members(chosen):
    return {value for low, high in chosen for value in range(low, high + 1)}


class Algebra(unittest.TestCase):
    @given(small_sets, small_sets)
    def test_operations_agree_with_brute_force(self, a, b):
        one, other = members(a), members(b)
        for result, expected in ((a | b, one | other), (a & b, one & other), (a - b, one - other)):
            self.assertEqual(members(result), expected)
            self.assertEqual(result.size, len(expected))
            self.assertTrue(
                all(x[1] + 1 < y[0] for x, y in zip(result.ranges, result.ranges[1:], strict=False)), "normal form"
            )
        self.assertEqual(a <= b, one <= other)
        self.assertEqual({value for value in UNIVERSE if value in a}, one)
        self.assertEqual(bool(a), bool(one))

    @given(small_sets)
    def test_equal_sets_are_equal_values(self, a):
        self.assertEqual(a, RangeSet.of((value, value) for value in members(a)))

    @given(st.lists(small_sets, max_size=5))
    def test_addresses_of_one_atom_are_in_the_same_sets(self, chosen):
        atoms = AddressAtoms(AddressSet(v4=each) for each in chosen)
        for x in UNIVERSE:
            for y in UNIVERSE:
                same = all((x in each) == (y in each) for each in chosen)
                alike = atoms.signature(Address(4, x)) == atoms.signature(Address(4, y))
                self.assertEqual(alike, same)

    @given(st.lists(small_sets, max_size=5), st.integers(0, 39), st.integers(0, 39))
    def test_a_range_is_split_without_gap_or_overlap(self, chosen, a, b):
        low, high = min(a, b), max(a, b)
        atoms = AddressAtoms(AddressSet(v4=each) for each in chosen)
        pieces = list(atoms.split(Address(4, low), Address(4, high)))
        self.assertEqual(
            [v for first, last, _ in pieces for v in range(first.value, last.value + 1)], list(range(low, high + 1))
        )
        for first, last, signature in pieces:
            self.assertTrue(
                all(atoms.signature(Address(4, v)) == signature for v in range(first.value, last.value + 1))
            )

    @given(*[st.lists(st.integers(-1, 3), min_size=12, max_size=12)] * 2)
    def test_what_sets_of_two_lists_share_is_what_each_shares_with_each(self, ours, theirs):
        """Twelve numbers, each in one set of each list or in none (-1)."""
        one, other = ([RangeSet.of((n, n) for n in range(12) if among[n] == place) for place in range(4)]
                      for among in (ours, theirs))  # fmt: skip
        each = [(i, j, one[i] & other[j]) for i in range(4) for j in range(4) if one[i] & other[j]]
        self.assertEqual(each, shared_parts(one, other))


class Addresses(unittest.TestCase):
    @given(st.integers(0, 2**32 - 1), st.integers(0, 2**32 - 1))
    def test_texts_of_a_range_read_back_as_the_range(self, a, b):
        low, high = min(a, b), max(a, b)
        made = AddressSet(v4=RangeSet.span(low, high))
        self.assertEqual(AddressSet.union(map(parse_address_set, made.texts())), made)
        prefixes = addresses.range_prefixes(4, low, high)
        self.assertEqual(AddressSet.of_prefixes(prefixes), made)

    @given(st.integers(0, 2**128 - 1))
    def test_addresses_are_written_as_the_standard_library_does(self, value):
        self.assertEqual(str(Address(6, value)), str(ipaddress.IPv6Address(value)))

    def test_a_block_with_host_bits_is_refused_with_the_block_that_was_meant(self):
        with self.assertRaisesRegex(ValueError, "did you mean '10.0.0.0/24'"):
            parse_prefix("10.0.0.7/24")

    def test_texts_that_are_no_addresses_are_refused(self):
        for text in ("10.0.0.1-fd00::1", "10.0.0.9-10.0.0.1", "10.0.0/33", "fe80::1%eth0", "10.0.0.0/255.0.0.0"):
            with self.assertRaises(ValueError, msg=text):
                parse_address_set(text)

    @given(st.lists(st.tuples(st.integers(0, 255), st.integers(0, 8)), min_size=1, max_size=12), st.integers(0, 255))
    def test_longest_prefix_match_agrees_with_trying_every_prefix(self, drawn, value):
        prefixes = [parse_prefix(f"10.0.0.{v >> (8 - n) << (8 - n) if n else 0}/{24 + n}") for v, n in drawn]
        address = Address(4, (10 << 24) + value)
        holding = sorted({p.length for p in prefixes if address in p}, reverse=True)
        found = PrefixTable((p, p) for p in prefixes).matches(address)
        self.assertEqual([p.length for p in dict.fromkeys(found)], holding)

    def test_documentation_ipv6_counts_as_global_and_local_kinds_do_not(self):
        verdicts = [addresses.is_global_ipv6(addresses.parse_address(text))
                    for text in ("2001:db8::1", "2a00::1", "fd00::1", "fe80::1", "::1", "ff02::1", "10.0.0.1")]  # fmt: skip
        self.assertEqual(verdicts, [True, True, False, False, False, False, False])


class Services(unittest.TestCase):
    def test_notations(self):
        tcp = 6 << 16
        self.assertEqual(parse_services("tcp/443").ranges, ((tcp | 443, tcp | 443),))
        self.assertEqual(parse_services("tcp/8000-8010").size, 11)
        self.assertEqual(parse_services("tcp").size, 65536)
        self.assertEqual(parse_services("icmp/3/4").ranges, (((1 << 16) | 0x0304, (1 << 16) | 0x0304),))
        self.assertEqual(parse_services("icmp6/echo-request").ranges, (((58 << 16) | 0x8000, (58 << 16) | 0x80FF),))
        self.assertEqual(parse_services("proto/47").ranges, ((47 << 16, (47 << 16) | 0xFFFF),))
        self.assertEqual(parse_services("dns"), parse_services("tcp/53") | parse_services("udp/53"))
        self.assertEqual(parse_services("any").size, 256 * 65536)

    def test_what_is_none_is_refused(self):
        for text in ("tcp/", "tcp/70000", "tcp/20-10", "proto/256", "icmp/nonsense", "icmp/3/256", "gopher", "tcp/²"):
            with self.assertRaises(ValueError, msg=text):
                parse_services(text)

    @given(st.sampled_from(["tcp", "udp", "sctp"]), st.integers(0, 65535), st.integers(0, 65535))
    def test_texts_read_back(self, protocol, a, b):
        made = parse_services(f"{protocol}/{min(a, b)}-{max(a, b)}")
        self.assertEqual(services.union_services(map(parse_services, services_texts(made))), made)

    def test_whole_protocols_are_summed_up(self):
        rest = services.EVERY_SERVICE - parse_services("tcp/22")
        self.assertEqual(
            services_texts(rest), ["proto/0 to proto/5", "tcp/0-21", "tcp/23-65535", "proto/7 to proto/255"]
        )
        self.assertEqual(services_texts(services.EVERY_SERVICE), ["any"])


if __name__ == "__main__":
    unittest.main()
