"""Memory, where very many values are made at once."""

from __future__ import annotations

import contextlib
import gc
from collections.abc import Iterator


@contextlib.contextmanager
def without_garbage() -> Iterator[None]:
    """Without the search for cycles, for values that are made by the hundred thousand and stay until the end."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def as_old() -> None:
    """Take all that there is for old, so that the next search for cycles among what is new does not look at it."""
    gc.freeze()
    gc.unfreeze()
