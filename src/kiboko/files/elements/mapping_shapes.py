"""The shapes of a mapping file: which keys there are and what each holds."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field

from kiboko.files.documents.shapes import Shape, Texts


class ColumnShape(Shape):
    """One column of a mapping file."""

    element: str
    unit: str | None = None
    format: str | None = None
    zone: str | None = None
    passed: Texts = Field(default_factory=list)
    denied: Texts = Field(default_factory=list)
    seen: Texts = Field(default_factory=list)
    values: dict[str, str] = Field(default_factory=dict)
    decimal: str | None = None
    thousands: str | None = None
    base: str | None = None


def _of_element(value: Any) -> Any:
    """A column that is an element as it stands is named by it alone."""
    return {"element": value} if isinstance(value, str) else value


class MapShape(Shape):
    """A mapping file."""

    kiboko: Literal["columns/1"]
    columns: dict[str, Annotated[ColumnShape, BeforeValidator(_of_element)]]
    records: str | None = None
    delimiter: str | None = None
    names: Texts = Field(default_factory=list)
    skip: dict[str, Texts] = Field(default_factory=dict)
    constant: dict[str, str] = Field(default_factory=dict)
    none: Texts | None = None
    pattern: str | None = None
    parts: Literal["totals", "deltas"] | None = None
    first_line: str | None = None
