"""Findings on kernel rule sets that stop neighbour discovery, without which IPv6 finds nobody (S35)."""

from __future__ import annotations

from collections.abc import Iterator

from kiboko.core.audit.findings import Finding, few, found
from kiboko.core.errors import Place
from kiboko.core.filters.discovery import LETS_FIND, Stopped
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import Instance
from kiboko.core.walk.walk import Walker


def of_neighbours(walker: Walker) -> Iterator[Finding]:
    """Kernel rule sets of machines with addresses of IPv6 that stop what these are found by, or find others by; those
    of one meaning once, at the first machine."""
    told: dict[tuple[object, Stopped], list[Instance]] = {}
    for instance in walker.topology.instances.values():
        rules = instance.host_filter
        if not isinstance(rules, HostRuleSet):
            continue
        lost = walker.ground.discovery.unfound(instance, rules)
        if lost is not None:
            told.setdefault((rules.meaning, lost), []).append(instance)
    for (_, lost), instances in told.items():
        yield _finding(lost, instances)


def _finding(lost: Stopped, instances: list[Instance]) -> Finding:
    first, names = instances[0], [each.name for each in instances]
    rules = first.host_filter
    assert isinstance(rules, HostRuleSet)
    whose = f"{len(names):,} machines ({few(names)})" if len(names) > 1 else names[0]
    return found("neighbours-stopped", f"{first.name}: {lost.chain}", Place(rules.file, 1),
                 f"on {whose}: {rules.file} {lost} over IPv6",
                 f"accept them in front of it: {LETS_FIND}",
                 machines=names)  # fmt: skip
