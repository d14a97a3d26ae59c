"""Findings: each kind on the smallest network that shows it, coverage by brute force, and nothing on clean networks."""

import itertools
import tempfile
import unittest
from datetime import date
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from kiboko.batch.spanning import spread as shared_out
from kiboko.core.audit import listening, side_lines, ways
from kiboko.core.audit.audit import audit
from kiboko.core.audit.covering import Boxes
from kiboko.core.audit.findings import KINDS
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from tests.core.test_clauses_signals import listing
from tests.helpers import a_filter, base, load, walk
from tests.random_networks import random_network

TODAY = date(2026, 11, 25)
SIDE = 5


def findings(values, *kinds):
    return audit(Ends(Walker(load(values))), TODAY, kinds=kinds).findings


def told(values, kind):
    return [each.at for each in findings(values, kind)]


def rules_met(walker, source, target, service):
    """Which rules a packet and its reply meet, as findings call them."""
    for row in walker.walk(walker.directory.endpoint(source), target, service).rows:
        chosen = walker.topology.filters.get(row.filter or "")
        if chosen is not None and row.rule is not None:
            ways = {"in": "inbound", "out": "outbound"}
            way = "rules" if chosen.rules is not None else ways.get(row.step.bound, "")
            yield f"{chosen.name}/{way}/{row.rule}"


class WithoutPairs(unittest.TestCase):
    def test_machines_that_nobody_outside_could_send_to_are_audited_all_the_same(self):
        """Without any address, or with none of a family that an outside has."""
        for addresses in ([], ["2001:db8:9::5"]):
            interface = {"subnet": "s", **({"addresses": addresses} if addresses else {})}
            values = {
                "kiboko": 1, "networks": {"n": {"cidrs": ["10.0.0.0/16", "2001:db8:9::/48"]}},
                "outside": {"internet": {"addresses": ["0.0.0.0/0"]}},
                "subnets": {"s": {"network": "n", "cidr": ["10.0.0.0/24", "2001:db8:9::/64"]}},
                "instances": {"one": {"interfaces": [interface], "listens": ["ssh"]}},
            }  # fmt: skip
            found = audit(Ends(Walker(load(values))), TODAY)
            self.assertEqual((), found.left_out)
            self.assertEqual(bool(addresses), "unguarded-interface" in [each.id for each in found.findings])


class WithoutZone(unittest.TestCase):
    def test_who_has_no_zone_is_told_where_others_have_one(self):
        """No zone filter is asked about them: a zone that was forgotten opens what it was to shut."""
        self.assertEqual([], told(base(), "without-zone"))
        values = base()
        del values["subnets"]["b1"]["zone"], values["outside"]["depot"]["zone"]
        found = findings(values, "without-zone")
        self.assertEqual(["depot", "b1"], [each.at for each in sorted(found, key=lambda each: each.place.line)])
        self.assertIn("has no zone, where 3 of 5 have one", found[0].proof)
        for each in (*values["subnets"].values(), *values["outside"].values()):
            each.pop("zone", None)
        self.assertEqual([], told(values, "without-zone"))


sets = st.lists(st.tuples(st.integers(0, SIDE), st.integers(0, SIDE)).map(sorted), min_size=1, max_size=2).map(
    lambda pairs: RangeSet.of(tuple(pair) for pair in pairs)
)
boxes = st.tuples(sets, sets, sets, sets)


