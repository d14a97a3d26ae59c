"""`kiboko rehearse [CHANGE]`."""

from __future__ import annotations

import argparse
import json
import shlex
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.commands.options import (
    FLOWS_HELP,
    add_columns_option,
    add_difference_options,
    add_examples,
    add_network_option,
    add_time_options,
    columns_of,
    network_of,
    refuse_beside,
    refuse_without_evidence,
)
from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.services import Service
from kiboko.core.network.edits import is_enabled
from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working
from kiboko.views.text import network_option

if TYPE_CHECKING:
    from kiboko.core.changes.rehearsing import Rehearsal
    from kiboko.core.evidence.turning import Turned
    from kiboko.core.header.addresses import AddressSet
    from kiboko.core.header.ranges import RangeSet
    from kiboko.core.network.model import Topology
    from kiboko.core.queries.members import Member
    from kiboko.files.changes.kept_rehearsals import KeptExample
    from kiboko.views.compare_view import CompareShown

_FOLDER = Path("rehearsals")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `rehearse`."""
    parser.add_argument("change", metavar="CHANGE", nargs="?",
                        help="a change file, or the network file as it is to be (or REV:PATH)")  # fmt: skip
    parser.add_argument("--toggle", metavar="FILTER/RULE", action="append", default=[],
                        help="switch a rule on or off, rather than a whole change; repeatable")  # fmt: skip
    add_network_option(parser)
    parser.add_argument("--file", metavar="FILE", type=Path, action="append", default=[],
                        help="expectations of a file of their own as well; repeatable")  # fmt: skip
    add_difference_options(parser, "rehearse/1")
    seen = parser.add_argument_group("recorded traffic that the change would turn")
    seen.add_argument("--flows", metavar="PATH", type=Path, action="append", default=[],
                      help=FLOWS_HELP)  # fmt: skip
    add_time_options(seen)
    add_columns_option(seen)
    kept = parser.add_argument_group("rehearsals that are kept, and what came of the change")
    kept.add_argument("--save", metavar="NAME", help="keep what the change is to do under this name")
    kept.add_argument("--reason", metavar="TEXT", help="why the change is made (that of the change file)")
    kept.add_argument("--list", action="store_true", dest="listed", help="list those that are kept, and end")
    kept.add_argument("--after", metavar="NAME",
                      help="of one that was kept: does what was seen since show that the change did what it was to?"
                      " With --flows and --probes")  # fmt: skip
    kept.add_argument("--probes", metavar="FILE", type=Path, action="append", default=[],
                      help="with --after: probe records; repeatable")  # fmt: skip
    kept.add_argument("--folder", metavar="DIR", type=Path, default=_FOLDER, help="where they are kept (rehearsals)")
    add_examples(parser, "rehearse --toggle bank-edge/inbound/20", "rehearse changes/01-shut-out-the-met-office.yaml",
                 "rehearse clean/network.yaml --file expectations.yaml",
                 "rehearse changes/01-shut-out-the-met-office.yaml --flows evidence/flows.csv --save shut-out",
                 "rehearse --list")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Rehearse, show, and return 1 where it breaks an expectation or brings a finding."""
    refuse_without_evidence(args)
    _refuse(args)
    if args.listed:
        return _list(args)
    if args.after is not None:
        return _after(args)
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.rehearsing import rehearse
    from kiboko.views.compare_view import CompareShown
    from kiboko.views.rehearse_view import rehearsal_json, show_rehearsal

    before = network_of(args)
    after, words, reason = _changed(before, args)
    expectations = list(before.expectations)
    if args.file:
        from kiboko.files.expectations.reading import read_expectations

        expectations += [each for path in args.file for each in read_expectations(path, before.services)]
    if args.save is not None:
        from kiboko.files.changes.kept_rehearsals import path_of

        if path_of(args.folder, args.save).exists():
            raise UsageError(f"{path_of(args.folder, args.save)} is there already: choose another name, or remove it")
    old = Walker(before)
    ends = Ends(old), Ends(old.on(after))
    with working("looking at every pair that the change can touch"):
        services = resolve_service(args.service, after.services)
        found = rehearse(*ends, services, args.family, date.today(), expectations, spread)
    what = found.difference.touched
    turned, told = _turned(before, after, args, what.services if what is not None else None)
    told = [*told, *found.left_out]
    is_file = args.change is not None and not words
    shown = CompareShown(args.network, args.change if is_file else args.network, args.full, args.top, words)
    if args.save is not None:
        told.append(_save(args, found, ends, shown, reason))
    if args.json:
        print(json.dumps(rehearsal_json(found, shown, ends, turned, told), indent=1))
    else:
        show_rehearsal(found, shown, ends, Output(), turned, told)
    return 1 if found.broken or found.worse or found.brought else 0


