"""Standard output and standard error as they may be found: a pipe whose reader goes away, a full disk, closed, or a
terminal that knows no letters but ASCII."""

from __future__ import annotations

import contextlib
import io
import os
import sys
from collections.abc import Generator
from typing import Any, TextIO

from kiboko.core.errors import EnvironmentFailure
from kiboko.core.wording import as_given


class UnwritableOutput(Exception):
    """Standard output takes nothing: its disk is full, or it is closed. Its text says why."""


class _Output(io.TextIOBase):
    """Standard output. A reader that goes away (`kiboko … | head`) is no reason to stop: nothing is wrong, and the exit
    status tells of the whole answer all the same. What cannot be written for another reason is told once. Files are
    named as they were given."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self.is_unread = False
        """Whether the reader has gone away."""

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)

    def isatty(self) -> bool:
        return self._stream.isatty()

    def fileno(self) -> int:
        return self._stream.fileno()

    def writable(self) -> bool:
        return True

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self._stream.encoding

    def write(self, text: str) -> int:
        try:
            return self._stream.write(as_given(text))
        except OSError as error:
            self._failed(error)
            return len(text)

    def flush(self) -> None:
        try:
            self._stream.flush()
        except OSError as error:
            self._failed(error)

    def _failed(self, error: OSError) -> None:
        # What is still in the buffer has to go somewhere, or it is tried again at the end.
        with contextlib.suppress(OSError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), self._stream.fileno())
        self.is_unread = isinstance(error, BrokenPipeError)
        if not self.is_unread:
            raise UnwritableOutput(f"standard output cannot be written: {error.strerror}") from error


class _Messages(_Output):
    """Standard error. Where nobody reads it, or it cannot be written, there is nobody to tell."""

    def _failed(self, error: OSError) -> None:
        with contextlib.suppress(OSError, ValueError):
            os.dup2(os.open(os.devnull, os.O_WRONLY), self._stream.fileno())


def write_while_read(texts: Generator[str, None, None]) -> None:
    """Write texts to standard output as they are made, as long as anybody reads them: what takes minutes to be made is
    not made for nobody."""
    with contextlib.closing(texts):
        for text in texts:
            sys.stdout.write(text)
            if isinstance(sys.stdout, _Output) and sys.stdout.is_unread:
                return


def take_streams() -> None:
    """Make both streams safe to write to."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by whoever started us
            if name == "stdout":
                print("kiboko: standard output is closed", file=sys.stderr or open(os.devnull, "w"))  # noqa: SIM115
                sys.exit(EnvironmentFailure.exit_status)
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115
            continue
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors="backslashreplace")
    sys.stdout, sys.stderr = _Output(sys.stdout), _Messages(sys.stderr)


def end_streams(status: int) -> int:
    """Have everything written; the exit status, which is that of the environment where it cannot be."""
    try:
        sys.stdout.flush()
    except UnwritableOutput as error:
        with contextlib.suppress(OSError):
            print(f"kiboko: {error}", file=sys.stderr)
        return EnvironmentFailure.exit_status
    except ValueError:  # closed already
        return status
    return status
