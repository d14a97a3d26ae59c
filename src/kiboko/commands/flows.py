"""`kiboko flows PATH...`: flow records read, filtered, summed up, plotted and written out; usage of rules."""

from __future__ import annotations

import argparse
import dataclasses
import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from kiboko.batch.flow_summing import Question, Summer, summed
from kiboko.commands.options import (
    add_cluster_option,
    add_columns_option,
    add_examples,
    add_network_option,
    add_time_options,
    columns_of,
    lines_shown,
    network_of,
    refuse_beside,
)
from kiboko.core.errors import InputError, Problem, UsageError
from kiboko.core.header.addresses import AddressSet, parse_address_set, reads_as_address
from kiboko.core.hints import nearest
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, address_set_of, resolve_service
from kiboko.core.records.flow_query import FlowFilter
from kiboko.core.records.flow_sums import FIELDS
from kiboko.core.records.flow_table import EVENTS, FlowTable
from kiboko.core.records.group_sums import MEASURES
from kiboko.core.walk.walk import Walker
from kiboko.files.documents.saving import check_writable
from kiboko.files.elements.fields import time_filter
from kiboko.files.logs.chosen_files import flow_files, without_copies
from kiboko.files.logs.windows import windows_of
from kiboko.views.flows_view import flows_json, show_flows, show_usage, usage_json
from kiboko.views.output import Output, working

if TYPE_CHECKING:
    from kiboko.core.evidence.rules_met import RuleKey


