"""A matrix made visible: a grid of what gets through, then the services of each cell; CSV and JSON."""

from __future__ import annotations

import csv
import shlex
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, TextIO

import numpy as np

from kiboko.core.reachability.matrix import NO_PAIR, STATES, Cell, Matrix
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN
from kiboko.core.wording import counted
from kiboko.views.output import Grid, Output
from kiboko.views.text import clean

if TYPE_CHECKING:
    from kiboko.core.changes.cells import CellsCompared, OtherCell

MARKS = {ALLOWED: "all", PARTLY: "part", ONE_WAY: "1way", UNKNOWN: "?", BLOCKED: ".", NO_PAIR: "-"}
PUBLIC = "*"
"""Marks cells of which more gets through to public addresses."""
_WORDS = {
    ALLOWED: "all of it gets through", PARTLY: "some ends, some client ports or one address family only",
    ONE_WAY: "requests arrive, replies do not come back", UNKNOWN: "rests on a gate that is not known",
    BLOCKED: "nothing gets through", NO_PAIR: "no two ends that could meet",
}  # fmt: skip
_MANY = 40
"""As many names still fit beside each other on a screen."""
_MOST_LISTED, _MOST_SUMS = 60, 20
_BY_PUBLIC = "to public addresses"
_MORE = "more to public addresses"


@dataclass(frozen=True, slots=True)
class MatrixShown:
    """How a matrix is shown: what it is by, what else goes on a command line, how many cells are told in words, and the
    network files that it is of and that it is compared with."""

    by: str
    options: str
    top: int = _MOST_LISTED
    network: str = "network.yaml"
    against: str | None = None


def show_matrix(matrix: Matrix, shown: MatrixShown, out: Output) -> None:
    """The grid with its legend, then which services get through where."""
    count = len(matrix.names)
    out.line(f"{counted(count, 'name')} by {count:,}, on {counted(len(matrix.services), 'service')}:"
             f" {', '.join(matrix.services)}", "heading")  # fmt: skip
    out.line("Rows send, columns receive; recorded instances and outsides"
             " (unrecorded addresses of subnets are not in it).", "quiet")  # fmt: skip
    if count > _MANY:
        _show_sums(matrix, out)
    else:
        _show_table(matrix, out)
    if matrix.more_to_public.any():
        out.line(f"{PUBLIC}: senders inside get further with the public address of a machine than with its private one,"
                 " which the rest of a cell is about", "quiet")  # fmt: skip
    _list_cells(matrix, shown, out)


def _show_sums(matrix: Matrix, out: Output) -> None:
    """In the place of a table that is wider than a screen: how many names each gets to, those first that get to most,
    and by how many it is reached."""
    count = len(matrix.names)
    out.line(f"A table of {count:,} names is wider than a screen: --csv FILE and --plot FILE have it, and --by zone or"
             " --by network has fewer.", "quiet")  # fmt: skip
    out.heading("How many other names each gets to, and is reached by")
    state = np.where(np.eye(count, dtype=np.bool_)[..., None], STATES.index(NO_PAIR), matrix.state)
    is_whole, is_open = (state == STATES.index(ALLOWED)).any(axis=2), (state > STATES.index(BLOCKED)).any(axis=2)
    sums = [each.sum(axis=axis) for axis in (1, 0) for each in (is_whole, is_open & ~is_whole)]
    stars = np.where(matrix.more_to_public.any(axis=(1, 2)), PUBLIC, "")
    order = np.lexsort((-sums[1], -sums[0]))
    grid = Grid(["name", "gets to", "in part", "reached by", "in part "],
                numbers=("gets to", "in part", "reached by", "in part "))  # fmt: skip
    for row in order[:_MOST_SUMS].tolist():
        grid.add([matrix.names[row] + stars[row], *(f"{each[row]:,}" for each in sums)])
    out.grid(grid)
    if count > _MOST_SUMS:
        out.line(
            f"and {counted(count - _MOST_SUMS, 'more name that gets', 'more names that get')} to no more than these",
            "quiet",
        )
    out.line(
        "counted are names to which all ends get through on a service that is asked about; in part: some do", "quiet"
    )


