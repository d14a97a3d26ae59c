"""Traffic from before the rules of today: what was begun, or was over, when they were put in force.

A stateful filter asks its rules about new connections only. What began under older rules goes on under those of today,
which would stop it; and what a log holds of the time before tells of other rules (clause E10).
"""

from __future__ import annotations

import contextlib
import socket
import time
from concurrent.futures import ThreadPoolExecutor

from kiboko.core.header.services import TCP
from kiboko.replica.kernel import enter, replace_rules
from kiboko.replica.layout import Layout
from kiboko.replica.trials import Trial

_AT_ONCE = 200
_PAUSE = 1.0
"""Seconds until the log of what was sent before is read."""
_OCTETS = b"kiboko" * 20


def played_before(today: Layout, trials: list[Trial], goes_on: bool, timeout: float) -> float:
    """Send some traffic under the rules that are in force, then put those of today in force: what was answered goes on
    under them where `goes_on`, else all of it is over before. When that was, in seconds since 1970."""
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        begun = [each for each in pool.map(lambda trial: _begun(today, trial, timeout), trials) if each is not None]
    try:
        if not goes_on:
            _close(begun)
        time.sleep(_PAUSE)
        changed_at = time.time()
        replace_rules(today, keeping=[machine.name for machine in today.machines.values()] if goes_on else ())
        if goes_on:
            time.sleep(_PAUSE / 2)
            for each in begun:
                with contextlib.suppress(OSError):
                    _exchange(each)
        return changed_at
    finally:
        _close(begun)


def _begun(today: Layout, trial: Trial, timeout: float) -> socket.socket | None:
    """A connection of one trial that was answered; None where it came to nothing."""
    enter(today.homes[trial.sender])
    target = trial.target
    family = socket.AF_INET if target.address.family == 4 else socket.AF_INET6
    made = socket.socket(family, socket.SOCK_STREAM if target.service.protocol == TCP else socket.SOCK_DGRAM)
    made.settimeout(timeout)
    try:
        made.bind((str(trial.source), target.source_port or 0))
        made.connect((str(target.address), target.service.detail))
        _exchange(made)
    except OSError:
        made.close()
        return None
    return made


def _exchange(made: socket.socket) -> None:
    """Send some octets and wait until they come back. Raises OSError where they do not."""
    made.sendall(_OCTETS)
    if not made.recv(4096):
        raise ConnectionError("the other end closed")


def _close(begun: list[socket.socket]) -> None:
    for each in begun:
        each.close()
