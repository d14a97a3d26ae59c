"""Proof against rules, by columns: agree, leak, break or unsure, and why (clause E9).

The gates of a flow stand in the order in which it meets them, the reply's behind the request's. What is proved is how
many of them were passed; what the rules say is which is the first that stops. A flow that was proved to have passed it
leaks; one that was stopped though none does is broken; where the proof ends before the gate that decides, that is said.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kiboko.core.evidence import comparison
from kiboko.core.evidence.comparison import AGREE, BREAK, LEAK, UNSURE
from kiboko.core.evidence.proofs import UNANSWERED, UNASKED
from kiboko.core.tables.filter_lists import DOUBTFUL, NOT_KNOWN, PASSES, REJECTS
from kiboko.core.tables.gate_tables import Gates


@dataclass(frozen=True, slots=True)
class Reason:
    """What a finding is and why. `as_far_as_seen` marks agreement whose proof ends before the gate that decides;
    `different_signal` that it fails by another signal than the rules say; `is_elsewhere` that it is stopped at another
    place; `is_inventory` that the filters agree, and what the network file says of the machine does not;
    `is_first_alone` that the rules let through the first packet and its answer alone; `before_as_of` that it is older
    than the network file, `is_undated` that it may be: when it was is not recorded."""

    status: str
    text: str
    as_far_as_seen: bool = False
    different_signal: bool = False
    is_elsewhere: bool = False
    is_inventory: bool = False
    before_as_of: bool = False
    cause: str | None = None
    is_first_alone: bool = False
    is_undated: bool = False


REASONS: list[Reason] = []


def _reason(status: str, text: str, **marks: bool | str | None) -> int:
    REASONS.append(Reason(status, text, **marks))  # type: ignore[arg-type]
    return len(REASONS) - 1


ANSWERED_AS_SAID = _reason(AGREE, "answered, as the rules say")
ARRIVED_AS_SAID = _reason(AGREE, "it arrived, as the rules say; whether the reply came back is not recorded",
                          as_far_as_seen=True)  # fmt: skip
ANSWERED_IN_DOUBT = _reason(AGREE, comparison.IN_DOUBT, as_far_as_seen=True)
LONE_AS_SAID = _reason(AGREE, "what came from outside passed as a reply would, as the rules say; nothing that asked for"
                       " it was recorded", as_far_as_seen=True)  # fmt: skip
PASSED_AS_SAID = _reason(AGREE, "it passed where it was recorded, as the rules say; nothing shows that it arrived",
                         as_far_as_seen=True)  # fmt: skip
STOPPED_AS_SAID = _reason(AGREE, "stopped, as the rules say")
STOPPED_ELSEWHERE = _reason(AGREE, "stopped, but not where the rules stop it", is_elsewhere=True)
PASSED_AND_STOPPED = _reason(AGREE, "it passed the gate that stops it by the rules, and was stopped further on",
                             is_elsewhere=True)  # fmt: skip
REFUSED_AS_SAID = _reason(AGREE, "refused, as the rules say")
REFUSED_ELSEWHERE = _reason(AGREE, "refused, where by the rules nothing would come back: something else stops it",
                            different_signal=True, is_elsewhere=True)  # fmt: skip
SILENT_AS_SAID = _reason(AGREE, "no answer was recorded, as the rules say; what stopped it is not", as_far_as_seen=True)
SEEN_BEFORE = _reason(AGREE, "recorded before the gate that stops it by the rules", as_far_as_seen=True)
REPLY_STOPPED = _reason(AGREE, "it arrived, and its reply is stopped, as the rules say")
REPLY_TO_COME = _reason(AGREE, "it arrived, as the rules say; what became of the reply is not recorded",
                        as_far_as_seen=True)  # fmt: skip
AS_RECORDED = _reason(AGREE, "as far as it was recorded it is as the rules say", as_far_as_seen=True)
"""What several possibilities come to of which one proves more than another, or another thing."""
INVENTORY = _reason(AGREE, comparison.OUT_OF_DATE, is_inventory=True)
ARRIVED_LEAK = _reason(LEAK, "it arrived, though the rules stop it")
ANSWERED_LEAK = _reason(LEAK, "answered, though the rules stop it")
PASSED_LEAK = _reason(LEAK, "it passed the gate that stops it by the rules")
REPLY_LEAK = _reason(LEAK, "its reply came back, though the rules stop that")
DENIED_BREAK = _reason(BREAK, "denied, though the rules allow it")
REPLY_BREAK = _reason(BREAK, "the reply is denied, though the rules let it back", cause="no-way-back")
LATE_DENIED = _reason(UNSURE, "denied, and what it belongs to was not recorded from its opening on: perhaps the end of"
                      " what a firewall knew no more of")  # fmt: skip
LATE_REPLY = _reason(UNSURE, "replies were denied that came behind others, or long after what asked for them: perhaps a"
                     " firewall knew no more of it")  # fmt: skip
FOLLOWED_DENIED = _reason(UNSURE, "it arrived, and packets of it were denied as well: an earlier try, or what followed"
                          " its first packet")  # fmt: skip
FIRST_ALONE = _reason(AGREE, "answered, as the rules say, which let through the first packet and its answer and stop"
                      " what follows: what is opened hangs", is_first_alone=True)  # fmt: skip
FOLLOWED_AS_SAID = _reason(AGREE, "denied, as the rules say of what follows the first packet", as_far_as_seen=True)
FIRST_ALONE_UNSURE = _reason(UNSURE, "refused: the rules let through the first packet and its answer alone, and stop"
                             " what follows")  # fmt: skip
REFUSED_BREAK = _reason(BREAK, "refused, though the rules allow it")
SILENT_BREAK = _reason(BREAK, "no answer was recorded, where answers of others were, though the rules allow it")
SILENT_APART = _reason(UNSURE, "no answer was recorded in this log, and it may stand in another of that time, which was"
                       " read apart from it")  # fmt: skip
REFUSED_APART = _reason(UNSURE, "an opening and a reset alone are recorded in this log, and what came between them may"
                        " stand in another of that time, which was read apart from it")  # fmt: skip
NO_OPENING_PASSED = _reason(UNSURE, "it passed the gate that stops it by the rules, and no opening of it is recorded:"
                            " what follows one may pass where it may not")  # fmt: skip
NOT_TOLD = _reason(UNSURE, "the record does not say whether it passed")
WHERE_NOT_TOLD = _reason(UNSURE, "it passed somewhere, and where is not known: perhaps in front of the gate that stops"
                         " it (observation_points in the network file says what a log's points are)")  # fmt: skip
RESTS_ON_UNKNOWN = _reason(UNSURE, "it rests on a gate that is not known")
REFUSED_UNSURE = _reason(UNSURE, "refused: is anything listening?")
SILENT_UNSURE = _reason(UNSURE, "no answer was recorded: is anything listening?")
SILENT_UDP = _reason(UNSURE, "no answer was recorded, which without TCP proves nothing: many services answer only what"
                     " they understand")  # fmt: skip
REPLY_ELSEWHERE = _reason(UNSURE, "the reply was denied where by the rules it does not come by")
REPLY_TO_WHOM = _reason(UNSURE, "denied, as the reply of a flow to the private address would be")
DENIED_UNASKED = _reason(UNSURE, "a reply from outside that was denied, to nothing that was recorded: perhaps nobody"
                         " asked for it")  # fmt: skip
NOBODY_ASKED = _reason(UNSURE, "a reply from outside, to nothing that was recorded: perhaps nobody asked for it")
PERHAPS_FORGED = _reason(UNSURE, "it came from outside, of no connection, and its address may be forged: perhaps it did"
                         " not come by the gate that stops it")  # fmt: skip
REPLY_TO_NOTHING = _reason(UNSURE, "a reply to nothing that was recorded")
WHICH_ADDRESS = _reason(UNSURE, "whether it was sent to the public or to the private address is not recorded, and it"
                        " matters")  # fmt: skip
WHO_BEGAN = _reason(UNSURE, "who began is not recorded, and it matters")
ECHO_OR_FRAGMENT = _reason(UNSURE, "an echo reply, or a later fragment of an echo request, which is recorded as one")
ENDED_EARLY = _reason(UNSURE, "a reset without its request: refused, or the end of what went before")
APART = _reason(UNSURE, comparison.NOT_DELIVERED)
BOTH_OUTSIDE = _reason(UNSURE, comparison.BOTH_OUTSIDE)
UNCLEAR_REPLY = _reason(UNSURE, "something came back: an answer, a refusal or no part of it, which its TCP flags do not"
                        " say")  # fmt: skip
NO_GATE = _reason(UNSURE, comparison.OF_ONE_MACHINE)
AN_ERROR = _reason(UNSURE, "an ICMP error: what it speaks of is not recorded")
TYPE_UNTOLD = _reason(UNSURE, "which ICMP message it is was not recorded (types that are all 0 tell nothing), or is"
                      " none that there is")  # fmt: skip
SHARED_UNSURE = _reason(UNSURE, "some that may stand behind the shared address may, and some may not")
SHARED_UNKNOWN = _reason(UNSURE, "who sent it from behind the shared address is not recorded")
SHARED_PORT = _reason(UNSURE, "which client port it had before the shared address was given is not recorded, and it"
                      " matters")  # fmt: skip
SHARED_REPLY = _reason(UNSURE, "whose reply it is that came from the shared address is not recorded")
NO_SERVICE = _reason(UNSURE, "what it was sent to is not recorded, as of the later fragments of a packet")
OF_LINKS = _reason(UNSURE, "neighbour discovery, or another message between neighbours alone, of which no filter of the"
                   " network file is asked")  # fmt: skip
PORTS_UNKNOWN = _reason(UNSURE, "the client's port is not recorded, and it matters")
OF_ANOTHER = _reason(UNSURE, "the client's port is not recorded: what came from outside may be of another"
                     " conversation of the same two, or of none")  # fmt: skip
ECHO_OF_ANOTHER = _reason(UNSURE, "an echo reply from outside: of pings no record tells which it answers, and perhaps"
                          " nobody asked for it")  # fmt: skip
BEFORE_AS_OF = _reason(UNSURE, "recorded before the time that the network file tells of", before_as_of=True,
                       cause="log-before-as-of")  # fmt: skip
OLDER_SESSION = _reason(UNSURE, "the session began before the time that the network file tells of, and may be older"
                        " than the rules", cause="older-session")  # fmt: skip
UNDATED = _reason(UNSURE, "when it was is not recorded: it may be older than what the network file tells of",
                  is_undated=True)  # fmt: skip
BEGINNING_UNDATED = _reason(UNSURE, "when the session began is not recorded: it may be older than the rules",
                            is_undated=True)  # fmt: skip

_STATUS = np.array([("leak", "break", "unsure", "agree").index(each.status) for each in REASONS], dtype=np.uint8)
IS_LEAK, IS_BREAK = _STATUS == 0, _STATUS == 1
_AS_FAR_AS_SEEN = np.array([each.as_far_as_seen for each in REASONS], dtype=np.bool_)


def _worth(reason: Reason) -> int:
    """A number for what agreement is worth, the same for what tests the same."""
    marks = reason.as_far_as_seen, reason.is_elsewhere, reason.is_inventory, reason.is_first_alone
    return next((number for number, mark in enumerate(marks, 1) if mark), 0)


_WORTH = np.array([_worth(each) for each in REASONS], dtype=np.uint8)


@dataclass(frozen=True, slots=True)
class Proved:
    """What is proved of `n` flows, by columns, bool[n] where nothing else is said: see `proofs.Proof`. `reach` int64[n]
    is how many gates were passed for sure, `first` and `last` int64[n] the gates at which one was seen to stop it, -1
    where that is not known; `is_by_public` whether the sender used a public address of the receiver."""

    arrived: NDArray[np.bool_]
    answered: NDArray[np.bool_]
    denied: NDArray[np.bool_]
    reply_denied: NDArray[np.bool_]
    passed: NDArray[np.bool_]
    refused: NDArray[np.bool_]
    unclear: NDArray[np.bool_]
    has_request: NDArray[np.bool_]
    reset_alone: NDArray[np.bool_]
    followed_denied: NDArray[np.bool_]
    context: NDArray[np.int64]
    reach: NDArray[np.int64]
    first: NDArray[np.int64]
    last: NDArray[np.int64]
    is_off_way: NDArray[np.bool_]
    is_strange: NDArray[np.bool_]
    is_by_public: NDArray[np.bool_]
    is_tcp: NDArray[np.bool_]
    is_marked: NDArray[np.bool_]
    is_lone: NDArray[np.bool_]

    def taken(self, rows: NDArray[np.int64]) -> Proved:
        """What is proved of some of them, each as often as it is named."""
        return Proved(*(getattr(self, name)[rows] for name in self.__slots__))


def stopping(gates: Gates, is_end: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The gate that stops each flow by the rules, int64[n]: the first that is not an end's own, else the first of the
    request that is; -1 for none."""
    gate, end = _stopping(gates, is_end)
    return np.where(gate >= 0, gate, end)


