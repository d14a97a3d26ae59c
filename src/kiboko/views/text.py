"""Text from outside made safe to show: names, notes and log messages are data, never commands."""

from __future__ import annotations

import json
import shlex
from collections.abc import Generator, Iterable
from datetime import datetime
from typing import Any


def clean(text: str) -> str:
    """The text with every control, format, line and odd space character written as an escape.

    Terminal escape sequences, line breaks and bidirectional overrides in a name or a note would otherwise be
    carried out by whatever shows them.
    """
    if text.isprintable():
        return text
    return "".join(each if each.isprintable() else each.encode("unicode_escape").decode("ascii") for each in text)


def network_option(file: str) -> str:
    """` -n FILE` for a line to be pasted, or nothing where the network file is the one that is read by itself."""
    return "" if file == "network.yaml" else f" -n {shlex.quote(file)}"


def iso(moment: datetime | None) -> str | None:
    """A time as RFC 3339 has it, to the millisecond and in UTC, in every machine-readable form alike."""
    return moment.isoformat(timespec="milliseconds").replace("+00:00", "Z") if moment is not None else None


def streamed(values: dict[str, Any], key: str, rows: Iterable[str]) -> Generator[str, None, None]:
    """A JSON object as text in pieces, of which the list `key`, empty in `values`, is made of texts of rows
    (`row_texts`): the same text as of the whole, without the whole ever being there."""
    before, after = json.dumps(values, indent=1).split(f'\n "{key}": []', 1)
    yield f'{before}\n "{key}": ['
    lead = "\n"
    for text in rows:
        yield lead + text
        lead = ",\n"
    yield ("\n ]" if lead != "\n" else "]") + after + "\n"


def row_texts(rows: Iterable[dict[str, Any]]) -> str:
    """Some rows of a list of a JSON object, as text."""
    return ",\n".join("  " + json.dumps(row, indent=1).replace("\n", "\n  ") for row in rows)
