"""Records are judged as they come, as they would be all together; what is too much is let go and counted."""

import collections
import dataclasses
import json
import os
import random
import unittest
from datetime import UTC, datetime, timedelta
from unittest import mock

from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, UNSURE, Comparison
from kiboko.core.evidence.evaluator import Evaluator
from kiboko.core.evidence.summary import Summary
from kiboko.core.evidence.watch import Watch
from kiboko.core.header.addresses import parse_address
from kiboko.core.header.services import Service
from kiboko.core.records.flow_table import table_of
from kiboko.core.records.records import PASSED, SEEN, FlowRecord
from kiboko.core.walk.walk import Walker
from kiboko.views.collect_view import disagreement_lines
from kiboko.views.text import iso
from tests.core.test_evaluator import random_records
from tests.helpers import a_filter, base, load
from tests.random_networks import random_network

NETWORKS = int(os.environ.get("KIBOKO_NETWORKS", "3"))

NOW = datetime(2026, 11, 20, 10, tzinfo=UTC)


def record(source, destination, source_port, port, event, flags, seconds=0):
    at = NOW + timedelta(seconds=seconds)
    return FlowRecord(
        parse_address(source),
        parse_address(destination),
        Service(6, port),
        source_port,
        event,
        at,
        at,
        1,
        80,
        flags,
        None,
        1,
    )


def both(port, seconds):
    """A request of ann's, and its answer."""
    ends = "10.1.1.10", "10.1.2.10"
    return [record(*ends, port, 22, SEEN, None, seconds), record(*ends[::-1], 22, port, SEEN, None, seconds)]


