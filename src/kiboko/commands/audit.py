"""`kiboko audit`."""

from __future__ import annotations

import argparse
import json
from datetime import date
from pathlib import Path

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
from kiboko.core.audit.findings import Finding
from kiboko.core.errors import UsageError
from kiboko.core.hints import nearest
from kiboko.core.queries.ends import Ends
from kiboko.core.walk.walk import Walker
from kiboko.views.output import Output, working
from kiboko.views.text import network_option

_SEEN = ("leak", "break", "older-session")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `audit`."""
    add_network_option(parser)
    parser.add_argument("--severity", choices=("high", "medium", "low", "note"), default="low",
                        help="findings of this severity and graver, which also make the status 1 (low)")  # fmt: skip
    parser.add_argument("--finding", metavar="ID", action="append", default=[],
                        help="only findings of this kind; repeatable")  # fmt: skip
    parser.add_argument("--kinds", action="store_true", help="list every kind of finding, and do nothing else")
    parser.add_argument("--today", metavar="DATE", help="the day by which notes and acceptances are over (today)")
    parser.add_argument("--flows", metavar="PATH", type=Path, nargs="+", action="extend", default=[],
                        help="flow logs: also which rules nothing in them hit, and what in them the rules say otherwise"
                        " of; repeatable")  # fmt: skip
    parser.add_argument("--probes", metavar="FILE", type=Path, nargs="+", action="extend", default=[],
                        help="probe records: also which of them the rules say otherwise of; repeatable")  # fmt: skip
    add_time_options(parser)
    add_columns_option(parser)
    parser.add_argument("--full", action="store_true", help="every finding, where there are many of a kind")
    parser.add_argument(
        "--sarif", metavar="FILE", type=Path, help="write SARIF 2.1.0 as well, - for standard output alone"
    )
    parser.add_argument("--json", action="store_true", help="machine-readable, audit/1")
    add_examples(parser, "audit", "audit --severity high", "audit --finding never-hit --flows evidence/flows.csv",
                 "audit --flows evidence/flows.csv --probes evidence/probes.jsonl", "audit --kinds")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Look, show, and return 1 where anything of the wanted severity is found."""
    from kiboko.batch.spanning import spread
    from kiboko.core.audit.audit import audit
    from kiboko.core.audit.findings import KINDS
    from kiboko.views.audit_view import AuditShown, audit_json, chosen, sarif, show_audit, show_kinds

    refuse_without_evidence(args)
    if args.kinds:
        refuse_beside(args, "--kinds lists all kinds of findings", ("finding", "flows", "probes", "sarif", "json"))
        show_kinds(Output())
        return 0
    for name in args.finding:
        if name not in KINDS:
            raise UsageError(f"there is no finding '{name}'{nearest(name, list(KINDS), 3, 0.5)}; --kinds lists all")
    if args.finding and not args.flows:
        for name, options in (("never-hit", "--flows"), *((each, "--flows or --probes") for each in _SEEN)):
            if name in args.finding and (name == "never-hit" or not args.probes):
                raise UsageError(f"{name} rests on recorded traffic: give {options} too")
    today = _today(args.today)
    if args.sarif is not None:
        from kiboko.files.documents.saving import check_writable

        refuse_two_outputs(args, "sarif")
        check_writable(args.sarif, b'"runs"')
    topology = network_of(args)
    ends = Ends(Walker(topology))
    further: list[Finding] = []
    caveats: list[str] = []
    with working("looking at rules, names, routes and whole ways"):
        if args.flows or args.probes:
            from kiboko.batch.auditing import Recorded, evidence_findings

            recorded = Recorded(args.flows, args.probes, columns_of(args), args.strict, args.since, args.until)
            further, caveats = evidence_findings(ends.walker, recorded, args.finding)
        found = audit(ends, today, further, frozenset(args.finding), spread=spread)
    caveats = [*caveats, *found.left_out]
    shown = AuditShown(args.severity, args.full, network_option(args.network))
    if args.sarif is not None:
        from kiboko.files.documents.saving import write_whole

        text = json.dumps(sarif(found, args.severity, topology.file), indent=1) + "\n"
        write_whole(args.sarif, text.encode())
    if args.json:
        print(json.dumps(audit_json(found, shown, caveats), indent=1))
    elif not is_output(args.sarif):
        show_audit(found, shown, caveats, Output())
    return 1 if chosen(found, args.severity) else 0


def _today(text: str | None) -> date:
    if text is None:
        return date.today()
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise UsageError(f"--today '{text}' is no date; write it as 2026-11-25") from error
