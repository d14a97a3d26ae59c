"""Which files of a network folder count."""

from __future__ import annotations

DATA_SUFFIXES = (".yaml", ".yml", ".json", ".csv", ".tsv", ".txt", ".jsonl", ".parquet", ".xml", ".toml")
"""Files of data: each is a part of the network, is named by one, or is an error."""
