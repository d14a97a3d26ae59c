"""Probe records as JSON Lines (`probe/1`)."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from datetime import UTC
from pathlib import Path
from typing import Any, BinaryIO

from kiboko.core.errors import InputError
from kiboko.core.header.addresses import parse_address
from kiboko.core.hints import nearest
from kiboko.core.records.records import OUTCOMES, ProbeRecord
from kiboko.files.documents.nearby import nearby
from kiboko.files.documents.times import parse_time
from kiboko.files.elements.rejects import Rejects

FORM = "probe/1"
_NEEDED = "time", "from", "to", "address", "service", "outcome"
_MAGIC = 4
_LONGEST = 1e9
"""Milliseconds: no probe waits for an answer as long."""


def to_line(record: ProbeRecord) -> str:
    """A record as one line of JSON."""
    return json.dumps(
        {
            "kiboko": FORM,
            "time": record.time.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z"),
            "from": record.source,
            "to": record.destination,
            "address": record.address,
            "service": record.service,
            "source_port": record.source_port,
            "outcome": record.outcome,
            "rtt_ms": record.rtt_ms,
            "attempts": record.attempts,
            "sent_from": record.sent_from,
            "redirected": record.redirected,
        }
    )


def read_probes(path: Path, rejects: Rejects) -> Iterator[ProbeRecord]:
    """The records of a file, one by one; a line that is none is rejected. Raises InputError if unreadable."""
    try:
        with path.open("rb") as stream:
            head = stream.read(_MAGIC)
            stream.seek(0)
            is_plain = head.startswith(b"{")
            for number, line in enumerate(stream if is_plain else _unpacked(path, head, stream, rejects), 1):
                if not line.strip():
                    continue
                try:
                    yield _record(json.loads(line.decode("utf-8-sig" if number == 1 else "utf-8")))
                except (json.JSONDecodeError, UnicodeDecodeError, RecursionError):
                    kind = "torn last line" if not line.endswith(b"\n") else "not JSON"
                    rejects.note(kind, "the line is not JSON", number)
                except (ValueError, TypeError) as error:
                    rejects.note("not a probe record", str(error), number)
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}{'' if path.exists() else nearby(path)}") from error


def _unpacked(path: Path, head: bytes, stream: BinaryIO, rejects: Rejects) -> Iterable[bytes]:
    """The lines of a file that may be compressed, as far as it is whole."""
    from kiboko.files.elements.streams import PACKED, Unpacked, opened
    from kiboko.files.logs.flow_pieces import refuse_what_is_no_text, whole_form  # takes long to load

    form = whole_form(head)
    if form not in PACKED:
        refuse_what_is_no_text(head, str(path))
        return stream
    with opened(path, form) as packed:
        unpacked = Unpacked(packed)
        lines = unpacked.read().splitlines(True)
    if unpacked.fault:
        rejects.note(f"torn {form}", f"it ends in the middle: {unpacked.fault}", len(lines) + 1)
    return lines


def _record(value: Any) -> ProbeRecord:
    if not isinstance(value, dict):
        raise ValueError("a line is one JSON object")
    form = value.get("kiboko", FORM)
    if form != FORM:
        raise ValueError(f"the form is {form!r}, and {FORM} is read")
    if missing := [key for key in ("kiboko", *_NEEDED) if key not in value]:
        raise ValueError(f"{', '.join(map(repr, missing))} {'is' if len(missing) == 1 else 'are'} missing")
    if value["outcome"] not in OUTCOMES:
        raise ValueError(
            f"outcome '{value['outcome']}' is none of {', '.join(OUTCOMES)}" + nearest(str(value["outcome"]), OUTCOMES)
        )
    port, rtt = _number(value, "source_port", int), _number(value, "rtt_ms", int | float)
    if port is not None and not 0 <= port <= 65535:
        raise ValueError(f"source_port '{port}' is not a port")
    if rtt is not None and not 0 <= rtt < _LONGEST:
        raise ValueError(f"rtt_ms '{rtt}' is no time in milliseconds")
    redirected = value.get("redirected", False)
    if not isinstance(redirected, bool):
        raise ValueError(f"redirected '{redirected}' is neither true nor false")
    return ProbeRecord(
        time=parse_time(_text(value, "time")),
        source=_text(value, "from"),
        destination=_text(value, "to"),
        address=_address(value, "address"),
        service=_text(value, "service"),
        outcome=value["outcome"],
        source_port=int(port) if port else None,  # 0 is no port that anything is sent from
        rtt_ms=rtt,
        attempts=int(_number(value, "attempts", int) or 1),
        sent_from=_address(value, "sent_from") if value.get("sent_from") is not None else None,
        redirected=redirected,
    )


def _number(value: dict[str, Any], key: str, kind: Any) -> float | None:
    found = value.get(key)
    if found is not None and (isinstance(found, bool) or not isinstance(found, kind)):
        raise ValueError(f"{key} '{found}' is no number")
    return found


def _address(value: dict[str, Any], key: str) -> str:
    text = _text(value, key)
    try:
        parse_address(text)
    except ValueError as error:
        raise ValueError(f"{key} '{text}' is no address") from error
    return text


def _text(value: dict[str, Any], key: str) -> str:
    if not isinstance(value[key], str):
        raise ValueError(f"'{key}' is not text")
    return str(value[key])
