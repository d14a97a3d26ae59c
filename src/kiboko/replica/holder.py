"""A process of our own namespaces, in which the replica lives.

`unshare` gives it a network, mount and process namespace, and a user namespace where we are not root. It is the first
process of its process namespace: when it ends, however it ends, the kernel ends all others there and takes the
namespaces, cables, rules and routes away with them.
"""

from __future__ import annotations

import ctypes
import os
import pickle
import shutil
import signal
import subprocess
import sys
from dataclasses import dataclass
from typing import Any

from kiboko.core.errors import SurroundingsError

_PR_SET_PDEATHSIG = 1
_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"


@dataclass(frozen=True, slots=True)
class Job:
    """What is to be done inside: a function by module and name, and its argument, both picklable."""

    module: str
    function: str
    argument: Any


def run_inside(job: Job, timeout: float = 600.0) -> Any:
    """Do a job inside new namespaces and return its result. All that it made is gone afterwards.

    Raises SurroundingsError where this system does not let us, or where the job fails for its surroundings.
    """
    for tool in ("unshare", "ip", "nft"):
        if shutil.which(tool, path=os.environ.get("PATH", "") + ":" + _PATH) is None:
            raise SurroundingsError(f"the replica needs '{tool}' (Debian: util-linux, iproute2, nftables)")
    command = ["unshare", *_flags(), sys.executable, "-m", "kiboko.replica.holder"]
    environment = {**os.environ, "PATH": os.environ.get("PATH", "") + ":" + _PATH}
    pipe = subprocess.PIPE
    with subprocess.Popen(
        command, stdin=pipe, stdout=pipe, stderr=pipe, env=environment, preexec_fn=_end_with_parent
    ) as process:
        try:
            output, complaints = process.communicate(pickle.dumps(job), timeout)
        except BaseException:
            process.kill()
            raise
    if not output:
        said = (complaints.decode(errors="replace").strip().splitlines() or ["no word of why"])[-1]
        if said.startswith("unshare:"):
            said += "; run as root, or allow unprivileged user namespaces"
        raise SurroundingsError(f"the replica could not be made: {said}")
    succeeded, result = pickle.loads(output)
    if not succeeded:
        raise SurroundingsError(str(result))
    return result


def _end_with_parent() -> None:
    """Have the kernel end this process when the one that started it ends, were it by a kill (prctl(2))."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)


def _flags() -> list[str]:
    flags = ["--net", "--mount", "--pid", "--fork", "--kill-child"]
    return flags if os.geteuid() == 0 else [*flags, "--user", "--map-root-user"]


def main() -> None:
    """The inside: a private /run/netns, then the job."""
    import importlib

    output = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    job = pickle.load(sys.stdin.buffer)
    try:
        os.makedirs("/run/netns", exist_ok=True)
        subprocess.run(["mount", "-t", "tmpfs", "kiboko", "/run/netns"], check=True, capture_output=True)
        result = (True, getattr(importlib.import_module(job.module), job.function)(job.argument))
    except SurroundingsError as error:
        result = (False, str(error))
    except (OSError, subprocess.CalledProcessError) as error:
        result = (False, f"the replica could not be made: {error}")
    output.write(pickle.dumps(result))
    output.flush()


if __name__ == "__main__":
    main()
