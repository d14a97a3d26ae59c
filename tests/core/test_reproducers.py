"""Networks on which the walk and real packets, or its own promise, once differed. What the kernel did stands beside each;
the test at the end asks the kernel again."""

import dataclasses
import unittest
from pathlib import Path
from unittest import mock

from kiboko.core.filters.discovery import Discovery
from kiboko.core.header.services import services_texts
from kiboko.core.network.edits import with_rules
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.proposals import proposals
from kiboko.core.reachability.sets import ask_set
from kiboko.core.walk.walk import Walker
from kiboko.files.network.network_file import load_network
from tests.helpers import kiboko, walk
from tests.namespaces import why_not

FOLDER = Path(__file__).resolve().parent.parent / "reproducers"


def network(name):
    """The network of one reproducer."""
    path = FOLDER / name
    return load_network(str(path / "network.yaml" if path.is_dir() else path))


def seen(name, *questions):
    """Verdict and signal of each question, as `source destination service [family]`."""
    topology = network(name)
    found = []
    for question in questions:
        source, destination, service, *family = question.split()
        walked = walk(topology, source, destination, service, family=int(family[0]) if family else None)
        found.append((walked.verdict, walked.signal))
    return found


class Signals(unittest.TestCase):
    def test_a_reject_of_type_icmp_or_icmpv6_holds_for_its_own_family(self):
        questions = "a b tcp/22 4", "a b tcp/22 6", "a c tcp/22 4", "a c tcp/22 6"
        expected = [
            ("allowed", "answered"),
            ("blocked", "refused"),
            ("blocked", "unreachable"),
            ("allowed", "answered"),
        ]
        with mock.patch.object(Discovery, "stopped", return_value=None):
            self.assertEqual(expected, seen("1-reject-family", *questions))
        # What refuses all of IPv6 refuses neighbour discovery as well.
        expected[1] = "blocked", "unknown"
        self.assertEqual(expected, seen("1-reject-family", *questions))

    def test_an_earlier_chain_that_drops_a_syn_makes_the_sender_see_silence(self):
        questions = [f"a {name} tcp/22" for name in "bcde"]
        self.assertEqual(seen("3-unknown-chain", *questions), [("blocked", "silent")] * 4)

    def test_a_senders_own_refusal_comes_in_through_its_own_input_rules(self):
        self.assertEqual(seen("4-own-refusal-unknown", "a b tcp/22", "a b udp/53"), [("blocked", "silent")] * 2)

    def test_a_refusal_through_an_appliance_that_never_saw_the_request_is_not_established(self):
        self.assertEqual(
            seen("5-refusal-through-appliance", "a b tcp/22", "a b udp/53", "a c tcp/22", "a c udp/53", "a c ping"),
            [("one-way", "silent"), *[("blocked", "silent")] * 4],
        )

    def test_a_routers_own_address_is_matched_by_all_addresses_and_an_outside_that_covers_it(self):
        questions = ("a b udp/53", "c b udp/53", "d b udp/53")
        self.assertEqual(seen("6-router-refusal-from-all", *questions), [("blocked", "refused")] * 3)

    def test_a_gateway_translates_a_routers_refusal(self):
        self.assertEqual(seen("7-refusal-translated", "a 203.0.113.11 udp/53"), [("blocked", "refused")])

    def test_icmp_codes_by_name(self):
        questions = ("a b tcp/22", "c b udp/53", "e b udp/53", "g b udp/53")
        self.assertEqual(seen("8-icmp-code", *questions), [("blocked", "silent")] * 4)

    def test_a_routers_unreachable_is_lost_where_a_stateless_filter_or_a_host_stops_it(self):
        questions = ("a 10.20.7.7 udp/53", "a 2001:db8:20:7::7 udp/53", "b 10.20.7.7 udp/53", "c 10.20.7.7 udp/53")
        self.assertEqual(
            seen("9-unreachable-lost", *questions), [*[("blocked", "silent")] * 3, ("blocked", "unreachable")]
        )

    def test_a_rule_of_which_one_part_surely_does_not_match_does_not_match(self):
        self.assertEqual(
            seen("sets/nftand.yaml", "pc db ssh", "pc db tcp/5999"), [("allowed", "answered"), ("blocked", "silent")]
        )


