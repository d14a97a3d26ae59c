"""The network file that `collect --confirm` goes by, while that may change."""

from __future__ import annotations

import argparse
import dataclasses
import threading
from datetime import UTC, datetime
from queue import SimpleQueue

from kiboko.commands.options import network_of, watched_network_of
from kiboko.core.errors import EnvironmentFailure, KibokoError
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.summary import Summary
from kiboko.core.evidence.watch import Watch
from kiboko.core.network.model import Topology
from kiboko.core.walk.walk import Walker
from kiboko.files.network.watched import WatchedNetwork


class Following:
    """Reads it anew where it has changed, in a thread of its own: whoever ends the run does not wait for that."""

    def __init__(self, args: argparse.Namespace) -> None:
        """Raises InputError where it cannot be read at the beginning."""
        self._network = watched_network_of(args)
        topology = self._network.topology if self._network is not None else network_of(args)
        self.first = _watch_of(topology)
        """What holds records against it as it is at the beginning."""
        self._is_reading = self._is_faulty = False
        self._read: SimpleQueue[Watch | KibokoError | None] = SimpleQueue()

    def look(self) -> Watch | KibokoError | None:
        """What holds records against it as it is by now, or why it cannot be used; None where nothing is new. To be
        asked every second or so."""
        if self._network is None:
            return None
        if self._is_reading:
            if self._read.empty():
                return None
            self._is_reading = False
            found = self._read.get()
            self._is_faulty = isinstance(found, KibokoError)
            return found
        if self._network.has_changed():
            self._is_reading = True
            threading.Thread(target=self._read_anew, args=(self._network,), daemon=True).start()
        return None

    def _read_anew(self, network: WatchedNetwork) -> None:
        before = network.topology
        try:
            topology = network.load()
            if topology == before and not self._is_faulty:  # it was written again, or a remark was added
                self._read.put(None)
                return
            if topology.as_of is None:  # what began before is of other rules
                topology = dataclasses.replace(topology, as_of=datetime.now(UTC))
            self._read.put(_watch_of(topology, is_later=True))
        except KibokoError as error:
            self._read.put(error)
        except Exception as error:  # whatever it is, what was read before stays in use, and that is said
            self._read.put(EnvironmentFailure(f"{type(error).__name__}: {error}"))


def _watch_of(topology: Topology, is_later: bool = False) -> Watch:
    walker = Walker(topology)
    return Watch(Comparison(walker), Summary(walker.directory), is_later)
