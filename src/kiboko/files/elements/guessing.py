"""A mapping file proposed for a log, from its first records: which column is probably which element, in which unit, and
which words mean passed and denied. A person is meant to read it before it is used."""

from __future__ import annotations

import contextlib
import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any

from kiboko.core.header.addresses import parse_address
from kiboko.core.records.records import DENIED, PASSED
from kiboko.files.elements.address_ports import PORT_OF, address_and_port
from kiboko.files.elements.column_map import EITHER, JOINED
from kiboko.files.elements.fields import EVENT_NAMES, PROTOCOL_WORDS, element_of, in_other_units, parse_flags

_NEEDED = (
    ("sourceIPv4Address", "who sent it"), ("destinationIPv4Address", "who it was sent to"),
    ("sourceTransportPort", "the sender's port"), ("destinationTransportPort", "the port that it was sent to"),
    ("protocolIdentifier", "tcp, udp or a number"), ("flowStartMilliseconds", "when it began"),
    ("firewallEvent", "whether it passed"), ("tcpControlBits", "the TCP flags: without them much cannot be proved"),
    ("packetDeltaCount", "packets"), ("octetDeltaCount", "octets"),
    ("observationPointId", "where it was taken: without that a record proves little of what passed"),
)  # fmt: skip
_WITH_PORT = "with its port behind a colon"
_NO_VALUE = ("-", "", "n/a", "na", "null", "none", "?")
_SOURCE = re.compile(r"src|source|from|client|orig|local|sender|initiator|^s[ap]$|(^|[._-])s_?port$", re.I)
_DESTINATION = re.compile(r"dst|dest|to$|^to|server|resp|remote|target|receiver|^d[ap]$|(^|[._-])d_?port$", re.I)
_PASSED = re.compile(r"^(pass|allow|accept|permit|ok$|forward|start|create|build|established)", re.I)
_DENIED = re.compile(r"^(den|drop|reject|block|refus|discard|fail)", re.I)
_MOST_VALUES = 5
_SECONDS, _MILLIS, _MICROS = (1e8, 1e10), (1e11, 1e13), (1e14, 1e16)
_FLAGS_BY_PLACE = re.compile(r"^(?=.*\.)[CEWUAPRSF.]{6}([CEWUAPRSF.]{2})?$")
_SENT = re.compile(r"sent|send|src|orig|to_?server|^i(pkt|byt)", re.I)
_BACK = re.compile(r"^(dst|dest|resp|reply|rev|server|o(pkt|byt))|to_?client|rcvd|recei?v", re.I)
_BEGIN = re.compile(r"(^|[._-])(start|begin)", re.I)
_STANDARD = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d")
_FORMS = ("%Y/%m/%d %H:%M:%S", "%Y/%m/%d %H:%M:%S.%f", "%d/%b/%Y:%H:%M:%S", "%d/%b/%Y:%H:%M:%S %z",
          "%b %d %Y %H:%M:%S", "%d %b %Y %H:%M:%S", "%d.%m.%Y %H:%M:%S")  # fmt: skip
_END = re.compile(r"end|last|stop|clos|finish|expire|until|^te$", re.I)
_PACKETS = r"^(?!.*(len|size|byt|oct)).*(pack|pkt)"
_HEXADECIMAL = re.compile(r"^[0-9A-Fa-f]{1,4}$")
_SURELY_HEXADECIMAL = re.compile(r"^0[0-9A-Fa-f]$|^\d[A-Fa-f]$|^[A-Fa-f]\d$")
_CLOCK = re.compile(r"^\d{1,2}:\d\d(:\d\d(\.\d+)?)?$")
_DATE = re.compile(r"^\d{4}[-/]\d\d[-/]\d\d$")


@dataclass(frozen=True, slots=True)
class Guess:
    """What a column probably is: an element, with what else a mapping file has to say of it, and why."""

    column: str
    element: str
    more: Mapping[str, Any] = field(default_factory=dict)
    why: str = ""


