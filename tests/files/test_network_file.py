"""The network file: every fault at once, each with file, line and the nearest name; nothing crashes the reader."""

import difflib
import json
import random
import tempfile
import textwrap
import unittest
from pathlib import Path

import jsonschema
from hypothesis import given, settings
from hypothesis import strategies as st

from kiboko.core.errors import InputError
from kiboko.core.header.addresses import parse_address
from kiboko.core.hints import alike
from kiboko.files.documents.lined_yaml import MOST_DEPTH, parse
from kiboko.files.hosts.sockets import read_sockets
from kiboko.files.network import schema
from kiboko.files.network.network_file import load_network
from tests.helpers import a_filter, base, load

ROOT = Path(__file__).resolve().parents[2]

SMALL = """\
kiboko: 1
networks: {north: {cidrs: [10.1.0.0/16]}}
subnets:
  a1: {network: north, cidr: 10.1.1.0/24}
filters:
  guard:
    layer: instance
    decide: first
    stateful: true
    inbound:
      - {order: 10, action: allow, service: ssh}
instances:
  ann:
    interfaces: [{subnet: a1, addresses: [10.1.1.10], filters: [guard]}]
"""


def problems(text, files=None):
    """What is wrong with a network file, as `line: text` without the folder."""
    with tempfile.TemporaryDirectory() as folder:
        for name, content in (files or {}).items():
            path = Path(folder) / name
            path.write_bytes(content) if isinstance(content, bytes) else path.write_text(content)
        path = Path(folder)
        if text is not None:
            path = path / "network.yaml"
            path.write_bytes(text) if isinstance(text, bytes) else path.write_text(text)
        try:
            load_network(str(path))
        except InputError as error:
            return [str(problem).replace(folder + "/", "") for problem in error.problems]
        return []


