"""Options that several commands have, and the statuses that they end with."""

from __future__ import annotations

import argparse
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_ports
from kiboko.views.text import clean

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from kiboko.core.network.model import Topology
    from kiboko.files.elements.column_map import ColumnMap
    from kiboko.files.network.watched import WatchedNetwork

INTERRUPTED = 130
Options = argparse.ArgumentParser | argparse._ArgumentGroup
"""What options can be added to."""


def add_network_option(parser: argparse.ArgumentParser) -> None:
    """`-n/--network`, which every command that needs a network file has."""
    parser.add_argument(
        "-n",
        "--network",
        metavar="PATH",
        default=os.environ.get("KIBOKO_NETWORK") or "network.yaml",
        help="the network file or folder (else KIBOKO_NETWORK, else network.yaml here)",
    )
    add_reading_options(parser)


def add_reading_options(parser: argparse.ArgumentParser) -> None:
    """How network files are read, for commands that take some."""
    parser.add_argument("--files-elsewhere", action="store_true",
                        help="let the network file name rule sets and sockets outside its folder")  # fmt: skip
    parser.add_argument("--strict", action="store_true",
                        help="what is odd in the network file or in records is an error (status 2)")  # fmt: skip
    parser.add_argument("--no-cache", action="store_true",
                        help="read the network file anew; else what was read is kept in KIBOKO_CACHE")  # fmt: skip


def lines_shown(text: str) -> int:
    """How many lines are shown, as `--top` has it: at least one, since none would look as if there were nothing. Raises
    ArgumentTypeError."""
    if not text.isdecimal():
        raise argparse.ArgumentTypeError(f"'{text}' is no number of lines")
    if not int(text):
        raise argparse.ArgumentTypeError("at least one line is shown")
    return int(text)


def add_difference_options(parser: argparse.ArgumentParser, form: str) -> None:
    """Which verdicts of two versions are compared, and how much of it is shown."""
    parser.add_argument("--service", metavar="SERVICE", default="any", help="only verdicts on this service (any)")
    add_family_option(parser)
    parser.add_argument("--top", metavar="N", type=lines_shown, default=20, help="as many lines of each kind (20)")
    parser.add_argument("--full", action="store_true", help="every name and difference")
    parser.add_argument("--json", action="store_true", help=f"machine-readable, {form}")


def client_ports_of(args: argparse.Namespace) -> RangeSet | None:
    """What `--client-ports` says. Raises UsageError."""
    try:
        return parse_ports(args.client_ports) if args.client_ports else None
    except ValueError as error:
        raise UsageError(f"--client-ports: {error}") from error


def network_of(args: argparse.Namespace) -> Topology:
    """The network that a command asks about. What is odd about it is told on standard error, or with `--strict` is an
    error. Raises InputError."""
    from kiboko.files.network.listing import is_of_revision

    load: Callable[[str, bool], Topology]
    if is_of_revision(args.network):
        from kiboko.files.network.revisions import load_revision as load
    elif args.no_cache:
        from kiboko.files.network.network_file import load_network as load
    else:
        from kiboko.files.network.kept import load_kept as load
    return _with_warnings(args, load(args.network, args.files_elsewhere))


def add_conditions_option(parser: argparse.ArgumentParser) -> None:
    """`--conditions`, for commands that ask about traffic."""
    parser.add_argument(
        "--conditions", choices=("none", "all"),
        help="ask as if no rule's condition held, or all of them did; by default what hangs on one is not known",
    )  # fmt: skip


def with_conditions(args: argparse.Namespace, topology: Topology) -> Topology:
    """The network as `--conditions` has it asked about."""
    if args.conditions is None:
        return topology
    from kiboko.core.network.edits import settled

    return settled(topology, lambda _, __: args.conditions == "all")


def conditions_told(args: argparse.Namespace) -> str:
    """The same option in a line to paste, where it was given."""
    return f" --conditions {args.conditions}" if args.conditions is not None else ""


def conditions_said(args: argparse.Namespace) -> str:
    """What it is asked as if, in words; nothing where the option was not given."""
    held = {"none": "as if no condition of a rule held", "all": "as if all conditions of rules held"}
    return f"(asked {held[args.conditions]})" if args.conditions is not None else ""


