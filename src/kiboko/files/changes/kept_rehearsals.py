"""Rehearsals that are kept: what a change was to do and why, to be held against what was seen afterwards."""

from __future__ import annotations

import dataclasses
import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from kiboko.core.errors import InputError, UsageError
from kiboko.core.header.addresses import AddressSet, parse_address_set
from kiboko.core.header.ranges import RangeSet
from kiboko.files.documents.saving import write_whole

FORM = "rehearsal/1"
_NAME = re.compile(r"[a-z0-9][a-z0-9._-]*")


@dataclass(frozen=True, slots=True)
class KeptExample:
    """A pair whose verdict was to change, as a question names it."""

    source: str
    destination: str
    service: str
    family: int


@dataclass(frozen=True, slots=True)
class KeptLine:
    """Verdicts that were to change: from some addresses to some on some services, what they were and were to be, and
    how that was told; `check` asks about an example with the change made."""

    kind: str
    before: str
    after: str
    senders: AddressSet
    targets: AddressSet
    services: RangeSet
    told: str
    check: str
    example: KeptExample | None = None


@dataclass(frozen=True, slots=True)
class KeptRehearsal:
    """A rehearsal as it was kept: its name, why the change was made, when it was rehearsed, and of what."""

    name: str
    reason: str
    made: datetime
    network: str
    change: str
    lines: tuple[KeptLine, ...]


def path_of(folder: Path, name: str) -> Path:
    """Where a rehearsal is kept. Raises UsageError for a name that is none."""
    if not _NAME.fullmatch(name):
        raise UsageError(f"'{name}' is no name: a-z, 0-9, '.', '_' and '-', and it starts with a letter or digit")
    return folder / f"{name}.json"


def keep(folder: Path, kept: KeptRehearsal) -> Path:
    """Write a rehearsal into the folder. Raises UsageError where one of that name is there, EnvironmentFailure."""
    path = path_of(folder, kept.name)
    if path.exists():
        raise UsageError(f"{path} is there already: choose another name, or remove it")
    write_whole(path, (json.dumps(_as_json(kept), indent=1, ensure_ascii=False) + "\n").encode())
    return path


def read_kept(path: Path) -> KeptRehearsal:
    """A rehearsal that was kept. Raises InputError where it is none."""
    try:
        told = _Written.model_validate_json(path.read_bytes())
        made = datetime.fromisoformat(told.made)
        if made.tzinfo is None:
            raise ValueError("its time has no zone")
        lines = tuple(_line(each) for each in told.rows)
        return KeptRehearsal(told.name, told.reason, made, told.network, told.change, lines)
    except FileNotFoundError as error:
        raise InputError(f"{path}: there is no such rehearsal; --list shows those that are kept") from error
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}") from error
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        raise InputError(f"{path}: this is no rehearsal that was kept: {where or 'it'}: {first['msg']}") from error
    except ValueError as error:
        raise InputError(f"{path}: this is no rehearsal that was kept: {error}") from error


def listed(folder: Path) -> Iterator[KeptRehearsal]:
    """All that are kept in a folder, the newest first. Raises InputError."""
    found = [read_kept(path) for path in sorted(folder.glob("*.json"))] if folder.is_dir() else []
    yield from sorted(found, key=lambda each: each.made, reverse=True)


def now() -> datetime:
    """The time at which one is made."""
    return datetime.now(UTC).replace(microsecond=0)


class _Text(BaseModel):
    model_config = ConfigDict(strict=True)


class _Example(_Text):
    source: str
    destination: str
    service: str
    family: Literal[4, 6]


class _WrittenLine(_Text):
    kind: str
    before: str
    after: str
    told: str
    check: str
    senders: list[str]
    targets: list[str]
    services: list[tuple[int, int]]
    example: _Example | None = None


class _Written(_Text):
    """A rehearsal as it stands in its file."""

    kiboko: Literal["rehearsal/1"]
    name: str
    reason: str
    made: str
    network: str
    change: str
    rows: list[_WrittenLine]


def _line(told: _WrittenLine) -> KeptLine:
    senders, targets = (AddressSet.union(map(parse_address_set, each)) for each in (told.senders, told.targets))
    example = KeptExample(**told.example.model_dump()) if told.example is not None else None
    services = RangeSet.of(told.services)
    return KeptLine(told.kind, told.before, told.after, senders, targets, services, told.told, told.check, example)


def _as_json(kept: KeptRehearsal) -> dict[str, Any]:
    return {
        "kiboko": FORM,
        "name": kept.name,
        "reason": kept.reason,
        "made": kept.made.isoformat().replace("+00:00", "Z"),
        "network": kept.network,
        "change": kept.change,
        "rows": [
            {
                "kind": each.kind,
                "before": each.before,
                "after": each.after,
                "told": each.told,
                "check": each.check,
                **({"example": dataclasses.asdict(each.example)} if each.example is not None else {}),
                "senders": each.senders.texts(),
                "targets": each.targets.texts(),
                "services": [list(pair) for pair in each.services],
            }
            for each in kept.lines
        ],
    }