_FIELDS, _MEASURE = "source,destination,service", "octets"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `flows`."""
    parser.add_argument(
        "paths", metavar="PATH", nargs="+", help="flow logs: files, folders of them, patterns, - for standard input"
    )
    add_network_option(parser)
    for name, what in (("source", "sent by"), ("destination", "sent to"), ("end", "sent by or to")):
        parser.add_argument(f"--{name}", metavar="NAME", dest=f"{name}_names", action="append", default=[],
                            help=f"only what was {what} this name, address or block; repeatable")  # fmt: skip
    parser.add_argument("--service", metavar="SERVICE", help="only what was sent to this service")
    parser.add_argument("--rule", metavar="FILTER[/DIRECTION]/RULE", action="append", default=[],
                        help="only what meets this rule by the walk of its packets; repeatable")  # fmt: skip
    parser.add_argument("--outcome", choices=EVENTS, help="only what the records say had this outcome")
    add_time_options(parser)
    add_columns_option(parser)
    add_cluster_option(parser)
    parser.add_argument("--by", metavar="FIELD,...",
                        help=f"sum up by these fields: {', '.join(FIELDS)} (source,destination,service)")  # fmt: skip
    parser.add_argument("--sort-by", choices=MEASURES, help="what the groups shown first have most of (octets)")
    parser.add_argument(
        "--top", metavar="N", type=lines_shown, default=20, help="show so many groups, or lists of rules (20)"
    )
    parser.add_argument("--rules", action="store_true", help="what hit each rule of the network, and which none did")
    parser.add_argument("--rules-of", metavar="FILTER", action="append", default=[],
                        help="the same for the rules of this filter alone; repeatable")  # fmt: skip
    parser.add_argument("--full", action="store_true", help="with --rules: every rule, also where they are very many")
    parser.add_argument("--counters", metavar="INSTANCE=FILE", action="append", default=[],
                        help="with --rules: a later `nft -j list ruleset` of an instance")  # fmt: skip
    parser.add_argument("--plot", metavar="FILE", type=Path, help="draw the groups and their time, as .png or .svg")
    parser.add_argument(
        "--export", metavar="FILE", type=Path, help="write the records: .csv, .jsonl, .ipfix, .arrows, .parquet"
    )
    parser.add_argument("--guess", action="store_true",
                        help="propose a mapping file for --columns from the first records, and end")  # fmt: skip
    parser.add_argument("--raw", action="store_true", help="with --export: text as it is, also what spreadsheets run")
    parser.add_argument("--json", action="store_true", help="machine-readable, flows/1 or rule-usage/1")
    add_examples(
        parser,
        "flows evidence/flows.csv --top 8",
        "flows evidence/flows.csv --rules",
        "flows evidence/flows.csv --rules-of bank-edge",
        "flows other.log --guess > columns.yaml",
        "flows evidence/flows.csv --by source,service --export copy.jsonl",
    )


def run(args: argparse.Namespace) -> int:
    """Read, filter, sum up and show; 0, or 1 where `--rules` finds a rule that nothing hit."""
    if args.guess:
        beside = ("source_names", "destination_names", "end_names", "service", "rule", "outcome", "since", "until",
                  "columns", "by", "sort_by", "rules", "rules_of", "counters", "plot", "export", "json")  # fmt: skip
        refuse_beside(args, "--guess proposes a mapping file from the first records as they are", beside)
        return _guess(args)
    if args.rules or args.rules_of:
        what = "what hit each rule is not summed up by fields, drawn or written"
        refuse_beside(args, what, ("rule", "by", "sort_by", "plot", "export"))
    elif args.counters:
        raise UsageError("--counters goes with --rules")
    if args.raw and args.export is None:
        raise UsageError("--raw goes with --export")
    fields = tuple(name.strip() for name in (args.by or _FIELDS).split(",") if name.strip())
    wrong = [name for name in fields if name not in FIELDS]
    if wrong:
        raise UsageError(f"'{wrong[0]}' is no field to sum up by: {', '.join(FIELDS)}")
    if args.full and not args.rules:
        raise UsageError("--full goes with --rules: it shows every rule; of groups --top N shows more")
    if args.plot is not None:
        from kiboko.views.figures import check_figure

        check_figure(args.plot)
    files = flow_files(args.paths)
    if args.export is not None:
        check_writable(args.export, reads=files)
    walker = _walker(args)
    wanted = _filter(args, walker)
    return (
        _rules(args, walker, wanted, files)
        if args.rules or args.rules_of
        else _sums(args, fields, walker, wanted, files)
    )


def _guess(args: argparse.Namespace) -> int:
    """Print a mapping file for the first log."""
    from kiboko.files.elements.guessing import guess_columns, mapping_text
    from kiboko.files.logs.first_rows import first_rows

    files = flow_files(args.paths)
    first = first_rows(files[0])
    guesses, unknown = guess_columns(first.rows)
    print(mapping_text(guesses, unknown, str(files[0]), first.delimiter, first.records), end="")
    return 0


def _walker(args: argparse.Namespace) -> Walker | None:
    """The network, which only names and rules need: without a network file, addresses stand for themselves."""
    needed = args.rules or args.rules_of or args.rule or args.network != "network.yaml"
    return Walker(network_of(args)) if needed or Path(args.network).exists() else None


def _filter(args: argparse.Namespace, walker: Walker | None) -> FlowFilter:
    services = resolve_service(args.service, walker.topology.services if walker else {}) if args.service else None
    return dataclasses.replace(
        time_filter(args.since, args.until),
        sources=_ends(args.source_names, walker),
        destinations=_ends(args.destination_names, walker),
        either=_ends(args.end_names, walker),
        services=services,
        outcome=args.outcome,
    )


def _ends(names: list[str], walker: Walker | None) -> AddressSet | None:
    if not names:
        return None
    if walker is not None:
        return address_set_of(Ends(walker), names)
    for name in names:
        if not reads_as_address(name) and "/" not in name:
            raise UsageError(f"'{name}' is no address, and there is no network file that could know the name")
    return AddressSet.union([parse_address_set(name).unmapped() for name in names])


def _rules(args: argparse.Namespace, walker: Walker | None, wanted: FlowFilter, files: list[Path]) -> int:
    from kiboko.batch.flow_judging import FlowJudge
    from kiboko.core.evidence.comparison import Comparison
    from kiboko.core.evidence.rule_usage import RuleUsage

    assert walker is not None
    listings = _listings(args.counters, walker.topology)
    usage = RuleUsage(walker.topology, listings, only=_rule_sets_named(args.rules_of, walker.topology))
    judge = FlowJudge(Comparison(walker), None, args.strict, wanted, usage, columns_of(args))
    with working("holding records against the rules"):
        caveats = judge.take(files, cluster=args.cluster)
    caveats += usage.caveats
    if args.json:
        print(json.dumps(usage_json(usage, caveats), indent=1))
    else:
        show_usage(usage, args.full or bool(args.rules_of), args.top, caveats, Output())
    return 1 if any(line.is_never_hit for line in usage.lines()) else 0


def _rule_sets_named(names: list[str], topology: Topology) -> set[str]:
    """Filters by name, and kernel rule sets by their file or the machine that has them."""
    files = {name: each.host_filter.file for name, each in topology.instances.items()
             if isinstance(each.host_filter, HostRuleSet)}  # fmt: skip
    known = {name: name for name in (*topology.filters, *files.values())} | files
    for name in names:
        if name not in known:
            raise UsageError(f"'{name}' is no filter of the network{nearest(name, known)}")
    return {known[name] for name in names}


def _listings(given: list[str], topology: Topology) -> dict[str, HostRuleSet]:
    """Rule sets as the kernel listed them later, by instance."""
    found = {}
    for text in given:
        name, equals, path = text.partition("=")
        instance = topology.instances.get(name)
        if not equals or instance is None:
            raise UsageError(f"'{text}' is not INSTANCE=FILE with an instance of the network")
        if not isinstance(instance.host_filter, HostRuleSet):
            raise UsageError(f"'{name}' has no rule set of the kernel in the network file")
        problems: list[Problem] = []
        from kiboko.files.hosts.rule_set_listing import read_rule_set

        listing = read_rule_set(Path(path), path, problems)
        if listing is None or problems:
            raise InputError(problems)
        found[name] = listing
    return found


def _rules_named(args: argparse.Namespace, walker: Walker | None) -> frozenset[RuleKey]:
    """The rules that records must have met."""
    if not args.rule:
        return frozenset()
    from kiboko.core.evidence.rule_usage import RuleUsage

    assert walker is not None
    known = [line.key for line in RuleUsage(walker.topology).lines()]
    wanted = set()
    for text in args.rule:
        fitting = [key for key in known if text in ("/".join(key), f"{key[0]}/{key[2]}")]
        if not fitting:
            names = ["/".join(key) for key in known]
            raise UsageError(f"'{text}' is no rule of the network{nearest(text, names)}")
        wanted.update(fitting)
    return frozenset(wanted)


def _sums(
    args: argparse.Namespace, fields: tuple[str, ...], walker: Walker | None, wanted: FlowFilter, files: list[Path]
) -> int:
    topology = walker.topology if walker is not None else None
    question = Question(wanted, fields, _rules_named(args, walker), topology, columns_of(args))
    if args.export is not None and args.cluster:
        raise UsageError("--export writes on this machine: leave out --cluster")
    with working("reading records"):
        sums, timeline, caveats = summed(files, question, args.strict, args.cluster)
        if args.export is not None:
            from kiboko.files.store.flow_export import write_tables

            write_tables(_chosen(files, question), args.export, args.raw)
    if sums.left_out:
        caveats.append(f"{sums.left_out:,} records are of groups beyond the first {len(sums):,}, in the totals only")
    if args.plot is not None:
        from kiboko.views.flow_figures import draw_flows

        draw_flows(sums, timeline, args.sort_by or _MEASURE, args.plot)
    if args.json:
        print(json.dumps(flows_json(sums, timeline, args.sort_by or _MEASURE, args.top, caveats), indent=1))
    else:
        show_flows(sums, timeline, args.sort_by or _MEASURE, args.top, caveats, Output())
    return 0


def _chosen(files: list[Path], question: Question) -> Iterator[FlowTable]:
    """The records that are wanted, table by table; what was rejected is told by the sums."""
    summer = Summer(question)
    for window in windows_of(without_copies(files)[0], question.columns, question.is_of_single_records):
        yield from summer.chosen_of(window, [])
