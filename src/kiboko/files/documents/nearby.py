"""A file that is not there: the nearest names that are there in its place."""

from __future__ import annotations

from pathlib import Path

from kiboko.core.hints import nearest

_MOST = 2_000
"""As many names of a folder are looked at."""


def nearby(path: Path) -> str:
    """`; did you mean 'changes/close.yaml'?` for the names most like that of a file that is not there, or like that of
    the folder of its way that is not; nothing where none is."""
    while not path.parent.is_dir() and path.parent != path:
        path = path.parent
    try:
        names = [str(each) for each, _ in zip(path.parent.iterdir(), range(_MOST), strict=False)]
    except OSError:
        return ""
    return nearest(str(path), names, 2, 0.75)
