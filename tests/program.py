"""The built program, in a process of its own that is forked from one which has loaded it: as if it had just been started,
without what Python and its libraries take to load, which is most of a short command's time.

With KIBOKO_FROM_NOTHING set each run starts an interpreter, as every test that names `-m kiboko` itself does;
`tests.commands.test_starting` holds each command to what it says then.
"""

import atexit
import contextlib
import ctypes
import multiprocessing
import os
import subprocess
import sys
import threading
from multiprocessing import reduction

_LOADED = multiprocessing.get_context("forkserver")
_LOADED.set_forkserver_preload(["tests.loaded"])
_FROM_NOTHING = bool(os.environ.get("KIBOKO_FROM_NOTHING"))


def run(words, cwd=None, environment=os.environ, stdin=None, timeout=120, namespace=None):
    """What `subprocess.run` gives of the program with these words, run in a network namespace where one is named. Raises
    TimeoutExpired after so many seconds."""
    inside = ["ip", "netns", "exec", namespace] if namespace else []
    command = [*inside, sys.executable, "-m", "kiboko", *words]
    if _FROM_NOTHING:
        return subprocess.run(
            command, cwd=cwd, env=environment, capture_output=True, text=True, input=stdin, timeout=timeout
        )
    ends = {1: os.pipe(), 2: os.pipe()} | ({0: os.pipe()} if stdin is not None else {})
    theirs = {number: reading if number == 0 else writing for number, (reading, writing) in ends.items()}
    handed = {number: _Handed(each) for number, each in theirs.items()}
    process = _LOADED.Process(target=_child, args=(words, cwd and str(cwd), dict(environment), handed, namespace))
    process.start()
    for each in theirs.values():
        os.close(each)
    told = {}
    threads = [threading.Thread(target=_read, args=(ends[number][0], told, number)) for number in (1, 2)]
    if stdin is not None:
        threads.append(threading.Thread(target=_write, args=(ends[0][1], stdin)))
    for each in threads:
        each.start()
    process.join(timeout)
    is_late = process.exitcode is None
    if is_late:
        process.kill()
    for each in threads:
        each.join()
    process.join()
    if is_late:
        raise subprocess.TimeoutExpired(command, timeout, told[1], told[2])
    return subprocess.CompletedProcess(command, process.exitcode, told[1], told[2])


class _Handed:
    """A file descriptor that is handed over with a process's arguments."""

    def __init__(self, number):
        self._number = number

    def __getstate__(self):
        return reduction.DupFd(self._number)

    def __setstate__(self, handed):
        self._number = handed.detach()

    def become(self, number):
        """Be that file descriptor, here."""
        os.dup2(self._number, number)
        os.close(self._number)


def _read(number, told, place):
    with open(number, encoding="utf-8") as stream:
        told[place] = stream.read()


def _write(number, text):
    with contextlib.suppress(BrokenPipeError), open(number, "w", encoding="utf-8") as stream:
        stream.write(text)


def _child(words, cwd, environment, handed, namespace):
    for number, each in handed.items():
        each.become(number)
    if namespace is not None:
        with open(f"/run/netns/{namespace}") as entrance:
            if ctypes.CDLL(None).setns(entrance.fileno(), 0):
                raise OSError(f"there is no way into {namespace}")
    sys.stdin = os.fdopen(0, "r", closefd=False)
    sys.stdout, sys.stderr = (os.fdopen(number, "w", closefd=False) for number in (1, 2))
    os.environ.clear()
    os.environ.update(environment)
    os.chdir(cwd or ".")
    sys.argv = ["kiboko", *words]
    from kiboko.__main__ import run as start

    try:
        start()
    finally:
        atexit._run_exitfuncs()
