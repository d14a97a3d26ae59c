"""A network file as it stands in a revision of a Git repository: `REV:PATH`."""

from __future__ import annotations

import contextlib
import io
import os
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
    from kiboko.files.network.network_file import ShownAs, load_with_files

    revision, _, given = text.partition(":")
    with revision_of(text) as path:
        folder = (given if path.is_dir() else os.path.dirname(given)).rstrip("/")
        shown = ShownAs(text, f"{revision}:{folder}/" if folder else f"{revision}:")
        return load_with_files(str(path), files_elsewhere, shown=shown)[0]


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
        _unpack(packed, made)
        yield Path(made) if kind == "tree" else Path(made) / PurePosixPath(place).name


def _unpack(packed: bytes, folder: str) -> None:
    """Write the files of an archive into a folder, and those links that lead to another of them."""
    with tarfile.open(fileobj=io.BytesIO(packed)) as archive:
        # What Python before 3.11.4 does not have: no owners, no modes but those of files, nothing beyond the folder.
        archive.extraction_filter = getattr(tarfile, "data_filter", lambda member, _: member)
        archive.extractall(folder, [each for each in archive if _is_inside(each)])


def _is_inside(member: tarfile.TarInfo) -> bool:
    """Whether a member of an archive is a file or folder in it, or a link to one."""
    at = os.path.normpath(
        os.path.join(os.path.dirname(member.name), member.linkname) if member.issym() else member.name
    )
    is_known = member.isfile() or member.isdir() or member.issym()
    return is_known and not os.path.isabs(at) and at.split("/")[0] != ".."


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
        told = done.stderr.decode("utf-8", "replace").partition("\n")[0].removeprefix("fatal: ")
        raise InputError(f"{fault}, or Git does not read it: {told}" if "ownership" in told else fault)
    return done.stdout


def _top() -> str:
    done = subprocess.run(["git", "rev-parse", "--show-toplevel"], capture_output=True, check=False, text=True)
    return done.stdout.strip() or "."
