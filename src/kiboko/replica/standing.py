"""A replica left standing: built, entered by hand, and removed.

One stands for each user at a time. Its holder is the first process of a process namespace of its own, so that ending
that one process takes away everything. What is known of it is in a small file beside the user's other runtime files,
written before anything is built, so that a build that was killed half-way can be removed too.
"""

from __future__ import annotations

import contextlib
import dataclasses
import json
import os
import signal
import subprocess
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from kiboko.core.errors import EnvironmentFailure, UsageError
from kiboko.core.hints import nearest
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, address_set_of
from kiboko.core.walk.walk import Walker
from kiboko.files.documents.saving import write_whole
from kiboko.replica.faults import Fault, check_faults
from kiboko.replica.holder import HolderTask, hand_over, search_path, start_holder
from kiboko.replica.instances import device_of
from kiboko.replica.kernel import Services, build, use_client_ports
from kiboko.replica.layout import Layout
from kiboko.replica.part import Part, check_size, part_for, whole
from kiboko.replica.trials import services_that_matter
from kiboko.replica.verify import draw


@dataclass(frozen=True, slots=True)
class Standing:
    """A replica that stands: the process that holds it, when that began (clock ticks since boot, which tell it from
    a later process of the same number), the network file, and the namespace of each name."""

    pid: int
    began: str
    network: str
    machines: dict[str, str] = dataclasses.field(default_factory=dict)
    addresses: dict[str, list[str]] = dataclasses.field(default_factory=dict)
    about: dict[str, list[str]] = dataclasses.field(default_factory=dict)
    """Of each instance, in words: its interfaces as they are called here, and its client ports."""

    @property
    def is_alive(self) -> bool:
        """Whether its process still runs."""
        return _began(self.pid) == self.began


def state_file() -> Path:
    """Where the standing replica is noted: in a folder of this user alone. Raises EnvironmentFailure if it is not."""
    folder = Path(os.environ.get("XDG_RUNTIME_DIR") or tempfile.gettempdir()) / f"kiboko-{os.geteuid()}"
    try:
        folder.mkdir(mode=0o700, exist_ok=True)
        about = folder.lstat()
    except OSError as error:
        raise EnvironmentFailure(f"{folder}: {error.strerror}") from error
    if about.st_uid != os.geteuid() or about.st_mode & 0o077 or not folder.is_dir():
        raise EnvironmentFailure(f"{folder} is not a folder of this user alone; remove it, or set XDG_RUNTIME_DIR")
    return folder / "replica.json"


def standing() -> Standing | None:
    """What stands, or None. A note whose process has ended counts for nothing."""
    try:
        value = json.loads(state_file().read_text())
        found = Standing(**value)
    except FileNotFoundError:
        return None
    except (OSError, ValueError, TypeError) as error:
        raise EnvironmentFailure(f"{state_file()} cannot be read: {error}; remove it") from error
    return found if found.is_alive else None


def stand(topology: Topology, faults: tuple[Fault, ...] = (), only: tuple[str, ...] = ()) -> Standing:
    """Build a replica and leave it standing: of all instances, or `only` of those that some names stand for, and of
    what leads there. Raises UsageError where one stands already, and for more than one replica holds."""
    there = standing()
    if there is not None:
        raise UsageError(f"a replica of {there.network} stands already; take it away with 'kiboko replica remove'")
    walker = Walker(topology)
    check_faults(faults, topology)
    part = _part(walker, faults, only)
    check_size(topology, part, "name what is to be built with --only NAME")
    layout = draw(topology, walker, services_that_matter(topology), faults, False, part)
    process, complaints = start_holder()
    note = Standing(
        process.pid, _began(process.pid) or "", topology.file, layout.homes, layout.outside_addresses,
        _about(topology, layout, part),
    )  # fmt: skip
    write_whole(state_file(), json.dumps(dataclasses.asdict(note), indent=1).encode())
    try:
        hand_over(process, complaints, HolderTask("kiboko.replica.standing", "stand_inside", layout, stays=True), 600.0)
    except BaseException:
        remove()
        raise
    finally:
        complaints.close()
    return note


