"""Values of a YAML file held against the shape that they should have; every fault at the line where it stands."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, ClassVar, TypeVar

# No plugin of the library is wanted here, and looking for some would cost every command its start-up time.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationError, WithJsonSchema

from kiboko.core.errors import Problem
from kiboko.core.hints import nearest
from kiboko.files.documents.lined_yaml import Items, Table

M = TypeVar("M", bound=BaseModel)


def _listed(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


_TEXT_OR_LIST = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]}
Texts = Annotated[list[str], BeforeValidator(_listed), WithJsonSchema(_TEXT_OR_LIST)]
"""A list of texts, or one alone."""


class Shape(BaseModel):
    """The base of all shapes: an unknown key is an error. `elsewhere` says of keys that one might look for here where
    they are to be written."""

    model_config = ConfigDict(extra="forbid", defer_build=True)
    elsewhere: ClassVar[Mapping[str, str]] = {}


_KINDS = {
    "1": "a network file", "change/1": "a change file", "expectations/1": "a file of expectations",
    "columns/1": "a mapping file",
}  # fmt: skip


def of_another_kind(raw: Table, wanted: str) -> list[Problem]:
    """That a file is one of another kind than `wanted` (what stands behind its key `kiboko`), where it is."""
    given = str(raw.get("kiboko"))
    if given == wanted or given not in _KINDS:
        return []
    return [Problem(raw.place("kiboko"), f"this is {_KINDS[given]}, and {_KINDS[wanted]} belongs here")]


def held_against(
    model: type[M], raw: Table, problems: list[Problem], places: list[tuple[int | str, ...]] | None = None
) -> M | None:
    """The values as the model has them, or None with every fault added to `problems`, and the keys that lead to it to
    `places`, where those are wanted."""
    try:
        return model.model_validate(raw)
    except ValidationError as error:
        problems.extend(_problem(model, raw, each) for each in error.errors())
        if places is not None:
            places.extend(tuple(each["loc"]) for each in error.errors())
        return None


def _problem(model: type[BaseModel], raw: Table, error: Any) -> Problem:
    """What the schema found, in the words of the file, at the line where it stands."""
    location = tuple(error["loc"])
    holder: Any = raw
    place = raw.place()
    trail: list[str] = []
    for index, step in enumerate(location):
        if isinstance(holder, Table | Items):
            if isinstance(holder, Items) or step in holder:
                place = holder.place(step)
            last = index == len(location) - 1
            if not last or error["type"] not in ("extra_forbidden", "missing"):
                trail.append(str(step + 1) if isinstance(step, int) else str(step))
            try:
                inner = holder[step]
            except (KeyError, IndexError, TypeError):
                break
            if last and error["type"] == "extra_forbidden":
                break
            holder = inner
    where = ".".join(trail)
    prefix = f"{where}: " if where else ""
    return Problem(place, prefix + _words(model, error, holder))


def _words(model: type[BaseModel], error: Any, holder: Any) -> str:
    kind, given = error["type"], error.get("input")
    if kind == "extra_forbidden":
        key = str(error["loc"][-1])
        if key == "<<":
            return "unknown key '<<': tables are not merged here; write its keys, or an alias in place of the whole"
        shape = _shape_at(model, error["loc"][:-1])
        return f"unknown key '{key}'" + (_elsewhere(shape, key) or nearest(key, _keys_of(shape)))
    if kind == "missing":
        return f"'{error['loc'][-1]}' is missing"
    if kind == "literal_error":
        expected = error["ctx"]["expected"].replace("'", "").replace(" or ", ", ").split(", ")
        if given is None:
            return f"one of {', '.join(expected)} belongs here, not nothing"
        if len(expected) == 1:
            return f"'{given}' is not '{expected[0]}'"
        return f"'{given}' is none of {', '.join(expected)}" + nearest(str(given), expected)
    if kind == "value_error":
        truth = _TRUTHS.get(str(given).lower())
        return f"{error['ctx']['error']}, not {_shown(given)}" + (f"; write {truth}" if truth else "")
    wanted = {
        "string_type": "text",
        "dict_type": "a table",
        "model_type": "a table",
        "model_attributes_type": "a table",
        "list_type": "a list",
    }.get(kind)
    if kind == "string_type" and isinstance(given, dict) and list(given.values()) == [None]:
        return f"text belongs here, not a table; put '{next(iter(given))}:' in quotes"
    return f"{wanted} belongs here, not {_shown(given)}" if wanted else str(error["msg"])


_TRUTHS = {
    "true": "it without quotes",
    "false": "it without quotes",
    "yes": "true",
    "on": "true",
    "1": "true",
    "no": "false",
    "off": "false",
    "0": "false",
}
"""How a truth value is written in YAML 1.2, of what is a text there or a number."""


def _shown(value: Any) -> str:
    if value is None:
        return "nothing"
    if isinstance(value, dict):
        return "a table"
    if isinstance(value, list):
        return "a list" if value else "an empty list"
    return f"'{value}'"


def _elsewhere(shape: Any, key: str) -> str:
    """Where a key is to be written that a shape has not; nothing where that is not known."""
    if key in getattr(shape, "elsewhere", ()):
        return f"; {shape.elsewhere[key]}"
    holders = [name for name, inner in _inner_shapes(shape).items() if key in _keys_of(inner)]
    return f"; it goes into {' or '.join(map(repr, holders))}" if holders else ""


def _inner_shapes(shape: Any) -> dict[str, Any]:
    """The shapes of what has one of its own, by key."""
    found = {field.alias or name: _inner_shape(field.annotation)
             for name, field in getattr(shape, "model_fields", {}).items()}  # fmt: skip
    return {name: inner for name, inner in found.items() if inner is not None}


def _shape_at(model: type[BaseModel], location: Sequence[int | str]) -> Any:
    """The shape of what stands at a place."""
    shape: Any = model
    for step in location:
        if isinstance(step, int) or not hasattr(shape, "model_fields"):
            continue
        shape = _inner_shapes(shape).get(str(step), shape)
    return shape


def _keys_of(shape: Any) -> list[str]:
    """The keys that a shape has."""
    return [field.alias or name for name, field in getattr(shape, "model_fields", {}).items()]


def _inner_shape(annotation: Any) -> Any:
    """The model inside `dict[str, Model]`, `list[Model]` or `Model | None`."""
    if hasattr(annotation, "model_fields"):
        return annotation
    for inner in reversed(getattr(annotation, "__args__", ())):
        found = _inner_shape(inner)
        if found is not None:
            return found
    return None
