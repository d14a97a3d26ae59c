"""`kiboko rehearse [CHANGED]`."""

from __future__ import annotations

import argparse
import json
from datetime import date
from pathlib import Path

from kiboko.commands.options import add_difference_options, add_examples, add_network_option, network_of
from kiboko.core.errors import UsageError
from kiboko.core.network.edits import is_enabled
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `rehearse`."""
    parser.add_argument("changed", metavar="CHANGED", nargs="?", help="the network file as it is to be")
    parser.add_argument("--toggle", metavar="FILTER/RULE", action="append", default=[],
                        help="switch a rule on or off, rather than a whole file; repeatable")  # fmt: skip
    add_network_option(parser)
    parser.add_argument("--file", metavar="FILE", type=Path, action="append", default=[],
                        help="expectations of a file of their own as well; repeatable")  # fmt: skip
    add_difference_options(parser, "rehearse/1")
    add_examples(
        parser, "rehearse --toggle bank-edge/inbound/20", "rehearse clean/network.yaml --file expectations.yaml"
    )


def run(args: argparse.Namespace) -> int:
    """Rehearse, show, and return 1 where it breaks an expectation or brings a finding."""
    from kiboko.core.changes.rehearsing import rehearse, toggled
    from kiboko.views.compare_view import CompareShown
    from kiboko.views.rehearse_view import rehearsal_json, show_rehearsal

    if (args.changed is None) == (not args.toggle):
        raise UsageError("say what is to change: the network file as it is to be, or --toggle FILTER/RULE")
    before = network_of(args)
    if args.changed is not None:
        after = network_of(argparse.Namespace(**{**vars(args), "network": args.changed}))
    else:
        after = toggled(before, args.toggle)
    expectations = list(before.expectations)
    if args.file:
        from kiboko.files.expectations.reading import read_expectations

        expectations += [each for path in args.file for each in read_expectations(path, before.services)]
    old = Walker(before)
    ends = Ends(old), Ends(old.on(after))
    with working("looking at every pair that the change can touch"):
        services = resolve_service(args.service, after.services)
        found = rehearse(*ends, services, args.family, date.today(), expectations)
    words = [f" --{'without' if is_enabled(before, rule) else 'with'} {rule}" for rule in args.toggle]
    shown = CompareShown(args.network, args.changed or args.network, args.full, args.top, "".join(words))
    if args.json:
        print(json.dumps(rehearsal_json(found, shown, ends), indent=1))
    else:
        show_rehearsal(found, shown, ends, Output())
    return 1 if found.broken or found.brought else 0
