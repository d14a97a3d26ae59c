"""What many tests need: networks from plain values, one question asked of them, the built program."""

import copy
import json
import os
import random
import subprocess
import tempfile
import unittest
from pathlib import Path

from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import settled
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.pair import ask
from kiboko.core.walk.walk import Walker
from kiboko.files.network.network_file import load_network
from tests import program

# Two networks, three subnets, four machines. Nothing is filtered; tests add what they are about.
BASE = {
    "kiboko": 1,
    "defaults": {"between_zones": "allow"},
    "networks": {
        "north": {"cidrs": ["10.1.0.0/16", "2001:db8:1::/48"]},
        "south": {"cidrs": ["10.2.0.0/16"]},
    },
    "outside": {
        "internet": {"addresses": ["0.0.0.0/0", "::/0"], "zone": "public"},
        "depot": {"addresses": ["198.51.100.0/28"], "zone": "depots"},
    },
    "gateways": {
        "door": {"kind": "internet", "network": "north"},
        "exit": {"kind": "nat", "network": "south", "address": "203.0.113.2"},
        "peer": {"kind": "peering", "networks": ["north", "south"]},
    },
    "route_tables": {
        "north-table": [
            {"to": "0.0.0.0/0", "via": "door"},
            {"to": "::/0", "via": "door"},
            {"to": "10.2.0.0/16", "via": "peer", "origin": "learned"},
        ],
        "south-table": [
            {"to": "0.0.0.0/0", "via": "exit"},
            {"to": "10.1.0.0/16", "via": "peer", "origin": "learned"},
        ],
    },
    "zones": {"left": {}, "right": {}, "public": {}, "depots": {}},
    "crossings": [],
    "subnets": {
        "a1": {
            "network": "north",
            "cidr": ["10.1.1.0/24", "2001:db8:1:1::/64"],
            "zone": "left",
            "route_table": "north-table",
        },
        "a2": {"network": "north", "cidr": "10.1.2.0/24", "zone": "left", "route_table": "north-table"},
        "b1": {"network": "south", "cidr": "10.2.1.0/24", "zone": "right", "route_table": "south-table"},
    },
    "filters": {},
    "groups": {},
    "services": {},
    "instances": {
        "ann": {
            "interfaces": [{"subnet": "a1", "addresses": ["10.1.1.10", "2001:db8:1:1::10"], "public": "203.0.113.10"}]
        },
        "bob": {"interfaces": [{"subnet": "a1", "addresses": ["10.1.1.11"]}]},
        "cat": {"interfaces": [{"subnet": "a2", "addresses": ["10.1.2.10"], "public": "203.0.113.20"}]},
        "dan": {"interfaces": [{"subnet": "b1", "addresses": ["10.2.1.10"]}]},
    },
}


def while_some_hold(topology, seed):
    """The network while the conditions of some of its rules hold, by a draw of its own, and the others do not."""
    chance = random.Random(seed)
    often = chance.random()
    return settled(topology, lambda chosen, rule: chance.random() < often)


def base():
    """A fresh copy of the base network."""
    return copy.deepcopy(BASE)


def a_filter(layer, *, decide="first", stateful=True, **directions):
    """A filter's values."""
    return {"layer": layer, "decide": decide, "stateful": stateful, **directions}


def load(values, files=None):
    """The topology of a network given as plain values (JSON is YAML) or as YAML text."""
    with tempfile.TemporaryDirectory() as folder:
        for name, text in (files or {}).items():
            (Path(folder) / name).write_text(text)
        path = Path(folder) / "network.yaml"
        path.write_text(values if isinstance(values, str) else json.dumps(values, indent=1))
        return load_network(str(path))


def question(values, source, destination, service, port=None, family=None, files=None):
    """The answer to one `check`."""
    topology = load(values, files) if isinstance(values, dict | str) else values
    ends = Ends(Walker(topology))
    services = resolve_service(service, topology.services)
    ports = RangeSet.one(port) if port is not None else None
    return ask(ends, ends.resolve(source), ends.resolve(destination), services, ports, family)


def walk(values, source, destination, service, port=None, family=None, files=None):
    """The walk of one `check`."""
    return question(values, source, destination, service, port, family, files).walk


def gates(rows):
    """The gates of some rows, in order, each once for each place."""
    return list(dict.fromkeys((row.gate, row.at) for row in rows))


def decided(walked):
    """Gate, place, filter and rule of what decides."""
    row = walked.decided_by
    return None if row is None else (row.gate, row.at, row.filter, row.rule)


def git(folder, *words):
    """Git in a folder, by somebody."""
    subprocess.run(["git", "-c", "user.name=a", "-c", "user.email=a@b", *words], cwd=folder, check=True,
                   capture_output=True)  # fmt: skip


def kiboko(*arguments, cwd=None, env=None, stdin=None):
    """Run the built program."""
    environment = {**os.environ, **(env or {})}
    environment.pop("KIBOKO_NETWORK", None) if env is None else None
    return program.run(list(map(str, arguments)), cwd, environment, stdin)


class OnTheDemo(unittest.TestCase):
    """Command lines run in a folder with the demo's files."""

    @classmethod
    def setUpClass(cls):
        made = tempfile.TemporaryDirectory()
        cls.addClassCleanup(made.cleanup)
        cls.folder = Path(made.name)
        kiboko("demo", "--only-write", str(cls.folder))

    def kiboko(self, line, status):
        """What a command line prints, which has to end with a status: on standard error, where that is 2."""
        done = kiboko(*line.split(), cwd=self.folder)
        self.assertEqual(status, done.returncode, done.stderr + done.stdout)
        return done.stderr if status == 2 else done.stdout

    def refused(self, line, text):
        """Bad usage or input: status 2, what is wrong, and nothing else."""
        done = kiboko(*line.split(), cwd=self.folder)
        self.assertEqual((2, ""), (done.returncode, done.stdout), done.stderr)
        self.assertIn(text, done.stderr)
        self.assertNotIn("Traceback", done.stderr)