def guess_columns(rows: Sequence[Mapping[str, Any]]) -> tuple[list[Guess], dict[str, list[str]]]:
    """What the columns of some rows are, each element once; and the columns that are nothing known, with examples."""
    columns: dict[str, list[str]] = {}
    for row in rows:
        for name, value in row.items():
            columns.setdefault(name, []).append("" if value is None else str(value).strip())
    given = {name: [value for value in values if value.lower() not in _NO_VALUE] for name, values in columns.items()}
    found: dict[str, Guess] = {}
    for name in given:
        element, other = element_of(name), in_other_units(name)
        if element is not None and element not in found:
            found[element] = _checked(name, element, given[name])
        elif other is not None and other[0] not in found:
            found[other[0]] = Guess(name, other[0], why="its name says so, in another unit")
    for name in given:  # fields inside structures have dotted names
        element = element_of(name.replace(".", "_")) or element_of(name.rpartition(".")[2]) if "." in name else None
        if element is not None and element not in found and _may_be(element, name, given[name]):
            found[element] = _checked(name, element, given[name])
    _by_beginning(given, found)
    _by_directions(given, found)
    taken = {guess.column for guess in found.values()}
    _by_date_and_time(given, found, taken)
    for kind, is_it in _KINDS:
        fitting = [n for n, values in given.items() if n not in taken and values and is_it(n, values)]
        for name, element in _assigned(kind, fitting, found):
            found[element] = _checked(name, element, given[name])
            taken.add(name)
    _by_others(rows, given, found, taken)
    _doubt_flags(rows, found)
    rest = {name: list(dict.fromkeys(values))[:_MOST_VALUES] for name, values in given.items() if name not in taken}
    return list(found.values()), {n: v for n, v in rest.items() if not any(n in each.split(JOINED) for each in taken)}


def _by_others(
    rows: Sequence[Mapping[str, Any]], given: Mapping[str, list[str]], found: dict[str, Guess], taken: set[str]
) -> None:  # fmt: skip
    """Columns that have a value where another has none, as where each protocol has its own ports, are one element with
    that; and addresses of IPv6 may have columns of their own."""
    for name, values in given.items():
        sides = [side for side, pattern in (("source", _SOURCE), ("destination", _DESTINATION)) if pattern.search(name)]
        if name in taken or not values:
            continue
        if _is_address(name, values) and len(sides) == 1 and all(":" in value for value in values):
            if found.setdefault(f"{sides[0]}IPv6Address", Guess(name, f"{sides[0]}IPv6Address")).column == name:
                taken.add(name)
            continue
        element = f"{sides[0]}TransportPort" if len(sides) == 1 and _is_port(name, values) else "protocolIdentifier"
        known = found.get(element)
        is_it = element != "protocolIdentifier" or _is_protocol(name, values)
        if known is None or known.more or known.why or not is_it or JOINED in known.column:
            continue
        if not any(row.get(name) and any(row.get(each) for each in known.column.split(EITHER)) for row in rows):
            found[element] = Guess(EITHER.join((known.column, name)), element)
            taken.add(name)


def _doubt_flags(rows: Sequence[Mapping[str, Any]], found: dict[str, Guess]) -> None:
    """Flags that records of other protocols have as well may be no flags of TCP."""
    flags, protocol = found.get("tcpControlBits"), found.get("protocolIdentifier")
    if flags is None or protocol is None or flags.why:
        return
    for row in rows:
        kind, told = str(row.get(protocol.column) or "").strip().lower(), str(row.get(flags.column) or "").strip()
        with contextlib.suppress(ValueError):
            if kind and kind not in ("6", "tcp") and told not in _NO_VALUE and parse_flags(told):
                found["tcpControlBits"] = replace(
                    flags, why="records of other protocols have some too: are these of TCP?"
                )
                return


