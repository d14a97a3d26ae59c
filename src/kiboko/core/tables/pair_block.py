"""A block of senders and receivers of one way being judged, gate by gate, on all kinds of traffic at once: a bit for
each kind."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kiboko.core.records.columns import ascending
from kiboko.core.tables.filter_lists import DROPS, NO_LIST, REJECTS, UNFILTERED
from kiboko.core.tables.kernel_words import LATER, OWN_DEVICE, REPLY, REQUEST, HostGate
from kiboko.core.tables.kinds import Words
from kiboko.core.tables.pair_tables import Outcome, PairTables, Side
from kiboko.core.tables.places import NONE
from kiboko.core.tables.rule_words import Done
from kiboko.core.tables.slots import HOST, INTERFACE, LIST, LISTENER, SETTLED, SUBNET, ZONE_DEFAULT, Slot
from kiboko.core.tables.traces import Marks, Trace
from kiboko.core.tables.ways import CONSTANT, FIXED, OWN, PUBLIC, RECEIVER, SENDER, SENT_TO, Gate

Rows = NDArray[np.int64]
_NOTHING: Rows = np.zeros((1, 1), dtype=np.int64)
_HOST_GATES = ("host-out", "host-in")
_SORTS, _RESET = 64, 63
"""Room for the kinds of gates at each place of a way; what becomes of resets is noted as one more of them."""


class Block:
    """One block being judged, gate by gate. Words are kept in as few dimensions as they rest on."""

    def __init__(
        self, judge: PairTables, way: int, senders: Side, receivers: Side, with_single: bool, is_paired: bool = False
    ) -> None:
        """`is_paired` judges each sender with the receiver of its own place alone, as if all were of one receiver."""
        self._once = self._twice = judge.none if with_single else None
        self._judge, self._layout, self._kinds = judge, judge.layout, judge.kinds
        self._way = way
        self._sides = {SENDER: senders, RECEIVER: receivers}
        self._is_paired = is_paired
        self.shape = (1 if is_paired else len(receivers), len(senders), self._kinds.words)
        self._kept: list[Words] = []
        # What perhaps keeps state, by the gates of the request that do, and what that perhaps lets back (clause S41).
        self._perhaps_kept: dict[int, Words] = {}
        self._perhaps_back = judge.none
        self._back = judge.none
        self._is_reply = self._keeps = False
        # Of replies what no state lets back.
        self._not_let_back = judge.every
        # Of a set of `any` filters: what any of them matched so far, and what of it leaves state.
        self._found = self._found_kept = judge.none
        # Of such a set what rules match if their conditions hold, of filters that keep no state and of others.
        self._found_perhaps = [judge.none, judge.none]
        self._at = 0
        self._reset = judge.none
        self._doubtful = judge.none
        # What may have gone elsewhere by now, so that no gate is sure to stop it (clause S35).
        self._diverted = judge.none
        self.trace: Trace | None = None
        # What decides at the gate that is asked, and whether more has to be known of it.
        self._which: Rows | Marks | int = 0
        self._apart: NDArray[np.bool_] | bool = False
        # The lists that are asked, and their packets; where the last of an `any` set stands, and what decides there.
        self._asked: tuple[Rows, Rows, Rows] = (_NOTHING, _NOTHING, _NOTHING)
        self._otherwise: tuple[NDArray[np.bool_], Rows] | None = None

    def outcome(self) -> Outcome:
        """What becomes of all kinds."""
        judge, layout = self._judge, self._layout
        stopped = judge.none
        keepers = {keeper for slot in layout.slots(self._way, True) for keeper in slot.keepers}
        if self.trace is not None and any(map(self._is_dead_end, layout.slots(self._way, False))):
            keepers.update(range(len(layout.slots(self._way, False))))  # the message comes back by what keeps state
        for at, slot in enumerate(layout.slots(self._way, False)):
            self._keeps, self._at = at in keepers, at
            stops, kept = self._asked_surely(slot)
            stopped = self._either(stopped, stops)
            self._count(stops)
            self._note(slot, at, stops)
            self._kept.append(kept)
            if self.trace is not None and not self.trace.alive.any():
                break
        every = self._kinds.every
        arrives = ~stopped & every
        perhaps_there = self._doubtful
        self._is_reply, self._keeps = True, False
        lost = judge.none
        # Where nothing arrives there is no reply; only what one gate alone stops is counted there and back.
        if layout.ways[self._way].has_reply and (self._once is not None or arrives.any() or self._reset.any()):
            if self.trace is not None:
                self.trace.alive = arrives & self._kinds.has_reply
            # Nothing else is sent back that could be stopped; what one gate alone stops is counted of all.
            sent_back = every
            if self._once is None:
                sent_back = arrives | self._reset if self._reset is not judge.none else arrives
            for at, slot in enumerate(layout.slots(self._way, True)):
                keeping = [self._kept[keeper] for keeper in slot.keepers]
                self._back = functools.reduce(np.bitwise_or, keeping) if keeping else judge.none
                perhaps = [self._perhaps_kept[each] for each in slot.keepers if each in self._perhaps_kept]
                self._perhaps_back = functools.reduce(np.bitwise_or, perhaps) & ~self._back if perhaps else judge.none
                self._not_let_back = sent_back & ~self._back if keeping else judge.every
                stops = self._asked_surely(slot)[0]
                self._count(stops & self._kinds.has_reply)
                self._note(slot, at + len(self._kept), stops)
                lost = self._either(lost, stops)
            if self.trace is not None and self._reset.any():
                self._note_reset(lost)
        answered = arrives & ~(lost & self._kinds.has_reply) if lost is not judge.none else arrives
        doubtful = judge.none
        if self._doubtful is not judge.none:
            doubtful = self._doubtful & answered | perhaps_there & arrives & ~answered
        found = [np.broadcast_to(each, self.shape) for each in (arrives, answered, doubtful)]
        if self._once is None or self._twice is None:
            return Outcome(found[0], found[1], found[2])
        single = self._once & ~self._twice & ~self._doubtful & every
        return Outcome(found[0], found[1], found[2], np.broadcast_to(single, self.shape))

    def shut_by_receivers(self) -> Words | None:
        """The kinds that the subnet and instance filters of the receivers surely stop, whatever else does: uint64 of
        `shape`. None where there are none, or where a kernel's rule set in front of them might send packets elsewhere.
        """
        shut = None
        for slot in self._layout.slots(self._way, False):
            if slot.kind == HOST and self._layout.gates.host_kernel[self._owner(slot, "interface")].any():
                break
            if slot.gate.whose == RECEIVER and slot.kind in (SUBNET, INTERFACE):
                stops = self._ask(slot)[0]
                shut = stops if shut is None else self._either(shut, stops)
        return np.broadcast_to(shut, self.shape) if shut is not None else None

    def stopped_by_hosts(self) -> Words:
        """The kinds that the host filters of the receivers stop, whatever else does: uint64 of `shape`."""
        found = self._judge.none
        for slot in self._layout.slots(self._way, False):
            if slot.gate.whose == RECEIVER and slot.kind == HOST:
                found = self._either(found, self._ask(slot)[0])
        return np.broadcast_to(found, self.shape)

    def hanging(self, outcome: Outcome) -> Words:
        """Of what is answered the kinds of which a kernel's rule set surely stops what follows (clause S35)."""
        stopped = np.zeros(self.shape, dtype=np.uint64)
        for slot in self._layout.slots(self._way, False) if self._layout.has_kernel else ():
            if slot.kind == HOST:
                interfaces = self._owner(slot, "interface")
                kernel = self._layout.gates.host_kernel[interfaces]
                if kernel.any():
                    part, mine = _chosen_part(kernel)
                    stopped[part] |= self._of_kernels(slot, interfaces, mine, LATER)[0]
        return stopped & outcome.answered & ~outcome.doubtful

    def _asked_surely(self, slot: Slot) -> tuple[Words, Words]:
        """What a gate surely stops, and what keeps state by it."""
        unsure = self._either(self._diverted, self._perhaps_back)
        stops, kept = self._ask(slot)
        if unsure is self._judge.none:
            return stops, kept
        self._doubt(stops & unsure)
        return stops & ~unsure, kept

    def _doubt(self, perhaps: Words) -> None:
        """Note what a gate that cannot be judged may stop."""
        if self._is_reply:
            perhaps = perhaps & self._kinds.has_reply
        self._doubtful = self._either(self._doubtful, perhaps)
        if self.trace is not None:  # what an earlier gate stops is not asked here
            self.trace.apart |= (perhaps & (self.trace.alive | self._reset)).any(axis=-1)

    def _count(self, stops: Words) -> None:
        """Note the kinds that a further gate stops."""
        if self._once is not None and self._twice is not None:
            self._twice = self._twice | self._once & stops
            self._once = self._once | stops

    def _note(self, slot: Slot, at: int, stops: Words) -> None:
        """Note what a further gate stops that nothing stopped before, and by what."""
        if self.trace is None:
            return
        sort, which, apart = at * _SORTS + slot.number, self._which, self._apart
        if slot.kind in (SETTLED, ZONE_DEFAULT):  # the way itself says why, in words of its own
            stop = slot.gate.step.stop
            which, apart = self._way, slot.settled == REJECTS or (stop is not None and stop.is_of_ends)
            if stop is not None and stop.names_entry:
                which = np.int64(self._way) << 32 | self._route_tables()
            elif self._is_dead_end(slot):
                own = self._laid(self._sides[SENDER].own, SENDER)
                which, apart = np.int64(self._way) << 32 | own, False
                for number, kept in enumerate(self._kept):
                    if kept.any():
                        self.trace.add(kept & stops & self.trace.alive, sort + number)
        fresh = self.trace.note(sort, stops, which, apart)
        if slot.kind == LISTENER:
            # A reset goes back as a reply does; what becomes of another refusal rests on more.
            self._reset = fresh & self._judge.tcp
            self.trace.apart |= (fresh & ~self._judge.tcp).any(axis=-1)
            if self._layout.has_kernel:
                self.trace.apart |= fresh.any(axis=-1)

    def _route_tables(self) -> Rows:
        """A number for the tables by which both ends are routed: entries of tables alike stand at their own places."""
        tables = self._layout.table_names
        sender, receiver = (self._laid(tables[self._sides[each].subnet], each) for each in (SENDER, RECEIVER))
        found: Rows = sender * len(tables) + receiver
        return found

    def _is_dead_end(self, slot: Slot) -> bool:
        """Whether the sender's own router has no way on there, and no kernel has a word in what becomes of that."""
        return slot.gate.is_dead_end and slot.settled == REJECTS and not self._layout.has_kernel

    def _note_reset(self, lost: Words) -> None:
        """Note which resets get back, by the replies that do not."""
        assert self.trace is not None
        self.trace.add(lost & self._reset, _RESET)

    def _ask(self, slot: Slot) -> tuple[Words, Words]:
        """What a gate stops, and for which kinds it keeps state."""
        judge = self._judge
        self._which, self._apart = 0, False
        if slot.kind == SETTLED:
            return judge.words_of(slot.settled in (DROPS, REJECTS)), judge.none
        if slot.kind == ZONE_DEFAULT:
            return judge.words_of(slot.settled in (DROPS, REJECTS)) & ~self._back, judge.every
        if slot.kind == LIST:
            return self._ask_lists(np.full((1, 1), slot.whose, dtype=np.int64), slot)
        if slot.kind == SUBNET:
            return self._ask_lists(self._layout.subnet_list[self._owner(slot, "subnet"), slot.way], slot)
        if slot.kind == HOST:
            return self._ask_host(slot)
        if slot.kind == INTERFACE:
            return self._ask_interface(slot)
        assert slot.kind == LISTENER
        return self._ask_listener(), judge.none

    # Ends and addresses, as arrays of [receivers, senders] with 1 where they do not differ.

    def _laid(self, column: NDArray[Any], whose: str) -> NDArray[Any]:
        """Senders along the second dimension, receivers along the first; of pairs both along the second."""
        return column[None] if whose == SENDER or self._is_paired else column[:, None]

    def _owner(self, slot: Slot, what: str) -> Rows:
        """The interfaces or subnets whose gate it is."""
        if slot.gate.whose == FIXED:
            return np.full((1, 1), slot.whose, dtype=np.int64)
        return self._laid(getattr(self._sides[slot.gate.whose], what), slot.gate.whose)

    def _addresses(self, slot: Slot) -> tuple[Rows, Rows]:
        """The atoms of the source and the destination of packets at a gate."""
        gate = slot.gate
        found = []
        for kind, address in ((gate.source, gate.step.source), (gate.destination, gate.step.destination)):
            if kind == CONSTANT:
                found.append(np.full((1, 1), self._layout.addresses.atom(address), dtype=np.int64))
            elif kind in (OWN, PUBLIC):
                side = self._sides[SENDER]
                found.append(self._laid(side.own if kind == OWN else side.public, SENDER))
            else:
                side = self._sides[RECEIVER]
                found.append(self._laid(side.sent_to if kind == SENT_TO else side.own, RECEIVER))
        return found[0], found[1]

    # Gates.

    def _ask_lists(self, lists: Rows, slot: Slot) -> tuple[Words, Words]:
        if self._is_passed(_is_open(lists)):
            return self._judge.none, self._judge.none
        rules = self._judge.rules[self._is_reply]
        self._asked = lists, *self._addresses(slot)
        done = rules.done(*self._asked)
        if self.trace is not None:
            self._which, self._apart, self._otherwise = done.which, rules.rejecting(lists), None
        return self._of_lists(done), done.kept if self._keeps else self._judge.none

    def _of_lists(self, done: Done) -> Words:
        """What lists stop by themselves, surely."""
        stops = self._without_let_back(done.stopped)
        return self._surely(done, stops) if self._judge.rules[self._is_reply].has_conditions else stops

    def _surely(self, done: Done, stops: Words, chosen: NDArray[np.bool_] | None = None) -> Words:
        """What lists surely stop of what they stop if no condition holds; what hangs on one is in doubt (clause S41).
        `chosen` are the pairs whose gate it is, where that is not all of them."""
        perhaps = done.lets | done.halts
        perhaps = self._without_let_back(perhaps if chosen is None else self._of(chosen, perhaps))
        if self.trace is not None:
            self.trace.apart |= done.in_two_ways if chosen is None else done.in_two_ways & chosen
        if not perhaps.any():
            return stops
        self._doubt(perhaps)
        return stops & ~perhaps

    def _ask_interface(self, slot: Slot) -> tuple[Words, Words]:
        layout, none = self._layout, self._judge.none
        which = self._owner(slot, "interface"), slot.way, slot.slot
        lists, member = layout.gates.slot_list[which], layout.gates.slot_any[which]
        if self._is_passed(_is_open(lists) & (member == 0)):
            return none, none
        rules = self._judge.rules[self._is_reply]
        self._asked = lists, *self._addresses(slot)
        done = rules.done(*self._asked)
        if self.trace is not None:
            # Of a set that matches nothing its `otherwise` decides, at its last filter; before it nothing stops.
            is_last = member == 2
            self._otherwise = is_last, layout.gates.else_decider[which]
            self._which = np.where(is_last, layout.gates.else_decider[which].astype(np.uint64), done.which)
            self._apart = np.where(is_last, layout.gates.else_action[which] == REJECTS, rules.rejecting(lists))
        if not member.any():
            return self._of_lists(done), done.kept if self._keeps else none
        is_single, is_last = member == 0, member == 2
        stops = self._of(is_single, done.stopped) if is_single.any() else none
        if rules.has_conditions:
            stops = self._surely(done, stops, is_single)
            self._note_perhaps(done, member, layout.gates.slot_stateful[which])
        kept = self._of(is_single, done.kept) if self._keeps and is_single.any() else none
        if (lists[~is_single] >= 0).any():
            matched = self._of(~is_single, done.matched) if (lists[is_single] >= 0).any() else done.matched
            is_whole = self._found_kept is self._found and layout.gates.slot_stateful[which][~is_single].all()
            self._found = self._either(self._found, matched)
            if is_whole:  # what all filters of a set match leaves state: one and the same words
                self._found_kept = self._found
            elif not self._is_reply:
                stateful = self._of(layout.gates.slot_stateful[which], matched)
                self._found_kept = self._either(self._found_kept, stateful)
        if not is_last.any():
            return self._without_let_back(stops), kept
        unmatched = self._chosen(is_last) & ~self._found
        if rules.has_conditions:
            unmatched, kept_by = self._close_perhaps(is_last, unmatched)
            kept = self._either(kept, kept_by)
        otherwise = (layout.gates.else_action[which] == DROPS) | (layout.gates.else_action[which] == REJECTS)
        stops = self._either(stops, self._of(otherwise | ~is_last, unmatched))
        if self._keeps:
            kept = self._either(kept, self._of(layout.gates.else_keeps[which] | ~is_last, unmatched))
            kept = self._either(kept, self._of(is_last, self._found_kept))
        if (member == 1).any():
            is_whole = self._found_kept is self._found
            self._found = self._of(~is_last, self._found)
            self._found_kept = self._found if is_whole else self._of(~is_last, self._found_kept)
        else:
            self._found = self._found_kept = none
        return self._without_let_back(stops), kept

    def _note_perhaps(self, done: Done, member: NDArray[np.uint8], stateful: NDArray[np.bool_]) -> None:
        """Note what a member of an `any` set matches if a rule's condition holds."""
        for keeps in (False, True):
            mine = self._of((member > 0) & (stateful == keeps), done.lets)
            self._found_perhaps[keeps] = self._either(self._found_perhaps[keeps], mine)

    def _close_perhaps(self, is_last: NDArray[np.bool_], unmatched: Words) -> tuple[Words, Words]:
        """What no rule of a set matches, surely or perhaps, and what leaves state where only such rules match that may;
        what is in doubt is noted."""
        others, keeping = (self._of(is_last, each) for each in self._found_perhaps)
        perhaps = unmatched & (others | keeping)
        self._doubt(self._without_let_back(perhaps))
        kept = self._judge.none
        if self._keeps:
            kept = perhaps & keeping & ~others
            self._perhaps_kept[self._at] = keeping & ~(self._of(is_last, self._found_kept) | kept)
        self._found_perhaps = [self._of(~is_last, each) for each in self._found_perhaps]
        return unmatched & ~perhaps, kept

    def _either(self, one: Words, other: Words) -> Words:
        """What is in either of some words."""
        if one is self._judge.none or other is self._judge.none:
            return other if one is self._judge.none else one
        return one | other

    def _of(self, chosen: NDArray[np.bool_], words: Words) -> Words:
        """Some words of the chosen pairs alone."""
        if chosen.all():
            return words
        return words & self._chosen(chosen) if chosen.any() else self._judge.none

    def _is_passed(self, is_open: NDArray[np.bool_]) -> bool:
        """Whether a gate stops nothing and keeps no state: it is open, or the state lets back all that is sent."""
        if is_open.all():
            return True
        if not self._is_reply or self._not_let_back is self._judge.every:
            return False
        return not (self._not_let_back & self._chosen(~is_open)).any()

    def _without_let_back(self, stops: Words) -> Words:
        """What a gate stops, less the replies that the state lets back."""
        return stops & ~self._back if self._back is not self._judge.none else stops

    def _chosen(self, truths: NDArray[np.bool_]) -> Words:
        """All kinds of some pairs."""
        return np.where(truths[..., None], self._judge.every, np.uint64(0))

    def _ask_listener(self) -> Words:
        """What nobody listens to (clause S32)."""
        layout, receivers = self._layout, self._sides[RECEIVER]
        numbers = layout.listening_at(receivers.sent_to.astype(np.int32))
        found = np.zeros((len(numbers), self._kinds.words), dtype=np.uint64)
        self._which = self._laid(numbers, RECEIVER)
        told = np.flatnonzero((receivers.interface != NONE) & (numbers >= 0))
        if len(told):
            known, back = ascending(numbers[told])
            found[told] = np.stack([self._judge.listened(number)[0] for number in known.tolist()])[back]
        return self._laid(found, RECEIVER)

    # Hosts.

    def _ask_host(self, slot: Slot) -> tuple[Words, Words]:
        layout = self._layout
        interfaces = self._owner(slot, "interface")
        kernel = layout.gates.host_kernel[interfaces]
        lists = np.where(kernel, NONE, layout.gates.host_list[interfaces, slot.way])
        stops, kept = self._ask_lists(lists, slot)
        if not kernel.any():
            return stops, kept
        if self.trace is not None:
            self.trace.apart |= kernel
        stops = np.broadcast_to(stops, self.shape).copy()
        doubtful, diverted = (np.zeros(self.shape, dtype=np.uint64) for _ in range(2))
        part, mine = _chosen_part(kernel)
        found = self._of_kernels(slot, interfaces, mine, REPLY if self._is_reply else REQUEST)
        stops[part], doubtful[part], diverted[part] = found
        self._doubtful = self._doubtful | doubtful
        self._diverted = self._diverted | diverted if diverted.any() else self._diverted
        return stops, np.broadcast_to(kept, self.shape)

    def _of_kernels(self, slot: Slot, interfaces: Rows, mine: Rows, part_asked: int) -> tuple[Words, Words, Words]:
        """What the kernel rule sets of some of the interfaces' machines stop, may stop, and may send elsewhere: of
        requests, of replies, or of what follows these."""
        along = 0 if interfaces.shape[0] > 1 else 1

        def part(column: Rows) -> Rows:
            if interfaces.size == 1 or column.shape[along] == 1:  # the one interface is at every place
                return column
            return np.take(column, mine, axis=along)

        source, destination = (part(each) for each in self._addresses(slot))
        asked, step = part(interfaces), slot.gate.step
        devices = [(OWN_DEVICE if slot.gate.whose != FIXED else each.device) if each is not None else ""
                   for each in (step.interface, step.egress)]  # fmt: skip
        gate = HostGate(step.way, devices[0], devices[1], part_asked)
        way = self._layout.ways[self._way]
        is_met = self._is_met(slot, asked, way.reply if part_asked == LATER else way.request)
        return self._judge.kernels.done(gate, asked, is_met, source, destination)

    def _is_met(self, slot: Slot, interfaces: Rows, gates: Sequence[Gate]) -> NDArray[np.bool_]:
        """By which of some hosts a way leads, at some gates: what went there and comes back is part of a connection to
        their kernels (clause S19). An appliance on the way may be an end itself."""
        layout = self._layout
        hosts = [each for each in gates if each.step.gate in _HOST_GATES]
        whose = {each.whose for each in hosts}
        if slot.gate.whose != FIXED and slot.gate.whose in whose:
            return np.ones(interfaces.shape, dtype=np.bool_)
        machines = layout.machines[interfaces]
        fixed = [each.step.interface or each.step.egress for each in hosts if each.whose == FIXED]
        passed = [int(layout.machines[layout.number_of(each)]) for each in fixed if each is not None]
        found: NDArray[np.bool_] = np.isin(machines, passed)
        for end in (SENDER, RECEIVER) if slot.gate.whose == FIXED else ():
            if end in whose:
                found = found | (self._laid(self._sides[end].machine, end) == machines)
        return found


def _chosen_part(chosen: NDArray[np.bool_]) -> tuple[tuple[slice | Rows, ...], Rows]:
    """Where in a block the chosen of some ends stand, which lie along one of its dimensions, and which these are."""
    mine = np.flatnonzero(chosen)
    return (mine,) if chosen.shape[0] > 1 else (slice(None), mine) if chosen.shape[1] > 1 else (), mine


def _is_open(lists: Rows) -> NDArray[np.bool_]:
    """Where no list stops anything or keeps state: no filter is there, or none that filters the direction."""
    found: NDArray[np.bool_] = (lists == NO_LIST) | (lists == UNFILTERED)
    return found
