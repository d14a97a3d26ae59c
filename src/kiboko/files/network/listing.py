"""Which files of a network folder count."""

from __future__ import annotations

import os

_DATA = (".yaml", ".yml", ".json", ".csv", ".tsv", ".txt", ".jsonl", ".parquet", ".xml", ".toml")
_PACKED = (".gz", ".xz", ".bz2", ".zst")


def is_data(name: str) -> bool:
    """Whether a file is one of data, whatever the case of its name and also where it is compressed: each is a part of
    the network, is named by one, or is an error."""
    plain = name.lower()
    return next((plain.removesuffix(each) for each in _PACKED if plain.endswith(each)), plain).endswith(_DATA)


def is_of_revision(text: str) -> bool:
    """Whether a path is one of a revision of a repository, `REV:PATH`, and none of this machine."""
    revision, colon, _ = text.partition(":")
    return bool(colon) and bool(revision) and not os.path.exists(text)
