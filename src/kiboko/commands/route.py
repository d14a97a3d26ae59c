"""`kiboko route FROM TO`: each hop, the entry that won and the ones it beat."""

from __future__ import annotations

import argparse
import json

from kiboko.commands.options import add_examples, add_network_option, network_of
from kiboko.core.queries.ends import Ends
from kiboko.core.queries.pair import ask_ways
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output
from kiboko.views.route_view import route_json, show_route


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `route`."""
    parser.add_argument("source", metavar="FROM", help="an instance, instance/interface or address")
    parser.add_argument("destination", metavar="TO", help="likewise")
    add_network_option(parser)
    family = parser.add_mutually_exclusive_group()
    family.add_argument("-4", action="store_const", const=4, dest="family", help="IPv4 only")
    family.add_argument("-6", action="store_const", const=6, dest="family", help="IPv6 only")
    parser.add_argument("--json", action="store_true", help="machine-readable, route/1")
    add_examples(parser, "route desk-1 forecast-2", "route gauge-03 ingest-1 --json", "route 198.51.100.20 gauge-07 -4")


def run(args: argparse.Namespace) -> int:
    """Show the way, and return 0 where request and reply are routed, else 1."""
    ends = Ends(Walker(network_of(args)))
    ways = ask_ways(ends, ends.resolve(args.source), ends.resolve(args.destination), args.family)
    if args.json:
        print(json.dumps(route_json(ways), indent=1))
    else:
        show_route(ways, Output())
    return 0 if ways.stop is None else 1
