"""Millions of flow records held against the rules, without a walk for each.

Records are brought together into conversations (`conversations`), and what the records of each prove is read off them
(`proofs`). Every boundary that a rule, route, group or listener draws cuts each dimension into atoms
(`kiboko.core.tables.lines`): conversations of the same atoms and the same proof are one class. The gates of all new
classes are asked at once by the gate tables, and held against the proofs by columns (`judging`).
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import judging
from kiboko.core.evidence.addressed import Addressed, Asked
from kiboko.core.evidence.alone_from_beyond import lone_from_beyond, unasked
from kiboko.core.evidence.brought_together import bring_together
from kiboko.core.evidence.comparison import Comparison
from kiboko.core.evidence.conclusions import Conclusions
from kiboko.core.evidence.conversations import Conversations
from kiboko.core.evidence.doubtful_echoes import with_fragments, without_idle_types
from kiboko.core.evidence.doubtful_flags import without_doubtful
from kiboko.core.evidence.gate_outcomes import GateOutcomes, Situation
from kiboko.core.evidence.judged import Classes, Judged
from kiboko.core.evidence.judging import IS_BREAK, IS_LEAK
from kiboko.core.evidence.known_points import KnownPoints
from kiboko.core.evidence.known_ports import KnownPorts, sent_to
from kiboko.core.evidence.known_proofs import KnownProofs, ages_of
from kiboko.core.evidence.late_denials import how_late
from kiboko.core.evidence.passages import Passages, Reached
from kiboko.core.evidence.point_marks import point_marks, weights
from kiboko.core.evidence.proofs import (
    ALONE,
    UNANSWERED,
    UNASKED,
    contexts,
    flag_kinds,
    mark_bits,
    perhaps_answered,
    refused,
)
from kiboko.core.evidence.rules_met import Met, RuleKey, RulesMet
from kiboko.core.evidence.seen_ends import SeenEnds
from kiboko.core.evidence.shared_senders import ByGates, SharedSenders
from kiboko.core.evidence.summing import Summing, as_slice
from kiboko.core.evidence.tallies import Tallies
from kiboko.core.evidence.traces import NO_TRACE, Traces
from kiboko.core.evidence.who_began import Since, perhaps_sampled, sampled
from kiboko.core.header.services import ICMP, ICMP6, TCP, UNTOLD
from kiboko.core.network.host_rules import HostRuleSet
from kiboko.core.records.columns import KeyNumbers, ascending, distinct, has_ports, is_icmp, numbered
from kiboko.core.records.flow_table import AddressTable, FlowTable, milliseconds
from kiboko.core.tables.client_ports import ClientPorts, asked_line, is_of_links, is_without_service
from kiboko.core.tables.column import Flows
from kiboko.core.tables.gate_tables import GateTables
from kiboko.core.tables.lines import AddressLine, NumberLine
from kiboko.core.tables.places import NONE

_ICMP_ERRORS = [
    protocol << 8 | kind for protocol, kinds in ((ICMP, (3, 4, 5, 11, 12)), (ICMP6, (1, 2, 3, 4))) for kind in kinds
]
"""ICMP messages that speak of another packet (RFC 792, RFC 4443)."""
_ICMP_TYPES = [
    protocol << 8 | kind
    for protocol, runs in ((ICMP, ((0, 0), (3, 6), (8, 18), (30, 43), (253, 254))),
                           (ICMP6, ((1, 4), (100, 101), (128, 161), (200, 201))))
    for first, last in runs for kind in range(first, last + 1)
]  # fmt: skip
"""The types of ICMP messages that there are, by IANA's registries. Of later fragments some exporters record what stands
where a type would."""
_ECHOES = ICMP << 8 | 8, ICMP6 << 8 | 128
_MOST_CLASSES = 1_000_000
_MOST_EXACT = 20_000
_PROOF_BITS = 24
_MOST_ASKED = 1 << 18
"""As many flows have their gates looked at at once: one without a client port is as many as it may have been."""
_MOST_PREPARED = 10_000
"""As many pairs of places as have their ways found within seconds."""
Rows = NDArray[np.int64]
Truths = NDArray[np.bool_]


class Evaluator:
    """Judges tables of flow records. Remembers what was worked out for each class, within a fixed bound.

    A table is the window in which records may meet: conversations are brought together within it.

    >>> from pathlib import Path
    >>> from kiboko.core.walk.walk import Walker
    >>> from kiboko.files.logs.flow_reader import tables_of
    >>> from kiboko.files.network.network_file import load_network
    >>> evaluator = Evaluator(Comparison(Walker(load_network("network.yaml"))))
    >>> table, _ = next(iter(tables_of(Path("evidence/flows.csv"))))
    >>> judged = evaluator.judge(table)
    >>> sum(judged.concluded[code].status == "leak" for code in judged.conclusion)
    16
    """

    def __init__(
        self, comparison: Comparison, line: AddressLine | None = None, services: NumberLine | None = None
    ) -> None:
        """`line` and `services` are lines that are cut more finely than this network asks for, where there are such."""
        self._comparison = comparison
        self._walker = walker = comparison.walker
        self._line = line or AddressLine(walker.ground)
        self._services = services or asked_line(walker.ground, comparison.served)
        self.tables = GateTables(walker, self._line, self._services)
        self._client_ports = ClientPorts(self.tables)
        self.ends = SeenEnds(walker, self.tables, comparison.ends.is_foreign)
        self._shared = SharedSenders(self.ends, self.tables.layout, list(walker.topology.gateways))
        self._points = KnownPoints(walker.topology)
        self._passages = Passages(self.tables.layout, self._points.listed)
        self._rules = RulesMet(comparison, self.tables, self.ends, self._shared)
        self._traces = Traces()
        self._known_ports = KnownPorts(sent_to(walker.topology))
        self._outcomes = GateOutcomes(self.tables)
        self._summing = Summing(self.ends, self._line, self._services)
        self._known = KeyNumbers(3)
        self._forget()

    def _forget(self) -> None:
        self._proofs = KnownProofs()
        self._conclusions = Conclusions(self._proofs, self._points.listed)
        self._traces.clear()
        self._situation_of: dict[tuple[int, ...], int] = {}
        self._every_situation: list[Situation] = []
        self._numbers: dict[tuple[int, int, int], int] = {}
        self._classes = Classes()
        self._known.clear()
        self._outcomes.forget()

    def prepare(self) -> None:
        """Work out beforehand what records between machines of the network will ask of it, so that the first of them
        are judged as fast as all others."""
        own = [address for each in self._walker.directory.interfaces() for address in each.addresses]
        own += self._walker.directory.public_addresses()
        atoms = ascending(np.array([self._line.atom(address) for address in own], dtype=np.int64))[0]
        layout = self.tables.layout
        layout.listening_at(atoms.astype(np.int32))
        self.ends.is_apart(atoms)
        places = layout.ends_of(atoms.astype(np.int32))[4]
        chosen = atoms[distinct(places).first].tolist()
        if len(chosen) ** 2 > _MOST_PREPARED:  # each way is found when a record first takes it
            return
        ends = {atom: layout.end(atom) for atom in chosen}
        for sender in ends.values():
            for target, receiver in ends.items():  # a machine is sent to by its own address, or by its public one
                if sender.endpoint.address.family == receiver.endpoint.address.family:
                    layout.way_between(sender, target, receiver)

    def judge(
        self, table: FlowTable, unheard: Truths | None = None, at_edge: Truths | None = None, since: Since = None,
        outer: Truths | None = None,
    ) -> Judged:  # fmt: skip
        """What every record of a table comes to. Of those that are `unheard`, bool[n], the answers may be missing, and
        other records of theirs of those `at_edge`, which are the same where nothing else is said. `since` is when their
        log begins, as `bring_together` has it, where the table is a part of it, and `outer`, bool[n], are records that
        were cut off from others there."""
        if len(self._classes) > _MOST_CLASSES:
            self._forget()
        if not len(table):
            none = np.zeros(0, dtype=np.int64)
            return Judged(none, self._conclusions.listed, none, none > 0, none.astype(np.uint8), none > 0, None, None,
                          self._classes, none > 0)  # fmt: skip
        table = without_idle_types(table)
        points = self._points.of(table)
        edge = unheard if at_edge is None else at_edge
        found = bring_together(table, self.ends, self._known_ports, edge, points, since)
        asked, conclusion, classes, around, nobody = self._judged(table, found, points, unheard, outer)
        weight, is_twice = weights(table, found)
        is_first = np.zeros(len(table), dtype=np.bool_)
        is_first[found.first] = True
        return Judged(conclusion[found.of], self._conclusions.listed, classes[found.of], found.is_reply(), weight,
                      is_first, found, asked, self._classes, is_twice, around, nobody)  # fmt: skip

    def _judged(
        self, table: FlowTable, found: Conversations, points: Rows | None, unheard: Truths | None,
        outer: Truths | None,
    ) -> tuple[Asked, Rows, Rows, Rows, Truths]:  # fmt: skip
        """What conversations ask and come to, their classes, what others tell of them, and of which nothing shows that
        anybody asked."""
        by_themselves = flag_kinds(table)
        kinds = with_fragments(table, found, self.ends, without_doubtful(table, found, by_themselves))
        marks = point_marks(table, found, points, self.ends, kinds) if points is not None else None
        is_mapped = points > 0 if points is not None else np.zeros(len(table), dtype=np.bool_)
        bits = mark_bits(table, found, is_mapped, kinds)
        if (is_refused := refused(bits)).any():  # or what ended it, where few packets of many were taken
            bits = np.where(is_refused & sampled(table, found), perhaps_answered(bits), bits)
        ages = ages_of(table, found, milliseconds(self._walker.topology.as_of))
        addressed = Addressed.of(table, found, self.ends, self._points.translating(points), self._points.beyond(points),
                                 lambda: perhaps_sampled(table, found))  # fmt: skip
        began_first = addressed.sent_to(False)
        initiators, responders = (
            np.where(found.began >= 0, np.where(found.began == 0, one, other), -1)
            for one, other in zip(began_first, addressed.sent_to(True), strict=True)
        )
        around = contexts(table, found, self.ends, initiators, responders, bits, by_themselves, points, unheard, outer)
        beyond = self.ends.is_foreign(addressed.one), self.ends.is_foreign(addressed.other)
        lone = lone_from_beyond(table, found, bits, kinds, beyond)
        # No silence is told of what is no opening, which nobody need answer.
        around[lone & (around == UNANSWERED) & (table.protocol[found.first] == TCP)] = ALONE
        proofs = self._proofs.numbers(found, bits, around, ages, how_late(table, found, lone), lone)
        traces = self._traces.numbers(marks, len(found))
        turned = found.taken_as_turned
        asked = addressed.asked(turned, proofs, traces)
        classes = self._class_of(asked)
        conclusion, reason = self._classes.conclusion[classes], self._classes.reason[classes].copy()
        self._settle(conclusion, reason, *self._by_whichever_address(addressed, turned, asked, reason))
        # Where nothing tells who began, and of replies to nothing that no rule would let through, both are asked.
        is_reply_alone = (around == UNASKED) | (lone & np.where(turned, *beyond))
        double = (found.began < 0) | (is_reply_alone & IS_LEAK[reason])
        rows = np.flatnonzero(double)
        if len(rows):
            mine = [(one[rows], other[rows]) for one, other in (proofs, traces)]
            part, back = addressed.taken(rows), ~turned[rows]
            other = part.asked(back, *mine)
            told = self._reasons(other).copy()
            again, agreed = self._by_whichever_address(part, back, other, told)
            told[again] = agreed
            agreed = judging.either(reason[rows], told)
            agreed[(agreed == judging.WHO_BEGAN) & is_icmp(asked.service[rows] >> 16)] = judging.ECHO_OR_FRAGMENT
            is_known = found.began[rows] >= 0
            nothing = np.where(lone[rows], np.uint8(judging.NOBODY_ASKED), np.uint8(judging.REPLY_TO_NOTHING))
            # Rules may let through an echo reply, and no request.
            is_told = IS_LEAK[agreed] & ~(lone[rows] & is_icmp(asked.service[rows] >> 16))
            agreed = np.where(~is_told & (is_known | IS_LEAK[agreed]), nothing, agreed)
            self._settle(conclusion, reason, rows, agreed)
            rows = rows[~is_known]
            conclusion[rows] = self._conclusions.either_way(conclusion[rows])
        return asked, conclusion, classes, around, unasked(bits, turned, lone)

    def _by_whichever_address(
        self, addressed: Addressed, turned: Truths, asked: Asked, reason: NDArray[np.uint8]
    ) -> tuple[Rows, NDArray[np.uint8]]:
        """Which conversations may have gone to another address as well, and the reasons that hold for both."""
        others = addressed.other_targets(turned)
        rows = np.flatnonzero(others != NONE)
        if not len(rows):
            return rows, reason[rows]
        again = dataclasses.replace(asked.taken(rows), target=others[rows])
        return rows, judging.whichever(reason[rows], self._reasons(again))

    def _reasons(self, asked: Asked) -> NDArray[np.uint8]:
        """The reasons of what is asked."""
        classes = self._class_of(asked)
        return self._classes.reason[classes]

    def _settle(self, conclusion: Rows, reason: NDArray[np.uint8], rows: Rows, agreed: NDArray[np.uint8]) -> None:
        """Change the conclusions of some conversations, where another reason has come up."""
        for row, mine, settled in zip(rows.tolist(), reason[rows].tolist(), agreed.tolist(), strict=True):
            if settled != mine:
                conclusion[row], reason[row] = self._conclusions.with_reason(int(conclusion[row]), settled), settled

    # Tallies.

    def tallies(
        self,
        table: FlowTable,
        wanted: Truths | None = None,
        covered: Callable[[FlowTable, Judged], None] | None = None,
    ) -> Tallies:
        """A table judged, and its wanted records (all by default) summed up by what they come to and by class, in the
        order of the first record of each. The others are there for their conversations. `covered` is told of the wanted
        records."""
        judged = self.judge(table)
        rows = np.arange(len(table)) if wanted is None else np.flatnonzero(wanted)
        if covered is not None:
            part = as_slice(rows)
            covered(table.taken(part), judged.part(part))
        return self.summed(table, judged, rows)

    def with_reason(self, judged: Judged, which: Truths, reason: int) -> Judged:
        """What records come to where some of them, bool[n], do so for another reason, an index of `REASONS`."""
        if not which.any():
            return judged
        conclusion = judged.conclusion.copy()
        told, codes = numbered(conclusion[which])
        instead = [self._conclusions.with_reason(each, reason) for each in told.tolist()]
        conclusion[which] = np.array(instead, dtype=np.int64)[codes]
        return dataclasses.replace(judged, conclusion=conclusion)

    def summed(self, table: FlowTable, judged: Judged, rows: Rows) -> Tallies:
        """Some records of a judged table summed up by what they come to and by class."""
        return self._summing.of(table, judged, rows)

    def ends_of(self, table: FlowTable, judged: Judged) -> tuple[AddressTable, AddressTable]:
        """Of each conversation of a judged table who asked, and which address was asked: two tables of k addresses; of
        a table without records none."""
        return self._summing.ends_of(table, judged)

    def rules_met(self, tallies: Tallies) -> Met:
        """The rules that the packets of tallies met."""
        return self._rules.of(tallies)

    def uses(
        self, table: FlowTable, judged: Judged, summed: Tallies, rows: Rows
    ) -> Iterator[tuple[Tallies, Met, bool]]:
        """The rules that the packets of some records of a judged table met, which `summed` sums up; and once more as if
        the other end had begun (True), of those of which nothing tells who did."""
        yield summed, self.rules_met(summed), False
        if judged.found is not None and (is_open := judged.found.began[judged.found.of[rows]] < 0).any():
            turned = self.summed(table, judged, rows[is_open]).turned_round()
            yield turned, self.rules_met(turned), True

    def meeting(self, table: FlowTable, wanted: frozenset[RuleKey]) -> Truths:
        """The records whose packets met one of some rules."""
        judged = self.judge(table)
        if judged.found is None:
            return np.zeros(0, dtype=np.bool_)
        every = np.arange(len(table))
        found = np.zeros(len(table), dtype=np.bool_)
        for tallies, met, turned in self.uses(table, judged, self.summed(table, judged, every), every):
            rows = np.flatnonzero(judged.found.began[judged.found.of] < 0) if turned else every
            groups = distinct(judged.conclusion[rows], judged.classes[rows])  # in the order of the tallies
            hit = [met.any_of(wanted, np.full(len(tallies), way)) for way in (False, True)]
            is_reply = judged.is_reply[rows] != turned
            found[rows] |= np.where(is_reply, hit[1][groups.codes], hit[0][groups.codes])
        return found

    # Classes.

    def _class_of(self, asked: Asked) -> Rows:
        """The classes of what is asked, those that are new judged."""
        pair = asked.sender * self._line.size + asked.target
        rest = self.tables.traffic(asked.service, asked.port)
        told = asked.trace << _PROOF_BITS | asked.proof
        found = self._known.find(pair, rest, told)
        rows = np.flatnonzero(found < 0)
        if len(rows):
            keys = pair[rows], rest[rows], told[rows]
            each = distinct(*keys)
            keys = keys[0][each.first], keys[1][each.first], keys[2][each.first]
            numbers = self._numbers_of(keys)
            fresh = np.flatnonzero(numbers < 0)
            if len(fresh):
                begin = len(self._classes)
                numbers[fresh] = np.arange(begin, begin + len(fresh))
                self._keep(tuple(key[fresh] for key in keys), begin)
                self._classes.add(*self._made(asked.taken(rows[each.first[fresh]])))
            self._known.note(numbers, *keys)
            found[rows] = numbers[each.codes]
        return found

    def _numbers_of(self, keys: tuple[Rows, ...]) -> Rows:
        """The numbers of classes that the memory has let go of, -1 for others. Of very many classes none is kept twice:
        one that is let go of is judged again."""
        if len(self._classes) > _MOST_EXACT or not self._numbers:
            return np.full(len(keys[0]), NONE, dtype=np.int64)
        listed = zip(*(key.tolist() for key in keys), strict=True)
        return np.array([self._numbers.get(key, NONE) for key in listed], dtype=np.int64)

    def _keep(self, keys: tuple[Rows, ...], begin: int) -> None:
        if len(self._numbers) + len(keys[0]) <= _MOST_EXACT:
            listed = zip(*(key.tolist() for key in keys), strict=True)
            self._numbers.update((key, number) for number, key in enumerate(listed, begin))

    def _made(self, asked: Asked) -> tuple[NDArray[np.uint8], Rows, Rows]:
        """What new classes come to, of which no two are alike."""
        count = len(asked.sender)
        reason = np.zeros(count, dtype=np.uint8)
        passed = np.zeros(count, dtype=np.int64)
        kind, decider = np.zeros(count, dtype=np.int64), np.zeros(count, dtype=np.int64)
        apart = self.ends.is_apart(asked.sender) | self.ends.is_apart(asked.target)
        outside = ~apart & self.ends.is_foreign(asked.sender) & self.ends.is_foreign(asked.target)
        shared = self.ends.shared_by(asked.sender)
        unsaid, of_links = is_without_service(asked.service, asked.port), is_of_links(asked.service)
        is_shared = ~apart & ~unsaid & ~of_links & (shared != NONE)
        reason[unsaid], reason[of_links] = judging.NO_SERVICE, judging.OF_LINKS
        reason[outside], reason[apart] = judging.BOTH_OUTSIDE, judging.APART
        rows = np.flatnonzero(~apart & ~outside & ~unsaid & ~of_links & ~is_shared)
        if len(rows):
            met = self._by_gates(asked.taken(rows))
            reason[rows], kind[rows], decider[rows], passed[rows] = met.reason, met.kind, met.decider, met.steps
        for gateway in ascending(shared[is_shared])[0].tolist():
            rows = np.flatnonzero(is_shared & (shared == gateway))
            met = self._shared.judged(gateway, asked.taken(rows), self._by_gates)
            reason[rows], kind[rows], decider[rows] = met.reason, met.kind, met.decider
        reason = self._proofs.aged(reason, asked.proof)
        denied_at = self._traces.denied_at(asked.trace)
        conclusion = self._conclusions.of(
            reason, kind, decider, asked.proof, denied_at, is_shared, self.tables.deciders
        )
        return reason, conclusion, passed

    def _by_gates(self, asked: Asked, recorded: Rows | None = None) -> ByGates:
        """What some flows come to. Of a flow without a client port what holds for every port that it may have been sent
        from; `recorded` int64[n] may be one of these as well, -1 for none."""
        of, port = self._client_ports.spread(asked.sender, asked.service, asked.port, recorded)
        whole = dataclasses.replace(asked if len(of) == len(asked.port) else asked.taken(of), port=port)
        begins = range(0, len(of), _MOST_ASKED)
        if len(begins) == 1:
            met = self._by_ports(whole)
        else:
            parts = [self._by_ports(whole.taken(np.arange(at, min(at + _MOST_ASKED, len(of))))) for at in begins]
            met = ByGates(*(np.concatenate([getattr(each, name) for each in parts]) for name in ByGates.__slots__))
        if len(of) > len(asked.port):
            first = np.searchsorted(of, np.arange(len(asked.port)))
            reason = judging.by_every_port(met.reason, first)
            met = ByGates(reason, met.kind[first], met.decider[first], met.steps[first])
        # Without the client's port, what comes from a shared address may be of another conversation of its sender's.
        is_unrecorded = has_ports(asked.service >> 16) & (asked.port < 0)
        whose = np.flatnonzero(is_unrecorded & (IS_LEAK[met.reason] | IS_BREAK[met.reason]))
        if len(whose):
            lacks = whose if recorded is None else whose[recorded[whose] < 0]
            whose = whose[IS_LEAK[met.reason[whose]]]
            met.reason[lacks[self._is_of_any(asked.taken(lacks), met.reason[lacks])]] = judging.OF_ANOTHER
            met.reason[whose[self.ends.shared_by(asked.target[whose]) != NONE]] = judging.SHARED_REPLY
        return met

    def _is_of_any(self, asked: Asked, reason: NDArray[np.uint8]) -> Truths:
        """Of which flows without a client's port nothing but what somebody beyond the network sent shows that they leak
        or break: it may be of another conversation of the same two, or of none (E13). `reason` are those by gates."""
        told = self._proofs.told(asked.proof, "arrived", "answered", "followed_denied", "only_opens", "is_lone")
        arrived, answered, followed, only_opens, is_lone = told
        sender, target = self.ends.is_foreign(asked.sender), self.ends.is_foreign(asked.target)
        of_leak = target & ~answered | sender & answered & (~arrived | (reason == judging.REPLY_LEAK))
        # What passed may have asked for nothing, and what did ask may have been stopped.
        of_leak |= sender & ~arrived & ~only_opens & ~is_lone & (asked.service >> 16 == TCP)
        of_break = sender & (reason == judging.DENIED_BREAK) & followed | target & (reason == judging.REPLY_BREAK)
        found: Truths = np.where(IS_LEAK[reason], of_leak, of_break)
        return found

    def _by_ports(self, asked: Asked) -> ByGates:
        """The same of flows with a client port each, where the protocol has ports."""
        flows = Flows(asked.sender.astype(np.int32), asked.target.astype(np.int32), asked.service, asked.port)
        met = self._outcomes.of(flows)
        numbers, situations = self._situations(asked, met.way)
        reason, steps = self._outcomes.judged(met.outcome, numbers, situations)
        denied, has_request, followed_denied, unclear, is_lone = (
            np.array([getattr(each.proof, name) for each in situations], dtype=np.bool_)[numbers]
            for name in ("denied", "has_request", "followed_denied", "unclear", "is_lone")
        )
        rows = np.flatnonzero(met.is_first_alone)
        reason[rows] = judging.of_first_alone(reason[rows], followed_denied[rows])
        gate = self._outcomes.gate(met.outcome)
        is_reply_alone = np.array([each.proof.context == UNASKED for each in situations], dtype=np.bool_)[numbers]
        reach = np.array([each.reach for each in situations], dtype=np.int64)[numbers]
        # What comes from beyond the network may be an answer to what others forged. If it is taken for a request it was
        # let through where it was seen behind the gate, and not of the outside that its address, perhaps forged, is of.
        is_elsewhere = (reach <= gate) | is_lone & self._outcomes.is_beyond(met.outcome)
        rows = np.flatnonzero((is_lone | is_reply_alone) & IS_LEAK[reason] & is_elsewhere)
        rows = rows[self.ends.is_foreign(asked.sender[rows])]
        reason[rows] = np.where(is_lone[rows], np.uint8(judging.PERHAPS_FORGED), np.uint8(judging.REPLY_TO_NOTHING))
        rows = np.flatnonzero(is_icmp(asked.service >> 16))
        if len(rows):
            kinds = asked.service[rows] >> 8
            is_untold = (asked.service[rows] & 0xFFFF == UNTOLD) | ~np.isin(kinds, _ICMP_TYPES)
            is_error = np.isin(kinds, _ICMP_ERRORS) & ((gate[rows] >= 0) | denied[rows])
            reason[rows[unclear[rows] & ~IS_LEAK[reason[rows]]]] = judging.ECHO_OR_FRAGMENT
            reason[rows[is_untold]], reason[rows[is_error]] = judging.TYPE_UNTOLD, judging.AN_ERROR
            # Pings of the same two are one conversation: a reply from beyond the network may be to none of them (E13).
            may_be = np.isin(kinds, _ECHOES) & IS_LEAK[reason[rows]] & (reason[rows] != judging.PASSED_LEAK)
            rows = rows[may_be & self.ends.is_foreign(asked.target[rows])]
            has_passed = self._reached(asked.taken(rows), met.way[rows], of_reply=False).passed > gate[rows]
            reason[rows] = np.where(has_passed, np.uint8(judging.PASSED_LEAK), np.uint8(judging.ECHO_OF_ANOTHER))
        rows = np.flatnonzero((reason == judging.PASSED_LEAK) & (asked.service >> 16 == TCP))
        if len(rows) and len(self._letting_on):
            opens = np.array([each.proof.opens for each in situations], dtype=np.bool_)[numbers[rows]]
            rows = rows[~opens & np.isin(met.decider[rows], self._letting_on)]
            reason[rows] = judging.NO_OPENING_PASSED
        reason[met.way == NONE] = judging.NO_GATE
        reason[(self.ends.shared_by(asked.target) != NONE) & ~has_request] = judging.SHARED_REPLY
        return ByGates(reason, self._outcomes.kind(met.outcome), met.decider, steps)

    @property
    def _letting_on(self) -> Rows:
        """What decides at gates that may stop openings of TCP and let pass what follows them (clause S42)."""
        names = self._names_letting_on
        found = [number for number, each in enumerate(self.tables.deciders) if each.filter in names] if names else []
        return np.array(found, dtype=np.int64)

    @cached_property
    def _names_letting_on(self) -> set[str]:
        """The filters that may do so, and the rule sets of kernels that look at flags of TCP."""
        topology = self.tables.walker.topology
        names = {each.name for each in topology.filters.values() if each.has_established}
        if any(topology.filters[name].decide == "any" for name in names):  # they are asked together
            names |= {each.name for each in topology.filters.values() if each.decide == "any"}
        hosts = (each.host_filter for each in topology.instances.values())
        return names | {each.file for each in hosts if isinstance(each, HostRuleSet) and each.looks_at("tcp", "flags")}

    def _reached(self, asked: Asked, way: Rows, of_reply: bool = True) -> Reached:
        """How far flows were along their ways by the points that recorded them, or their requests alone."""
        marks = self._traces.marks(np.where(way != NONE, asked.trace, NO_TRACE))
        if not of_reply:
            marks = marks.taken(~marks.is_reply)
        is_by_public, request = self.ends.is_public(asked.target), self._outcomes.request
        return self._passages.reached(marks, way, (asked.sender, asked.target), is_by_public, request)

    def _situations(self, asked: Asked, way: Rows) -> tuple[Rows, list[Situation]]:
        """What is proved of flows along their ways: a number for each, and all situations by number."""
        is_by_public, is_tcp = self.ends.is_public(asked.target), asked.service >> 16 == TCP
        reached = self._reached(asked, way)
        columns = asked.proof << 2 | is_by_public << 1 | is_tcp, *(each.astype(np.int64) for each in reached)
        kinds = distinct(*columns)
        numbers = []
        for key in zip(*(column[kinds.first].tolist() for column in columns), strict=True):
            if key not in self._situation_of:
                self._situation_of[key] = len(self._every_situation)
                told, passed, first, last, off_way, strange = key
                self._every_situation.append(Situation(
                    self._proofs[told >> 2].proof, bool(told & 2), bool(told & 1), passed, first, last, bool(off_way),
                    bool(strange),
                ))  # fmt: skip
            numbers.append(self._situation_of[key])
        return np.array(numbers, dtype=np.int64)[kinds.codes], self._every_situation
