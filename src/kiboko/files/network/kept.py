"""Networks that were loaded once, kept in the user's cache folder so that the next start need not parse and check.

What is kept stands for the content of every file that went into it, under the names that the user gave, for one
release of Kiboko: where any of that differs the network file is read anew. It is data only (MessagePack, with a table
of the classes that may be made from it), so that a hostile file can be wrong but never run; files that somebody else
could have written, or that are damaged, are not used.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import stat
from collections.abc import Iterable, Mapping
from dataclasses import fields
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import Any

from kiboko.core.errors import EnvironmentFailure, Place, Problem
from kiboko.core.header.addresses import Address, AddressSet, Prefix
from kiboko.core.header.ranges import RangeSet
from kiboko.core.memory import as_old, without_garbage
from kiboko.core.network import host_rules, model, peers
from kiboko.core.network.model import Topology
from kiboko.files.network.listing import is_data
from kiboko.files.network.made_later import Held, ListenersLater, RulesLater

_OURS = b"kiboko network "
_MAGIC = _OURS + b"7\n"
_DIGEST = 32
_MOST_FILES, _MOST_OCTETS = 64, 512 << 20

_CLASSES: tuple[type, ...] = (
    Place, Problem, Address, AddressSet, Prefix, RangeSet,
    peers.Named, peers.Literal, peers.Carrying, peers.AllBut, model.Rule, model.Filter, model.Network, model.Subnet,
    model.Outside, model.Gateway, model.RouteEntry, model.RouteTable, model.Zone, model.Crossing, model.Group,
    model.Interface, model.Listener, model.Instance, model.Defaults, model.ObservationPoint, model.Accepted,
    model.Expectation, model.Topology,
    host_rules.Unjudged, host_rules.Unclear, host_rules.Values, host_rules.Match, host_rules.Verdict,
    host_rules.VerdictMap, host_rules.HostRule, host_rules.Chain, host_rules.HostRuleSet,
)  # fmt: skip
_TUPLE, _MAPPING, _SET, _TIME, _AGAIN, _FIRST = range(6)
_CODES = {each: code for code, each in enumerate(_CLASSES, _FIRST)}
_FIELDS: dict[type, tuple[str, ...]] = {
    each: getattr(each, "_fields", ()) or tuple(field.name for field in fields(each)) for each in _CLASSES
}
_LEAVES = frozenset((Place, Address, model.Instance, model.Interface, host_rules.HostRuleSet))
"""What there are most of, by far, or is large: written flat and made without asking of each item what it is."""
_SHARED = (host_rules.Chain,)
"""What many may hold and is large: written once, and one object again when it is read."""


def cache_folder() -> Path | None:
    """Where loaded networks are kept: `KIBOKO_CACHE`, else the user's own cache folder (XDG Base Directory
    Specification); None where `KIBOKO_CACHE` is set to nothing, or there is no home."""
    named = os.environ.get("KIBOKO_CACHE")
    if named is not None:
        return Path(named) if named else None
    base = os.environ.get("XDG_CACHE_HOME") or ""
    if os.path.isabs(base):
        return Path(base) / "kiboko"
    home = os.path.expanduser("~")
    return Path(home) / ".cache" / "kiboko" if os.path.isabs(home) else None


def load_kept(path: str, files_elsewhere: bool = False) -> Topology:
    """The network that a file or folder describes, from the cache where that still holds.

    Parameters and errors are those of `load_network`; what cannot be kept is no error.
    """
    return load_kept_with_files(path, files_elsewhere)[0]


def load_kept_with_files(path: str, files_elsewhere: bool = False) -> tuple[Topology, tuple[Path, ...]]:
    """As `load_kept`, and the files beside the network's own that went into it."""
    folder = cache_folder()
    before = _inputs(path) if folder else None
    if folder is None or before is None:
        return _load(path, files_elsewhere)
    kept_at = folder / f"{_key(path, files_elsewhere, before)}.network"
    found = _read(kept_at)
    if found is None:
        found = _load(path, files_elsewhere)
        if _inputs(path) == before:  # else it was changed while it was read
            _keep(kept_at, *found)
    return found


