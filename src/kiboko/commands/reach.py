"""`kiboko reach NAME`."""

from __future__ import annotations

import argparse
import json

from kiboko.commands.options import (
    add_conditions_option,
    add_examples,
    add_family_option,
    add_network_option,
    client_ports_of,
    conditions_said,
    conditions_told,
    lines_shown,
    network_of,
    with_conditions,
)
from kiboko.core.errors import UsageError
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import ALLOWED, Walker
from kiboko.views.output import Output, working
from kiboko.views.text import network_option


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `reach`."""
    parser.add_argument("name", metavar="NAME", help="an instance, instance/interface, address, block, subnet, network,"
                        " group, outside, or any")  # fmt: skip
    add_network_option(parser)
    parser.add_argument("--out", action="store_true", help="what NAME can reach, rather than what can reach it")
    parser.add_argument("--service", metavar="SERVICE", default="any", help="only this service (any)")
    parser.add_argument("--except", metavar="NAME", action="append", default=[], dest="excepted",
                        help="leave these ends out; repeatable")  # fmt: skip
    parser.add_argument("--only", choices=("recorded", "outside"),
                        help="look only for recorded instances, or only for what lies outside")  # fmt: skip
    parser.add_argument("--through", metavar="N", type=int,
                        help="also by way of machines that may be logged in to, in at most N connections")  # fmt: skip
    parser.add_argument("--doors", action="store_true",
                        help="also what does not get through: every gate that would stop it by itself")  # fmt: skip
    parser.add_argument("--client-ports", metavar="PORTS", help="the client's ports, such as 40000 or 1024-65535")
    add_family_option(parser)
    add_conditions_option(parser)
    parser.add_argument("--top", metavar="N", type=lines_shown, default=20, help="as many lines of each kind (20)")
    parser.add_argument("--full", action="store_true", help="every name and rule of a line")
    parser.add_argument("--json", action="store_true", help="machine-readable, reach/1")
    add_examples(parser, "reach database", "reach gauges --service ssh --doors", "reach --out internet",
                 "reach database --only outside --through 3")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Answer, show, and return 0 where all that gets through does so whole, else 1."""
    from kiboko.core.reachability.doors import doors
    from kiboko.core.reachability.naming import Namer
    from kiboko.core.reachability.reach import ReachQuestion, reach
    from kiboko.core.reachability.stepping_stones import stepping_stones
    from kiboko.views.reach_view import ReachShown, reach_json, show_chains, show_doors, show_reach

    if args.through is not None and args.out:
        raise UsageError("--through looks for who gets to NAME by way of other machines: it goes without --out")
    if args.through is not None and args.through < 2:
        raise UsageError(f"--through {args.through}: a chain by way of a machine has 2 connections at least")
    topology = with_conditions(args, network_of(args))
    ends = Ends(Walker(topology))
    services = resolve_service(args.service, topology.services)
    question = ReachQuestion(
        ends.resolve(args.name), services, args.out, args.family, tuple(ends.resolve(each) for each in args.excepted),
        args.only, client_ports_of(args),
    )  # fmt: skip
    with working("looking at every pair of ends"):
        answer = reach(ends, question)
        chains = stepping_stones(ends, question, topology.logins, args.through) if args.through is not None else None
        locked = doors(ends, question) if args.doors else None
    namer = Namer(ends)
    options = network_option(args.network) + (f" --client-ports {args.client_ports}" if args.client_ports else "")
    options += conditions_told(args)
    shown = ReachShown(args.name, args.service, args.out, options, args.full, args.top, services)
    if args.json:
        print(json.dumps(reach_json(answer, shown, namer, chains, locked), indent=1))
    else:
        out = Output()
        if args.conditions is not None:
            out.line(conditions_said(args), "quiet")
        show_reach(answer, shown, namer, question.name.members, out)
        if chains is not None:
            show_chains(chains, shown, namer, out)
        if locked is not None:
            show_doors(locked, shown, namer, out)
    return 0 if all(line.verdict == ALLOWED for line in answer.lines) else 1
