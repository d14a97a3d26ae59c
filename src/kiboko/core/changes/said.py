"""What two versions of a network say differently, name by name and rule by rule."""

from __future__ import annotations

import dataclasses
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher

from kiboko.core.changes.sameness import bare, is_same
from kiboko.core.errors import Place
from kiboko.core.header.addresses import Address
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Filter, Interface, Listener, Rule, Topology

WAYS = ("inbound", "outbound", "rules")


@dataclass(frozen=True, slots=True)
class Said:
    """Something that one version says and the other does not, or otherwise: a section, a name or a rule in it, and both
    as text, None where there is nothing."""

    section: str
    name: str
    before: str | None
    after: str | None
    place: Place | None


@dataclass(frozen=True, slots=True)
class RuleLine:
    """A place of a list of rules in two versions, in the order in which they decide: the rule as text in each, None
    where there is none."""

    before: str | None
    after: str | None

    @property
    def is_same(self) -> bool:
        """Whether both say the same there."""
        return self.before == self.after


@dataclass(frozen=True, slots=True)
class RulesBeside:
    """The rules of one direction of a filter in two versions, side by side."""

    filter: str
    way: str
    lines: tuple[RuleLine, ...]


def differences_said(old: Topology, new: Topology) -> Iterator[Said]:
    """Names that only one version has, or that stand for something else, and rules one by one."""
    for section, part in (("networks", "networks"), ("outside", "outsides"), ("gateways", "gateways"),
                          ("route tables", "route_tables"), ("subnets", "subnets"), ("zones", "zones"),
                          ("groups", "groups"), ("services", "services"), ("instances", "instances")):  # fmt: skip
        before, after = getattr(old, part), getattr(new, part)
        if before is after:
            continue
        for name in dict.fromkeys((*before, *after)):
            one, other = before.get(name), after.get(name)
            if not is_same(one, other):
                shown = [None if each is None else "there" for each in (one, other)]
                if one is not None and other is not None:
                    shown = _fields(one, other)
                yield Said(
                    section, name, shown[0], shown[1], getattr(other if other is not None else one, "place", None)
                )
    if bare(old.defaults) != bare(new.defaults):
        told = _fields(old.defaults, new.defaults)
        yield Said("defaults", "", told[0], told[1], None)
    crossings = [{(each.source, each.destination): each for each in each_.crossings} for each_ in (old, new)]
    for pair in dict.fromkeys((*crossings[0], *crossings[1])):
        one, other = crossings[0].get(pair), crossings[1].get(pair)
        filters = [each.filter if each else None for each in (one, other)]
        if filters[0] != filters[1]:
            yield Said("crossings", ">".join(pair), filters[0], filters[1], (other or one).place)  # type: ignore[union-attr]
    for name in dict.fromkeys((*old.filters, *new.filters)):
        yield from _of_filter(old.filters.get(name), new.filters.get(name))


def _of_filter(one: Filter | None, other: Filter | None) -> Iterator[Said]:
    if one is None or other is None:
        some = one or other
        assert some is not None
        yield Said("filters", some.name, "there" if one else None, "there" if other else None, some.place)
        return
    if one is other:
        return
    plain = [dataclasses.replace(each, inbound=None, outbound=None, rules=None) for each in (one, other)]
    if bare(plain[0]) != bare(plain[1]):
        told = _fields(plain[0], plain[1])
        yield Said("filters", one.name, told[0], told[1], other.place)
    for way in ("inbound", "outbound", "rules"):
        before, after = ({rule.name: rule for rule in getattr(each, way) or ()} for each in (one, other))
        for name in dict.fromkeys((*before, *after)):
            was, is_ = before.get(name), after.get(name)
            in_order = one.decide == other.decide == "first"
            if bare(_ordered(was, in_order)) != bare(_ordered(is_, in_order)):
                place = (is_ or was).place  # type: ignore[union-attr]
                with_order = was is not None and is_ is not None and was.order != is_.order and in_order
                texts = [_rule_text(each, with_order) for each in (was, is_)]
                yield Said("rules", f"{one.name}/{way}/{name}", texts[0], texts[1], place)


