"""Syslog messages: RFC 5424 by its grammar, RFC 3164 as senders really write it, and the flow that a message tells of.

A body may be structured data, `key=value` pairs, a JSON object, or a line of the kernel's packet filter (its log
statement). What is none of these tells of no flow.
"""

from __future__ import annotations

import functools
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from kiboko.core.records.records import SEEN
from kiboko.files.elements.fields import EVENT_NAMES, FLAG_BITS, element_of

_PRIORITY = re.compile(rb"<(\d{1,3})>")
_HEADER = re.compile(
    r"1 (?P<time>\S+) (?P<host>\S+) (?P<app>\S+) (?P<process>\S+) (?P<id>\S+) (?P<rest>-|\[.*|$)", re.S
)
# All of these run in linear time whatever a sender puts into a message: what has matched is not tried again in another
# way (`++`, `*+`), and a pair is looked for only where a word begins.
_ELEMENT = re.compile(
    r"\[(?P<id>[^\s=\]\"]{1,32}+)(?P<params>(?: [^\s=\]\"]{1,32}+=\"(?:[^\"\\\]]|\\.)*+\")*+) ?\]", re.S
)
_PARAM = re.compile(r" ([^\s=\]\"]{1,32}+)=\"((?:[^\"\\\]]|\\.)*+)\"", re.S)
_ESCAPE = re.compile(r"\\([\"\\\]])")
_OLD_TIME = re.compile(r"(?P<month>[A-Z][a-z]{2}) +(?P<day>\d{1,2}) (?P<clock>\d\d:\d\d:\d\d)(?:\.\d+)? ")
_ISO_TIME = re.compile(r"\d{4}-\d\d-\d\dT\S+ ")
_TAG = re.compile(r"(?P<host>[^\s:\[]+ )?(?P<app>[^\s:\[]{1,48})(?:\[(?P<process>[^\]]{0,32})\])?: ?")
_PAIR = re.compile(r"(?<![\w.\-])([A-Za-z_][\w.\-]*+)=(\"(?:[^\"\\]|\\.)*+\"|[^\s,;\"]*+)")
MONTHS = {"Jan": 1, "Feb": 2, "Mar": 3, "Apr": 4, "May": 5, "Jun": 6, "Jul": 7, "Aug": 8, "Sep": 9, "Oct": 10,
           "Nov": 11, "Dec": 12}  # fmt: skip