class Explanations(unittest.TestCase):
    def test_near_misses_name_no_rule_behind_the_one_that_decides(self):
        topology = network("10-near-miss-behind")
        self.assertEqual(near_misses(Walker(topology), walk(topology, "a", "b", "tcp/22")), [])

    def test_proposals_for_one_filter_never_share_an_order_and_none_comes_twice(self):
        for name, count in (("network.yaml", 1), ("reply.yaml", 2)):
            topology = load_network(str(FOLDER / "11-suggestion-orders" / name))
            found = proposals(Walker(topology), walk(topology, "a", "b", "tcp/22"))
            orders = [each.rule["order"] for each in found.each]
            self.assertEqual((len(orders), len(set(orders)), found.verdict_with_all), (count, count, "allowed"))
            changed = topology
            for each in found.each:
                changed = each.edit(changed)
            rules = changed.filters["fleet"].rules
            self.assertEqual(len({rule.order for rule in rules}), len(rules))
            without = dataclasses.replace(changed, filters={"fleet": with_rules(changed.filters["fleet"], "rules", ())})
            self.assertEqual(walk(without, "a", "b", "tcp/22").verdict, "blocked")


class Sets(unittest.TestCase):
    def rows(self, name, source, destination, service):
        ends = Ends(Walker(network(name)))
        services = resolve_service(service, ends.topology.services)
        found = ask_set(ends, ends.resolve(source), ends.resolve(destination), services, None, None)
        return [
            (row.example.verdict, row.family, row.reason, *(services_texts(part.services) for part in row.parts))
            for row in found.rows
        ]

    def test_ipv6_is_not_hidden_behind_ipv4(self):
        self.assertEqual(
            self.rows("sets/v6set.yaml", "pcs", "shops", "https"),
            [("blocked", 6, None, ["tcp/443"]), ("allowed", 4, None, ["tcp/443"])],
        )

    def test_one_members_reason_is_not_given_for_all(self):
        reasons = [row[2] for row in self.rows("sets/stopgrp.yaml", "10.80.0.0/16", "db", "ssh") if row[0] == "blocked"]
        self.assertEqual(reasons, [None, "the sender lies in no subnet"])  # the one that is stopped stands by itself


class Evidence(unittest.TestCase):
    def status(self, records):
        done = kiboko("confirm", "-n", "hairpin.yaml", "--flows", records, cwd=FOLDER / "sets")
        return done.returncode, done.stdout

    def test_a_shared_address_to_a_public_one_of_ours_is_no_leak(self):
        for records, said, expected in (
            ("hairpin.csv", "AGREE", 0),  # only pc can stand behind it, and may
            ("ctl.csv", "AGREE", 0),
            ("rst.csv", "NOTHING PROVED", 1),
            ("rst2.csv", "NOTHING PROVED", 1),
        ):
            status, told = self.status(records)
            self.assertEqual((told.startswith(said), status), (True, expected), records)


@unittest.skipIf(why_not() is not None, why_not() or "")
class Kernel(unittest.TestCase):
    def test_real_packets_agree_with_the_walk_on_every_reproducer(self):
        for path in sorted(
            [*FOLDER.glob("*/network.yaml"), *FOLDER.glob("sets/*.yaml"), *FOLDER.glob("11*/reply.yaml")]
        ):
            with self.subTest(path.parent.name):
                done = kiboko("replica", "verify", "-n", path)
                self.assertEqual(done.returncode, 0, done.stdout + done.stderr)


if __name__ == "__main__":
    unittest.main()
