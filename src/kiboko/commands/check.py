"""`kiboko check FROM TO SERVICE`."""

from __future__ import annotations

import argparse
import json

from kiboko.commands.main import add_network_option
from kiboko.core.endpoints import End, Ends, resolve_service
from kiboko.core.errors import UsageError
from kiboko.core.explain import near_misses, suggestions, toggled, verdict_with_all
from kiboko.core.question import Answer, ask
from kiboko.core.ranges import RangeSet
from kiboko.core.services import parse_ports
from kiboko.core.walk import ALLOWED, Walker
from kiboko.files.network_file import load_network
from kiboko.views.check_view import CheckAnswer, check_json, show_check
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `check`."""
    parser.add_argument("source", metavar="FROM", help="an instance, instance/interface, address, block, subnet, group")
    parser.add_argument("destination", metavar="TO", help="likewise")
    parser.add_argument("service", metavar="SERVICE", help="tcp/443, ssh, dns, icmp/echo-request, proto/47, any, …")
    add_network_option(parser)
    parser.add_argument("--source-ports", metavar="PORTS", help="the client's ports, such as 40000 or 1024-65535")
    parser.add_argument(
        "--without", metavar="FILTER/RULE", action="append", default=[], help="as if this rule were not there"
    )
    parser.add_argument(
        "--with", metavar="FILTER/RULE", action="append", default=[], dest="with_", help="as if this rule were enabled"
    )
    family = parser.add_mutually_exclusive_group()
    family.add_argument("-4", action="store_const", const=4, dest="family", help="IPv4 only")
    family.add_argument("-6", action="store_const", const=6, dest="family", help="IPv6 only")
    parser.add_argument("--json", action="store_true", help="machine-readable, check/1")


def run(args: argparse.Namespace) -> int:
    """Answer, show, and return 0 where all is allowed, else 1."""
    topology = load_network(args.network)
    for rule in args.without:
        topology = toggled(topology, rule, enabled=False)
    for rule in args.with_:
        topology = toggled(topology, rule, enabled=True)
    walker = Walker(topology)
    ends = Ends(walker)
    source, destination = ends.resolve(args.source), ends.resolve(args.destination)
    services = resolve_service(args.service, topology.services)
    ports = _source_ports(args.source_ports)
    answer = ask(ends, source, destination, services, ports, args.family)
    if answer is None:
        return _check_sets(ends, source, destination, services, ports, args)
    return _show_pair(walker, answer, args)


def _check_sets(
    ends: Ends, source: End, destination: End, services: RangeSet, ports: RangeSet | None, args: argparse.Namespace
) -> int:
    from kiboko.core.sets import ask_set
    from kiboko.views.set_view import set_json, show_set

    with working("walking every distinct kind of pair"):
        answer = ask_set(ends, source, destination, services, ports, args.family)
    if args.json:
        print(json.dumps(set_json(answer, args.source, args.destination, args.service), indent=1))
    else:
        show_set(answer, args.source, args.destination, Output())
    return 0 if all(row.example.verdict == ALLOWED for row in answer.rows) else 1


def _source_ports(text: str | None) -> RangeSet | None:
    try:
        return parse_ports(text) if text else None
    except ValueError as error:
        raise UsageError(f"--source-ports: {error}") from error


def _show_pair(walker: Walker, answer: Answer, args: argparse.Namespace) -> int:
    walk = answer.walk
    shown = CheckAnswer(
        walk,
        answer.source_name,
        answer.destination_name,
        answer.destination_address,
        near_misses(walker, walk),
        suggestions(walker, walk),
        verdict_with_all(walker, walk),
        list(dict.fromkeys([*walk.caveats, *answer.caveats])),
        [f"without {rule}" for rule in args.without] + [f"with {rule}" for rule in args.with_],
    )
    if args.json:
        print(json.dumps(check_json(shown), indent=1))
    else:
        show_check(shown, Output())
    return 0 if walk.verdict == ALLOWED else 1