def watched_network_of(args: argparse.Namespace) -> WatchedNetwork | None:
    """The same network for a command that goes on, so that it may change meanwhile; None for one of a revision, which
    does not. Raises InputError."""
    from kiboko.files.network.kept import load_kept_with_files
    from kiboko.files.network.listing import is_of_revision
    from kiboko.files.network.network_file import load_with_files
    from kiboko.files.network.watched import WatchedNetwork

    if is_of_revision(args.network):
        return None

    def read() -> tuple[Topology, tuple[Path, ...]]:
        load = load_with_files if args.no_cache else load_kept_with_files
        topology, used = load(args.network, args.files_elsewhere)
        return _with_warnings(args, topology), used

    return WatchedNetwork(args.network, read)


def _with_warnings(args: argparse.Namespace, topology: Topology) -> Topology:
    if topology.warnings and args.strict:
        raise InputError(list(topology.warnings))
    for warning in topology.warnings:
        print(f"warning: {clean(str(warning))}", file=sys.stderr)
    return topology


FLOWS_HELP = "flow logs: a file, a folder of them, a pattern, or - for standard input; repeatable"


def add_time_options(parser: Options) -> None:
    """`--since` and `--until`, for commands that read evidence."""
    parser.add_argument(
        "--since", metavar="TIME", help="only records of this time or later (RFC 3339; UTC without a zone): flows that"
        " touch it, probes sent in it",
    )  # fmt: skip
    parser.add_argument("--until", metavar="TIME", help="only what began, or was sent, before this time")


def refuse_beside(args: argparse.Namespace, what: str, names: Iterable[str]) -> None:
    """Refuse options, by the names of their values, that would have no effect beside what is asked for: whoever gives
    one expects one. `what` says why they have none. Raises UsageError."""
    for name in names:
        if getattr(args, name):
            option = name.removesuffix("_names").replace("_", "-")
            raise UsageError(f"{what}: leave out --{option}")


def is_output(path: Path | None) -> bool:
    """Whether what an option names is `-`, which is standard output."""
    return str(path) == "-"


def refuse_two_outputs(args: argparse.Namespace, name: str) -> None:
    """Refuse an option that writes to standard output beside `--json`, which does as well. Raises UsageError."""
    if is_output(getattr(args, name)) and args.json:
        raise UsageError(f"--{name} - and --json both go to standard output: name a file for --{name}")


def refuse_without_evidence(args: argparse.Namespace) -> None:
    """What says which records count, and how they are read, means nothing without any. Raises UsageError."""
    given = [name for name in ("since", "until", "columns") if getattr(args, name)]
    if given and not args.flows and not args.probes:
        raise UsageError(f"--{given[0]} is about evidence: give --flows, --probes, or both")


def add_columns_option(parser: Options) -> None:
    """`--columns`, for commands that read flow records."""
    parser.add_argument(
        "--columns", metavar="FILE", type=Path, action="append",
        help="a mapping file: which column of these logs is which field (see the guide); of several, each for the logs"
        " whose first line it names",
    )  # fmt: skip


def columns_of(args: argparse.Namespace) -> ColumnMap:
    """What `--columns` says of the columns of logs. Raises InputError."""
    from kiboko.files.elements.column_map import USUAL

    if not args.columns:
        return USUAL
    from kiboko.files.elements.mapping_file import read_column_maps  # checking a mapping costs more than a start

    return read_column_maps(args.columns)


def add_cluster_option(parser: Options) -> None:
    """`--cluster`, for commands that read many flow records."""
    parser.add_argument(
        "--cluster", metavar="ADDRESS",
        help="read on a Dask cluster: its scheduler (tcp://HOST:PORT), or local:N for N workers here",
    )  # fmt: skip


def add_family_option(parser: argparse.ArgumentParser) -> None:
    """`-4` and `-6`, of which at most one is given."""
    family = parser.add_mutually_exclusive_group()
    family.add_argument("-4", action="store_const", const=4, dest="family", help="IPv4 only")
    family.add_argument("-6", action="store_const", const=6, dest="family", help="IPv6 only")


def add_examples(parser: argparse.ArgumentParser, *commands: str) -> None:
    """Close a command's help with lines that work in the demo's folder."""
    lines = "\n".join(f"  kiboko {command}" for command in commands)
    parser.epilog = f"examples, in the folder that `kiboko demo` writes:\n{lines}"
    parser.formatter_class = argparse.RawDescriptionHelpFormatter
