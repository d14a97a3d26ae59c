"""Views: text made safe, tables that fit, and what the sheets say, on networks written for them."""

import io
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.errors import Place
from kiboko.core.header.services import parse_services
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.inspection import attachments, end_addresses, group_reasons, groups_of
from kiboko.core.queries.pair import ask_ways
from kiboko.core.walk.walk import Walker
from kiboko.core.wording import counted
from kiboko.demo.data import write_demo
from kiboko.files.network.network_file import load_network
from kiboko.views.output import Grid, Output
from kiboko.views.route_view import hops, route_json
from kiboko.views.sheet import Fact, Sheet, sheet_json, show_sheet
from kiboko.views.show_view import Shower
from kiboko.views.text import clean
from tests.helpers import a_filter, base, load

LONG = "a reason of some length that is longer than the room there is for it"


class Text(unittest.TestCase):
    @given(st.text())
    def test_nothing_that_drives_a_terminal_or_breaks_a_line_comes_through(self, text):
        safe = clean(text)
        self.assertTrue(all(character.isprintable() for character in safe if character != " "), repr(safe))
        self.assertNotIn("\x1b", safe)
        self.assertNotIn("\u202e", safe)

    def test_ordinary_text_is_left_alone(self):
        for text in ("scanner, ticket 4411", "Größe", "pegel-7/eth0", "日本"):
            self.assertEqual(clean(text), text)

    def test_counts(self):
        self.assertEqual(
            [counted(1, "row"), counted(2_000, "row"), counted(2, "reply", "replies")],
            ["1 row", "2,000 rows", "2 replies"],
        )
        self.assertEqual(counted(2**100, "pair"), "about 1.3 × 10^30 pairs")


class Tables(unittest.TestCase):
    def grid(self):
        grid = Grid(["rule", "reason", "n"], wide=("reason",), numbers=("n",))
        grid.add(["10", LONG, "5"])
        grid.section("a line of its own across all columns, as long as it likes")
        grid.add(["200", "short", "12"])
        return grid

    def test_a_pipe_gets_plain_lines_that_are_not_folded(self):
        stream = io.StringIO()
        Output(stream).grid(self.grid())
        lines = stream.getvalue().splitlines()
        self.assertEqual(len(lines), 4)
        self.assertTrue(lines[1].endswith("   5"))
        self.assertTrue(lines[2].startswith("a line of its own"))
        self.assertTrue(lines[3].startswith("200   short") and lines[3].endswith("  12"))

    def test_wide_columns_give_way_where_room_is_scarce(self):
        self.assertEqual(self.grid().widths(None), [len("rule"), len(LONG), 2])
        self.assertEqual(self.grid().widths(40), [4, 30, 2])
        self.assertEqual(self.grid().widths(10), [4, 12, 2], "never narrower than can be read")

    def test_columns_to_be_pasted_are_folded_last(self):
        grid = Grid(["why", "example"], wide=("why",), last=("example",))
        grid.add(["x" * 40, "y" * 30])
        self.assertEqual(grid.widths(62), [30, 30])
        self.assertEqual(grid.widths(44), [12, 30])
        self.assertEqual(grid.widths(40), [12, 26])


def network():
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"action": "allow", "from": "webs", "service": "ssh"},
                                               {"action": "drop", "service": "http", "enabled": False}]),
        "loose": a_filter("instance", inbound=[]),
        "fleet": a_filter("instance", rules=[], attach_to=["webs"], exempt=["cat"], otherwise="allow"),
        "edge": a_filter("subnet", stateful=False, inbound=[{"action": "allow", "to": "bob"}], outbound=[]),
    }  # fmt: skip
    values["groups"] = {
        "webs": {"where": {"role": "web", "stage": ["live", "trial"]}},
        "all-webs": {"members": ["webs", "dan"], "addresses": ["192.0.2.0/30"]},
    }
    for name, tags in (("ann", {"role": "web", "stage": "live"}), ("bob", {"role": "wbe", "stage": "live"}),
                       ("cat", {"role": "web", "stage": "trial"}), ("dan", {"role": "db", "stage": "live"})):  # fmt: skip
        values["instances"][name]["tags"] = tags
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    values["subnets"]["a1"]["filter"] = "edge"
    return Walker(load(values))


