"""`kiboko apply CHANGE`."""

from __future__ import annotations

import argparse
import shlex
import sys
from pathlib import Path

from kiboko.commands.options import add_examples, add_network_option
from kiboko.core.errors import InputError, UsageError
from kiboko.core.wording import counted
from kiboko.views.output import Output
from kiboko.views.text import network_option


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `apply`."""
    parser.add_argument("change", metavar="CHANGE", type=Path, help="a change file (kiboko: change/1)")
    add_network_option(parser)
    where = parser.add_mutually_exclusive_group()
    where.add_argument("--out", metavar="FILE", type=Path, help="write the changed network file to a new file; of a"
                       " folder, a new folder")  # fmt: skip
    where.add_argument("--in-place", action="store_true",
                       help="write it into the network file itself, and keep beside it what it was")  # fmt: skip
    where.add_argument("--undo", action="store_true", help="give the network file back as it was before --in-place")
    where.add_argument("--diff", action="store_true", help="show only the lines that change, and write nothing")
    add_examples(parser, "apply changes/01-shut-out-the-met-office.yaml --diff",
                 "apply changes/01-shut-out-the-met-office.yaml --in-place",
                 "apply changes/01-shut-out-the-met-office.yaml --undo")  # fmt: skip


def run(args: argparse.Namespace) -> int:
    """Make the change, or take it back, and return 0."""
    from kiboko.files.changes.applying import changed, differences, undo, write_in_place, write_new
    from kiboko.files.changes.change_file import read_change

    out = Output()
    change = read_change(args.change)
    options = network_option(args.network)
    if args.undo:
        for name in undo(args.network, change):
            out.line(f"{name} is as it was before '{change.name}'.", "allowed")
        return 0
    _, sheets = changed(args.network, change, args.files_elsewhere)
    edited = [sheet for sheet in sheets.all if sheet.is_changed]
    if not edited:
        raise InputError(f"{args.change}: it changes nothing: {args.network} says all of it already")
    if args.out is not None:
        write_new(sheets, args.network, args.out)
        out.line(f"{args.out} is {args.network} with {counted(len(change.steps), 'change')} made.", "allowed")
    elif args.in_place:
        for name, backup in write_in_place(sheets, change):
            out.line(f"{name}: changed; what it was is in {backup.name}", "allowed")
        out.line(f"to take it back: kiboko apply {shlex.quote(str(args.change))} --undo{options}", "quiet")
    elif args.diff:
        sys.stdout.writelines(differences(sheets))
    elif len(edited) > 1:
        names = ", ".join(sheet.shown for sheet in edited)
        raise UsageError(f"it changes {names}: give --out FOLDER, --in-place or --diff")
    else:
        sys.stdout.write(edited[0].body.text)
    return 0
