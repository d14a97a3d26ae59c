"""Work that others may do: what has a function called with some numbers, as `map` does, perhaps by other processes."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

Spread = Callable[[Callable[[int], Any], Iterable[int]], Iterable[Any]]
