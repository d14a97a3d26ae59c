"""Which records of a table are of one conversation: requests and replies found by hashes of addresses and ports."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.header.addresses import Address
from kiboko.core.records.flow_table import AddressTable, FlowTable


@dataclass(frozen=True, slots=True)
class FlowHash:
    """64-bit hashes of flows: of each address once as a source and once as a destination, of the ports row by row."""

    as_source: NDArray[np.uint64]
    as_destination: NDArray[np.uint64]

    @classmethod
    def of(cls, addresses: AddressTable) -> FlowHash:
        """The hashes of some addresses in both roles. Multipliers are odd, so that no bit is lost."""
        hashes = addresses.hashes()
        return cls(hashes * np.uint64(0x9E3779B97F4A7C15), hashes * np.uint64(0xC2B2AE3D27D4EB4F))

    def turned(self, table: FlowTable, rows: NDArray[np.int64]) -> NDArray[np.uint64]:
        """The hashes that the requests of some records have, if these are replies."""
        ends = self.as_source[table.destination[rows]] ^ self.as_destination[table.source[rows]]
        return ends ^ port_hash(table, rows, True)


@dataclass(frozen=True, slots=True)
class OtherEnds:
    """By class, the hash of another end, uint64[k], and whether there is any, bool[k]."""

    hashes: NDArray[np.uint64]
    is_given: NDArray[np.bool_]

    @classmethod
    def of(cls, ends: list[Address | None], is_source: bool) -> OtherEnds:
        """The hashes of some ends, as sources or as destinations."""
        hashed = FlowHash.of(AddressTable.of([end or Address(4, 0) for end in ends]))
        given = np.array([end is not None for end in ends], dtype=np.bool_)
        return cls(hashed.as_source if is_source else hashed.as_destination, given)

    def instead(self, own: NDArray[np.uint64], classes: NDArray[np.int64]) -> NDArray[np.uint64]:
        """For each row the hash of the other end of its class, or its own."""
        return np.where(self.is_given[classes], self.hashes[classes], own)


def port_hash(table: FlowTable, rows: NDArray[np.int64], turned: bool) -> NDArray[np.uint64]:
    """Hashes of the ports and the protocol of some records, uint64[k]; `turned` as the other direction has them."""
    near, far = table.source_port[rows], table.detail[rows]
    if turned:
        near, far = far, near
    packed = near.astype(np.int64) << 24 | far.astype(np.int64) << 8 | table.protocol[rows]
    hashed: NDArray[np.uint64] = packed.view(np.uint64) * np.uint64(0xD6E8FEB86659FD93)
    return hashed


def partners(wanted: NDArray[np.uint64], hashes: NDArray[np.uint64], rows: NDArray[np.int64]) -> NDArray[np.int64]:
    """For each wanted hash the first of the rows that has it, -1 for none."""
    found = np.full(len(wanted), -1, dtype=np.int64)
    # Few are wanted among many: a bitmap by some of the bits leaves out nearly all the others.
    bitmap = np.zeros(1 << 20, dtype=np.bool_)
    bitmap[wanted >> np.uint64(44)] = True
    likely = np.flatnonzero(bitmap[hashes >> np.uint64(44)])
    if not len(likely):
        return found
    order = likely[np.argsort(hashes[likely], kind="stable")]
    ordered = hashes[order]
    at = np.minimum(np.searchsorted(ordered, wanted), len(ordered) - 1)
    hit = ordered[at] == wanted
    found[hit] = rows[order[at[hit]]]
    return found
