"""`kiboko matrix`."""

from __future__ import annotations

import argparse
import contextlib
import io
import json
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.commands.options import (
    add_conditions_option,
    add_examples,
    add_family_option,
    add_network_option,
    conditions_said,
    conditions_told,
    is_output,
    lines_shown,
    network_of,
    refuse_two_outputs,
    with_conditions,
)
from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working
from kiboko.views.text import network_option

if TYPE_CHECKING:
    from kiboko.core.changes.cells import CellsCompared
    from kiboko.core.reachability.matrix import Matrix, MatrixQuestion

_MOST_SERVICES = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `matrix`."""
    add_network_option(parser)
    parser.add_argument("--by", metavar="WHAT", default="group",
                        help="group (the default), zone, subnet, network, tag:KEY, or names with commas")  # fmt: skip
    parser.add_argument("--service", metavar="SERVICE", action="append", default=[],
                        help="this service; repeatable (those that rules speak of most)")  # fmt: skip
    parser.add_argument("--every-address", action="store_true",
                        help="with the addresses of subnets where nobody is recorded")  # fmt: skip
    parser.add_argument("--against", metavar="OTHER", help="another network file: only what differs from it")
    add_family_option(parser)
    add_conditions_option(parser)
    parser.add_argument("--plot", metavar="FILE", type=Path, help="draw it, as .png or .svg (extra: plot)")
    parser.add_argument("--csv", metavar="FILE", type=Path, help="write every cell as CSV, - for standard output")
    parser.add_argument("--top", metavar="N", type=lines_shown, default=60, help="as many cells in words (60)")
    parser.add_argument("--json", action="store_true", help="machine-readable, matrix/1")
    add_examples(parser, "matrix", "matrix --by zone --service ssh", "matrix --by tag:role --plot matrix.png",
                 "matrix --by gauges,relays,crews,internet --service ssh --service telemetry")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Work it out, show it, write what is wanted. 0, or 1 where it differs from another network file."""
    from kiboko.batch.spanning import matrix_of
    from kiboko.views.matrix_view import (
        MatrixShown,
        matrix_json,
        show_differences,
        show_matrix,
        write_csv,
    )

    if args.plot is not None:
        from kiboko.views.figures import check_figure

        check_figure(args.plot)
    if args.csv is not None:
        from kiboko.files.documents.saving import check_writable

        refuse_two_outputs(args, "csv")
        check_writable(args.csv, b"from,to,service")
    ends = Ends(Walker(with_conditions(args, network_of(args))))
    other = Ends(Walker(_other(args))) if args.against is not None else None
    with working("looking at every pair of ends"):
        question = _question(ends, args, None)
        matrix = matrix_of(question)
        found = _against(other, ends, args, question, matrix) if other is not None else None
    status = int(found is not None and found.is_other)
    if args.plot is not None:
        from kiboko.views.matrix_figure import draw_matrix

        draw_matrix(matrix, args.plot)
    if args.csv is not None:
        from kiboko.files.documents.saving import write_whole

        text = io.StringIO(newline="")
        write_csv(matrix, text)
        write_whole(args.csv, text.getvalue().encode())
    family = f" -{args.family}" if args.family else ""
    options = network_option(args.network) + family + conditions_told(args)
    shown = MatrixShown(args.by, options, args.top, args.network, args.against)
    if is_output(args.csv):
        return status
    if args.conditions is not None and not args.json:
        Output().line(conditions_said(args), "quiet")
    if args.json:
        print(json.dumps(matrix_json(matrix, shown, found), indent=1))
    elif found is not None:
        show_differences(matrix, found, shown, Output())
    else:
        show_matrix(matrix, shown, Output())
    return status


def _other(args: argparse.Namespace) -> Topology:
    """The network file that is compared with."""
    return with_conditions(args, network_of(argparse.Namespace(**{**vars(args), "network": args.against})))


def _question(ends: Ends, args: argparse.Namespace, as_in: Ends | None) -> MatrixQuestion:
    """What is asked of one network file; its usual services are those of another one where it is compared with that."""
    from kiboko.core.reachability.matrix import MatrixQuestion, axis_names, usual_services

    if args.service:
        services = [(text, resolve_service(text, ends.topology.services)) for text in dict.fromkeys(args.service)]
    else:
        services = usual_services(ends if as_in is None else as_in, _MOST_SERVICES)
    if not services:
        raise UsageError("no rule and no listener speaks of a service: say which with --service")
    return MatrixQuestion(ends, axis_names(ends, args.by), services, args.family, args.every_address)


def _against(old: Ends, new: Ends, args: argparse.Namespace, question: MatrixQuestion, matrix: Matrix) -> CellsCompared:
    """What of a matrix differs from that of another network file, for pairs within its cells as well."""
    from kiboko.batch.spanning import matrix_of, spread
    from kiboko.core.changes.cells import alike_in_part, compared, turned_within
    from kiboko.core.changes.difference import difference

    asked_before = _question(old, args, new)
    before = matrix_of(asked_before)
    within = None
    if alike_in_part(matrix, before).any():
        asked = RangeSet.of(pair for _, each in question.services for pair in each)
        with contextlib.suppress(UsageError):  # too many pairs: it is said that nothing is known of them
            found = difference(old, new, asked, args.family, spread=spread)
            within = turned_within(question.names, asked_before.names, question.services, found, args.every_address)
    return compared(matrix, before, within)
