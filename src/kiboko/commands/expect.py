"""`kiboko expect`."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.commands.options import (
    add_columns_option,
    add_examples,
    add_network_option,
    add_time_options,
    columns_of,
    is_output,
    network_of,
    refuse_beside,
    refuse_two_outputs,
    refuse_without_evidence,
)
from kiboko.core.errors import InputError, Problem, UsageError
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.model import Expectation, Topology
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working
from kiboko.views.text import clean, network_option

if TYPE_CHECKING:
    from kiboko.batch.promises import SeenPromise
    from kiboko.core.changes.expecting import Held

_MOST_SERVICES = 12
_MOST_NAMES = 60
"""A first set is of no more names than these, where there are fewer of another kind."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `expect`."""
    add_network_option(parser)
    parser.add_argument("--file", metavar="FILE", type=Path, action="append", default=[],
                        help="expectations of a file of their own as well; repeatable")  # fmt: skip
    parser.add_argument("--table", metavar="FILE", type=Path, action="append", default=[],
                        help="a CSV table of wanted connections (from, to, service, …); repeatable")  # fmt: skip
    parser.add_argument("--id", metavar="ID", action="append", default=[], help="only this expectation; repeatable")
    parser.add_argument(
        "--every", action="store_true", help="list those that are held as well, and those of which nothing was recorded"
    )
    parser.add_argument("--changed-since", metavar="REV", help="only those that are new or worded otherwise since this"
                        " revision, or that come to something else by the network file of then")  # fmt: skip
    parser.add_argument("--flows", metavar="PATH", type=Path, nargs="+", action="extend", default=[],
                        help="flow logs: recorded traffic is held to them too; repeatable")  # fmt: skip
    parser.add_argument("--probes", metavar="FILE", type=Path, nargs="+", action="extend", default=[],
                        help="probe records, likewise; repeatable")  # fmt: skip
    add_time_options(parser)
    add_columns_option(parser)
    parser.add_argument("--draft", action="store_true",
                        help="print a first set, of what holds between groups and outsides today; with --flows, of what"
                        " was recorded")  # fmt: skip
    parser.add_argument(
        "--junit", metavar="FILE", type=Path, help="write JUnit XML as well, - for standard output alone"
    )
    parser.add_argument("--json", action="store_true", help="machine-readable, expect/1")
    add_examples(parser, "expect --file expectations.yaml", "expect --table wanted.csv", "expect --draft",
                 "expect --file expectations.yaml --flows evidence/flows.csv --probes evidence/probes.jsonl",
                 "expect --file expectations.yaml --changed-since HEAD~1")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Hold the network to its expectations. 0 where all are held, else 1."""
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.expecting import BROKEN, held
    from kiboko.views.expect_view import ExpectShown, expect_json, junit, show_expectations

    refuse_without_evidence(args)
    if args.junit is not None:
        from kiboko.files.documents.saving import check_writable

        refuse_two_outputs(args, "junit")
        check_writable(args.junit, b"<testsuite")
    topology = network_of(args)
    ends = Ends(Walker(topology))
    if args.draft:
        return _draft(ends, args)
    expectations = _chosen(topology, args)
    with working("looking at every pair that is promised something"):
        outcomes = held(ends, expectations, spread)
        found = _changed_since(ends, outcomes, args) if args.changed_since is not None else outcomes
    same, outcomes = len(outcomes) - len(found), found
    seen, told = _seen(ends, outcomes, args)
    if same:
        what = f"{same:,} expectation{' says and comes' if same == 1 else 's say and come'}"
        told = [*told, f"{what} to what {'it' if same == 1 else 'they'} did at {args.changed_since}: not shown"]
    shown = ExpectShown(network_option(args.network), args.every)
    if args.junit is not None:
        from kiboko.files.documents.saving import write_whole

        write_whole(args.junit, junit(outcomes, shown, topology.name, seen))
    if args.json:
        print(json.dumps(expect_json(outcomes, shown, seen, told), indent=1))
    elif not is_output(args.junit):
        show_expectations(outcomes, shown, Output(), seen, told)
    is_seen_broken = any(each.breaks for each in seen.values())
    return 1 if is_seen_broken or any(each.state == BROKEN for each in outcomes) else 0


def _changed_since(ends: Ends, outcomes: list[Held], args: argparse.Namespace) -> list[Held]:
    """Those that are new or worded otherwise since a revision, or that come to something else now. Raises InputError
    where there is no such revision, or the network file was not in it."""
    from kiboko.files.expectations.reading import read_expectations, read_table
    from kiboko.files.network.revisions import load_revision, revision_of

    if ":" in args.network and not Path(args.network).exists():
        raise UsageError("--changed-since compares a network file with what it was: name the file itself")
    then = load_revision(f"{args.changed_since}:{args.network}", args.files_elsewhere)
    before = list(then.expectations)
    for path in (*args.file, *args.table):
        try:
            with revision_of(f"{args.changed_since}:{path}") as older:
                if path in args.file:
                    before += read_expectations(older, then.services)
                else:
                    before += read_table(older, then.services, _prefix(path, args))
        except InputError:
            continue  # it is new since: so is all that it promises
    known = {each.id: each for each in before}
    met = [each for each in outcomes if each.expectation.id in known]
    same = [each for each in met if _worded(known[each.expectation.id]) == _worded(each.expectation)]
    ends_then = Ends(Walker(then))
    held_then = _held_then(ends_then, [known[each.expectation.id] for each in same])
    alike = [(old, each) for each, old in zip(same, held_then, strict=True)
             if old is not None and (old.state, old.wrong) == (each.state, each.wrong)]  # fmt: skip
    unchanged = {each.expectation.id for _, each in alike} - _broken_for_others(ends_then, ends, alike)
    return [each for each in outcomes if each.expectation.id not in unchanged]


def _broken_for_others(then: Ends, ends: Ends, alike: list[tuple[Held, Held]]) -> set[str]:
    """Of expectations that were and are broken for as many pairs those that are so for others of them now, by their
    ids; all of them where that cannot be told."""
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.difference import difference
    from kiboko.core.changes.expecting import BROKEN
    from kiboko.core.changes.worsened import still_broken

    broken = [each for each in alike if each[1].state == BROKEN]
    if not broken:
        return set()
    services = RangeSet.of(pair for _, each in broken for pair in each.expectation.services)
    try:
        found = difference(then, ends, services, spread=spread)
    except UsageError:
        return {each.expectation.id for _, each in broken}
    return {each.expectation.id for each, _ in still_broken(ends, broken, found)}


def _held_then(ends: Ends, expectations: list[Expectation]) -> list[Held | None]:
    """What came of expectations in an older network; None of those that spoke of somebody whom there was not."""
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.expecting import held

    def is_known(each: Expectation) -> bool:
        try:
            for name in (*each.sources, *each.destinations, *each.excepted):
                ends.resolve_deliverable(name)
        except UsageError:
            return False
        return True

    known = [each for each in expectations if is_known(each)]
    outcomes = {each.expectation.id: each for each in held(ends, known, spread)}
    return [outcomes.get(each.id) for each in expectations]


def _worded(each: Expectation) -> tuple[object, ...]:
    """What a promise says, wherever it is written."""
    return (each.sources, each.destinations, each.services, each.expect, each.excepted, each.family)


def _seen(ends: Ends, outcomes: list[Held], args: argparse.Namespace) -> tuple[dict[str, SeenPromise], list[str]]:
    """What was recorded of the traffic that each expectation speaks of, by id."""
    if not args.flows and not args.probes:
        return {}, []
    from kiboko.batch.observing import Evidence
    from kiboko.batch.promises import seen_of
    from kiboko.files.elements.fields import time_filter

    times = time_filter(args.since, args.until)
    evidence = Evidence(args.flows, args.probes, times, columns_of(args), args.strict)
    with working("holding what was recorded to them"):
        return seen_of(ends, [each.expectation for each in outcomes], evidence)


def _chosen(topology: Topology, args: argparse.Namespace) -> list[Expectation]:
    """All expectations that are asked for. Raises InputError and UsageError."""
    found = list(topology.expectations)
    if args.file or args.table:
        from kiboko.files.expectations.reading import read_expectations, read_table

        for path in args.file:
            found += read_expectations(path, topology.services)
        for path in args.table:
            found += read_table(path, topology.services, _prefix(path, args))
    if not found:
        raise UsageError("there is no expectation: write some into the network file ('expectations:'), or give --file"
                         " or --table; --draft prints a first set")  # fmt: skip
    known: dict[str, Expectation] = {}
    problems = [Problem(each.place, f"expectation '{each.id}' is there twice; first in {known[each.id].place}")
                for each in found if known.setdefault(each.id, each) is not each]  # fmt: skip
    if problems:
        raise InputError(problems)
    for name in args.id:
        if name not in known:
            from kiboko.core.hints import nearest

            raise UsageError(f"there is no expectation '{name}'{nearest(name, list(known), 3, 0.5)}")
    return [each for each in found if not args.id or each.id in args.id]


def _prefix(path: Path, args: argparse.Namespace) -> str:
    """What tells the lines of several tables apart."""
    return f"{path.stem}-" if len(args.table) > 1 else ""


def _draft(ends: Ends, args: argparse.Namespace) -> int:
    beside = ("file", "table", "id", "every", "changed_since", "probes", "junit", "json")
    refuse_beside(args, "--draft prints a first set of expectations, as YAML", beside)
    if args.flows:
        return _draft_of_flows(ends, args)
    from kiboko.batch.spanning import matrix_of, spread
    from kiboko.core.changes.expecting import draft
    from kiboko.core.reachability.matrix import usual_services
    from kiboko.views.expect_view import draft_yaml

    names = _names_of_draft(ends)
    with working("looking at every pair of ends"):
        services = usual_services(ends, _MOST_SERVICES)
        found = draft(ends, names, services, matrix_of, spread) if names and services else []
    print(draft_yaml(found), end="")
    return 0


def _names_of_draft(ends: Ends) -> list[str]:
    """Between whom a first set promises anything: few enough that somebody may read it."""
    topology = ends.topology
    held = {each.zone for each in topology.subnets.values()} | {each.zone for each in topology.outsides.values()}
    zones = [f"zone:{name}" for name in topology.zones if name in held]
    kinds = {"groups": list(topology.groups), "subnets": list(topology.subnets), "zones": zones,
             "networks": list(topology.networks)}  # fmt: skip
    present = {kind: names for kind, names in kinds.items() if names} or {"": []}
    first = next(iter(present))
    few = (kind for kind, names in present.items() if len(names) <= _MOST_NAMES)
    chosen = next(few, min(present, key=lambda kind: len(present[kind])))
    if chosen != first:
        print(f"kiboko expect: {len(present[first]):,} {first} are more than anybody reads promises of: these are of"
              f" the {len(present[chosen]):,} {chosen}", file=sys.stderr)  # fmt: skip
    return [*present[chosen], *topology.outsides]


def _draft_of_flows(ends: Ends, args: argparse.Namespace) -> int:
    """A first set of what was recorded to be answered, by the smallest names that hold both ends."""
    from kiboko.batch.confirming import FlowsRead
    from kiboko.batch.promises import drafted
    from kiboko.core.evidence.comparison import Comparison
    from kiboko.core.evidence.summary import Summary
    from kiboko.views.expect_view import draft_yaml

    summary = Summary(ends.directory)
    reading = FlowsRead(args.flows, args.strict, args.since, args.until, args.columns)
    with working("looking at what was recorded"):
        _, told = reading.judged(Comparison(ends.walker), summary)
    for each in told:  # the draft alone goes to where it can be kept
        print(f"kiboko expect: {clean(each)}", file=sys.stderr)
    print(draft_yaml(drafted(ends.walker, summary)), end="")
    return 0
