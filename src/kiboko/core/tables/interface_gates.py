"""What hangs on each interface: the lists of its instance gates and of its host's filter, and what they do where no
rule of theirs matches."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from copy import copy

import numpy as np
from numpy.typing import NDArray

from kiboko.core.filters.ground import Ground
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.network.model import DROP, REJECT, Filter, Interface
from kiboko.core.records.columns import ascending
from kiboko.core.tables.filter_lists import (
    DROPS,
    NO_LIST,
    REJECTS,
    UNFILTERED,
    UNFILTERED_TRACKED,
    Decider,
    FilterLists,
)

OUT, IN = 0, 1
WAYS = ("out", "in")
"""The directions of a gate; the place of one is its number."""
MEMBER, LAST_MEMBER = 1, 2
_NONE = -1
_EMPTY = {"_placed": _NONE, "_together": False, "slot_list": NO_LIST, "slot_any": 0, "slot_stateful": False,
          "else_action": 0, "else_keeps": False, "else_decider": 0}  # fmt: skip
"""The tables of slots, and what stands in them where there is no filter."""


class InterfaceGates:
    """The gates of the interfaces of one network, by number in file order. They are laid out when they are first asked
    for.

    Of the tables [interfaces, directions, slots], `slot_list` has the list of a filter or a number for none,
    `slot_any` whether it is a member of an `any` set or the last of one, `slot_stateful` whether it keeps state;
    where the last of a set stands, `else_action`, `else_keeps` and `else_decider` say what the set does with what none
    of it matches (clause S12). `host_list` [interfaces, directions] has the list of the host's filter, and
    `host_kernel` [interfaces] whether a kernel's own rule set is there in its place.
    """

    def __init__(self, ground: Ground, lists: FilterLists, interfaces: Sequence[Interface]) -> None:
        topology = ground.topology
        self._ground, self._lists, self._interfaces = ground, lists, interfaces
        attaching = sum(bool(each.attach_to) for each in topology.filters.values())
        self.most = max((len(each.filters) for each in interfaces), default=0) + attaching
        """How many slots an interface has at most."""
        count = max(1, len(interfaces))
        shape = (count, 2, max(1, self.most))
        self._placed = np.full((count, shape[2]), _NONE, dtype=np.int64)  # the filters of the slots by number
        self._together = np.zeros((count, shape[2]), dtype=np.bool_)  # whether they are of the `any` set
        self.slot_list = np.full(shape, NO_LIST, dtype=np.int64)
        self.slot_any = np.zeros(shape, dtype=np.uint8)
        self.slot_stateful = np.zeros(shape, dtype=np.bool_)
        self.else_action = np.zeros(shape, dtype=np.uint8)
        self.else_keeps = np.zeros(shape, dtype=np.bool_)
        self.else_decider = np.zeros(shape, dtype=np.int32)
        self.host_list = np.full((count, 2), NO_LIST, dtype=np.int64)
        self.host_kernel = np.zeros(count, dtype=np.bool_)
        self._is_known = np.zeros(count, dtype=np.bool_)
        # By filter: its list in each direction, whether it names the direction, and what it does otherwise.
        self._numbers = {name: number for number, name in enumerate(topology.filters)}
        self._note_filters()
        self._slots_of: dict[tuple[str, ...], tuple[list[int], list[bool]]] = {}
        self._host_lists: dict[str, list[int]] = {}

    def _note_filters(self) -> None:
        """What each filter is like."""
        self._filters = list(self._ground.topology.filters.values())
        self._listed = np.full((len(self._filters), 2), NO_LIST, dtype=np.int64)
        named = [[each.direction(way) is not None for way in WAYS] for each in self._filters]
        self._names: NDArray[np.bool_] = np.array(named, dtype=np.bool_).reshape(-1, 2)
        self._stateful = np.array([each.stateful for each in self._filters], dtype=np.bool_)
        self._rejects = np.array([each.otherwise == REJECT for each in self._filters], dtype=np.bool_)
        self._drops = np.array([each.otherwise == DROP for each in self._filters], dtype=np.bool_)
        self._decider = np.zeros(len(self._filters), dtype=np.int32)
        self._has_list = np.zeros(len(self._filters), dtype=np.bool_)

    def of_changed(self, ground: Ground, lists: FilterLists, changed: Collection[str]) -> InterfaceGates:
        """The gates in a network that differs in the rules of some filters alone, of which `lists` are."""
        self.ask(np.arange(len(self._interfaces)))
        made = copy(self)
        made._ground, made._lists = ground, lists
        made._note_filters()
        made._slots_of, made._host_lists = {}, {}
        fresh = np.flatnonzero(np.isin(self._placed, [self._numbers[name] for name in changed]).any(axis=1))
        for name, nothing in _EMPTY.items():  # which directions a filter names, and how it decides, may differ too
            table = getattr(self, name).copy()
            table[fresh] = nothing
            setattr(made, name, table)
        made.host_list = self.host_list.copy()
        made._place(fresh)
        made._lay(fresh)
        hosts = [ground.topology.instances[interface.instance].host_filter for interface in self._interfaces]
        made._ask_hosts(np.flatnonzero([isinstance(host, str) and host in changed for host in hosts]))
        return made

    def ask_one(self, number: int) -> None:
        """Lay out the gates of one interface."""
        if not self._is_known[number]:
            self.ask(np.array([number]))

    def ask(self, numbers: NDArray[np.int64]) -> None:
        """Lay out the gates of some interfaces."""
        fresh = ascending(numbers[~self._is_known[numbers]])[0]
        if not len(fresh):
            return
        self._is_known[fresh] = True
        self._ask_hosts(fresh)
        self._place(fresh)
        self._lay(fresh)

    def _place(self, numbers: NDArray[np.int64]) -> None:
        """Note which filters some interfaces carry in which slots."""
        if len(numbers):
            names_on = self._ground.membership.filter_names_on
            told = [self._slots(names_on(self._interfaces[number])) for number in numbers.tolist()]
            self._placed[numbers] = [slots for slots, _ in told]
            self._together[numbers] = [is_any for _, is_any in told]

    def _ask_hosts(self, numbers: NDArray[np.int64]) -> None:
        """Note the filters of the hosts of some interfaces."""
        instances, known = self._ground.topology.instances, self._host_lists
        filtered: tuple[list[int], list[list[int]]] = [], []
        for number in numbers.tolist():
            instance = instances[self._interfaces[number].instance]
            host = instance.host_filter
            if isinstance(host, HostRuleSet):
                self.host_kernel[number] = True
                self._lists.kernel_list(instance)
            elif host is not None:
                if host not in known:
                    chosen = self._ground.topology.filters[host]
                    known[host] = [self._lists.list_of(chosen, way) for way in WAYS]
                filtered[0].append(number)
                filtered[1].append(known[host])
        if filtered[0]:
            self.host_list[filtered[0]] = filtered[1]

    def _slots(self, carried: tuple[str, ...]) -> tuple[list[int], list[bool]]:
        """The numbers of an interface's filters in the order of its gates, and which of them are of its `any` set: each
        `first` filter is a gate, all `any` filters together are one, where the first of them stands (clause S20). Both
        are as long as there are slots."""
        if carried not in self._slots_of:
            filters = [self._ground.topology.filters[name] for name in carried]
            together = [each for each in filters if each.decide == "any"]
            in_order: list[Filter] = []
            for each in filters:
                if each.decide == "first":
                    in_order.append(each)
                elif each is together[0]:
                    in_order += together
            none = self._placed.shape[1] - len(in_order)
            self._slots_of[carried] = (
                [self._numbers[each.name] for each in in_order] + [_NONE] * none,
                [each.decide == "any" for each in in_order] + [False] * none,
            )
        return self._slots_of[carried]

    def _list(self, number: int) -> None:
        if not self._has_list[number]:
            chosen = self._filters[number]
            self._has_list[number] = True
            self._listed[number] = [self._lists.list_of(chosen, way) for way in WAYS]
            self._decider[number] = self._lists.decider(Decider(chosen.name, "otherwise"))

    def _lay(self, fresh: NDArray[np.int64]) -> None:
        """Lay out the slots of some interfaces."""
        placed = self._placed[fresh]
        numbers = ascending(placed[placed != _NONE])[0].tolist()
        for number in numbers:
            self._list(number)
        for way in (OUT, IN) if numbers else ():
            self._lay_way(fresh, way)

    def _lay_way(self, fresh: NDArray[np.int64], way: int) -> None:
        placed, together = self._placed[fresh], self._together[fresh]
        single = (placed != _NONE) & ~together
        naming = together & self._names[placed, way]
        # A set of which no filter names the direction stands as a filter that does not filter, in its last place.
        is_set, is_named = _any(together), _any(naming)
        last = together.shape[1] - 1 - together[:, ::-1].argmax(axis=1)
        keeps = _any(together & self._stateful[placed])
        lists = np.where(single | naming, self._listed[placed, way], NO_LIST)
        open_rows = np.flatnonzero(is_set & ~is_named)
        lists[open_rows, last[open_rows]] = np.where(keeps[open_rows], UNFILTERED_TRACKED, UNFILTERED)
        self.slot_list[fresh, way] = lists
        rows = np.flatnonzero(is_named)
        members = np.where(together[rows], MEMBER, 0).astype(np.uint8)
        members[np.arange(len(rows)), last[rows]] = LAST_MEMBER
        self.slot_any[fresh[rows], way] = members
        self.slot_stateful[fresh[rows], way] = naming[rows] & self._stateful[placed[rows]]
        named, filters = naming[rows], placed[rows]
        ends = fresh[rows], np.full(len(rows), way), last[rows]
        rejects = (self._rejects[filters] | ~named).all(axis=1)
        self.else_action[ends] = np.where(rejects, REJECTS, DROPS)
        self.else_keeps[ends] = (named & self._stateful[filters]).any(axis=1)
        # The first that drops decides, and where all reject the first.
        dropping = named & self._drops[filters]
        decides = np.where(dropping.any(axis=1), dropping.argmax(axis=1), named.argmax(axis=1))
        self.else_decider[ends] = self._decider[filters[np.arange(len(rows)), decides]]


def _any(truths: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """In which rows one is true."""
    found: NDArray[np.bool_] = np.logical_or.reduce(truths, axis=1)
    return found
