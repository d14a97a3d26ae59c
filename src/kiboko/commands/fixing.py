"""The part of `kiboko check` that proposes changes: what each does beside what it is for, and the change file of it."""

from __future__ import annotations

import argparse
import re
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kiboko.commands.options import columns_of
from kiboko.core.errors import UsageError
from kiboko.core.walk.walk import ALLOWED, Walk, Walker
from kiboko.views.output import working

if TYPE_CHECKING:
    from kiboko.core.changes.effects import Effects
    from kiboko.core.network.edits import Edit
    from kiboko.core.queries.proposals import Proposals
    from kiboko.core.queries.proposed import Proposal
    from kiboko.views.fixes_view import Fix

_MANY = 1_000
"""Of fewer instances a change is sooner looked at than processes started."""


def add_fix_options(parser: argparse.ArgumentParser) -> None:
    """Options of `check` about what would change the verdict."""
    group = parser.add_argument_group("what would change the verdict")
    group.add_argument("--fixes", action="store_true",
                       help="every change that would open it, each with what else it does, the expectations that it"
                       " breaks, and with --flows the traffic that it turns")  # fmt: skip
    group.add_argument("--stop", action="store_true", help="of what is allowed: what would stop it, likewise")
    group.add_argument("--expectations", metavar="FILE", type=Path, action="append", default=[],
                       help="expectations of a file of their own that a change may break; repeatable")  # fmt: skip
    group.add_argument("--write-change", metavar="FILE", type=Path,
                       help="write what is proposed first as a change file")  # fmt: skip


def fixes_of(args: argparse.Namespace, walker: Walker, walk: Walk, found: Proposals) -> list[Fix]:
    """The changes that are asked about, each with what it does."""
    from kiboko.batch.spanning import spread
    from kiboko.core.changes.effects import EffectsOf
    from kiboko.core.queries.proposals import stops
    from kiboko.views.fixes_view import Fix

    if args.stop:
        if walk.verdict != ALLOWED and not walk.delivered:
            raise UsageError(f"--stop: it is {walk.verdict} as it is")
        listed: list[tuple[Proposal, Edit | None]] = [(each, each.edit) for each in stops(walker, walk)]
        if not listed:
            raise UsageError("--stop: no filter of the network file lets it pass; attach one to the receiver")
    else:
        listed = []
        for number, proposal in enumerate(found.each):
            listed += [(proposal, found.edit_of(number)), *((each, each.edit) for each in proposal.others)]
    promises = list(walker.topology.expectations)
    if args.expectations:
        from kiboko.files.expectations.reading import read_expectations

        promises += [each for path in args.expectations for each in read_expectations(path, walker.topology.services)]
    known = EffectsOf(walker, walk, promises)

    def effects_of(number: int) -> Effects | None:
        edit = listed[number][1]
        return known.of(edit) if edit is not None else None

    fixes = []
    with working("looking at what else each change would do"):
        each_by_itself = spread if len(walker.topology.instances) >= _MANY else map
        for (each, edit), effects in zip(listed, each_by_itself(effects_of, range(len(listed))), strict=True):
            turned = _turned(args, walker, edit) if args.flows and edit is not None else None
            fixes.append(Fix(each, known.ends, effects, turned))
    if args.stop:
        fixes.sort(key=lambda fix: fix.effects is None or not fix.effects.is_nothing_else)
    return fixes


def _turned(args: argparse.Namespace, walker: Walker, edit: Edit) -> Any:
    from kiboko.batch.turning import turned_by
    from kiboko.files.elements.fields import time_filter

    after = edit(walker.topology)
    times = time_filter(args.since, args.until)
    return turned_by(walker.topology, after, args.flows, times, columns_of(args), args.strict)[0]


def write_change(args: argparse.Namespace, walk: Walk, chosen: Sequence[Proposal], verdict: str) -> str:
    """Write changes as a change file; a sentence that says so, and what it comes to with all of them where that is not
    what was wanted. Raises UsageError where nothing can be written."""
    from kiboko.files.changes.change_file import change_text
    from kiboko.files.documents.saving import write_whole
    from kiboko.views.text import network_option

    path = args.write_change
    steps = [dict(step) for each in chosen for step in each.steps]
    left = [each.text for each in chosen if not each.steps]
    if not steps:
        why = f": {left[0]}" if left else ""
        raise UsageError(f"--write-change: there is no change of the network file to write{why}")
    if path.exists():
        raise UsageError(f"--write-change {path}: there is such a file already")
    verb = "stop" if args.stop else "let"
    words = f"{verb}-{args.source}-to-{args.destination}-{args.service}".lower()
    name = re.sub(r"[^a-z0-9._-]+", "-", words).strip("-._")
    reason = f"{args.source} to {args.destination} on {args.service} is {walk.verdict}"
    write_whole(path, change_text(name, reason, steps).encode())
    more = f"; not in it, since it takes more than the network file: {'; '.join(left)}" if left else ""
    still = "" if args.stop or verdict == ALLOWED else f"; with all that is proposed the verdict is still {verdict}"
    rehearsing = f"kiboko rehearse {shlex.quote(str(path))}{network_option(args.network)}"
    return f"written as {path}: {rehearsing}{more}{still}"
