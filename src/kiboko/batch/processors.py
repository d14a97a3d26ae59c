"""How many processors there are to work with."""

from __future__ import annotations

import math
import os
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

_GROUPS = Path("/sys/fs/cgroup")


def usable() -> int:
    """How many processors this process may use: those that it is bound to (sched_setaffinity(2)), and no more than its
    control groups let it have (cgroups(7)), as in a container that may use two of a machine's sixty-four."""
    bound = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return max(1, math.ceil(min([bound, *_quotas()])))


def _quotas() -> Iterator[float]:
    """As many processors as each group that this process is in may have at a time, where it says."""
    for folder in _folders():
        try:
            quota, period = (folder / "cpu.max").read_text().split()
            yield int(quota) / int(period)
        except (OSError, ValueError, ZeroDivisionError):  # no such file, or `max`: as many as there are
            continue


def _folders() -> Iterator[Path]:
    """The group of this process, and those that it lies in."""
    try:
        lines = Path("/proc/self/cgroup").read_text().splitlines()
    except OSError:
        return
    for line in lines:
        if line.startswith("0::/"):
            own = PurePosixPath(line[4:])
            yield from (_GROUPS / each for each in (own, *own.parents) if ".." not in each.parts)
