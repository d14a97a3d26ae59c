"""Which files a command line means: paths, folders and patterns, each file once, and what was passed over."""

from __future__ import annotations

import atexit
import functools
import glob
import hashlib
import re
import shutil
import sys
import tempfile
from collections import Counter
from collections.abc import Sequence
from contextlib import nullcontext
from pathlib import Path

from kiboko.core.errors import InputError
from kiboko.core.wording import GIVEN_AS, counted
from kiboko.files.documents.nearby import nearby
from kiboko.files.documents.saving import DISAGREEMENTS

_SUFFIXES = (".csv", ".tsv", ".json", ".jsonl", ".ndjson", ".log", ".txt", ".parquet", ".ipfix", ".arrows")
_FEW_NAMES, _FEW_COPIES = 6, 3
STANDARD_INPUT = "-"


class FlowFiles(list[Path]):
    """Logs in their order; `beside` tells of what lies beside them in a folder that was given, and is not read."""

    beside: Sequence[str] = ()


def flow_files(given: Sequence[str | Path]) -> FlowFiles:
    """The files that some paths, folders and patterns stand for, in order, each once: of a folder those that are named
    as logs. Raises InputError for none."""
    found: dict[Path, None] = {}
    beside = []
    for each in given:
        path = Path(each)
        if path.is_dir():
            every = [p for p in sorted(path.rglob("*")) if p.is_file() and not _is_own(p)]
            inside = [p for p in every if _is_log(p)]
            others = [str(p.relative_to(path)) for p in every if not _is_log(p)]
            if not inside:
                raise InputError(f"{each}: no log is in this folder{'; ' + _beside(others) if others else ''}")
            beside += [f"{each}: {_beside(others)}"] if others else []
        elif path.exists() or str(each) == STANDARD_INPUT:
            inside = [given_file(path)]
        else:
            inside = [Path(p) for p in sorted(glob.glob(str(each), recursive=True)) if Path(p).is_file()]
        if not inside:
            raise InputError(f"{each}: no such file, and no file that fits{nearby(path)}")
        found.update(dict.fromkeys(inside))
    files = FlowFiles(found)
    files.beside = beside
    return files


def _beside(names: Sequence[str]) -> str:
    """What is said of files that are not named as logs."""
    count = f"{len(names):,} files are" if len(names) > 1 else "1 file is"
    more = f" and {len(names) - _FEW_NAMES:,} more" if len(names) > _FEW_NAMES else ""
    return (f"{count} not read, by the name: {', '.join(names[:_FEW_NAMES])}{more}; logs of a folder end in"
            f" {', '.join(_SUFFIXES)}, and any other is given by itself")  # fmt: skip


@functools.cache
def given_file(path: Path) -> Path:
    """A file as it was given; what a pipe holds, or standard input for `-`, as a file that goes when the program ends,
    since logs are read piece by piece, from several places at once. Raises InputError."""
    is_input = str(path) == STANDARD_INPUT and not path.exists()
    if not is_input and (path.is_file() or not path.exists()):
        return path
    if is_input and sys.stdin is None:
        raise InputError(f"{path}: standard input is closed")
    folder = tempfile.mkdtemp(prefix="kiboko-")
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    whole = Path(folder, path.name)
    GIVEN_AS[str(whole)] = "standard input" if is_input else str(path)
    try:
        with nullcontext(sys.stdin.buffer) if is_input else path.open("rb") as stream, whole.open("wb") as copy:
            shutil.copyfileobj(stream, copy, 1 << 20)
    except OSError as error:
        raise InputError(f"{path}: cannot be read: {error.strerror}") from error
    return whole


def without_copies(paths: Sequence[Path]) -> tuple[list[Path], list[str]]:
    """The files, of flows or of probes, without those that hold the same as one before them, and a sentence for each of
    these and for what is not read beside them."""
    sizes = [_size(path) for path in paths]
    often = {size for size, count in Counter(sizes).items() if size > 0 and count > 1}
    seen: dict[bytes, Path] = {}
    kept, copies, said = [], [], list(paths.beside) if isinstance(paths, FlowFiles) else []
    for path, size in zip(paths, sizes, strict=True):
        same = seen.setdefault(_digest(path), path) if size in often else path
        if same is not path:
            copies.append(f"{path}: the same file as {same}, not counted twice")
            continue
        kept.append(path)
    more = len(copies) - _FEW_COPIES
    said += copies[:_FEW_COPIES]
    if more > 0:
        said.append(f"{counted(more, 'more file')} {'is' if more == 1 else 'are'} the same as others before")
    return kept, said


def _size(path: Path) -> int:
    """The octets of a file; -1 for what is none."""
    try:
        return path.stat().st_size if path.is_file() else -1
    except OSError:
        return -1


def _digest(path: Path) -> bytes:
    try:
        with path.open("rb") as stream:
            return hashlib.file_digest(stream, "blake2b").digest()
    except OSError:
        return str(path).encode()


def _is_log(path: Path) -> bool:
    """Whether a file in a folder is a log, by its name, also where it was compressed or put aside under a number or a
    day: what lies beside logs is none of them."""
    name = re.sub(r"([.-]\d{1,14})+$", "", re.sub(r"\.(gz|zst|xz|bz2)$", "", path.name))
    return Path(name).suffix in _SUFFIXES


def _is_own(path: Path) -> bool:
    """Whether a file is hidden, or of a store and no log: what disagreed, or a growing segment that has become a
    Parquet file already, which a crash left beside it."""
    is_finished = path.suffix == ".arrows" and path.with_suffix(".parquet").exists()
    return path.name.startswith(".") or path.name == DISAGREEMENTS or is_finished
