"""Pairs of timings taken in turn, so that a machine whose speed drifts still gives a fair ratio."""

import statistics
import subprocess
import time
from collections.abc import Callable


def seconds(action: Callable[[], object]) -> float:
    """Wall-clock seconds of one run."""
    began = time.perf_counter()
    action()
    return time.perf_counter() - began


def ratio(ours: Callable[[], object], theirs: Callable[[], object], runs: int = 7) -> tuple[float, float, float]:
    """Medians of both in seconds, and the median of the ratios taken pair by pair, after one warm-up each."""
    ours()
    theirs()
    pairs = [(seconds(ours), seconds(theirs)) for _ in range(runs)]
    return (
        statistics.median(a for a, _ in pairs),
        statistics.median(b for _, b in pairs),
        statistics.median(a / b for a, b in pairs),
    )


def command(*words: str, cwd: str | None = None) -> Callable[[], object]:
    """A whole process as something to time."""
    return lambda: subprocess.run(words, cwd=cwd, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)


def report(what: str, ours: float, theirs: float, times: float, bar: float | None) -> None:
    """One line: what was measured, both times, the ratio and its bar, where there is one."""
    said = f" (bar {bar})" if bar is not None else ""
    print(f"{what}: {ours:.3f} s against {theirs:.3f} s, ratio {times:.2f}{said}", flush=True)
