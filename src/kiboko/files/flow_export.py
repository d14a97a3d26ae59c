"""Flow records as CSV with the names of the IPFIX information elements (RFC 7012), times as RFC 7373."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable
from datetime import UTC, datetime

from kiboko.core.evidence import DENIED, PASSED, FlowRecord
from kiboko.core.services import ICMP, ICMP6

_EVENTS = {PASSED: "1", DENIED: "3"}


def flows_csv(records: Iterable[FlowRecord]) -> str:
    """A whole CSV file. Columns that no record fills are left out."""
    rows = [_fields(record) for record in records]
    used = [name for name in _COLUMNS if any(row.get(name) for row in rows)]
    text = io.StringIO()
    writer = csv.DictWriter(text, used or list(_COLUMNS), extrasaction="ignore", lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return text.getvalue()


_COLUMNS = (
    "flowStartMilliseconds", "flowEndMilliseconds", "sourceIPv4Address", "sourceIPv6Address",
    "destinationIPv4Address", "destinationIPv6Address", "sourceTransportPort", "destinationTransportPort",
    "protocolIdentifier", "icmpTypeCodeIPv4", "icmpTypeCodeIPv6", "tcpControlBits", "packetDeltaCount",
    "octetDeltaCount", "firewallEvent", "observationPointId",
)  # fmt: skip


def _fields(record: FlowRecord) -> dict[str, str]:
    family = record.source.family
    protocol, detail = record.service.protocol, record.service.detail
    fields = {
        "flowStartMilliseconds": _time(record.start),
        "flowEndMilliseconds": _time(record.end),
        f"sourceIPv{family}Address": str(record.source),
        f"destinationIPv{family}Address": str(record.destination),
        "protocolIdentifier": str(protocol),
        "tcpControlBits": "" if record.tcp_flags is None else str(record.tcp_flags),
        "packetDeltaCount": str(record.packets),
        "octetDeltaCount": str(record.octets),
        "firewallEvent": _EVENTS.get(record.event, ""),
        "observationPointId": record.point or "",
    }
    if record.source_port is not None:
        fields |= {"sourceTransportPort": str(record.source_port), "destinationTransportPort": str(detail)}
    elif protocol in (ICMP, ICMP6):
        fields["icmpTypeCodeIPv4" if protocol == ICMP else "icmpTypeCodeIPv6"] = str(detail)
    return fields


def _time(moment: datetime | None) -> str:
    if moment is None:
        return ""
    return moment.astimezone(UTC).strftime("%Y-%m-%d %H:%M:%S.") + f"{moment.microsecond // 1000:03d}"