def _by_beginning(given: Mapping[str, list[str]], found: dict[str, Guess]) -> None:
    """Where a flow's beginning has a column of its own, what is called a time is that of the line."""
    start = found.get("flowStartMilliseconds")
    if start is not None and start.column.lower() in ("time", "timestamp"):
        begins = (n for n, values in given.items() if values and _BEGIN.search(n) and _is_time(n, values))
        name = next((n for n in begins if n != start.column), None)
        if name is not None:
            found["flowStartMilliseconds"] = _checked(name, "flowStartMilliseconds", given[name])


def _by_directions(given: Mapping[str, list[str]], found: dict[str, Guess]) -> None:
    """Where what was sent and what came back are counted apart, these count, and no column of both together."""
    for kind, pattern in (("Packet", _PACKETS), ("Octet", "byt|oct")):
        fitting = [name for name, values in given.items() if values and _is_counter(pattern)(name, values)]
        fitting.sort(key=lambda name: "_ip_" not in name)  # those of whole packets before those of what is in them
        sent = next((name for name in fitting if _SENT.search(name) and not _is_back(name)), None)
        back = next((name for name in fitting if _is_back(name)), None)
        if sent is not None and back is not None:
            for element, name in ((f"{kind.lower()}DeltaCount", sent), (f"reverse{kind}DeltaCount", back)):
                found[element] = _checked(name, element, given[name])


def _by_date_and_time(given: Mapping[str, list[str]], found: dict[str, Guess], taken: set[str]) -> None:
    """A column of dates and one of clock times are one element together."""
    start = found.get("flowStartMilliseconds")
    clocks = [n for n, values in given.items() if values and all(_CLOCK.match(v) for v in values)]
    dates = [n for n, values in given.items() if values and all(_DATE.match(v) for v in values)]
    if clocks and dates and (start is None or start.column in clocks):
        name = JOINED.join((dates[0], clocks[0]))
        sign = "/" if "/" in given[dates[0]][0] else "-"
        form = f"%Y{sign}%m{sign}%d %H:%M:%S" + (".%f" if "." in given[clocks[0]][0] else "")
        found["flowStartMilliseconds"] = Guess(name, "flowStartMilliseconds", {"format": form, "zone": "UTC"},
                                               "a date and a clock time")  # fmt: skip
        taken.update((dates[0], clocks[0], name))


def _assigned(kind: str, names: list[str], found: Mapping[str, Guess]) -> list[tuple[str, str]]:
    """Which element each of some columns of one kind is, as far as there is one left."""
    both = {"address": ("sourceIPv4Address", "destinationIPv4Address"),
            "port": ("sourceTransportPort", "destinationTransportPort"),
            "time": ("flowStartMilliseconds", "flowEndMilliseconds")}  # fmt: skip
    if kind not in both:
        names = sorted(names, key=_is_back)
        return [(names[0], kind)] if names and kind not in found else []
    first, second = both[kind]
    result: list[tuple[str, str]] = []
    left = [each for each in (first, second) if each not in found]
    if kind == "time":  # what else has a time need not be an end
        begins = names[: first in left]
        ends = [name for name in names if name not in begins and _END.search(name)]
        return [*zip(begins, [first], strict=False), *zip(ends[: second in left], [second], strict=False)]
    for pattern, element in ((_SOURCE, first), (_DESTINATION, second)):
        match = next((n for n in names if pattern.search(n) and element in left), None)
        if match is not None:
            result.append((match, element))
            left.remove(element)
            names = [n for n in names if n != match]
    if kind == "port" and len(names) == 1:  # of one port alone it is the one that was sent to
        left.reverse()
    return [*result, *zip(names, left, strict=False)]