class Watching(unittest.TestCase):
    def setUp(self):
        self.watch = self.among(0)

    def among(self, others):
        """A watch on a network that has some more machines beside ann."""
        values = base()
        for n in range(100, 100 + others):
            values["instances"][f"m{n}"] = {"interfaces": [{"subnet": "a1", "addresses": [f"10.1.1.{n}"]}]}
        values["filters"]["closed"] = a_filter("subnet", inbound=[])
        values["subnets"]["b1"]["filter"] = "closed"
        values["instances"]["cat"]["listens"] = ["ssh"]
        walker = Walker(load(values))
        return Watch(Comparison(walker), Summary(walker.directory))

    def feed(self, *records):
        self.watch.add(table_of(list(records)))
        return [each for met in self.watch.judge() for each in met]

    def feed_anew(self, flows, size):
        """Judge a log from its beginning, some records at a time."""
        self.setUp()
        for at in range(0, len(flows), size):
            self.feed(*flows[at : at + size])

    def test_a_leak_is_told_once_as_the_first_of_its_group(self):
        leak = record("10.1.1.10", "10.2.1.10", 40000, 22, PASSED, 27)
        self.assertEqual([(each.count, each.is_first) for each in self.feed(leak, leak)], [(2, True)])
        self.assertEqual([(each.count, each.is_first) for each in self.feed(leak)], [(1, False)])
        self.assertEqual(self.watch.summary.totals, {LEAK: 3})

    def test_a_reply_that_comes_later_makes_a_leak_of_its_request(self):
        request = record("10.1.1.10", "10.2.1.10", 40000, 22, SEEN, 2)
        self.assertEqual(self.feed(request), [])
        self.assertEqual(self.watch.summary.totals, {UNSURE: 1})
        met = self.feed(record("10.2.1.10", "10.1.1.10", 22, 40000, SEEN, 18, 1))
        self.assertEqual({each.group.finding.status for each in met}, {LEAK})
        self.assertEqual(met[0].record, request)
        totals = {status: count for status, count in self.watch.summary.totals.items() if count}
        self.assertEqual(totals, {LEAK: 2}, "what was said of the request is taken back")
        self.assertEqual((len(self.watch.summary.groups), self.watch.summary.conversations), (1, 1))

    def test_of_too_many_kinds_those_that_agree_and_were_met_longest_ago_are_let_go(self):
        """A hundred machines ask cat, one after another; dan's subnet takes from nobody."""
        self.watch = self.among(100)
        leak = record("10.1.1.10", "10.2.1.10", 40000, 22, PASSED, 27)
        fine = [record(f"10.1.1.{n}", "10.1.2.10", 40000, 22, PASSED, 27) for n in range(100, 200)]
        with (
            mock.patch("kiboko.core.evidence.watch._MOST_KINDS", 40),
            mock.patch("kiboko.core.evidence.watch._WINDOW", 5),
        ):
            self.assertEqual([each.is_first for each in self.feed(leak)], [True])
            for each in fine:
                self.feed(each)
            self.assertEqual([each.is_first for each in self.feed(leak)], [False], "what leaks is let go of last")
        summary = self.watch.summary
        self.assertEqual(summary.totals, {LEAK: 2, AGREE: 100}, "nothing is missing from the totals")
        groups = {group.source: group for group in summary.groups.values()}
        self.assertLessEqual(len(groups), 51)
        self.assertEqual(summary.let_go.total() + len(groups), 101)
        kept = [f"m{n}" for n in range(100, 200) if f"m{n}" in groups]
        self.assertEqual(kept, [f"m{n}" for n in range(200 - len(kept), 200)], "the latest ones")
        self.assertEqual(groups["ann"].count, 2)

    def test_what_may_be_taken_back_is_not_let_go(self):
        """Requests of many machines whose replies come later, and turn what was said of them."""
        self.watch = self.among(20)
        with mock.patch("kiboko.core.evidence.watch._MOST_KINDS", 4):
            for n in range(100, 120):
                self.feed(record(f"10.1.1.{n}", "10.2.1.10", 40000, 22, SEEN, 2))
            self.assertEqual(len(self.watch.summary.groups), 20)
            for n in range(100, 120):
                self.feed(record("10.2.1.10", f"10.1.1.{n}", 22, 40000, SEEN, 18, 1))
        totals = {status: count for status, count in self.watch.summary.totals.items() if count}
        self.assertEqual((totals, {group.count for group in self.watch.summary.groups.values()}), ({LEAK: 40}, {2}))
        self.assertFalse(self.watch.summary.let_go)

    def test_too_many_at_once_are_let_go_and_counted(self):
        with mock.patch("kiboko.core.evidence.watch._MOST_WAITING", 100):
            self.watch.add(table_of([record("10.1.1.10", "10.1.2.10", 40000, 22, PASSED, 2)] * 150))
            self.watch.add(table_of([record("10.1.1.10", "10.1.2.10", 40000, 22, PASSED, 2)] * 7))
        self.assertEqual((self.watch.waiting, self.watch.unjudged), (100, 57))
        self.watch.judge()
        self.assertEqual((self.watch.waiting, self.watch.judged, self.watch.summary.as_far_as_seen), (0, 100, 100))

    def test_table_by_table_is_the_same_as_all_at_once(self):
        flows = []
        for n in range(40):
            ends = ("10.1.1.10", "10.2.1.10") if n % 2 else ("10.1.1.10", "10.1.2.10")
            flows.append(record(*ends, 40000 + n, 22, SEEN, 2, n))
            flows.append(record(*ends[::-1], 22, 40000 + n, SEEN, 18, n))
        for each in flows:
            self.feed(each)
        walker = self.watch.comparison.walker
        whole = Watch(Comparison(walker), Summary(walker.directory))
        whole.add(table_of(flows))
        whole.judge()
        told = lambda watch: {key: (g.count, g.octets) for key, g in watch.summary.groups.items()}  # noqa: E731
        self.assertEqual(told(self.watch), told(whole))
        self.assertEqual((self.watch.summary.totals[LEAK], self.watch.summary.conversations), (40, 40))

    @staticmethod
    def told(summary):
        """What is counted between any two ends, by what it comes to. (Of which services a group is that was taken back
        in part is told by all that were ever met.)"""
        counts = collections.Counter()
        for group in summary.rows():
            amounts = {"records": group.count, "replies": group.replies, "packets": group.packets,
                       "octets": group.octets, "conversations": group.conversations}  # fmt: skip
            for name, amount in amounts.items():
                counts[group.source, group.destination, group.concluded, name] += amount
        return {key: count for key, count in counts.items() if count}

    def hold_to_a_log(self, flows, size=1):
        """Hold what comes in small tables to what all of it comes to at once."""
        walker = self.watch.comparison.walker
        at_once, comparison = Summary(walker.directory), Comparison(walker)
        at_once.take_all(Evaluator(comparison).tallies(table_of(flows)), comparison.finding)
        for at in range(0, len(flows), size):
            self.feed(*flows[at : at + size])
        self.assertEqual(self.told(at_once), self.told(self.watch.summary))
        self.assertEqual(at_once.conversations, self.watch.summary.conversations)
        return self.watch.summary

    def test_who_turns_out_to_have_begun_later_is_counted_the_other_way_round_alone(self):
        # By the ports ann was asked on 53; then the opening comes, and it was she who began, from there.
        told_by_port = record("10.1.1.10", "10.1.2.10", 53, 40000, PASSED, None)
        summary = self.hold_to_a_log([told_by_port, record("10.1.1.10", "10.1.2.10", 53, 40000, PASSED, 2)])
        self.assertEqual(
            [(group.source, group.destination, group.service) for group in summary.rows() if group.count],
            [("ann", "cat", "tcp/40000")],
        )

    def test_packets_that_a_later_record_shows_at_another_point_count_once(self):
        one = record("10.1.1.10", "10.1.2.10", 40000, 22, PASSED, 2)
        flows = [dataclasses.replace(one, point="near", packets=2), dataclasses.replace(one, point="far", packets=3)]
        self.assertEqual(sum(group.packets for group in self.hold_to_a_log(flows).rows()), 3)

    def test_a_copy_that_comes_later_counts_no_packets(self):
        one = record("10.1.1.10", "10.1.2.10", 40000, 22, PASSED, 2)
        summary = self.hold_to_a_log([one, record("10.1.2.10", "10.1.1.10", 1, 80, PASSED, 2), one])
        self.assertEqual(sum(group.packets for group in summary.rows() if group.source == "ann"), 1)

    def test_what_two_conversations_turn_out_to_be_is_one(self):
        # Ten minutes apart they are two, until one comes that lies between them.
        flows = [record("10.1.1.10", "10.1.2.10", 40000, 22, PASSED, 2, seconds) for seconds in (0, 600, 300)]
        self.assertLessEqual(self.hold_to_a_log(flows).conversations, 2)

    def test_what_was_counted_before_the_window_was_cut_is_not_counted_again(self):
        opening, going = (record("10.1.1.10", "10.2.1.10", 40000, 22, SEEN, flags) for flags in (2, 24))
        flows = [dataclasses.replace(each, point=point, packets=packets)
                 for each, point, packets in ((opening, "near", 9), (going, "near", 1), (going, "far", 2))]  # fmt: skip
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 2):
            for each in (*flows, *(record("10.1.1.10", "10.1.2.10", 41000, 22, PASSED, 2),) * 3):
                self.feed(each)
        summary = self.watch.summary
        self.assertEqual(summary.conversations, 2)
        self.assertEqual(sum(group.packets for group in summary.rows() if group.destination == "dan"), 10)

    def test_on_random_networks_what_comes_live_comes_to_what_a_log_of_it_does(self):
        for seed in (*range(NETWORKS), 18):
            topology = load(random_network(seed))
            records, chance = random_records(topology, random.Random(seed), 500), random.Random(seed)
            walker = Walker(topology)
            self.watch = Watch(Comparison(walker), Summary(walker.directory))
            self.hold_to_a_log(records, chance.choice((7, 60)))

    def test_every_record_is_in_the_report_once_however_little_the_window_holds(self):
        for seed in range(4):
            topology, chance = load(random_network(seed)), random.Random(seed)
            flows = [
                dataclasses.replace(each, point=chance.choice(("near", "far")), packets=chance.randint(1, 5))
                for each in random_records(topology, chance, 120) for _ in range(chance.choice((1, 2, 3)))
            ]  # fmt: skip
            walker = Walker(topology)
            self.watch = Watch(Comparison(walker), Summary(walker.directory))
            with (
                mock.patch("kiboko.core.evidence.watch._WINDOW", chance.choice((5, 40))),
                mock.patch("kiboko.core.evidence.evaluator._MOST_CLASSES", chance.choice((0, 1_000_000))),
            ):
                for at in range(0, len(flows), 10):
                    self.feed(*flows[at : at + 10])
            summary, rows = self.watch.summary, list(self.watch.summary.rows())
            self.assertEqual((summary.records, sum(each.count for each in rows)), (len(flows), len(flows)))
            self.assertEqual(sum(each.conversations for each in rows), summary.conversations)
            self.assertGreater(min(each.count for each in rows), 0)
            self.assertGreaterEqual(min(min(each.replies, each.packets, each.conversations) for each in rows), 0)

    def test_what_is_taken_back_was_said_before_the_evaluator_let_go_of_all_as_well(self):
        flows = []
        for n in range(30):
            ends = ("10.1.1.10", "10.2.1.10") if n % 2 else ("10.1.1.10", "10.1.2.10")
            flows.append(
                [record(*ends, 40000 + n, 22, SEEN, 2, n), record(*ends, 41000 + n, 22 + n % 3, "denied", 2, n)]
            )
            flows.append([record(*ends[::-1], 22, 40000 + n, SEEN, 18, n)])
        walker = self.watch.comparison.walker
        whole = Watch(Comparison(walker), Summary(walker.directory))
        whole.add(table_of([each for some in flows for each in some]))
        whole.judge()
        with mock.patch("kiboko.core.evidence.evaluator._MOST_CLASSES", 0):
            for some in flows:
                self.feed(*some)
        told = [{key: (g.count, g.octets) for key, g in watch.summary.groups.items()} for watch in (self.watch, whole)]
        self.assertEqual(*told)
        self.assertEqual(+self.watch.summary.totals, +whole.summary.totals)

    def test_a_group_that_was_taken_back_and_comes_again_shows_what_it_is_of_now(self):
        leak = record("10.1.1.10", "10.2.1.10", 40000, 22, PASSED, 27)
        later = record("10.1.1.10", "10.2.1.10", 50000, 22, PASSED, 27, 9)
        comparison, summary = self.watch.comparison, self.watch.summary
        tallies = [Evaluator(comparison).tallies(table_of([each])) for each in (leak, later)]
        first = [summary.take_all(tallies[at], comparison.finding, taken_back=back)
                 for at, back in ((0, False), (0, True), (1, False))]  # fmt: skip
        self.assertEqual([list(met.is_first) for met in first], [[True], [False], [True]])
        (group,) = summary.rows()
        self.assertEqual((group.count, group.example.source_port), (1, 50000))

    def test_what_is_kept_of_tallies_grows_with_the_groups(self):
        whole = Watch(self.watch.comparison, Summary(self.watch.summary.directory))
        with mock.patch("kiboko.core.evidence.summary._FEW_WAITING", 4):
            for n in range(30):
                flows = [record("10.1.1.10", "10.2.1.10", 40000 + n * 10 + k, 22 + (k > n // 10), PASSED, 27, n)
                         for k in range(6)]  # fmt: skip
                self.feed(*flows)
                whole.add(table_of(flows))
        whole.judge()
        told = [[(g.source, g.service, g.count, g.octets, g.example.source_port, g.finding.status)
                 for g in watch.summary.rows()] for watch in (self.watch, whole)]  # fmt: skip
        self.assertEqual(*told)
        self.assertLessEqual(sum(len(each.tallies) for each in self.watch.summary._origins[:-1]), 6)

    def test_lines_of_many_leaks_are_those_of_one_after_another(self):
        met = 0
        for seed in range(6):
            topology = load(random_network(seed))
            walker = Walker(topology)
            watch = Watch(Comparison(walker), Summary(walker.directory))
            records = random_records(topology, random.Random(seed), 400)
            for at in range(3):
                watch.add(table_of(records[at::3]))
                for some in watch.judge():
                    lines = disagreement_lines(some)
                    self.assertEqual([json.loads(line) for line in lines], list(map(self.written, some)))
                    named = [json.loads(line)["check"] for line in disagreement_lines(some, "my 'own'.yaml")]
                    self.assertEqual(
                        named, [f"{self.written(each)['check']} -n 'my '\"'\"'own'\"'\"'.yaml'" for each in some]
                    )
                    met += len(lines)
        self.assertGreater(met, 100)

    @staticmethod
    def written(each):
        group, seen, concluded = each.group, each.record, each.group.concluded
        _, chosen, rule = concluded.decider or (None, None, None)
        return {
            "kiboko": "disagreement/1", "status": concluded.status, "time": iso(seen.start), "source": group.source,
            "destination": group.destination, "source_address": str(seen.source),
            "destination_address": str(seen.destination), "service": group.service, "source_port": seen.source_port,
            "observed": concluded.observed, "why": concluded.why, "filter": chosen, "rule": rule, "count": each.count,
            "check": group.check_line(),
        }  # fmt: skip

    def test_the_window_is_bounded_and_a_reply_behind_it_is_judged_by_itself(self):
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 3):
            self.feed(record("10.1.1.10", "10.2.1.10", 40000, 22, SEEN, 2))
            for n in range(3):
                self.feed(record("10.1.1.10", "10.1.2.10", 41000 + n, 22, PASSED, 2))
            self.feed(record("10.2.1.10", "10.1.1.10", 22, 40000, SEEN, 18, 1))
        self.assertEqual(self.watch.summary.totals, {UNSURE: 1, LEAK: 1}, "the reply alone; the request is gone")

    def test_what_was_said_of_whole_conversations_stays_when_they_leave_the_window_in_part(self):
        """Answers come up to two seconds behind, and every conversation is cut in two some time."""
        chance, timed = random.Random(1), []
        for n in range(300):
            ends, answered = ("10.1.1.10", "10.1.2.10"), n / 10 + 2 * chance.random()
            timed.append((n / 10, record(*ends, 40000 + n, 22, SEEN, 27, n / 10)))
            timed.append((answered, record(*ends[::-1], 22, 40000 + n, SEEN, 27, answered)))
        flows = [each for _, each in sorted(timed, key=lambda pair: pair[0])]
        for most in (1_000_000, 0):  # and where the evaluator lets go of all between any two tables
            with (
                mock.patch("kiboko.core.evidence.watch._WINDOW", 100),
                mock.patch("kiboko.core.evidence.evaluator._MOST_CLASSES", most),
            ):
                self.feed_anew(flows, 10)
            self.assertEqual((+self.watch.summary.totals, self.watch.summary.conversations), ({AGREE: 600}, 300))

    def test_a_reply_that_came_long_before_its_request_makes_no_silence(self):
        """Exporters write the two in whatever order: behind the window it was in nobody may say that it was not there."""

        request, reply = both(39000, 0)
        others = [each for n in range(60) for each in both(40000 + n, n)]
        silent = [both(39500, 30)[0]]
        for flows, breaks in (
            ([reply, *others[:30], request, *others[30:]], 0),
            ([*others[:60], *silent, *others[60:]], 1),
        ):
            with mock.patch("kiboko.core.evidence.watch._WINDOW", 24):
                self.feed_anew(flows, 4)
            self.assertEqual(self.watch.summary.totals[BREAK], breaks)

    def test_no_silence_is_told_before_as_late_a_record_as_others_were_could_have_come(self):
        """One exporter's records come eleven and fourteen seconds after those of the others, in a window of twelve."""

        (early, its_reply), (late, its_late_reply) = both(39000, 5), both(39500, 30)
        for reply_at, breaks in ((44, 0), (None, 0)):
            flows = []
            for n in range(60):
                flows += both(40000 + n, n)
                flows += {5: [early], 16: [its_reply], 30: [late], reply_at: [its_late_reply]}.get(n, [])
            with mock.patch("kiboko.core.evidence.watch._WINDOW", 24):
                self.feed_anew(flows, 4)
            self.assertEqual(self.watch.summary.totals[BREAK], breaks)
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 90):  # which is long enough to know
            self.feed_anew(flows, 4)
        self.assertEqual(self.watch.summary.totals[BREAK], 1)

    def test_what_was_cut_off_from_its_reply_by_the_window_is_no_lost_reply(self):
        """At either end of the window there is half of a conversation now and then, whose sender has acknowledged."""
        ends, flows = ("10.1.1.10", "10.1.2.10"), []
        for n in range(300):
            flags = 2 if n % 10 == 5 else 27
            flows.append(record(*ends, 40000 + n, 22, SEEN, flags, n))
            flows += [record(*ends[::-1], 22, 40000 + n, SEEN, flags, n)] * (flags == 27)
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 71):
            self.feed_anew(flows, 5)
        self.assertEqual(self.watch.summary.totals[BREAK], 29)  # the last one may be answered yet

    def test_where_little_comes_a_silence_is_told_all_the_same(self):
        ends = ("10.1.1.10", "10.1.2.10")
        for n in range(40):  # a request in a minute, and its answer
            self.feed(record(*ends, 40000 + n, 22, SEEN, None, 60 * n))
            if n != 30:
                self.feed(record(*ends[::-1], 22, 40000 + n, SEEN, None, 60 * n))
            self.assertEqual(self.watch.summary.totals[BREAK], int(n > 30))

    def test_a_backlog_that_was_sent_once_keeps_no_silence_from_being_told_for_good(self):
        ends, flows = ("10.1.1.10", "10.1.2.10"), []
        for n in range(300):
            flows += both(40000 + n, n)
            # What an exporter kept for half a minute, and long after that a request that nobody answers.
            flows += {50: [record(*ends, 30000 + k, 22, PASSED, 27, 20) for k in range(5)],
                      220: [record(*ends, 39500, 22, SEEN, None, 220)]}.get(n, [])  # fmt: skip
        for remembered, breaks in ((200, 1), (10_000, 0)):
            with (
                mock.patch("kiboko.core.evidence.watch._WINDOW", 70),
                mock.patch("kiboko.core.evidence.watch._REMEMBERED", remembered),
            ):
                self.feed_anew(flows, 4)
            self.assertEqual(self.watch.summary.totals[BREAK], breaks)

    def test_a_biflow_tells_who_began_once_the_collector_has_been_at_work_for_some_time(self):
        """Its window holds less than that. By the rules cat may not reach ann on 50002."""
        values = base()
        values["filters"]["guard"] = a_filter("instance", inbound=[], outbound=[{"action": "allow"}])
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
        walker = Walker(load(values))
        watch = Watch(Comparison(walker), Summary(walker.directory))
        told = []
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 2):
            for seconds in (0, 299, 300):
                port = 51000 + seconds
                pair = [record(*ends, SEEN, None, seconds) for ends in (("10.1.2.10", "10.1.1.10", port, 50002),
                                                                       ("10.1.1.10", "10.1.2.10", 50002, port))]  # fmt: skip
                pair = [dataclasses.replace(each, direction=at + 1, packets=9, octets=9000)
                        for at, each in enumerate(pair)]  # fmt: skip
                pair = [dataclasses.replace(each, service=Service(17, each.service.detail)) for each in pair]
                watch.add(table_of(pair))
                watch.judge()
                told.append(watch.summary.totals[LEAK])
        self.assertEqual([0, 0, 2], told)

    def test_a_session_that_is_older_than_the_rules_is_known_again_behind_the_window(self):
        values = base()
        values["filters"]["closed"] = a_filter("subnet", inbound=[])
        values["subnets"]["b1"]["filter"] = "closed"
        walker = Walker(dataclasses.replace(load(values), as_of=NOW))
        with mock.patch("kiboko.core.evidence.watch._WINDOW", 6):
            self.watch = Watch(Comparison(walker), Summary(walker.directory))
            for minute in range(-4, 20):
                for port, flags in ((40000, 24), *(((41000, 24),) if minute > 9 else ())):
                    ends = "10.1.1.10", "10.2.1.10"
                    self.feed(record(*ends, port, 22, PASSED, flags, minute * 60),
                              record(*ends[::-1], 22, port, PASSED, flags, minute * 60))  # fmt: skip
        self.assertEqual(+self.watch.summary.totals, {UNSURE: 48, LEAK: 20})


if __name__ == "__main__":
    unittest.main()
