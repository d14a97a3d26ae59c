"""`kiboko check FROM TO SERVICE`."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kiboko.commands.fixing import add_fix_options, fixes_of, write_change
from kiboko.commands.options import (
    FLOWS_HELP,
    add_cluster_option,
    add_columns_option,
    add_conditions_option,
    add_examples,
    add_family_option,
    add_network_option,
    add_time_options,
    client_ports_of,
    lines_shown,
    network_of,
    refuse_without_evidence,
    with_conditions,
)
from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.edits import with_rule_enabled, without_rule
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.members import End
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.pair import Answer, ask
from kiboko.core.queries.proposals import proposals
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN, Walker
from kiboko.views.check_view import CheckAnswer, Shown, check_json, show_check
from kiboko.views.output import Output, working

if TYPE_CHECKING:
    from kiboko.batch.ticket import Ticket
    from kiboko.views.fixes_view import Fix


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
        "--with",
        metavar="FILTER/RULE",
        action="append",
        default=[],
        dest="with_",
        help="as if this rule were enabled, and its condition held",
    )
    add_conditions_option(parser)
    parser.add_argument("--change", metavar="FILE", type=Path, help="as if the change of this change file were made")
    add_family_option(parser)
    parser.add_argument("-a", "--all-gates", action="store_true", help="show gates with nothing attached too")
    parser.add_argument("--reply", action="store_true", help="show the reply's gates also where no request arrives")
    parser.add_argument(
        "--only", choices=(ALLOWED, BLOCKED, PARTLY, ONE_WAY, UNKNOWN), help="of sets: only outcomes of this verdict"
    )
    parser.add_argument("--full", action="store_true", help="of sets: every outcome, name and combination")
    parser.add_argument("--top", metavar="N", type=lines_shown, help="of sets: the first N outcomes (of many, 20)")
    add_fix_options(parser)
    seen = parser.add_argument_group("what was seen of this very traffic, shown right below the verdict")
    seen.add_argument("--flows", metavar="PATH", type=Path, action="append", default=[],
                      help=FLOWS_HELP)  # fmt: skip
    seen.add_argument("--probes", metavar="FILE", type=Path, action="append", default=[],
                      help="probe records (JSON Lines); repeatable")  # fmt: skip
    seen.add_argument("--probe", action="store_true", help="send one probe now, from this machine")
    seen.add_argument("--as", metavar="NAME", dest="sender",
                      help="which endpoint of the network file this machine is; --probe needs it")  # fmt: skip
    add_time_options(seen)
    add_columns_option(seen)
    add_cluster_option(seen)
    parser.add_argument("--json", action="store_true", help="machine-readable, check/1 or check-set/1")
    add_examples(parser, "check desk-1 forecast-1 forecast-api",
                 "check 192.0.2.14 relay-1 ssh --without bank-edge/inbound/20",
                 "check internet gauges ssh --only allowed",
                 "check desk-1 forecast-1 forecast-api --fixes",
                 "check 192.0.2.14 relay-1 ssh --stop --write-change stop.yaml",
                 "check gauge-08 relay-2 tcp/9100 --flows evidence/flows.csv --probes evidence/probes.jsonl",
                 "check bench-pc lamp reading -n loopback/network.yaml --probe --as bench-pc")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Answer, show, and return 0 where all is allowed and nothing that was seen contradicts it, else 1."""
    refuse_without_evidence(args)
    if args.probe != (args.sender is not None):
        raise UsageError("--probe sends from this machine: say with --as which endpoint of the network file it is"
                         if args.probe else "--as says who sends a probe: give --probe too")  # fmt: skip
    if args.expectations and not (args.fixes or args.stop):
        raise UsageError("--expectations are what each fix is held to: it goes with --fixes or --stop")
    as_it_is = topology = network_of(args)
    if args.change is not None:
        from kiboko.files.changes.applying import changed
        from kiboko.files.changes.change_file import read_change

        topology = changed(args.network, read_change(args.change), args.files_elsewhere)[0]
    for rule in args.without:
        topology = without_rule(topology, rule)
    for rule in args.with_:
        topology = with_rule_enabled(topology, rule)
    topology = with_conditions(args, topology)
    walker = Walker(topology)
    ends = Ends(walker)
    source, destination = ends.resolve(args.source), ends.resolve(args.destination)
    services = resolve_service(args.service, topology.services)
    ports = client_ports_of(args)
    answer = ask(ends, source, destination, services, ports, args.family)
    # What was seen is held against the network file as it is: evidence knows nothing of a change that is being tried.
    flow = answer.walk.flow if answer is not None and answer.destination_address is not None else None
    asked = (source, destination), (flow.source.address, flow.target) if flow is not None else None
    seen = _seen(walker if topology is as_it_is else Walker(as_it_is), *asked, services, ports, args)
    if answer is None:
        if args.fixes or args.stop or args.write_change:
            raise UsageError("--fixes, --stop and --write-change are about one sender, one receiver and one service:"
                             " name single ones")  # fmt: skip
        return _check_sets(ends, source, destination, services, ports, args, seen)
    return _show_pair(walker, answer, args, seen)


