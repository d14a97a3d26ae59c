"""`kiboko compare OLD NEW`."""

from __future__ import annotations

import argparse
import json

from kiboko.commands.options import add_difference_options, add_examples, add_reading_options, network_of
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `compare`."""
    parser.add_argument("old", metavar="OLD", help="a network file or folder, as it was")
    parser.add_argument("new", metavar="NEW", help="and as it is, or is to be")
    add_reading_options(parser)
    add_difference_options(parser, "compare/1")
    add_examples(
        parser, "compare network.yaml clean/network.yaml", "compare network.yaml clean/network.yaml --service ssh"
    )


def run(args: argparse.Namespace) -> int:
    """Compare, show, and return 1 where anything differs."""
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.difference import difference
    from kiboko.views.compare_view import CompareShown, compare_json, show_difference

    both = [network_of(argparse.Namespace(**{**vars(args), "network": path})) for path in (args.old, args.new)]
    ends = Ends(Walker(both[0])), Ends(Walker(both[1]))
    services = resolve_service(args.service, both[1].services)
    with working("looking at every pair of ends in both"):
        found = difference(*ends, services, args.family, spread=spread)
    shown = CompareShown(args.old, args.new, args.full, args.top)
    if args.json:
        print(json.dumps(compare_json(found, shown, ends), indent=1))
    else:
        show_difference(found, shown, ends, Output())
    return 1 if found.said else 0
