"""`kiboko confirm --probes FILE --flows FILE`: rules against evidence."""

from __future__ import annotations

import argparse
from pathlib import Path

from kiboko.batch.confirming import confirmed
from kiboko.commands.options import (
    FLOWS_HELP,
    add_cluster_option,
    add_columns_option,
    add_examples,
    add_network_option,
    add_time_options,
    lines_shown,
    network_of,
)
from kiboko.commands.streams import write_while_read
from kiboko.core.errors import UsageError
from kiboko.core.walk.walk import Walker
from kiboko.files.network.kept import load_kept
from kiboko.views.confirm_view import FindingsShown, confirm_json_text, show_confirm
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `confirm`."""
    add_network_option(parser)
    parser.add_argument(
        "--probes",
        metavar="FILE",
        type=Path,
        nargs="+",
        action="extend",
        default=[],
        help="probe records (JSON Lines); repeatable",
    )
    parser.add_argument(
        "--flows",
        metavar="PATH",
        type=Path,
        nargs="+",
        action="extend",
        default=[],
        help=FLOWS_HELP,
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
    parser.add_argument("--by", choices=("rule", "pair"), default="rule",
                        help="many findings by the rule that decides (the default), or every pair")  # fmt: skip
    parser.add_argument("--top", metavar="N", type=lines_shown,
                        help="of each kind of findings the first N lines (20 by rule, all by pair)")  # fmt: skip
    parser.add_argument("--json", action="store_true", help="machine-readable, confirm/1")
    add_examples(
        parser,
        "confirm --flows evidence/flows.csv",
        "confirm --probes evidence/probes.jsonl --flows evidence/flows.csv",
        "confirm --flows evidence/flows.csv --plot findings.png",
    )


def run(args: argparse.Namespace) -> int:
    """Compare, show, and return 0 where records agree and there is no leak or break, and nothing that may be one for
    all that is recorded of its time, else 1: no agreement that was not seen."""
    if not args.probes and not args.flows:
        raise UsageError("give evidence: --probes FILE, --flows FILE, or both")
    if args.plot is not None:
        from kiboko.views.figures import check_figure

        if not args.flows:
            raise UsageError("--plot draws flow records over time: give --flows")
        check_figure(args.plot)
    walker = Walker(network_of(args))
    older = Walker(load_kept(args.older)) if args.older else None
    with working("holding records against the rules"):
        done = confirmed(
            walker, args.probes, args.flows, args.strict, since=args.since, until=args.until, columns=args.columns,
            cluster=args.cluster, older=older,
        )  # fmt: skip
    summary, causes, caveats, coverage = done.summary, done.causes, done.caveats, done.coverage
    if args.json:
        write_while_read(confirm_json_text(summary, causes, caveats, coverage))
    else:
        show_confirm(summary, causes, caveats, FindingsShown(args.all, args.by == "pair", args.top), Output(),
                     coverage)  # fmt: skip
    if args.plot is not None and coverage is not None:
        from kiboko.views.flow_figures import draw_findings

        draw_findings(coverage, walker.topology, args.plot)
    return 0 if summary.agrees else 1
