"""`kiboko expect`."""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from kiboko.commands.options import add_examples, add_network_option, network_of
from kiboko.core.errors import UsageError
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working
from kiboko.views.text import network_option

_MOST_SERVICES = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `expect`."""
    add_network_option(parser)
    parser.add_argument("--file", metavar="FILE", type=Path, action="append", default=[],
                        help="expectations of a file of their own as well; repeatable")  # fmt: skip
    parser.add_argument("--table", metavar="FILE", type=Path, action="append", default=[],
                        help="a CSV table of wanted connections (from, to, service, …); repeatable")  # fmt: skip
    parser.add_argument("--id", metavar="ID", action="append", default=[], help="only this expectation; repeatable")
    parser.add_argument("--every", action="store_true", help="list those that are held as well")
    parser.add_argument("--draft", action="store_true",
                        help="print a first set, of what holds between groups and outsides today")  # fmt: skip
    parser.add_argument("--junit", metavar="FILE", type=Path, help="write JUnit XML as well")
    parser.add_argument("--json", action="store_true", help="machine-readable, expect/1")
    add_examples(parser, "expect --file expectations.yaml", "expect --table wanted.csv", "expect --draft")


def run(args: argparse.Namespace) -> int:
    """Hold the network to its expectations. 0 where all are held, else 1."""
    from kiboko.core.changes.expecting import BROKEN, held
    from kiboko.views.expect_view import ExpectShown, expect_json, show_expectations, write_junit

    if args.junit is not None:
        from kiboko.files.documents.saving import check_writable

        check_writable(args.junit)
    topology = network_of(args)
    ends = Ends(Walker(topology))
    if args.draft:
        return _draft(ends)
    expectations = _chosen(topology, args)
    with working("looking at every pair that is promised something"):
        outcomes = held(ends, expectations)
    shown = ExpectShown(network_option(args.network), args.every)
    if args.junit is not None:
        from kiboko.files.documents.saving import written_whole

        with written_whole(args.junit) as temporary:
            write_junit(outcomes, shown, topology.name, temporary)
    if args.json:
        print(json.dumps(expect_json(outcomes, shown), indent=1))
    else:
        show_expectations(outcomes, shown, Output())
    return 1 if any(each.state == BROKEN for each in outcomes) else 0


def _chosen(topology: Topology, args: argparse.Namespace) -> list[Expectation]:
    """All expectations that are asked for. Raises InputError and UsageError."""
    found = list(topology.expectations)
    if args.file or args.table:
        from kiboko.files.expectations.reading import read_expectations, read_table

        for path in args.file:
            found += read_expectations(path, topology.services)
        for path in args.table:
            found += read_table(path, topology.services)
    if not found:
        raise UsageError("there is no expectation: write some into the network file ('expectations:'), or give --file"
                         " or --table; --draft prints a first set")  # fmt: skip
    known = {each.id for each in found}
    for name in args.id:
        if name not in known:
            from kiboko.core.hints import nearest

            raise UsageError(f"there is no expectation '{name}'{nearest(name, list(known), 3, 0.5)}")
    return [each for each in found if not args.id or each.id in args.id]


def _draft(ends: Ends) -> int:
    from kiboko.core.changes.expecting import draft
    from kiboko.core.reachability.matrix import usual_services
    from kiboko.views.expect_view import draft_yaml

    topology = ends.topology
    names = [*topology.groups, *topology.outsides] or [*topology.subnets, *topology.outsides]
    with working("looking at every pair of ends"):
        found = draft(ends, names, usual_services(ends, _MOST_SERVICES))
    print(draft_yaml(found), end="")
    return 0
