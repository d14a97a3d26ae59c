"""`kiboko confirm --probes FILE --flows FILE`: rules against evidence."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from kiboko.commands.main import add_cluster_option, add_columns_option, add_network_option, add_time_options
from kiboko.core.causes import Causes
from kiboko.core.comparison import BREAK, LEAK, Comparison
from kiboko.core.errors import UsageError
from kiboko.core.summary import Summary
from kiboko.core.walk import Walker
from kiboko.files.network_file import load_network
from kiboko.files.probe_log import read_probes
from kiboko.files.rejects import Rejects
from kiboko.views.confirm_view import confirm_json, show_confirm
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `confirm`."""
    add_network_option(parser)
    parser.add_argument(
        "--probes",
        metavar="FILE",
        type=Path,
        action="append",
        default=[],
        help="probe records (JSON Lines); repeatable",
    )
    parser.add_argument(
        "--flows",
        metavar="PATH",
        type=Path,
        action="append",
        default=[],
        help="flow logs: a file, a folder of them or a pattern; repeatable",
    )
    parser.add_argument(
        "--older",
        metavar="PATH",
        help="an older network file: what agrees with it may never have been updated",
    )
    add_time_options(parser)
    add_columns_option(parser)
    add_cluster_option(parser)
    parser.add_argument(
        "--plot", metavar="FILE", type=Path, help="draw the findings over time and what was covered, as .png or .svg"
    )
    parser.add_argument("--all", action="store_true", help="show the records that agree as well")
    parser.add_argument("--strict", action="store_true", help="stop at the first row that cannot be used (status 2)")
    parser.add_argument("--json", action="store_true", help="machine-readable, confirm/1")


def run(args: argparse.Namespace) -> int:
    """Compare, show, and return 0 without a leak or a break, else 1."""
    if not args.probes and not args.flows:
        raise UsageError("give evidence: --probes FILE, --flows FILE, or both")
    walker = Walker(load_network(args.network))
    comparison = Comparison(walker)
    summary = Summary(walker.directory)
    caveats: list[str] = []
    coverage = None
    with working("holding records against the rules"):
        for path in args.probes:
            caveats.extend(_take_probes(path, args.strict, comparison, summary))
        if args.flows:
            # Only who brings flow records pays for the libraries that read them.
            from kiboko.files.column_map import USUAL, read_column_map
            from kiboko.files.flow_fields import time_filter
            from kiboko.files.flow_judging import FlowJudge
            from kiboko.files.flow_pieces import flow_files

            judge = FlowJudge(comparison, summary, args.strict, time_filter(args.since, args.until),
                              columns=read_column_map(args.columns) if args.columns else USUAL)  # fmt: skip
            caveats.extend(judge.take(flow_files(args.flows), cluster=args.cluster))
            if judge.left_out:
                caveats.append(f"{judge.left_out:,} flow records are not of the time asked for, and left out")
            coverage = judge.coverage
    older = Walker(load_network(args.older)) if args.older else None
    causes = Causes(walker, summary.groups.values(), older)
    if args.json:
        print(json.dumps(confirm_json(summary, causes, caveats, coverage), indent=1))
    else:
        show_confirm(summary, causes, caveats, args.all, Output(), coverage)
    if args.plot is not None:
        if coverage is None:
            raise UsageError("--plot draws flow records over time: give --flows")
        from kiboko.views.flow_figures import draw_findings

        draw_findings(coverage, walker.topology, args.plot)
    return 1 if summary.totals[LEAK] or summary.totals[BREAK] else 0


def _take_probes(path: Path, strict: bool, comparison: Comparison, summary: Summary) -> list[str]:
    """Hold a file of probe records against the rules; what was rejected, in sentences."""
    rejects = Rejects(str(path), strict)
    for number, record in enumerate(read_probes(path, rejects), 1):
        try:
            summary.add(record, comparison.probe(record))
        except UsageError as error:
            rejects.note("ends that the network does not know", str(error), number)
    return rejects.sentences()
