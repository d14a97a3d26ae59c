"""Rows of sets that differ in names alone are one, and no others."""

import unittest

from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.reachability.set_answer import together
from kiboko.core.reachability.sets import ask_set
from kiboko.core.walk.walk import Walker
from tests.helpers import a_filter, base, load


def rows_of(values, source, destination, service):
    ends = Ends(Walker(load(values)))
    return ask_set(ends, ends.resolve(source), ends.resolve(destination), resolve_service(service, {}), None, None).rows


def two_zones():
    """From the left two zones may be sent to. What comes back to some client ports, others for each of the two, is let
    back by no rule and no state, and nothing is listed from there to the left."""
    values = base()
    values["defaults"] = {"between_zones": "drop"}
    values["zones"]["far"] = {}
    for name, zone, ports in (("one", "right", "40000-40999"), ("two", "far", "50000-50999")):
        values["filters"][name] = a_filter("zone", rules=[
            {"order": 10, "action": "allow", "source_ports": ports, "stateful": False}, {"order": 20, "action": "allow"},
        ])  # fmt: skip
        values["crossings"].append({"from": "left", "to": zone, "filter": name})
    values["subnets"]["b2"] = {"network": "south", "cidr": "10.2.2.0/24", "zone": "far", "route_table": "south-table"}
    values["instances"]["eve"] = {"interfaces": [{"subnet": "b2", "addresses": ["10.2.2.10"]}]}
    values["groups"]["both"] = {"members": ["dan", "eve"]}
    return values


class Together(unittest.TestCase):
    def test_two_zones_without_a_crossing_are_one_row(self):
        rows = rows_of(two_zones(), "both", "cat", "ssh")
        self.assertEqual(["right>left", "far>left"], [row.example.decided_by.at for row in rows])
        (row,) = together(rows)
        self.assertEqual(
            (2, ("dan", "eve"), ("cat",)), (row.outcomes, row.sources.instances, row.destinations.instances)
        )
        self.assertEqual("no crossing between the two zones is listed", row.reason)

    def test_what_gets_through_from_other_client_ports_stays_apart(self):
        rows = together(rows_of(two_zones(), "cat", "both", "ssh"))
        self.assertEqual([("partly", "32768-39999, 41000-60999", 1), ("partly", "32768-49999, 51000-60999", 1)],
                         [(row.example.verdict, str(row.example.answered), row.outcomes) for row in rows])  # fmt: skip

    def test_routes_that_throw_away_are_not_told_with_those_that_do_not_lead_there(self):
        values = base()
        values["route_tables"] = {
            "north-table": [{"to": "10.2.0.0/16", "via": "discard"}],
            "south-table": [{"to": "0.0.0.0/0", "via": "exit"}],
        }
        rows = [*rows_of(values, "cat", "dan", "tcp/1-2"), *rows_of(values, "dan", "cat", "tcp/1-2")]
        self.assertEqual(2, len(together(rows)))
        self.assertEqual(2, sum(row.outcomes for row in together(rows)))


if __name__ == "__main__":
    unittest.main()
