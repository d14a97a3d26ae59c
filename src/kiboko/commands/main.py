"""The program `kiboko`: finds the command, runs it, and turns errors into messages and exit statuses."""

from __future__ import annotations

import argparse
import gc
import importlib
import os
import re
import sys
from collections.abc import Sequence
from typing import NoReturn

from kiboko import __version__
from kiboko.commands.options import INTERRUPTED
from kiboko.commands.streams import UnwritableOutput, end_streams, take_streams
from kiboko.core.errors import EnvironmentFailure, InputError, KibokoError, UsageError
from kiboko.core.hints import nearest

COMMANDS = {
    "demo": "write the demo data and run the whole job on it",
    "check": "may FROM reach TO on SERVICE, and which rule decides?",
    "route": "the way from FROM to TO: each hop, the entry that won and the ones it beat",
    "show": "one thing and everything in force around it",
    "reach": "all that can reach NAME, or (--out) that it can reach, exactly",
    "matrix": "groups, zones, subnets or tags by each other: what gets through",
    "audit": "what is wrong or dangerous in the rules themselves",
    "expect": "hold the network to written promises about traffic",
    "rehearse": "what a change does, before it is made: verdicts, expectations, findings",
    "apply": "make a change of a change file in the network file, or take it back",
    "compare": "two network files: what they say differently, and what that opens and closes",
    "probe": "send real probes and record what came back",
    "collect": "receive flow and deny records off the wire and store them",
    "flows": "read, filter, sum up and plot flow records; which rules they hit",
    "confirm": "hold the rules against probes and flow records",
    "replica": "the network rebuilt in kernel namespaces: real packets against the walk",
}


class _Misread(UsageError):
    """A command line that is not one of its command."""

    def __init__(self, text: str, command: str) -> None:
        super().__init__(text)
        self.command = command


class _Parser(argparse.ArgumentParser):
    """A parser that says in a line what is wrong with a command line, and where to look."""

    def error(self, message: str) -> NoReturn:
        command = self.prog.removeprefix("kiboko").strip()
        told = message.replace("the following arguments are required:", "missing:").removeprefix("argument ")
        if (choice := _CHOICE.search(told)) is not None:
            known = re.findall(r"[\w-]+", choice[2])
            told = f"{told[: choice.start()]}'{choice[1]}' is none of {', '.join(known)}{nearest(choice[1], known)}"
        raise _Misread(_with_help(told, "lists what there is", command), command)


_CHOICE = re.compile(r"invalid choice: '(.*)' \(choose from (.*)\)")


def build_parser(chosen: str | None = None) -> argparse.ArgumentParser:
    """The argument parser; only the chosen command's module is imported, so that none pays for the others."""
    parser = _Parser(
        prog="kiboko",
        description="Is this traffic allowed through every layer, which rule decides it, and does the real"
        " network agree?",
        epilog="Exit status: 0 all well, 1 something is blocked or disagrees, 2 bad usage or input,"
        " 3 the environment failed, 130 interrupted.",
    )
    parser.add_argument("--version", action="version", version=f"kiboko {__version__}")
    subparsers = parser.add_subparsers(dest="command", metavar="COMMAND", required=True)
    for name, summary in COMMANDS.items():
        subparser = subparsers.add_parser(name, help=summary, description=summary[0].upper() + summary[1:])
        if name == chosen:
            importlib.import_module(f"kiboko.commands.{name}").add_arguments(subparser)
            subparser.set_defaults(help_text=subparser.format_help)
    return parser


_PORT_BEHIND = re.compile(r"(?:[a-z]+://)?([^:/]+|\[[0-9a-f:.]+\]):(\d{1,5})/?")
"""An end with a port behind it, as in an address of the web."""


