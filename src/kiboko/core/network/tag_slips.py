"""Tags that look like slips: what keeps a machine out of a group in which it looks as though it should be."""

from __future__ import annotations

import re
from collections.abc import Iterator

from kiboko.core.hints import alike
from kiboko.core.network.model import Group, Instance, Topology

_RARE = 8
"""A tag is a slip where one has it for so many of the group, or a single one."""
_CLOSE_KEY, _CLOSE_VALUE = 0.75, 0.7


class TagSlips:
    """The slips of one topology.

    A slip is a tag that is nearly the one that a group asks for, that no group asks for, and that hardly anybody has;
    all else that the group asks for is there. (Where roles are numbered, or many, each is nearly some other.)
    """

    def __init__(self, topology: Topology) -> None:
        self._met: dict[str, dict[str, list[Instance]]] = {}
        for instance in topology.instances.values():
            for key, value in instance.tags.items():
                self._met.setdefault(key, {}).setdefault(value, []).append(instance)
        self._asked: dict[str, set[str]] = {}
        for group in topology.groups.values():
            for key, values in group.where or ():
                self._asked.setdefault(key, set()).update(values)

    def of_group(self, group: Group) -> Iterator[tuple[Instance, str]]:
        """The instances that look as though a group's tags should let them in, each with what keeps it out."""
        for place, (key, values) in enumerate(group.where or ()):
            others = [pair for index, pair in enumerate(group.where or ()) if index != place]
            met = self._met.get(key, {})
            most = sum(len(met.get(value, ())) for value in values) // _RARE + 1
            wanted = "|".join(values)
            for value, instances in met.items():
                if value not in self._asked[key] and len(instances) <= most and _is_near(value, values):
                    for instance in instances:
                        if _has_all(instance, others):
                            yield instance, f"its tag is {key}={value}, the group asks for {key}={wanted}"
            for near in alike(key, (each for each in self._met if each not in self._asked), 3, _CLOSE_KEY):
                for value in values:
                    instances = self._met[near].get(value, [])
                    for instance in instances if len(instances) <= most else ():
                        if key not in instance.tags and _has_all(instance, others):
                            yield instance, f"its tag is called '{near}', the group asks for '{key}'"


def _has_all(instance: Instance, where: list[tuple[str, tuple[str, ...]]]) -> bool:
    return all(instance.tags.get(key) in values for key, values in where)


def _is_near(actual: str, wanted: tuple[str, ...]) -> bool:
    """Whether a tag's value looks like one of some, in small letters or with letters swapped. What differs in a number
    is another of the same kind, and no slip."""
    actual = actual.lower()
    lowered = [value.lower() for value in wanted]
    if any(value != actual and _without_numbers(value) == _without_numbers(actual) for value in lowered):
        return False
    return any(sorted(actual) == sorted(value) for value in lowered) or bool(alike(actual, lowered, 1, _CLOSE_VALUE))


def _without_numbers(value: str) -> str:
    return re.sub(r"[0-9]+", "", value)
