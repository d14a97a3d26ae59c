"""Change files: edits that change what they say and not an octet more, and give the file back. What an edit comes to is
held against the same change made in plain values."""

import contextlib
import copy
import json
import random
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from kiboko.core.errors import EnvironmentFailure, InputError
from kiboko.files.changes.applying import changed, undo, write_in_place
from kiboko.files.changes.change_file import change_of, change_text
from kiboko.files.changes.making import make
from kiboko.files.changes.sheets import Sheets
from kiboko.files.documents.edited_yaml import EditedYaml, NotEditable
from kiboko.files.documents.saving import write_whole
from kiboko.files.network.network_file import load_network
from tests.helpers import a_filter, base, git, kiboko, load
from tests.random_networks import random_network

names = st.text("abcxyz019-_.:/ #'\"{}[],&*é", min_size=1, max_size=6)
values = st.recursive(
    st.one_of(names, st.integers(-5, 99), st.booleans()),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(names, inner, max_size=4)),
    max_leaves=12,
)


def as_text(value):
    """Plain values as the loader has them: every scalar a text."""
    if isinstance(value, dict):
        return {str(key): as_text(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [as_text(inner) for inner in value]
    return {True: "true", False: "false"}.get(value, str(value)) if isinstance(value, bool) else str(value)


def read(text):
    return as_text(yaml.load(text, yaml.CBaseLoader))


def with_comments(text, chance):
    """A comment behind some lines, and lines of comments between them, where that changes nothing."""
    made = []
    for line in text.splitlines():
        if chance.random() < 0.2:
            made.append(" " * (len(line) - len(line.lstrip())) + "# between")
        made.append(line + ("   # behind" if chance.random() < 0.2 else ""))
    found = "\n".join(made) + "\n"
    return found if read(found) == read(text) else text


LAYOUTS = {
    "json": json.dumps,
    "indented json": lambda each: json.dumps(each, indent=2),
    "blocks": lambda each: yaml.safe_dump(each, default_flow_style=False, sort_keys=False),
    "both": lambda each: yaml.safe_dump(each, default_flow_style=None, sort_keys=False, width=100),
    "flow": lambda each: yaml.safe_dump(each, default_flow_style=True, sort_keys=False, width=70),
    "line breaks of two octets": lambda each: yaml.safe_dump(each, sort_keys=False).replace("\n", "\r\n"),
    "comments": lambda each: with_comments(yaml.safe_dump(each, sort_keys=False), random.Random(str(each)[:200])),
}


class Edits(unittest.TestCase):
    @settings(deadline=None, max_examples=150)
    @given(st.dictionaries(names, values, min_size=1, max_size=4), st.data())
    def test_an_edit_comes_to_what_it_does_to_plain_values_whatever_the_layout(self, plain, data):
        layout = data.draw(st.sampled_from(sorted(LAYOUTS)))
        text = LAYOUTS[layout](plain)
        holders = list(self.holders(plain))
        path = data.draw(st.sampled_from(holders))
        want = copy.deepcopy(plain)
        inner = want
        for step in path:
            inner = inner[step]
        body, put = EditedYaml(text), data.draw(values)
        if read(text) != as_text(plain) or any(read(json.dumps(key)) != key for key in self.keys(plain)):
            return  # a text that this layout does not write as it is
        keys = tuple(step if isinstance(step, int) else str(step) for step in path)
        is_more = self.edited(body, keys, inner, put, data)
        if is_more is None:
            self.assertEqual(body.text, text, "what has to be made by hand is left as it is")
            return
        self.assertEqual(read(body.text), as_text(want), (layout, text, body.text))
        if is_more:
            kept, rest = text.splitlines(), iter(body.text.splitlines())
            self.assertTrue(all("# between" not in line or line in rest for line in kept), "comments stay, in order")

    def edited(self, body, keys, inner, put, data):
        """Edit both; whether something was added, None where the text does not allow it."""
        try:
            if isinstance(inner, dict):
                key = data.draw(st.one_of(st.sampled_from(sorted(inner) or ["new"]), names))
                is_more = key not in inner
                if not is_more and data.draw(st.booleans()):
                    body.remove_key(keys, key)
                    del inner[key]
                else:
                    body.set_key(keys, key, body.written(put))
                    inner[key] = put
                return is_more
            place = data.draw(st.integers(0, len(inner)))
            if place < len(inner) and data.draw(st.booleans()):
                body.remove(keys, place)
                del inner[place]
                return False
            body.insert(keys, place, body.written(put))
            inner.insert(place, put)
            return True
        except NotEditable:
            return None

    def holders(self, value, path=()):
        if isinstance(value, dict | list):
            yield path
            for step, inner in value.items() if isinstance(value, dict) else enumerate(value):
                yield from self.holders(inner, (*path, step))

    def keys(self, value):
        if isinstance(value, dict):
            yield from value
        for inner in value.values() if isinstance(value, dict) else value if isinstance(value, list) else ():
            yield from self.keys(inner)


class RandomChanges(unittest.TestCase):
    """Changes drawn for random networks, in every layout."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_they_come_to_what_they_do_to_plain_values_and_are_taken_back_to_the_octet(self):
        made = 0
        for seed in range(5):
            plain = random_network(seed)
            for layout, dump in LAYOUTS.items():
                chance = random.Random(seed * 100 + len(layout))
                path = self.folder / f"{seed}-{len(layout)}.yaml"
                text = dump(plain)
                if read(text) != as_text(plain):
                    continue
                path.write_bytes(text.encode())
                steps, want = self.drawn(plain, chance)
                change = change_of(change_text("drawn", "by chance", steps), "change.yaml")
                sheets = Sheets.read(str(path))
                make(change, sheets)
                self.assertEqual(read(sheets.all[0].body.text), as_text(want), (seed, layout, steps))
                with contextlib.suppress(InputError):  # what the change leaves need not be a sound network
                    changed(str(path), change)
                    made += 1
                write_in_place(sheets, change)
                self.assertNotEqual(path.read_bytes(), text.encode())
                undo(str(path), change)
                self.assertEqual(path.read_bytes(), text.encode(), (seed, layout))
                self.assertEqual(list(self.folder.glob("*.before-*")), [])
        self.assertGreater(made, 15, "most of them leave a network that can be read")

    def drawn(self, plain, chance):
        """Some changes, and the values with all of them made."""
        want, steps = copy.deepcopy(plain), []
        for draw in chance.sample((self.rule, self.tag, self.route, self.group, self.service, self.listens), 4):
            step = draw(want, chance)
            if step is not None:
                steps.append(step)
        return steps, want

    def rule(self, want, chance):
        places = [(name, way) for name, each in want["filters"].items() for way in ("inbound", "outbound", "rules")
                  if each.get(way)]  # fmt: skip
        if not places:
            return None
        name, way = chance.choice(places)
        rules = want["filters"][name][way]
        at = chance.randrange(len(rules))
        called = str(rules[at].get("id") or rules[at].get("order") or at + 1)
        if [str(r.get("id") or r.get("order") or n) for n, r in enumerate(rules, 1)].count(called) > 1:
            return None
        rule = f"{name}/{way}/{called}"
        kind = chance.choice(("remove", "disable", "edit", "add"))
        if kind == "remove":
            del rules[at]
            return {"remove_rule": rule}
        if kind == "disable" and rules[at].get("enabled", True) is not False:
            rules[at]["enabled"] = False
            return {"disable_rule": rule}
        if kind == "add":
            new = {"order": 9000, "action": "allow", "service": "tcp/4433"}
            rules.append(new)
            return {"add_rule": {"filter": name, "direction": way, "rule": new}}
        rules[at]["note"] = "seen: on Monday, #4"
        return {"edit_rule": {"rule": rule, "set": {"note": "seen: on Monday, #4"}}}

    def tag(self, want, chance):
        name = chance.choice(sorted(want["instances"]))
        want["instances"][name].setdefault("tags", {})["stage"] = "trial"
        return {"set_instance": {"instance": name, "tags": {"stage": "trial"}}}

    def listens(self, want, chance):
        name = chance.choice(sorted(want["instances"]))
        want["instances"][name]["listens"] = ["ssh", "tcp/9000"]
        return {"set_instance": {"instance": name, "listens": ["ssh", "tcp/9000"]}}

    def route(self, want, chance):
        tables = [name for name, entries in want.get("route_tables", {}).items() if entries]
        if not tables:
            return None
        name = chance.choice(tables)
        entry = {"to": "198.18.7.0/24", "via": "discard"}
        want["route_tables"][name].append(entry)
        return {"add_route": {"table": name, "route": entry}}

    def group(self, want, chance):
        want.setdefault("groups", {})["new-ones"] = {"members": sorted(want["instances"])[:2]}
        return {"set_group": {"group": "new-ones", "members": sorted(want["instances"])[:2]}}

    def service(self, want, chance):
        want.setdefault("services", {})["odd"] = ["tcp/4433", "udp/53"]
        return {"set_service": {"service": "odd", "means": ["tcp/4433", "udp/53"]}}


def small():
    values = base()
    values["filters"] = {
        "guard": a_filter("instance", inbound=[{"order": 10, "action": "allow", "service": "ssh"},
                                               {"order": 20, "action": "drop", "from": "bob"},
                                               {"order": 30, "action": "allow", "service": "http"}]),
        "edge": a_filter("subnet", inbound=[{"action": "allow", "service": "ssh"}, {"action": "drop"}],
                         outbound=[{"action": "allow"}]),
        "own": a_filter("host", inbound=[{"action": "allow"}]),
        "pass": a_filter("zone", rules=[{"action": "allow", "service": "ssh"}]),
    }  # fmt: skip
    values["groups"] = {"admins": {"members": ["ann"]}}
    values["instances"]["ann"]["interfaces"][0]["filters"] = ["guard"]
    return values


class EachVerb(unittest.TestCase):
    """What each kind of change does to the network that is read, worked out by hand."""

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "network.yaml").write_text(yaml.safe_dump(small(), sort_keys=False))

    def after(self, *steps):
        return changed(str(self.folder / "network.yaml"), change_of(change_text("x", "", list(steps)), "c.yaml"))[0]

    def refused(self, *steps):
        with self.assertRaises(InputError) as caught:
            self.after(*steps)
        return str(caught.exception)

    def orders(self, topology, name="guard", way="inbound"):
        rules = sorted(getattr(topology.filters[name], way), key=lambda rule: rule.order)
        return [(rule.order, rule.action, rule.service_text) for rule in rules]

    def test_rules_get_a_number_between_their_neighbours(self):
        rule = {"action": "reject", "service": "telnet"}
        for where, order in (({"before": "20"}, 15), ({"after": "20"}, 25), ({"before": "10"}, 5), ({}, 40)):
            got = self.orders(self.after({"add_rule": {"filter": "guard", "rule": rule, **where}}))
            self.assertIn((order, "reject", "telnet"), got)
        got = self.orders(self.after({"add_rule": {"filter": "edge", "direction": "inbound", "rule": rule,
                                                   "before": "2"}}), "edge")  # fmt: skip
        self.assertEqual(got, [(1, "allow", "ssh"), (2, "reject", "telnet"), (3, "drop", "any")])
        self.assertIn("say which 'direction'", self.refused({"add_rule": {"filter": "edge", "rule": rule}}))

    def test_rules_are_moved_replaced_and_edited(self):
        moved = self.after({"move_rule": {"rule": "guard/30", "before": "20"}})
        self.assertEqual([each[0] for each in self.orders(moved)], [10, 15, 20])
        moved = self.after({"move_rule": {"rule": "edge/inbound/2", "before": "1"}})
        self.assertEqual([each[1] for each in self.orders(moved, "edge")], ["drop", "allow"])
        self.assertEqual(self.orders(self.after({"move_rule": {"rule": "guard/30", "order": 7}}))[0][2], "http")
        replaced = self.after({"replace_rule": {"rule": "guard/20", "with": {"action": "reject", "service": "telnet"}}})
        self.assertEqual(self.orders(replaced)[1], (20, "reject", "telnet"))
        edited = self.after({"edit_rule": {"rule": "guard/20", "set": {"from": "any", "service": "telnet"}}})
        self.assertEqual(self.orders(edited)[1], (20, "drop", "telnet"))
        self.assertIsNone(edited.filters["guard"].inbound[1].sources)
        self.assertIn("order 10 is taken", self.refused({"move_rule": {"rule": "guard/30", "order": 10}}))

    def test_what_was_left_without_a_value_changes_nothing(self):
        """A rule that loses what it matches lets through anything; a change without a word on what is none."""
        told = self.refused({"edit_rule": {"rule": "guard/20", "set": {"from": None}}})
        self.assertIn("matches anything; if that is meant, write 'from: any'", told)
        for verb in ("remove_rule", "enable_rule", "remove_filter", "remove_group", "remove_service", "attach",
                     "remove_crossing", "accept", "set_defaults", "remove_route", "set_instance"):  # fmt: skip
            with self.subTest(verb):
                self.assertIn(f"c.yaml:4: {verb} does not say what", self.refused({verb: None}))
        told = self.refused({"set_instance": {"instance": "bob", "tags": None}})
        self.assertIn("tags: a table belongs here, not nothing", told)
        told = self.refused({"accept": {"finding": "unguarded-subnet", "at": "a1", "reason": " "}})
        self.assertIn("'reason' is empty", told)
        told = self.refused({"set_service": {"service": "mine", "means": []}})
        self.assertIn("service 'mine' stands for nothing", told)
        told = self.refused({"set_defaults": {"ephemeral_ports": 1024}})
        self.assertIn("one port alone; clients choose from a range, such as 1024-65535", told)

    def test_who_writes_a_change_as_elsewhere_is_told_how_it_is_written(self):
        for step, hint in (
            ({"delete_rule": "guard/10"}, "did you mean 'remove_rule'?"),
            ({"del_route": {"table": "t", "to": "0.0.0.0/0"}}, "did you mean 'remove_route'?"),
            ({"insert_rule": {"filter": "guard"}}, "did you mean 'add_rule'?"),
            ({"set_instance": {"instance": "bob", "filters": ["guard"]}}, "'filters'; attach and detach do that"),
            ({"set_instance": {"instance": "bob", "addresses": ["10.1.1.9"]}}, "'addresses'; set_interface does that"),
            ({"set_interface": {"interface": "bob", "filters": []}}, "'filters'; attach and detach do that"),
            ({"edit_rule": {"rule": "guard/10", "from": "any"}}, "'from'; it goes into 'set'"),
            ({"add_route": {"table": "t", "to": "10.0.0.0/8"}}, "'to'; it goes into 'route'"),
            ({"add_rule": {"filter": "edge", "direction": "in", "rule": {"action": "allow"}}}, "did you mean 'inbound'?"),
            ({"add_rule": {"filter": "guard", "order": 5, "rule": {"action": "allow"}}}, "'order'; it goes into 'rule'"),
        ):  # fmt: skip
            with self.subTest(step):
                self.assertIn(hint, self.refused(step))

    def test_filters_are_attached_and_detached_where_their_layer_is(self):
        found = self.after(
            {"attach": {"filter": "guard", "to": ["bob", "admins"]}}, {"attach": {"filter": "edge", "to": ["a1", "depot"]}},
            {"attach": {"filter": "own", "to": "cat"}}, {"detach": {"filter": "guard", "from": "ann/eth0"}},
            {"set_crossing": {"from": "left", "to": "right", "filter": "pass"}},
        )  # fmt: skip
        self.assertEqual(found.instances["bob"].interfaces[0].filters, ("guard",))
        self.assertEqual(found.instances["ann"].interfaces[0].filters, ())
        self.assertEqual(found.filters["guard"].attach_to, ("admins",))
        self.assertEqual((found.subnets["a1"].filter, found.outsides["depot"].filter), ("edge", "edge"))
        self.assertEqual(found.instances["cat"].host_filter, "own")
        self.assertEqual([(each.source, each.destination, each.filter) for each in found.crossings],
                         [("left", "right", "pass")])  # fmt: skip
        self.assertIn(
            "a zone filter is carried by a crossing", self.refused({"attach": {"filter": "pass", "to": "a1"}})
        )
        self.assertIn("has 'guard' in 'filters' as it is", self.refused({"attach": {"filter": "guard", "to": "ann"}}))
        self.assertIn("does not carry 'edge'", self.refused({"detach": {"filter": "edge", "from": "a1"}}))

    def test_machines_subnets_routes_groups_services_and_defaults(self):
        found = self.after(
            {"set_instance": {"instance": "bob", "state": "stopped", "tags": {"role": "desk"}, "listens": ["ssh"]}},
            {"set_interface": {"interface": "bob", "addresses": ["10.1.1.99"], "public": "203.0.113.99"}},
            {"set_interface": {"interface": "ann/eth0", "public": None}},
            {"set_subnet": {"subnet": "a2", "zone": None, "route_table": "north-table"}},
            {"remove_route": {"table": "north-table", "to": "10.2.0.0/16"}},
            {"replace_route": {"table": "south-table", "to": "0.0.0.0/0", "with": {"to": "0.0.0.0/0", "via": "discard"}}},
            {"add_members": {"group": "admins", "members": ["bob"]}},
            {"set_service": {"service": "odd", "means": ["tcp/9", "udp/9"]}},
            {"add_filter": {"filter": "new", "is": a_filter("instance", inbound=[])}},
            {"remove_filter": "own"}, {"set_defaults": {"between_zones": "drop"}},
        )  # fmt: skip
        bob = found.instances["bob"]
        self.assertEqual(
            (bob.running, bob.tags, str(bob.interfaces[0].addresses[0])), (False, {"role": "desk"}, "10.1.1.99")
        )
        self.assertEqual(str(bob.interfaces[0].public), "203.0.113.99")
        self.assertIsNone(found.instances["ann"].interfaces[0].public)
        self.assertIsNone(found.subnets["a2"].zone)
        self.assertEqual(len(found.route_tables["north-table"].entries), 2)
        self.assertTrue(found.route_tables["south-table"].entries[0].discard)
        self.assertEqual(found.groups["admins"].members, ("ann", "bob"))
        self.assertIn("odd", found.services)
        self.assertEqual((set(found.filters) >= {"new"}, "own" in found.filters), (True, False))
        self.assertEqual(found.defaults.between_zones, "drop")

    def test_what_does_not_fit_is_told_with_its_line_and_nothing_is_written(self):
        before = (self.folder / "network.yaml").read_bytes()
        told = self.refused(
            {"remove_rule": "gard/10"}, {"remove_rule": "guard/11"}, {"set_instance": {"instance": "bub", "state": "stopped"}},
            {"remove_route": {"table": "north-table", "to": "10.9.0.0/16"}}, {"remove_service": "odd"},
            {"enable_rule": "guard/10"}, {"disable_rule": "guard/10"},
        )  # fmt: skip
        for line in ("c.yaml:4: remove_rule: there is no filter 'gard'; did you mean 'guard'",
                     "c.yaml:5: remove_rule: filter 'guard' has no rule '11'; its rules are 10, 20, 30",
                     "c.yaml:6: set_instance: there is no instance 'bub'; did you mean 'bob'",
                     "c.yaml:7: remove_route: route table 'north-table' has no entry to 10.9.0.0/16",
                     "c.yaml:8: remove_service: there is no service 'odd'",
                     "c.yaml:9: enable_rule: rule guard/10 is enabled as it is",
                     "c.yaml:10: disable_rule: rule guard/10 is changed twice; first in line 9"):  # fmt: skip
            self.assertIn(line, told)
        self.assertEqual((self.folder / "network.yaml").read_bytes(), before)
        told = self.refused({"edit_rule": {"rule": "guard/10", "set": {"from": "bub"}}})
        self.assertIn("leaves a network file that cannot be read", told)
        self.assertIn("did you mean 'bob'", told)


class TheProgram(unittest.TestCase):
    CHANGE = change_text("close-it", "ticket 7", [{"disable_rule": "guard/10"}])

    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "network.yaml").write_text("# ours\n" + yaml.safe_dump(small(), sort_keys=False))
        (self.folder / "change.yaml").write_text(self.CHANGE)
        self.before = (self.folder / "network.yaml").read_bytes()

    def run_it(self, *words, status=0):
        done = kiboko(*words, cwd=self.folder)
        self.assertEqual(done.returncode, status, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def test_it_writes_to_standard_output_to_a_new_file_and_in_place_with_a_way_back(self):
        text = self.run_it("apply", "change.yaml")
        self.assertEqual((self.folder / "network.yaml").read_bytes(), self.before)
        self.assertTrue(text.startswith("# ours\n"))
        self.run_it("apply", "change.yaml", "--out", "new.yaml")
        self.assertEqual((self.folder / "new.yaml").read_text(), text)
        self.assertIn("already", self.run_it("apply", "change.yaml", "--out", "new.yaml", status=2))
        (self.folder / "network.yaml").chmod(0o640)
        self.run_it("apply", "change.yaml", "--in-place")
        self.assertEqual((self.folder / "network.yaml").read_text(), text)
        self.assertEqual((self.folder / "network.yaml").stat().st_mode & 0o777, 0o640)
        self.assertIn("is disabled as it is", self.run_it("apply", "change.yaml", "--in-place", status=2))
        self.run_it("apply", "change.yaml", "--undo")
        self.assertEqual((self.folder / "network.yaml").read_bytes(), self.before)
        self.assertIn("was not made here", self.run_it("apply", "change.yaml", "--undo", status=2))

    def test_what_was_changed_since_is_not_taken_back(self):
        self.run_it("apply", "change.yaml", "--in-place")
        path = self.folder / "network.yaml"
        path.write_text(path.read_text() + "# later\n")
        later = path.read_bytes()
        self.assertIn("changed since", self.run_it("apply", "change.yaml", "--undo", status=2))
        self.assertEqual(path.read_bytes(), later)

    def test_a_folder_with_a_table_of_instances(self):
        values = small()
        del values["instances"]
        folder = self.folder / "parts"
        folder.mkdir()
        (folder / "one.yaml").write_text(yaml.safe_dump(values, sort_keys=False))
        rows = ["name,subnet,address,tags,filters,listens,state", "ann,a1,10.1.1.10,role=desk,guard,ssh,running",
                "bob,a1,10.1.1.11,-,-,,", 'cat,a2,"10.1.2.10",,,,']  # fmt: skip
        (folder / "instances.csv").write_text("\r\n".join(rows) + "\r\n", newline="")
        before = {path.name: path.read_bytes() for path in folder.iterdir()}
        (self.folder / "change.yaml").write_text(change_text("t", "", [
            {"set_instance": {"instance": "bob", "tags": {"role": "desk"}, "state": "stopped", "listens": ["ssh", "http"]}},
            {"attach": {"filter": "guard", "to": "bob"}}, {"disable_rule": "guard/10"},
            {"set_interface": {"interface": "cat/eth0", "addresses": ["10.1.2.12"]}},
        ]))  # fmt: skip
        self.assertIn("give --out FOLDER", self.run_it("apply", "change.yaml", "-n", "parts", status=2))
        unknown = change_of(change_text("u", "", [{"set_instance": {"instance": "ann", "listens": None}}]), "u.yaml")
        self.assertIsNone(changed(str(folder), unknown)[0].instances["ann"].listens)  # not known, rather than nothing
        self.run_it("apply", "change.yaml", "-n", "parts", "--in-place")
        lines = (folder / "instances.csv").read_bytes().decode().split("\r\n")
        self.assertEqual(
            lines[1:4], [rows[1], "bob,a1,10.1.1.11,role=desk,guard,ssh;http,stopped", "cat,a2,10.1.2.12,,,,"]
        )
        found = load_network(str(folder))
        self.assertEqual((found.instances["bob"].running, found.filters["guard"].inbound[0].enabled), (False, False))
        self.run_it("apply", "change.yaml", "-n", "parts", "--undo")
        self.assertEqual({path.name: path.read_bytes() for path in folder.iterdir()}, before)
        self.run_it("apply", "change.yaml", "-n", "parts", "--out", "more")
        self.assertEqual(sorted(path.name for path in (self.folder / "more").iterdir()), ["instances.csv", "one.yaml"])

    def test_a_change_of_several_files_is_made_in_all_of_them_or_in_none(self):
        """The disk is full, or somebody interrupts it, at each file that is written in turn; taken back likewise."""
        values = small()
        folder = self.folder / "two"
        folder.mkdir()
        (folder / "b.yaml").write_text(yaml.safe_dump({"kiboko": 1, "groups": values.pop("groups", {}),
                                                       "instances": values.pop("instances")}, sort_keys=False))  # fmt: skip
        (folder / "a.yaml").write_text(yaml.safe_dump(values, sort_keys=False))
        change = change_of(change_text("t", "", [
            {"disable_rule": "guard/10"}, {"set_instance": {"instance": "bob", "tags": {"role": "other"}}},
        ]), "t.yaml")  # fmt: skip
        whole = write_whole

        def failing_at(number, fault):
            calls = []

            def written(path, data):
                calls.append(path)
                if len(calls) == number:
                    raise fault
                whole(path, data)

            return mock.patch("kiboko.files.changes.applying.write_whole", written)

        def always_failing_from(number):
            calls = []

            def written(path, data):
                calls.append(path)
                if len(calls) >= number:
                    raise EnvironmentFailure("no space")
                whole(path, data)

            return written

        def octets():
            return {path.name: path.read_bytes() for path in folder.iterdir()}

        before = octets()
        for number in range(1, 5):
            for fault in (EnvironmentFailure("no space"), KeyboardInterrupt()):
                with failing_at(number, fault), self.assertRaises(type(fault)):
                    write_in_place(changed(str(folder), change)[1], change)
                self.assertEqual(octets(), before, number)
        with (
            mock.patch("kiboko.files.changes.applying.write_whole", always_failing_from(4)),
            self.assertRaises(EnvironmentFailure),
        ):
            write_in_place(changed(str(folder), change)[1], change)
        left = {name: data for name, data in octets().items() if name not in before}
        self.assertEqual(
            [before["a.yaml"]], list(left.values()), "what a.yaml was is kept where it cannot be given back"
        )
        for name in left:
            (folder / "a.yaml").write_bytes((folder / name).read_bytes())
            (folder / name).unlink()
        self.assertEqual(octets(), before)
        self.assertEqual(2, len(write_in_place(changed(str(folder), change)[1], change)))
        made = octets()
        for number in (1, 2):
            with failing_at(number, EnvironmentFailure("no space")), self.assertRaises(EnvironmentFailure):
                undo(str(folder), change)
            self.assertEqual(octets(), made)
        undo(str(folder), change)
        self.assertEqual(octets(), before)

    @unittest.skipUnless(shutil.which("git"), "git is not installed")
    def test_a_revision_is_read_as_it_was(self):
        git(self.folder, "init", "-q")
        git(self.folder, "add", ".")
        git(self.folder, "commit", "-qm", "one")
        self.run_it("apply", "change.yaml", "--in-place")
        found = json.loads(self.run_it("compare", "HEAD:network.yaml", "network.yaml", "--json", status=1))
        self.assertEqual(
            [(each["name"], each["before"] is None) for each in found["said"]], [("guard/inbound/10", False)]
        )
        self.assertIn("blocked", self.run_it("check", "bob", "ann", "ssh", status=1).lower())
        self.assertIn("ALLOWED", self.run_it("check", "bob", "ann", "ssh", "-n", "HEAD:network.yaml"))
        self.assertIn("no revision 'v9'", self.run_it("check", "bob", "ann", "ssh", "-n", "v9:network.yaml", status=2))
        self.assertIn("has no 'not.yaml'", self.run_it("check", "bob", "ann", "ssh", "-n", "HEAD:not.yaml", status=2))


class Loading(unittest.TestCase):
    def test_the_small_network_is_sound(self):
        self.assertEqual(len(load(small()).filters), 4)


if __name__ == "__main__":
    unittest.main()
