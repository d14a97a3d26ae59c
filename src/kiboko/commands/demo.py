"""`kiboko demo [DIR]`: write the demo data and run the whole job on it, question by question."""

from __future__ import annotations

import argparse
import contextlib
import shlex
from dataclasses import dataclass, replace
from pathlib import Path

from kiboko.commands.options import INTERRUPTED, add_examples
from kiboko.core.errors import UsageError
from kiboko.views.output import Output


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `demo`."""
    parser.add_argument("folder", metavar="DIR", nargs="?", type=Path, default=Path("mto"), help="where to (mto)")
    parser.add_argument("--only-write", action="store_true", help="write the data and stop")
    add_examples(parser, "demo", "demo /tmp/mto --only-write", "demo mto")


@dataclass(frozen=True, slots=True)
class Step:
    """A question, the command that answers it, and the status the answer must have."""

    question: str
    command: str
    status: int


_IN_PLACE = "-n mended.yaml --in-place"
STEPS = (
    Step("A crew in its van wants to log in to gauge 7. May it?", "check 198.51.100.20 gauge-07 ssh", 0),
    Step(
        "The met office was to be shut out of the river banks (ticket 4411), and still reaches a relay. Why?",
        "check 192.0.2.14 relay-1 ssh",
        0,
    ),
    Step(
        "Is it really rule 20? Take it away for one answer.",
        "check 192.0.2.14 relay-1 ssh --without bank-edge/inbound/20",
        1,
    ),
    Step(
        "Some readers open the bulletin site, others wait for ever. Which ones?", "check 203.0.113.77 bulletin https", 1
    ),
    Step("A new gauge cannot hand its readings to the relay beside it.", "check gauge-08 relay-2 telemetry", 1),
    Step("Gauges cannot send to the second ingest machine.", "check gauge-03 ingest-2 telemetry", 1),
    Step(
        "The duty desk has a rule for the forecast API, and is blocked. What would open it, and what else?",
        "check desk-1 forecast-1 forecast-api --fixes",
        1,
    ),
    Step("The other forecast machine does not even see the request.", "check desk-1 forecast-2 forecast-api", 1),
    Step("Which way does it take, and what did that route beat?", "route desk-1 forecast-2", 1),
    Step("Who is in the group that the relays trust, and who should be?", "show gauges", 0),
    Step("Is the archive's filter in force?", "show archive-guard", 0),
    Step("Everything in force at one relay, on one screen.", "show relay-1", 0),
    Step("A crew reaches gauge 7 but not gauge 4.", "check 198.51.100.20 gauge-04 ssh", 1),
    Step("Nobody reaches the gauge in the pump house from outside.", "check 198.51.100.20 gauge-12 ssh", 1),
    Step("What on earth can reach the database, and which rules let it in?", "reach database --only recorded", 0),
    Step(
        "And how many locked doors stand before all others?", "reach database --service postgresql --doors --top 6", 0
    ),
    Step("Everything that is open to the internet, on one screen.", "reach --out internet --only recorded", 1),
    Step("Who may log in to whom, zone by zone?", "matrix --by zone --service ssh", 0),
    Step(
        "What is wrong or dangerous in the rules themselves, or in how they are kept?",
        "audit --flows evidence/flows.csv --probes evidence/probes.jsonl",
        1,
    ),
    Step("Are the promises kept that were written down?", "expect --file expectations.yaml", 1),
    Step(
        "Switch rule 20 of the banks off: what else would that do?",
        "rehearse --toggle bank-edge/inbound/20 --file expectations.yaml --service ssh",
        1,
    ),
    Step(
        "A change that is to mend the first of it, rehearsed: what does it close, and whose traffic stops?",
        "rehearse changes/01-shut-out-the-met-office.yaml --file expectations.yaml --service ssh"
        " --flows evidence/flows.csv",
        0,
    ),
    *(
        Step(question, f"apply changes/{name}.yaml {where}", 0)
        for question, name, where in (
            ("It is made, in a copy of the network file.", "01-shut-out-the-met-office", "--out mended.yaml"),
            ("The next, in place.", "02-close-the-relays", _IN_PLACE),
            ("The readers who wait for ever.", "03-let-all-readers-back", _IN_PLACE),
            ("The duty desk and its forecasts.", "04-desks-get-forecasts", _IN_PLACE),
            ("The archive's filter.", "05-guard-the-archive", _IN_PLACE),
            ("The gauge whose tag is mistyped.", "06-gauge-08-is-a-gauge", _IN_PLACE),
            ("The service on loopback.", "07-ingest-2-for-others", _IN_PLACE),
            ("The gauge whose own rules are old.", "08-gauge-04-knows-the-crews", _IN_PLACE),
            ("The gauge without an address.", "09-connect-gauge-09", _IN_PLACE),
            ("What nothing has met.", "10-tidy-up", _IN_PLACE),
            ("And what is left is accepted, each with a reason.", "11-live-with-the-rest", _IN_PLACE),
        )
    ),
    Step("Are all promises kept now?", "expect -n mended.yaml --file expectations.yaml", 0),
    Step("And does an audit find anything that nobody has accepted?", "audit -n mended.yaml --today 2026-11-26", 0),
    Step("What would it find in a network without any of that?", "audit -n clean/network.yaml", 0),
    Step("What did the mending open and close, for ssh?", "compare network.yaml clean/network.yaml --service ssh", 1),
    Step("Who talks most in an hour of flow logs?", "flows evidence/flows.csv --since 2026-11-20T10:00:00Z --top 8", 0),
    Step("Which rules did that hour never hit?", "flows evidence/flows.csv --rules", 1),
    Step(
        "Do an hour of flow logs and an hour's probes agree with the rules?",
        "confirm --probes evidence/probes.jsonl --flows evidence/flows.csv",
        1,
    ),
    Step(
        "One ticket, everything known: a gauge is blocked, and what was seen of it?",
        "check gauge-08 relay-2 tcp/9100 --flows evidence/flows.csv --probes evidence/probes.jsonl",
        1,
    ),
)
LIVE_STEPS = (
    Step(
        "Live, on this machine's loopback: a port that listens, one that does not, UDP, and ping.",
        "probe lamp reading spare tick ping --as bench-pc -n loopback/network.yaml"
        " --record loopback/probes.jsonl --timeout 1",
        1,
    ),
    Step(
        "And do these live probes agree with the rules?",
        "confirm --probes loopback/probes.jsonl -n loopback/network.yaml --all",
        0,
    ),
)
COLLECTING = Step(
    "A stand-in for an exporter sends these flows as IPFIX over loopback. What do the rules say as they come?",
    "collect store --flow-port 47839 --syslog-port none --confirm --stop-after 6",
    1,
)


def run(args: argparse.Namespace) -> int:
    """Write, run every step, and return 0 if each gave the status that it should."""
    from kiboko.demo.data import write_demo
    from kiboko.demo.exporter import exporter
    from kiboko.demo.listeners import lamp

    out = Output()
    if not args.only_write and not (args.folder / "network.yaml").exists():
        for each in _made_by_steps(args.folder):  # it is somebody's own: of a demo that was run before it is made anew
            if each.exists():
                raise UsageError(f"{each} is there already, and the demo makes one; name another folder, or remove it")
    written = write_demo(args.folder)
    out.line(f"{len(written)} files of the Mto river gauging service in {args.folder}/, all of it made up.")
    if args.only_write:
        return 0
    out.line("The evidence was recorded in a replica of the network; evidence/README.md says how.")
    wrong = []
    with contextlib.chdir(args.folder):
        for made in _made_by_steps(Path()):
            made.unlink(missing_ok=True)
        for number, step in enumerate(STEPS, 1):
            wrong += _run_step(step, number, out)
        with lamp():
            for number, step in enumerate(_live_steps(), len(STEPS) + 1):
                wrong += _run_step(step, number, out)
        with exporter(Path("evidence/flows.csv")):
            wrong += _run_step(COLLECTING, len(STEPS) + len(LIVE_STEPS) + 1, out)
    out.line()
    if wrong:
        out.bullets(wrong, "!", "blocked")
        return 1
    out.line(f"All {len(STEPS) + len(LIVE_STEPS) + 1} steps gave the status they should.", "allowed")
    out.line(f"Try your own in {args.folder}/: kiboko check FROM TO SERVICE", "quiet")
    return 0


def _live_steps() -> tuple[Step, ...]:
    """The steps on loopback: without echo requests where this user may not send any."""
    from kiboko.wire.probes import may_send_echo_requests

    if may_send_echo_requests():
        return LIVE_STEPS
    probing, *others = LIVE_STEPS
    question = probing.question.replace("UDP, and ping.", "and UDP (no ping: this system lets only root send any).")
    return replace(probing, question=question, command=probing.command.replace(" ping ", " ")), *others


def _made_by_steps(folder: Path) -> list[Path]:
    """The files that steps make."""
    return [folder / "loopback" / "probes.jsonl", *sorted(folder.glob("mended.yaml*"))]


def _run_step(step: Step, number: int, out: Output) -> list[str]:
    from kiboko.commands.main import main

    out.line()
    out.line(f"{number}. {step.question}", "heading")
    out.line(f"$ kiboko {step.command}", "mark")
    status = main(shlex.split(step.command))
    if status == INTERRUPTED:
        raise KeyboardInterrupt
    return [f"step {number} gave status {status}, not {step.status}"] if status != step.status else []
