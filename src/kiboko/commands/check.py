"""`kiboko check FROM TO SERVICE`."""

from __future__ import annotations

import argparse
import json

from kiboko.commands.options import add_examples, add_family_option, add_network_option, network_of
from kiboko.core.errors import UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import parse_ports
from kiboko.core.network.edits import with_rule_enabled, without_rule
from kiboko.core.queries.ends import End, Ends, resolve_service
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.pair import Answer, ask
from kiboko.core.queries.proposals import proposals
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN, Walker
from kiboko.views.check_view import CheckAnswer, Shown, check_json, show_check
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `check`."""
    ends = "an instance, instance/interface, address, block, subnet, network, group, outside, or any"
    parser.add_argument("source", metavar="FROM", help=ends)
    parser.add_argument("destination", metavar="TO", help="likewise")
    parser.add_argument("service", metavar="SERVICE", help="tcp/443, ssh, dns, icmp/echo-request, proto/47, any, …")
    add_network_option(parser)
    parser.add_argument("--client-ports", metavar="PORTS", help="the client's ports, such as 40000 or 1024-65535")
    parser.add_argument(
        "--without", metavar="FILTER/RULE", action="append", default=[], help="as if this rule were not there"
    )
    parser.add_argument(
        "--with", metavar="FILTER/RULE", action="append", default=[], dest="with_", help="as if this rule were enabled"
    )
    add_family_option(parser)
    parser.add_argument("-a", "--all-gates", action="store_true", help="show gates with nothing attached too")
    parser.add_argument("--reply", action="store_true", help="show the reply's gates also where no request arrives")
    parser.add_argument(
        "--only", choices=(ALLOWED, BLOCKED, PARTLY, ONE_WAY, UNKNOWN), help="of sets: only outcomes of this verdict"
    )
    parser.add_argument("--full", action="store_true", help="of sets: every name and combination")
    parser.add_argument("--json", action="store_true", help="machine-readable, check/1 or check-set/1")
    add_examples(parser, "check desk-1 forecast-1 forecast-api",
                 "check 192.0.2.14 relay-1 ssh --without bank-edge/inbound/20",
                 "check internet gauges ssh --only allowed")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Answer, show, and return 0 where all is allowed, else 1."""
    topology = network_of(args)
    for rule in args.without:
        topology = without_rule(topology, rule)
    for rule in args.with_:
        topology = with_rule_enabled(topology, rule)
    walker = Walker(topology)
    ends = Ends(walker)
    source, destination = ends.resolve(args.source), ends.resolve(args.destination)
    services = resolve_service(args.service, topology.services)
    ports = _client_ports(args.client_ports)
    answer = ask(ends, source, destination, services, ports, args.family)
    if answer is None:
        return _check_sets(ends, source, destination, services, ports, args)
    return _show_pair(walker, answer, args)


def _asked(args: argparse.Namespace) -> list[tuple[str, str]]:
    """What an answer rests on beside the network file, as option and value."""
    return [("without", rule) for rule in args.without] + [("with", rule) for rule in args.with_]


def _check_sets(
    ends: Ends, source: End, destination: End, services: RangeSet, ports: RangeSet | None, args: argparse.Namespace
) -> int:
    from kiboko.core.reachability.sets import ask_set
    from kiboko.views.set_view import SetShown, options_text, set_json, show_set

    with working("walking every distinct kind of pair"):
        answer = ask_set(ends, source, destination, services, ports, args.family)
    asked = _asked(args)
    with_ports = [("client-ports", args.client_ports)] if args.client_ports else []
    shown = SetShown(
        args.source, args.destination, args.service, [f"{option} {value}" for option, value in asked],
        options_text(args.network, [*with_ports, *asked]), args.only, args.full,
    )  # fmt: skip
    if args.json:
        print(json.dumps(set_json(answer, shown), indent=1))
    else:
        show_set(answer, shown, Output())
    return 0 if all(row.example.verdict == ALLOWED for row in answer.rows) else 1


def _client_ports(text: str | None) -> RangeSet | None:
    try:
        return parse_ports(text) if text else None
    except ValueError as error:
        raise UsageError(f"--client-ports: {error}") from error


def _show_pair(walker: Walker, answer: Answer, args: argparse.Namespace) -> int:
    walk = answer.walk
    shown = CheckAnswer(
        walk,
        answer.source_name,
        answer.destination_name,
        answer.destination_address,
        near_misses(walker, walk),
        proposals(walker, walk),
        list(dict.fromkeys([*walk.caveats, *answer.caveats])),
        [f"{option} {value}" for option, value in _asked(args)],
    )
    if args.json:
        print(json.dumps(check_json(shown), indent=1))
    else:
        show_check(shown, Output(), Shown(args.all_gates, args.reply))
    return 0 if walk.verdict == ALLOWED else 1