class Inspection(unittest.TestCase):
    def test_why_each_member_is_in_and_who_looks_as_though_it_should_be(self):
        walker = network()
        groups = walker.topology.groups
        self.assertEqual([(r.name, r.why) for r in group_reasons(walker, groups["all-webs"])], [
            ("dan", "listed"), ("192.0.2.0/30", "literal addresses"),
            ("ann", "group webs, tags role=web, stage=live|trial"), ("cat", "group webs, tags role=web, stage=live|trial"),
        ])  # fmt: skip
        self.assertEqual(
            walker.membership.nearly_in(groups["webs"]),
            {"bob": "its tag is role=wbe, the group asks for role=web"},
        )
        self.assertEqual(groups_of(walker, walker.topology.instances["ann"]), ["webs", "all-webs"])

    def test_attachments_of_each_layer(self):
        walker = network()
        found = {name: attachments(walker, each) for name, each in walker.topology.filters.items()}
        self.assertEqual(
            found,
            {
                "guard": [("interface", "ann/eth0")],
                "loose": [],
                "fleet": [("interface", "ann/eth0")],
                "edge": [("subnet", "a1")],
            },
        )

    def rules(self, sheet, title):
        table = next(each for each in sheet.tables if each.title.startswith(title))
        return [each.text if each.cells is None else [cell.strip() for cell in each.cells[:3]] for each in table.lines]

    def test_an_instance_shows_all_rules_in_the_order_they_are_asked(self):
        sheet = Shower(network()).sheet("ann")
        self.assertEqual(self.rules(sheet, "Inbound"), [
            f"subnet-in a1: edge (first match decides, stateless, otherwise drop) {self.place(sheet, 'edge')}",
            ["1", "(allow)", "any; not for this one, only to bob"],
            f"instance-in ann/eth0: guard (first match decides, stateful, otherwise drop) {self.place(sheet, 'guard')}",
            ["1", "allow", "webs (10.1.1.10, 10.1.2.10, 1 more)"],
            ["2", "(drop)", "any; not enabled"],
            f"instance-in ann/eth0: fleet (first match decides, stateful, otherwise allow) {self.place(sheet, 'fleet')}",
        ])  # fmt: skip
        self.assertIn("edge is stateless: replies need a rule of their own", sheet.notes)

    def test_a_firewall_between_many_zones_is_one_table_and_what_is_for_others_is_left_to_it(self):
        values = base()
        rules = [{"action": "allow", "to": "bob", "service": f"tcp/{port}"} for port in range(1000, 1030)]
        rules.insert(7, {"action": "allow", "to": "ann", "service": "ssh"})
        values["filters"]["wall"] = a_filter("zone", rules=rules)
        zone = values["subnets"]["a1"]["zone"]
        others = [name for name in values["zones"] if name != zone]
        values["crossings"] = [{"from": other, "to": zone, "filter": "wall"} for other in others]
        self.assertGreater(len(others), 1)
        sheet = Shower(Walker(load(values)), options=" -n other.yaml").sheet("ann")
        stream = io.StringIO()
        show_sheet(sheet, Output(stream))
        table = stream.getvalue().partition("Inbound")[2].partition("Outbound")[0].splitlines()
        self.assertTrue(table[2].startswith(f"zone {others[0]}>{zone}, {others[1]}>{zone}"), table)
        self.assertEqual(["8", "allow", "any", "ssh"], table[3].split()[:4])
        self.assertEqual("  and 30 that are not for this one: kiboko show wall -n other.yaml", table[4])
        rows = [row for row in sheet_json(sheet)["rows"] if row["table"].startswith("Inbound")]
        self.assertEqual([number == 7 for number in range(31)], [row["applies"] for row in rows])
        self.assertEqual({", ".join(f"{other}>{zone}" for other in others)}, {row["at"] for row in rows})

    def place(self, sheet, name):
        texts = [line.text for table in sheet.tables for line in table.lines]
        return next(text for text in texts if f" {name} (" in text).rpartition(" ")[2]

    def test_only_what_matters_is_left(self):
        walker = network()
        peers = end_addresses(Ends(walker).resolve("dan"))
        sheet = Shower(walker, parse_services("ssh"), peers).sheet("ann")
        self.assertEqual([row for row in self.rules(sheet, "Inbound") if not isinstance(row, str)], [])
        self.assertIn("only what could concern the traffic asked about", sheet.tables[0].title)

    def test_a_filter_attached_to_nothing_says_so(self):
        sheet = Shower(network()).sheet("loose")
        self.assertIn(Fact("attached to", [], "nothing"), sheet.facts)
        self.assertTrue(any("attached to nothing" in note for note in sheet.notes))

    def test_a_sheet_as_text_and_as_json(self):
        sheet = Sheet("thing", "x", [Fact("size", 3, "3")])
        table = sheet.table("Parts", ["part", "why"])
        table.section("first half", half=1)
        table.add(["a", "because"], why=["cause"])
        table.add(["b", Place("n.yaml", 3)])
        sheet.table("Nothing", ["part"], empty="none at all")
        stream = io.StringIO()
        show_sheet(sheet, Output(stream))
        self.assertEqual(stream.getvalue().split("\n")[:2], ["thing x", "  size  3"])
        self.assertIn("none at all", stream.getvalue())
        self.assertEqual(
            sheet_json(sheet)["rows"],
            [{"table": "Parts", "half": 1, "part": "a", "why": ["cause"]},
             {"table": "Parts", "half": 1, "part": "b", "file": "n.yaml", "line": 3}],
        )  # fmt: skip

    def test_the_replies_to_a_service_have_their_own_rules_where_a_filter_is_stateless(self):
        values = base()
        values["filters"]["edge"] = a_filter("subnet", stateful=False, inbound=[{"action": "allow"}], outbound=[
            {"action": "allow", "service": "tcp/32768-60999"}, {"action": "allow", "service": "tcp/1-1023"},
            {"action": "drop", "source_ports": "22"}, {"action": "drop", "source_ports": "80"},
            {"action": "drop", "from": "bob"}, {"action": "drop", "service": "udp"}])  # fmt: skip
        values["subnets"]["a1"]["filter"] = "edge"
        sheet = Shower(Walker(load(values)), parse_services("ssh")).sheet("ann")
        names = [row[0] for row in self.rules(sheet, "Replies to those inbound requests") if not isinstance(row, str)]
        self.assertEqual(names, ["1", "3"], "to a client port, or from port 22")
        values["filters"]["edge"]["outbound"] = [{"action": "allow", "service": "icmp/echo-reply"},
                                                 {"action": "allow", "service": "icmp/echo-request"}]  # fmt: skip
        sheet = Shower(Walker(load(values)), parse_services("ping")).sheet("ann")
        names = [row[0] for row in self.rules(sheet, "Replies to those inbound requests") if not isinstance(row, str)]
        self.assertEqual(names, ["1"])

    def test_a_service_shows_the_rules_that_speak_of_it_and_who_listens(self):
        values = base()
        values["services"] = {"web": ["tcp/80", "tcp/443"]}
        values["filters"]["guard"] = a_filter("instance", inbound=[
            {"action": "allow", "service": "https"}, {"action": "allow", "service": "web", "note": "until the move"},
            {"action": "allow", "service": "ssh"}, {"action": "drop"}])  # fmt: skip
        values["instances"]["ann"]["listens"] = ["web"]
        values["instances"]["bob"]["listens"] = ["ssh"]
        values["instances"]["dan"].update(listens=["https"], state="stopped")
        shower = Shower(Walker(load(values)))
        sheet = shower.service("https", parse_services("https"))
        table = next(each for each in sheet.tables if each.title == "Rules that speak of it")
        self.assertEqual([line.cells[1] for line in table.lines], ["1", "2"])
        self.assertEqual(table.lines[1].values["note"], "until the move")
        who = next(each for each in sheet.tables if each.title == "Who listens")
        self.assertEqual(
            [line.cells[:3] for line in who.lines], [["ann", "running", "web"], ["dan", "stopped", "https"]]
        )
        self.assertEqual(sheet.notes, ["1 rule for any service may match it too", "what listens is not known at cat"])

    def test_notes_are_shown_wherever_the_network_file_has_them(self):
        values = base()
        values["filters"]["edge"] = a_filter(
            "subnet", note="by the fleet team", inbound=[{"action": "allow", "note": "ticket 7"}]
        )
        values["subnets"]["a1"]["filter"] = "edge"
        values["instances"]["ann"]["note"] = "moves in May"
        values["groups"]["webs"] = {"members": ["ann"], "note": "was web-old"}
        values["zones"]["left"] = {"note": "the old hall"}
        values["route_tables"]["north-table"][0]["note"] = "the second line is slow"
        shower = Shower(Walker(load(values)))
        for name, text in (("ann", "moves in May"), ("ann", "ticket 7"), ("ann", "the second line is slow"), ("left", "the old hall"),
                           ("edge", "by the fleet team"), ("webs", "was web-old")):  # fmt: skip
            stream = io.StringIO()
            show_sheet(shower.sheet(name), Output(stream))
            self.assertIn(text, stream.getvalue(), name)

    def test_rules_of_a_kernel_read_as_they_were_listed(self):
        with tempfile.TemporaryDirectory() as folder:
            write_demo(Path(folder))
            walker = Walker(load_network(f"{folder}/network.yaml"))
        table = next(each for each in Shower(walker).sheet("gauge-04").tables if "kernel" in each.title)
        texts = [line.cells[1] for line in table.lines if line.cells]
        self.assertIn("ip saddr 198.51.100.0/28 tcp dport 22 accept", texts)
        self.assertIn("ct state {established, related} accept", texts)


class Routes(unittest.TestCase):
    def test_the_way_ends_where_it_stops(self):
        values = base()
        values["route_tables"]["north-table"].append({"to": "10.2.1.10/32", "via": "discard"})
        ends = Ends(Walker(load(values)))
        ways = ask_ways(ends, ends.resolve("ann"), ends.resolve("dan"), None)
        self.assertEqual([step.gate for step in hops(ways.request)], ["source", "instance-out", "route"])
        found = route_json(ways)
        self.assertEqual(found["summary"]["stopped_at"], {"gate": "route", "at": "a1"})
        self.assertEqual(
            found["rows"][2]["beaten"],
            ["10.2.0.0/16 via peer (learned) [shorter prefix]", "0.0.0.0/0 via door [shorter prefix]"],
        )


if __name__ == "__main__":
    unittest.main()
