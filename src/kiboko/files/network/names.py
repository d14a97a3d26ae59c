"""The names of a network: what may be one, that each is given once, and what the nearest one is."""

from __future__ import annotations

import re

from kiboko.core.errors import Place, Problem
from kiboko.core.header.addresses import address_hint, reads_as_address
from kiboko.core.hints import nearest

_NAME = re.compile(r"[a-z0-9][a-z0-9._-]*")
RESERVED = frozenset(("any", "all", "discard", "connected", "otherwise"))
# Names of these kinds share one space, so that a bare name is enough in a rule and on the command line (S16).
_ONE_SPACE = frozenset(("network", "subnet", "instance", "group", "outside", "filter", "zone", "gateway"))
_MOST_HINTS, _MANY_NAMES = 60, 1000
PEER_KINDS = ("instance", "interface", "subnet", "network", "group", "outside")


class Names:
    """The register of everything that is defined."""

    def __init__(self, problems: list[Problem]) -> None:
        self._problems = problems
        self._kinds: dict[str, dict[str, Place]] = {}
        self._shared: dict[str, tuple[str, Place]] = {}
        self._hints: dict[tuple[str, tuple[str, ...], str], str] = {}

    def define(self, kind: str, name: str, place: Place) -> bool:
        """Note a definition. False, and a problem, where the name cannot be used or is taken."""
        fault = name_fault(name)
        if fault:
            self._problems.append(Problem(place, f"{kind} '{name}': {fault}"))
            return False
        taken = self._kinds.setdefault(kind, {})
        if kind in _ONE_SPACE:
            other = self._shared.get(name)
        else:
            other = (kind, taken[name]) if name in taken else None
        if other is not None:
            text = f"{kind} '{name}': the name is taken by the {other[0]} in {other[1]}"
            self._problems.append(Problem(place, text))
            taken.setdefault(name, place)  # so that what refers to it is not told as well
            return False
        taken[name] = place
        if kind in _ONE_SPACE:
            self._shared[name] = (kind, place)
        return True

    def note_interface(self, name: str, place: Place) -> None:
        """Note an interface `instance/interface`, so that it can be referred to."""
        self._kinds.setdefault("interface", {})[name] = place

    def is_a(self, kind: str, name: str) -> bool:
        """Whether something of a kind has a name."""
        return name in self._kinds.get(kind, ())

    def refer(self, owner: str, name: str, kinds: tuple[str, ...], place: Place, word: str = "") -> bool:
        """Whether `name` is defined as one of `kinds`; if not, a problem that says what it is instead, or what may have
        been meant: another name, or the `word` that may stand there without being one."""
        if any(name in self._kinds.get(kind, ()) for kind in kinds):
            return True
        wanted = kinds[0] if len(kinds) == 1 else "end" if kinds[0] == "instance" else kinds[0]
        text = f"{owner} names {wanted} '{name}', which is not defined"
        if name in self._shared:
            kind = self._shared[name][0]
            text = f"{owner} names {wanted} '{name}', which is {'an' if kind[0] in 'aeio' else 'a'} {kind}"
        self._problems.append(Problem(place, text + self._hint(name, kinds, word)))
        return False

    def _hint(self, name: str, kinds: tuple[str, ...], word: str) -> str:
        """The nearest name that is defined; for a few names alone where each is looked for among thousands."""
        key = name, kinds, word
        if key not in self._hints:
            if len(self._hints) >= _MOST_HINTS and sum(len(self._kinds.get(kind, ())) for kind in kinds) > _MANY_NAMES:
                return ""
            known = [each for kind in kinds for each in self._kinds.get(kind, ())]
            self._hints[key] = address_hint(name) or nearest(name, [*known, *([word] if word else [])])
        return self._hints[key]


def name_fault(name: str) -> str | None:
    """Why a text cannot be a name, or None where it can."""
    if name in RESERVED:
        return f"'{name}' is a reserved word"
    if reads_as_address(name):
        return "a name must not read as an address"
    if not _NAME.fullmatch(name):
        return "a name is written with a-z, 0-9, '.', '_' and '-', and starts with a letter or digit"
    return None
