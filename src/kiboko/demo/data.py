"""The demo's files: finding them in the package and writing them to a folder."""

from __future__ import annotations

from importlib import resources
from importlib.resources.abc import Traversable
from pathlib import Path

from kiboko.core.errors import UsageError
from kiboko.files.documents.saving import write_whole


def demo_files() -> dict[str, bytes]:
    """Every file of the demo, by its path inside the demo folder: the Mto network at the top."""
    found: dict[str, bytes] = {}
    root = resources.files("kiboko.demo")
    _collect(root / "mto", "", found)
    _collect(root / "loopback", "loopback/", found)
    return found


def _collect(folder: Traversable, prefix: str, found: dict[str, bytes]) -> None:
    for entry in sorted(folder.iterdir(), key=lambda each: each.name):
        if entry.is_dir():
            _collect(entry, f"{prefix}{entry.name}/", found)
        else:
            found[prefix + entry.name] = entry.read_bytes()


def write_demo(folder: Path) -> list[Path]:
    """Write the demo to a folder. Raises UsageError where that would overwrite a file that somebody changed."""
    files = demo_files()
    for name, data in files.items():
        path = folder / name
        if path.exists() and path.read_bytes() != data:
            raise UsageError(f"{path} is there already and differs from the demo's; name another folder, or remove it")
    for name, data in files.items():
        if not (folder / name).exists():
            write_whole(folder / name, data)
    return [folder / name for name in files]
