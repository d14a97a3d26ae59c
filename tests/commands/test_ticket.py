"""What was seen of the very traffic that is asked about: `check` with logs, probes, and a probe sent now."""

import contextlib
import json
import shlex
import socket
import tempfile
import threading
import unittest
from pathlib import Path

from kiboko.wire.probes import may_send_echo_requests
from tests.helpers import a_filter, base
from tests.helpers import kiboko as run

FLOWS, PROBES = "evidence/flows.csv", "evidence/probes.jsonl"


def asked_by_two_addresses():
    """A network in which cat is let in at its private address, and not at its public one."""
    values = base()
    values["filters"]["edge"] = a_filter("subnet", inbound=[{"action": "allow", "from": "north"}])
    values["subnets"]["a2"]["filter"] = "edge"
    values["expectations"] = [
        {"id": "by-name", "from": "ann", "to": "cat", "service": "ssh", "expect": "allowed"},
        {"id": "by-whatever", "from": "ann", "to": "cat", "service": "ssh", "expect": "blocked"},
    ]
    return values


class Recorded(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        cls.folder = cls.temporary.name
        run("demo", "--only-write", cls.folder)

    @classmethod
    def tearDownClass(cls):
        cls.temporary.cleanup()

    def ask(self, words, status):
        done = run(*words.split(), cwd=self.folder)
        self.assertEqual(status, done.returncode, done.stdout + done.stderr)
        return done

    def test_the_first_ten_lines_carry_verdict_rule_and_what_was_seen(self):
        done = self.ask(f"check gauge-08 relay-2 tcp/9100 --flows {FLOWS} --probes {PROBES}", 1)
        lines = done.stdout.splitlines()[:10]
        self.assertTrue(lines[0].startswith("BLOCKED: gauge-08"))
        self.assertIn("default drop of relay-guard", lines[1])
        self.assertIn("the network does not do what the rules say", lines[3])
        self.assertRegex(lines[5], r"recorded +2026-11-20 10:35:08Z +it was answered +leak: .* 7 conversations")
        self.assertRegex(lines[6], r"probed +2026-11-20 10:05:10Z +answered in 0.2 ms +leak: ")
        self.assertIn("443 flow records from 2026-11-18 22:14:00Z", lines[7])

    def test_every_finding_of_confirm_is_what_check_shows_of_its_pair(self):
        report = json.loads(run("confirm", "--flows", FLOWS, "--probes", PROBES, "--all", "--json",
                                cwd=self.folder).stdout)  # fmt: skip
        met = set()
        for finding in report["rows"]:
            # One service stands for a range that no rule tells apart; of the rest a few of each kind are enough.
            key = (finding["status"], finding["observed"], finding["why"], finding["evidence"])
            if finding["verdict"] is None or key in met:
                continue
            met.add(key)
            words = shlex.split(finding["example"]["check"])[2:5]
            seen = json.loads(self.shown(*words, "--flows", FLOWS, "--probes", PROBES))
            if finding["behind_shared_address"]:  # of one of those behind it such records prove nothing
                self.assertEqual(finding["count"], seen["evidence"]["records_behind_shared_address"])
                continue
            matching = [
                each
                for each in seen["evidence"]["findings"]
                if (each["status"], each["why"], each["evidence"])
                == (finding["status"], finding["why"], finding["evidence"])
            ]
            self.assertTrue(matching, finding)
        self.assertGreater(len(met), 10)

    def shown(self, *words):
        done = run("check", *words, "--json", cwd=self.folder)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return done.stdout

    def test_what_was_seen_turns_the_status_of_an_allowed_flow_where_it_is_broken(self):
        self.ask("check bench-pc lamp reading -n loopback/network.yaml", 0)
        with closed_port():
            done = self.ask("check bench-pc lamp reading -n loopback/network.yaml --probe --as bench-pc", 1)
        self.assertRegex(done.stdout.splitlines()[4], r"sent now .* refused in .* break: refused, though the rules")

    def test_nothing_recorded_says_how_much_was_looked_through(self):
        done = self.ask(f"check desk-1 desk-2 ssh --flows {FLOWS} --probes {PROBES}", 1)
        self.assertIn("Nothing of it was recorded: 443 flow records from 2026-11-18", done.stdout)
        self.assertIn("and 14 probes looked through.", done.stdout)
        done = self.ask(f"check desk-1 desk-2 ssh --flows {FLOWS} --since 2027-01-01", 1)
        self.assertIn("0 flow records, 443 left out for their time looked through", done.stdout)

    def test_a_log_or_a_probe_file_without_a_record_is_an_error(self):
        empty = Path(self.folder, "empty.csv")
        empty.write_text(Path(self.folder, FLOWS).read_text().splitlines()[0] + "\n")
        self.assertIn("there is no record in it", self.ask(f"check desk-1 desk-2 ssh --flows {empty}", 2).stderr)
        empty.write_text("")
        self.assertIn("there is no record in it", self.ask(f"check desk-1 desk-2 ssh --probes {empty}", 2).stderr)
        self.ask("check desk-1 desk-2 ssh --flows nowhere.csv", 2)

    def test_one_kind_of_evidence_in_the_place_of_the_other_is_said(self):
        told = self.ask(f"check desk-1 desk-2 ssh --probes {FLOWS}", 2).stderr
        self.assertIn("probe records are JSON Lines, and flow logs go with --flows", told)
        for path in (PROBES, "evidence"):
            told = self.ask(f"check desk-1 desk-2 ssh --flows {path}", 2).stderr
            self.assertIn("these are probe records, no flow records: give them with --probes", told)

    def test_other_client_ports_and_services_are_not_meant(self):
        line = f"check gauge-08 relay-2 tcp/9100 --flows {FLOWS} --json"
        every = json.loads(self.ask(line, 1).stdout)["evidence"]
        one = json.loads(self.ask(f"{line} --client-ports 51540", 1).stdout)["evidence"]
        self.assertEqual([7], [each["conversations"] for each in every["findings"]])
        self.assertEqual([1], [each["conversations"] for each in one["findings"]])
        self.assertGreater(one["other_records_between"], every["other_records_between"])
        other = json.loads(self.ask(f"check gauge-08 relay-2 tcp/9101 --flows {FLOWS} --json", 1).stdout)["evidence"]
        self.assertEqual([], other["findings"])

    def test_a_change_that_is_tried_does_not_change_what_was_seen(self):
        line = f"check desk-1 forecast-1 tcp/8443 --flows {FLOWS}"
        before = json.loads(self.ask(f"{line} --json", 1).stdout)
        after = json.loads(self.ask(f"{line} --without core-guard/inbound/20 --json", 0).stdout)
        self.assertEqual(("blocked", "allowed"), (before["verdict"], after["verdict"]))
        self.assertEqual(before["evidence"], after["evidence"])
        told = self.ask(f"{line} --without core-guard/inbound/20", 0).stdout
        self.assertIn("held against the network file as it is, without what is being tried", told)

    def test_what_was_recorded_at_another_address_of_a_machine_is_not_held_against_this_verdict(self):
        """ssh is let in at the first address alone, and was answered at the second."""
        values = base()
        values["instances"]["ann"]["interfaces"][0]["addresses"].append("10.1.1.12")
        values["filters"]["own"] = a_filter(
            "instance", inbound=[{"action": "allow", "to": "10.1.1.10", "service": "ssh"}]
        )
        values["instances"]["ann"]["interfaces"][0]["filters"] = ["own"]
        rows = [
            "flowStartMilliseconds,sourceIPv4Address,destinationIPv4Address,sourceTransportPort,destinationTransportPort,"
            "protocolIdentifier,tcpControlBits,packetDeltaCount,octetDeltaCount",
            "1795000000000,10.2.1.10,10.1.1.12,40000,22,6,27,5,400",
            "1795000000000,10.1.1.12,10.2.1.10,22,40000,6,27,5,400",
        ]
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            (Path(folder) / "log.csv").write_text("\n".join(rows) + "\n")
            first, second = (
                json.loads(run("check", "dan", end, "ssh", "--flows", "log.csv", "--json", cwd=folder).stdout)
                for end in ("ann", "10.1.1.12")
            )
            told = run("check", "dan", "ann", "ssh", "--flows", "log.csv", cwd=folder)
            confirmed = json.loads(run("confirm", "--flows", "log.csv", "--json", cwd=folder).stdout)
        self.assertEqual(("allowed", [], 2), (first["verdict"], first["evidence"]["findings"],
                                              first["evidence"]["records_at_other_addresses"]))  # fmt: skip
        self.assertEqual(0, told.returncode)
        self.assertIn("2 flow records of it at another address of the sender or the receiver", told.stdout)
        self.assertEqual(("blocked", ["leak"], 0), (
            second["verdict"], [each["status"] for each in second["evidence"]["findings"]],
            second["evidence"]["records_at_other_addresses"]))  # fmt: skip
        self.assertEqual([("dan", "10.1.1.12")],
                         [(each["source"], each["destination"]) for each in confirmed["rows"]])  # fmt: skip

    def test_what_was_sent_to_the_public_address_of_a_machine_proves_nothing_of_its_private_one(self):
        """Inside, a name means the private address. What goes to the public one takes another way, on which the subnet
        filter stops it, and a silent probe of it is no proof that the network does what the rules say of the name."""
        probe = {"kiboko": "probe/1", "time": "2026-11-20T10:00:00Z", "from": "ann", "to": "203.0.113.20",
                 "address": "203.0.113.20", "service": "tcp/22", "source_port": 40000, "outcome": "silent",
                 "rtt_ms": None, "attempts": 2, "sent_from": "10.1.1.10", "redirected": False}  # fmt: skip
        rows = [
            "start,src,dst,src_port,dst_port,proto,action,flags",
            "2026-11-20T10:00:01Z,10.1.1.10,203.0.113.20,40001,22,tcp,drop,2",
        ]
        evidence = ("--flows", "log.csv", "--probes", "probes.jsonl")
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(asked_by_two_addresses()))
            (Path(folder) / "log.csv").write_text("\n".join(rows) + "\n")
            (Path(folder) / "probes.jsonl").write_text(json.dumps(probe) + "\n")
            named = run("check", "ann", "cat", "ssh", *evidence, cwd=folder)
            public = run("check", "ann", "203.0.113.20", "ssh", *evidence, cwd=folder)
            groups = run("check", "ann", "a2", "ssh", *evidence, cwd=folder)
            promised = run("expect", *evidence, "--json", cwd=folder)
        self.assertEqual(0, named.returncode, named.stdout)
        self.assertIn("Nothing of it was recorded", named.stdout)
        self.assertIn("1 flow record and 1 probe of it at another address", named.stdout)
        self.assertIn("Nothing of it was recorded", groups.stdout)
        self.assertIn("the network does what the rules say", public.stdout)
        self.assertNotIn("another address", public.stdout)
        by_name, by_whatever = (each["recorded"] for each in json.loads(promised.stdout)["rows"])
        self.assertEqual((0, 0), (by_name["keep"], by_name["break"]))
        self.assertEqual((2, 0), (by_whatever["keep"], by_whatever["break"]))

    def test_an_answer_that_the_inventory_knows_nothing_of_and_another_stop_are_no_confirmation(self):
        """By the network file nothing listens to ssh at cat, who answers it; and http to bob is dropped, and refused."""
        values = base()
        values["filters"]["shut"] = a_filter("instance", inbound=[])
        values["instances"]["cat"]["listens"] = ["http"]
        values["instances"]["bob"]["interfaces"][0]["filters"] = ["shut"]
        rows = ["start,src,dst,src_port,dst_port,proto,flags", "2026-11-20T10:00:00Z,10.1.1.10,10.1.2.10,40000,22,6,27",
                "2026-11-20T10:00:00Z,10.1.2.10,10.1.1.10,22,40000,6,27",
                "2026-11-20T10:00:00Z,10.1.1.10,10.1.1.11,40000,80,6,2",
                "2026-11-20T10:00:00Z,10.1.1.11,10.1.1.10,80,40000,6,20"]  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            (Path(folder) / "log.csv").write_text("\n".join(rows) + "\n")
            for words, said in (
                (("ann", "cat", "ssh"), "the filters do what the rules say, and the inventory is out of date"),
                (("ann", "bob", "http"), "it fails, and not as the rules say: something else stops it"),
            ):
                told = run("check", *words, "--flows", "log.csv", cwd=folder)
                self.assertEqual(1, told.returncode)
                self.assertIn(f"What was seen of it: {said}", told.stdout)
                told = run("check", *words, "--flows", "log.csv", "--json", cwd=folder)
                self.assertEqual(said, json.loads(told.stdout)["evidence"]["comes_to"])

    def test_what_came_from_behind_a_shared_address_is_of_a_sender_that_nobody_shares_it_with(self):
        """dan and eve are behind one address; a promise over the whole network is one of whoever sent it."""
        values = base()
        values["instances"]["eve"] = {"interfaces": [{"subnet": "b1", "addresses": ["10.2.1.11"]}]}
        values["expectations"] = [
            {"id": f"{name}-{expect}", "from": name, "to": "depot", "service": "https", "expect": expect}
            for name in ("dan", "south")
            for expect in ("allowed", "blocked")
        ]
        rows = ["start,src,dst,src_port,dst_port,proto,flags", "2026-11-20T10:00:00Z,203.0.113.2,198.51.100.3,40000,443,6,27",
                "2026-11-20T10:00:00Z,198.51.100.3,203.0.113.2,443,40000,6,27"]  # fmt: skip
        words = ("198.51.100.3", "https", "--flows", "log.csv")
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            (Path(folder) / "log.csv").write_text("\n".join(rows) + "\n")
            one = run("check", "dan", *words, cwd=folder).stdout
            every = run("check", "south", *words, cwd=folder).stdout
            promised = json.loads(run("expect", "--flows", "log.csv", "--json", cwd=folder).stdout)
            del values["instances"]["eve"]
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            alone = run("check", "dan", *words, cwd=folder).stdout
        self.assertIn("Nothing of it was recorded", one)
        self.assertIn("2 flow records of such traffic from behind a shared address", one)
        self.assertIn("the network does what the rules say", every)
        self.assertIn("the network does what the rules say", alone)
        self.assertEqual(
            {"dan-allowed": (0, 0), "dan-blocked": (0, 0), "south-allowed": (1, 0), "south-blocked": (0, 1)},
            {row["id"]: (row["recorded"]["keep"], row["recorded"]["break"]) for row in promised["rows"]},
        )

    def test_what_either_end_may_have_begun_is_shown_to_whoever_asks_about_one_of_the_ways(self):
        """ann and cat sent to each other from high ports, of which the rules let in one at ann and none at cat."""
        values = base()
        values["filters"]["shut"] = a_filter("instance", inbound=[])
        values["instances"]["cat"]["interfaces"][0]["filters"] = ["shut"]
        rows = ["start,src,dst,src_port,dst_port,proto", "2026-11-20T10:00:00Z,10.1.1.10,10.1.2.10,46000,47000,17",
                "2026-11-20T10:00:00Z,10.1.2.10,10.1.1.10,47000,46000,17"]  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "network.yaml").write_text(json.dumps(values))
            (Path(folder) / "log.csv").write_text("\n".join(rows) + "\n")
            for words, status, seen in (
                (("ann", "cat", "udp/47000"), 1, True), (("cat", "ann", "udp/46000"), 0, True),
                (("ann", "cat", "udp/46000"), 1, False), (("cat", "ann", "udp/47000"), 0, False),
                (("ann", "cat", "udp/47000", "--client-ports", "46000"), 1, True),
                (("ann", "cat", "udp/47000", "--client-ports", "46001"), 1, False),
            ):  # fmt: skip
                told = run("check", *words, "--flows", "log.csv", cwd=folder)
                self.assertEqual(status, told.returncode, told.stderr)
                self.assertEqual(seen, "unsure: who began is not recorded" in told.stdout, told.stdout)
                self.assertEqual(seen, "Nothing of it was recorded" not in told.stdout)

    def test_of_sets_too(self):
        done = self.ask(f"check internet gauges ssh --only allowed --flows {FLOWS}", 1)
        self.assertRegex(
            done.stdout, r"recorded .* it was answered +agree: answered, as the rules say +2 conversations"
        )