def _show_table(matrix: Matrix, out: Output) -> None:
    """The names by each other, with a legend."""
    out.line()
    letters = [_letter(place) for place in range(len(matrix.names))]
    # Where several services are asked about, a cell counts them: so many whole, and so many in part.
    grid = Grid(["", "from \\ to", *letters])
    for row, (name, marks) in enumerate(zip(matrix.names, _marks(matrix), strict=True)):
        grid.add([letters[row], name, *marks])
    out.grid(grid)
    out.line()
    if len(matrix.services) == 1:
        met = Counter(STATES[each] for each in matrix.state.reshape(-1).tolist())
        out.line(";  ".join(f"{MARKS[state]}: {_WORDS[state]}" for state in reversed(STATES) if met[state]), "quiet")
    else:
        out.line("3: three services get through from all to all;  2+1: two, and one more in part or one way;"
                 "  .: none;  -: no two ends that could meet", "quiet")  # fmt: skip


def _marks(matrix: Matrix) -> Iterator[list[str]]:
    """What stands in the cells of the table, row by row."""
    state = matrix.state
    more = np.where(np.any(matrix.more_to_public, axis=2), PUBLIC, "").tolist()
    if state.shape[2] == 1:
        for row, stars in zip(state[..., 0].tolist(), more, strict=True):
            yield [MARKS[STATES[each]] + star for each, star in zip(row, stars, strict=True)]
        return
    whole = np.sum(state == STATES.index(ALLOWED), axis=2)
    part = np.sum(np.isin(state, [STATES.index(each) for each in (PARTLY, ONE_WAY, UNKNOWN)]), axis=2)
    is_none = np.all(state == STATES.index(NO_PAIR), axis=2)
    for row in zip(whole.tolist(), part.tolist(), is_none.tolist(), more, strict=True):
        yield [
            MARKS[NO_PAIR] if no_pair else (f"{all_ or ''}{f'+{some}' if some else ''}" or MARKS[BLOCKED]) + star
            for all_, some, no_pair, star in zip(*row, strict=True)
        ]


def _letter(place: int) -> str:
    """`a` to `z`, then `aa`, `ab`, …"""
    text = ""
    place += 1
    while place:
        place, digit = divmod(place - 1, 26)
        text = chr(ord("a") + digit) + text
    return text


def _list_cells(matrix: Matrix, shown: MatrixShown, out: Output) -> None:
    is_open = matrix.state > max(STATES.index(NO_PAIR), STATES.index(BLOCKED))
    pairs = np.argwhere((is_open | matrix.more_to_public).any(axis=2))
    told: dict[tuple[int, int], dict[str, list[str]]] = {}
    for source, destination in pairs[: shown.top].tolist():
        states = told.setdefault((source, destination), {})
        for service in np.flatnonzero(is_open[source, destination]).tolist():
            word = _state(matrix.cell(source, destination, service))
            states.setdefault(word, []).append(matrix.services[service])
        for service in np.flatnonzero(matrix.more_to_public[source, destination]).tolist():
            states.setdefault(_BY_PUBLIC, []).append(matrix.services[service])
    if not told:
        out.line("Nothing gets through.")
        return
    out.heading("What gets through")
    grid = Grid(["from", "to", "whole", "in part", "in detail"], wide=("whole", "in part"))
    for (source, destination), states in told.items():
        part = [f"{word}: {', '.join(services)}" for word, services in states.items() if word != ALLOWED]
        word, services = next(iter(states.items()))
        names = matrix.names[source], matrix.names[destination]
        line = (reach_line if word == _BY_PUBLIC else check_line)(*names, services[0], shown.options)
        grid.add([*names, ", ".join(states.get(ALLOWED, [])), "; ".join(part), line])
    out.grid(grid)
    if len(pairs) > shown.top:
        more = counted(len(pairs) - shown.top, "more pair of names", "more pairs of names")
        out.line(f"and {more}; --top N shows more, --csv FILE and --json all", "quiet")


def check_line(source: str, destination: str, service: str, options: str) -> str:
    """A line to be pasted that tells of a cell."""
    return f"kiboko check {source} {destination} {service.partition('+')[0]}{options}"


def reach_line(source: str, destination: str, service: str, options: str) -> str:
    """A line to be pasted that tells which public addresses of the receivers somebody gets through to."""
    return f"kiboko reach {destination} --service {service.partition('+')[0]}{options}"


