"""What flow records prove, one conversation after the other, by the walk alone and by plain means: the same clauses
(E1 to E13) as the evaluator's, in none of its code."""

import collections
import dataclasses
import math

from kiboko.core.evidence.comparison import Comparison
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import UNTOLD, WELL_KNOWN, Service, parse_services
from kiboko.core.network.model import listened
from kiboko.core.tables.lines import AddressLine, service_line

PAUSE = 300
ENDS = ("source", "destination", "listener")
NEIGHBOURS = (130, 131, 132, 133, 134, 135, 136, 137, 141, 142, 143, 148, 149, 151, 152, 153)
ERRORS = {1: (3, 4, 5, 11, 12), 58: (1, 2, 3, 4)}
ASSIGNED = {1: {0, 3, 4, 5, 6, *range(8, 19), *range(30, 44), 253, 254},
            58: {1, 2, 3, 4, 100, 101, *range(128, 162), 200, 201}}  # fmt: skip
AS_FAR_AS_SEEN = [("agree", text) for text in ("it ", "what came from outside", "answered, through a gate", "recorded before",
                                               "denied, as the rules say of what follows", "no answer was recorded")]  # fmt: skip
AS_RECORDED = "agree", "as far as it was recorded"
AS_FAR_AS_SEEN.append(AS_RECORDED)
# What other agreement tests not the gate that decides, but something else.
ELSEWHERE = ("stopped, but not", "it passed the gate that stops it by the rules, and", "refused, where")
OTHER_TEXTS = {**dict.fromkeys(ELSEWHERE, "elsewhere"), "the filters let it pass": "inventory",
               "answered, as the rules say, which": "first alone"}  # fmt: skip
NOT_TOLD, WHERE = "the record does not say whether it passed", "it passed somewhere"

DENIED_UNASKED = "unsure", "a reply from outside that was denied"
NOBODY_ASKED = "unsure", "a reply from outside, to nothing"
PERHAPS_FORGED = "unsure", "it came from outside, of no connection"
OPENINGS = {4: (44, 102), 6: (64, 122)}
"""Between how many octets an opening of TCP has."""


def seconds(moment):
    return moment.timestamp() if moment is not None else None


def size_of(record):
    """The octets of a packet in the mean; None where that is not recorded."""
    return record.octets / record.packets if record.octets and record.packets else None


def seen(record):
    """As many packets as an exporter has surely seen: both counts may be multiplied by the rate at which it samples."""
    return record.packets // max(1, math.gcd(record.packets, record.octets or 0)) if record.packets else 0


def goes_on(records):
    """Whether some records of a connection, with their sides, tell of more than its opening and the answer to it."""
    flags = [(r.tcp_flags or 0) & 0x3F for r, _ in records]
    large = {4: 102, 6: 122}[records[0][0].source.family]
    return any(f & 0x09 or f & 0x16 == 0x10 for f in flags) or any(
        not f and size_of(r) is not None and size_of(r) > large for f, (r, _) in zip(flags, records, strict=True)
    )


def is_from_its_beginning(records):
    """Whether its opening is among them, or is taken to be, where no flags are recorded."""
    flags = [(r.tcp_flags or 0) & 0x3F for r, _ in records]
    return any(f & 2 for f in flags) if any(flags) else len({side for _, side in records}) == 2


def is_no_echo(size, asked):
    """Whether a packet of this size may be no echo of those of the sizes that were asked by."""
    if None in asked:
        return False
    return max(asked) >= 256 or (size is not None and not min(asked) - 8 <= size <= max(asked) + 8)


def worth(found):
    """What an agreement is worth: what two are worth that say the same."""
    return "as far" if found in AS_FAR_AS_SEEN else OTHER_TEXTS.get(found[1]) if found[0] == "agree" else None


def in_common(found, matters):
    """What several possibilities come to: `matters` where their statuses differ."""
    if len({status for status, _ in found}) > 1:
        return matters
    return found[0] if len(set(map(worth, found))) == 1 else AS_RECORDED


def stretches(walker, served, source, service):
    """A client port of each stretch of a sender's that no service, rule or listener begins or ends in."""
    starts = service_line(walker.ground, served).starts.tolist()
    for low, high in walker.source_ports(source, service):
        yield low
        for start in starts:
            if start >> 16 == service.protocol and low < start & 0xFFFF <= high:
                yield start & 0xFFFF


class Conversation:
    """Records of one exchange, each with whether it is of the second end."""

    def __init__(self):
        self.records = []

    def times(self):
        """When its records began and ended, of those that say so."""
        starts = [seconds(r.start) for r, _ in self.records if r.start is not None]
        return starts, [seconds(r.end or r.start) for r, _ in self.records if r.end or r.start]


