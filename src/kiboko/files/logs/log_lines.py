"""Log lines as they lie on disk, by the parsers that read them off the wire: syslog in both forms, kernel packet-filter
lines, `key=value`, JSON in the message, the journal's JSON, and lines of connection tracking."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.files.elements.rejects import Rejects
from kiboko.files.messages.syslog import Message, flow_fields, names_flow, parse_syslog
from kiboko.files.messages.tracked import tracked_fields

_LOOKED_AT = 200
_FEW = 20
_PATIENCE = 0.2
"""Seconds that a pattern may take for a line."""
_JOURNAL = "MESSAGE"
_HOST = re.compile(r"[A-Za-z0-9_.-]+")
LINES = "lines"
"""The form of such a log."""


@dataclass(frozen=True, slots=True)
class LogLines:
    """Reads lines. `written` is when the file was last written to, which tells the year that RFC 3164 leaves out;
    `is_any_flow` whether fields without the usual names may be a flow as well, since a mapping file says what they
    are."""

    written: datetime
    is_any_flow: bool = False

    def fields(self, line: bytes) -> list[Mapping[str, Any]]:
        """The records that a line tells of, by field; none where it tells of no flow."""
        text = line.decode("utf-8", "replace").strip()
        if text.startswith("{"):
            return self._of_journal(text)
        tracked = tracked_fields(text)
        if tracked:
            return tracked
        return self._of_message(parse_syslog(line, self.written))

    def _of_message(self, message: Message) -> list[Mapping[str, Any]]:
        found = flow_fields(message)
        if found is None or not (self.is_any_flow or names_flow(found)):
            return []
        if message.time is not None:
            found.setdefault("flowStartMilliseconds", round(message.time.timestamp() * 1000))
        # A log daemon brings the messages of many machines into one file: each was seen where its machine stands.
        is_told = self.is_any_flow or any(name.lower().startswith("exporter") for name in found)
        if message.host is not None and not is_told and _HOST.fullmatch(message.host):
            found["exporterIPv4Address"] = message.host
        return [found]

    def _of_journal(self, text: str) -> list[Mapping[str, Any]]:
        """An entry of the journal (`journalctl -o json`): the message, and when it was written."""
        try:
            entry = json.loads(text)
        except (ValueError, RecursionError):
            return []
        if not isinstance(entry, dict) or not isinstance(entry.get(_JOURNAL), str):
            return []
        stamp = str(entry.get("__REALTIME_TIMESTAMP") or entry.get("_SOURCE_REALTIME_TIMESTAMP") or "")
        time = None
        if stamp.isdecimal() and len(stamp) <= 17:
            time = datetime.fromtimestamp(int(stamp) / 1e6, UTC)
        host = entry.get("_HOSTNAME")
        return self._of_message(Message(entry[_JOURNAL], None, time, host if isinstance(host, str) else None))


class PatternLines:
    """Reads lines of free text by a pattern with named groups. A line on which it takes too long is given up: nobody
    knows beforehand what a hostile line does to a pattern."""

    def __init__(self, pattern: str) -> None:
        import regex  # loaded where there is a pattern alone

        self._pattern = regex.compile(pattern)

    def fields(self, line: bytes) -> list[Mapping[str, Any]]:
        """The fields of a line; none where the pattern does not match. Raises TimeoutError."""
        found = self._pattern.search(line.decode("utf-8", "replace").rstrip("\r"), timeout=_PATIENCE)
        if found is None:
            return []
        return [{name: value for name, value in found.groupdict().items() if value is not None}]


LineReader = LogLines | PatternLines
"""What finds the records of lines."""


def try_pattern(lines: Sequence[bytes], reader: PatternLines, file: str) -> None:
    """Try a pattern before anything else is read. Raises InputError where it fits none of the first lines, or takes too
    long."""
    fits = 0
    for number, line in enumerate(lines, 1):
        try:
            fits += bool(line.strip() and reader.fields(line.rstrip(b"\n")))
        except TimeoutError as error:
            text = f"the pattern takes more than {_PATIENCE} s on this line alone: parts of it can match in many ways"
            raise InputError([Problem(Place(file, number), text)]) from error
    if not fits:
        raise InputError([Problem(Place(file, 1), f"the pattern fits none of the first {len(lines):,} lines")])


def is_log(lines: Sequence[bytes], reader: LineReader) -> bool:
    """Whether any of the first lines of a text tells of a flow; or whether all of them are log messages with a time and
    a tag, of which later ones may."""
    first = [line for line in lines[:_LOOKED_AT] if line.strip()]
    if any(reader.fields(line) for line in first):
        return True
    messages = [parse_syslog(line, datetime.now(UTC)) for line in first[:_FEW]]
    return bool(messages) and all(each.time is not None and each.app is not None for each in messages)


def is_journal(line: bytes) -> bool:
    """Whether a line is an entry of the journal."""
    try:
        entry = json.loads(line)
    except (ValueError, RecursionError):
        return False
    return isinstance(entry, dict) and _JOURNAL in entry and any(name.startswith("_") for name in entry)


def read_lines(
    lines: Iterable[tuple[int, bytes]], reader: LineReader, rejects: Rejects
) -> Iterator[tuple[Mapping[str, Any] | None, int]]:
    """The records of some lines, each with its number, and None for each line that tells of no flow."""
    for number, line in lines:
        if line.strip():
            try:
                found = reader.fields(line)
            except TimeoutError:
                rejects.note("given up by the pattern", "the pattern takes too long on it", number)
                continue
            yield from ((row, number) for row in found)
            if not found:
                yield None, number
