"""Parts of a kept network of which most are never asked for, and which are made when they are."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from kiboko.core.errors import Place
from kiboko.core.network import model
from kiboko.core.network.host_rules import Chain, HostRuleSet


class ListenersLater(model.PackedListeners):
    """Listeners of one machine as they are kept: most are never made."""

    __slots__ = ("_accepting", "_made", "_packed", "_sockets")

    def __init__(self, packed: bytes, sockets: Sequence[model.Listener]) -> None:
        """`sockets` are what is listened to anywhere, each at any place."""
        self._packed, self._sockets = packed, sockets
        self._made: tuple[model.Listener, ...] | None = None
        self._accepting: list[model.Listener] | None = None

    @property
    def sockets(self) -> list[model.Listener]:
        """What they accept, shared with other machines."""
        if self._accepting is None:
            self._accepting = [self._sockets[each] for each in self._flat()[::3]]
        return self._accepting

    def _flat(self) -> list[Any]:
        import msgpack

        found: list[Any] = msgpack.unpackb(self._packed)
        return found

    def _all(self) -> tuple[model.Listener, ...]:
        if self._made is None:
            flat = self._flat()
            self._made = tuple(
                self._sockets[which]._replace(place=Place(file, line))
                for which, file, line in zip(flat[::3], flat[1::3], flat[2::3], strict=True)
            )
        return self._made

    def __len__(self) -> int:
        return len(self._all())

    def __getitem__(self, place: Any) -> Any:
        return self._all()[place]

    def __iter__(self) -> Iterator[model.Listener]:
        return iter(self._all())

    def __eq__(self, other: object) -> bool:
        return self._all() == (other._all() if isinstance(other, ListenersLater) else other)

    def __hash__(self) -> int:
        return hash(self._all())

    def __repr__(self) -> str:
        return repr(self._all())


class Held:
    """What rule sets of kernels hold, as it is kept: many machines have the same, in files of their own."""

    def __init__(self, packed: bytes, make: Callable[[bytes], Any]) -> None:
        """`make` makes chains, chains by their names, and address families of what was packed."""
        self._packed, self._make = packed, make

    @cached_property
    def made(self) -> HostRuleSet:
        """The rule set, in no file."""
        return HostRuleSet("", *self._make(self._packed))


class RulesLater(HostRuleSet):
    """A rule set of a kernel of which only the file is known until somebody asks what it holds."""

    __slots__ = ("_held",)
    _held: Held

    def __init__(self, file: str, held: Held) -> None:
        object.__setattr__(self, "file", file)
        object.__setattr__(self, "_held", held)

    @property
    def chains(self) -> tuple[Chain, ...]:
        """Its chains."""
        return self._held.made.chains

    @property
    def by_name(self) -> Mapping[tuple[str, str, str], Chain]:
        """Its chains by family, table and name."""
        return self._held.made.by_name

    @property
    def tracked(self) -> tuple[int, ...]:
        """The address families of which connections are tracked."""
        return self._held.made.tracked

    @property
    def whole(self) -> HostRuleSet:
        """The same, made."""
        return HostRuleSet(self.file, self.chains, self.by_name, self.tracked)

    def __eq__(self, other: object) -> bool:
        return self.whole == (other.whole if isinstance(other, RulesLater) else other)

    __hash__ = HostRuleSet.__hash__

    def __reduce__(self) -> tuple[Any, ...]:
        return HostRuleSet, (self.file, self.chains, self.by_name, self.tracked)

    def __repr__(self) -> str:
        return repr(self.whole)
