"""Work on the pieces of logs, by this process, by several, or by a Dask cluster; what comes of them in their order.

The order of the outcomes is that of the pieces, so that what is made of them is the same whoever did the work.
"""

from __future__ import annotations

import contextlib
import gc
import hashlib
import os
import pickle
import signal
from collections import deque
from collections.abc import Callable, Iterator, Sequence
from typing import Any, Protocol, TypeVar

from kiboko import __version__
from kiboko.core.errors import EnvironmentFailure, InputError, KibokoError, UsageError
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.flow_pieces import Piece

T_co = TypeVar("T_co", covariant=True)
_AHEAD = 2
_PR_SET_PDEATHSIG = 1
_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_KEPT = 1 << 28  # octets
_RETRIES = 3
_MOST_JOBS = 4


class Job(Protocol[T_co]):
    """What is to be done with each piece: a value that can be sent elsewhere and started there."""

    def start(self) -> Callable[[Piece], T_co]:
        """Make ready what does it, once for each process."""


def outcomes(
    job: Job[T_co],
    pieces: Sequence[Piece],
    workers: int | None = None,
    here: Callable[[], Callable[[Piece], T_co]] | None = None,
) -> Iterator[T_co]:
    """What comes of pieces on this machine: by one process where there is little to read, else by as many as there are
    processors. `here` makes ready what does it in this process, where that differs from what `job` starts elsewhere."""
    count = workers or os.cpu_count() or 1
    files = {piece.path for piece in pieces}
    small = sum(os.path.getsize(path) for path in files) < flow_pieces.PIECE
    if count == 1 or small or len(pieces) == 1:
        yield from map((here or job.start)(), pieces)
        return
    yield from shared_out(job, pieces, count)


def shared_out(job: Job[T_co], pieces: Sequence[Any], count: int) -> Iterator[T_co]:
    """What comes of pieces of whatever kind by `count` processes of this machine, in the order of the pieces. Raises
    EnvironmentFailure where one of them is ended from outside."""
    from concurrent.futures import Future, ProcessPoolExecutor
    from concurrent.futures.process import BrokenProcessPool
    from multiprocessing import get_context

    context = get_context("fork" if os.name == "posix" else None)
    pool = ProcessPoolExecutor(count, context, _start, (job, os.getpid()))
    try:
        yield from _in_order(pieces, lambda piece: pool.submit(_work, piece), Future.result, _AHEAD * count)
    except BrokenProcessPool as error:
        raise EnvironmentFailure("a process that read for this one was ended from outside") from error
    except BaseException:
        # Whoever stops here, by Ctrl-C or for a fault, does not wait for what would come to nothing.
        for process in list((pool._processes or {}).values()):
            process.kill()
        pool.shutdown(wait=False, cancel_futures=True)
        raise
    pool.shutdown()


_started: list[Callable[[Piece], Any]] = []
"""What does the job in a process of the pool, made once when the process starts."""