def _checked(name: str, element: str, values: list[str]) -> Guess:
    """A column of an element, with the unit of its times and the meaning of its words."""
    more: dict[str, Any] = {}
    if element in ("flowStartMilliseconds", "flowEndMilliseconds") and values:
        numbers = [float(v) for v in values if re.fullmatch(r"\d+(\.\d+)?", v)]
        if len(numbers) == len(values):
            for unit, (low, high) in (("seconds", _SECONDS), ("milliseconds", _MILLIS), ("microseconds", _MICROS)):
                if all(low <= n < high for n in numbers):
                    more["unit"] = unit
        elif not all(map(_STANDARD.match, values)) and (form := _form_of(values)) is not None:
            more["format"] = form
            if "%z" not in form:
                return Guess(name, element, more | {"zone": "UTC"}, "of which zone?")
    if element == "firewallEvent":
        words = list(dict.fromkeys(values))
        known = {word: EVENT_NAMES.get(word.lower()) for word in words}
        odd = [word for word in words if known[word] not in (PASSED, DENIED)]
        if odd:
            for key, pattern in (("passed", _PASSED), ("denied", _DENIED)):
                mine = [w for w in words if known[w] == key or (known[w] is None and pattern.search(w))]
                if mine:
                    more[key] = mine
            left = [w for w in odd if not any(w in more.get(key, ()) for key in ("passed", "denied"))]
            if left:
                more["seen"] = left
    if values and element in ("packetDeltaCount", "octetDeltaCount"):
        if any("," in v and "." not in v for v in values) and all(re.fullmatch(r"\d{1,3}(,\d{3})*", v) for v in values):
            more["thousands"] = ","
        elif any("." in v and "," not in v for v in values) and all(
            re.fullmatch(r"\d{1,3}(\.\d{3})+|\d{1,3}", v) for v in values
        ):
            more["thousands"] = "."
    if (
        element == "tcpControlBits"
        and all(map(_HEXADECIMAL.match, values))
        and any(map(_SURELY_HEXADECIMAL.match, values))
    ):
        more["base"] = 16
    has_port = element in PORT_OF and any(address_and_port(value) for value in values)
    return Guess(name, element, more, _WITH_PORT if has_port else "")


def _is_address(name: str, values: list[str]) -> bool:
    try:
        return bool([parse_address((address_and_port(value) or (value, ""))[0]) for value in values])
    except ValueError:
        return False


def _is_port(name: str, values: list[str]) -> bool:
    return bool(re.search(r"port|pt$|^[sd]p$|(orig|resp)_p$", name, re.I)) and all(
        v.isdecimal() and int(v) <= 65535 for v in values
    )


def _may_be(element: str, name: str, values: list[str]) -> bool:
    """Whether a field inside a structure may be an element whose plain name it bears there, by its values."""
    return element != "protocolIdentifier" or _is_protocol(name, values)


def _is_protocol(name: str, values: list[str]) -> bool:
    words = [v.lower() in PROTOCOL_WORDS for v in values]
    is_meant = any(words) or re.search(r"proto|nxt|next_?header", name, re.I) is not None
    return is_meant and all(w or (v.isdecimal() and int(v) <= 255) for w, v in zip(words, values, strict=True))


def _is_time(name: str, values: list[str]) -> bool:
    if re.search(r"dur|elapsed", name, re.I):
        return False
    spans = (_SECONDS, _MILLIS, _MICROS)
    numbers = [float(v) for v in values if re.fullmatch(r"\d+(\.\d+)?", v)]
    if len(numbers) == len(values):
        return any(all(low <= n < high for n in numbers) for low, high in spans)
    return all(map(_STANDARD.match, values)) or _form_of(values) is not None


def _form_of(values: list[str]) -> str | None:
    """The form that times are written in, as `strptime` has it, of those that can be no other."""
    for form in _FORMS:
        with contextlib.suppress(ValueError):
            if [datetime.strptime(value, form) for value in values]:
                return form
    return None


def _is_fate(name: str, values: list[str]) -> bool:
    words = Counter(v.lower() for v in values)
    fates = [w for w in words if (EVENT_NAMES.get(w) in (PASSED, DENIED) and not w.isdecimal()) or _DENIED.search(w)
             or _PASSED.search(w)]  # fmt: skip
    return len(words) <= 12 and len(fates) * 2 > len(words)


def _is_flags(name: str, values: list[str]) -> bool:
    try:
        is_meant = re.search("flag|flg", name, re.I) or all(_FLAGS_BY_PLACE.match(value) for value in values)
        return bool(is_meant) and bool([parse_flags(value) for value in values])
    except ValueError:
        return False


