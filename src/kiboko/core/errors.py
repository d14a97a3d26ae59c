"""Every way Kiboko can refuse: one hierarchy, each error with its place and a hint of what to do."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple


class Place(NamedTuple):
    """Where something is written: a file as the user named it, and a line counted from 1. A tuple, since there are very
    many."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing wrong with an input: where, what, and (in the same sentence) what to do about it."""

    place: Place | None
    text: str

    def __str__(self) -> str:
        return f"{self.place}: {self.text}" if self.place else self.text


class KibokoError(Exception):
    """The root of all errors that Kiboko raises on purpose; its text is fit to be shown to the user."""

    exit_status = 2


class InputError(KibokoError):
    """An input that cannot be used. Carries every problem found, not only the first."""

    def __init__(self, problems: list[Problem] | str) -> None:
        found = [Problem(None, problems)] if isinstance(problems, str) else problems
        super().__init__("\n".join(str(problem) for problem in found))
        self.problems = found


class UsageError(KibokoError):
    """A command line that cannot be carried out: an unknown endpoint, two options that exclude each other."""


class TooMuch(UsageError):
    """A question about more than can be looked at at once. `what` says how much, the text what to ask as well."""

    def __init__(self, what: str, instead: str) -> None:
        super().__init__(what, instead)
        self.what = what

    def __str__(self) -> str:
        return f"{self.args[0]}: {self.args[1]}"


class EnvironmentFailure(KibokoError):
    """The machine around Kiboko failed: writing, sockets, privileges."""

    exit_status = 3
