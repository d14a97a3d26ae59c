"""The work of `kiboko replica`: the network rebuilt in kernel namespaces, verified or left standing."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path

from kiboko.commands.options import network_of
from kiboko.core.errors import UsageError
from kiboko.core.evidence.verification import Verification
from kiboko.core.network.edits import settled, with_rule_enabled
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import resolve_service
from kiboko.files.documents.saving import write_whole
from kiboko.files.logs.probe_log import to_line
from kiboko.files.network.network_file import load_network
from kiboko.files.store.flow_export import flows_csv
from kiboko.replica.faults import (
    EXEMPT,
    FROM_FILE,
    KINDS,
    MEMBERSHIP,
    NO_ADDRESS,
    NOT_ATTACHED,
    OF_TIME,
    WITH_PLACE,
    WITH_SERVICE,
    Fault,
)
from kiboko.replica.standing import about, remove, run_at, stand, standing
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from kiboko.views.output import Output, working
from kiboko.views.replica_view import show_standing, show_verification, verification_json


def run(args: argparse.Namespace) -> int:
    """Do one action. `verify` returns 0 without a difference, else 1; `at` the status of its command."""
    out = Output()
    if args.action == "verify":
        return _verify(args, out)
    if args.action == "at":
        if not args.what:
            for line in about(args.name):
                out.line(line)
            return 0
        return run_at(args.name, args.what)
    if args.action == "remove":
        gone = remove()
        out.line(f"The replica of {gone.network} is gone." if gone else "No replica stood.")
        return 0
    topology = network_of(args)
    faults = _faults(args.fault, topology)
    passing = next((each for each in faults if each.kind in OF_TIME), None)
    if passing is not None:
        raise UsageError(f"fault {passing.kind} is over when the rules of today are in force: it goes with"
                         " 'kiboko replica verify --record DIR'")  # fmt: skip
    with working("building the network from namespaces"):
        stand(_settled(topology, args.with_), faults, tuple(args.only))
    made = standing()
    if made is not None:
        show_standing(made.network, made.machines, made.addresses, out)
        _say_conditions(topology, args.with_, out)
    return 0


def _settled(topology: Topology, holding: list[str]) -> Topology:
    """The network while the conditions of some rules hold, and no others."""
    for path in holding:
        topology = with_rule_enabled(topology, path)
    return settled(topology)


def _say_conditions(topology: Topology, holding: list[str], out: Output) -> None:
    """Say as what rules with conditions are built."""
    count = sum(bool(rule.condition and rule.enabled) for chosen in topology.filters.values()
                for rule in chosen.every_rule())  # fmt: skip
    if count:
        held = f"but for {', '.join(holding)}" if holding else "--with FILTER/RULE builds it while one does"
        rules = "1 rule has a condition" if count == 1 else f"{count:,} rules have a condition"
        out.line(f"  {rules}: built while none of them holds ({held})", "quiet")


_RECORDED = "probes.jsonl", "flows.csv"


def _verify(args: argparse.Namespace, out: Output) -> int:
    there = [args.record / name for name in _RECORDED if (args.record / name).exists()] if args.record else []
    if there:
        raise UsageError(f"--record: {there[0]} is there already; name another folder, or remove it")
    topology = network_of(args)
    choice = Choice(tuple(args.source_names), tuple(args.destination_names), tuple(args.service), args.most, args.seed)
    faults = _faults(args.fault, topology)
    began = time.monotonic()
    with working("building the network from namespaces and probing it"):
        found = verify(topology, choice, faults, args.record is not None, built=_settled(topology, args.with_))
    seconds = time.monotonic() - began
    if args.record is not None:
        _write(found, args.record)
    if args.json:
        print(json.dumps(verification_json(found, seconds, args.fault), indent=1))
    else:
        show_verification(found, seconds, args.fault, out)
        _say_conditions(topology, args.with_, out)
        if args.record is not None:
            out.line()
            out.line(f"recorded in {args.record}: probes.jsonl and flows.csv, as confirm reads them", "quiet")
    return 1 if found.differences else 0


def _write(found: Verification, folder: Path) -> None:
    for name, text in zip(_RECORDED, ("".join(to_line(each) + "\n" for each in found.probes), flows_csv(found.flows))):
        write_whole(folder / name, text.encode())


def _faults(texts: list[str], topology: Topology) -> tuple[Fault, ...]:
    return tuple(_fault(text, topology) for text in texts)


def _fault(text: str, topology: Topology) -> Fault:
    kind, _, rest = text.partition("=")
    if kind not in KINDS or not rest:
        raise UsageError(f"fault '{text}' is none: {', '.join(f'{each}=WHO' for each in KINDS)}")
    if kind in FROM_FILE:
        name, _, path = rest.partition("@")
        if not path:
            raise UsageError(f"fault '{text}' does not say where from: {kind}=FILTER@NETWORK_FILE")
        older = load_network(path).filters.get(name)
        if older is None:
            raise UsageError(f"{path} has no filter '{name}'")
        return Fault(kind, name, older=older)
    if kind in WITH_PLACE:
        who, _, place = rest.partition("@")
        if not place:
            raise UsageError(f"fault '{text}' does not say where: {kind}={_SAYS[kind]}")
        return Fault(kind, who, at=place)
    who, _, service = rest.partition("/")
    if service and kind not in WITH_SERVICE:
        raise UsageError(f"fault {kind} takes no service")
    return Fault(kind, who, resolve_service(service, topology.services) if service else None)


_SAYS = {EXEMPT: "FILTER@INSTANCE", NOT_ATTACHED: "FILTER@INSTANCE or FILTER@SUBNET", MEMBERSHIP: "GROUP@INSTANCE",
         NO_ADDRESS: "INSTANCE@ADDRESS"}  # fmt: skip
