"""Carrying a layout out: namespaces, cables, settings, routes, rules and sockets of this machine's kernel.

Everything happens in a mount, process and network namespace of our own (`kiboko.replica.holder`), so that the host's
namespaces, addresses, rules and settings are never touched and all of it is gone when the holder ends.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import selectors
import socket
import subprocess
import threading
from collections.abc import Callable, Collection, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path
from typing import Any

from kiboko.core.errors import EnvironmentFailure
from kiboko.core.network.host_rules import DEVICE_FIELDS
from kiboko.replica.layout import BASE_SETTINGS, FORWARDING, Layout, Machine

_NETNS = Path("/run/netns")
_CLONE_NEWNET = 0x40000000
_AT_ONCE = 2 * (os.cpu_count() or 1)
_OTHER_FILES = 10_000
_FIRST = ("metainfo", "table", "counter", "quota", "limit", "ct helper", "ct timeout", "ct expectation", "chain")
"""What of a rule set's listing is to be loaded before the rest, in this order."""
_libc = ctypes.CDLL(None, use_errno=True)


def enter(name: str) -> None:
    """Move the calling thread into a namespace: sockets that it makes from now on belong there (setns(2))."""
    handle = os.open(_NETNS / name, os.O_RDONLY)
    try:
        if _libc.setns(handle, _CLONE_NEWNET):
            number = ctypes.get_errno()
            raise EnvironmentFailure(f"cannot enter namespace {name}: {os.strerror(number)}")
    finally:
        os.close(handle)


def build(layout: Layout) -> None:
    """Make everything of a layout. Raises EnvironmentFailure with what the kernel's tools said."""
    names = [machine.name for machine in layout.machines.values()]
    _run(["ip", "-batch", "-"], "".join(f"netns add {name}\n" for name in names))
    in_namespaces(layout.machines.values(), _settings)
    cables = "".join(
        f"link add {c.one_device} netns {c.one} address {c.one_mac} type veth"
        f" peer name {c.other_device} netns {c.other} address {c.other_mac}\n"
        for c in layout.cables
    )
    _run(["ip", "-batch", "-"], cables)
    in_namespaces(layout.machines.values(), _made_ready)


def replace_rules(layout: Layout, keeping: Collection[str] = ()) -> None:
    """Put another layout's rules in force in a replica that stands.

    At the machines named in `keeping` what is connected already goes on, as on a device that asks its rules about
    new connections only.
    """

    def swap(machine: Machine) -> None:
        _run(["nft", "delete", "table", "inet", "kiboko"], "")
        lines = []
        for line in machine.rules:
            lines.append(line)
            if (
                machine.name in keeping
                and " hook " in line
                and " filter " in line
                and not line.startswith("chain tap-")
            ):
                lines.append("ct state established accept")
        _run(["nft", "-f", "-"], "table inet kiboko {\n" + "\n".join(lines) + "\n}\n")

    in_namespaces([machine for machine in layout.machines.values() if machine.rules], swap)


def _settings(machine: Machine) -> None:
    for setting in BASE_SETTINGS + (FORWARDING if machine.forwards else ()):
        name, _, value = setting.partition("=")
        # A setting that this kernel does not have is one that cannot be in the way.
        with contextlib.suppress(FileNotFoundError):
            (Path("/proc/sys") / name).write_text(value)


def _made_ready(machine: Machine) -> None:
    """Addresses, routes and rules of the machine in whose namespace this is done."""
    _run(["ip", "-batch", "-"], "link set lo up\n" + "\n".join(machine.commands) + "\n")
    for family, commands in (("-4", machine.commands4), ("-6", machine.commands6)):
        if commands:
            _run(["ip", family, "-batch", "-"], "\n".join(commands) + "\n")
    if machine.host_rules is not None:
        _run(["nft", "-j", "-f", "-"], _loadable(Path(machine.host_rules).read_text(), machine.renamed))
    if machine.rules:
        _run(["nft", "-f", "-"], "table inet kiboko {\n" + "\n".join(machine.rules) + "\n}\n")


def _loadable(text: str, names: dict[str, str]) -> str:
    """A listing as it can be loaded: chains stand before the maps that jump to them, which a listing has the other way
    round; where a rule compares with an interface's name, and in sets, it is the one that it bears in the replica."""
    listing = json.loads(text)
    listing["nftables"].sort(key=lambda each: next((at for at, kind in enumerate(_FIRST) if kind in each), len(_FIRST)))
    return json.dumps(_renamed(listing, names) if names else listing)