def _refuse(args: argparse.Namespace) -> None:
    """Raise UsageError for a question that means nothing."""
    alone = args.listed or args.after is not None
    if alone and (args.change is not None or args.toggle or args.save):
        raise UsageError("--list and --after are about rehearsals that were kept: leave out the change")
    if args.listed and args.after is not None:
        raise UsageError("--list or --after, not both")
    if not alone and (args.change is None) == (not args.toggle):
        raise UsageError("say what is to change: a change file, the network file as it is to be, or --toggle"
                         " FILTER/RULE")  # fmt: skip
    if args.after is not None and not args.flows and not args.probes:
        raise UsageError("--after NAME looks at what was seen since: give --flows, --probes, or both")
    if args.probes and args.after is None:
        raise UsageError("--probes goes with --after NAME")
    if args.reason is not None and args.save is None:
        raise UsageError("--reason goes with --save NAME")
    if args.listed:
        refuse_beside(args, "--list lists the rehearsals that were kept", ("flows", "probes", "file"))


def _changed(before: Topology, args: argparse.Namespace) -> tuple[Topology, str, str]:
    """The network with the change made, what goes on a command line to ask about it, and why it is made."""
    if args.change is None:
        from kiboko.core.changes.rehearsing import toggled

        words = "".join(f" --{'without' if is_enabled(before, rule) else 'with'} {rule}" for rule in args.toggle)
        return toggled(before, args.toggle), words, ""
    from kiboko.files.changes.change_file import is_change_file

    if is_change_file(Path(args.change)):
        from kiboko.files.changes.applying import changed
        from kiboko.files.changes.change_file import read_change

        change = read_change(Path(args.change))
        words = f" --change {shlex.quote(str(args.change))}"
        return changed(args.network, change, args.files_elsewhere)[0], words, change.reason
    if ":" not in args.change and not Path(args.change).exists():
        from kiboko.files.documents.nearby import nearby

        raise InputError(f"{args.change}: no such change file, and no network file as it is to be"
                         f"{nearby(Path(args.change))}")  # fmt: skip
    return network_of(argparse.Namespace(**{**vars(args), "network": args.change})), "", ""


def _turned(
    before: Topology, after: Topology, args: argparse.Namespace, services: RangeSet | None
) -> tuple[Turned | None, list[str]]:
    """The recorded traffic that the change turns, which may turn that on some services alone; None where no log is
    given."""
    if not args.flows:
        return None, []
    from kiboko.batch.turning import turned_by
    from kiboko.files.elements.fields import time_filter

    with working("holding what was recorded against the rules before and after"):
        wanted = time_filter(args.since, args.until)
        return turned_by(before, after, args.flows, wanted, columns_of(args), args.strict, services)