def _load(path: str, files_elsewhere: bool) -> tuple[Topology, tuple[Path, ...]]:
    from kiboko.files.network.network_file import load_with_files

    return load_with_files(path, files_elsewhere)


# What a kept network stands for.


def _inputs(path: str) -> list[tuple[str, bytes]] | None:
    """Each file that is read first, by name, with the digest of its content; None where they cannot be read, or once
    only, as what another program writes (`-n <(…)`)."""
    top = Path(path)
    try:
        if not top.is_dir():
            return [("", _digest_of(top))] if top.is_file() else None
        names = sorted(name for name in os.listdir(top) if is_data(name))
        # Other files of data are named, not read: whether they belong to it is for the loader to say.
        parts = [name for name in names if name.endswith(".yaml") or name == "instances.csv"]
        return [(name, _digest_of(top / name) if name in parts else b"") for name in names]
    except OSError:
        return None


def _digest_of(path: Path) -> bytes:
    with open(path, "rb") as stream:
        return hashlib.file_digest(stream, _hash).digest()


def _hash() -> Any:
    return hashlib.blake2b(digest_size=_DIGEST)


def _key(path: str, files_elsewhere: bool, inputs: list[tuple[str, bytes]]) -> str:
    told = _hash()
    for part in (_release(), path, os.path.abspath(path), str(files_elsewhere), str(os.geteuid())):
        told.update(part.encode("utf-8", "surrogateescape") + b"\0")
    for name, digest in inputs:
        told.update(name.encode("utf-8", "surrogateescape") + b"\0" + digest)
    return str(told.hexdigest())


@cache
def _release() -> str:
    """What tells one state of the code apart from another: a loader that was mended must not be answered for by what
    the one before it made."""
    import kiboko

    root = Path(kiboko.__file__).parent
    told = _hash()
    told.update(kiboko.__version__.encode())
    for room in ("core", "core/header", "core/network", "files/documents", "files/hosts", "files/network"):
        for entry in sorted(os.scandir(root / room), key=lambda entry: entry.name):
            if entry.name.endswith(".py"):
                status = entry.stat()
                told.update(f"{room}/{entry.name} {status.st_size} {status.st_mtime_ns}\n".encode())
    return str(told.hexdigest())


# Reading and writing.


def _read(path: Path) -> tuple[Topology, tuple[Path, ...]] | None:
    """The network that is kept at a path, and the files beside its own; None where there is none that can be used."""
    import msgpack

    try:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
        with open(handle, "rb") as stream:
            status = os.fstat(handle)
            if status.st_uid != os.geteuid() or status.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
                return None
            data = stream.read()
        body = memoryview(data)[len(_MAGIC) + _DIGEST :]
        told = _hash()
        told.update(body)
        if data[: len(_MAGIC)] != _MAGIC or data[len(_MAGIC) : len(_MAGIC) + _DIGEST] != told.digest():
            return None
        with without_garbage():
            used, sockets, rule_sets, topology = msgpack.unpackb(body, strict_map_key=False)
            if any(_digest_of(Path(name)) != digest for name, digest in used):
                return None
            found = _Maker(sockets, rule_sets).made(topology)
            as_old()
    except (OSError, ValueError, TypeError, IndexError):
        return None
    with contextlib.suppress(OSError):
        os.utime(path)  # what was used last goes last
    return (found, tuple(Path(name) for name, _ in used)) if isinstance(found, Topology) else None


def _keep(path: Path, topology: Topology, used: Iterable[Path]) -> None:
    import msgpack

    from kiboko.files.documents.saving import write_whole

    with contextlib.suppress(OSError, EnvironmentFailure):
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        digests = [(str(each), _digest_of(each)) for each in used]
        with without_garbage():
            writer = _Writer()
            plain = writer.plain(topology)
            body = msgpack.packb((digests, list(writer.sockets), writer.rule_sets, plain))
        told = _hash()
        told.update(body)
        write_whole(path, _MAGIC + told.digest() + body, private=True)
        _let_go(path.parent)


