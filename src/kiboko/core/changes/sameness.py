"""Whether two values of a network say the same, wherever it is written."""

from __future__ import annotations

import dataclasses
import functools
from collections.abc import Mapping, Sequence
from datetime import datetime
from types import NoneType
from typing import Any

from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import PackedListeners


def is_same(one: object, other: object) -> bool:
    """Whether two values say the same, wherever it is written."""
    return one is other or bare(one) == bare(other)


_PLAIN = frozenset((str, int, bool, float, NoneType, datetime, Address, Prefix, RangeSet, AddressSet))
"""What says nothing of where it is written."""


def bare(value: object) -> object:
    """A value without where it is written: two files that say the same are the same."""
    kind: Any = type(value)
    if kind in _PLAIN:
        return value
    if kind is Place:
        return None
    if isinstance(value, HostRuleSet):
        return value.meaning  # a listing of the same rules may lie elsewhere, and may have counted more packets
    known = _fields_of(kind)
    if known is not None:
        return known[0], tuple([bare(getattr(value, name)) for name in known[1]])
    if isinstance(value, PackedListeners):
        value = value.sockets
    if isinstance(value, Mapping):
        return {key: bare(each) for key, each in value.items()}
    if isinstance(value, Sequence) and not isinstance(value, str | bytes):
        return tuple([bare(each) for each in value])
    return value


@functools.cache
def _fields_of(kind: type[Any]) -> tuple[type, tuple[str, ...]] | None:
    """A dataclass and its fields; of a class that only makes them in another way the one that has them. None for any
    other."""
    whole = next((each for each in kind.__mro__ if "__dataclass_fields__" in vars(each)), None)
    return None if whole is None else (whole, tuple(field.name for field in dataclasses.fields(whole)))
