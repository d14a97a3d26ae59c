"""Which files of a network folder count."""

from __future__ import annotations

import os

DATA_SUFFIXES = (".yaml", ".yml", ".json", ".csv", ".tsv", ".txt", ".jsonl", ".parquet", ".xml", ".toml")
"""Files of data: each is a part of the network, is named by one, or is an error."""


def is_of_revision(text: str) -> bool:
    """Whether a path is one of a revision of a repository, `REV:PATH`, and none of this machine."""
    revision, colon, _ = text.partition(":")
    return bool(colon) and bool(revision) and not os.path.exists(text)