def _stopping(gates: Gates, is_end: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    stops = gates.stops
    request = np.arange(stops.shape[1]) < gates.request
    return _first(stops & ~is_end), _first(stops & is_end & request)


def judge(gates: Gates, is_end: NDArray[np.bool_], is_listener: NDArray[np.bool_], proved: Proved) -> NDArray[np.uint8]:
    """Hold what is proved of flows against what their gates say: the reason for each, an index of `REASONS`.

    Parameters
    ----------
    is_end : bool[n, gates], which gates are an end's own: a sender or receiver that is stopped, a listener
    is_listener : bool[n, gates], which of them are listeners
    """
    count, width = gates.action.shape
    reach = _reach(gates, proved)
    gate, end = _stopping(gates, is_end)
    blocked = gate >= 0
    by_reply = gate >= gates.request
    unknown = (gates.action == DOUBTFUL).any(axis=1)
    not_known = (gates.action == NOT_KNOWN) & ~is_listener
    heard = ((gates.action == PASSES) & is_listener).any(axis=1)
    at_gate, reply_at_gate = (
        np.where(proved.first < 0, ~is_elsewhere, (proved.first <= gate) & (gate <= proved.last))
        for is_elsewhere in (proved.is_off_way, proved.is_strange)
    )
    rejects = (
        gates.action[np.arange(count), np.maximum(np.where(blocked, gate, end), 0)] == REJECTS if width else blocked
    )
    denied = proved.denied & ~proved.arrived & ~proved.answered
    reply_denied = proved.reply_denied & ~proved.answered
    refused = proved.refused & ~denied
    silent = proved.context == UNANSWERED
    # What was recorded of it reached some place on its way for sure.
    is_seen = proved.passed | proved.is_marked | proved.arrived

    def choose(*cases: tuple[NDArray[np.bool_], int], otherwise: int) -> NDArray[np.uint8]:
        return np.select([case for case, _ in cases], [np.uint8(reason) for _, reason in cases], np.uint8(otherwise))

    lone = proved.is_lone & proved.arrived  # as a reply to what nobody may have asked
    leaks = blocked & (reach > gate)
    by_rule = choose(
        (lone & reply_denied, DENIED_UNASKED),
        (denied & leaks, PASSED_AND_STOPPED),
        (leaks & by_reply, REPLY_LEAK),
        (leaks & proved.answered, ANSWERED_LEAK),
        (leaks & proved.arrived & ~lone, ARRIVED_LEAK),
        (leaks, PASSED_LEAK),
        (lone, NOBODY_ASKED),
        (denied & at_gate & ~by_reply, STOPPED_AS_SAID),
        (denied, STOPPED_ELSEWHERE),
        (reply_denied & by_reply & reply_at_gate, REPLY_STOPPED),
        (reply_denied, STOPPED_ELSEWHERE),
        (proved.reset_alone | (refused & ~proved.has_request), ENDED_EARLY),
        (refused & rejects, REFUSED_AS_SAID),
        (refused, REFUSED_ELSEWHERE),
        (proved.unclear, UNCLEAR_REPLY),
        (by_reply & proved.arrived, REPLY_TO_COME),
        (by_reply & is_seen, PASSED_AS_SAID),
        (silent, SILENT_AS_SAID),
        (proved.is_marked, SEEN_BEFORE),
        (proved.passed, WHERE_NOT_TOLD),
        otherwise=NOT_TOLD,
    )
    by_end = choose(
        (lone & reply_denied, DENIED_UNASKED),
        (lone, NOBODY_ASKED),
        ((proved.arrived | proved.answered) & (end >= 0), INVENTORY),
        (denied, STOPPED_ELSEWHERE),
        (refused & ~proved.has_request, ENDED_EARLY),
        (refused & rejects, REFUSED_AS_SAID),
        (refused, REFUSED_ELSEWHERE),
        (proved.unclear, UNCLEAR_REPLY),
        (silent, SILENT_AS_SAID),
        otherwise=SEEN_BEFORE,
    )
    in_doubt = unknown | not_known.any(axis=1)
    allowed = choose(
        (proved.followed_denied & ((reach >= width) | proved.arrived), FOLLOWED_DENIED),
        (lone & ~reply_denied, LONE_AS_SAID),
        ((reach >= width) & unknown, ANSWERED_IN_DOUBT),
        (reach >= width, ANSWERED_AS_SAID),
        (denied & in_doubt, RESTS_ON_UNKNOWN),
        (denied, DENIED_BREAK),
        (reply_denied & in_doubt, RESTS_ON_UNKNOWN),
        (reply_denied & proved.is_strange, REPLY_ELSEWHERE),
        (reply_denied & proved.is_by_public & ~proved.has_request, REPLY_TO_WHOM),
        (reply_denied, REPLY_BREAK),
        (refused & ~proved.has_request, ENDED_EARLY),
        (refused & in_doubt, RESTS_ON_UNKNOWN),
        (refused & ~heard, REFUSED_UNSURE),
        (refused, REFUSED_BREAK),
        (proved.unclear, UNCLEAR_REPLY),
        (silent & in_doubt, RESTS_ON_UNKNOWN),
        (silent & ~proved.is_tcp, SILENT_UDP),
        (silent & ~heard, SILENT_UNSURE),
        (silent, SILENT_BREAK),
        (proved.arrived, ARRIVED_AS_SAID),
        otherwise=PASSED_AS_SAID,
    )
    reason = np.where(blocked, by_rule, np.where(end >= 0, by_end, allowed)).astype(np.uint8)
    to_nothing = (proved.context == UNASKED) & ~proved.refused & ~proved.unclear & ~IS_LEAK[reason]
    reason[to_nothing & (reason != DENIED_UNASKED) & (reason != NOBODY_ASKED)] = REPLY_TO_NOTHING
    return reason


def of_first_alone(reason: NDArray[np.uint8], followed_denied: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """Reasons of flows that the rules allow, where these stop what follows the first packet and its answer (S35)."""
    through = (reason == ANSWERED_AS_SAID) | (reason == FOLLOWED_DENIED)
    cases = [through, (reason == DENIED_BREAK) & followed_denied, reason == REFUSED_BREAK]
    codes = [np.uint8(each) for each in (FIRST_ALONE, FOLLOWED_AS_SAID, FIRST_ALONE_UNSURE)]
    return np.select(cases, codes, reason)


def _reach(gates: Gates, proved: Proved) -> NDArray[np.int64]:
    """How many gates were passed for sure. What passed at a point that nobody knows has passed none for sure: it may
    have been recorded in front of all of them (E5)."""
    reach = np.where(proved.arrived, np.maximum(proved.reach, gates.request), proved.reach)
    found: NDArray[np.int64] = np.where(proved.answered, gates.action.shape[1], reach)
    return found


def _first(chosen: NDArray[np.bool_]) -> NDArray[np.int64]:
    """The first chosen column of each row, -1 for none."""
    if not chosen.shape[1]:
        return np.full(len(chosen), -1, dtype=np.int64)
    return np.where(chosen.any(axis=1), chosen.argmax(axis=1), -1)


def standing(reason: NDArray[np.uint8]) -> tuple[NDArray[np.uint8], NDArray[np.uint8]]:
    """A number for each reason, equal for those of one status; and one equal for those that prove the same."""
    return _STATUS[reason], _WORTH[reason]


def by_every_port(reason: NDArray[np.uint8], first: NDArray[np.int64]) -> NDArray[np.uint8]:
    """What holds whichever client port it was sent from: that of the lowest, where all come to the same. `reason` are
    the reasons by each port, one flow's after another's, which begin at `first`."""

    def is_same(told: NDArray[np.uint8]) -> NDArray[np.bool_]:
        found: NDArray[np.bool_] = np.minimum.reduceat(told, first) == np.maximum.reduceat(told, first)
        return found

    matters = ~is_same(_STATUS[reason] * np.uint8(2) + _AS_FAR_AS_SEEN[reason])
    return np.select(
        [matters, ~is_same(_WORTH[reason])], [np.uint8(PORTS_UNKNOWN), np.uint8(AS_RECORDED)], reason[first]
    )


def whichever(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """What holds whichever address of the receiver was used: the first, where both come to the same."""
    return _in_common(one, other, WHICH_ADDRESS)


def either(one: NDArray[np.uint8], other: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """What holds whoever of both ends began (clause E2): the first, where both come to the same."""
    return _in_common(one, other, WHO_BEGAN)


def _in_common(one: NDArray[np.uint8], other: NDArray[np.uint8], matters: int) -> NDArray[np.uint8]:
    """What two possibilities come to: `matters` where their statuses differ, and where one agrees by a better proof
    than the other, or by that of another thing, no more than that."""
    cases = [_STATUS[one] != _STATUS[other], _WORTH[one] != _WORTH[other]]
    return np.select(cases, [np.uint8(matters), np.uint8(AS_RECORDED)], one)
