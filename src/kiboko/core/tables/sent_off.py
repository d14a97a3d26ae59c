"""What senders get no further with than their own router: known by a look-up, at a fraction of what a way costs.

Of a hundred networks most have no way to one another. What they send to each other needs no way of its own for each
two of them.
"""

from __future__ import annotations

from kiboko.core.routing.steps import SILENT
from kiboko.core.tables.layout import GateLayout
from kiboko.core.tables.places import NONE, PlacedEnd

NO_WAY = -2
"""Stands for the way of whatever the sender's own router or gateway does not carry."""


class SentOff:
    """What the routers of the senders' own subnets do with what is sent, by the places of both ends."""

    def __init__(self, layout: GateLayout) -> None:
        self._layout = layout
        self._cut_off: dict[tuple[int, int], bool] = {}
        self._stops: dict[tuple[int, int], str | None] = {}
        """Of two places why the router of the one sends nothing on to the other, where that tells all."""
        self._stopped_by: dict[tuple[int, str], int] = {}

    def way_if_any(self, sender: PlacedEnd, target: int, receiver: PlacedEnd) -> int:
        """The way of a flow; `NO_WAY` where it gets no further than the sender's own router, or the gateway behind that
        (`PathFinder.is_cut_off`)."""
        if sender.subnet == NONE or sender.subnet == receiver.subnet:
            return self._layout.way_between(sender, target, receiver)
        key = sender.place, receiver.place
        if key not in self._cut_off:
            layout = self._layout
            self._cut_off[key] = layout.walker.paths.is_cut_off(sender.endpoint, layout.addresses.first(target))
        return NO_WAY if self._cut_off[key] else self._layout.way_between(sender, target, receiver)

    def way_by_entry(self, sender: PlacedEnd, target: int, receiver: PlacedEnd) -> int:
        """A way that what a flow comes to can be told by: its own, or of what the sender's own router does not send on
        the first that was found from that place by the same entry, or by none. What lies behind has no say in it, but
        for what kernels say of a router's message."""
        by = self._stop(sender, target, receiver)
        if by is None:
            return self._layout.way_between(sender, target, receiver)
        known = sender.place, by
        if known not in self._stopped_by:
            self._stopped_by[known] = self._layout.way_between(sender, target, receiver)
        return self._stopped_by[known]

    def _stop(self, sender: PlacedEnd, target: int, receiver: PlacedEnd) -> str | None:
        if sender.subnet == NONE or sender.subnet == receiver.subnet:
            return None
        key = sender.place, receiver.place
        if key not in self._stops:
            layout = self._layout
            stop = layout.walker.paths.stop_at_router(sender.endpoint, layout.addresses.first(target))
            is_told = stop is not None and (
                stop.signal == SILENT or (stop.kind == "no route" and not layout.has_kernel)
            )
            self._stops[key] = (stop.kind or stop.of_entry or stop.reason) if stop is not None and is_told else None
        return self._stops[key]
