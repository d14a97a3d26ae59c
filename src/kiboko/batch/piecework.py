"""Work on the pieces of logs, by this process, by several, or by a Dask cluster; what comes of them in their order.

The order of the outcomes is that of the pieces, so that what is made of them is the same whoever did the work.
"""

from __future__ import annotations

import contextlib
import gc
import hashlib
import itertools
import os
import pickle
import signal
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any, Protocol, TypeVar

from kiboko import __version__
from kiboko.batch import processors
from kiboko.core.errors import EnvironmentFailure, InputError, KibokoError, UsageError
from kiboko.files.logs import flow_pieces
from kiboko.files.logs.log_lines import LINES
from kiboko.files.logs.windows import Window, octets_of_text

T_co = TypeVar("T_co", covariant=True)
_AHEAD, _MOST_READY = 2, 4
_PR_SET_PDEATHSIG = 1
_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3
_KEPT = 1 << 28  # octets
_RETRIES = 3
_LINE_BY_LINE = 8
"""As many times as long as other text takes what is read line by line."""
_MOST_JOBS = 4


class Job(Protocol[T_co]):
    """What is to be done with each piece: a value that can be sent elsewhere and started there."""

    def start(self) -> Callable[[Any], T_co]:
        """Make ready what does it, once for each process."""


def outcomes(
    job: Job[T_co],
    windows: Sequence[Window],
    workers: int | None = None,
    here: Callable[[], Callable[[Any], T_co]] | None = None,
    taken: Callable[[T_co], Any] | None = None,
) -> Iterator[Any]:
    """What comes of windows on this machine: by one process where there is little to read, else by as many as there are
    processors. `here` makes ready what does it in this process, where that differs from what `job` starts elsewhere.
    `taken` makes something of each outcome in this process, as soon as it is there and before its turn comes."""
    count = workers or processors.usable()
    if count == 1 or len(windows) == 1 or _is_little(windows):
        done = map((here or job.start)(), windows)
        yield from map(taken, done) if taken is not None else done
        return
    yield from shared_out(job, windows, count, taken)


def _is_little(windows: Sequence[Window]) -> bool:
    """Whether there is so little to read that others would take longer to begin."""
    pieces = {piece.path: piece for window in windows for piece in window.pieces}.values()
    work = sum(octets_of_text(piece) * (_LINE_BY_LINE if piece.form == LINES else 1) for piece in pieces)
    return work < flow_pieces.PIECE


def shared_out(
    job: Job[T_co], pieces: Sequence[Any], count: int, taken: Callable[[T_co], Any] | None = None
) -> Iterator[Any]:
    """What comes of pieces of whatever kind by `count` processes of this machine, in the order of the pieces; what
    `taken` makes of it, where it is given. Raises EnvironmentFailure where one of them is ended from outside."""
    from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
    from concurrent.futures.process import BrokenProcessPool
    from multiprocessing import get_context

    context = get_context("fork" if os.name == "posix" else None)
    pool = ProcessPoolExecutor(count, context, _start, (job, os.getpid()))
    try:
        yield from _in_order(
            pieces, lambda piece: pool.submit(_work, piece), lambda waiting: wait(waiting, None, FIRST_COMPLETED).done,
            Future.result, _AHEAD * count, taken,
        )  # fmt: skip
    except BrokenProcessPool as error:
        raise EnvironmentFailure("a process that read for this one was ended from outside") from error
    except BaseException:
        # Whoever stops here, by Ctrl-C or for a fault, does not wait for what would come to nothing.
        for process in list((pool._processes or {}).values()):
            process.kill()
        # Of what one of them was handing back the rest never comes: its reader would wait for that, and the program for
        # its reader, as long as this process holds the other end open itself.
        with contextlib.suppress(AttributeError, OSError):
            pool._result_queue._writer.close()  # type: ignore[attr-defined]
        pool.shutdown(wait=False, cancel_futures=True)
        raise
    pool.shutdown()


_started: list[Callable[[Any], Any]] = []
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


def _work(piece: Any) -> Any:
    return _started[0](piece)


def _in_order(
    pieces: Sequence[Any],
    submit: Callable[[Any], Any],
    done: Callable[[Iterable[Any]], Iterable[Any]],
    result: Callable[[Any], Any],
    ahead: int,
    taken: Callable[[Any], Any] | None = None,
) -> Iterator[Any]:
    """What is made of outcomes as soon as they are there (`taken`), in the order of the pieces.

    A few pieces are worked on ahead, and no more than a few outcomes wait for the one whose turn it is. `submit` has a
    piece worked on, `done` waits for some of what is being worked on, `result` is the outcome of what is done.
    """
    waiting: dict[Any, int] = {}
    ready: dict[int, Any] = {}
    turn = submitted = 0
    left = iter(enumerate(pieces))
    while turn < len(pieces):
        room = min(ahead + 1 - len(waiting), turn + _MOST_READY * ahead - submitted)
        for number, piece in itertools.islice(left, max(0, room)):
            waiting[submit(piece)] = number
            submitted += 1
        for number, future in sorted((waiting[each], each) for each in done(list(waiting))):
            del waiting[future]
            outcome = result(future)
            ready[number] = taken(outcome) if taken is not None else outcome
        while turn in ready:
            yield ready.pop(turn)
            turn += 1


# A Dask cluster.


def cluster_outcomes(
    job: Job[T_co], pieces: Sequence[Window], address: str, taken: Callable[[T_co], Any] | None = None
) -> Iterator[Any]:
    """What comes of pieces on a Dask cluster: that of the scheduler at an address such as `tcp://10.0.0.5:8786`, or
    with `local` or `local:N` one of N processes made for the purpose here. `taken` is as `outcomes` has it.

    A piece whose worker is lost is worked on by another one; its outcome is taken once. Raises UsageError without the
    extra `cluster`, EnvironmentFailure where the cluster cannot be reached or does not recover.
    """
    try:
        from distributed import Client, KilledWorker, LocalCluster, wait
    except ImportError as error:
        raise UsageError("--cluster needs the extra: pip install 'kiboko[cluster]'") from error
    from asyncio import CancelledError

    with contextlib.ExitStack() as stack:
        if address == "local" or address.startswith("local:"):
            count = address.partition(":")[2] or str(processors.usable())
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

        def submit(piece: Window) -> Any:
            return client.submit(_work_remotely, sent, piece, pure=False, retries=_RETRIES)

        @contextlib.contextmanager
        def reached() -> Iterator[None]:
            try:
                yield
            except KilledWorker as error:
                raise EnvironmentFailure(f"workers died of one piece again and again: {error}") from error
            except (OSError, TimeoutError, CancelledError) as error:
                raise EnvironmentFailure(f"the cluster at {client.scheduler.address} is lost: {error}") from error

        def done(waiting: Iterable[Any]) -> Any:
            with reached(), client.as_current():
                return wait(waiting, return_when="FIRST_COMPLETED").done

        def result(future: Any) -> Any:
            with reached():
                found = future.result()
            if isinstance(found, KibokoError):
                raise found
            return found

        workers = len(client.scheduler_info()["workers"]) or 1
        yield from _in_order(pieces, submit, done, result, 2 * _AHEAD * workers, taken)


def _kept(blob: bytes) -> bytes:
    return blob


_remote: dict[bytes, Callable[[Any], Any]] = {}
"""What does each job in a process of the cluster, the last few of them."""


def _work_remotely(blob: bytes, piece: Any) -> Any:
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