def _is_counter(pattern: str) -> Callable[[str, list[str]], bool]:
    def is_it(name: str, values: list[str]) -> bool:
        return bool(re.search(pattern, name, re.I)) and all(re.fullmatch(r"[\d.,]+", v) for v in values)

    return is_it


def _is_counter_back(pattern: str) -> Callable[[str, list[str]], bool]:
    """Whether a counter that is left, where another one has been taken, is of what came back."""
    is_counter = _is_counter(pattern)
    return lambda name, values: _is_back(name) and is_counter(name, values)


def _is_back(name: str) -> bool:
    return _BACK.search(name.rpartition(".")[2]) is not None


_KINDS: tuple[tuple[str, Callable[[str, list[str]], bool]], ...] = (
    ("address", _is_address), ("port", _is_port), ("protocolIdentifier", _is_protocol), ("time", _is_time),
    ("firewallEvent", _is_fate), ("packetDeltaCount", _is_counter(_PACKETS)),
    ("octetDeltaCount", _is_counter("byt|oct")),
    ("octetDeltaCount", _is_counter("(pkt|pack|tot|ip)[a-z]*[._-]?(len|size)")),
    ("octetDeltaCount", _is_counter("size|len|vol")), ("tcpControlBits", _is_flags),
    ("reversePacketDeltaCount", _is_counter_back(_PACKETS)), ("reverseOctetDeltaCount", _is_counter_back("byt|oct")),
)  # fmt: skip


def mapping_text(
    guesses: Sequence[Guess], unknown: Mapping[str, list[str]], file: str, delimiter: str | None, records: str
) -> str:
    """The mapping file as text, with what is not known and missing as comments; of a log with such a `delimiter`
    of its cells, where it is no comma, and such a path to its `records`, where they lie inside JSON."""
    lines = [f"# Proposed for {_comment(file)} from its first records: read it before you use it.", "kiboko: columns/1"]
    is_usual = all(element_of(guess.column) == guess.element and not guess.more for guess in guesses)
    if guesses and is_usual and not records:
        lines.insert(1, "# All columns bear known names: the log is read as it stands, without a mapping file.")
    if delimiter is not None:
        lines.append(f"delimiter: {({chr(9): 'tab', ' ': 'space'}).get(delimiter, _quoted(delimiter))}")
    if records:
        lines.append(f"records: {_quoted(records)}")
    lines.append("columns:")
    for guess in guesses:
        told = {"element": guess.element, **guess.more}
        value = guess.element if len(told) == 1 else "{" + ", ".join(f"{k}: {_value(v)}" for k, v in told.items()) + "}"
        lines.append(f"  {_quoted(guess.column)}: {value}" + (f"  # {guess.why}" if guess.why else ""))
    for name, examples in unknown.items():
        told_of = ", ".join(_comment(each) for each in examples) or "no value"
        lines.append(f"  # {_quoted(_comment(name))}: not read; such as {told_of}")
    known = {guess.element for guess in guesses}
    known |= {PORT_OF[guess.element] for guess in guesses if guess.why == _WITH_PORT}
    for element, what in _NEEDED:
        if element not in known:
            lines.append(f"# Missing: {element}, {what}.")
    return "\n".join(lines) + "\n"


def _comment(text: str) -> str:
    """A text from outside in one line of a comment."""
    return "".join(each if each.isprintable() else " " for each in text)[:60]


def _quoted(text: str) -> str:
    plain = re.fullmatch(r"[A-Za-z_][\w.\- +]*", text) is not None and not text.endswith(" ")
    if plain and text.lower() not in ("yes", "no", "on", "off", "true", "false", "null"):
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _value(value: Any) -> str:
    if isinstance(value, list):
        return "[" + ", ".join(_quoted(str(each)) for each in value) + "]"
    return str(value) if re.fullmatch(r"\w+", str(value)) else f'"{value}"'