def _start(job: Job[Any], parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is the parent that is told, and ends us
    _end_with_parent(parent)
    _keep_memory()
    _started.append(job.start())
    gc.freeze()  # what was made for the start stays until the end: no search for cycles need look at it


def _end_with_parent(parent: int) -> None:
    """Have the kernel end this process when its parent ends, however that comes about (prctl(2))."""
    with contextlib.suppress(AttributeError, OSError, TypeError):
        import ctypes

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:  # it was gone before it could be asked for
        os._exit(1)


def _keep_memory() -> None:
    """Have the C library keep what was freed for what is asked for next, instead of giving back arrays of megabytes to
    the system and getting them again page by page (mallopt(3)). Where there is no such function nothing is lost."""
    with contextlib.suppress(AttributeError, OSError, TypeError):
        import ctypes

        library = ctypes.CDLL(None)
        for option in (_TRIM_THRESHOLD, _MMAP_THRESHOLD):
            library.mallopt(option, _KEPT)


def _work(piece: Piece) -> Any:
    return _started[0](piece)


def _in_order(
    pieces: Sequence[Piece], submit: Callable[[Piece], Any], result: Callable[[Any], Any], ahead: int
) -> Iterator[Any]:
    """The outcomes in the order of the pieces, with a few of them worked on ahead."""
    waiting: deque[Any] = deque()
    for piece in pieces:
        waiting.append(submit(piece))
        if len(waiting) > ahead:
            yield result(waiting.popleft())
    while waiting:
        yield result(waiting.popleft())


# A Dask cluster.


def cluster_outcomes(job: Job[T_co], pieces: Sequence[Piece], address: str) -> Iterator[T_co]:
    """What comes of pieces on a Dask cluster: that of the scheduler at an address such as `tcp://10.0.0.5:8786`, or
    with `local` or `local:N` one of N processes made for the purpose here.

    A piece whose worker is lost is worked on by another one; its outcome is taken once. Raises UsageError without the
    extra `cluster`, EnvironmentFailure where the cluster cannot be reached or does not recover.
    """
    try:
        from distributed import Client, KilledWorker, LocalCluster
    except ImportError as error:
        raise UsageError("--cluster needs the extra: pip install 'kiboko[cluster]'") from error
    with contextlib.ExitStack() as stack:
        if address == "local" or address.startswith("local:"):
            count = address.partition(":")[2] or str(os.cpu_count() or 1)
            if not count.isdecimal() or not int(count):
                raise UsageError(f"'{address}' is no cluster; write local:4 for four workers")
            made = LocalCluster(
                n_workers=int(count), threads_per_worker=1, processes=True, host="127.0.0.1", dashboard_address=None,
                silence_logs=50,
            )  # fmt: skip
            address = stack.enter_context(made)
        try:
            client = stack.enter_context(Client(address, timeout=10, set_as_default=False))
        except (OSError, TimeoutError, ValueError) as error:
            raise EnvironmentFailure(f"no Dask scheduler at {address}: {error}") from error
        # A task rather than scattered data: what is lost with a worker is made again.
        blob = pickle.dumps((__version__, job))
        sent = client.submit(_kept, blob, key=f"kiboko-job-{hashlib.blake2b(blob, digest_size=12).hexdigest()}")

        def submit(piece: Piece) -> Any:
            return client.submit(_work_remotely, sent, piece, pure=False, retries=_RETRIES)

        def result(future: Any) -> Any:
            try:
                found = future.result()
            except KilledWorker as error:
                raise EnvironmentFailure(f"workers died of one piece again and again: {error}") from error
            except (OSError, TimeoutError) as error:
                raise EnvironmentFailure(f"the cluster at {client.scheduler.address} is lost: {error}") from error
            if isinstance(found, KibokoError):
                raise found
            return found

        workers = len(client.scheduler_info()["workers"]) or 1
        yield from _in_order(pieces, submit, result, 2 * _AHEAD * workers)


def _kept(blob: bytes) -> bytes:
    return blob


_remote: dict[bytes, Callable[[Piece], Any]] = {}
"""What does each job in a process of the cluster, the last few of them."""


def _work_remotely(blob: bytes, piece: Piece) -> Any:
    """Do a piece of a job; what is wrong with the input is the outcome, since another try would not mend it."""
    key = hashlib.blake2b(blob).digest()
    try:
        if key not in _remote:
            version, job = pickle.loads(blob)
            if version != __version__:
                return EnvironmentFailure(f"a worker of the cluster has kiboko {__version__}, this is {version}")
            while len(_remote) >= _MOST_JOBS:
                _remote.pop(next(iter(_remote)))
            _remote[key] = job.start()
        return _remote[key](piece)
    except KibokoError as error:
        # Whole pieces are written by many; only the text of an error travels.
        return error if isinstance(error, EnvironmentFailure) else InputError(str(error))