class Covering(unittest.TestCase):
    @settings(deadline=None, max_examples=150)
    @given(st.lists(boxes, min_size=1, max_size=9), st.sampled_from((1 << 24, 3, 1)), st.sampled_from((1 << 9, 0)))
    def test_a_box_is_covered_exactly_where_every_point_of_it_is_held(self, listed, most_words, many):
        """Held against every point of a small space, one by one; also where not all that boxes hold can be kept."""
        with mock.patch.object(side_lines, "_MOST_WORDS", most_words), mock.patch.object(side_lines, "_MANY", many):
            self.hold_against_points(listed)

    def hold_against_points(self, listed):
        asked = Boxes(listed)
        number = len(listed) - 1
        for each in range(len(listed)):
            pairs = [list(zip(listed[each], other, strict=True)) for other in listed]
            meeting = [all(mine.meets(theirs) for mine, theirs in sides) for sides in pairs]
            self.assertEqual(meeting, asked.meeting(each).tolist())
            holding = [all(mine <= theirs for mine, theirs in sides) for sides in pairs]
            self.assertEqual(holding, asked.holding(each).tolist())
        cover = asked.covered(number, np.arange(number))

        def held(point, those):
            return any(all(v in side for v, side in zip(point, listed[each], strict=True)) for each in those)

        points = [point for point in itertools.product(range(SIDE + 1), repeat=4)
                  if all(v in side for v, side in zip(point, listed[number], strict=True))]  # fmt: skip
        whole = all(held(point, range(number)) for point in points)
        self.assertTrue(cover.is_known)
        self.assertEqual(whole, cover.is_whole)
        if whole:
            self.assertTrue(all(held(point, cover.by) for point in points), "those that are named cover it together")
        else:
            self.assertIn(cover.outside, points)
            self.assertFalse(held(cover.outside, range(number)))

    def test_a_cover_names_no_box_that_it_can_do_without(self):
        span = RangeSet.span
        whole = span(0, 9), span(0, 9), span(0, 9), span(0, 9)
        listed = [(span(0, 4), *whole[1:]), (span(2, 6), *whole[1:]), (span(5, 9), *whole[1:]), whole]
        self.assertEqual((0, 2), Boxes(listed).covered(3, np.arange(3)).by)


