"""A matrix as a figure: a field for each pair of names, coloured by what gets through."""

from __future__ import annotations

import textwrap
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kiboko.core.reachability.matrix import NO_PAIR, STATES, Matrix
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN
from kiboko.views.figures import plotting, save_figure, words
from kiboko.views.matrix_view import PUBLIC

_COLOURS = {NO_PAIR: "#ffffff", BLOCKED: "#e7e3da", ONE_WAY: "#8e44ad", UNKNOWN: "#9aa5b1", PARTLY: "#d9a441",
            ALLOWED: "#2f7d6d"}  # fmt: skip
_MOST_NAMES = 60
_MOST_SERVICES = 12


def draw_matrix(matrix: Matrix, path: Path) -> None:
    """Draw to a PNG or SVG file: of one service its states, of several how many get through, whole or in part. Raises
    UsageError for another form, EnvironmentFailure where it cannot be written."""
    pyplot = plotting(path)
    from matplotlib.colors import ListedColormap, to_rgb
    from matplotlib.patches import Patch

    names = [words(name) for name in matrix.names[:_MOST_NAMES]]
    count = len(names)
    state = matrix.state[:count, :count]
    more: NDArray[np.bool_] = np.any(matrix.more_to_public[:count, :count], axis=2)
    size = 9 if count <= 16 else 7 if count <= 30 else 5
    figure, axes = pyplot.subplots(figsize=(12.8, 8), layout="constrained")
    if len(matrix.services) == 1:
        axes.imshow(state[:, :, 0], cmap=ListedColormap([_COLOURS[each] for each in STATES]), vmin=0,
                    vmax=len(STATES) - 1, aspect="auto")  # fmt: skip
        for row, column in np.argwhere(more).tolist():
            axes.text(column, row, PUBLIC, ha="center", va="center", fontsize=size)
        met = [each for number, each in enumerate(STATES) if (state == number).any()]
        axes.legend(handles=[Patch(facecolor=_COLOURS[each], edgecolor="#9aa5b1", label=each) for each in met[::-1]],
                    loc="upper left", bbox_to_anchor=(1.01, 1), frameon=False)  # fmt: skip
        title = f"What gets through on {words(matrix.services[0])}"
    else:
        whole = (state == STATES.index(ALLOWED)).sum(axis=2)
        part = np.isin(state, [STATES.index(each) for each in (ONE_WAY, UNKNOWN, PARTLY)]).sum(axis=2)
        most = max(1, int((whole + part).max()))
        ground, through, partly = (np.array(to_rgb(each)) for each in ("#f3f0e8", _COLOURS[ALLOWED], _COLOURS[PARTLY]))
        share, other = 0.25 * (whole > 0) + 0.75 * whole / most, 0.25 * (part > 0) + 0.5 * part / most
        other = np.minimum(other, 1 - share)
        axes.imshow(
            ground + share[..., None] * (through - ground) + other[..., None] * (partly - ground), aspect="auto"
        )
        listed = ", ".join(words(each) for each in matrix.services[:_MOST_SERVICES])
        title = f"How many services get through: whole + in part, of {len(matrix.services)} ({listed})"
        for row, column in np.argwhere((whole + part > 0) | more).tolist():
            text = f"{whole[row, column] or ''}{f'+{part[row, column]}' if part[row, column] else ''}"
            text += PUBLIC if more[row, column] else ""
            dark = whole[row, column] > most / 2
            axes.text(column, row, text, ha="center", va="center", fontsize=size, color="white" if dark else "#333333")
    small = 10 if count <= 16 else 8 if count <= 30 else 6
    axes.set_xticks(range(count), names, rotation=60, ha="left", rotation_mode="anchor", fontsize=small)
    axes.set_yticks(range(count), names, fontsize=small)
    axes.xaxis.tick_top()
    axes.set_xticks(np.arange(count + 1) - 0.5, minor=True)
    axes.set_yticks(np.arange(count + 1) - 0.5, minor=True)
    axes.grid(which="minor", color="white", linewidth=1)
    axes.tick_params(which="both", length=0)
    left = f" (the first {_MOST_NAMES} of {len(matrix.names)} names)" if len(matrix.names) > count else ""
    told = f" {PUBLIC}: senders inside get further by public addresses." if more.any() else ""
    text = textwrap.fill(f"{title}{left}. Rows send, columns receive.{told}", 150)
    axes.set_xlabel(text, loc="left", fontsize=9)
    save_figure(figure, (axes,), path)
