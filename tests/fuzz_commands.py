"""Random command lines on random networks for as long as is asked: each ends with a status of its own and says
something, and every line that it prints to be pasted can be.

`python -m tests.fuzz_commands [SECONDS] [SEED]`; `make fuzz` runs ten minutes. Commands that send packets, build
replicas or wait for records are left out.
"""

import contextlib
import copy
import importlib
import io
import json
import os
import random
import re
import shlex
import shutil
import signal
import sys
import tempfile
import time
import traceback
from collections import Counter
from pathlib import Path

import yaml

from kiboko.commands.main import COMMANDS, build_parser, main
from kiboko.demo.data import write_demo
from tests.random_networks import by_an_appliance, in_more_zones, random_network

LEFT_OUT = {"demo", "collect", "probe", "replica"}
LONGEST = 60  # seconds
TO_PASTE = re.compile(r"(?:see|ask|to see one:|again)\s+(kiboko (?!apply)[a-z]+ [^\n]*)")
SERVICES = ["ssh", "any", "tcp", "tcp/80", "tcp/80-90", "tcp/443", "udp", "udp/53", "icmp", "ping", "icmp6", "proto/47"]
TIMES = ["2026-11-20T09:00:00Z", "2026-11-20T09:30:00Z", "2026-11-19", "yesterday", "2030-01-01"]
COUNTS = ["1", "2", "3", "5", "20", "0", "-1", "x"]


class Drawn:
    """A folder with a network and evidence, and what a command line may name of it."""

    def __init__(self, chance, demo, folder):
        self.chance = chance
        if chance.random() < 0.5:
            shutil.copytree(demo, folder)
            values = yaml.safe_load((folder / "network.yaml").read_text())
        else:
            folder.mkdir()
            values = random_network(chance.randrange(10**6))
            kind = chance.random()
            values = by_an_appliance(values, chance) if kind < 0.3 else values
            values = in_more_zones(values, chance) if kind > 0.7 else values
            (folder / "network.yaml").write_text(json.dumps(values))
            for name in ("evidence", "changes"):
                shutil.copytree(demo / name, folder / name)
            shutil.copy(demo / "expectations.yaml", folder)
        (folder / "other.yaml").write_text(yaml.safe_dump(self.changed(copy.deepcopy(values)), sort_keys=False))
        self.files = [str(each.relative_to(folder)) for each in sorted(folder.rglob("*")) if each.is_file()]
        machines = values["instances"]
        addresses = [address for machine in machines.values() for each in machine["interfaces"]
                     for address in (*each.get("addresses", ()), *([each["public"]] if "public" in each else ()))]  # fmt: skip
        names = {kind: list(values.get(kind, {})) for kind in ("subnets", "networks", "outside", "groups", "filters")}
        self.ends = [*list(machines) * 4, *names["subnets"] * 2, *names["networks"], *names["outside"] * 2,
                     *names["groups"] * 3, *addresses, *["any"] * 4, f"{next(iter(machines))}/eth0", "10.0.0.0/8",
                     "192.0.2.7", "2001:db8::5", "10.61.4.0/28", "10.1.1.1-10.1.1.9", "0.0.0.0/0", "tag:role=gauge",
                     "127.0.0.1", "224.0.0.1", "nosuch"]  # fmt: skip
        self.rules = [f"{name}/{way}/{number}" for name in names["filters"] for way in ("inbound", "outbound", "rules")
                      for number in (1, 2, 10, 20)]  # fmt: skip

    def changed(self, values):
        """The same network with something else in it, or less."""
        kind = self.chance.choice(["instances", "filters", "subnets", "nothing"])
        if kind == "instances":
            del values["instances"][self.chance.choice(list(values["instances"]))]
        elif kind == "filters" and values["filters"]:
            chosen = self.chance.choice(list(values["filters"].values()))
            for way in ("inbound", "outbound", "rules"):
                if chosen.get(way):
                    del chosen[way][0]
        elif kind == "subnets":
            self.chance.choice(list(values["subnets"].values())).pop("filter", None)
        return values

    def line(self):
        """A command line, as a list of words."""
        chance = self.chance
        command = chance.choice([*(each for each in COMMANDS if each not in LEFT_OUT), "check", "check", "reach"])
        actions = build_parser(command)._subparsers._group_actions[0].choices[command]._actions
        words = [self.value(each) for each in actions if not each.option_strings]
        usual = {
            "flows": ["evidence/flows.csv"], "confirm": ["--flows", "evidence/flows.csv"],
            "expect": chance.choice([["--file", "expectations.yaml"], ["--draft"]]),
            "compare": ["network.yaml", "other.yaml"],
            "rehearse": chance.choice([["other.yaml"], ["--toggle", chance.choice(self.rules or ["x"])]]),
        }  # fmt: skip
        if command in usual and chance.random() < 0.85:
            words = usual[command]
        options = [each for each in actions if each.option_strings and each.dest not in ("help", "cluster")]
        for each in chance.sample(options, chance.choice([0, 0, 0, 1, 1, 2])):
            words = [*words, each.option_strings[-1], *([] if each.nargs == 0 else [self.value(each)])]
        return [command, *words]

    def value(self, action):
        """A value of an argument, by what its help calls it."""
        chance, word, option = self.chance, str(action.metavar or action.dest).upper(), action.option_strings[-1:]
        if action.choices:
            return chance.choice(list(action.choices))
        if option == ["--flows"]:
            return chance.choice(["evidence/flows.csv"] * 6 + self.files)
        if option == ["--probes"]:
            return chance.choice(["evidence/probes.jsonl"] * 6 + self.files)
        if option == ["--network"]:
            return chance.choice(["network.yaml"] * 5 + self.files)
        if option and option[0] in ("--plot", "--junit", "--sarif", "--save", "--export", "--write-change", "--out"):
            return chance.choice(["made.png", "made.xml", "made.json", "made.csv", "no/such/folder"])
        for known, values in (
            (("FROM", "TO", "NAME", "END", "SOURCE", "DESTINATION"), self.ends), (("SERVICE",), SERVICES),
            (("TIME",), TIMES), (("FILE", "PATH", "CHANGE", "OLD", "NEW", "FOLDER"), self.files),
        ):  # fmt: skip
            if word in known:
                return chance.choice(values)
        if "RULE" in word:
            return chance.choice(self.rules or ["x"])
        if "PORT" in word:
            return chance.choice(["32768", "40000-50000", "443", "x"])
        return chance.choice([*COUNTS, "group", "zone", "subnet", "pair", "source", "minute", *self.ends])


