"""Views: text made safe, tables that fit, and what the sheets say, on networks written for them."""

import io
import unittest

from hypothesis import given
from hypothesis import strategies as st

from kiboko.core.header.services import parse_services
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.inspection import attachments, end_addresses, group_lookalikes, group_reasons, groups_of
from kiboko.core.queries.pair import ask_ways
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Grid, Output
from kiboko.views.route_view import hops, route_json
from kiboko.views.sheet import Sheet, sheet_json, show_sheet
from kiboko.views.show_view import Shower
from kiboko.views.text import clean, counted
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
            [(i.name, why) for i, why in group_lookalikes(walker, groups["webs"])],
            [("bob", "its tag is role=wbe, the group asks for role=web")],
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
        return [row if isinstance(row, str) else [cell.strip() for cell in row[:3]] for row in table.rows]

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

    def place(self, sheet, name):
        row = next(row for table in sheet.tables for row in table.rows if isinstance(row, str) and f" {name} (" in row)
        return row.rpartition(" ")[2]

    def test_only_what_matters_is_left(self):
        walker = network()
        peers = end_addresses(Ends(walker).resolve("dan"))
        sheet = Shower(walker, parse_services("ssh"), peers).sheet("ann")
        self.assertEqual([row for row in self.rules(sheet, "Inbound") if not isinstance(row, str)], [])
        self.assertIn("only what could concern the traffic asked about", sheet.tables[0].title)

    def test_a_filter_attached_to_nothing_says_so(self):
        sheet = Shower(network()).sheet("loose")
        self.assertIn(("attached to", "nothing"), sheet.facts)
        self.assertTrue(any("attached to nothing" in note for note in sheet.notes))

    def test_a_sheet_as_text_and_as_json(self):
        sheet = Sheet("thing", "x", [("size", "3")])
        table = sheet.table("Parts", ["part", "why"])
        table.section("first half")
        table.add(["a", "because"])
        sheet.table("Nothing", ["part"], empty="none at all")
        stream = io.StringIO()
        show_sheet(sheet, Output(stream))
        self.assertEqual(stream.getvalue().split("\n")[:2], ["thing x", "  size  3"])
        self.assertIn("none at all", stream.getvalue())
        self.assertEqual(
            sheet_json(sheet)["rows"], [{"table": "Parts", "section": "first half", "part": "a", "why": "because"}]
        )


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
