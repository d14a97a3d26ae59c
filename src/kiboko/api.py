"""The face for scripts: a network loaded, a question asked, evidence held against the rules.

Nothing that is not needed for a call is imported before it. `docs/scripts.md` shows all of it at work.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

if TYPE_CHECKING:
    from datetime import date

    from kiboko.core.network.model import Topology
    from kiboko.core.queries.ends import Ends
    from kiboko.core.walk.walk import Walk, Walker

Paths = str | Path | Iterable[str | Path]
"""One path, or several."""
__all__ = ["Answer", "Confirmation", "Network", "Rows", "SetAnswer", "audit", "check", "check_set", "confirm", "load",
           "reach"]  # fmt: skip


class Network:
    """A network as its file describes it, ready to be asked. Made by `load`."""

    def __init__(self, topology: Topology) -> None:
        from kiboko.core.queries.ends import Ends
        from kiboko.core.walk.walk import Walker

        self.topology: Topology = topology
        self._walker: Walker = Walker(topology)
        self._ends: Ends = Ends(self._walker)

    @property
    def name(self) -> str:
        """What the file calls it."""
        return self.topology.name

    @property
    def warnings(self) -> list[str]:
        """What is odd about the file though it can be read, each with file and line."""
        return [str(each) for each in self.topology.warnings]

    def __repr__(self) -> str:
        return f"<kiboko.Network {self.topology.name!r} of {self.topology.file!r}>"


@dataclass(frozen=True, slots=True)
class Answer:
    """What `check` says of one pair.

    Attributes
    ----------
    verdict : `allowed`, `blocked`, `one-way`, `partly` or `unknown`
    signal : what the sender sees: `answered`, `refused`, `silent`, `unreachable` or `unknown`
    decided_by : the gate that explains the verdict, with `gate`, `at`, `direction`, `filter`, `rule`, `action`, `file`
        and `line`; None for `allowed`
    allowed_client_ports : the client ports that get an answer, as ascending `low-high` or `port`; empty for services
        without ports
    caveats : what has to be borne in mind
    """

    verdict: str
    signal: str
    decided_by: dict[str, Any] | None
    allowed_client_ports: tuple[str, ...]
    caveats: tuple[str, ...]
    _whole: dict[str, Any]

    def __bool__(self) -> bool:
        """No answer is true or false by itself. Raises UsageError."""
        return _not_a_truth("allowed")

    @property
    def allowed(self) -> bool:
        """Whether the request arrives and the reply comes back, from every client port."""
        return self.verdict == "allowed"

    def as_dict(self) -> dict[str, Any]:
        """The whole answer in the form `check/1`, as `kiboko check --json` prints it."""
        return self._whole


@dataclass(frozen=True, slots=True)
class SetAnswer:
    """What `check_set` says: a row for each distinct outcome, each as in the form `check-set/1`."""

    rows: tuple[dict[str, Any], ...]
    caveats: tuple[str, ...]
    _whole: dict[str, Any]

    def __bool__(self) -> bool:
        """No answer is true or false by itself. Raises UsageError."""
        return _not_a_truth("verdicts")

    @property
    def verdicts(self) -> set[str]:
        """The verdicts that occur."""
        return {row["verdict"] for row in self.rows}

    def as_dict(self) -> dict[str, Any]:
        """The whole answer in the form `check-set/1`."""
        return self._whole


@dataclass(frozen=True, slots=True)
class Rows:
    """What `reach` and `audit` say: rows and caveats in the forms `reach/1` and `audit/1`.

    Attributes
    ----------
    rows : one for each line, as in the published form
    caveats : what has to be borne in mind
    """

    rows: tuple[dict[str, Any], ...]
    caveats: tuple[str, ...]
    _whole: dict[str, Any]

    def __bool__(self) -> bool:
        """No answer is true or false by itself. Raises UsageError."""
        return _not_a_truth("rows")

    def as_dict(self) -> dict[str, Any]:
        """The whole answer, as the command prints it with `--json`."""
        return self._whole


@dataclass(frozen=True, slots=True)
class Confirmation:
    """What `confirm` says: how many records agree, leak, break or cannot be told, and the groups they fall into.

    Attributes
    ----------
    agrees : whether something was tested to the end, and nothing leaks or breaks, or may for all that is recorded of
        its time: as the exit status of `kiboko confirm` says it
    """

    agree: int
    leak: int
    break_: int
    unsure: int
    agrees: bool
    rows: tuple[dict[str, Any], ...]
    caveats: tuple[str, ...]
    _whole: dict[str, Any]

    def __bool__(self) -> bool:
        """No report is true or false by itself. Raises UsageError."""
        return _not_a_truth("agrees")

    def as_dict(self) -> dict[str, Any]:
        """The whole report in the form `confirm/1`."""
        return self._whole


def load(path: str | Path, *, files_elsewhere: bool = False) -> Network:
    """Read a network file or folder.

    Parameters
    ----------
    path : the file or folder
    files_elsewhere : whether the file may name rule sets and sockets that do not lie below its own folder

    Raises
    ------
    kiboko.InputError : with every problem found, each with file and line

    Examples
    --------
    >>> import kiboko
    >>> network = kiboko.load("network.yaml")
    >>> network.name
    'Mto river gauging service'
    """
    from kiboko.core.errors import UsageError
    from kiboko.files.network.network_file import load_network

    if not isinstance(path, str | Path) or not str(path).strip():
        raise UsageError(f"{path!r} is no path of a network file")
    return Network(load_network(str(path), files_elsewhere))


def check(
    network: Network,
    source: str,
    destination: str,
    service: str,
    *,
    family: int | None = None,
    client_ports: str | None = None,
) -> Answer:
    """Whether traffic is allowed between two single ends, and which rule decides it.

    Parameters
    ----------
    source, destination : an instance, `instance/interface` or an address
    service : such as `tcp/443`, `ssh` or `icmp/echo-request`
    family : 4 or 6; None for IPv4 where both ends have it, else IPv6
    client_ports : the sender's ports, such as `40000` or `1024-65535`; None for all its ephemeral ones

    Raises
    ------
    kiboko.UsageError : for a name that is not known, both ends outside, or an end or service that stands for more than
        one: `check_set` takes those

    Examples
    --------
    >>> answer = kiboko.check(network, "desk-1", "forecast-1", "forecast-api")
    >>> answer.verdict, answer.decided_by["filter"], answer.decided_by["rule"]
    ('blocked', 'core-guard', '20')
    """
    from kiboko.core.errors import UsageError
    from kiboko.core.queries.near_misses import near_misses
    from kiboko.core.queries.pair import ask
    from kiboko.core.queries.proposals import proposals
    from kiboko.views.check_view import CheckAnswer, check_json

    found = ask(*_asked(network, source, destination, service), _ports(client_ports), _family(family))
    ends, walker = network._ends, network._walker
    if found is None:
        raise UsageError(f"'{source}', '{destination}' or '{service}' stands for more than one: ask check_set")
    walk: Walk = found.walk
    caveats = list(dict.fromkeys([*walk.caveats, *found.caveats]))
    whole = check_json(
        CheckAnswer(
            walk, found.source_name, found.destination_name, found.destination_address, near_misses(walker, walk),
            proposals(ends.walker, walk), caveats, [],
        )
    )  # fmt: skip
    return Answer(
        whole["verdict"], whole["signal"], whole["decided_by"], tuple(whole["allowed_client_ports"]), tuple(caveats),
        whole,
    )  # fmt: skip


def check_set(
    network: Network,
    source: str,
    destination: str,
    service: str,
    *,
    family: int | None = None,
    client_ports: str | None = None,
) -> SetAnswer:
    """The distinct outcomes between ends of any size: groups, subnets, blocks, outsides or `any`, on any services.

    Parameters are those of `check`; without `family` both are asked.

    Raises
    ------
    kiboko.UsageError : for a name that is not known, or ends that make no pair

    Examples
    --------
    >>> sorted(kiboko.check_set(network, "gauges", "relays", "telemetry").verdicts)
    ['allowed', 'blocked']
    """
    from kiboko.core.reachability.sets import ask_set
    from kiboko.views.set_view import SetShown, options_text, set_json

    found = ask_set(*_asked(network, source, destination, service), _ports(client_ports), _family(family))
    whole = set_json(found, SetShown(source, destination, service, options=options_text(network.topology.file, ())))
    return SetAnswer(tuple(whole["rows"]), tuple(whole["caveats"]), whole)


def reach(network: Network, name: str, *, out: bool = False, service: str = "any", family: int | None = None) -> Rows:
    """Everything that can reach an end, or (`out`) that it can reach.

    Parameters
    ----------
    name : anything that `check_set` takes
    service : only this service
    family : 4 or 6; None for both

    Raises
    ------
    kiboko.UsageError : for a name that is not known, or more pairs of ends than can be told one by one

    Examples
    --------
    >>> found = kiboko.reach(network, "gauges", service="ssh")
    >>> [(row["verdict"], [each["name"] for each in row["far"]]) for row in found.rows]
    [('allowed', ['duty']), ('allowed', ['crews'])]
    """
    from kiboko.core.queries.ends import resolve_service
    from kiboko.core.reachability.naming import Namer
    from kiboko.core.reachability.reach import ReachQuestion
    from kiboko.core.reachability.reach import reach as ask
    from kiboko.views.reach_view import ReachShown, reach_json
    from kiboko.views.text import network_option

    ends = _network(network)._ends
    _texts(name=name, service=service)
    services = resolve_service(service, network.topology.services)
    found = ask(ends, ReachQuestion(ends.resolve(name), services, out, _family(family)))
    shown = ReachShown(name, service, out, network_option(network.topology.file), asked=services)
    whole = reach_json(found, shown, Namer(ends), None, None)
    return Rows(tuple(whole["rows"]), tuple(whole["caveats"]), whole)


def audit(network: Network, today: date | None = None) -> Rows:
    """What is wrong or dangerous in the rules themselves, the gravest first.

    Parameters
    ----------
    today : the day by which notes and acceptances are over; None for today

    Examples
    --------
    >>> found = kiboko.audit(network)
    >>> [row["at"] for row in found.rows if row["finding"] == "unattached-filter"]
    ['archive-guard']
    """
    from datetime import date

    from kiboko.core.audit.audit import audit as look
    from kiboko.views.audit_view import AuditShown, audit_json

    whole = audit_json(look(_network(network)._ends, today or date.today()), AuditShown("note"), ())
    return Rows(tuple(whole["rows"]), tuple(whole["caveats"]), whole)


def confirm(
    network: Network, *, flows: Paths = (), probes: Paths = (), strict: bool = False
) -> Confirmation:  # fmt: skip
    """Rules held against evidence: flow logs and probe records.

    Parameters
    ----------
    flows : flow logs: files, folders or patterns; one, or several
    probes : files of probe records (JSON Lines); one, or several
    strict : whether the first row that cannot be used is an error

    Raises
    ------
    kiboko.InputError : for a file that cannot be read, or of which no record can
    kiboko.UsageError : without any file: that there is no leak in nothing means nothing

    Examples
    --------
    >>> found = kiboko.confirm(network, flows=["evidence/flows.csv"])
    >>> found.leak > 0
    True
    """
    from kiboko.batch.confirming import confirmed
    from kiboko.core.errors import UsageError
    from kiboko.views.confirm_view import confirm_json

    logs, probed = _paths("flows", flows), _paths("probes", probes)
    if not logs and not probed:
        raise UsageError("give evidence: flows, probes, or both")
    done = confirmed(_network(network)._walker, list(map(Path, probed)), logs, strict)
    whole = confirm_json(done.summary, done.causes, done.caveats, done.coverage)
    totals = whole["summary"]
    return Confirmation(
        totals["agree"], totals["leak"], totals["break"], totals["unsure"], done.summary.agrees, tuple(whole["rows"]),
        tuple(done.caveats), whole,
    )  # fmt: skip


def _not_a_truth(instead: str) -> NoReturn:
    from kiboko.core.errors import UsageError

    raise UsageError(f"an answer is neither true nor false: ask its '{instead}'")


def _network(value: Network) -> Network:
    from kiboko.core.errors import UsageError

    if not isinstance(value, Network):
        raise UsageError(f"{value!r} is no network; kiboko.load reads one")
    return value


def _texts(**given: object) -> None:
    """Raise UsageError for what is no text."""
    from kiboko.core.errors import UsageError

    for name, value in given.items():
        if not isinstance(value, str) or not value.strip():
            raise UsageError(f"{name}: a text belongs here, not {value!r}")


def _family(value: int | None) -> int | None:
    from kiboko.core.errors import UsageError

    if value not in (None, 4, 6) or isinstance(value, float):
        raise UsageError(f"family: 4, 6 or None, not {value!r}")
    return value


def _paths(name: str, given: Paths) -> list[str | Path]:
    """One path or several. Raises UsageError for what is none."""
    from kiboko.core.errors import UsageError

    found = [given] if isinstance(given, str | Path) else list(given)
    for each in found:
        if not isinstance(each, str | Path) or not str(each).strip():
            raise UsageError(f"{name}: a path belongs here, not {each!r}")
    return found


def _asked(network: Network, source: str, destination: str, service: str) -> tuple[Any, Any, Any, Any]:
    from kiboko.core.queries.ends import resolve_service

    ends = _network(network)._ends
    _texts(source=source, destination=destination, service=service)
    services = resolve_service(service, network.topology.services)
    return ends, ends.resolve(source), ends.resolve(destination), services


def _ports(text: str | None) -> Any:
    from kiboko.core.errors import UsageError
    from kiboko.core.header.services import parse_ports

    if text is None:
        return None
    _texts(client_ports=text)
    try:
        return parse_ports(text)
    except ValueError as error:
        raise UsageError(f"client_ports: {error}") from error
