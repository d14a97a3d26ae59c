"""Records inside JSON documents: in arrays inside objects, or as one delimited text in a field."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterator, Mapping
from typing import Any

from kiboko.core.header.addresses import parse_address
from kiboko.files.elements.streams import Stream

Chain = tuple[Mapping[str, Any], ...]
"""The objects around a record, the outermost first."""


def expanded(value: Any, path: tuple[str, ...], chain: Chain = ()) -> Iterator[tuple[Chain, Any]]:
    """The records that a path leads to, each with the objects around it.

    A step of the path is the name of a field, with `[]` behind it where the field is an array of which every element
    counts; `[]` alone is an array without a name. What the path does not lead to is passed over.
    """
    if not path:
        yield chain, value
        return
    name, is_array = path[0].removesuffix("[]"), path[0].endswith("[]")
    if name:
        if not isinstance(value, dict) or name not in value:
            return
        chain, value = (*chain, value), value[name]
    for each in value if is_array and isinstance(value, list) else () if is_array else (value,):
        yield from expanded(each, path[1:], chain)


def delimited(text: str, delimiter: str, names: tuple[str, ...]) -> dict[str, str] | None:
    """The fields of a delimited text by name; None where it has another number of them. With a space as delimiter any
    run of blanks parts two fields."""
    if delimiter == " ":
        cells = text.split()
    else:
        cells = next(csv.reader([text.strip("\r\n")], delimiter=delimiter), [])
    return dict(zip(names, cells, strict=True)) if len(cells) == len(names) else None


def path_inside(value: Any) -> str:
    """Where the records inside a value lie, as a mapping file has it; nothing for none. Of its arrays of objects or
    texts it is one that has addresses, else one of objects, and the innermost of those."""
    return max(_arrays(value), key=lambda each: (_likeness(each[1]), each[0].count("[]")), default=("", None))[0]


def _arrays(value: Any, before: str = "") -> Iterator[tuple[str, Any]]:
    """The arrays of objects or texts inside a value, by their paths, each with its first element."""
    for name, inner in value.items() if isinstance(value, dict) else ():
        path = f"{before}.{name}" if before else str(name)
        if isinstance(inner, list) and inner and isinstance(inner[0], dict | str):
            path = f"{path}[]"
            yield path, inner[0]
            inner = inner[0]
        yield from _arrays(inner, path)


def _likeness(element: Any) -> int:
    """How much an element of an array is like a record: most where it has an address."""
    values = element.values() if isinstance(element, dict) else re.split(r"[\s,;|]+", element)
    if any(isinstance(each, str) and is_address(each) for each in values):
        return 2
    return int(isinstance(element, dict))


def is_address(text: str) -> bool:
    """Whether a text is an address and nothing else."""
    try:
        parse_address(text)
    except ValueError:
        return False
    return True


def outer_items(stream: Stream, path: tuple[str, ...]) -> Iterator[tuple[Any, tuple[str, ...]]]:
    """The elements of the outermost array on a path in documents of any size, and what remains of the path from each.

    A path of one empty step leads to the documents themselves. Raises `ijson.JSONError` where the text
    is no JSON, after all that came whole before. Objects around the outermost array are not kept.
    """
    import ijson

    at = next((index for index, step in enumerate(path) if step.endswith("[]")), None)
    if at is None:
        for document in ijson.items(stream, "", multiple_values=True, use_float=True):
            yield document, tuple(step for step in path if step)
        return
    steps = [step.removesuffix("[]") for step in path[: at + 1]]
    prefix = ".".join([*(step for step in steps if step), "item"])
    for item in ijson.items(stream, prefix, multiple_values=True, use_float=True):
        yield item, path[at + 1 :]