_MOST_TIMES = 1 << 10
_MOST_NAMES, _LONGEST_NAMES = 1 << 8, 1 << 12
_UPTIME = re.compile(r"^\[ *\d+\.\d+\] ")
_BEGIN = re.compile(r"IN=[^\s=]*+ OUT=")
_BEGIN_WITHOUT_DEVICES = re.compile(r"(?:^|\s)(?:IN|OUT|SRC|PHYSIN)=")
_WORD = re.compile(r"[a-z]+")
_FATES = frozenset(word for word, fate in EVENT_NAMES.items() if word.isalpha() and fate != SEEN) - {
    "created", "deleted", "update",
}  # fmt: skip
_WHERE = frozenset(
    ("in", "input", "out", "output", "fwd", "forward", "src", "dst", "from", "to", "wan", "lan", "dmz", "eth", "tcp",
     "udp", "icmp", "ip", "packet", "packets", "traffic", "new", "established", "related", "invalid", "syn", "ack",
     "rst", "fin")
)  # fmt: skip
"""Words that say of a packet where it was, or what it is, and nothing of its fate."""
_TURNING = frozenset(
    ("not", "no", "non", "never", "nor", "un", "without", "would", "will", "won", "should", "may", "might", "could",
     "can", "cannot", "must", "don", "dont", "if", "unless", "until", "before", "pre", "almost", "nearly", "maybe",
     "perhaps", "test", "testing", "audit", "dry", "shadow", "simulated", "candidate", "exempt", "except", "exception",
     "skip", "instead", "else")
)  # fmt: skip
"""Words beside which another may mean something else than it says."""
_KERNEL = {
    "SRC": "sourceIPv4Address", "DST": "destinationIPv4Address", "SPT": "sourceTransportPort",
    "DPT": "destinationTransportPort", "PROTO": "protocolIdentifier", "LEN": "octetDeltaCount",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Message:
    """One message. `time` is None where it names none or none that can be read; `structured` are the elements of
    structured data, `body` the text behind them."""

    body: str
    priority: int | None = None
    time: datetime | None = None
    host: str | None = None
    app: str | None = None
    structured: Mapping[str, Mapping[str, str]] = field(default_factory=dict)


def parse_syslog(data: bytes, arrived: datetime) -> Message:
    """One message in either form; what has no form is all body. `arrived` tells the year that RFC 3164 leaves out."""
    found = _PRIORITY.match(data)
    priority = int(found[1]) if found is not None and int(found[1]) <= 191 else None
    text = data[found.end() if found is not None and priority is not None else 0 :].decode("utf-8", errors="replace")
    text = text.strip("\r\n\0")
    if priority is not None and text.startswith("1 "):
        header = _HEADER.match(text)
        if header is not None:
            return _by_grammar(header, priority)
    return _as_written(text, priority, arrived)


def _by_grammar(header: re.Match[str], priority: int) -> Message:
    """RFC 5424, section 6."""
    rest = header["rest"]
    elements: dict[str, Mapping[str, str]] = {}
    at = 0
    if rest.startswith("-"):
        at = 1
        rest = header.string[header.start("rest") :]
    while element := _ELEMENT.match(rest, at):
        params = {name: _ESCAPE.sub(r"\1", value) for name, value in _PARAM.findall(element["params"])}
        elements[element["id"]] = params
        at = element.end()
    body = rest[at:].removeprefix(" ").removeprefix("\ufeff")
    host, app = (None if header[name] == "-" else header[name] for name in ("host", "app"))
    return Message(body, priority, _iso(header["time"]), host, app, elements)


def _as_written(text: str, priority: int | None, arrived: datetime) -> Message:
    """RFC 3164, section 4.1, as far as a message follows it: time, host and tag may all be missing."""
    time, rest = None, text
    old = _OLD_TIME.match(text)
    new = _ISO_TIME.match(text)
    stamp = old if old is not None and old["month"] in MONTHS else new
    if stamp is not None:
        time, rest = time_written(stamp[0].rstrip(), arrived), text[stamp.end() :]
    tag = _TAG.match(rest) if not rest.startswith("{") else None  # a JSON object has no tag before it
    if tag is None or (time is None and tag["host"] is not None):
        return Message(rest, priority, time)
    host = tag["host"].strip() if tag["host"] is not None else None
    return Message(rest[tag.end() :], priority, time, host, tag["app"])


def time_written(stamp: str, arrived: datetime) -> datetime | None:
    """The time with which a message of RFC 3164 begins, in either way that senders write it; None for any other."""
    old = _OLD_TIME.match(f"{stamp} ")
    if old is not None and old["month"] in MONTHS:
        return _year_found(MONTHS[old["month"]], int(old["day"]), old["clock"], arrived)
    return _iso(stamp)


def _iso(text: str) -> datetime | None:
    try:
        moment = datetime.fromisoformat(text)
        return moment.astimezone(UTC) if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
    except (ValueError, OverflowError):
        return None


@functools.lru_cache(_MOST_TIMES)  # a log has many lines of one second
def _year_found(month: int, day: int, clock: str, arrived: datetime) -> datetime | None:
    """A time without year and zone: the collector's own zone, and the year that brings it nearest to its arrival."""
    local = arrived.astimezone()
    hour, minute, second = map(int, clock.split(":"))
    tried = []
    for year in (local.year - 1, local.year, local.year + 1):
        try:
            tried.append(datetime(year, month, day, hour, minute, second).astimezone())
        except (ValueError, OverflowError):
            continue
    nearest = min(tried, key=lambda each: abs(each - arrived), default=None)
    return nearest.astimezone(UTC) if nearest is not None and abs(nearest - arrived) < timedelta(days=366) else None


def flow_fields(message: Message) -> dict[str, Any] | None:
    """The fields of the flow that a message tells of, by the names they have there, and `syslog.host`, `syslog.app` and
    `syslog.prefix` (what stands before a kernel line); None where it tells of none.

    A kernel line has the names of information elements as well.
    """
    body = message.body.strip()
    if body.startswith("{"):
        found = _json_fields(body)
    elif " SRC=" in f" {body}" and "DST=" in body and "PROTO=" in body:
        found = _kernel_fields(body)
    else:
        found = {name: value.strip('"') for name, value in _PAIR.findall(body)}
    for params in message.structured.values():
        found = {**params, **found}
    if not found:
        return None
    return {**found, "syslog.host": message.host, "syslog.app": message.app}


def names_flow(fields: Mapping[str, Any]) -> bool:
    """Whether fields with the usual names have two ends."""
    if "sourceIPv4Address" in fields and "destinationIPv4Address" in fields:
        return True
    names = tuple(fields)
    return _have_ends(names) if sum(map(len, names)) <= _LONGEST_NAMES else _have_ends.__wrapped__(names)


@functools.lru_cache(_MOST_NAMES)  # nearly all lines of a log have the same
def _have_ends(names: tuple[str, ...]) -> bool:
    elements = {element_of(name) for name in names}
    return any(name in elements for name in ("sourceIPv4Address", "sourceIPv6Address")) and any(
        name in elements for name in ("destinationIPv4Address", "destinationIPv6Address")
    )


def _json_fields(body: str) -> dict[str, Any]:
    try:
        value = json.loads(body)
    except (ValueError, RecursionError):
        return {}
    return value if isinstance(value, dict) else {}


def _octet(text: str) -> int | None:
    """A number from 0 to 255; None for any other text."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= 3 and int(text) <= 255 else None


def _kernel_fields(line: str) -> dict[str, Any]:
    """A line of the kernel's packet filter. An ICMP error ends with the packet that it is about in brackets: no part of
    this one. What the rule's prefix says of its outcome is taken from there."""
    own = _UPTIME.sub("", line).partition(" [SRC=")[0]
    # The kernel writes `IN=` right behind the prefix, whether that ends with a space or not.
    first = _BEGIN.search(own) or _BEGIN_WITHOUT_DEVICES.search(own)
    prefix, own = (own[: first.start()].strip(), own[first.start() :]) if first is not None else ("", own)
    pairs = dict(reversed([*_PAIR.findall(own), *_PAIR.findall(prefix)]))
    found: dict[str, Any] = {**pairs, "syslog.prefix": prefix}
    found |= {element: pairs[name] for name, element in _KERNEL.items() if pairs.get(name)}
    if pairs.get("PROTO") == "TCP":  # of what stands behind the prefix: `SYN flood: ` is no flag
        flags = {word for word in own.split() if "=" not in word}
        found["tcpControlBits"] = sum(bit for name, bit in FLAG_BITS.items() if name in flags)
    number, code = (_octet(pairs.get(name, "")) for name in ("TYPE", "CODE"))
    if number is not None:
        kind = number << 8 | (code or 0)
        found["icmpTypeCodeIPv6" if ":" in pairs.get("SRC", "") else "icmpTypeCodeIPv4"] = kind
    found["packetDeltaCount"] = 1
    for name, element in (("IN", "ingressInterface"), ("OUT", "egressInterface")):
        if pairs.get(name):
            found[element] = pairs[name]
    if pairs.get("OUT") and not pairs.get("IN"):
        found["flowDirection"] = 1
    fate = fate_of(prefix)
    if fate is not None:
        found["firewallEvent"] = fate
    return found


def fate_of(prefix: str) -> str | None:
    """What the prefix of a kernel line says became of the packet: by its last word (`[EDGE BLOCK] `, `FINAL_REJECT: `),
    or by one with nothing behind it but where the packet was (`drop wan in: `). None where no word says it, or two say
    different things, or one that may turn its sense stands with it: `not-allowed`, `drop-exempt-accept` and
    `would drop` tell of no fate."""
    words = _WORD.findall(prefix.lower())
    told = {EVENT_NAMES[word] for word in words if word in _FATES}
    while words and words[-1] in _WHERE:
        words.pop()
    if len(told) != 1 or not words or words[-1] not in _FATES or not _TURNING.isdisjoint(words):
        return None
    return told.pop()
