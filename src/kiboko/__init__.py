"""Kiboko: is this traffic allowed, which rule decides it, and does the real network agree?

For scripts: `load`, `check`, `check_set`, `reach`, `audit` and `confirm`, with what they return and raise. See
docs/scripts.md.
"""

from __future__ import annotations

__version__ = "0.1.0"

TYPE_CHECKING = False  # as `typing` has it, which takes a tenth of a start to load

if TYPE_CHECKING:
    from kiboko.api import Answer, Confirmation, Network, Rows, SetAnswer, audit, check, check_set, confirm, load, reach
    from kiboko.core.errors import EnvironmentFailure, InputError, KibokoError, UsageError

__all__ = [
    "Answer",
    "Confirmation",
    "EnvironmentFailure",
    "InputError",
    "KibokoError",
    "Network",
    "Rows",
    "SetAnswer",
    "UsageError",
    "audit",
    "check",
    "check_set",
    "confirm",
    "load",
    "reach",
]
_ERRORS = frozenset(("EnvironmentFailure", "InputError", "KibokoError", "UsageError"))


def __getattr__(name: str) -> object:
    """The names above, each brought in when it is first used: the program itself needs none of them to start."""
    if name not in __all__:
        raise AttributeError(f"module 'kiboko' has no attribute '{name}'")
    from importlib import import_module

    return getattr(import_module("kiboko.core.errors" if name in _ERRORS else "kiboko.api"), name)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
