"""What all figures have in common: where they may be written, words from outside in them, and how they are saved."""

from __future__ import annotations

import importlib.util
from pathlib import Path
from typing import Any

from kiboko.core.errors import UsageError
from kiboko.files.documents.saving import check_writable, written_whole
from kiboko.views.text import clean


def check_figure(path: Path) -> None:
    """Raise, before any work is done, where a figure could not be drawn in the end: UsageError for another form or
    without the extra `plot`, EnvironmentFailure where it cannot be written."""
    if path.suffix not in (".png", ".svg"):
        raise UsageError(f"{path}: a figure is .png or .svg")
    if importlib.util.find_spec("matplotlib") is None:
        raise UsageError("--plot needs the extra: pip install 'kiboko[plot]'")
    check_writable(path, b"PNG" if path.suffix == ".png" else b"<svg")


def words(text: str) -> str:
    """Text from outside as a figure shows it: no control characters, and no dollar sign that begins a formula."""
    return clean(text).replace("$", r"\$")


def plotting(path: Path) -> Any:
    """Matplotlib's pyplot, which draws without a screen. Raises as `check_figure` does."""
    check_figure(path)
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    return pyplot


def save_figure(figure: Any, axes: tuple[Any, ...], path: Path) -> None:
    """Write a figure whole or not at all. Raises EnvironmentFailure where it cannot be written."""
    from matplotlib import pyplot

    for each in axes:
        each.spines[["top", "right"]].set_visible(False)
    try:
        with written_whole(path) as temporary:
            figure.savefig(temporary, dpi=100, format=path.suffix[1:])
    finally:
        pyplot.close(figure)