class Faults(unittest.TestCase):
    def assert_fault(self, change, expected, files=None):
        """Change one piece of the small network and expect exactly one problem."""
        old, new = change
        self.assertIn(old, SMALL)
        self.assertEqual(problems(SMALL.replace(old, new), files), [expected])

    def test_the_small_network_is_right(self):
        self.assertEqual(problems(SMALL), [])

    def test_a_name_not_defined_has_line_and_nearest_name(self):
        self.assert_fault(
            ("filters: [guard]", "filters: [gaurd]"),
            "network.yaml:14: instance 'ann', interface 'eth0' names filter 'gaurd', which is not defined; did you mean 'guard'?",
        )

    def test_words_that_are_no_names_are_meant_as_well(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.9.0.0/16", "via": "dicsard"})
        values["filters"]["f"] = a_filter("instance", inbound=[{"action": "allow", "from": "anny"}])
        values["filters"]["f"] |= {"attach_to": ["al"], "exempt": ["al"]}
        meant = [each.partition("did you mean ")[2] for each in problems(json.dumps(values, indent=1))]
        self.assertEqual(["", "'all'?", "'any'?", "'discard'?"], sorted(meant))

    def test_what_is_written_as_in_other_places_is_told_how_it_is_written_here(self):
        rule = {"action": "allow", "from": "bob", "service": "ssh"}
        for change, told in (
            ({"action": "permit"}, "did you mean 'allow'?"), ({"action": "Deny"}, "did you mean 'drop'?"),
            ({"source": "bob"}, "unknown key 'source'; did you mean 'from'?"), ({"port": 22}, "did you mean 'service'?"),
            ({"enabled": "false"}, "not 'false'; write it without quotes"), ({"enabled": "no"}, "true or false belongs here, not 'no'; write false"),
            ({"from": "10.1.1.5-9"}, "did you mean '10.1.1.5-10.1.1.9'?"), ({"from": "10.1.*"}, "did you mean '10.1.0.0/16'?"),
            ({"service": "tcp/1024:65535"}, "did you mean 'tcp/1024-65535'?"), ({"source_ports": "any"}, "did you mean '0-65535'?"),
            ({"service": "udp/>1023"}, "did you mean 'udp/1024-65535'?"), ({"source_ports": "32768 60999"}, "'32768-60999'?"),
            ({"from": "10.1.1.*"}, "did you mean '10.1.1.0/24'?"), ({"to": "!bob"}, "nothing is negated here"),
        ):  # fmt: skip
            values = base()
            values["filters"]["f"] = a_filter("instance", inbound=[rule | change])
            with self.subTest(change):
                (found,) = problems(json.dumps(values))
                self.assertIn(told, found)
        for route, told in (
            ({"to": "default", "via": "peer"}, "did you mean '0.0.0.0/0', and '::/0' of IPv6?"),
            ({"to": "10.9.0.0/16", "via": "blackhole"}, "did you mean 'discard'?"),
            ({"to": "10.9.0.0/16", "via": "bob"}, "did you mean {instance: bob}?"),
            ({"to": "10.9.0.0/16", "via": "a2"}, "names gateway 'a2', which is a subnet"),
        ):  # fmt: skip
            values = base()
            values["route_tables"]["north-table"].append(route)
            with self.subTest(route):
                (found,) = problems(json.dumps(values))
                self.assertIn(told, found)
        values = base()
        values["expectations"] = [{"id": "a", "from": "bob", "to": "cat", "service": "ssh", "expect": "deny"}]
        self.assertIn(
            "'deny' is none of allowed, blocked, only; did you mean 'blocked'?", problems(json.dumps(values))[0]
        )
        values = base()
        values["instances"]["bob"]["listens"] = "ssh"
        self.assertEqual([each.text for each in load(values).instances["bob"].listens], ["ssh"])
        values["instances"]["bob"]["interfaces"][0]["addresses"] = ["10.1.1.11/24"]
        values["instances"]["cat"]["state"] = "down"
        told = [each.partition(": ")[2] for each in problems(json.dumps(values, indent=1))]
        self.assertIn("'10.1.1.11/24' has a prefix length; write the address alone: '10.1.1.11'", told[0])
        self.assertIn("did you mean 'stopped'?", told[1])

    def test_a_field_without_a_value_is_not_taken_as_left_out_where_that_lets_pass_more(self):
        """As where all rules of a list are commented out, or what a rule is for is still to be written."""
        for old, new, told in (
            ("      - {order: 10,", "#     - {order: 10,", "10: filters.guard: 'inbound' has no value; [] is no rule at all"),
            ("service: ssh}", "service: }", "11: filters.guard.inbound.1: 'service' has no value; left out it matches anything"),
            ("service: ssh}", "service: []}", "11: filter 'guard', rule 10: 'service' has no value"),
            ("service: ssh}", "from: }", "11: filters.guard.inbound.1: 'from' has no value"),
            ("service: ssh}", "to: , service: ssh}", "11: filters.guard.inbound.1: 'to' has no value"),
            ("service: ssh}", "source_ports: , service: ssh}", "11: filters.guard.inbound.1: 'source_ports' has no value"),
        ):  # fmt: skip
            with self.subTest(new):
                self.assertIn(old, SMALL)
                (found,) = problems(SMALL.replace(old, new))
                self.assertIn(f"network.yaml:{told}", found)
        self.assertEqual(problems(SMALL.replace("service: ssh}", "service: ssh, from: []}")), [])

    def test_of_thousands_of_names_a_mistyped_one_has_the_right_one_named(self):
        """Of very many the library compares those alone that have most pairs of letters in common with the word."""
        names = [f"{kind}-{number}" for kind in ("box", "hall", "gauge", "relay") for number in range(3000)]
        chance = random.Random(7)
        for word in ("bxo-17", "box17", "hal-2999", "gague-1204", "relay_77", "rleay-5"):
            self.assertEqual(difflib.get_close_matches(word, names, 1)[:1], alike(word, names), word)
        for _ in range(20):
            name = chance.choice(names)
            at = chance.randrange(len(name) - 1)
            word = name[:at] + name[at + 1 :] + "x"
            found, best = alike(word, names)[0], difflib.get_close_matches(word, names, 1)[0]
            likeness = [difflib.SequenceMatcher(None, each, word).ratio() for each in (found, best)]
            self.assertEqual(likeness[0], likeness[1], (word, found, best))
        self.assertEqual(alike("zzzzzz", names), [])

    def test_a_service_that_is_wrong_is_told_wherever_it_is_written(self):
        text = SMALL + "  bob: {listens: [sssh]}\n  cat: {listens: [sssh]}\n"
        line = len(SMALL.splitlines())
        told = "service 'sssh' is not defined; did you mean 'ssh'?"
        self.assertEqual(problems(text), [f"network.yaml:{line + number}: instance '{name}', listens: {told}"
                                          for number, name in ((1, "bob"), (2, "cat"))])  # fmt: skip

    def test_unknown_keys_and_wrong_types(self):
        self.assert_fault(("    stateful: true", "    statefull: true\n    stateful: true"),
                          "network.yaml:9: filters.guard: unknown key 'statefull'; did you mean 'stateful'?")  # fmt: skip
        self.assert_fault(
            ("stateful: true", "stateful: yes"),
            "network.yaml:9: filters.guard.stateful: true or false belongs here, not 'yes'; write true",
        )
        self.assert_fault(
            ("order: 10", "order: ten"),
            "network.yaml:11: filters.guard.inbound.1.order: a whole number belongs here, not 'ten'",
        )
        self.assert_fault(
            ("action: allow", "action: allw"),
            "network.yaml:11: filters.guard.inbound.1.action: 'allw' is none of allow, drop, reject; did you mean 'allow'?",
        )
        self.assert_fault(
            ("[10.1.0.0/16]", "{a: b}"), "network.yaml:2: networks.north.cidrs: a list belongs here, not a table"
        )
        self.assert_fault(("network: north, ", ""), "network.yaml:4: subnets.a1: 'network' is missing")

    def test_addresses_that_do_not_fit(self):
        self.assert_fault(
            ("10.1.1.10", "10.1.2.10"), "network.yaml:14: 'ann/eth0': 10.1.2.10 lies outside subnet 'a1' (10.1.1.0/24)"
        )
        self.assert_fault(
            ("cidr: 10.1.1.0/24", "cidr: 10.1.1.1/24"),
            "network.yaml:4: subnet 'a1': '10.1.1.1/24' has bits set behind its prefix length; did you mean '10.1.1.0/24'?",
        )
        self.assert_fault(
            ("addresses: [10.1.1.10]", "addresses: [10.1.1.300]"),
            "network.yaml:14: instance 'ann', interface 'eth0': '10.1.1.300' does not appear to be an IPv4 or IPv6 address",
        )

    def test_doubles_and_overlaps(self):
        self.assert_fault(("instances:\n", "instances:\n  bob: {interfaces: [{subnet: a1, addresses: [10.1.1.10]}]}\n"),
                          "network.yaml:15: 'ann/eth0': 10.1.1.10 is also the address of 'bob/eth0' in network.yaml:13")  # fmt: skip
        self.assert_fault(("subnets:\n", "subnets:\n  a0: {network: north, cidr: 10.1.0.0/17}\n"),
                          "network.yaml:5: subnet 'a1' (10.1.1.0/24) overlaps subnet 'a0' (10.1.0.0/17) in network.yaml:4")  # fmt: skip
        self.assert_fault(
            ("kiboko: 1\n", "kiboko: 1\nname: x\nname: y\n"),
            "network.yaml:3: key 'name' is given twice; first in line 2",
        )
        self.assert_fault(("service: ssh}", "service: ssh}\n      - {order: 10, action: drop, id: late}"),
                          "network.yaml:12: filter 'guard': order 10 is given twice; first in network.yaml:11")  # fmt: skip
        self.assert_fault(("instances:\n", "instances:\n  guard: {}\n"),
                          "network.yaml:13: instance 'guard': the name is taken by the filter in network.yaml:6")  # fmt: skip

    def test_names_that_cannot_be_names(self):
        for name, why in (
            ("any", "'any' is a reserved word"),
            ("10.1.1.7", "a name must not read as an address"),
            ("Ann", "a name is written with a-z"),
        ):
            found = problems(SMALL.replace("  ann:", f"  {name}:"))
            self.assertEqual(len(found), 1)
            self.assertIn(f"network.yaml:13: instance '{name}': {why}", found[0])
        self.assertEqual(problems(SMALL.replace("  ann:", "  10:")), [], "a name is the scalar's text")

    def test_filters_at_the_wrong_layer(self):
        self.assert_fault(("cidr: 10.1.1.0/24", "cidr: 10.1.1.0/24, filter: guard"),
                          "network.yaml:4: subnet 'a1': filter 'guard' is of layer instance; here belongs one of layer subnet")  # fmt: skip
        zone = SMALL.replace("layer: instance", "layer: zone").replace(", filters: [guard]", "")
        self.assertEqual(problems(zone), [
            "network.yaml:7: filter 'guard': 'rules' is missing; a zone filter needs it",
            "network.yaml:10: filter 'guard': a zone filter has 'rules'; 'inbound' has no meaning on a crossing",
        ])  # fmt: skip

    def test_groups_routes_and_gateways(self):
        values = base()
        values["groups"] = {"a": {"members": ["b"]}, "b": {"members": ["a"]}}
        self.assertIn("group cycle: a > b > a", problems(json.dumps(values))[0])
        values = base()
        values["route_tables"]["south-table"].append({"to": "192.0.2.0/24", "via": "door"})
        self.assertIn(
            "gateway 'door' is of network north, but subnet 'b1' of network south uses this table",
            problems(json.dumps(values))[0],
        )
        values = base()
        values["instances"]["bare"] = {}
        values["route_tables"]["south-table"].append({"to": "192.0.2.0/24", "via": {"instance": "bare"}})
        self.assertIn("next hop 'bare' is in no subnet", problems(json.dumps(values))[0])
        values = base()
        values["gateways"]["exit"].pop("address")
        self.assertIn("'address' is missing; a nat gateway needs it", problems(json.dumps(values))[0])
        values = base()
        values["crossings"] = [{"from": "left", "to": "right", "filter": "z"}] * 2
        values["filters"]["z"] = {"layer": "zone", "decide": "first", "stateful": True, "rules": []}
        self.assertIn("crossing left>right is listed twice", problems(json.dumps(values))[0])

    def test_all_faults_are_told_at_once(self):
        broken = (
            SMALL.replace("service: ssh", "service: shs")
            .replace("[guard]", "[gard]")
            .replace("network: north", "network: nroth")
        )
        self.assertEqual([line.split(":")[1] for line in problems(broken)], ["4", "11", "14"])

    def test_an_expectation_of_nobody_known_and_one_that_is_there_twice_are_told(self):
        one = "  - {id: one, from: nobody, to: any, service: ssh, expect: blocked}\n"
        found = problems(SMALL + "expectations:\n" + one + one.replace("nobody", "any"))
        self.assertEqual(2, len(found))
        self.assertIn("expectation 'one' names end 'nobody', which is not defined", found[0])
        self.assertIn("expectation 'one' is there twice; first in", found[1])


class Readers(unittest.TestCase):
    def test_files_that_are_no_network(self):
        self.assertEqual(problems(""), ["network.yaml:1: the file is empty; it starts with 'kiboko: 1'"])
        self.assertEqual(
            problems("- a\n"), ["network.yaml:1: the file is not a table of sections; it starts with 'kiboko: 1'"]
        )
        self.assertEqual(problems("a: 1\n"), ["network.yaml:1: 'kiboko: 1' is missing: this is not a network file"])
        self.assertEqual(problems(b"kiboko: 1\n\xff\xfe\x00"), ["network.yaml:2: this is not UTF-8 text"])
        self.assertIn("network.yaml:2: not text", problems("kiboko: 1\nname: \x00\n")[0])
        self.assertIn("network.yaml:2: not YAML", problems("kiboko: 1\nname: [a\n")[0].replace(":3:", ":2:"))
        self.assertEqual(
            problems("kiboko: 1\n---\nkiboko: 1\n"), ["network.yaml:2: a second document; one file holds one"]
        )

    def test_broken_syntax_is_said_as_what_it_is_at_the_line_where_it_is(self):
        for text, said in (
            ("name: x\n\tb: 2\n", "3: not YAML: a tab in the indentation; YAML wants spaces"),
            ("zones:\n\t- x\n", "3: not YAML: a tab in the indentation; YAML wants spaces"),
            ("name: 'x\nzones: {}\ngroups: {}\n", "2: not YAML: the quote that opens here is never closed"),
            ("zones:\n  b: {}\n c: {}\n", "4: not YAML: this line is not indented as the lines beside it are"),
            ("name: [1, 2\nzones: {}\n", "2: not YAML: the '[' that opens here is never closed"),
            ("zones: {x: {}\ngroups: {}\n", "2: not YAML: the '{' that opens here is never closed"),
            ("name: x\nbcd\nzones: {}\n", "3: not YAML: a ':' is missing behind this key"),
            ("name: 'it's'\n", "2: not YAML: more text behind a value; a quote or a bracket too many?"),
        ):
            self.assertEqual(problems("kiboko: 1\n" + text), [f"network.yaml:{said}"], text)

    def test_nesting_that_the_library_stops_by_itself_is_told_in_our_words(self):
        """A release of the library has a limit of its own, and meets it before it hands over the first event."""
        for text in ("name: " + "[" * 5_000, "\n".join("  " * depth + "a:" for depth in range(3_000))):
            (found,) = problems("kiboko: 1\n" + text)
            self.assertRegex(found, f"network.yaml:[0-9]+: nested deeper than {MOST_DEPTH} levels")

    def test_the_former_words_for_origins_are_refused_with_the_new_ones_named(self):
        values = base()
        for former, now in (("manual", "static"), ("platform", "learned")):
            values["route_tables"]["north-table"][0]["origin"] = former
            (found,) = problems(json.dumps(values))
            self.assertIn(f"this is called {now} now, not '{former}'", found)

    def test_deep_nesting_and_alias_bombs_are_stopped_at_once(self):
        deep = "kiboko: 1\nname: " + "[" * 5_000_000
        self.assertEqual(problems(deep), [f"network.yaml:2: nested deeper than {MOST_DEPTH} levels"])
        bomb = "kiboko: 1\na0: &a0 [x, x]\n" + "".join(
            f"a{i}: &a{i} [{', '.join([f'*a{i - 1}'] * 9)}]\n" for i in range(1, 30)
        )
        found = problems(bomb)
        self.assertEqual(len(found), 1)
        self.assertRegex(found[0], r"network.yaml:\d+: aliases expand to more than 100,000 values")

    def test_tags_and_python_objects_are_refused(self):
        self.assertEqual(problems("kiboko: 1\nname: !!python/object:os.system x\n"),
                         ["network.yaml:2: tag 'tag:yaml.org,2002:python/object:os.system' is not allowed"])  # fmt: skip

    def test_on_off_yes_and_no_are_text_and_aliases_work(self):
        text = (
            SMALL
            + "  on:\n    tags: {power: off, up: yes}\n    interfaces: &i [{subnet: a1}]\n  off: {interfaces: *i}\n"
        )
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "n.yaml"
            path.write_text(text)
            topology = load_network(str(path))
        self.assertEqual(dict(topology.instances["on"].tags), {"power": "off", "up": "yes"})
        self.assertIn("off", topology.instances)

    @settings(max_examples=200)
    @given(st.text(max_size=200))
    def test_no_text_crashes_the_yaml_reader(self, text):
        try:
            parse(text, "x")
        except InputError as error:
            self.assertTrue(error.problems)

    @settings(max_examples=100)
    @given(st.data())
    def test_no_damaged_network_crashes_the_loader(self, data):
        text = json.dumps(base(), indent=1)
        for _ in range(data.draw(st.integers(1, 3))):
            at = data.draw(st.integers(0, len(text) - 1))
            text = (
                text[:at]
                + data.draw(st.sampled_from(["", "[", "{", '"', "null", "7", ":", ",", "x", "- ", "10.0.0.0/8"]))
                + text[at + data.draw(st.integers(0, 6)) :]
            )
        problems(text)

    def test_a_folder_of_parts_with_a_table(self):
        head = textwrap.dedent("""\
            kiboko: 1
            networks: {north: {cidrs: [10.1.0.0/16]}}
            subnets: {a1: {network: north, cidr: 10.1.1.0/24}}
            """)
        table = (
            "name,subnet,address,public,state,tags,listens\n"
            "ann,a1,10.1.1.10,-,running,role=x;stage=live,ssh;http\n"
            "ann,a1,10.1.1.11,,,,\n"
            "bob,a1,10.1.1.12,203.0.113.9,stopped,,-\n"
        )
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "a.yaml").write_text(head)
            (Path(folder) / "b.yaml").write_text("kiboko: 1\ngroups: {g: {where: {role: x}}}\n")
            (Path(folder) / "instances.csv").write_text(table)
            topology = load_network(folder)
        self.assertEqual(topology.warnings, ())
        ann, bob = topology.instances["ann"], topology.instances["bob"]
        self.assertEqual([i.name for i in ann.interfaces], ["ann/eth0", "ann/eth1"])
        self.assertEqual(
            (len(ann.listens), bob.listens, bob.running, str(bob.interfaces[0].public)), (2, (), False, "203.0.113.9")
        )
        self.assertEqual((ann.place.file.rpartition("/")[2], ann.place.line), ("instances.csv", 2))
        self.assertEqual(
            problems(
                None,
                {
                    "a.yaml": head,
                    "instances.csv": table.replace("role=x;", "role;").replace("10.1.1.12", "10.1.9.12"),
                    "old.yml": "x",
                },
            ),
            [
                "instances.csv:2: tag 'role' is not written as key=value",
                "instances.csv:4: 'bob/eth0': 10.1.9.12 lies outside subnet 'a1' (10.1.1.0/24)",
                "old.yml:1: this file is not part of the network: parts are *.yaml and instances.csv (a .yml file has to be named .yaml)",
            ],
        )
        for name in ("Instances.CSV", "b.yaml.gz", "B.YAML"):
            self.assertIn(
                f"{name}:1: this file is not part of the network", problems(None, {"a.yaml": head, name: "x"})[0]
            )
        self.assertEqual(problems(None, {"a.yaml": head, "instances.csv": "name,sbunet\n"}), [
            "instances.csv:1: unknown column 'sbunet'; the columns are name, subnet, address, public, state, tags, filters, listens; did you mean 'subnet'?",
            "instances.csv:1: column 'subnet' is missing",
        ])  # fmt: skip
        self.assertEqual(problems(None, {"a.yaml": head, "instances.csv": "name;subnet\nann;s\n"}), [
            "instances.csv:1: the columns are separated by ';'; here by commas, and a list in a cell by ';'",
        ])  # fmt: skip

    def test_filters_that_are_not_known_are_told_and_none_are_not(self):
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "a.yaml").write_text("kiboko: 1\nnetworks: {north: {cidrs: [10.1.0.0/16]}}\n"
                                                 "subnets: {a1: {network: north, cidr: 10.1.1.0/24}}\n")  # fmt: skip
            rows = ("name,subnet,address,filters", "ann,a1,10.1.1.10,-", "bob,a1,10.1.1.11,", "cat,a1,10.1.1.12, ")
            (Path(folder) / "instances.csv").write_text("\n".join(rows))
            (told,) = load_network(folder).warnings
        text = "the filters of 2 interfaces are not known (an empty cell), and taken as none: write -"
        self.assertEqual(str(told).replace(folder, ""), f"/instances.csv:3: {text}")

    def test_a_table_without_filters_is_told_where_some_may_be_carried(self):
        rows = "name,subnet,address\nann,a1,10.1.1.10\n"
        head = ("kiboko: 1\nnetworks: {north: {cidrs: [10.1.0.0/16]}}\nsubnets: {a1: {network: north, cidr: 10.1.1.0/24}}\n"
                "filters: {f: {layer: instance, decide: any, stateful: true, inbound: [], attach_to: [%s]}}\n")  # fmt: skip
        for attached, wanted in (("all", ()), ("", ("there is no column 'filters': which of them the interfaces carry is"
                                                    " not known, and none is taken",))):  # fmt: skip
            with tempfile.TemporaryDirectory() as folder:
                (Path(folder) / "a.yaml").write_text(head % attached)
                (Path(folder) / "instances.csv").write_text(rows)
                self.assertEqual(wanted, tuple(each.text for each in load_network(folder).warnings))

    def test_nothing_in_a_row_of_the_table_gets_lost(self):
        head = (
            "kiboko: 1\nnetworks: {north: {cidrs: [10.1.0.0/16]}}\nsubnets: {a1: {network: north, cidr: 10.1.1.0/24}}\n"
        )
        for rows, wanted in (
            ("name,subnet,address,address\nann,a1,10.1.1.10,10.1.1.11\n", "1: column 'address' is there twice; a list in a cell is by ';'"),
            ("name,subnet,tags\nann,a1,role=x;role=y\n", "2: tag 'role' is there twice"),
            ('name,subnet,address\nann,a1,"10.1.1.10, 10.1.1.11"\n', "2: address '10.1.1.10, 10.1.1.11': a list in a cell is parted by ';'"),
            ("name,subnet,listens\nann,a1,ssh https\n", "2: listens 'ssh https': a list in a cell is parted by ';'"),
        ):  # fmt: skip
            self.assertEqual([f"instances.csv:{wanted}"], problems(None, {"a.yaml": head, "instances.csv": rows}))

    def test_the_published_schema_is_current_and_takes_what_the_loader_takes(self):
        published = json.loads((ROOT / "docs" / "network-file.schema.json").read_text())
        current = json.loads(schema.json_schema())

        # The wording of generated schemas differs between versions of the library; the keys may not.
        def keys(made):
            return {name: sorted(shape["properties"]) for name, shape in {**made["$defs"], "top": made}.items()}

        self.assertEqual(keys(published), keys(current), "run `make schema`")
        validator = jsonschema.Draft202012Validator(published)
        validator.validate(base())
        self.assertFalse(
            validator.is_valid({**base(), "subnets": {"s": {"network": "n", "cidr": "10.0.0.0/8", "filter": None}}})
        )
        self.assertFalse(validator.is_valid({**base(), "subnet": {}}))
        for key in schema.NetworkFile.model_fields:  # a section may be empty, and what stands beside them may not
            with self.subTest(key):
                empty = {"kiboko": 1, "networks": {}, key: None}
                is_section = key not in (*schema.SINGLE, "kiboko")
                self.assertEqual((is_section, is_section), (validator.is_valid(empty), not problems(json.dumps(empty))))
        self.assertFalse(validator.is_valid({**base(), "filters": {"f": {"layer": "instance"}}}))

    def test_what_yaml_takes_for_something_else_is_told(self):
        head = (
            'kiboko: 1\nnetworks: {n: {cidrs: ["2001:db8::/48"]}}\nsubnets: {s: {network: n, cidr: "2001:db8::/64"}}\n'
        )
        for text, said in (
            ("instances:\n  x: {interfaces: [{subnet: s, addresses: [2001:db8::]}]}\n",
             "5: not YAML: a text that ends in ':' stands in quotes here, as \"2001:db8::\""),
            ("instances:\n  x:\n    interfaces:\n      - subnet: s\n        addresses:\n          - 2001:db8::\n",
             "9: instances.x.interfaces.1.addresses.1: text belongs here, not a table; put '2001:db8::' in quotes"),
            ("instances:\n  x: &x {interfaces: []}\n  y: {<<: *x, listens: [ssh]}\n",
             "6: instances.y: unknown key '<<': tables are not merged here; write its keys, or an alias in place of the whole"),
        ):  # fmt: skip
            self.assertEqual([f"network.yaml:{said}"], problems(head + text))

    def test_a_key_without_a_value_is_not_taken_as_meant(self):
        """What was commented out behind it was a filter, or what listens; nothing in its place lets through more."""
        text = """\
kiboko: 1
networks: {north: {cidrs: [10.1.0.0/16]}}
zones: {inner: }
crossings:
subnets:
  a1: {network: north, cidr: 10.1.1.0/24, filter: , zone: }
outside:
  o:
    addresses: [0.0.0.0/0]
    filter: # edge
instances:
  ann:
    host_filter: # {nftables: hosts/ann.json}
    listens:
    state:
    interfaces: [{subnet: a1, addresses: [10.1.1.10], public: }]
expectations: [{id: a, from: ann, to: o, service: ssh, expect: allowed, except: }]
as_of:  # 2026-11-20T08:00:00Z
logins:
accepted:
"""
        more = "has no value; leave it out, or write one"
        self.assertEqual(
            problems(text),
            [
                f"network.yaml:6: subnets.a1: 'filter' {more}", f"network.yaml:6: subnets.a1: 'zone' {more}",
                f"network.yaml:10: outside.o: 'filter' {more}", f"network.yaml:13: instances.ann: 'host_filter' {more}",
                f"network.yaml:14: instances.ann: 'listens' {more}",
                "network.yaml:15: instances.ann.state: one of running, stopped belongs here, not nothing",
                f"network.yaml:16: instances.ann.interfaces.1: 'public' {more}",
                "network.yaml:17: expectations.1.except: a list belongs here, not nothing",
                f"network.yaml:18: 'as_of' {more}", f"network.yaml:19: 'logins' {more}",
            ],
        )  # fmt: skip

    def test_the_samples_of_the_reference_load(self):
        """The samples of docs/network-file.md are files that load as they stand."""
        text = (ROOT / "docs" / "network-file.md").read_text()
        samples = [each.split("```", 1)[0] for each in text.split("```yaml\n")[1:]]
        self.assertEqual([problems(sample) for sample in samples], [[], [], [], []])