def show_differences(matrix: Matrix, found: CellsCompared, shown: MatrixShown, out: Output) -> None:
    """The cells in which a matrix differs from that of another network file, with what they were there."""
    other = clean(shown.against or "")
    out.line(
        f"{counted(len(found.differ), 'cell differs', 'cells differ')} from {other}, of {matrix.state.size:,}.",
        "heading",
    )
    if found.alone:
        out.line(f"Names that only one of both has are left out: {', '.join(found.alone[:12])}", "quiet")
    grid = Grid(["from", "to", "service", f"in {other}", "here", "in detail"])
    for each in found.differ[: shown.top]:
        now = f"{_text(each.now)}, of other ends" if each.is_within else _text(each.now)
        grid.add([each.source, each.destination, each.service, _text(each.before), now, _detail(each, shown)])
    if found.differ:
        out.line()
        out.grid(grid)
    if len(found.differ) > shown.top:
        out.line(f"and {counted(len(found.differ) - shown.top, 'more cell')}; --top N shows more, --json all", "quiet")
    if found.untold:
        out.line(_untold(found))


def _detail(each: OtherCell, shown: MatrixShown) -> str:
    """A line to be pasted that tells more of a cell that differs."""
    if each.is_within:
        service = each.service.partition("+")[0]
        files = shlex.join((clean(shown.against or ""), clean(shown.network)))
        return f"kiboko compare {files} --service {service}"
    line_of = reach_line if _state(each.before) == _state(each.now) else check_line
    return line_of(each.source, each.destination, each.service, shown.options)


def _untold(found: CellsCompared) -> str:
    return (f"Of {counted(found.untold, 'cell')} that something gets through in part in both it is not known whether"
            " that is of the same ends: there are too many pairs; ask about fewer services")  # fmt: skip


def _state(cell: Cell) -> str:
    return cell.state if cell.by is None else f"{cell.state} (by {cell.by})"


def _text(cell: Cell) -> str:
    return f"{_state(cell)}, {_MORE}" if cell.more_to_public else _state(cell)


# CSV and JSON.


def write_csv(matrix: Matrix, stream: TextIO) -> None:
    """Every cell as a line. A name that a spreadsheet would take for a formula is none: names begin with a letter or a
    digit."""
    writer = csv.writer(stream)
    writer.writerow(["from", "to", "service", "state", "by", "more_to_public"])
    for row, source in enumerate(matrix.names):
        for column, destination in enumerate(matrix.names):
            for number, service in enumerate(matrix.services):
                cell = matrix.cell(row, column, number)
                writer.writerow([source, destination, service, cell.state, cell.by or "",
                                 "yes" if cell.more_to_public else ""])  # fmt: skip


def matrix_json(matrix: Matrix, shown: MatrixShown, found: CellsCompared | None) -> dict[str, Any]:
    """The matrix as `matrix/1`: every cell but those of names that have no two ends that could meet; with another one
    only what differs."""
    summary: dict[str, Any] = {"by": shown.by, "names": list(matrix.names), "services": list(matrix.services)}
    if found is not None:
        rows = [
            {"source": each.source, "destination": each.destination, "service": each.service, "state": each.now.state,
             "by": each.now.by, "more_to_public": each.now.more_to_public, "of_other_ends": each.is_within,
             "before": each.before.state, "before_by": each.before.by,
             "before_more_to_public": each.before.more_to_public, "check": _detail(each, shown)}
            for each in found.differ
        ]  # fmt: skip
        summary |= {"against": shown.against, "differ": len(rows), "not_known": found.untold}
        return {"kiboko": "matrix/1", "summary": summary, "rows": rows,
                "caveats": [_untold(found)] if found.untold else []}  # fmt: skip
    met = Counter(STATES[each] for each in matrix.state.reshape(-1).tolist())
    rows = []
    for source, destination, service in np.argwhere(matrix.state != STATES.index(NO_PAIR)).tolist():
        cell = matrix.cell(source, destination, service)
        names = matrix.names[source], matrix.names[destination], matrix.services[service]
        rows.append({"source": names[0], "destination": names[1], "service": names[2], "state": cell.state,
                     "by": cell.by, "more_to_public": cell.more_to_public,
                     "check": check_line(*names, shown.options)})  # fmt: skip
    return {"kiboko": "matrix/1", "summary": summary | {state.replace(" ", "_"): met[state] for state in STATES},
            "rows": rows, "caveats": []}  # fmt: skip
