"""`kiboko probe TO SERVICE`: really send, and record what came back."""

from __future__ import annotations

import argparse
import os
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from kiboko.commands.options import add_examples, add_network_option, network_of
from kiboko.core.errors import UsageError
from kiboko.core.header.addresses import Address, parse_meant
from kiboko.core.header.ranges import RangeSet
from kiboko.core.header.services import Service, parse_ports
from kiboko.core.network.model import Topology
from kiboko.core.queries.ends import Ends, resolve_service, services_for, single_service
from kiboko.core.queries.members import End, Member
from kiboko.core.records.records import ANSWERED, ProbeRecord
from kiboko.core.walk.walk import Walker
from kiboko.files.documents.saving import LineAppender, head_of
from kiboko.files.logs.probe_log import to_line
from kiboko.views.output import Output
from kiboko.views.probe_view import doubt_text, left_out_text, show_outcome, show_probe_summary
from kiboko.wire.probes import Outcome, Sending, Target, probe_all

_MOST_TARGETS = 65536
_NOBODY = "nobody is recorded there, and they are too many"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `probe`."""
    parser.add_argument("destination", metavar="TO", help="an address, block, or a name of the network file")
    parser.add_argument("service", metavar="SERVICE", nargs="+", help="tcp/443, udp/53, ssh, ping, …")
    add_network_option(parser)
    parser.add_argument(
        "--as", metavar="NAME", dest="sender", help="which endpoint of the network file this machine is"
    )
    parser.add_argument("--address", metavar="ADDR[:PORT]", help="where packets really go; such a record is redirected")
    parser.add_argument("--record", metavar="FILE", type=Path, help="append the records to this file, as JSON Lines")
    parser.add_argument("--timeout", metavar="SECONDS", type=_positive, default=2.0, help="wait this long (2)")
    parser.add_argument("--attempts", metavar="N", type=_whole, default=2, help="tries before silence is silence (2)")
    parser.add_argument("--concurrency", metavar="N", type=_whole, default=64, help="probes at once (64)")
    parser.add_argument("--client-port", metavar="PORT", help="send from this port")
    parser.add_argument("--payload", metavar="TEXT", default="kiboko", help="what a UDP probe or an echo carries")
    family = parser.add_mutually_exclusive_group()
    family.add_argument("-4", action="store_const", const=4, dest="family", help="IPv4 only")
    family.add_argument("-6", action="store_const", const=6, dest="family", help="IPv6 only")
    parser.add_argument("--json", action="store_true", help="the records on standard output, as JSON Lines (probe/1)")
    add_examples(
        parser,
        "probe lamp reading ping --as bench-pc -n loopback/network.yaml",
        "probe 127.0.0.1 tcp/22",
        "probe lamp reading --as bench-pc -n loopback/network.yaml --record probes.jsonl",
    )


def _positive(text: str) -> float:
    number = float(text)
    if not 0 < number <= 600:
        raise argparse.ArgumentTypeError("a time of up to 600 seconds belongs here")
    return number


def _whole(text: str) -> int:
    number = int(text)
    if not 1 <= number <= 4096:
        raise argparse.ArgumentTypeError("a whole number from 1 to 4096 belongs here")
    return number


@dataclass(frozen=True, slots=True)
class _Asked:
    """A target and how its record calls it."""

    target: Target
    name: str
    service: str
    redirected: bool


def run(args: argparse.Namespace) -> int:
    """Probe, show, record; return 0 where everything answered and nothing was left out, else 1."""
    if args.record is not None and args.record.is_file():
        head = head_of(args.record)
        if head.strip() and b'"outcome"' not in head.partition(b"\n")[0]:
            raise UsageError(f"--record {args.record}: it has no probe records; they go to a file of their own")
    asked, left_out = _asked(args)
    sending = Sending(args.timeout, args.attempts, os.fsencode(args.payload))
    out = Output()
    records: list[ProbeRecord] = []
    with ExitStack() as stack:
        log = stack.enter_context(LineAppender(args.record)) if args.record else None
        results = probe_all([each.target for each in asked], sending, args.concurrency)
        for place, outcome in results:
            record = _record(asked[place], outcome, args.sender)
            records.append(record)
            if log is not None:
                log.append(to_line(record))
            if args.json:
                print(to_line(record), flush=True)
            else:
                show_outcome(record, out)
    doubts = _doubts(args, records)
    if args.json:
        for text in (
            *(left_out_text(*each) for each in left_out.items()),
            *(doubt_text(*each) for each in doubts.items()),
        ):
            print(f"kiboko probe: {text}", file=sys.stderr)
    else:
        show_probe_summary(records, left_out, doubts, args.record, out)
    return 0 if not left_out and all(record.outcome == ANSWERED for record in records) else 1


def _doubts(args: argparse.Namespace, records: list[ProbeRecord]) -> Counter[str]:
    """Why records are not of what they name, by the addresses that packets left from and went to, and how many are
    not."""
    if args.sender is None:
        return Counter()
    from kiboko.core.evidence.probed import ProbeEnds

    probes = ProbeEnds(Ends(Walker(network_of(args))))
    found = (probes.of(each).doubt for each in records if not each.redirected)
    return Counter(doubt for doubt in found if doubt is not None)


def probe_now(
    ends: Ends, asked: tuple[End, End], services: RangeSet, ports: RangeSet | None, family: int | None, sender: str
) -> ProbeRecord:
    """Send one probe of what `check` was asked, as it would be sent by `sender`, which this machine is. Raises
    UsageError where that is more than one, or has no address."""
    here = ends.resolve(sender)
    if here.is_set or asked[1].is_set:
        what = f"--as {sender}" if here.is_set else asked[1].text
        raise UsageError(f"{what} stands for more than one; one probe goes from one machine to one")
    target = _own_address(ends, here, asked[1].members[0], family)
    if target is None:
        raise UsageError(f"{asked[1].text} has no address that {sender} can use")
    service = single_service(services_for(services, target.family))
    if service is None:
        raise UsageError("one probe is of one service: ask for one to send a probe")
    port = ports.lowest if ports else None
    _, outcome = next(iter(probe_all([Target(target, service, port)], Sending(), 1)))
    name = _Asked(Target(target, service, port), asked[1].text, str(service), False)
    return _record(name, outcome, sender)


def _record(asked: _Asked, outcome: Outcome, sender: str | None) -> ProbeRecord:
    return ProbeRecord(
        datetime.now(UTC), sender or outcome.sent_from or "here", asked.name, str(asked.target.address), asked.service,
        outcome.outcome, outcome.source_port, outcome.rtt_ms, outcome.attempts, outcome.sent_from, asked.redirected,
    )  # fmt: skip


def _asked(args: argparse.Namespace) -> tuple[list[_Asked], dict[str, list[str]]]:
    """Every target of the command line, and who of a set is left out, by reason. Without a network file only addresses
    and plain services are known."""
    topology = _topology(args)
    ends = Ends(Walker(topology))
    port = _port(args.client_port)
    redirect, redirect_port = _redirect(args.address)
    found: list[_Asked] = []
    left_out: dict[str, list[str]] = {}
    for name, address in _addresses(ends, args, redirect, left_out):
        where = redirect or address
        assert where is not None  # `_addresses` yields no name without an address unless packets go elsewhere
        for text in args.service:
            for service in _services(text, topology, where):
                aimed = Service(service.protocol, redirect_port) if redirect_port is not None else service
                moved = (where, aimed) != (address, service)
                found.append(_Asked(Target(where, aimed, port), name, str(service), moved))
    if not found:
        why = "".join(f"; {left_out_text(reason, names)}" for reason, names in left_out.items())
        raise UsageError(f"{args.destination} has no address to probe{why}")
    if len(found) > _MOST_TARGETS:
        raise UsageError(f"{len(found):,} probes asked for; {_MOST_TARGETS:,} at most in one run")
    return found, left_out


def _topology(args: argparse.Namespace) -> Topology:
    if args.sender is None and args.network == "network.yaml" and not os.path.exists(args.network):
        return Topology("no network file", args.network)
    return network_of(args)


def _services(text: str, topology: Topology, address: Address) -> list[Service]:
    """The services to probe at one address: each one that a name or a range stands for."""
    services = services_for(resolve_service(text, topology.services), address.family)
    one = single_service(services)
    if one is not None:
        return [one]
    if services.size > 1024:
        raise UsageError(f"'{text}' stands for {services.size:,} services; name one, or a range of at most 1,024 ports")
    return [Service(number >> 16, number & 0xFFFF) for low, high in services for number in range(low, high + 1)]


def _addresses(
    ends: Ends, args: argparse.Namespace, redirect: Address | None, left_out: dict[str, list[str]]
) -> Iterator[tuple[str, Address | None]]:
    """The targets by name, each with the address that its name means to this machine (clause S1). Of a set those that
    cannot be probed are noted and left out: machines without an address, and the many addresses of a subnet at which
    nobody is recorded."""
    sender = ends.resolve(args.sender) if args.sender is not None else None
    if sender is not None and sender.is_set:
        raise UsageError(f"--as {args.sender} stands for more than one; this machine is one of them: name it")
    asked = ends.resolve(args.destination)
    for member in asked.members:
        if member.low is not None and member.high is not None:
            if args.family not in (None, member.low.family):
                continue
            if member.count > _MOST_TARGETS:
                if member.outside is not None or not any(each.interfaces for each in asked.members):
                    raise UsageError(
                        f"{member.name} has {member.count:,} addresses; {_MOST_TARGETS:,} at most in one run"
                    )
                left_out.setdefault(_NOBODY, []).append(member.name)
                continue
            for value in range(member.low.value, member.high.value + 1):
                address = Address(member.low.family, value)
                yield str(address), address
            continue
        chosen = _own_address(ends, sender, member, args.family)
        if chosen is not None or redirect is not None:
            yield member.name, chosen
        elif asked.is_set:
            of_family = f"IPv{args.family} " if args.family else ""
            whose = f" that {args.sender} can use" if args.sender else ""
            left_out.setdefault(f"no {of_family}address{whose}", []).append(member.name)
        else:
            whose = f"{args.sender} can use" if args.sender else "can be probed"
            raise UsageError(f"{member.name} has no address that {whose}; say where packets go with --address")


def _own_address(ends: Ends, sender: End | None, member: Member, family: int | None) -> Address | None:
    """The address a name means: to a known sender as S1 says; else its public one, else its first."""
    if sender is not None:
        pairs = ends.pairs(sender.members[0], member, family)
        return pairs[0].target if pairs and pairs[0].usable else None
    publics = [i.public for i in member.interfaces if i.public is not None and family != 6]
    own = [a for i in member.interfaces for a in i.addresses if family in (None, a.family)]
    return next(iter([*publics, *own]), None)


def _port(text: str | None) -> int | None:
    if text is None:
        return None
    try:
        return parse_ports(text).lowest
    except ValueError as error:
        raise UsageError(f"--client-port: {error}") from error


def _redirect(text: str | None) -> tuple[Address | None, int | None]:
    """`ADDR`, `ADDR:PORT` or `[ADDR]:PORT`."""
    if text is None:
        return None, None
    host, port = text, ""
    if text.startswith("["):
        host, _, port = text[1:].partition("]")
        port = port.removeprefix(":")
    elif text.count(":") == 1:
        host, _, port = text.partition(":")
    try:
        return parse_meant(host), parse_ports(port).lowest if port else None
    except ValueError as error:
        raise UsageError(f"--address: {error}") from error