def _let_go(folder: Path) -> None:
    """Remove what was not used for longest, where more is kept than may be, and nothing that is somebody else's."""
    from kiboko.files.documents.saving import head_of

    found = []
    for entry in os.scandir(folder):
        if entry.name.endswith(".network") and entry.is_file(follow_symlinks=False):
            status = entry.stat(follow_symlinks=False)
            found.append((status.st_mtime_ns, status.st_size, entry.path))
    octets = 0
    for count, (_, size, path) in enumerate(sorted(found, reverse=True), 1):
        octets += size
        if count > 1 and (count > _MOST_FILES or octets > _MOST_OCTETS) and head_of(Path(path)).startswith(_OURS):
            os.unlink(path)


class _Writer:
    """Turns a network into lists, texts and numbers."""

    def __init__(self) -> None:
        self._seen: dict[int, int] = {}
        self.sockets: dict[_Socket, int] = {}
        """What is listened to, wherever that is said: many machines listen to the same."""
        self.rule_sets: list[bytes] = []
        """What rule sets of kernels hold, each packed by itself: most are not asked for."""
        self._packed_rules: dict[tuple[int, int, tuple[int, ...]], int] = {}

    def plain(self, value: Any) -> Any:
        """A value as MessagePack knows them; a list's first item says what it stands for."""
        kind = type(value)
        if kind is str or value is None or kind is bool:
            return value
        if kind is int:
            return _octets(value)
        if kind is tuple:
            return [_TUPLE, *map(self.plain, value)]
        names = _FIELDS.get(kind)
        if names is None:
            return self._other(value)
        if id(value) in self._seen:
            return [_AGAIN, self._seen[id(value)]]
        if kind in _LEAVES:
            return self._leaf(value)
        written = [_CODES[kind]]
        for name in names:
            written.append(self.plain(getattr(value, name)))
        if kind in _SHARED:
            self._seen[id(value)] = len(self._seen)
        return written

    def _packed(self, listed: list[Any]) -> bytes:
        import msgpack

        packed: bytes = msgpack.packb(listed)
        return packed

    def _leaf(self, value: Any) -> Any:
        match value:
            case Place():
                return [_CODES[Place], value.file, value.line]
            case Address():
                return [_CODES[Address], value.family, _octets(value.value)]
            case host_rules.HostRuleSet():
                return [_CODES[host_rules.HostRuleSet], value.file, self._rules(value)]
            case model.Interface():
                addresses = [part for each in value.addresses for part in (each.family, _octets(each.value))]
                return [_CODES[model.Interface], value.name, value.instance, value.subnet, addresses, value.place.file,
                        value.place.line, self.plain(value.public), value.filters]  # fmt: skip
        listens = None if value.listens is None else self._packed(self._listens(value.listens))
        return [_CODES[model.Instance], value.name, value.place.file, value.place.line,
                [self._leaf(each) for each in value.interfaces], value.running, dict(value.tags),
                self.plain(value.host_filter), listens, value.forwards, self.plain(value.ephemeral_ports),
                value.note]  # fmt: skip

    def _rules(self, value: host_rules.HostRuleSet) -> int:
        """What a rule set holds, as its place among all."""
        key = id(value.chains), id(value.by_name), value.tracked
        if key not in self._packed_rules:
            self._packed_rules[key] = len(self.rule_sets)
            self.rule_sets.append(self._packed(_Writer().plain((value.chains, value.by_name, value.tracked))))
        return self._packed_rules[key]

    def _listens(self, listens: Iterable[model.Listener]) -> list[Any]:
        """Listeners as three values each: which of the sockets, and the place."""
        return [
            part for each in listens
            for part in (self.sockets.setdefault(_socket(each), len(self.sockets)), each.place.file, each.place.line)
        ]  # fmt: skip

    def _other(self, value: Any) -> Any:
        if isinstance(value, str):
            return str(value)
        if isinstance(value, datetime):
            return [_TIME, value.isoformat()]
        if isinstance(value, frozenset):
            return [_SET, *map(self.plain, sorted(value))]
        if isinstance(value, Mapping):
            return [_MAPPING, *(self.plain(each) for pair in value.items() for each in pair)]
        return [_TUPLE, *map(self.plain, value)]


