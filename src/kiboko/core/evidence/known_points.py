"""The observation points that the network file names: which record was taken where."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kiboko.core.network.model import ObservationPoint, Topology
from kiboko.core.records.flow_table import FlowTable

Rows = NDArray[np.int64]


class KnownPoints:
    """Those of one network, numbered from 1 in the order of the file. One that it does not name tells no more than
    none, which is 0."""

    def __init__(self, topology: Topology) -> None:
        self.listed: tuple[ObservationPoint, ...] = tuple(topology.observation_points.values())
        self._topology = topology
        self._number_of = {name: number for number, name in enumerate(topology.observation_points, 1)}
        gateways = [topology.gateways.get(point.name or "") for point in self.listed]
        self._translates = np.array([False, *(each is not None and each.kind == "internet" for each in gateways)])
        self._is_beyond = np.array([False, *(point.name in topology.outsides for point in self.listed)])

    def of(self, table: FlowTable) -> Rows | None:
        """The numbers of the points of some records, int64[n]; None where none of them is named."""
        found = [self._topology.observation_point(point) for point in table.points]
        points = np.array([self._number_of[point.key] if point is not None else 0 for point in found], dtype=np.int64)
        return points[table.point] if points.any() else None

    def translating(self, points: Rows | None) -> NDArray[np.bool_] | None:
        """Which records were taken at a gateway that translates public addresses."""
        return self._translates[points] if points is not None else None

    def beyond(self, points: Rows | None) -> NDArray[np.bool_] | None:
        """Which records were taken at the edge of an outside, in front of what translates."""
        return self._is_beyond[points] if points is not None else None
