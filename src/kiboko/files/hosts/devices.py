"""Names of devices in a machine's rule set, where the network file does not say how its interfaces are called."""

from __future__ import annotations

import dataclasses
import fnmatch
import re
from collections.abc import Collection, Iterator

from kiboko.core.network.host_rules import (
    DEVICE_FIELDS,
    Chain,
    HostRule,
    HostRuleSet,
    Match,
    Statement,
    Unclear,
    Unjudged,
    VerdictMap,
)

# Devices that a machine makes for itself: what comes by an interface of the network file comes by none of these.
_OF_ITS_OWN = re.compile(
    r"lo$|(docker|br-|veth|virbr|vnet|tun|tap|wg|cni|flannel|cali|cilium|kube|vxlan|podman|lxc|lxd|ifb|dummy)"
)


def with_unnamed_interfaces(rules: HostRuleSet, guessed: Collection[str]) -> HostRuleSet:
    """A rule set as far as it can be judged for a machine whose interfaces are called otherwise than is known.

    Parameters
    ----------
    guessed : what its interfaces are taken to be called, since nothing is said

    Where the rule set names none of these and does name other devices, which of its rules are about them is not known.
    Rules about devices that a machine makes for itself are about other traffic, whatever the interfaces are called.
    """
    named = {name for chain in rules.chains for rule in chain.rules for name in _named_in(rule)}
    strange = {name for name in named if not _OF_ITS_OWN.match(name)}
    if not strange or any(fnmatch.fnmatchcase(device, name) for device in guessed for name in named):
        return rules
    return rules.with_chains(tuple(_doubted(chain, strange) for chain in rules.chains))


def _named_in(rule: HostRule) -> Iterator[str]:
    for statement in rule.statements:
        yield from _names_of(statement)


def _names_of(statement: Statement) -> Iterator[str]:
    """The devices that a statement names."""
    if isinstance(statement, Match):
        alternatives = list(statement.alternatives)
    elif isinstance(statement, VerdictMap):
        alternatives = [alternative for alternative, _ in statement.entries]
    else:
        return
    for alternative in alternatives:
        for (_, field), values in zip(statement.fields, alternative, strict=True):
            if field in DEVICE_FIELDS:
                yield from values.names


def _doubted(chain: Chain, strange: Collection[str]) -> Chain:
    """A chain with what names one of some devices left open."""
    rules = tuple(
        dataclasses.replace(rule, statements=tuple(_left_open(each, strange) for each in rule.statements))
        for rule in chain.rules
    )
    return dataclasses.replace(chain, rules=rules)


def _left_open(statement: Statement, strange: Collection[str]) -> Statement:
    met = sorted(set(_names_of(statement)) & set(strange))
    if not met:
        return statement
    text = f"a rule about device {', '.join(met)}: the network file does not say how the interface is called"
    return Unjudged(text) if isinstance(statement, VerdictMap) else Unclear(text)
