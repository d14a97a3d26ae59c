"""`kiboko replica`: the network rebuilt in kernel namespaces, to verify the walk and to try things."""

from __future__ import annotations

import argparse
from pathlib import Path

from kiboko.commands.options import add_examples, add_network_option

_FAULTS = (
    "a fault to put in: not-enforced=INSTANCE, exempt=FILTER@INSTANCE, not-attached=FILTER@INSTANCE_OR_SUBNET,"
    " older-filter=FILTER@NETWORK_FILE, membership=GROUP@INSTANCE, no-address=INSTANCE@ADDRESS,"
    " service-down=INSTANCE[/SERVICE], host-filter=INSTANCE[/SERVICE], no-way-back=FILTER,"
    " older-session=FILTER@NETWORK_FILE, sender-side=INSTANCE_OR_OUTSIDE[/SERVICE],"
    " log-before-as-of=FILTER@NETWORK_FILE, host-unhealthy=INSTANCE; repeatable"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The actions of `replica` and their options."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION", required=True)
    checking = actions.add_parser("verify", help="build, probe, compare with the walk, take down")
    add_network_option(checking)
    for name, what in (("source", "senders"), ("destination", "receivers")):
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
    _add_with(checking)
    checking.add_argument("--json", action="store_true", help="machine-readable, replica/1")
    building = actions.add_parser("build", help="build, and leave it standing")
    add_network_option(building)
    building.add_argument(
        "--only", metavar="NAME", action="append", default=[],
        help="only these instances, and what leads there: an instance, group, subnet or address; repeatable",
    )  # fmt: skip
    building.add_argument("--fault", metavar="FAULT", action="append", default=[], help=_FAULTS)
    _add_with(building)
    trying = actions.add_parser(
        "at",
        help="run a command at an instance, outside, subnet router or gateway of it; without one, say what is there",
    )
    trying.add_argument("name", metavar="NAME", help="where: an instance, outside, subnet router or gateway")
    command = trying.add_argument("what", metavar="CMD", nargs=argparse.REMAINDER, help="what to run, with its options")
    command.required = False
    actions.add_parser("remove", help="take away what stands, and nothing else")
    add_examples(parser, "replica verify --most 500", "replica build", "replica at gauge-03 ip addr")


def _add_with(action: argparse.ArgumentParser) -> None:
    action.add_argument(
        "--with", metavar="FILTER/RULE", dest="with_", action="append", default=[],
        help="build it while this rule's condition holds; by default none does; repeatable",
    )  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Do one action. `verify` returns 0 without a difference, else 1; `at` the status of its command."""
    from kiboko.commands.replicating import run as replicate  # only who builds one pays for what that needs

    return replicate(args)
