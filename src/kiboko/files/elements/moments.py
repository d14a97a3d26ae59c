"""Times as text, in the forms that logs have them, as milliseconds since 1970 UTC."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.flow_table import NO_TIME, milliseconds

_DIRECTIVES = frozenset("aAbBdfHIjmMpSyYzZ%")
_SHORT = {"T": "%H:%M:%S", "D": "%m/%d/%y", "F": "%Y-%m-%d", "R": "%H:%M", "h": "%b", "e": "%d"}
_SECONDS, _MILLISECONDS, _MICROSECONDS, _NANOSECONDS = 10**8, 10**11, 10**14, 10**17
"""From where on a number is one of each unit: of March 1973, and once more in the year 5138."""
UNREADABLE, PLAIN, ZONELESS, REPEATED = range(4)
"""What a text was: no time that can be read, a time that is sure, one without a zone, or one of an hour that the clocks
of its zone show twice."""


def unknown_directive(form: str) -> str | None:
    """The first directive of a form (that of strftime(3)) that cannot be read back; None where all can."""
    for found in re.finditer(r"%(.?)", form):
        if found[1] not in _DIRECTIVES and found[1] not in _SHORT:
            return found[0]
    return None


def read_moments(
    texts: Sequence[str | None], form: str | None = None, zone: str | None = None
) -> tuple[NDArray[np.int64], NDArray[np.uint8]]:
    """Texts as times, int64[n] in milliseconds with `NO_TIME` for none, and what each was, uint8[n].

    `form` is that of strptime(3); without one texts are ISO 8601 (RFC 3339). A text that names no zone is of `zone`, or
    of UTC. Of an hour that a clock shows twice it is the earlier; an hour that a clock leaves out is no time.
    """
    own = ZoneInfo(zone) if zone is not None else None
    whole = re.sub(r"%(.)", lambda found: _SHORT.get(found[1], found[0]), form) if form is not None else None
    known: dict[str | None, tuple[int, int]] = {None: (int(NO_TIME), UNREADABLE), "": (int(NO_TIME), UNREADABLE)}
    moments = np.empty(len(texts), dtype=np.int64)
    kinds = np.empty(len(texts), dtype=np.uint8)
    for index, text in enumerate(texts):
        found = known.get(text)
        if found is None:
            assert text is not None
            found = _read(text, whole, own)
            if len(known) < 100_000:
                known[text] = found
        moments[index], kinds[index] = found
    return moments, kinds


def _read(text: str, form: str | None, zone: ZoneInfo | None) -> tuple[int, int]:
    try:
        moment = datetime.fromisoformat(text) if form is None else datetime.strptime(text, form)
        if moment.tzinfo is not None:
            return milliseconds(moment.astimezone(UTC)), PLAIN
        if zone is None:
            return milliseconds(moment.replace(tzinfo=UTC)), ZONELESS
        local = moment.replace(tzinfo=zone)
        back = local.astimezone(UTC).astimezone(zone).replace(tzinfo=None)
        if back != moment:
            return int(NO_TIME), UNREADABLE
        is_repeated = local.utcoffset() != local.replace(fold=1).utcoffset()
        return milliseconds(local.astimezone(UTC)), REPEATED if is_repeated else PLAIN
    except (ValueError, OverflowError):
        return int(NO_TIME), UNREADABLE


def by_size(values: NDArray[Any]) -> NDArray[np.int64]:
    """Numbers since 1970 UTC whose unit nobody told, int64[n] or float64[n], in milliseconds, int64[n]: ten digits are
    seconds, thirteen milliseconds, sixteen microseconds, nineteen nanoseconds. What is smaller stays as it is."""
    bounds = [values < least for least in (_SECONDS, _MILLISECONDS, _MICROSECONDS, _NANOSECONDS)]
    told = np.select(bounds, [values, values * 1_000, values, (values + 500) // 1_000], (values + 500_000) // 1_000_000)
    found: NDArray[np.int64] = np.rint(told).astype(np.int64)
    return found
