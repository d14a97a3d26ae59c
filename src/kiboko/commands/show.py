"""`kiboko show NAME`: one thing and everything in force around it."""

from __future__ import annotations

import argparse
import difflib
import json

from kiboko.commands.main import add_network_option
from kiboko.core.addresses import parse_address, reads_as_address
from kiboko.core.endpoints import Ends, resolve_service
from kiboko.core.errors import UsageError
from kiboko.core.inspection import end_addresses
from kiboko.core.walk import Walker
from kiboko.files.network_file import load_network
from kiboko.views.output import Output
from kiboko.views.sheet import Sheet, sheet_json, show_sheet
from kiboko.views.show_view import Shower


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `show`."""
    parser.add_argument(
        "name",
        metavar="NAME",
        help="an instance, interface, subnet, filter, group, zone, gateway, outside, or any address",
    )
    add_network_option(parser)
    parser.add_argument("--service", metavar="SERVICE", help="only the rules that could match this service")
    parser.add_argument("--from", metavar="PEER", dest="peer", help="only the rules that could match this other end")
    parser.add_argument("--json", action="store_true", help="machine-readable, show/1")


def run(args: argparse.Namespace) -> int:
    """Show, and return 0."""
    walker = Walker(load_network(args.network))
    ends = Ends(walker)
    services = resolve_service(args.service, walker.topology.services) if args.service else None
    peers = end_addresses(ends.resolve(args.peer)) if args.peer else None
    sheet = _sheet(Shower(walker, services, peers), ends, args.name)
    if args.json:
        print(json.dumps(sheet_json(sheet), indent=1))
    else:
        show_sheet(sheet, Output())
    return 0


def _sheet(shower: Shower, ends: Ends, name: str) -> Sheet:
    found = shower.sheet(name)
    if found is not None:
        return found
    if reads_as_address(name):
        try:
            return shower.address(parse_address(name))
        except ValueError as error:
            raise UsageError(f"'{name}' is not one address; show takes one, or a name") from error
    topology = ends.topology
    names = [*ends.known_names(), *topology.filters, *topology.zones, *topology.gateways, *topology.route_tables]
    close = difflib.get_close_matches(name, names, 3, 0.5)
    hint = f"; did you mean {', '.join(repr(each) for each in close)}?" if close else ""
    raise UsageError(f"nothing in the network is called '{name}'{hint}")