def _part(walker: Walker, faults: tuple[Fault, ...], only: tuple[str, ...]) -> Part:
    if not only:
        return whole(walker.topology)
    addresses = address_set_of(Ends(walker), only)
    named = {
        each.instance
        for each in walker.directory.interfaces()
        if any(one in addresses for one in (*each.addresses, each.public) if one is not None)
    }
    if not named:
        raise UsageError(f"nothing to build: no instance is meant by {', '.join(only)}")
    return part_for(walker.topology, named | {name for fault in faults for name in (fault.who, fault.at)})


def _about(topology: Topology, layout: Layout, part: Part) -> dict[str, list[str]]:
    found = {}
    for instance in part.instances_of(topology):
        lines = []
        for interface in instance.interfaces:
            addresses = ", ".join(map(str, interface.addresses)) or "no address"
            lines.append(f"{interface.device} is {device_of(interface)} here: {addresses}")
        machine = layout.machines.get(layout.homes.get(instance.name, ""))
        if machine is not None and machine.client_ports is not None:
            low, high = machine.client_ports
            lines.append(f"what is started here comes from client ports {low}-{high}")
        found[instance.name] = lines
    return found


def about(name: str) -> list[str]:
    """What a machine of the standing replica is like, in lines. Raises UsageError."""
    return _machine_of(name).about.get(name, ["a router or gateway, or somewhere outside"])


def _machine_of(name: str) -> Standing:
    there = standing()
    if there is None:
        raise UsageError("no replica stands; make one with 'kiboko replica build'")
    if name not in there.machines:
        hint = nearest(name, there.machines, 3, 0.5)
        raise UsageError(f"'{name}' is no instance, outside, subnet or gateway of the replica{hint}")
    return there


def stand_inside(layout: Layout) -> Services:
    """Build and serve, inside the namespaces."""
    build(layout)
    use_client_ports(layout)
    return Services(layout)


def remove() -> Standing | None:
    """End the holder, and with it all that was made; what stood, or None. Raises EnvironmentFailure if it stays."""
    there = standing()
    if there is not None:
        inside = _child(there.pid)
        for pid in (inside, there.pid):
            if pid is not None:
                with contextlib.suppress(ProcessLookupError):
                    os.kill(pid, signal.SIGKILL)
        for _ in range(200):
            with contextlib.suppress(ChildProcessError):
                os.waitpid(there.pid, os.WNOHANG)
            if not there.is_alive and (inside is None or _began(inside) is None):
                break
            time.sleep(0.05)
        else:
            raise EnvironmentFailure(f"process {there.pid} holds the replica and does not end")
    state_file().unlink(missing_ok=True)
    return there


def run_at(name: str, command: Sequence[str]) -> int:
    """Run a command at an instance, outside, subnet router or gateway of the standing replica; its exit status."""
    there = _machine_of(name)
    inside = _child(there.pid)
    if inside is None:
        raise EnvironmentFailure("the replica is just being taken away")
    user = [] if os.geteuid() == 0 else ["--user", "--preserve-credentials"]
    enter = ["nsenter", "--target", str(inside), *user, "--mount", "--pid", f"--wd={os.getcwd()}", "--"]
    whole = [*enter, "nsenter", f"--net=/run/netns/{there.machines[name]}", "--", *command]
    status = subprocess.call(whole, env={**os.environ, "PATH": search_path()})
    return status if status >= 0 else 128 - status  # ended by a signal, as a shell says it


def _began(pid: int) -> str | None:
    """When a process began, None where there is none, or only its exit status is left (proc(5), field 22)."""
    try:
        fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except (OSError, ProcessLookupError):
        return None
    return fields[19] if fields[0] not in ("Z", "X") else None


def _child(pid: int) -> int | None:
    """The process inside: the only child of the one that made the namespaces."""
    try:
        words = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return None
    return int(words[0]) if words else None