def _renamed(listing: Any, names: dict[str, str]) -> Any:
    """A listing in which interfaces bear other names."""

    def walk(value: Any, of_interfaces: bool) -> Any:
        if isinstance(value, str):
            return names.get(value, value) if of_interfaces else value
        if isinstance(value, list):
            return [walk(each, of_interfaces) for each in value]
        if not isinstance(value, dict):
            return value
        keys = {each for side in ("left", "key") for each in _meta_keys(value.get(side))}
        mine = of_interfaces or bool(keys & DEVICE_FIELDS) or "ifname" in str(value.get("type", ""))
        return {key: each if key in ("left", "key") else walk(each, mine) for key, each in value.items()}

    return walk(listing, False)


def _meta_keys(expression: Any) -> Iterator[str]:
    if isinstance(expression, dict):
        if isinstance(expression.get("meta"), dict):
            yield str(expression["meta"].get("key"))
        for each in expression.values():
            yield from _meta_keys(each)
    elif isinstance(expression, list):
        for each in expression:
            yield from _meta_keys(each)


def use_client_ports(layout: Layout) -> None:
    """Have what is started inside by hand come from the client ports that the network file gives each machine."""

    def use(machine: Machine) -> None:
        low, high = machine.client_ports or (61000, 65535)
        Path("/proc/sys/net/ipv4/ip_local_port_range").write_text(f"{low} {high}")

    in_namespaces([machine for machine in layout.machines.values() if machine.client_ports], use)


def in_namespaces(machines: Iterable[Machine], action: Callable[[Machine], object]) -> None:
    """Do something in each machine's namespace, on threads of their own, since this one could not go back."""

    def work(machine: Machine) -> None:
        enter(machine.name)
        action(machine)

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        doing = [pool.submit(work, machine) for machine in machines]
        try:
            for each in as_completed(doing):
                each.result()
        except BaseException:
            pool.shutdown(cancel_futures=True)
            raise


def _run(command: list[str], text: str) -> None:
    done = subprocess.run(command, input=text, capture_output=True, text=True, check=False)
    if done.returncode:
        raise EnvironmentFailure(f"{' '.join(command)}: {done.stderr.strip()[:800]}\n{_context(done.stderr, text)}")


def _context(message: str, text: str) -> str:
    """The lines of the input that a message such as `Command failed -:7` or `/dev/stdin:7:1` speaks of."""
    lines = text.splitlines()
    numbers = [int(part) for part in message.replace(":", " ").split() if part.isdecimal()]
    return "\n".join(lines[number - 1] for number in numbers[:3] if 0 < number <= len(lines))


def _allow_files(sockets: int) -> None:
    """Let this process have so many sockets open, and those of as many probes as are under way, as far as the system
    allows it (setrlimit(2))."""
    wanted = sockets + _OTHER_FILES
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    if wanted > hard:
        with contextlib.suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, wanted))
            return
    resource.setrlimit(resource.RLIMIT_NOFILE, (hard, hard))


class Services:
    """Everything that listens in the replica: one thread answers for all namespaces."""

    def __init__(self, layout: Layout) -> None:
        _allow_files(sum(len(machine.listeners) for machine in layout.machines.values()))
        self._selector = selectors.DefaultSelector()
        self._stopped = threading.Event()
        in_namespaces([m for m in layout.machines.values() if m.listeners], self._open)
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _open(self, machine: Machine) -> None:
        for protocol, address, port in machine.listeners:
            family = socket.AF_INET6 if ":" in address else socket.AF_INET
            kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
            made = socket.socket(family, kind)
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if family == socket.AF_INET6:
                made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            try:
                made.bind((address, port))
            except OSError as error:
                raise EnvironmentFailure(
                    f"{machine.role} cannot listen on {address} {protocol}/{port}: {error}"
                ) from error
            made.setblocking(False)
            if kind == socket.SOCK_STREAM:
                made.listen(256)
            self._selector.register(made, selectors.EVENT_READ, kind)

    def _serve(self) -> None:
        while not self._stopped.is_set():
            for key, _ in self._selector.select(0.2):
                made = key.fileobj
                assert isinstance(made, socket.socket)
                with contextlib.suppress(OSError):
                    self._answer(made, key.data)

    def _answer(self, made: socket.socket, kind: object) -> None:
        if kind == socket.SOCK_STREAM:
            connection = made.accept()[0]
            connection.setblocking(False)
            self._selector.register(connection, selectors.EVENT_READ, None)
        elif kind == socket.SOCK_DGRAM:
            data, sender = made.recvfrom(2048)
            made.sendto(data, sender)
        else:
            data = b""
            with contextlib.suppress(ConnectionError):
                data = made.recv(65536)
            if data:
                made.send(data)
            else:
                self._selector.unregister(made)
                made.close()

    def close(self) -> None:
        """Stop answering."""
        self._stopped.set()
        self._thread.join()