def _ordered(rule: Rule | None, in_order: bool) -> Rule | None:
    """A rule without its order, where that decides nothing."""
    return rule if rule is None or in_order else dataclasses.replace(rule, order=0)


def _rule_text(rule: Rule | None, with_order: bool) -> str | None:
    if rule is None:
        return None
    order = f"{rule.order}: " if with_order else ""
    return f"{order}{rule}{'' if rule.enabled else ' (not enabled)'}"


def _fields(one: object, other: object) -> list[str | None]:
    """What differs in two values of one kind, field by field, as text."""
    if isinstance(one, Interface):
        names: tuple[str, ...] = one._fields
    elif dataclasses.is_dataclass(one) and dataclasses.is_dataclass(other):
        names = tuple(field.name for field in dataclasses.fields(one))
    else:
        return [str(one), str(other)]
    told: list[list[str]] = [[], []]
    for name in names:
        values = [getattr(each, name) for each in (one, other)]
        if name == "place" or bare(values[0]) == bare(values[1]):
            continue
        texts = [_value_text(value) for value in values]
        if name == "interfaces":
            texts = _interfaces(*values)
        for text, value in zip(told, texts, strict=True):
            text.append(f"{name.replace('_', ' ')}: {value}")
    return ["; ".join(text) for text in told]


def _interfaces(some: Sequence[Interface], others: Sequence[Interface]) -> list[str]:
    """What differs in the interfaces of a machine."""
    told: list[list[str]] = [[], []]
    both = [{each.device: each for each in those} for those in (some, others)]
    for device in dict.fromkeys((*both[0], *both[1])):
        one, other = both[0].get(device), both[1].get(device)
        if one is None or other is None:
            for text, each in zip(told, (one, other), strict=True):
                text.append(device if each is not None else f"no {device}")
        elif bare(one) != bare(other):
            for text, value in zip(told, _fields(one, other), strict=True):
                text.append(f"{device} ({value})")
    return ["; ".join(text) for text in told]


def _value_text(value: object) -> str:
    if isinstance(value, Mapping):
        return ", ".join(f"{key}={each}" for key, each in value.items()) or "none"
    if isinstance(value, HostRuleSet):
        return value.file
    if isinstance(value, Listener):
        return value.text
    if isinstance(value, Sequence) and not isinstance(value, str | Address):
        return ", ".join(_value_text(each) for each in value) or "none"
    return "none" if value is None else str(value)


def rules_beside(old: Topology, new: Topology) -> Iterator[RulesBeside]:
    """The lists of rules that differ, each as a whole."""
    for name, before in old.filters.items():
        after = new.filters.get(name)
        if after is None or before is after:
            continue
        for way in WAYS:
            lists = [_in_order(each, way) for each in (before, after)]
            if lists[0] != lists[1]:
                yield RulesBeside(name, way, tuple(_lines(*lists)))


def _in_order(chosen: Filter, way: str) -> list[str]:
    rules: Sequence[Rule] = getattr(chosen, way) or ()
    return [f"{each.name}: {each}{'' if each.enabled else ' (not enabled)'}"
            for each in sorted(rules, key=lambda each: each.order)]  # fmt: skip


def _lines(before: list[str], after: list[str]) -> Iterator[RuleLine]:
    for kind, low, high, begin, end in SequenceMatcher(None, before, after, autojunk=False).get_opcodes():
        if kind == "equal":
            yield from (RuleLine(text, text) for text in before[low:high])
            continue
        one, other = before[low:high], after[begin:end]
        for at in range(max(len(one), len(other))):
            yield RuleLine(one[at] if at < len(one) else None, other[at] if at < len(other) else None)