def run(words, folder):
    """A command line in a process of its own: its status (a traceback is 98), what it prints, what it complains of."""
    printed, complained = folder.parent / "printed", folder.parent / "complained"
    child = os.fork()
    if not child:
        os.chdir(folder)
        signal.alarm(LONGEST)
        for number, path in ((1, printed), (2, complained)):
            os.dup2(os.open(path, os.O_CREAT | os.O_WRONLY | os.O_TRUNC), number)
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        sys.stdout, sys.stderr = (os.fdopen(number, "w") for number in (1, 2))
        status = 98
        try:
            status = main(words)
        except SystemExit as error:
            status = error.code if isinstance(error.code, int) else 2
        except BaseException:
            traceback.print_exc()
        with contextlib.suppress(Exception):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(status)
    status = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    return status, printed.read_text(errors="replace"), complained.read_text(errors="replace")


def pasted(text):
    """The command lines that a text gives to be pasted, as lists of words."""
    for line in TO_PASTE.findall(text):
        words = shlex.split(re.split(r"\s{2,}", line)[0].rstrip(".,;)"))[1:]
        if not any(each in ("…", "NAME", "SERVICE", "FILE") for each in words):
            yield words


def fuzz(seconds, seed, most=None):
    """Go on for so many seconds, or networks; how many command lines came to each status, and how many ended badly."""
    met, until = Counter(), time.monotonic() + seconds
    with tempfile.TemporaryDirectory() as made:
        os.environ |= {"KIBOKO_CACHE": f"{made}/cache", "NO_COLOR": "1"}
        with contextlib.redirect_stdout(io.StringIO()):
            write_demo(Path(made) / "demo")
        for name in COMMANDS:  # once, not in each process
            importlib.import_module(f"kiboko.commands.{name}")
        began = seed
        while time.monotonic() < until and (most is None or seed < began + most):
            seed += 1
            folder = Path(made) / "network"
            shutil.rmtree(folder, ignore_errors=True)
            drawn = Drawn(random.Random(seed), Path(made) / "demo", folder)
            for _ in range(6):
                words = drawn.line()
                status, printed, complained = run(words, folder)
                met[f"status {status}"] += 1
                bad = status not in (0, 1, 2, 3) or not (printed.strip() or complained.strip())
                if bad:
                    told(met, seed, words, complained)
                for line in [] if "--json" in words or bad else list(pasted(printed))[:3]:
                    met["pasted"] += 1
                    status, _, complained = run(line, folder)
                    if status not in (0, 1):
                        told(met, seed, [*words, "=>", *line], complained)
    return met


def told(met, seed, words, complained):
    """Show a command line that ended badly."""
    met["bad"] += 1
    print(f"seed {seed}: kiboko {shlex.join(words)}\n{complained[-2000:]}", flush=True)


if __name__ == "__main__":
    length = float(sys.argv[1]) if len(sys.argv) > 1 else 600
    began = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    found = fuzz(length, began)
    print(f"from seed {began}, {length:.0f} s: ", ", ".join(f"{n:,} {kind}" for kind, n in sorted(found.items())))
    sys.exit(1 if found["bad"] else 0)