def _save(args: argparse.Namespace, found: Rehearsal, ends: tuple[Ends, Ends], shown: CompareShown, reason: str) -> str:
    """Keep a rehearsal; a sentence that says so."""
    from kiboko.core.evidence.asking import addresses_of
    from kiboko.core.header.services import services_texts
    from kiboko.core.reachability.naming import Namer
    from kiboko.files.changes.kept_rehearsals import KeptExample, KeptLine, KeptRehearsal, keep, now
    from kiboko.views.reach_view import check_words, named, names_asked

    namer, topology = Namer(ends[1]), ends[1].topology
    known: dict[tuple[int, bool], tuple[str, AddressSet]] = {}

    def told(members: tuple[Member, ...], is_sender: bool) -> tuple[str, AddressSet]:
        """Some ends in words, and their addresses: of many lines the ends are the very same."""
        key = id(members), is_sender
        if key not in known:
            known[key] = named(namer.names(members), False), addresses_of(topology, members, is_sender)
        return known[key]

    lines = []
    for each in found.difference.changed:
        (near, senders), (far, targets) = told(each.sources, True), told(each.destinations, False)
        texts = services_texts(each.services)
        more = f" and {len(texts) - 4} more" if len(texts) > 4 else ""
        one, other, service = each.example
        lines.append(KeptLine(
            each.kind, each.before, each.after, senders, targets, each.services,
            f"{near} to {far} on {', '.join(texts[:4])}{more}", check_words(each.example, each.family, shown.options),
            KeptExample(*names_asked(one, other), str(service), each.family),
        ))  # fmt: skip
    change = args.change or " ".join(f"--toggle {rule}" for rule in args.toggle)
    kept = KeptRehearsal(args.save, args.reason or reason, now(), args.network, change, tuple(lines))
    path = keep(args.folder, kept)
    where = "" if args.folder == _FOLDER else f" --folder {shlex.quote(str(args.folder))}"
    where += network_option(args.network)
    return f"kept as {path}; afterwards: kiboko rehearse --after {args.save} --flows PATH{where}"


def _list(args: argparse.Namespace) -> int:
    from kiboko.files.changes.kept_rehearsals import listed
    from kiboko.views.rehearse_view import kept_json, show_kept

    found = list(listed(args.folder))
    if args.json:
        print(json.dumps(kept_json(found), indent=1))
    else:
        show_kept(found, args.folder, Output())
    return 0


def _verdict_now(ends: Ends, asked: KeptExample | None) -> str | None:
    """What the rules of the network file as it is say of a pair; None where that is not known."""
    from kiboko.core.queries.pair import walk_between

    if asked is None:
        return None
    number = resolve_service(asked.service, ends.topology.services).lowest
    service = Service(number >> 16, number & 0xFFFF)
    walk = walk_between(ends, asked.source, asked.destination, service, asked.family)
    return walk.verdict if walk is not None else None


def _after(args: argparse.Namespace) -> int:
    """What was seen since of each verdict that was to change; 1 where anything shows that it did not."""
    from kiboko.batch.observing import Evidence, observed_of
    from kiboko.core.evidence.asking import Asker
    from kiboko.core.records.flow_table import milliseconds
    from kiboko.files.changes.kept_rehearsals import path_of, read_kept
    from kiboko.files.elements.fields import time_filter
    from kiboko.views.rehearse_view import AfterShown, after_json, show_after, told_by

    kept = read_kept(path_of(args.folder, args.after))
    wanted = time_filter(args.since, args.until)
    if wanted.since is None:
        import dataclasses

        wanted = dataclasses.replace(wanted, since=milliseconds(kept.made))
    walker = Walker(network_of(args))
    ends = Ends(walker)
    now = [_verdict_now(ends, each.example) for each in kept.lines]
    asker = Asker(walker.directory)
    asked = [asker.by_name(each.senders, each.targets, each.services) for each in kept.lines]
    evidence = Evidence(args.flows, args.probes, wanted, columns_of(args), args.strict)
    with working("looking for that traffic in what was recorded since"):
        observed, told = observed_of(walker, asked, evidence)
    if args.json:
        print(json.dumps(after_json(kept, observed, now, told, args.network), indent=1))
    else:
        show_after(kept, observed, now, told, AfterShown(args.network, args.top, args.full), Output())
    return 1 if any(told_by(each, mine)[0] == "not done" for each, mine in zip(kept.lines, observed)) else 0