class OfRules(unittest.TestCase):
    def with_rules(self, rules, **filter_values):
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=rules, **filter_values)
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        return values

    def test_a_rule_that_two_earlier_ones_cover_together_is_unreachable_and_both_are_named(self):
        values = self.with_rules([
            {"order": 10, "action": "drop", "from": "10.0.0.0/9", "service": "ssh"},
            {"order": 20, "action": "drop", "from": "10.128.0.0/9", "service": ["ssh", "https"]},
            {"order": 30, "action": "allow", "from": "10.0.0.0/8", "service": "ssh"},
        ], decide="first")  # fmt: skip
        (found,) = findings(values, "unreachable-rule")
        self.assertEqual("guard/inbound/30", found.at)
        self.assertEqual(["guard/inbound/10", "guard/inbound/20"], [name for name, _ in found.others])
        self.assertIn("drops it", found.proof)

    def test_a_rule_that_matches_one_address_more_is_reachable(self):
        values = self.with_rules([
            {"order": 10, "action": "drop", "from": "10.0.0.0/9", "service": "ssh"},
            {"order": 30, "action": "allow", "from": "10.0.0.0-10.128.0.0", "service": "ssh"},
        ], decide="first")  # fmt: skip
        self.assertEqual([], told(values, "unreachable-rule"))

    def test_a_stop_that_a_wider_rule_comes_before_is_contradicted(self):
        values = self.with_rules([
            {"order": 20, "action": "allow", "service": "ssh"},
            {"order": 30, "action": "drop", "from": "192.0.2.0/24"},
        ], decide="first")  # fmt: skip
        (found,) = findings(values, "contradicted-rule")
        self.assertEqual("guard/inbound/30", found.at)
        self.assertIn("from 192.0.2.0/24 on tcp/22", found.proof)

    def test_an_exception_and_a_last_rule_that_stops_the_rest_are_meant_so(self):
        values = self.with_rules([
            {"order": 10, "action": "allow", "from": "192.0.2.7", "service": "ssh"},
            {"order": 20, "action": "drop", "from": "192.0.2.0/24", "log": True},
            {"order": 30, "action": "allow", "service": "https"},
            {"order": 40, "action": "drop", "log": True},
        ], decide="first")  # fmt: skip
        for kind in ("contradicted-rule", "unreachable-rule", "redundant-rule", "wide-rule"):
            self.assertEqual([], told(values, kind), kind)

    def test_a_rule_that_a_later_one_would_decide_the_same_is_redundant(self):
        values = self.with_rules([
            {"order": 10, "action": "allow", "from": "10.1.0.0/16", "service": "ssh"},
            {"order": 20, "action": "allow", "from": "10.0.0.0/8", "service": ["ssh", "https"]},
        ], decide="first")  # fmt: skip
        self.assertEqual(["guard/inbound/10"], told(values, "redundant-rule"))

    def test_a_rule_is_not_redundant_where_an_opposite_one_comes_between(self):
        values = self.with_rules([
            {"order": 10, "action": "allow", "from": "10.1.0.0/16", "service": "ssh"},
            {"order": 15, "action": "drop", "from": "10.1.0.0/24", "service": "ssh"},
            {"order": 20, "action": "allow", "from": "10.0.0.0/8", "service": "ssh"},
        ], decide="first")  # fmt: skip
        self.assertNotIn("guard/inbound/10", told(values, "redundant-rule"))

    def test_a_rule_that_matches_nobody_is_its_groups_fault_alone(self):
        values = self.with_rules([{"order": 10, "action": "drop", "from": "nobody", "service": "ssh"}], decide="first")
        values["groups"] = {"nobody": {"where": {"role": "ghost"}}}
        self.assertEqual([], told(values, "redundant-rule") + told(values, "unreachable-rule"))
        self.assertEqual(["nobody"], told(values, "empty-group"))

    def test_of_any_rules_that_allow_the_one_that_others_cover_is_redundant(self):
        values = self.with_rules([
            {"id": "one", "action": "allow", "from": "10.0.0.0/8", "service": "ssh"},
            {"id": "two", "action": "allow", "from": "10.1.0.0/16", "service": "ssh"},
        ], decide="any")  # fmt: skip
        self.assertEqual(["guard/inbound/two"], told(values, "redundant-rule"))

    def test_a_note_is_over_after_its_day(self):
        for day, expected in (("2026-11-24", ["guard/inbound/one"]), ("2026-11-25", [])):
            values = self.with_rules([{"id": "one", "action": "allow", "service": "ssh", "note": f"only until {day}"}])
            self.assertEqual(expected, told(values, "expired-note"), day)

    def test_whoever_sends_is_anybody_however_that_is_written(self):
        for peer, expected in (("0.0.0.0/0", ["guard/inbound/one"]), ("::/0", ["guard/inbound/one"]),
                               ("0.0.0.0/1", []), (["0.0.0.0/1", "128.0.0.0/1"], ["guard/inbound/one"])):  # fmt: skip
            values = self.with_rules([{"id": "one", "action": "allow", "from": peer}])
            self.assertEqual(expected, told(values, "wide-rule"), peer)

    def test_an_outside_in_a_rule_stands_for_our_own_addresses_too(self):
        """A stop that hits our own machines is grave where they would pass without it, and what lets them pass a note."""
        stop, rest = (
            {"order": 10, "action": "drop", "from": "internet", "service": "ssh"},
            {"order": 20, "action": "allow"},
        )
        (found,) = findings(self.with_rules([stop, rest]), "outside-holds-own")
        self.assertEqual(("guard/inbound/10", "medium"), (found.at, found.severity))
        self.assertIn("it drops from 10.1.1.0-10.1.2.255, 10.2.1.0/24 on tcp/22", found.proof)
        own = {"order": 5, "action": "allow", "from": ["north", "south"], "service": "ssh"}
        self.assertEqual([], told(self.with_rules([own, stop, rest]), "outside-holds-own"))
        self.assertEqual([], told(self.with_rules([stop]), "outside-holds-own"))  # the filter drops them in any case
        named = stop | {"from": ["internet", "north", "south"]}
        self.assertEqual([], told(self.with_rules([named, rest]), "outside-holds-own"))
        (found,) = findings(self.with_rules([stop | {"action": "allow"}]), "outside-holds-own")
        self.assertEqual("note", found.severity)

    def test_a_rule_for_who_is_not_where_its_filter_is_is_told(self):
        """Ann (10.1.1.10, public 203.0.113.10) carries the filter, whose rules see her own address."""
        for to, severity in (("203.0.113.10", "medium"), ("10.1.1.11", "low"), ("cat", "low"), ("ann", None),
                             ("a1", None), (["10.1.1.11", "10.1.1.10"], None)):  # fmt: skip
            values = self.with_rules([{"id": "one", "action": "allow", "to": to, "service": "https"}])
            met = [(each.at, each.severity) for each in findings(values, "misplaced-rule")]
            self.assertEqual([("guard/inbound/one", severity)] if severity else [], met, to)
        values["filters"]["guard"]["inbound"][0]["to"] = "203.0.113.10"
        self.assertEqual("name ann, or 10.1.1.10", findings(values, "misplaced-rule")[0].fix)
        values["instances"]["ann"]["forwards"] = True  # what is for others comes in there, too
        self.assertEqual([], told(values, "misplaced-rule"))

    def test_of_rules_without_a_direction_either_end_may_be_there(self):
        rule = {"order": 10, "action": "allow", "from": "dan", "to": "cat"}
        values = base()
        values["filters"]["guard"] = a_filter("instance", rules=[rule])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        self.assertEqual(["guard/rules/10"], told(values, "misplaced-rule"))
        for end in ("from", "to"):
            values["filters"]["guard"]["rules"] = [rule | {end: ["ann", "bob"]}]
            self.assertEqual([], told(values, "misplaced-rule"))

    def test_any_to_anything_is_wide_and_many_ports_are(self):
        for rule in ({"id": "one", "action": "allow"}, {"id": "one", "action": "allow", "service": "tcp/1-9000"}):
            self.assertEqual(["guard/inbound/one"], told(self.with_rules([rule]), "wide-rule"))
        for rule in ({"id": "one", "action": "allow", "service": "ssh"},
                     {"id": "one", "action": "allow", "from": "10.1.0.0/16"}):  # fmt: skip
            self.assertEqual([], told(self.with_rules([rule]), "wide-rule"))


