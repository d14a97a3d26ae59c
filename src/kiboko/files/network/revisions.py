"""A network file as it stands in a revision of a Git repository: `REV:PATH`."""

from __future__ import annotations

import contextlib
import io
import subprocess
import tarfile
import tempfile
from collections.abc import Iterator
from pathlib import Path, PurePosixPath

from kiboko.core.errors import EnvironmentFailure, InputError
from kiboko.core.network.model import Topology

_MOST_OCTETS = 1 << 30


def load_revision(text: str, files_elsewhere: bool = False) -> Topology:
    """The network that `REV:PATH` was, with the path as from here. Raises InputError, where there is no such revision
    or nothing at that path too, and EnvironmentFailure where there is no Git to ask."""
    from kiboko.files.network.network_file import load_with_files

    with revision_of(text) as path:
        return load_with_files(str(path), files_elsewhere, shown=text)[0]


@contextlib.contextmanager
def revision_of(text: str) -> Iterator[Path]:
    """A copy of what `REV:PATH` was, and of the files beside it, as long as the block lasts. Raises as `load_revision`
    does."""
    revision, _, given = text.partition(":")
    path = PurePosixPath(_git("rev-parse", "--show-prefix", fault=f"{text}: this is no folder of a Git repository")
                         .strip()) / (given or ".")  # fmt: skip
    commit = _git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}",
                  fault=f"{text}: there is no revision '{revision}'").strip()  # fmt: skip
    place = _normal(path)
    kind = _git("cat-file", "-t", f"{commit}:{place}", fault=f"{text}: revision '{revision}' has no '{given}'").strip()
    folder = place if kind == "tree" else _normal(PurePosixPath(place).parent)
    packed = _git_octets("archive", "--format=tar", f"{commit}:{folder}", fault=f"{text}: cannot be read")
    if len(packed) > _MOST_OCTETS:
        raise InputError(f"{text}: the folder is larger than the {_MOST_OCTETS:,} octets allowed")
    with tempfile.TemporaryDirectory(prefix="kiboko-") as made:
        with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
            archive.extractall(made, filter="data")
        yield Path(made) if kind == "tree" else Path(made) / PurePosixPath(place).name


def _normal(path: PurePosixPath) -> str:
    """A path of a repository without steps that lead nowhere; empty for the top."""
    parts: list[str] = []
    for part in path.parts:
        if part == ".." and parts:
            parts.pop()
        elif part not in (".", ".."):
            parts.append(part)
    return "/".join(parts)


def _git(*words: str, fault: str) -> str:
    return _git_octets(*words, fault=fault).decode("utf-8", "replace")


def _git_octets(*words: str, fault: str) -> bytes:
    try:
        top = ["-C", _top()] if words[0] in ("archive", "cat-file") else []
        done = subprocess.run(["git", *top, *words], capture_output=True, check=False)
    except FileNotFoundError as error:
        raise EnvironmentFailure("git: not found; REV:PATH needs it") from error
    if done.returncode:
        raise InputError(fault)
    return done.stdout


def _top() -> str:
    done = subprocess.run(["git", "rev-parse", "--show-toplevel"], capture_output=True, check=False, text=True)
    return done.stdout.strip() or "."
