"""`kiboko replica verify`: the network rebuilt in kernel namespaces, and real packets against the walk."""

from __future__ import annotations

import argparse
import json
import time

from kiboko.commands.main import add_network_option
from kiboko.files.network_file import load_network
from kiboko.replica.verify import verify
from kiboko.views.output import Output, working
from kiboko.views.replica_view import show_verification, verification_json


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `replica`."""
    parser.add_argument("action", choices=["verify"], help="verify: build, probe all pairs, compare, take down")
    add_network_option(parser)
    parser.add_argument("--most", metavar="N", type=int, help="at most so many probes, drawn at random")
    parser.add_argument("--seed", metavar="N", type=int, default=0, help="for the draw, and for the client ports (0)")
    parser.add_argument("--json", action="store_true", help="machine-readable, replica/1")


def run(args: argparse.Namespace) -> int:
    """Verify, show, and return 0 without a difference, else 1."""
    topology = load_network(args.network)
    began = time.monotonic()
    with working("building the network from namespaces and probing it"):
        found = verify(topology, args.seed, args.most)
    seconds = time.monotonic() - began
    if args.json:
        print(json.dumps(verification_json(found, seconds), indent=1))
    else:
        show_verification(found, seconds, Output())
    return 1 if found.differences else 0