class OfPlaces(unittest.TestCase):
    def test_each_kind_on_the_smallest_network_that_shows_it(self):
        values = base()
        values["filters"] |= {"lost": a_filter("instance", inbound=[])}
        self.assertEqual(["lost"], told(values, "unattached-filter"))

        values = base()
        values["groups"] = {"nobody": {"where": {"role": "ghost"}}}
        self.assertEqual(["nobody"], told(values, "empty-group"))

        values = base()
        values["instances"]["new"] = {"interfaces": [{"subnet": "a1", "addresses": []}]}
        values["groups"] = {"some": {"members": ["ann", "new"]}}
        self.assertEqual(["some"], told(values, "group-without-addresses"))

        values = base()
        values["outside"]["depot"]["addresses"].append("10.1.9.0/24")
        self.assertEqual(["depot"], told(values, "outside-over-own"))

        values = base()
        values["services"] = {"never": "tcp/7", "ours": "tcp/8"}
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "allow", "service": "ours"}])
        self.assertEqual(["never"], told(values, "unused-service"))

        values = base()
        values["instances"]["box"] = {"interfaces": [{"subnet": "a1", "addresses": ["10.1.1.90"]}]}
        values["route_tables"]["north-table"].append({"to": "10.77.0.0/16", "via": {"instance": "box"}})
        self.assertEqual(["north-table: 10.77.0.0/16"], told(values, "route-to-nothing"))
        values["instances"]["box"]["forwards"] = True
        self.assertEqual([], told(values, "route-to-nothing"))
        del values["instances"]["box"]["forwards"]
        values["route_tables"]["north-table"][-1]["to"] = "10.1.1.90/32"  # its own address: nothing to be passed on
        self.assertEqual([], told(values, "route-to-nothing"))

    def test_a_group_of_very_many_addresses_is_looked_at_in_no_time(self):
        values = base()
        values["groups"] = {"crowd": {"addresses": ["2001:db8:7700::/40"]}}
        values["filters"]["guard"] = a_filter("instance", inbound=[{"action": "allow", "from": "crowd"}])
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["guard"]
        self.assertEqual(["bob/eth0"], told(values, "no-return-route"))

    def test_a_slip_in_a_tag_is_told_and_a_row_of_numbered_tags_is_not(self):
        values = base()
        for number in range(12):
            role = "guage" if number == 3 else "gauge"
            values["instances"][f"g{number}"] = {
                "tags": {"role": role, "unit": f"u{number}"},
                "interfaces": [{"subnet": "a1", "addresses": [f"10.1.1.{100 + number}"]}],
            }
        values["groups"] = {"gauges": {"where": {"role": "gauge"}}}
        values["groups"] |= {f"unit-{number}": {"where": {"unit": f"u{number}"}} for number in range(12)}
        (found,) = findings(values, "nearly-member")
        self.assertEqual(("gauges", "g3"), (found.at, found.others[0][0]))

    def test_neither_a_role_that_many_have_nor_a_number_that_no_group_asks_for_is_a_slip(self):
        """A role of two hundred, r18, is nearly r1: nobody is to be told that its machines should be in that group."""
        values = base()
        roles = ["r1", "r18", "database", "databases", "databases", "databases", "rll", "Database"]
        for number, role in enumerate(roles):
            values["instances"][f"g{number}"] = {
                "tags": {"role": role, "stage": "live"} if number < 7 else {"rule": "database", "stage": "live"},
                "interfaces": [{"subnet": "a1", "addresses": [f"10.1.1.{100 + number}"]}],
            }
        values["groups"] = {
            "ones": {"where": {"role": "r1"}},
            "bases": {"where": {"role": "database", "stage": "live"}},
        }
        self.assertEqual([("bases", "g7")],
                         [(each.at, each.others[0][0]) for each in findings(values, "nearly-member")])  # fmt: skip
        values["groups"]["bases"]["members"] = ["g7"]
        self.assertFalse(findings(values, "nearly-member"), "who is in it by name is in it")

    def test_a_route_there_without_one_back_is_told_at_the_subnet_that_lacks_it(self):
        values = base()
        values["route_tables"]["south-table"] = [
            each for each in values["route_tables"]["south-table"] if not str(each["to"]).startswith("10.1.")
        ]
        self.assertTrue(any(at.startswith("b1: 10.1.1.0/24") for at in told(values, "no-return-route")))
        self.assertEqual([], told(base(), "no-return-route"))
        values["route_tables"]["north-table"].append(
            {"to": "10.2.1.0/24", "via": "discard"}
        )  # nothing gets there at all
        self.assertEqual([], told(values, "no-return-route"))


