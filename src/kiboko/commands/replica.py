"""`kiboko replica`: the network rebuilt in kernel namespaces, to verify the walk and to try things."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path

from kiboko.commands.main import add_network_option
from kiboko.core.endpoints import resolve_service
from kiboko.core.errors import UsageError
from kiboko.core.model import Topology
from kiboko.core.verification import Verification
from kiboko.files.flow_export import flows_csv
from kiboko.files.network_file import load_network
from kiboko.files.probe_log import to_line
from kiboko.files.saving import write_whole
from kiboko.replica.faults import KINDS, OLDER_FILTER, SENDERS_NETWORK, SERVICE_DOWN, Fault
from kiboko.replica.standing import remove, run_at, stand, standing
from kiboko.replica.trials import Choice
from kiboko.replica.verify import verify
from kiboko.views.output import Output, working
from kiboko.views.replica_view import show_standing, show_verification, verification_json

_FAULTS = (
    "a fault to put in: not-enforced=INSTANCE, service-down=INSTANCE[/SERVICE], older-filter=FILTER@NETWORK_FILE,"
    " senders-network=INSTANCE_OR_OUTSIDE[/SERVICE]; repeatable"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The actions of `replica` and their options."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    checking = actions.add_parser("verify", help="build, probe, compare with the walk, take down")
    add_network_option(checking)
    for name, what in (("from", "senders"), ("to", "receivers")):
        checking.add_argument(
            f"--{name}", metavar="NAME", dest=f"{name}_names", action="append", default=[],
            help=f"only these {what}: an instance, group, subnet, outside or address; repeatable",
        )  # fmt: skip
    checking.add_argument(
        "--service", metavar="SERVICE", action="append", default=[], help="only this service; repeatable"
    )
    checking.add_argument("--most", metavar="N", type=int, help="at most so many probes, drawn at random")
    checking.add_argument("--seed", metavar="N", type=int, default=0, help="for the draw, and for the client ports (0)")
    checking.add_argument("--fault", metavar="FAULT", action="append", default=[], help=_FAULTS)
    checking.add_argument(
        "--record", metavar="DIR", type=Path, help="write what was observed there: probes.jsonl and flows.csv"
    )
    checking.add_argument("--json", action="store_true", help="machine-readable, replica/1")
    building = actions.add_parser("build", help="build, and leave it standing")
    add_network_option(building)
    building.add_argument("--fault", metavar="FAULT", action="append", default=[], help=_FAULTS)
    trying = actions.add_parser("at", help="run a command at an instance, outside, subnet router or gateway of it")
    trying.add_argument("name", metavar="NAME")
    trying.add_argument("what", metavar="CMD", nargs=argparse.REMAINDER)
    actions.add_parser("remove", help="take away what stands, and nothing else")


def run(args: argparse.Namespace) -> int:
    """Do one action. `verify` returns 0 without a difference, else 1; `at` the status of its command."""
    out = Output()
    if args.action == "verify":
        return _verify(args, out)
    if args.action == "at":
        if not args.what:
            raise UsageError("give a command to run, such as 'ip addr'")
        return run_at(args.name, args.what)
    if args.action == "remove":
        gone = remove()
        out.line(f"The replica of {gone.network} is gone." if gone else "No replica stood.")
        return 0
    topology = load_network(args.network)
    with working("building the network from namespaces"):
        stand(topology, _faults(args.fault, topology))
    made = standing()
    if made is not None:
        show_standing(made.network, made.machines, made.addresses, out)
    return 0


def _verify(args: argparse.Namespace, out: Output) -> int:
    topology = load_network(args.network)
    choice = Choice(tuple(args.from_names), tuple(args.to_names), tuple(args.service), args.most, args.seed)
    faults = _faults(args.fault, topology)
    began = time.monotonic()
    with working("building the network from namespaces and probing it"):
        found = verify(topology, choice, faults, args.record is not None)
    seconds = time.monotonic() - began
    if args.record is not None:
        _write(found, args.record)
    if args.json:
        print(json.dumps(verification_json(found, seconds, args.fault), indent=1))
    else:
        show_verification(found, seconds, args.fault, out)
        if args.record is not None:
            out.line()
            out.line(f"recorded in {args.record}: probes.jsonl and flows.csv, as confirm reads them", "quiet")
    return 1 if found.differences else 0


def _write(found: Verification, folder: Path) -> None:
    write_whole(folder / "probes.jsonl", "".join(to_line(each) + "\n" for each in found.probes).encode())
    write_whole(folder / "flows.csv", flows_csv(found.flows).encode())


def _faults(texts: list[str], topology: Topology) -> tuple[Fault, ...]:
    return tuple(_fault(text, topology) for text in texts)


def _fault(text: str, topology: Topology) -> Fault:
    kind, _, rest = text.partition("=")
    if kind not in KINDS or not rest:
        raise UsageError(f"fault '{text}' is none: {', '.join(f'{each}=WHO' for each in KINDS)}")
    if kind == OLDER_FILTER:
        name, _, path = rest.partition("@")
        if not path:
            raise UsageError(f"fault '{text}' does not say where from: {OLDER_FILTER}=FILTER@NETWORK_FILE")
        older = load_network(path).filters.get(name)
        if older is None:
            raise UsageError(f"{path} has no filter '{name}'")
        return Fault(kind, name, older=older)
    who, _, service = rest.partition("/")
    if service and kind not in (SERVICE_DOWN, SENDERS_NETWORK):
        raise UsageError(f"fault {kind} takes no service")
    return Fault(kind, who, resolve_service(service, topology.services) if service else None)
