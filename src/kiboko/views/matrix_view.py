"""A matrix made visible: a grid of what gets through, then the services of each cell; CSV and JSON."""

from __future__ import annotations

import csv
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, TextIO

import numpy as np

from kiboko.core.reachability.matrix import NO_PAIR, STATES, Cell, Matrix
from kiboko.core.walk.walk import ALLOWED, BLOCKED, ONE_WAY, PARTLY, UNKNOWN
from kiboko.views.output import Grid, Output
from kiboko.views.text import clean, counted

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
    """How a matrix is shown: what it is by, what else goes on a command line, and how many cells are told in words."""

    by: str
    options: str
    top: int = _MOST_LISTED


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
        out.line(f"and {counted(count - _MOST_SUMS, 'more name')} that get to no more than these", "quiet")
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
        out.line("  ".join(f"{MARKS[state]}: {_WORDS[state]};" for state in reversed(STATES) if met[state]), "quiet")
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


def show_differences(matrix: Matrix, other: Matrix, against: str, shown: MatrixShown, out: Output) -> bool:
    """The cells in which two matrices differ, with what they were there; whether there are any."""
    found = list(differences(matrix, other))
    names = set(matrix.names) ^ set(other.names)
    out.line(f"{counted(len(found), 'cell')} differ from {clean(against)}, of {matrix.state.size:,}.", "heading")
    if names:
        out.line(f"Names that only one of both has are left out: {', '.join(sorted(names)[:12])}", "quiet")
    grid = Grid(["from", "to", "service", f"in {clean(against)}", "here", "in detail"])
    for source, destination, service, before, now in found[: shown.top]:
        line_of = reach_line if _state(before) == _state(now) else check_line
        line = line_of(source, destination, service, shown.options)
        grid.add([source, destination, service, _text(before), _text(now), line])
    if found:
        out.line()
        out.grid(grid)
    if len(found) > shown.top:
        out.line(f"and {counted(len(found) - shown.top, 'more cell')}; --top N shows more, --json all", "quiet")
    return bool(found)


def differences(matrix: Matrix, other: Matrix) -> Iterator[tuple[str, str, str, Cell, Cell]]:
    """The cells of both that differ: source, destination, service, what it is in the other and in this one."""
    mine = [[place for place, name in enumerate(some) if name in known]
            for some, known in ((matrix.names, set(other.names)), (matrix.services, set(other.services)))]  # fmt: skip
    theirs = ([other.names.index(matrix.names[at]) for at in mine[0]],
              [other.services.index(matrix.services[at]) for at in mine[1]])  # fmt: skip
    here, there = np.ix_(mine[0], mine[0], mine[1]), np.ix_(theirs[0], theirs[0], theirs[1])
    differ = matrix.state[here] != other.state[there]
    differ |= (matrix.state[here] == STATES.index(PARTLY)) & (matrix.by_port[here] != other.by_port[there])
    differ |= matrix.more_to_public[here] != other.more_to_public[there]
    for row, column, number in np.argwhere(differ).tolist():
        source, destination, service = mine[0][row], mine[0][column], mine[1][number]
        yield (
            matrix.names[source], matrix.names[destination], matrix.services[service],
            other.cell(theirs[0][row], theirs[0][column], theirs[1][number]),
            matrix.cell(source, destination, service),
        )  # fmt: skip


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


def matrix_json(matrix: Matrix, shown: MatrixShown, against: str | None, other: Matrix | None) -> dict[str, Any]:
    """The matrix as `matrix/1`: every cell but those of names that have no two ends that could meet; with another one
    only what differs."""
    summary: dict[str, Any] = {"by": shown.by, "names": list(matrix.names), "services": list(matrix.services)}
    if other is not None:
        rows = [
            {"source": source, "destination": destination, "service": service, "state": now.state, "by": now.by,
             "more_to_public": now.more_to_public,
             "before": before.state, "before_by": before.by, "before_more_to_public": before.more_to_public,
             "check": check_line(source, destination, service, shown.options)}
            for source, destination, service, before, now in differences(matrix, other)
        ]  # fmt: skip
        return {"kiboko": "matrix/1", "summary": summary | {"against": against, "differ": len(rows)}, "rows": rows,
                "caveats": []}  # fmt: skip
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
