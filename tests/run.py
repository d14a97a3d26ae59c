"""Runs every test, on all processors, and ends with one line: N passed, N failed, N skipped.

Modules are handed out to worker processes, those that took longest when they were last measured first. A module is
never split, so that what its classes set up is made once.
"""

import concurrent.futures
import io
import multiprocessing
import os
import sys
import time
import unittest
from dataclasses import dataclass, field
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
# Those that take longest, by their last measurement: begun first, so that no worker ends alone with one of them.
LONGEST = ("replica.test_truth", "replica.test_replica", "core.test_difference", "core.test_sets",
           "commands.test_collect", "core.test_kernel_rules", "core.test_reach", "replica.test_truth_of_exporters",
           "replica.test_causes_of_faults", "files.test_cut_logs", "core.test_reproducers", "files.test_cluster",
           "core.test_discovery", "core.test_gate_tables", "core.test_matrix", "commands.test_commands",
           "core.test_watch", "replica.test_truth_of_strangers", "commands.test_mistakes", "files.test_flow_reader",
           "core.test_audit", "core.test_evaluator", "commands.test_interruption", "replica.test_truth_of_pings",
           "core.test_rehearsing", "core.test_fixes", "core.test_listed_rules", "replica.test_real_exporter")  # fmt: skip


@dataclass
class Outcome:
    """What came of one module; texts only, so that it can be handed from process to process."""

    module: str
    ran: int = 0
    failed: int = 0
    skipped: list[str] = field(default_factory=list)
    seconds: float = 0.0
    report: str = ""


def run_module(module: str) -> Outcome:
    """Run the tests of one module."""
    began = time.monotonic()
    stream = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    result = unittest.TextTestRunner(stream=stream, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = [f"{case}: {reason}" for case, reason in result.skipped]
    report = stream.getvalue() if failed else ""
    return Outcome(module, result.testsRun, failed, skipped, time.monotonic() - began, report)


def modules() -> list[str]:
    """All modules of tests, the longest first."""
    found = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in sorted(ROOT.glob("tests/**/test_*.py"))]
    rank = {f"tests.{name}": place for place, name in enumerate(LONGEST)}
    return sorted(found, key=lambda name: rank.get(name, len(rank)))


def main() -> int:
    """Run all, or the modules named on the command line."""
    sys.path.insert(0, str(ROOT))
    import tests  # one cache of networks for all workers

    assert tests is not None
    names = sys.argv[1:] or modules()
    began = time.monotonic()
    workers = 2 * max(2, os.cpu_count() or 1)  # much of the time is waiting, for packets and for processes
    # Forked from a process that has loaded nothing yet; one module after the other in each.
    with concurrent.futures.ProcessPoolExecutor(workers, multiprocessing.get_context("spawn")) as pool:
        waiting = {pool.submit(run_module, name): name for name in names}
        outcomes = []
        for done in concurrent.futures.as_completed(waiting):
            try:
                outcome = done.result()
            except Exception as error:  # a worker that died: its module has failed
                outcome = Outcome(waiting[done], 1, 1, report=f"{waiting[done]}: {error!r}\n")
            outcomes.append(outcome)
            print(f"{outcome.seconds:6.1f} s  {outcome.module}{'  FAILED' if outcome.failed else ''}", flush=True)
    for outcome in outcomes:
        if outcome.report:
            print(f"\n{outcome.module}\n{outcome.report}")
    for outcome in outcomes:
        for each in outcome.skipped:
            print(f"skipped: {each}")
    ran = sum(each.ran for each in outcomes)
    failed = sum(each.failed for each in outcomes)
    skipped = sum(len(each.skipped) for each in outcomes)
    print(f"in {time.monotonic() - began:.0f} s on {workers} workers")
    print(f"{ran - failed - skipped} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not ran else 0


if __name__ == "__main__":
    sys.exit(main())
