"""The shapes of a mapping file: which keys there are and what each holds."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from kiboko.files.documents.shapes import Shape


class ColumnShape(Shape):
    """One column of a mapping file."""

    element: str
    unit: str | None = None
    format: str | None = None
    zone: str | None = None
    passed: list[str] = Field(default_factory=list)
    denied: list[str] = Field(default_factory=list)
    seen: list[str] = Field(default_factory=list)
    values: dict[str, str] = Field(default_factory=dict)
    decimal: str | None = None
    thousands: str | None = None
    base: str | None = None


class MapShape(Shape):
    """A mapping file."""

    kiboko: Literal["columns/1"]
    columns: dict[str, ColumnShape | str]
    records: str | None = None
    delimiter: str | None = None
    names: list[str] = Field(default_factory=list)
    skip: dict[str, list[str]] = Field(default_factory=dict)
    constant: dict[str, str] = Field(default_factory=dict)
    none: list[str] | None = None
    pattern: str | None = None
    parts: Literal["totals", "deltas"] | None = None
    first_line: str | None = None

    @staticmethod
    def of_element(name: str) -> ColumnShape:
        """A column that is an element as it stands."""
        return ColumnShape(element=name)