_Socket = tuple[tuple[int, ...], str, tuple[int, int | bytes] | None, int | None]


def _socket(listener: model.Listener) -> _Socket:
    """A listener, but for its place, as numbers and texts."""
    address = listener.address
    bound_to = None if address is None else (address.family, _octets(address.value))
    return tuple(bound for pair in listener.services for bound in pair), listener.text, bound_to, listener.family


class _Maker:
    """Makes the network again from what `_Writer` wrote."""

    def __init__(self, sockets: list[list[Any]], rule_sets: list[bytes]) -> None:
        self._sockets = [self._socket(*each) for each in sockets]
        self._rule_sets = [Held(each, _made_of) for each in rule_sets]
        self._shared: list[Any] = []
        self._made_by = {
            _CODES[Place]: self._place, _CODES[Address]: self._address, _CODES[model.Interface]: self._interface,
            _CODES[model.Instance]: self._instance, _CODES[host_rules.HostRuleSet]: self._rules,
        }  # fmt: skip

    def made(self, value: Any) -> Any:
        """The value that was written."""
        return self._of_list(value) if type(value) is list else value

    def _of_list(self, value: list[Any]) -> Any:
        code, made = value[0], self._of_list
        flat = self._made_by.get(code)
        if flat is not None:
            return flat(value)
        inner = value[1:]
        for place, each in enumerate(inner):  # most are texts and numbers, which stay as they are
            kind = type(each)
            if kind is list:
                inner[place] = made(each)
            elif kind is bytes:
                inner[place] = int.from_bytes(each, "big")
        if code >= _FIRST:
            found = _CLASSES[code - _FIRST](*inner)
            if type(found) in _SHARED:
                self._shared.append(found)
            return found
        if code == _TUPLE:
            return tuple(inner)
        if code == _MAPPING:
            return dict(zip(inner[::2], inner[1::2], strict=True))
        if code == _SET:
            return frozenset(inner)
        return datetime.fromisoformat(inner[0]) if code == _TIME else self._shared[inner[0]]

    def _socket(
        self, bounds: list[int], text: str, bound_to: list[Any] | None, family: int | None
    ) -> model.Listener:  # fmt: skip
        services = RangeSet(tuple(zip(bounds[::2], bounds[1::2], strict=True)))
        address = Address(bound_to[0], _number(bound_to[1])) if bound_to is not None else None
        return model.Listener(services, text, Place("", 0), address, family)

    def _place(self, value: list[Any]) -> Place:
        return Place(value[1], value[2])

    def _address(self, value: list[Any]) -> Address:
        return Address(value[1], _number(value[2]))

    def _rules(self, value: list[Any]) -> host_rules.HostRuleSet:
        return RulesLater(value[1], self._rule_sets[value[2]])

    def _interface(self, value: list[Any]) -> model.Interface:
        _, name, instance, subnet, flat, file, line, public, filters = value
        addresses = tuple([Address(*each) if type(each[1]) is int else Address(each[0], int.from_bytes(each[1], "big"))
                           for each in zip(flat[::2], flat[1::2], strict=True)])  # fmt: skip
        known = self.made(public) if public is not None else None
        return model.Interface(name, instance, subnet, addresses, Place(file, line), known, tuple(filters))

    def _instance(self, value: list[Any]) -> model.Instance:
        _, name, file, line, interfaces, running, tags, host_filter, listens, forwards, ports, note = value
        return model.Instance(
            name, Place(file, line), tuple(map(self._interface, interfaces)), running, tags, self.made(host_filter),
            None if listens is None else ListenersLater(listens, self._sockets), forwards, self.made(ports), note,
        )  # fmt: skip


def _made_of(packed: bytes) -> Any:
    """What was packed by itself."""
    import msgpack

    return _Maker([], []).made(msgpack.unpackb(packed))


def _octets(number: int) -> int | bytes:
    """A number as MessagePack knows it, which has no more than 64 bits."""
    return number if number < 1 << 63 else number.to_bytes(17, "big")


def _number(written: int | bytes) -> int:
    return written if type(written) is int else int.from_bytes(written, "big")  # type: ignore[arg-type]