class PlainJudge:
    """Judges lists of records over one network."""

    def __init__(self, walker):
        self.walker, self.directory, self.topology = walker, walker.directory, walker.topology
        comparison = Comparison(walker)
        self.line = AddressLine(walker.ground)
        self.served, self.is_foreign = comparison.served, comparison.ends.is_foreign
        self.known = {}

    def judged(self, records):
        """The status and the reason of each record."""
        if all(r.service.detail in (0, UNTOLD) for r in records if r.service.protocol == 1):
            untold = Service(1, UNTOLD)
            records = [dataclasses.replace(r, service=untold) if r.service.protocol == 1 else r for r in records]
        self.points_in_order = list(dict.fromkeys([None, *(record.point for record in records)]))
        self.without_frames = {
            r.point for r in records
            if r.service.protocol == 6 and size_of(r) is not None and size_of(r) < {4: 54, 6: 74}[r.source.family]
        }  # fmt: skip
        conversations = self.brought_together(records)
        self.mixed = {id(record) for each in conversations for record in self.of_both_directions(each)}
        self.fragments = {id(record) for record in self.perhaps_fragments(conversations)}
        self.strays = {id(record) for each in conversations for record in self.of_no_connection(each)}
        self.ends_of_others = set()
        self.short = {id(record) for each in conversations for record in self.short_alone(each)}
        self.telling = {r.point for r in records if r.service.protocol == 6 and (r.tcp_flags or 0) & 0x3F}
        self.ends_of_others = set(self.perhaps_ends(conversations, self.places_left_out(conversations, records)))
        silent, unasked = self.around(conversations, records)
        found = {}
        for number, each in enumerate(conversations):
            context = "silent" if number in silent else "unasked" if number in unasked else ""
            result = self.of(each, context)
            for record, _ in each.records:
                found[id(record)] = result
        return [found[id(record)] for record in records]

    # E1.

    def identity(self, address):
        end = self.directory.endpoint(address)
        return end.address if end.interface is not None else address

    def key(self, record):
        """What is equal within a conversation, and the side that a record comes from."""
        ours = not self.is_foreign(record.source) and not self.is_foreign(record.destination)
        shows = any(self.directory.public_owner(each) is not None for each in (record.source, record.destination))
        key, side = self.key_of_ends(record)
        return (*key, ours and shows), side

    def key_of_ends(self, record):
        near, far = self.identity(record.source), self.identity(record.destination)
        protocol, detail = record.service.protocol, record.service.detail
        if protocol in (1, 58):
            asks, answers = {1: (8, 0), 58: (128, 129)}[protocol]
            if detail >> 8 == answers:
                return (far, near, protocol, "echo"), True
            return (near, far, protocol, "echo" if detail >> 8 == asks else detail), False
        if record.service.has_ports:
            port = record.source_port or 0
            one, other = (near.family, near.value, port), (far.family, far.value, detail)
        else:
            one, other = (near.family, near.value, -1), (far.family, far.value, -1)
        return ((one, other, protocol), False) if one <= other else ((other, one, protocol), True)

    def brought_together(self, records):
        by_key = {}
        for record in records:
            key, side = self.key(record)
            by_key.setdefault(key, []).append((record, side))
        found = []
        for listed in by_key.values():
            listed.sort(key=lambda pair: seconds(pair[0].start))
            latest = None
            for record, side in listed:
                if latest is None or seconds(record.start) - latest > PAUSE:
                    found.append(Conversation())
                    latest = seconds(record.end or record.start)
                found[-1].records.append((record, side))
                latest = max(latest, seconds(record.end or record.start))
        begins = self.first_at_points(records)
        fine = any(seconds(r.start) % 1 for r in records if r.point is not None)
        self.telling_times = self.points_with_beginnings(found, begins)
        for each in found:
            each.began, each.by = self.who_began(each, begins, 0.001 if fine else 1)
        for each in found:
            ends = self.echo_of(each)
            if ends is not None and ends[2] == {"answers"}:
                each.began, each.by = None, "nothing"
        return found

    def perhaps_fragments(self, conversations):
        """The echo replies of whoever asks the one that asked by large packets, of which they may be parts."""
        asked = {conversation: ends for conversation in conversations if (ends := self.echo_of(conversation))}
        by_large = {
            ends[:2] for conversation, ends in asked.items()
            if any(r.service.detail == 2048 and not (r.packets and r.octets and r.octets / r.packets < 256)
                   for r, _ in conversation.records)
        }  # fmt: skip
        for conversation, ends in asked.items():
            if ends[2] == {"asks", "answers"}:
                sizes = [size_of(r) for r, _ in conversation.records if r.service.detail == 2048]
                yield from (
                    r for r, _ in conversation.records
                    if r.service.detail == 0 and (ends[1::-1] in by_large or is_no_echo(size_of(r), sizes))
                )  # fmt: skip

    def echo_of(self, conversation):
        """Who asks and who answers by echo of IPv4, and which of both is recorded; None for anything else."""
        first, side = conversation.records[0]
        kinds = {{8: "asks", 0: "answers"}.get(r.service.detail >> 8) for r, _ in conversation.records}
        if first.service.protocol != 1 or None in kinds:
            return None
        ends = self.identity(first.source), self.identity(first.destination)
        return (*(ends[::-1] if side else ends), kinds)

    def first_at_points(self, records):
        """When each point begins, and as much later as the longest record, of which an earlier part may be missing."""
        pointed = [r for r in records if r.point is not None and r.start is not None]
        longest = max((seconds(r.end) - seconds(r.start) for r in pointed if r.end is not None), default=0)
        return {point: min(seconds(r.start) for r in pointed if r.point == point) + max(0, longest)
                for point in {r.point for r in pointed}}  # fmt: skip

    # E2.

    def clock_of(self, conversation):
        """The point by whose clock it is told who sent first, and the records there."""
        pointed = [(r, side) for r, side in conversation.records if None not in (r.point, r.start)]
        clock = min((r.point for r, _ in pointed), key=self.points_in_order.index, default=None)
        return clock, [(r, side) for r, side in pointed if r.point == clock]

    def points_with_beginnings(self, conversations, begins):
        """The points where enough connections of TCP that go on, and began long behind the first record, show that
        their beginnings are recorded."""
        every, whole = collections.Counter(), collections.Counter()
        for conversation in conversations:
            clock, there = self.clock_of(conversation)
            if not there or there[0][0].service.protocol != 6:
                continue
            if min(seconds(r.start) for r, _ in there) < begins[clock] + PAUSE:
                continue
            if goes_on(there):
                every[clock] += 1
                whole[clock] += is_from_its_beginning(there)
        return {point for point, count in every.items() if count >= 4 and whole[point] >= 0.75 * count}

    def who_began(self, conversation, begins, resolution):
        def which(test):
            return tuple(any(test(r) for r, side in conversation.records if side == wanted) for wanted in (False, True))

        first = conversation.records[0][0]
        protocol = first.service.protocol
        tcp = protocol == 6

        def flagged(record, mask, value):
            return tcp and record.tcp_flags is not None and record.tcp_flags & mask == value

        opening = which(lambda r: flagged(r, 0x12, 0x02))
        if opening[0] != opening[1]:
            return opening[1], "opening"
        if protocol in (1, 58):
            return False, "type"
        clock, there = self.clock_of(conversation)
        if there:
            starts = [[seconds(r.start) for r, side in there if side == wanted] for wanted in (False, True)]
            if all(starts):
                firsts = [
                    [flagged(r, 0x02, 0x02) for r, side in there
                     if side == wanted and seconds(r.start) == min(starts[wanted])]
                    for wanted in (False, True)
                ]  # fmt: skip
                is_late = clock in self.telling_times and min(map(min, starts)) >= begins[clock] + PAUSE
                begun = all(map(any, firsts)) if tcp else is_late
                difference = min(starts[1]) - min(starts[0])
                is_place = self.topology.observation_point(clock) is not None
                serves = self.serving(conversation.records[0])
                began = [[r for r, side in there if side == wanted and seconds(r.start) == min(starts[wanted])]
                         for wanted in (False, True)]  # fmt: skip
                ended = [max(seconds(r.end or r.start) for r in each) for each in began]
                if tcp:
                    begun = begun and ended[difference < 0] >= min(starts[difference >= 0])
                elif any(r.packets != 1 and (r.end or r.start) <= r.start for each in began for r in each):
                    begun = False
                if begun and abs(difference) > (resolution if is_place else max(resolution, 0.05)) + 1e-5:
                    is_disputed = serves[0] != serves[1] and serves[0] != (difference < 0)
                    if is_disputed and abs(difference) <= max(resolution, 0.05) + 1e-5:
                        return None, "nothing"
                    return difference < 0, "time"
        serves = self.serving(conversation.records[0])
        if serves[0] != serves[1]:
            return serves[0], "ports"
        return None, "nothing"

    def is_sent_to(self, number):
        """Whether a port is below 1024, is named or listened to, or is one of few in a row that a rule names."""
        protocol, port = number >> 16, number & 0xFFFF
        if number == 6 << 16 | 20 or port < 1024:
            return number != 6 << 16 | 20
        topology = self.topology
        by_clients = [topology.defaults.ephemeral_ports, *(
            each.ephemeral_ports for each in (*topology.instances.values(), *topology.outsides.values())
            if each.ephemeral_ports
        )]  # fmt: skip
        is_clients = port >= 32768 or any(port in each for each in by_clients)
        named = [parse_services(text) for texts in WELL_KNOWN.values() for text in texts]
        named += [*listened(topology.instances.values()), *topology.services.values()]
        rules = [rule.services for chosen in topology.filters.values() for rule in chosen.every_rule()]
        for sets, is_rule in ((named, False), (filter(None, rules), True)):
            for low, high in (each for services in sets for each in services):
                if low <= number <= high and (
                    high - low < 16 or (not (is_rule or is_clients) and (low >> 16, high >> 16) == (protocol, protocol))
                ):
                    return True
        return False

    def serving(self, pair):
        """Of the first and the second end, whether its port is listened to, listed or below 1024."""
        record, side = pair
        if not record.service.has_ports:
            return False, False
        protocol = record.service.protocol << 16
        ports = [record.source_port, record.service.detail]
        for number in (protocol | port for port in ports if port):
            if number not in self.known:
                self.known[number] = self.is_sent_to(number)
        found = [bool(port) and self.known[protocol | port] for port in ports]
        return tuple(found[::-1] if side else found)

    # E7, E8.

    def around(self, conversations, records):
        latest = {}
        for record in records:
            latest[record.point] = max(latest.get(record.point, 0), seconds(record.end or record.start))
        whole, whole_beyond, lost, cells = set(), set(), set(), []
        for number, each in enumerate(conversations):
            if each.began is None:
                continue
            initiator, responder = self.ends(each, each.began)
            subnet = self.directory.endpoint(responder).subnet
            is_beyond = subnet is None and self.is_foreign(responder)
            if is_beyond:
                subnet = self.directory.endpoint(initiator).subnet
            if subnet is None:
                continue
            starts, ends = each.times()
            bucket = int(min(starts) // PAUSE)
            acknowledged = any(self.kind(r, by_itself=True) == "ack" for r, side in each.records if side == each.began)
            sides = {side for _, side in each.records}
            for point in {r.point for r, _ in each.records}:
                here = {side for r, side in each.records if r.point == point}
                asks, answers = each.began in here, (not each.began) in here
                if asks and answers:
                    (whole_beyond if is_beyond else whole).add((point, subnet.name, bucket))
                elif is_beyond:
                    pass
                elif asks and acknowledged and (max(ends) - min(starts) <= 20 or any(
                    self.kind(r, by_itself=True) == "ack" for r, side in each.records
                    if side == each.began and r.point == point
                )):  # fmt: skip
                    lost.add(point)
                settled = max(ends) + 10 <= latest[point]
                asked = [r for r, side in each.records if side == each.began]
                odd = any(self.kind(r, by_itself=True) == "other" for r, _ in each.records)
                if all(self.kind(r) == "reset" for r in asked) or (odd and "opening" not in map(self.kind, asked)):
                    settled = False
                cells.append(
                    (number, point, subnet.name, bucket, asks, answers, acknowledged, sides, each.began, settled,
                     is_beyond)
                )  # fmt: skip
        silent, unasked = set(), set()
        for number, point, subnet, bucket, asks, answers, acknowledged, sides, began, settled, is_beyond in cells:
            met = whole | whole_beyond if is_beyond else whole
            if not any((point, subnet, bucket + step) in met for step in (-1, 0, 1)):
                continue
            if (
                not is_beyond
                and asks
                and (not began) not in sides
                and not acknowledged
                and settled
                and point not in lost
            ):
                silent.add(number)
            if answers and began not in sides:
                unasked.add(number)
        return silent, unasked

    def of_both_directions(self, conversation):
        """The records whose flags may be those of both directions together."""

        def has(record, reset):
            flags = record.tcp_flags or 0
            return (
                record.service.protocol == 6 and flags & 0x12 == 0x12 and not flags & 0x09 and bool(flags & 4) >= reset
            )

        def sides(test):
            return {side for record, side in conversation.records if test(record)}

        recorded, reset = sides(lambda r: True), sides(lambda r: has(r, True))
        flagged = sides(lambda r: (r.tcp_flags or 0) & 0x3F)
        several = sides(lambda r: r.packets > 1)
        for record, side in conversation.records:
            flags = (record.tcp_flags or 0) & 0x3F
            if record.service.protocol == 6 and recorded - {side} and not flagged - {side} and flags & 6 and flags != 2:
                followed = flags & 0x12 == 0x12 and flags & 0x09
                if not followed or (flags & 4 and not (record.packets > 1 and several - {side})):
                    yield record
        single = sides(lambda r: has(r, False) and r.packets == 1)
        for record, _ in conversation.records:
            if has(record, True):
                if len(recorded) == 1 or len(reset) == 2 or record.packets == 1:
                    yield record
            elif has(record, False) and record.packets == 1 and len(single) == 2:
                yield record

    def of_no_connection(self, conversation):
        """The records whose packets may belong to no connection: without an opening, or an answer to one, and met by
        nothing but resets; or a single acknowledgement without data, alone."""

        def form(record):
            flags = (record.tcp_flags or 0) & 0x3F
            if record.service.protocol != 6 or not flags & 0x14:
                return "other"
            if flags in (0x04, 0x14):
                return "reset"
            if flags & 0x12 == 0x12:
                return "other" if flags & 0x0D else "answer"
            return "ack" if flags & 0x10 else "other"

        for mine in (False, True):
            records = [record for record, side in conversation.records if side == mine]
            forms = {form(record) for record in records}
            others = {form(record) for record, side in conversation.records if side != mine}
            small = all(r.packets == 1 and r.octets <= self.largest_reset(r) for r in records)
            if (forms in ({"ack"}, {"answer"}) and others == {"reset"}) or (forms == {"ack"} and not others and small):
                yield from records

    def short_alone(self, conversation):
        """The records without flags of a few packets too short for an opening, where one direction alone was recorded."""
        if len({side for _, side in conversation.records}) == 1:
            for record, _ in conversation.records:
                is_told = record.service.protocol != 6 or (record.tcp_flags or 0) & 0x3F
                size = size_of(record)
                if not is_told and seen(record) <= 16 and size and self.is_too_short(record):
                    yield record

    def places_left_out(self, conversations, records):
        """The points of each file where the beginnings of many connections that go on are not recorded, and some have
        one direction alone."""
        first = {}
        for r in records:
            if r.start is not None:
                place = r.file, r.point
                first[place] = min(first.get(place, math.inf), seconds(r.start))
        every, whole, alone = (collections.Counter() for _ in range(3))
        for conversation in conversations:
            ahead = [seconds(r.start) - first[r.file, r.point] for r, _ in conversation.records if r.start is not None]
            if conversation.records[0][0].service.protocol != 6 or not ahead or min(ahead) < PAUSE - 1e-5:
                continue
            for place in {(r.file, r.point) for r, _ in conversation.records}:
                there = [pair for pair in conversation.records if (pair[0].file, pair[0].point) == place]
                if goes_on(there):
                    every[place] += 1
                    whole[place] += is_from_its_beginning(there)
                    alone[place] += len({side for _, side in there}) == 1
        found = set()
        for place in {(r.file, r.point) for r in records}:
            counts = [each[place] if every[place] else each.total() for each in (every, whole, alone)]
            if counts[1] < 0.75 * counts[0] and (counts[2] >= counts[0] / 20 or counts[0] < 40):
                found.add(place)
        return found

    def perhaps_ends(self, conversations, places):
        """The resets that met an opening, where they may be the ends of what was answered in between."""
        for conversation in conversations:
            if not any((r.file, r.point) in places for r, _ in conversation.records):
                continue
            for mine in (False, True):
                kinds = {self.kind(r) for r, side in conversation.records if side == mine}
                others = [r for r, side in conversation.records if side != mine]
                if "opening" in kinds and {self.kind(r) for r in others} == {"reset"}:
                    yield from map(id, others)

    def flags(self, record):
        """The flags that its sender has sent: of a session that was refused a log may have those of both sides."""
        is_doubtful = id(record) in self.mixed or id(record) in self.strays
        return 0 if is_doubtful else (record.tcp_flags or 0) & 0x3F

    def kind(self, record, by_itself=False):
        if id(record) in self.short and not by_itself:
            return "reset"
        if id(record) in self.ends_of_others and not by_itself:
            return "none"
        flags = (record.tcp_flags or 0) & 0x3F if by_itself else self.flags(record)
        if record.service.protocol != 6 or not flags:
            return "none"
        if flags & 0x12 == 0x02:
            return "opening"
        if flags & 0x3F in (0x04, 0x14):
            return "reset"
        return "ack" if flags & 0x10 else "other"

    def is_answer(self, record):
        """Whether a record of whoever was sent to is surely one of its own, and no refusal."""
        if id(record) in self.strays or id(record) in self.fragments or id(record) in self.ends_of_others:
            return False
        if record.service.protocol == 6 and not self.flags(record) and id(record) not in self.short:
            return record.octets > (record.packets or 8) * self.largest_reset(record)
        return self.kind(record) != "reset"

    # Ends.

    def ends(self, conversation, began):
        """The sender's own address, and the one of the receiver."""
        record, side = conversation.records[0]
        near, far = self.identity(record.source), self.identity(record.destination)
        return (near, far) if side == began else (far, near)

    def whichever(self, conversation, began, context):
        """By the address that was used; where it may have been another one, what both come to."""
        target, other = self.targets(conversation, began)
        found = self.aged(conversation, self.judge(conversation, began, context, target))
        if other is None:
            return found
        again = self.aged(conversation, self.judge(conversation, began, context, other))
        return in_common([found, again], ("unsure", "whether it was sent to the public or"))

    def targets(self, conversation, began):
        """The address that was used, and another one that may have been."""
        sender, receiver = self.ends(conversation, began)
        owner = self.directory.interface_at(receiver)
        if owner is None or owner.public is None or owner.address(4) != receiver:
            return receiver, None
        shown = any(self.directory.public_owner(a) is not None for r, _ in conversation.records
                    for a in (r.source, r.destination))  # fmt: skip
        gateways = [self.topology.gateways.get(point.name or "") for r, _ in conversation.records
                    if (point := self.topology.observation_point(r.point)) is not None]  # fmt: skip
        internet = any(each is not None and each.kind == "internet" for each in gateways)
        outside = self.directory.endpoint(sender).outside
        network = self.topology.subnets[owner.subnet].network
        at_the_edge = any(
            (point := self.topology.observation_point(r.point)) is not None and point.name in self.topology.outsides
            and self.directory.public_owner(r.source) is None and self.directory.public_owner(r.destination) is None
            for r, _ in conversation.records)  # fmt: skip
        from_outside = outside is not None and self.directory.tunnel(network, outside.name) is None and not at_the_edge
        if shown or internet or from_outside:
            bare = any(self.directory.public_owner(r.source) is None and self.directory.public_owner(r.destination) is None
                       for r, _ in conversation.records)  # fmt: skip
            return owner.public, receiver if outside is not None and not from_outside and bare else None
        first = conversation.records[0][0]
        is_sure = at_the_edge and first.service.has_ports and first.source_port and first.service.detail
        is_sure = is_sure and self.directory.tunnel(network, outside.name) is None
        return receiver, owner.public if outside is not None and not is_sure else None

    # E3 to E11.

    def is_lone(self, conversation):
        """Whether nothing was recorded but what somebody beyond the network sent, without an opening, and resets of
        ours, and too little of it to be sure of a connection."""
        for began in (False, True):
            end, other = self.ends(conversation, began)
            if self.is_foreign(end) and not self.is_foreign(other):
                if conversation.began == began and (
                    conversation.records[0][0].service.protocol != 6
                    or any(map(self.may_open, (r for r, _ in conversation.records)))
                ):
                    return False
                sent = [r for r, side in conversation.records if side == began]
                answers = [r for r, side in conversation.records if side != began and self.is_answer(r)]
                openings = [r for r in sent if self.kind(r) == "opening"]
                return bool(sent) and not answers and not openings and not self.is_session(conversation)
        return False

    def is_session(self, conversation):
        """Whether TCP goes on behind an opening and its answer, or by more packets than anybody sends in vain."""
        return any(
            self.kind(r) == "ack" and r.event != "denied"
            and (seen(r) > 16 or (r.tcp_flags & 0x12 == 0x12 and r.tcp_flags & 0x09 and r.packets != 1))
            for r, _ in conversation.records
        )  # fmt: skip

    def of(self, conversation, context):
        lone = self.is_lone(conversation)
        first_record = conversation.records[0][0]
        if lone and context == "silent" and first_record.service.protocol == 6:
            context = ""
        if conversation.began is None:
            first = min(conversation.records, key=lambda pair: pair[0].line)[1]
            first = first and self.echo_of(conversation) is None  # a reply, if it is one
            one = self.whichever(conversation, first, context)
            other = self.whichever(conversation, not first, context)
            if one[0] != other[0]:
                is_icmp = conversation.records[0][0].service.protocol in (1, 58)
                return "unsure", "an echo reply, or a" if is_icmp else "who began is not recorded, and it matters"
            if lone and one[0] == "leak" and first_record.service.protocol in (1, 58):
                return NOBODY_ASKED
            return in_common([one, other], None)
        found = self.whichever(conversation, conversation.began, context)
        is_reply = lone and self.is_foreign(self.ends(conversation, conversation.began)[1])
        if (context == "unasked" or is_reply) and found[0] == "leak":
            other = self.whichever(conversation, not conversation.began, context)
            if other[0] != "leak" or (lone and first_record.service.protocol in (1, 58)):
                return NOBODY_ASKED if lone else ("unsure", "a reply to nothing that was recorded")
        return found

    def may_be_late(self, conversation, began):
        """Whether what was denied may be of a conversation that a firewall had forgotten."""
        records, tcp = conversation.records, conversation.records[0][0].service.protocol == 6
        denied = [r for r, _ in records if r.event == "denied"]
        if tcp and any((r.tcp_flags or 0) & 0x02 for r, _ in records) and not self.is_lone(conversation):
            return False
        surely = tcp and not any(map(self.may_open, denied))
        return bool(denied) and (surely or all(side != began for _, side in records))

    def are_late_replies(self, conversation, began):
        """Whether each reply that was denied came a second behind one that had passed there, or twenty behind the last
        packet of whoever asked."""
        asked = [seconds(r.end or r.start) for r, side in conversation.records if side == began and (r.end or r.start)]
        replies = [r for r, side in conversation.records if side != began]

        def is_late(reply):
            if reply.start is None:
                return False
            passed = [r for r in replies if r.event == "passed" and r.point == reply.point and r.start is not None]
            return any(seconds(reply.start) - 1 >= seconds(r.start) - 1e-5 for r in passed) or bool(
                asked and seconds(reply.start) - 20 >= max(asked) - 1e-5
            )

        return all(is_late(r) for r in replies if r.event == "denied")

    def may_open(self, record):
        """Whether a record of TCP, of which no flag is known, may be of an opening."""
        if (record.tcp_flags or 0) & 0x3F or (record.tcp_flags == 0 and record.point in self.telling):
            return False
        most = OPENINGS[record.source.family][1]
        return size_of(record) is None or (not self.is_too_short(record) and size_of(record) <= most)

    def largest_reset(self, record):
        """With a frame around it, and padded to the shortest that there is, unless shorter records show that its point
        counts none."""
        bare, padded = {4: (58, 68), 6: (78, 82)}[record.source.family]
        return bare if record.point in self.without_frames else padded

    def is_too_short(self, record):
        """Whether the packets of a record are, or may be, shorter than an opening."""
        size = size_of(record)
        return size < OPENINGS[record.source.family][0] or (
            record.point not in self.without_frames and size <= self.largest_reset(record)
        )

    def aged(self, conversation, found):
        as_of = seconds(self.topology.as_of)
        starts, ends = conversation.times()
        if as_of is None or found[0] not in ("leak", "break") or (starts and min(starts) >= as_of):
            return found
        if not ends:
            return "unsure", "when it was is not recorded"
        if max(ends) < as_of:
            return "unsure", "recorded before the time that the network file tells of"
        if found[0] == "leak":
            return "unsure", "the session began before the time" if starts else "when the session began is not recorded"
        return found

    def judge(self, conversation, began, context, target=None):
        sender, _ = self.ends(conversation, began)
        target = target or self.targets(conversation, began)[0]
        first = conversation.records[0][0]
        for address in (sender, target):
            if self.directory.why_undeliverable(address) is not None:
                return "unsure", "no router delivers"
        if self.is_foreign(sender) and self.is_foreign(target):
            return "unsure", "both ends are outside"
        record, side = conversation.records[0]
        if record.service.has_ports and not (record.service.detail if side == began else record.source_port):
            return "unsure", "what it was sent to is not recorded"
        if record.service.protocol in (0, 44):
            return "unsure", "what it was sent to is not recorded"
        if record.service.protocol == 58 and record.service.detail >> 8 in NEIGHBOURS:
            return "unsure", "neighbour discovery"
        if self.directory.shared_owner(sender) is None and self.is_alike(sender, target):
            return "unsure", "both ends are of one machine"
        protocol, detail = first.service.protocol, first.service.detail
        record, side = conversation.records[0]
        port = None
        if record.service.has_ports:
            ports = (record.source_port, detail) if side == began else (detail, record.source_port)
            port, detail = ports[0] or None, ports[1]
        elif protocol in (1, 58) and detail >> 8 == {1: 0, 58: 129}[protocol]:
            detail = {1: 8, 58: 128}[protocol] << 8
        service = Service(protocol, detail)
        gateway = self.directory.shared_owner(sender)
        if gateway is not None:
            found = self.behind(gateway, conversation, began, target, service, port, context)
        else:
            end = self.directory.endpoint(sender)
            found = self.by_walk(conversation, began, end, target, service, port, context)
        is_denied = found in (("break", "denied"), ("break", "the reply is denied"))
        if is_denied and self.may_be_late(conversation, began):
            return "unsure", "denied, and what it belongs to was not recorded from"
        if found == ("break", "the reply is denied") and self.are_late_replies(conversation, began):
            return "unsure", "replies were denied that came behind"
        return found

    def is_alike(self, sender, target):
        """Whether both ends are of one machine, or nothing in the network tells their addresses apart."""
        one, other = (self.directory.endpoint(each) for each in (sender, target))
        if one.interface is not None and other.interface is not None:
            return one.interface.instance == other.interface.instance
        return self.line.atom(sender) == self.line.atom(target)

    def behind(self, gateway, conversation, began, target, service, port, context):
        """By every sender whose packets leave by the gateway (by any, where there are none) and every port of theirs:
        a gateway changes those that it records."""
        found = {True: [], False: []}
        for interface in self.directory.interfaces():
            if self.topology.subnets[interface.subnet].network in gateway.networks:
                for address in interface.addresses:
                    if address.family == 4 and not self.is_alike(address, target):
                        end = self.directory.endpoint(address)
                        ports = [port]
                        if service.has_ports:
                            ports = [*stretches(self.walker, self.served, end, service), *([port] if port else [])]
                        told = [self.by_walk(conversation, began, end, target, service, p, context) for p in ports]
                        if len({(status, (status, text) in AS_FAR_AS_SEEN) for status, text in told}) > 1:
                            told = [("unsure", "which client port it had")]
                        elif len(set(map(worth, told))) > 1:
                            told = [AS_RECORDED]
                        elif service.has_ports and told[0][0] == "leak" and self.directory.shared_owner(target):
                            told = [("unsure", "whose reply it is that came from the shared")]
                        elif (
                            service.has_ports
                            and port is None
                            and (
                                self.is_denied_from_beyond(conversation, began, end, target, told[0])
                                or (
                                    told[0][0] == "leak"
                                    and self.rests_on_what_came_from_beyond(conversation, began, end, target, told[0])
                                )
                            )
                        ):
                            told = [("unsure", "the client's port is not recorded: what came")]
                        path = self.walker.paths.forward(end, target)
                        leaves = any(step.gate == "translate" and step.at == gateway.name for step in path.steps)
                        found[leaves].append(told[0])
        every = found[True] or found[False]
        if not every:
            return "unsure", "who sent it from behind"
        return in_common(every, ("unsure", "some that may stand behind"))

    def by_walk(self, conversation, began, source, target, service, port, context):
        if service.has_ports and port is None:
            found = [
                self.by_walk(conversation, began, source, target, service, each, context)
                for each in stretches(self.walker, self.served, source, service)
            ]
            if len({(status, (status, text) in AS_FAR_AS_SEEN) for status, text in found}) > 1:
                return "unsure", "the client's port is not recorded"
            if len(set(map(worth, found))) > 1:
                return AS_RECORDED
            if found[0][0] == "leak" and self.directory.shared_owner(target) is not None:
                return "unsure", "whose reply it is that came from the shared"
            leaks = found[0][0] == "leak"
            if leaks and self.rests_on_what_came_from_beyond(conversation, began, source, target, found[0]):
                return "unsure", "the client's port is not recorded: what came"
            if self.is_denied_from_beyond(conversation, began, source, target, found[0]):
                return "unsure", "the client's port is not recorded: what came"
            return found[0]
        ports = RangeSet.one(port) if port is not None else None
        walk = self.walker.walk(source, target, service, ports)
        asks = any(self.is_answer(r) for r, side in conversation.records if side == began)
        if self.directory.shared_owner(target) is not None and not asks:
            return "unsure", "whose reply it is that came from the shared"
        if service.protocol in ASSIGNED and service.detail >> 8 not in ASSIGNED[service.protocol]:
            return "unsure", "which ICMP message"
        found = self.against(conversation, began, walk, target, context)
        if service.protocol in ERRORS and service.detail >> 8 in ERRORS[service.protocol]:
            denied = any(r.event == "denied" for r, _ in conversation.records)
            stops = [row for row in walk.rows if row.stops]
            if denied or stops:
                return "unsure", "an ICMP error"
        answers = [r for r, side in conversation.records if side != began]
        if found[0] != "leak" and answers and all(id(r) in self.fragments for r in answers):
            return "unsure", "an echo reply, or a"
        return found

    def is_denied_from_beyond(self, conversation, began, source, target, found):
        """Whether only what somebody beyond the network sent, and is no opening, was denied."""
        if found == ("break", "the reply is denied"):
            return self.is_foreign(target)
        return found == ("break", "denied") and self.is_foreign(source.address) and any(
            r.event == "denied" and side == began and self.kind(r) not in ("opening", "reset")
            for r, side in conversation.records
        )  # fmt: skip

    def rests_on_what_came_from_beyond(self, conversation, began, source, target, found):
        """Whether only what somebody beyond the network sent shows that a request came through, or its answer."""
        of_ours = [r for r, side in conversation.records if self.is_foreign(source.address) == (side != began)]
        if self.is_foreign(target):
            return not any(self.kind(r) == "ack" and r.event != "denied" for r in of_ours)
        is_of_reply = found[1].startswith("its reply came back")
        if not self.is_foreign(source.address) or (any(self.is_answer(r) for r in of_ours) and not is_of_reply):
            return False
        asked = [r for r, side in conversation.records if side == began]
        if asked[0].service.protocol == 6 and not any(self.is_answer(r) for r in of_ours):
            return not self.is_lone(conversation) and any(self.kind(r) not in ("opening", "reset") for r in asked)
        return not self.is_lone(conversation) and any(self.kind(r) == "ack" and r.event != "denied" for r in asked)

    def against(self, conversation, began, walk, target, context):
        source = walk.flow.source
        request = [r for r, side in conversation.records if side == began]
        reply = [r for r, side in conversation.records if side != began]
        answering = [r for r in reply if self.is_answer(r)]
        arrived, asks = bool(answering), any(self.is_answer(r) for r in request)
        lone = self.is_lone(conversation)
        answered = not lone and any(self.kind(r) == "ack" and r.event != "denied" for r in request)
        reset_alone = not reply and all(self.kind(r) == "reset" for r in request)
        denied = any(r.event == "denied" for r in request) and not arrived and not answered
        reply_denied = any(r.event == "denied" for r in answering) and not answered
        unclear = (
            not arrived and not answered and any(self.kind(r) == "none" and r.service.protocol == 6 for r in reply)
        )
        refused = bool(reply) and not arrived and not answered and not unclear and not denied
        asks = asks and not (lone and refused)
        forward, back = list(walk.forward), list(walk.reply)
        rows, count = forward + back, len(forward)
        known = {id(r): self.topology.observation_point(r.point) for r in request + answering}
        passed = any(r.event == "passed" and known[id(r)] is None for r in request)
        marked = any(r.event != "denied" and known[id(r)] is not None for r in request + answering)
        reach, asked_for_sure, places, strange, off_way = 0, 0, [], False, False
        for record in request + answering:
            is_reply = any(record is r for r in reply)
            at = self.passage(back if is_reply else forward, record, known[id(record)])
            base = count if is_reply else 0
            if known[id(record)] is None:
                continue
            if not is_reply and self.kind(record) == "reset" and record.event != "denied":
                continue
            if not at:
                strange = strange or (is_reply and record.event == "denied")
                off_way = off_way or (not is_reply and record.event == "denied")
            elif record.event == "denied":
                places += [base + at[0], base + at[-1]]
            elif record.event == "seen":
                reach = max(reach, base + at[0])
            else:
                end = at[0]
                mine = back if is_reply else forward
                while end in at and not (is_reply and mine[end].gate == "translate"):
                    end += 1
                reach = max(reach, base + end)
            if not is_reply:
                asked_for_sure = reach
        passed_for_sure = reach
        if arrived:
            reach = max(reach, count)
        if answered:
            reach = len(rows)
        stops = [i for i, row in enumerate(rows) if row.stops]
        gate = next((i for i in stops if rows[i].gate not in ENDS), None)
        end = next((i for i in stops if i < count and rows[i].gate in ENDS), None)
        listener = [row for row in forward if row.gate == "listener"]
        doubt = any(row.action is None and row.gate != "listener" for row in rows) or any(
            row.possible for row in rows if row.action is None
        )
        found = self.decided(locals())
        if found in (DENIED_UNASKED, NOBODY_ASKED):
            return found
        if context == "unasked" and (arrived or answered) and found[0] != "leak":
            return "unsure", "a reply to nothing that was recorded"
        is_seen_to_pass = gate is not None and passed_for_sure > gate
        echoed = (walk.flow.service.protocol, walk.flow.service.detail >> 8) in ((1, 8), (58, 128))
        if found[0] == "leak" and echoed and not lone and self.is_foreign(target):
            return ("leak", "it passed") if asked_for_sure > gate else ("unsure", "an echo reply from outside")
        is_from_beyond = lone and found[0] == "leak" and self.is_foreign(source.address)
        zones = {each.zone for each in self.topology.outsides.values()}
        if is_from_beyond and (
            not is_seen_to_pass
            or rows[gate].step.at in self.topology.outsides
            or (len(zones) > 1 and rows[gate].step.zones and rows[gate].step.zones[0] in zones)
        ):
            return PERHAPS_FORGED
        if context == "unasked" and found[0] == "leak" and self.is_foreign(source.address) and not is_seen_to_pass:
            return "unsure", "a reply to nothing that was recorded"
        if found[0] == "leak" and gate < count and not answered and (lone or not arrived):
            opens = any(self.kind(each) == "opening" and each.event != "denied" for each in request)
            filters = [self.topology.filters[name] for name in rows[gate].filters if name in self.topology.filters]
            if walk.flow.service.protocol == 6 and not opens and any(each.has_established for each in filters):
                return "unsure", "it passed the gate that stops it by the rules, and no opening"
        return found

    def passage(self, rows, record, point):
        if point is None:
            return []

        def is_at(row):
            if point.crossing is not None:
                return row.step.zones == point.crossing
            return row.at == point.name or row.at.startswith(f"{point.name}/")

        met = [i for i, row in enumerate(rows) if is_at(row)]
        if record.event != "denied" or point.name in self.topology.outsides:
            met = [i for i in met if rows[i].gate != "route"]
        shown = (record.source, record.destination)
        with_these = [i for i in met if (rows[i].step.source, rows[i].step.destination) == shown]
        if not with_these and rows and rows[0].direction == "reply":
            # Behind a gateway that replies leave with a wrong address, others than the rules expect prove nothing.
            wrong = [i for i, row in enumerate(rows) if row.gate == "translate" and row.stops]
            met = [i for i in met if not wrong or i <= wrong[0]]
        met = with_these or met
        while (
            met and record.event != "passed" and met[0] and self.machine(rows[met[0]]) == self.machine(rows[met[0] - 1])
        ):
            if self.machine(rows[met[0]]) is None:
                break
            met.insert(0, met[0] - 1)
        return met

    def machine(self, row):
        """The machine that a gate is of."""
        return row.at.partition("/")[0] if row.gate.startswith(("host", "instance")) else None

    def decided(self, given):
        """Clause E9, as it reads."""
        g = type("Given", (), given)
        silent = g.context == "silent"
        among = g.gate is not None and g.places and min(g.places) <= g.gate <= max(g.places)
        at_gate, reply_at_gate = (among if g.places else not off for off in (g.off_way, g.strange))
        if g.lone and g.arrived and g.reply_denied and (g.gate is not None or g.end is not None):
            return DENIED_UNASKED
        if g.gate is not None:
            rejects = g.rows[g.gate].action == "reject"
            if g.reach > g.gate:
                leak = "leak", "its reply came back" if g.gate >= g.count else ""
                return ("agree", "it passed the gate that stops it by the rules, and") if g.denied else leak
            if g.lone and g.arrived:
                return NOBODY_ASKED
            if g.denied:
                return "agree", "stopped, as" if at_gate and g.gate < g.count else "stopped, but not"
            if g.reply_denied:
                return "agree", "it arrived, and" if reply_at_gate and g.gate >= g.count else "stopped, but not"
            if g.reset_alone or (g.refused and not g.asks):
                return "unsure", "a reset without"
            if g.refused:
                return "agree", "refused, as the rules say" if rejects else "refused, where"
            if g.unclear:
                return "unsure", "something came back"
            if g.gate >= g.count and (g.arrived or g.passed or g.marked):
                return "agree", "it "
            if silent:
                return "agree", "no answer was recorded"
            if g.marked:
                return "agree", "recorded before"
            return ("unsure", WHERE) if g.passed else ("unsure", NOT_TOLD)
        if g.end is not None:
            if g.lone and g.arrived:
                return NOBODY_ASKED
            if g.arrived or g.answered:
                return "agree", "the filters let it pass"
            if g.denied:
                return "agree", "stopped, but not"
            if g.refused:
                return ("agree", "refused") if g.asks else ("unsure", "a reset without")
            if g.unclear:
                return "unsure", "something came back"
            return "agree", "no answer was recorded" if silent else "recorded before"
        return self.of_allowed(g, silent)

    def of_allowed(self, g, silent):
        first_alone = g.walk.later is not None
        followed = any(r.event == "denied" and self.kind(r) not in ("opening", "reset") for r in g.request)
        lone = g.lone and g.arrived and not g.reply_denied
        if lone and not followed:
            return "agree", "what came from outside"
        answered = g.answered or (len(g.rows) and self.is_behind_the_last(g))
        if answered or (followed and g.arrived):
            if first_alone:
                return "agree", "answered, as the rules say, which"
            if followed:
                return "unsure", "it arrived, and packets"
            through = any(row.is_doubtful for row in g.walk.rows)
            return "agree", "answered, through a gate" if through else "answered, as the rules say"
        if g.denied and first_alone and followed:
            return "agree", "denied, as the rules say of what follows"
        if g.denied:
            return ("unsure", "it rests on") if g.doubt else ("break", "denied")
        by_public = self.directory.public_owner(g.target) is not None
        if g.reply_denied:
            if g.doubt:
                return "unsure", "it rests on"
            if g.strange:
                return "unsure", "the reply was denied where"
            if by_public and not g.asks:
                return "unsure", "denied, as the reply of"
            return "break", "the reply is denied"
        heard = any(row.action == "allow" for row in g.listener)
        if g.refused:
            if not g.asks:
                return "unsure", "a reset without"
            if g.doubt:
                return "unsure", "it rests on"
            if not heard:
                return "unsure", "refused: is"
            return ("unsure", "refused: the rules let") if first_alone else ("break", "refused")
        if g.unclear:
            return "unsure", "something came back"
        if silent:
            if g.doubt:
                return "unsure", "it rests on"
            if g.walk.flow.service.protocol != 6:
                return "unsure", "no answer was recorded: many"
            return ("break", "no answer") if heard else ("unsure", "no answer was recorded: is")
        return "agree", "it "

    def is_behind_the_last(self, g):
        """Whether a reply was recorded as passed behind the last gate of its way."""
        return any(
            record.event == "passed"
            and g.known[id(record)] is not None
            and (at := self.passage(g.back, record, g.known[id(record)]))
            and self.whole(at, len(g.back), g.back)
            for record in g.answering
        )

    def whole(self, at, count, rows):
        end = at[0]
        while end in at and rows[end].gate != "translate":
            end += 1
        return end == count