class SentNow(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.temporary = tempfile.TemporaryDirectory()
        run("demo", "--only-write", cls.temporary.name)

    @classmethod
    def tearDownClass(cls):
        cls.temporary.cleanup()

    def ask(self, words, status):
        done = run("check", *words.split(), "-n", "loopback/network.yaml", cwd=self.temporary.name)
        self.assertEqual(status, done.returncode, done.stdout + done.stderr)
        return done

    def test_a_probe_that_is_answered(self):
        with listening():
            done = self.ask("bench-pc lamp reading --probe --as bench-pc", 0)
        self.assertIn("the network does what the rules say", done.stdout)
        self.assertRegex(done.stdout, r"sent now .* answered in [0-9.]+ ms +agree: answered, as the rules say")

    def test_a_probe_of_somebody_else_says_nothing(self):
        with listening():
            done = self.ask("bench-pc lamp reading --probe --as lamp --json", 0)
        sent = json.loads(done.stdout)["evidence"]["sent"]
        self.assertIn("sent by lamp, which is not who was asked about", sent["says_nothing_because"])

    def test_a_probe_that_leaves_from_another_address_says_nothing(self):
        network = Path(self.temporary.name, "loopback", "network.yaml")
        other = Path(self.temporary.name, "loopback", "other.yaml")
        other.write_text(network.read_text().replace("addresses: [127.0.0.1]", "addresses: [127.5.5.5]"))
        with listening():
            done = run("check", "bench-pc", "lamp", "reading", "-n", "loopback/other.yaml", "--probe", "--as", "bench-pc",
                       cwd=self.temporary.name)  # fmt: skip
        self.assertIn("it left from 127.0.0.1, which is no address of bench-pc", done.stdout)
        self.assertNotIn("does what the rules say", done.stdout)

    @unittest.skipUnless(may_send_echo_requests(), "this system lets only root send echo requests")
    def test_a_record_of_a_probe_that_left_from_another_address_is_told_as_it_is_made(self):
        network = Path(self.temporary.name, "loopback", "network.yaml")
        other = Path(self.temporary.name, "loopback", "elsewhere.yaml")
        other.write_text(network.read_text().replace("addresses: [127.0.0.1]", "addresses: [127.5.5.5]"))
        words = ("probe", "lamp", "ping", "--as", "bench-pc", "-n", "loopback/elsewhere.yaml")
        done = run(*words, "--record", "elsewhere.jsonl", cwd=self.temporary.name)
        self.assertIn("1 probe of something else: it left from 127.0.0.1, which is no address of bench-pc", done.stdout)
        self.assertIn("it left from 127.0.0.1", run(*words, "--json", cwd=self.temporary.name).stderr)
        held = run("confirm", "--probes", "elsewhere.jsonl", "-n", "loopback/elsewhere.yaml", cwd=self.temporary.name)
        self.assertIn("NOTHING PROVED", held.stdout)
        self.assertIn("it left from 127.0.0.1, which is no address of bench-pc", held.stdout)
        self.assertNotIn("something else", run("probe", "lamp", "ping", "--as", "bench-pc", cwd=network.parent).stdout)

    def test_who_this_machine_is_has_to_be_said_and_one_thing_asked(self):
        self.assertIn("say with --as", self.ask("bench-pc lamp reading --probe", 2).stderr)
        self.assertIn("give --probe too", self.ask("bench-pc lamp reading --as bench-pc", 2).stderr)
        self.assertIn("one service", self.ask("bench-pc lamp tcp/1-9 --probe --as bench-pc", 2).stderr)
        self.assertIn("more than one", self.ask("bench-pc bench-top ssh --probe --as bench-pc", 2).stderr)


@contextlib.contextmanager
def listening(port=47811):
    """Something that takes connections where the demo's lamp is."""
    with socket.create_server(("127.77.1.10", port)) as server:
        thread = threading.Thread(target=accepting, args=(server,), daemon=True)
        thread.start()
        yield
        server.shutdown(socket.SHUT_RDWR)
        thread.join(timeout=5)


def accepting(server):
    with contextlib.suppress(OSError):
        while True:
            server.accept()[0].close()


@contextlib.contextmanager
def closed_port():
    """Nothing listens there: bound, so that nobody else does meanwhile, and no connection is taken."""
    with socket.socket() as held:
        held.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        held.bind(("127.77.1.10", 47811))
        yield


if __name__ == "__main__":
    unittest.main()