class OfKernelRuleSets(unittest.TestCase):
    def told(self, hook, policy, *rules):
        values = base()
        values["instances"]["bob"] |= {"host_filter": {"nftables": "bob.json"}, "listens": ["http"]}
        ends = Ends(Walker(load(values, {"bob.json": listing(hook, policy, *rules)})))
        return [each for each in audit(ends, TODAY).findings if each.id == "first-packet-only"]

    def test_a_rule_set_that_accepts_what_is_new_alone_is_told_with_a_connection_that_shows_it(self):
        (found,) = self.told("input", "drop", ("new", "accept"))
        self.assertEqual("bob: only", found.at)
        self.assertIn("bob.json lets through the first packet of 10.1.", found.proof)
        values = base()
        values["instances"]["bob"]["host_filter"] = {"nftables": "bob.json"}
        _, source, destination, service = found.check.removeprefix("kiboko ").split()
        shown = walk(
            values, source, destination, service, files={"bob.json": listing("input", "drop", ("new", "accept"))}
        )
        self.assertEqual(("allowed", "bob"), (shown.verdict, shown.later.at))

    def test_out_and_for_what_is_refused_as_well(self):
        for hook, policy, rules in (("output", "drop", [("new", "accept")]),
                                    ("input", "accept", [("established", "reject")]),
                                    ("input", "accept", [("related", "accept"), ("established", "drop")])):  # fmt: skip
            self.assertEqual(1, len(self.told(hook, policy, *rules)), (hook, rules))

    def test_what_lets_known_connections_pass_or_stops_the_first_packet_too_is_not(self):
        for policy, rules in (("drop", [("established", "accept"), ("new", "accept")]), ("accept", []), ("drop", []),
                              ("drop", [("new", "accept"), ("established", "accept")]),
                              ("accept", [("established", "drop"), ("new", "drop")])):  # fmt: skip
            self.assertEqual([], self.told("input", policy, *rules), rules)


