"""`kiboko show NAME`: one thing and everything in force around it."""

from __future__ import annotations

import argparse
import contextlib
import json

from kiboko.commands.options import add_examples, add_network_option, network_of
from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import parse_meant, reads_as_address
from kiboko.core.header.services import WELL_KNOWN, parse_services
from kiboko.core.hints import nearest
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.inspection import end_addresses
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output
from kiboko.views.sheet import Sheet, sheet_json, show_sheet
from kiboko.views.show_view import Shower
from kiboko.views.text import network_option


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `show`."""
    parser.add_argument(
        "name",
        metavar="NAME",
        help="an instance, interface, subnet, filter, group, zone, gateway, outside, service, or any address",
    )
    add_network_option(parser)
    parser.add_argument("--service", metavar="SERVICE", help="only the rules that could match this service")
    parser.add_argument("--peer", metavar="NAME", help="only the rules that could match this other end")
    parser.add_argument("--json", action="store_true", help="machine-readable, show/1")
    add_examples(parser, "show relay-1", "show gauges", "show https", "show relay-1 --service ssh --peer 198.51.100.20")


def run(args: argparse.Namespace) -> int:
    """Show, and return 0."""
    walker = Walker(network_of(args))
    ends = Ends(walker)
    services = resolve_service(args.service, walker.topology.services) if args.service else None
    peers = end_addresses(ends.resolve(args.peer)) if args.peer else None
    sheet = _sheet(Shower(walker, services, peers, network_option(args.network)), ends, args.name)
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
            return shower.address(parse_meant(name))
        except ValueError as error:
            raise UsageError(f"'{name}' is not one address; show takes one, or a name") from error
    topology = ends.topology
    with contextlib.suppress(ValueError):
        return shower.service(name, parse_services(name, topology.services))
    names = [*ends.known_names(), *topology.filters, *topology.zones, *topology.gateways, *topology.route_tables,
             *topology.services, *WELL_KNOWN]  # fmt: skip
    raise UsageError(f"nothing in the network is called '{name}'" + nearest(name, names, 3, 0.5))