def _seen(
    walker: Walker, asked: tuple[End, End], addresses: tuple[Address, Address] | None, services: RangeSet,
    ports: RangeSet | None, args: argparse.Namespace,
) -> Ticket | None:  # fmt: skip
    """What logs, probes and a probe sent now say of the question; None where nothing of the kind is asked for."""
    if not (args.flows or args.probes or args.probe):
        return None
    from kiboko.batch.confirming import FlowsRead
    from kiboko.batch.probes_read import ProbesRead, times_of
    from kiboko.batch.ticket import Question, ticket_of

    sent = None
    if args.probe:
        from kiboko.commands.probe import probe_now

        sent = probe_now(Ends(walker), asked, services, ports, args.family, args.sender)
    flows = probes = None
    if args.probes:
        probes = ProbesRead(args.probes, args.strict, times_of(args.since, args.until))
    if args.flows:
        flows = FlowsRead(args.flows, args.strict, args.since, args.until, args.columns, args.cluster)
    with working("looking for this traffic in what was recorded"):
        question = Question(*asked, services, ports, addresses)
        return ticket_of(walker, question, probes, flows, sent)


def _asked(args: argparse.Namespace) -> list[tuple[str, str]]:
    """What an answer rests on beside the network file, as option and value."""
    change = [("change", str(args.change))] if args.change is not None else []
    held = [("conditions", args.conditions)] if args.conditions is not None else []
    return change + [("without", rule) for rule in args.without] + [("with", rule) for rule in args.with_] + held


def _check_sets(
    ends: Ends, source: End, destination: End, services: RangeSet, ports: RangeSet | None, args: argparse.Namespace,
    seen: Ticket | None,
) -> int:  # fmt: skip
    from kiboko.core.reachability.sets import ask_set
    from kiboko.views.set_view import SetShown, options_text, set_json, show_set

    with working("walking every distinct kind of pair"):
        answer = ask_set(ends, source, destination, services, ports, args.family)
    asked = _asked(args)
    with_ports = [("client-ports", args.client_ports)] if args.client_ports else []
    shown = SetShown(
        args.source, args.destination, args.service, [f"{option} {value}" for option, value in asked],
        options_text(args.network, [*with_ports, *asked]), args.only, args.full, args.top,
    )  # fmt: skip
    if args.json:
        print(json.dumps(set_json(answer, shown) | _seen_json(seen, args), indent=1))
    else:
        out = Output()
        show_set(answer, shown, ends, out)
        _show_seen(seen, args, out, True)
    is_allowed = all(row.example.verdict == ALLOWED for row in answer.rows)
    return 0 if is_allowed and not (seen is not None and seen.is_contradicted) else 1


def _seen_json(seen: Ticket | None, args: argparse.Namespace) -> dict[str, Any]:
    """What was seen, as a field of its own where anything was asked for."""
    if seen is None:
        return {}
    from kiboko.views.ticket_view import ticket_json

    return {"evidence": ticket_json(seen, args.network)}


def _show_seen(seen: Ticket | None, args: argparse.Namespace, out: Output, is_set: bool = False) -> None:
    if seen is None:
        return
    from kiboko.views.ticket_view import show_ticket

    show_ticket(seen, out, is_set)
    if _asked(args):
        out.line("  (held against the network file as it is, without what is being tried)", "quiet")


def _show_pair(walker: Walker, answer: Answer, args: argparse.Namespace, seen: Ticket | None) -> int:
    walk = answer.walk
    found = proposals(walker, walk)
    fixes: list[Fix] = []
    if args.fixes or args.stop:
        fixes = fixes_of(args, walker, walk, found)
    written = ""
    if args.write_change is not None:
        written = write_change(args, walk, [fixes[0].proposal] if args.stop else found.each,
                               found.verdict_with_all)  # fmt: skip
    shown = CheckAnswer(
        walk,
        answer.source_name,
        answer.destination_name,
        answer.destination_address,
        near_misses(walker, walk),
        found,
        list(dict.fromkeys([*walk.caveats, *answer.caveats, *(seen.caveats if seen is not None else ())])),
        [f"{option} {value}" for option, value in _asked(args)],
        tuple(fixes),
        args.stop,
        written,
    )
    if args.json:
        print(json.dumps(check_json(shown) | _seen_json(seen, args), indent=1))
    else:
        out = Output()
        show_check(shown, out, Shown(args.all_gates, args.reply), lambda: _show_seen(seen, args, out))
    return 0 if walk.verdict == ALLOWED and not (seen is not None and seen.is_contradicted) else 1