class HostFiles(unittest.TestCase):
    def with_file(self, key, kind, content):
        text = SMALL.replace("  ann:\n", f"  ann:\n    {key}: {{{kind}: host.file}}\n")
        return problems(text, {"host.file": content})

    def test_kernel_rule_sets_of_another_version_or_family_and_garbage(self):
        def wrapped(*objects):
            return json.dumps({"nftables": list(objects)})

        bridge = {"table": {"family": "bridge", "name": "b", "handle": 1}}
        cases = {
            "not json": "host.file:1: not JSON: Expecting value; it takes what `nft -j list ruleset` prints",
            "{}": "host.file:1: not a listing of `nft -j list ruleset`: the key 'nftables' with a list is missing",
            wrapped(
                {"metainfo": {"json_schema_version": 2}}
            ): "host.file:1: the listing has JSON schema version 2; version 1 is read",
            wrapped(bridge): "host.file:1: only tables of family bridge; inet, ip and ip6 are judged",
            "": "host.file:1: the file is empty; `nft -j list ruleset` prints nothing where it may not look: it is run as root",
            wrapped(): "host.file:1: it lists nothing, not even the version of `nft`; the whole of what `nft -j list ruleset` prints is read",
            wrapped(
                {"rule": {"family": "ip", "table": "f", "chain": "c", "handle": 3, "expr": [{"drop": None}]}}
            ): "host.file:1: it has rules of the chain 'ip f c' and not the chain; the whole of what `nft -j list ruleset` prints is read",
            wrapped({"rule": {"family": "inet"}}): "host.file:1: not a listing of `nft -j list ruleset` (KeyError)",
        }
        for content, expected in cases.items():
            self.assertEqual(self.with_file("host_filter", "nftables", content), [expected])

    def test_sockets_with_garbage_lines(self):
        good = "tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:*\nudp UNCONN 0 0 127.0.0.1%lo:53 0.0.0.0:*\n"
        self.assertEqual(self.with_file("listens", "sockets", good), [])
        self.assertEqual(self.with_file("listens", "sockets", good + "what is this\n"),
                         ["host.file:3: not a line of `ss -H -tuln`, such as 'tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:*'"])  # fmt: skip

    def test_an_empty_file_of_sockets_is_no_machine_on_which_nothing_listens(self):
        """What a command printed that failed would make whatever is answered a refusal."""
        told = "host.file:1: the file is empty; of a machine on which nothing listens write 'listens: []'"
        self.assertEqual(self.with_file("listens", "sockets", "\n"), [told])
        header = "Netid State Recv-Q Send-Q Local Address:Port Peer Address:Port Process\n"
        self.assertEqual(self.with_file("listens", "sockets", header), [])

    def test_real_lines_with_an_interface_behind_the_address(self):
        lines = "udp UNCONN 0 0 [fe80::1]%v0:546 [::]:*\nudp UNCONN 0 0 0.0.0.0%eth0:68 0.0.0.0:*\n"
        self.assertEqual(self.with_file("listens", "sockets", lines), [])

    def test_all_sockets_of_a_machine_are_its_listeners_alone(self):
        """As `ss -an` lists them, header, connections, local sockets and all: lines of that program."""
        lines = ("Netid State  Recv-Q Send-Q  Local Address:Port  Peer Address:Port Process\n"
                 "nl    UNCONN 0      0               rtnl:kernel          *\n"
                 "u_str LISTEN 0      4096   /run/dbus/bus.socket 8034     * 0\n"
                 "udp   ESTAB  0      0     10.1.1.10%eth0:68  10.1.1.1:67\n"
                 "tcp   LISTEN 0      128      0.0.0.0:22        0.0.0.0:*    users:((\"sshd\",pid=7,fd=3))\n"
                 "tcp   LISTEN 0      50  [::ffff:10.1.1.10]:9000  *:*\n"
                 "tcp   ESTAB  0      0      10.1.1.10:22        10.1.1.11:40312\n"
                 "tcp   TIME-WAIT 0   0      10.1.1.10:22        10.1.1.11:40310\n")  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "sockets")
            path.write_text(lines)
            problems = []
            self.assertEqual([each.text for each in read_sockets(path, "sockets", problems)],
                             ["tcp/22", "tcp/9000 on 10.1.1.10"])  # fmt: skip
            self.assertEqual(problems, [])

    def test_a_socket_bound_to_a_device_serves_the_addresses_of_that_alone(self):
        lines = ("tcp LISTEN 0 128 0.0.0.0%eth1:9000 0.0.0.0:*\n"
                 "tcp LISTEN 0 128 *%lo:9001 *:*\n"
                 "udp UNCONN 0 0 0.0.0.0%eth7:68 0.0.0.0:*\n"
                 "tcp LISTEN 0 128 [::]%eth1:9002 [::]:*\n"
                 "udp UNCONN 0 0 127.0.0.53%lo:53 0.0.0.0:*\n")  # fmt: skip
        own = {"eth1": (parse_address("10.1.1.5"), parse_address("fd00::5")), "eth2": (parse_address("10.1.2.5"),)}
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "sockets")
            path.write_text(lines)
            self.assertEqual(
                [each.text for each in read_sockets(path, "sockets", [], own)],
                ["tcp/9000 on 10.1.1.5", "tcp/9001 on 127.0.0.1", "tcp/9001 on ::1", "udp/68", "tcp/9002 on fd00::5",
                 "udp/53 on 127.0.0.53"],
            )  # fmt: skip

    def test_files_outside_the_networks_folder_are_refused_unless_allowed(self):
        with tempfile.TemporaryDirectory() as folder:
            inner = Path(folder, "inner")
            inner.mkdir()
            Path(folder, "secret").write_text("root:x:0:0\n")
            Path(inner, "link").symlink_to("../secret")
            for name in ("../secret", "link", "/etc/hostname"):
                text = SMALL.replace("  ann:\n", f"  ann:\n    listens: {{sockets: {name}}}\n")
                Path(inner, "network.yaml").write_text(text)
                with self.assertRaisesRegex(InputError, "does not lie below the network's folder") as caught:
                    load_network(str(inner / "network.yaml"))
                self.assertNotIn("root:x", str(caught.exception))
                with self.assertRaisesRegex(InputError, "not a line of") as caught:
                    load_network(str(inner / "network.yaml"), files_elsewhere=True)
                self.assertNotIn("root:x", str(caught.exception))

    def test_every_fault_is_told_at_once_also_where_one_value_is_malformed(self):
        text = textwrap.dedent("""
            kiboko: 1
            networks: {n: {cidrs: [10.0.0.0/16]}}
            subnets: {s: {network: n, cidr: 10.0.0.0/24, filtr: x}, t: {network: nn, cidr: 10.0.1.0/24}}
            filters:
              f:
                layer: subnet
                decide: first
                stateful: maybe
                inbound:
                  - {order: 10, action: allow, service: '443'}
                  - {order: 10, action: drop, from: nobody}
        """).lstrip()
        self.assertEqual(problems(text), [
            "network.yaml:3: subnets.s: unknown key 'filtr'; did you mean 'filter'?",
            "network.yaml:3: subnet 't' names network 'nn', which is not defined; did you mean 'n'?",
            "network.yaml:8: filters.f.stateful: true or false belongs here, not 'maybe'",
            "network.yaml:10: filter 'f', rule 10: service '443' is not defined; a port goes with its protocol: tcp/443 or"
            " udp/443",
            "network.yaml:11: filter 'f', rule 10 names end 'nobody', which is not defined",
            "network.yaml:11: filter 'f': order 10 is given twice; first in network.yaml:10",
        ])  # fmt: skip

    def test_what_contradicts_itself_is_told_beside_what_could_not_be_read(self):
        """Of a network file that is wrong in every way: one run tells of all of it."""
        text = textwrap.dedent("""
            kiboko: 1
            colour: red
            networks:
              one: {cidrs: [10.1.0.0/16]}
              two: {cidrs: [10.1.128.0/17]}
            zones: {a: {}, b: {}}
            gateways: {door: {kind: internet, network: one}}
            route_tables: {t: [{to: 0.0.0.0/0, via: door}, {to: 10.0.0.0/8, via: discrd}]}
            subnets:
              s1: {network: one, cidr: 10.1.1.0/24, zone: c, filter: f}
              s2: {network: one, cidr: 10.1.1.128/25, zone: b}
              s3: {network: one, cidr: 10.9.1.0/24}
              s4: {network: two, cidr: 10.1.200.0/24, route_table: t}
            filters: {f: {layer: instance, decide: any, stateful: true, inbound: [{action: drop}]}}
            groups: {g1: {members: [g2]}, g2: {members: [g1]}}
            instances:
              i1: {interfaces: [{subnet: s1, addresses: [10.1.1.5]}]}
              i2: {interfaces: [{subnet: s1, addresses: [10.1.1.5]}]}
              i3: {interfaces: [{subnet: s1, addresses: [10.7.1.5]}]}
        """).lstrip()
        self.assertEqual([each.removeprefix("network.yaml:") for each in problems(text)], [
            "2: unknown key 'colour'",
            "5: network 'two' (10.1.128.0/17) overlaps network 'one' (10.1.0.0/16) in network.yaml:4",
            "8: route table 't' names gateway 'discrd', which is not defined; did you mean 'discard'?",
            "8: route table 't': gateway 'door' is of network one, but subnet 's4' of network two uses this table",
            "10: subnet 's1' names zone 'c', which is not defined",
            "10: subnet 's1': filter 'f' is of layer instance; here belongs one of layer subnet",
            "11: subnet 's2' (10.1.1.128/25) overlaps subnet 's1' (10.1.1.0/24) in network.yaml:10",
            "12: subnet 's3': 10.9.1.0/24 lies outside network 'one' (10.1.0.0/16)",
            "14: filter 'f', rule 1: a filter that decides by any rule only allows; it cannot drop",
            "15: group cycle: g1 > g2 > g1",
            "18: 'i2/eth0': 10.1.1.5 is also the address of 'i1/eth0' in network.yaml:17",
            "19: 'i3/eth0': 10.7.1.5 lies outside subnet 's1' (10.1.1.0/24)",
        ])  # fmt: skip

    def test_one_fault_brings_no_others(self):
        """What follows from a value that could not be read alone is not told of."""
        for where, wrong in (
            (("networks", "north", "cidrs", 0), "10.1.0.0/33"), (("subnets", "b1", "network"), "nowhere"),
            (("subnets", "a1", "cidr", 0), "10.1.1.0/33"), (("subnets", "b1", "cidr"), "10.2.1.0.0"),
            (("gateways", "peer", "networks", 1), "suoth"), (("gateways", "door", "network"), "nroth"),
            (("instances", "ann", "interfaces", 0, "addresses", 0), "10.1.1"),
            (("instances", "dan", "interfaces", 0, "subnet"), "b11"),
        ):  # fmt: skip
            values = base()
            values["route_tables"]["north-table"].append({"to": "10.9.0.0/16", "via": {"instance": "bob"}})
            values["route_tables"]["south-table"].append({"to": "10.9.0.0/16", "via": {"instance": "dan"}})
            at = values
            for key in where[:-1]:
                at = at[key]
            at[where[-1]] = wrong
            with self.subTest(where):
                (told,) = problems(json.dumps(values))
                self.assertIn(wrong, told)

    def test_what_is_odd_but_can_be_read_is_a_warning(self):
        values = base()
        values["groups"] = {"nobody": {"where": {"role": "none"}}}
        values["outside"]["inner"] = {"addresses": ["10.1.9.0/24"]}
        values["filters"]["f"] = {"layer": "subnet", "decide": "first", "stateful": True, "inbound": [
            {"order": 10, "action": "allow"}, {"action": "drop", "service": "icmp", "source_ports": "22"}]}  # fmt: skip
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder, "network.yaml")
            path.write_text(json.dumps(values))
            told = " ".join(each.text for each in load_network(str(path)).warnings)
        for said in (
            "group 'nobody' matches nobody: nobody is in it", "10.1.9.0/24 lies in network 'north'",
            "a rule without 'order' between ordered ones counts as 2", "never match a service without ports",
        ):  # fmt: skip
            self.assertIn(said, told)

    def test_a_block_that_is_not_private_asks_for_a_word_on_whether_it_is_public(self):
        """Of a network with a way to the internet, where IPv4 is concerned; a word of either kind is enough."""
        for cidrs, public, count in (
            ("192.88.8.0/22", None, 1), ("192.88.8.0/22", ["192.88.9.0/24"], 0), ("192.88.8.0/22", [], 0),
            ("100.64.0.0/16", None, 0), ("2001:db8:9::/48", None, 0),
        ):  # fmt: skip
            values = base()
            values["networks"]["east"] = {"cidrs": [cidrs], **({} if public is None else {"public": public})}
            said = "network 'east': 192.88.8.0/22 is not private, and taken for reached by translation alone"
            self.assertEqual(0, sum(said in each.text for each in load(values).warnings))
            values["gateways"]["east-door"] = {"kind": "internet", "network": "east"}
            self.assertEqual(count, sum(said in each.text for each in load(values).warnings), (cidrs, public))

    def test_a_file_that_is_not_there(self):
        text = SMALL.replace("  ann:\n", "  ann:\n    host_filter: {nftables: none.json}\n")
        self.assertEqual(
            problems(text), ["network.yaml:14: instance 'ann': file 'none.json' does not exist beside the network file"]
        )


if __name__ == "__main__":
    unittest.main()
