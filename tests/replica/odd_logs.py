"""Logs that tell less than everything, or tell it in unusual ways: what exporters, and those who keep what they write,
make of records of all that happened."""

import functools
import operator
import tempfile
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

from kiboko.core.header.services import Service, parse_services, union_services
from kiboko.files.logs.flow_reader import tables_of

CHANGED_PORTS = "ports that a gateway with a shared address changed"
_FIN, _SYN, _RST, _PSH, _ACK = 0x01, 0x02, 0x04, 0x08, 0x10
_LONG = "long conversations, packets of them sampled"
_SESSIONS_OF_BOTH = "sessions, with the flags of both directions together"
_WITHOUT_PORTS = "without the clients' ports"
_FRAMED = "without flags, the frames counted in", "without flags, frames with all that they have"


class OddLogs:
    """What may become of records. `shared` are addresses of many, and `services` what was asked for."""

    def __init__(self, shared, services, chance):
        self.shared, self.chance = shared, chance
        self.known = union_services([parse_services(each) for each in services])
        late, hour = timedelta(milliseconds=50), timedelta(hours=1)
        self.kinds = {
            "all of it": list,
            "a third of the points": self.third_of_points,
            "one point": self.one_point,
            "points that nobody knows": lambda records: each_with(self.third_of_points(records), point=None),
            "a file for each exporter, no points": self.by_exporters,
            "exporters that record at several places each": self.of_several_places,
            "one-sided exporters beside others, no points": self.one_sided,
            "many files": lambda records: [replace(r, file=f"{r.point} {at // 50}") for at, r in enumerate(records)],
            "no replies": lambda records: [r for r in records if not self.is_reply(r)],
            "only replies": lambda records: [r for r in records if self.is_reply(r)],
            "a quarter, sampled": lambda records: [r for r in records if chance.random() < 0.25],
            "two clocks": lambda records: self.two_clocks(records, late),
            "a clock an hour off": lambda records: self.two_clocks(records, hour),
            CHANGED_PORTS: lambda records: [with_changed_port(r, shared, self.known) for r in records],
            "every capture twice": lambda records: [*records, *records],
            "biflows": lambda records: [replace(r, direction=2 if self.is_reply(r) else 1) for r in records],
            "parts of long flows": lambda records: [part for r in records for part in parts_of(r)],
            "what the log's beginning cut off": self.middle,
            "biflows of exporters that began in the middle": self.begun_anywhere,
            _SESSIONS_OF_BOTH: lambda records: read_as_sessions(records, self.is_reply),
            "without flags": lambda records: each_with(records, tcp_flags=None),
            _FRAMED[0]: lambda records: self.framed(records, 0),
            _FRAMED[1]: lambda records: self.framed(records, 4 * chance.randint(1, 2)),
            "flags of 0": lambda records: [replace(r, tcp_flags=0 if r.service.protocol == 6 else None) for r in records],
            "without a time": lambda records: each_with(records, start=None, end=None),
            _WITHOUT_PORTS: lambda records: [without_client_port(r, self.known, None) for r in records],
            "the clients' ports 0": lambda records: [without_client_port(r, self.known, 0) for r in records],
            "later fragments as well": lambda records: [
                *records, *(fragment(r) for r in records if r.service.protocol in (1, 17))
            ],
            "without a word on what passed": lambda records: each_with(records, event="seen"),
            "whole seconds": lambda records: [
                replace(r, start=r.start and r.start.replace(microsecond=0), end=r.end and r.end.replace(microsecond=0))
                for r in records
            ],
            "the time of the end alone": lambda records: [replace(r, start=r.end) for r in records],
            "flags of first packets alone": lambda records: [with_first_flags(r, self.is_reply(r)) for r in records],
            "all of a pair, service and port in one record": in_one_record,
            "packets sampled": lambda records: self.of_sampled_packets(records, 1),
            "packets sampled, each counted for a thousand": lambda records: self.of_sampled_packets(records, 1000),
            _LONG: self.of_long_ones_sampled,
            "denials alone": lambda records: [r for r in records if r.event == "denied"],
        }  # fmt: skip
        """By name, each from records to records."""

    def framed(self, records, more):
        """Without flags, and with the frames of Ethernet counted in, padded as they are received; `more` octets of each
        are of a checksum and a tag."""
        return [
            replace(r, tcp_flags=None, octets=round(max(60, r.octets / r.packets + 14) + more) * r.packets)
            if r.packets and r.octets is not None else replace(r, tcp_flags=None) for r in records
        ]  # fmt: skip

    def of_sampled_packets(self, records, times):
        """Records of two packets of five, taken at random, each of them counted as so many."""
        found = []
        for record in records:
            told = packets_of(record, self.is_reply(record))
            taken = [each for each in told if self.chance.random() < 0.4]
            if taken:
                found.append(replace(record, **summed_up(record, taken, times)))
        return found

    def of_long_ones_sampled(self, records):
        """Records of conversations that begin in the same hour, last ten minutes, of which servers end some by a reset,
        and of which one packet in thirty is taken."""
        begins, found = {}, []
        for record in records:
            flags = record.tcp_flags
            if flags is not None and flags & _FIN and self.is_reply(record) and self.chance.random() < 0.5:
                record = replace(record, tcp_flags=flags & ~_FIN | _RST)
            ends = frozenset([(record.source, record.source_port), (record.destination, record.service.detail)])
            begin = record.start + begins.setdefault(ends, timedelta(seconds=self.chance.uniform(0, 3600)))
            first, *others = packets_of(record, self.is_reply(record)) * (1 if record.packets > 1 else 2)
            long = [(0, first), *((self.chance.uniform(0.1, 600), self.chance.choice(others)) for _ in range(60))]
            taken = [each for each in long if self.chance.random() < 1 / 30]
            if taken:
                start, end = (begin + timedelta(seconds=each(taken)[0]) for each in (min, max))
                found.append(replace(record, start=start, end=end, **summed_up(record, [each for _, each in taken], 1)))
        return found

    def several(self, count, records):
        """Some kinds drawn, one after the other: their names, and what they leave; nothing where they do not go
        together."""
        names = self.chance.sample([*self.kinds][1:], count)
        if set(_FRAMED) <= set(names):  # a packet has one frame
            return names, []
        names.sort(key=_LONG.__ne__)  # it asks for times
        if _SESSIONS_OF_BOTH in names:  # what has a line for both directions loses none of them alone
            names.sort(key=_SESSIONS_OF_BOTH.__eq__)
            if {_WITHOUT_PORTS, "without a time"} & set(names):
                return names, []
        for name in names:
            records = self.kinds[name](records)
        return names, records

    def is_reply(self, record):
        """Whether it was sent from what was asked for."""
        asked, port = record.service.number, record.source_port
        return port is not None and (record.service.protocol << 16 | port) in self.known and asked not in self.known

    def third_of_points(self, records):
        points = points_of(records)
        kept = set(self.chance.sample(points, max(1, len(points) // 3))) if points else {None}
        return [r for r in records if r.point in kept]

    def one_point(self, records):
        points = points_of(records)
        return [r for r in records if not points or r.point == points[0]]

    def by_exporters(self, records):
        """Of several exporters that name no point, each with files of its own."""
        kept = self.third_of_points(records)
        exporters = exporters_of(records)
        return [replace(r, point=None, file=exporters.get(r.point, "0")) for r in kept]

    def of_several_places(self, records):
        exporters = exporters_of(records)
        return [replace(r, point=f"router {exporters.get(r.point, '0')}") for r in records]

    def one_sided(self, records):
        return [r for r in self.by_exporters(records) if r.file != "1" or not self.is_reply(r)]

    def two_clocks(self, records, late):
        ahead = {point for point in points_of(records) if self.chance.random() < 0.5}
        return [replace(r, start=r.start + late, end=r.end + late) if r.point in ahead and r.start else r
                for r in records]  # fmt: skip

    def middle(self, records):
        """Without what began a conversation."""
        long = [part for r in records for part in parts_of(r)]
        return [r for r in long if r.tcp_flags is None or not r.tcp_flags & _SYN]

    def begun_anywhere(self, records):
        """As biflows of which whoever sent the first packet that the exporter met is taken to have begun."""
        is_turned, found = {}, []
        for record in self.middle(records):
            ends = frozenset([(record.source, record.source_port), (record.destination, record.service.detail)])
            turned = is_turned.setdefault((ends, record.point), self.chance.random() < 0.5)
            found.append(replace(record, direction=2 if self.is_reply(record) != turned else 1))
        return found


def each_with(records, **fields):
    return [replace(r, **fields) for r in records]


def points_of(records):
    return sorted({record.point for record in records if record.point})


def exporters_of(records):
    """Which of three exporters records at each point."""
    return {point: str(number % 3) for number, point in enumerate(points_of(records))}


def changed(port):
    """Another client's port for each, as gateways with a shared address choose them (RFC 4787)."""
    return (port + 20_000) % 64_000 + 1024


def with_changed_port(record, shared, known):
    """A record as it is where such a gateway gives its senders other ports. What asks for a `known` service at its own
    address asks for that."""
    if record.source_port is None:
        return record
    if record.service.has_ports and record.source in shared:
        return replace(record, source_port=changed(record.source_port))
    if record.service.has_ports and record.destination in shared and record.service.number not in known:
        service = Service(record.service.protocol, changed(record.service.detail))
        return replace(record, service=service)
    return record


def packets_of(record, is_reply):
    """The flags and octets of each of the packets that a record tells of, as they are likely to have been."""
    count, flags, octets = record.packets, record.tcp_flags, record.octets or 0
    is_opened = flags == _SYN | _ACK and not is_reply and octets != count * (40 if record.source.family == 4 else 60)
    if flags is None or (flags & ~_ACK in (0, _SYN, _RST) and not is_opened) or count < 2:
        return [(flags, octets // max(1, count))] * count
    bare = flags & _ACK
    told = [bare] * count
    if flags & _SYN:
        told[0] = _SYN | bare if is_reply else _SYN
    told[-1] |= flags & (_FIN | _RST)
    if flags & _PSH:
        told[max(1, count - 2) if flags & _SYN else 0] |= _PSH
    header = 20 if record.source.family == 4 else 40
    sizes = [header + (40 if each & _SYN else 20 if each & _RST else 32) for each in told]
    if record.octets is not None and sum(sizes) > octets:  # as of packets that somebody made up
        sizes = [octets // count] * count
    rest = max(0, octets - sum(sizes))
    return [(each, size + (rest if each & _PSH else 0)) for each, size in zip(told, sizes, strict=True)]


def summed_up(record, packets, times):
    """What an exporter has of those packets of a record that it took, each counted as so many."""
    flags = functools.reduce(operator.or_, (flags or 0 for flags, _ in packets))
    return {
        "packets": len(packets) * times, "tcp_flags": None if record.tcp_flags is None else flags,
        "octets": None if record.octets is None else sum(octets for _, octets in packets) * times,
    }  # fmt: skip


def with_first_flags(record, is_reply):
    """A record of an exporter that no longer looks at flags once a connection is handed to its hardware."""
    flags = record.tcp_flags
    if not flags or not flags & _SYN or flags & _RST:
        return record
    return replace(record, tcp_flags=_SYN | _ACK if is_reply else _SYN)


def in_one_record(records):
    """Those of the same ends, ports, event and point summed up."""
    alike = {}
    for r in records:
        key = r.source, r.destination, r.service, r.source_port, r.event, r.point, r.file, r.direction
        alike.setdefault(key, []).append(r)
    found = []
    for each in alike.values():
        flags = [r.tcp_flags for r in each if r.tcp_flags is not None]
        found.append(replace(
            each[0], packets=sum(r.packets for r in each), octets=sum(r.octets for r in each),
            tcp_flags=functools.reduce(operator.or_, flags) if flags else None,
            start=min((r.start for r in each if r.start), default=None),
            end=max((r.end for r in each if r.end), default=None),
        ))  # fmt: skip
    return found


def parts_of(record):
    """A record as an exporter has it that writes long flows down every minute: the beginning, the middle and the end of
    those that went on."""
    later = timedelta(minutes=1)
    flags = record.tcp_flags
    if record.start is None or flags is None or not flags & _ACK or flags & _RST or flags == _SYN | _ACK:
        return [record]  # nothing followed: an answer alone is sent again and again where nothing comes back to it
    followed = [
        replace(record, start=record.start + n * later, end=record.end + n * later, tcp_flags=told)
        for n, told in ((1, _ACK), (2, flags & ~_SYN))
    ]
    return [record, *followed]


_SESSIONS = ("source{0}Address,sourceTransportPort,destination{0}Address,destinationTransportPort,protocolIdentifier,"
             "flowStartMilliseconds,flowEndMilliseconds,initiatorPackets,initiatorOctets,responderPackets,"
             "responderOctets,tcpControlBits,firewallEvent,observationPointId")  # fmt: skip


def read_as_sessions(records, is_answer):
    """What is read of a log that has a line for the requests and the replies of a conversation that passed a point."""
    lines = {4: [], 6: []}
    sessions = {}
    for record in records:
        if record.service.protocol in (6, 17):
            is_reply = is_answer(record)
            near = (record.source, record.source_port), (record.destination, record.service.detail)
            key = (record.point, record.event, record.service.protocol, near[::-1] if is_reply else near)
            sessions.setdefault(key, ([], []))[is_reply].append(record)
    for (point, event, protocol, ends), sides in sessions.items():
        if not sides[0]:
            continue  # a reply alone begins no session
        both = [*sides[0], *sides[1]]
        flags = 0
        for record in both:
            flags |= record.tcp_flags or 0
        counts = [f"{sum(r.packets for r in side)},{sum(r.octets for r in side)}" for side in sides]
        times = [str(round(1000 * each.timestamp()))
                 for each in (min(r.start for r in both), max(r.end for r in both))]  # fmt: skip
        (one, port), (other, asked) = ends
        event = {"passed": "1", "denied": "3"}.get(event, "")
        row = [
            str(one),
            str(port),
            str(other),
            str(asked),
            str(protocol),
            *times,
            *counts,
            str(flags or ""),
            event,
            point or "",
        ]
        lines[one.family].append(",".join(row))
    found = []
    with tempfile.TemporaryDirectory() as folder:
        for family, rows in lines.items():
            if rows:
                path = Path(folder) / f"{family}.csv"
                path.write_text("\n".join([_SESSIONS.format(f"IPv{family}"), *rows]) + "\n")
                found += [table.record(row) for table, _ in tables_of(path) for row in range(len(table))]
    return found


def without_client_port(record, known, none):
    """A record of an exporter that leaves out the clients' ports, or has something else for them."""
    service, port = record.service, record.source_port
    if service.number in known:
        return replace(record, source_port=none)
    if port is not None and (service.protocol << 16 | port) in known:
        return replace(record, service=Service(service.protocol, 0))
    return record


def fragment(record):
    """The later fragments of what a record tells of, as an exporter has them that does not put packets together."""
    return replace(record, service=Service(record.service.protocol, 0),
                               source_port=None if record.service.protocol == 1 else 0)  # fmt: skip
