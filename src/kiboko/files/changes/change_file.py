"""Reading a change file: what is to be changed in a network file, with a name and a reason."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kiboko.core.errors import InputError, Place, Problem
from kiboko.core.hints import nearest
from kiboko.files.changes.shapes import VERBS, ChangeFileShape
from kiboko.files.documents import lined_yaml
from kiboko.files.documents.edited_yaml import flow_text
from kiboko.files.documents.lined_yaml import Items, Table
from kiboko.files.documents.nearby import nearby
from kiboko.files.documents.shapes import Shape, held_against, of_another_kind

_NAME = re.compile(r"[a-z0-9][a-z0-9._-]*")


@dataclass(frozen=True, slots=True)
class Step:
    """One change of a change file: what is done, as it is written and as its shape has it, and where it stands."""

    verb: str
    raw: Any
    told: Any
    place: Place


@dataclass(frozen=True, slots=True)
class Change:
    """A change file. `name` is what the change is called, and `reason` why it is made."""

    name: str
    reason: str
    steps: tuple[Step, ...]
    file: str


def read_change(path: Path) -> Change:
    """A change file: YAML that begins with `kiboko: change/1`. Raises InputError with everything that is wrong with
    it."""
    if not path.exists():
        raise InputError(f"{path}: no such change file{nearby(path)}")
    return change_of(lined_yaml.read_text(path, str(path)), str(path))


def change_of(text: str, file: str) -> Change:
    """A change file by its text. Raises InputError with everything that is wrong with it."""
    raw, problems = lined_yaml.parse(text, file)
    if isinstance(raw, Table) and (other := of_another_kind(raw, "change/1")):
        raise InputError(other)
    if not isinstance(raw, Table) or not str(raw.get("kiboko", "")).startswith("change"):
        raise InputError([Problem(Place(file, 1), "this is no change file; it starts with 'kiboko: change/1'")])
    shape = held_against(ChangeFileShape, raw, problems)
    if shape is None:
        raise InputError(problems)
    if not _NAME.fullmatch(shape.name):
        problems.append(Problem(raw.place("name"), f"'{shape.name}' is no name: a-z, 0-9, '.', '_' and '-', and it"
                                " starts with a letter or digit"))  # fmt: skip
    listed = raw["changes"]
    steps = []
    for index, each in enumerate(shape.changes):
        place = listed.place(index) if isinstance(listed, Items) else raw.place("changes")
        given = [verb for verb in listed[index] if verb in VERBS]
        if len(given) != 1:
            what = f"{' and '.join(given)} are {len(given)} of them" if given else "it says nothing"
            problems.append(Problem(place, f"a change is one thing to do: {what}"))
            continue
        if listed[index][given[0]] is None:
            problems.append(Problem(place, f"{given[0]} does not say what"))
            continue
        steps.append(Step(given[0], listed[index][given[0]], getattr(each, given[0]), place))
    if not shape.changes:
        problems.append(Problem(raw.place("changes"), "nothing is to be changed"))
    if problems:
        raise InputError(problems)
    return Change(shape.name, shape.reason, tuple(steps), file)


def is_change_file(path: Path) -> bool:
    """Whether a file is meant as a change, by its beginning."""
    try:
        with path.open("rb") as stream:
            head = stream.read(1 << 12).decode("utf-8-sig", "replace")
    except OSError:
        return False
    return re.search(r"""^\s*['"]?kiboko['"]?\s*:\s*['"]?change""", head, re.MULTILINE) is not None


def change_text(name: str, reason: str, steps: list[dict[str, Any]]) -> str:
    """A change file as text."""
    lines = ["kiboko: change/1", f"name: {flow_text(name)}"]
    if reason:
        lines.append(f"reason: {flow_text(reason)}")
    lines.append("changes:")
    lines += [f"  - {verb}: {flow_text(told)}" for step in steps for verb, told in step.items()]
    return "\n".join(lines) + "\n"


def unknown(kind: str, name: str, known: list[str]) -> str:
    """That there is no such name, with the nearest that there is."""
    return f"there is no {kind} '{name}'{nearest(name, known, likeness=0.5)}"


__all__ = ["Change", "Shape", "Step", "change_of", "change_text", "is_change_file", "read_change", "unknown"]