class OfWays(unittest.TestCase):
    def opened(self, *rules):
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=list(rules))
        values["instances"]["ann"]["interfaces"][0] |= {"filters": ["guard"], "public": "203.0.113.9"}
        return values

    def test_ssh_from_the_internet_is_told_with_the_rule_that_lets_it_in(self):
        values = self.opened({"id": "everybody", "action": "allow", "service": "ssh"})
        self.assertIn("guard/everybody", told(values, "open-administration"))

    def test_of_several_crowds_those_are_named_that_get_in(self):
        """Nobody on the internet gets to dan, who has no public address; everybody in the branches does, by a tunnel."""
        values = self.opened({"id": "everybody", "action": "allow", "service": "ssh"})
        values["outside"]["branches"] = {"addresses": ["203.112.0.0/16"], "zone": "depots"}
        values["gateways"]["link"] = {"kind": "tunnel", "network": "south", "outside": "branches"}
        values["route_tables"]["south-table"].append({"to": "203.112.0.0/16", "via": "link"})
        proofs = {each.at: each.proof for each in findings(values, "open-administration") if "IPv6" not in each.proof}
        self.assertIn("tcp/22 of ann can be reached from internet, branches; let in by", proofs["guard/everybody"])
        self.assertRegex(proofs["dan"], "of dan can be reached from branches; let in by no filter")

    def test_ssh_from_one_office_or_https_from_everywhere_are_not(self):
        for rule in ({"id": "everybody", "action": "allow", "service": "https"},
                     {"id": "everybody", "action": "allow", "service": "ssh", "from": "depot"}):  # fmt: skip
            self.assertNotIn("guard/everybody", told(self.opened(rule), "open-administration"))

    def test_a_further_address_that_is_open_to_the_internet_is_told_of(self):
        values = self.opened({"id": "everybody", "action": "allow", "service": "ssh", "to": "2001:db8:1:1::99"})
        values["instances"]["ann"]["interfaces"][0]["addresses"] = ["10.1.1.10", "2001:db8:1:1::10"]
        self.assertNotIn("guard/everybody", told(values, "open-administration"))
        values["instances"]["ann"]["interfaces"][0]["addresses"].append("2001:db8:1:1::99")
        self.assertIn("guard/everybody", told(values, "open-administration"))

    def test_a_rule_for_private_addresses_opens_nothing_to_the_internet(self):
        for peers in (["10.0.0.0/8"], ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "100.64.0.0/10"]):
            values = self.opened({"id": "inside", "action": "allow", "service": "ssh", "from": peers})
            self.assertNotIn("guard/inside", told(values, "open-administration"))
        values = self.opened({"id": "inside", "action": "allow", "service": "ssh", "from": ["8.0.0.0/6"]})
        self.assertIn("guard/inside", told(values, "open-administration"))

    def test_what_counts_as_administration_is_for_the_network_file_to_say(self):
        values = self.opened({"id": "everybody", "action": "allow", "service": "https"})
        values["administration"] = ["https"]
        self.assertIn("guard/everybody", told(values, "open-administration"))

    def test_one_door_is_told_until_there_are_two(self):
        values = self.opened({"id": "some", "action": "allow", "service": "ssh", "from": "depot"})
        self.assertIn("guard/otherwise", told(values, "one-door-only"))
        values["filters"]["edge"] = a_filter("subnet", inbound=[{"action": "allow", "service": "ssh", "from": "depot"}])
        values["subnets"]["a1"]["filter"] = "edge"
        self.assertNotIn("guard/otherwise", told(values, "one-door-only"))

    def test_a_rule_for_what_nobody_listens_to_and_a_listener_that_nobody_reaches(self):
        values = self.opened({"id": "web", "action": "allow", "service": "https"})
        values["instances"]["ann"]["listens"] = ["ssh"]
        self.assertEqual(["guard/inbound/web"], told(values, "unserved-rule"))
        self.assertEqual(["ann"], told(values, "unallowed-listener"))
        values["instances"]["ann"]["listens"] = ["https"]
        self.assertEqual([], told(values, "unserved-rule") + told(values, "unallowed-listener"))

    def test_nobody_reaches_what_answers_only_to_client_ports_that_no_sender_has(self):
        """Bob alone sends from such ports, and is not let in."""
        values = self.opened({"action": "drop", "from": "bob"}, {"action": "allow"})
        values["filters"]["guard"] |= {"stateful": False, "outbound": [
            {"action": "allow", "service": "tcp/20000-20999"}, {"action": "drop"}]}  # fmt: skip
        values["instances"]["ann"]["listens"] = ["ssh"]
        self.assertEqual(["ann"], told(values, "unallowed-listener"))
        values["instances"]["bob"]["ephemeral_ports"] = "20000-20999"
        self.assertEqual(["ann"], told(values, "unallowed-listener"))
        values["filters"]["guard"]["inbound"].pop(0)
        self.assertEqual([], told(values, "unallowed-listener"))

    def test_rules_that_are_too_many_to_be_held_against_hosts_are_counted(self):
        values = base()
        values["filters"] = {
            "guard": a_filter("instance", inbound=[{"action": "allow", "from": name, "service": "ssh"}
                                                   for name in ("bob", "cat", "dan")]),
            "own": a_filter("host", inbound=[{"action": "allow", "from": "bob"}]),
        }  # fmt: skip
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        values["instances"]["ann"]["host_filter"] = "own"
        asked = ("host-filter-against", "ann: own/otherwise")

        def told(most):
            with mock.patch.object(ways, "_MOST_ASKED", most):
                return [(each.id, each.at) for each in ways.of_hosts(Ends(Walker(load(values))))]

        self.assertEqual(told(3), [asked] * 2, "cat and dan, by a rule each")
        self.assertEqual(told(2), [("hosts-in-part", "guard/inbound/3"), asked])
        self.assertEqual(told(1), [("hosts-in-part", "guard/inbound/2")])

    def test_whom_a_host_stops_is_found_behind_others_whom_something_else_stops(self):
        """A rule lets in cat and dan; ann's subnet stops cat, and her host dan: it is not the first of them that tells."""
        values = base()
        values["filters"] = {
            "guard": a_filter("instance", inbound=[{"action": "allow", "from": ["cat", "dan"], "service": "ssh"}]),
            "edge": a_filter("subnet", decide="first", otherwise="allow", inbound=[
                {"order": 10, "action": "drop", "from": "cat", "service": "ssh"}]),
            "own": a_filter("host", inbound=[{"action": "allow", "from": "cat"}]),
        }  # fmt: skip
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        values["instances"]["ann"]["host_filter"] = "own"
        values["subnets"][values["instances"]["ann"]["interfaces"][0]["subnet"]]["filter"] = "edge"
        stops = {name: [row.gate for row in walk(values, name, "ann", "ssh").stops()] for name in ("cat", "dan")}
        self.assertEqual({"cat": ["subnet-in"], "dan": ["host-in"]}, stops)
        self.assertEqual(["ann: own/otherwise"], told(values, "host-filter-against"))

    def test_a_host_is_held_to_what_it_listens_to_whatever_was_asked_of_others(self):
        """Of ports that no rule tells apart dan listens to one, which cat in front of it does not."""
        values = base()
        values["filters"] = {"own": a_filter("host", inbound=[])}
        for name, rule, listens in (("cat", "https", "https"), ("dan", "tcp/5000-5010", "tcp/5007")):
            values["filters"][f"{name}-guard"] = a_filter("instance", inbound=[
                {"action": "allow", "from": "bob", "service": rule}])  # fmt: skip
            values["instances"][name]["interfaces"][0]["filters"] = [f"{name}-guard"]
            values["instances"][name] |= {"host_filter": "own", "listens": [listens]}
        self.assertEqual(["cat: own/otherwise", "dan: own/otherwise"], told(values, "host-filter-against"))

    def test_of_very_many_machines_those_that_listen_to_one_service_are_one_finding(self):
        """Each of twelve listens to two services of its own out of five: told one by one while they are few."""
        services = ("ssh", "smtp", "https", "tcp/8000-8003", "tcp/8002-8005")

        def listeners(count):
            values = base()
            values["filters"]["guard"] = a_filter("instance", inbound=[])
            for number, listens in enumerate(itertools.islice(itertools.combinations(services, 2), count)):
                values["instances"][f"n{number}"] = {"listens": list(listens), "interfaces": [
                    {"subnet": "a2", "addresses": [f"10.1.2.{60 + number}"], "filters": ["guard"]}]}  # fmt: skip
            values["instances"]["n99"] = values["instances"]["n0"] | {"interfaces": [
                {"subnet": "a2", "addresses": ["10.1.2.99"], "filters": ["guard"]}], "listens": list(services[:3])}  # fmt: skip
            ends = Ends(Walker(load(values)))
            shut = listening.unreached(ends)
            return shut, list(listening.of_unreached(ends, shut))

        shut, found = listeners(9)
        self.assertEqual(10, len(found))
        shut, found = listeners(10)
        self.assertEqual(
            ["tcp/22", "tcp/25", "tcp/443", "tcp/8000-8001", "tcp/8002-8003", "tcp/8004-8005"],
            sorted(each.proof.split(" to ")[1].split(",")[0] for each in found),
        )
        counts = [len(each.machines) for each in found]
        self.assertEqual(sorted(counts, reverse=True), counts)
        for each in found:  # nothing of any machine is lost, and nothing made up
            (low, _), *_ = resolve_service(each.check.split()[4], {})
            self.assertEqual({name for name, services in shut.items() if low in services}, set(each.machines))

    def test_a_service_that_is_bound_to_loopback_is_told(self):
        values = self.opened({"id": "web", "action": "allow", "service": "https"})
        values["instances"]["ann"]["listens"] = [{"service": "https", "address": "127.0.0.1"}]
        self.assertEqual(["ann: https"], told(values, "bound-elsewhere"))
        values["filters"]["guard"]["inbound"][0]["to"] = "10.1.1.11"  # a rule for somebody else
        self.assertEqual([], told(values, "bound-elsewhere"))


