"""A process of our own namespaces, in which the replica lives.

`unshare` gives it a network, mount and process namespace, and a user namespace where we are not root. It is the first
process of its process namespace: when it ends, however it ends, the kernel ends all others there and takes the
namespaces, cables, rules and routes away with them.
"""

from __future__ import annotations

import contextlib
import ctypes
import importlib
import os
import pickle
import select
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from typing import IO, Any

from kiboko.core.errors import EnvironmentFailure

_PR_SET_PDEATHSIG = 1
_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"


@dataclass(frozen=True, slots=True)
class HolderTask:
    """What is to be done inside: a function by module and name, and its argument, both picklable.

    A job that `stays` keeps the namespaces, and what the function returned, until its process is ended.
    """

    module: str
    function: str
    argument: Any
    stays: bool = False


def run_inside(job: HolderTask, timeout: float = 600.0) -> Any:
    """Do a job inside new namespaces and return its result. All that it made is gone afterwards.

    Raises EnvironmentFailure where this system does not let us, or where the job fails for its environment.
    """
    process, complaints = start_holder(_end_with_parent)
    with process, complaints:
        return hand_over(process, complaints, job, timeout)


def start_holder(before: Callable[[], None] | None = None) -> tuple[subprocess.Popen[bytes], IO[bytes]]:
    """Start the process that waits for a job on its input; it, and the file that takes its complaints.

    Raises EnvironmentFailure for a tool that is missing.
    """
    for tool in ("unshare", "nsenter", "ip", "nft"):
        if shutil.which(tool, path=search_path()) is None:
            raise EnvironmentFailure(f"the replica needs '{tool}' (Debian: util-linux, iproute2, nftables)")
    command = ["unshare", *_flags(), sys.executable, "-P", "-m", "kiboko.replica.holder"]
    pipe = subprocess.PIPE
    complaints = tempfile.TemporaryFile()  # noqa: SIM115 - whoever hands over the job closes it
    process = subprocess.Popen(
        command,
        stdin=pipe,
        stdout=pipe,
        stderr=complaints,
        env={**os.environ, "PATH": search_path()},
        preexec_fn=before,
        start_new_session=before is None,
    )
    return process, complaints


def hand_over(process: subprocess.Popen[bytes], complaints: IO[bytes], job: HolderTask, timeout: float) -> Any:
    """Give a holder its job and wait for the result. Ends the holder where that fails."""
    assert process.stdin is not None and process.stdout is not None
    try:
        with contextlib.suppress(BrokenPipeError):
            process.stdin.write(pickle.dumps(job))
            process.stdin.close()
        # The end of the stream is no sign of the end: a holder that stays keeps it open.
        waiting = select.poll()
        waiting.register(process.stdout, select.POLLIN)
        if not waiting.poll(timeout * 1000):
            raise EnvironmentFailure(f"the replica was not ready within {timeout:.0f} s")
        size = int.from_bytes(process.stdout.read(8), "big")
        output = process.stdout.read(size)
    except BaseException:
        process.kill()
        raise
    if not output:
        complaints.seek(0)
        said = (complaints.read().decode(errors="replace").strip().splitlines() or ["no word of why"])[-1]
        if said.startswith("unshare:"):
            said += "; run as root, or allow unprivileged user namespaces"
        raise EnvironmentFailure(f"the replica could not be made: {said}")
    succeeded, result = pickle.loads(output)
    if not succeeded:
        raise EnvironmentFailure(str(result))
    return result


def search_path() -> str:
    """Where the system's tools are looked for, for users whose own path leaves out the administrator's."""
    return os.environ.get("PATH", "") + ":" + _PATH


def _end_with_parent() -> None:
    """Have the kernel end this process when the one that started it ends, were it by a kill (prctl(2))."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def _flags() -> list[str]:
    flags = ["--net", "--mount", "--pid", "--fork", "--kill-child"]
    return flags if os.geteuid() == 0 else [*flags, "--user", "--map-root-user"]


def main() -> None:
    """The inside: a private /run/netns, then the job."""
    output = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    try:
        job = pickle.load(sys.stdin.buffer)
    except EOFError:  # whoever started us ended before handing over a job
        return
    kept = None
    try:
        os.makedirs("/run/netns", exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "kiboko", "/run/netns"], check=True, capture_output=True)
        kept = getattr(importlib.import_module(job.module), job.function)(job.argument)
        result = (True, None if job.stays else kept)
    except EnvironmentFailure as error:
        result = (False, str(error))
    except (OSError, subprocess.CalledProcessError) as error:
        rights = "; it takes CAP_SYS_ADMIN and CAP_NET_ADMIN" if isinstance(error, PermissionError) else ""
        result = (False, f"the replica could not be made: {error}{rights}")
    data = pickle.dumps(result)
    output.write(len(data).to_bytes(8, "big") + data)
    output.close()
    if job.stays and result[0]:
        nowhere = os.open(os.devnull, os.O_RDWR)
        for descriptor in (0, 1, 2):
            os.dup2(nowhere, descriptor)
        while True:
            signal.pause()


if __name__ == "__main__":
    main()