def _read(given: Sequence[str]) -> argparse.Namespace:
    """What a command line says. Exits, as the parser does, where something is wrong with it; raises UsageError for a
    word that is no command, for words that the command has no place for, and for an empty one: as the name of a file or
    folder it would stand for the folder that one is in."""
    empty = next((at for at, word in enumerate(given) if not word or re.fullmatch(r"--[a-z-]+=", word)), None)
    if empty is not None:
        before = " ".join(["kiboko", *given[: empty + bool(given[empty])]])
        raise UsageError(f"an empty word behind '{before}'; is it a variable that is not set?")
    first = next((word for word in given if not word.startswith("-")), None)
    chosen = next((word for word in given if word in COMMANDS), None)
    if first != chosen:
        if chosen is not None and given[0].startswith("-"):
            raise UsageError(f"options stand behind the command: kiboko {chosen} … {given[0]}")
        raise UsageError(_with_help(f"there is no command '{first}'{nearest(first or '', COMMANDS)}", "lists them"))
    try:
        args, unknown = build_parser(chosen).parse_known_args(given)
    except _Misread as error:
        port = next((match for word in given if (match := _PORT_BEHIND.fullmatch(word))), None)
        if chosen in ("check", "probe") and port is not None and "missing: " in str(error):
            text = f"{error}; a port goes into the service: {port[1].strip('[]')} tcp/{port[2]}"
            raise _Misread(text, chosen) from error
        raise
    if unknown:
        raise UsageError(_not_known(args, unknown))
    return args


def _not_known(args: argparse.Namespace, unknown: Sequence[str]) -> str:
    """What a command has no place for, with the options that may have been meant."""
    told = args.help_text()
    option = next((word.partition("=")[0] for word in unknown if word.startswith("-")), None)
    if option is not None:
        options = dict.fromkeys(re.findall(r"(?<![\w-])--[a-z][a-z-]+", told))
        more = f"{args.command} has no option '{option}'{nearest(option, options)}"
    else:
        more = f"'{unknown[0]}' is a word too many for {args.command}"
        files = dict.fromkeys(re.findall(r"(--[a-z-]+) (?:FILE|PATH)", told))
        if files and ("." in unknown[0] or os.path.exists(unknown[0])):
            more += f"; a file is named by its option: {', '.join(files)}"
        if getattr(args, "flows", None):
            more += "; of several logs each is named by an option of its own, or all by a pattern in quotes: --flows"
            more += " 'logs/*.csv'"
    return _with_help(more, "lists what there is", args.command)


def _with_help(text: str, why: str, command: str = "") -> str:
    """What is wrong, and where to look."""
    return f"{text}{' ' if text.endswith('?') else '; '}kiboko {command + ' ' if command else ''}--help {why}"


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command line and return its exit status."""
    # No plugin has a say in what a network file is, and looking for some takes a tenth of a short command's time.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    given = list(sys.argv[1:] if arguments is None else arguments)
    try:
        args = _read(given)
    except UsageError as error:
        command = f" {error.command}" if isinstance(error, _Misread) and error.command else ""
        print(f"kiboko{command}: {_safe(str(error))}", file=sys.stderr)
        return error.exit_status
    try:
        status: int = importlib.import_module(f"kiboko.commands.{args.command}").run(args)
        sys.stdout.flush()
        return status
    except InputError as error:
        _complain(error, args.command)
        return error.exit_status
    except KibokoError as error:
        return _refused(args.command, str(error), error.exit_status)
    except KeyboardInterrupt:
        return _refused(args.command, "interrupted", INTERRUPTED)
    except UnwritableOutput as error:
        return _refused(args.command, str(error), EnvironmentFailure.exit_status)
    except RecursionError:
        return _refused(args.command, "an input is nested too deeply", InputError.exit_status)
    except OSError as error:
        # Whatever a path may be that was given (one that may not be entered, one that is too long), or the system.
        where, kind = (f"{error.filename}: ", InputError) if error.filename else ("", EnvironmentFailure)
        return _refused(args.command, f"{where}{error.strerror or error}", kind.exit_status)


def _refused(command: str, text: str, status: int) -> int:
    print(f"kiboko {command}: {_safe(text)}", file=sys.stderr)
    return status


_MOST_PROBLEMS = 60


def _complain(error: InputError, command: str) -> None:
    for problem in error.problems[:_MOST_PROBLEMS]:
        print(_safe(str(problem)), file=sys.stderr)
    more = len(error.problems) - _MOST_PROBLEMS
    if more > 0:
        print(f"and {more} more", file=sys.stderr)
    count = len(error.problems)
    print(f"kiboko {command}: {count} {'problem' if count == 1 else 'problems'}, nothing done", file=sys.stderr)


def _safe(text: str) -> str:
    from kiboko.views.text import clean

    return "\n".join(clean(line) for line in text.split("\n"))


def run() -> None:
    """The console script."""
    take_streams()
    status = main()
    status = end_streams(status)
    gc.freeze()  # all goes with the process: to look for cycles in it first takes a tenth of a short command's time
    sys.exit(status)


if __name__ == "__main__":
    run()