class Accepting(unittest.TestCase):
    def audit(self, **accepted):
        values = base()
        values["filters"] = {"lost": a_filter("instance", inbound=[])}
        values["accepted"] = [
            {"finding": "unattached-filter", "at": "lost", "reason": "for the move in May", **accepted}
        ]
        return audit(Ends(Walker(load(values))), TODAY, kinds=("unattached-filter", "accepted-in-vain"))

    def test_what_is_accepted_stands_apart_and_comes_back_when_its_day_is_past(self):
        held = self.audit(until="2026-11-25")
        self.assertEqual(((), ["lost"]), (held.findings, [each.at for each in held.accepted]))
        over = self.audit(until="2026-11-24")
        self.assertEqual({"unattached-filter", "accepted-in-vain"}, {each.id for each in over.findings})

    def test_an_acceptance_of_nothing_is_a_finding(self):
        self.assertIn("accepted-in-vain", {each.id for each in self.audit(at="other").findings})
        (found,) = [each for each in self.audit(finding="unatached-filter").findings if each.id == "accepted-in-vain"]
        self.assertIn("did you mean 'unattached-filter'", found.proof)


class OnWholeNetworks(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        write_demo(Path(folder.name))
        self.folder = Path(folder.name)

    def test_every_fault_of_the_demo_that_rules_alone_show_is_found(self):
        met = audit(Ends(Walker(load_network(str(self.folder / "network.yaml")))), TODAY).findings
        found = {(each.id, each.at) for each in met}
        for fault in (
            ("contradicted-rule", "bank-edge/inbound/30"), ("partial-way-back", "front-edge/inbound/10"),
            ("route-to-nothing", "desk-main: 10.62.2.21/32"), ("unreachable-rule", "core-guard/inbound/30"),
            ("unattached-filter", "archive-guard"), ("nearly-member", "gauges"), ("group-without-addresses", "gauges"),
            ("open-administration", "relay-guard/ssh-for-all"), ("bound-elsewhere", "ingest-2: telemetry"),
            ("no-return-route", "gauge-12/eth0"),
            ("unserved-rule", "ingest-guard/inbound/old-syslog"),
        ):  # fmt: skip
            self.assertIn(fault, found)
        self.assertTrue(any(kind == "host-filter-against" and at.startswith("gauge-04") for kind, at in found))

    def test_shared_out_to_other_processes_it_finds_the_same(self):
        asked = []

        def spread(function, numbers):
            asked.extend(numbers)
            return shared_out(function, numbers)

        with (
            mock.patch.object(listening, "_MANY_PAIRS", 0),
            mock.patch("kiboko.batch.processors.usable", return_value=2),
        ):
            for seed in (1, 10):
                ends = Ends(Walker(load(random_network(seed))))
                here, elsewhere = audit(ends, TODAY), audit(ends, TODAY, spread=spread)
                self.assertEqual(elsewhere, here, seed)
                self.assertIn("unallowed-listener", {each.id for each in here.findings})
        self.assertEqual(asked, [4, 6] * 2)

    def test_what_is_called_misplaced_no_packet_meets(self):
        told_of = 0
        for seed in (11, 12, 17):
            values = random_network(seed)
            walker = Walker(load(values))
            misplaced = set(told(values, "misplaced-rule"))
            told_of += len(misplaced)
            met = {rule for one in walker.directory.interfaces() for source in one.addresses
                   for other in walker.directory.interfaces() for target in (*other.addresses, other.public)
                   if target is not None and target.family == source.family and other is not one
                   for service in (Service(6, 22), Service(6, 80), Service(17, 53))
                   for rule in rules_met(walker, source, target, service)}  # fmt: skip
            self.assertTrue(met)
            self.assertFalse(misplaced & met, seed)
        self.assertTrue(told_of)

    def test_every_kind_of_finding_is_in_the_list(self):
        met = audit(Ends(Walker(load_network(str(self.folder / "network.yaml")))), TODAY).findings
        self.assertLessEqual({each.id for each in met}, set(KINDS))

    def test_on_the_clean_network_that_ships_nothing_is_found(self):
        met = audit(Ends(Walker(load_network(str(self.folder / "clean" / "network.yaml")))), TODAY).findings
        self.assertEqual([], [(each.id, each.at, each.proof) for each in met if each.severity != "note"])
