"""How a run ends that is cut short: the right status, nothing half-written, no process left, never a traceback."""

import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import textwrap
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from kiboko.commands import streams
from tests.helpers import OnTheDemo

PROGRAM = (sys.executable, "-m", "kiboko")
PATIENCE = 60
"""Seconds after which a test gives up; what is promised takes two, and a busy machine is no fault."""


def children(pid):
    """The processes that a process has started and that still run."""
    found = []
    for path in Path("/proc").glob("[0-9]*/stat"):
        try:
            text = path.read_text()
        except OSError:
            continue
        state, parent = text.rpartition(")")[2].split()[:2]
        if int(parent) == pid and state != "Z":
            found.append(int(path.parent.name))
    return found


def runs(pid):
    """Whether a process still runs."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] not in ("Z", "X")
    except OSError:
        return False


def waits_for(condition):
    """Whether something comes true before patience ends."""
    end = time.monotonic() + PATIENCE
    while time.monotonic() < end:
        if condition():
            return True
        time.sleep(0.02)
    return False


# Large outcomes, so that one is being handed back whenever the others are ended.
SHARING = """
from kiboko.batch.piecework import shared_out

class Job:
    def start(self):
        return lambda piece: bytes(80_000_000)

for _ in range(3):
    outcomes = shared_out(Job(), range(8), 2)
    next(outcomes)
    outcomes.close()
print("ended")
"""


class Sharing(unittest.TestCase):
    def test_whoever_stops_before_all_is_handed_back_does_not_wait_for_what_never_comes(self):
        done = subprocess.run([sys.executable, "-c", SHARING], capture_output=True, text=True, timeout=PATIENCE)
        self.assertEqual((0, "ended\n", ""), (done.returncode, done.stdout, done.stderr))


class Interrupted(OnTheDemo):
    def start(self, *words, **options):
        given = {"stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True, "cwd": self.folder, **options}
        process = subprocess.Popen([*PROGRAM, *map(str, words)], **given)
        self.addCleanup(self.end, process)
        return process

    def end(self, process):
        if process.poll() is None:
            process.kill()
        process.communicate()

    def shell(self, line):
        return subprocess.run(["bash", "-c", line.replace("kiboko", " ".join(PROGRAM))], cwd=self.folder, text=True,
                              capture_output=True, timeout=PATIENCE)  # fmt: skip


class Output(Interrupted):
    def test_a_full_disk_under_standard_output_is_status_3(self):
        for words in (
            "check desk-1 forecast-1 forecast-api",
            "confirm --flows evidence/flows.csv",
            "show relay-1 --json",
        ):
            done = self.shell(f"kiboko {words} >/dev/full")
            self.assertEqual((3, False), (done.returncode, "Traceback" in done.stderr), words + done.stderr)
            self.assertIn("No space left", done.stderr)

    @unittest.skipUnless(shutil.which("bash"), "bash is not installed")
    def test_a_reader_that_goes_away_changes_no_status_of_what_is_told_on_standard_error(self):
        (self.folder / "wrong").mkdir()
        for number in range(40):
            (self.folder / f"wrong/{number}.yaml").write_text("kiboko: change/1\n")
        line = f"{sys.executable} -m kiboko check a b ssh -n wrong"
        for more in (" 2>&1 | head -1 >&2; echo ${PIPESTATUS[0]}", " 2>&-; echo $?", " 2>/dev/full; echo $?"):
            for _ in range(4):
                done = subprocess.run(["bash", "-c", line + more], capture_output=True, text=True, cwd=self.folder,
                                      check=False)  # fmt: skip
                self.assertEqual("2\n", done.stdout, more)
            if "head" in more:
                self.assertEqual(
                    "wrong/0.yaml:1: this is a change file, and a network file belongs here\n", done.stderr
                )

    def test_a_closed_standard_output_is_status_3_and_a_closed_standard_error_nothing(self):
        done = self.shell("kiboko check desk-1 bulletin https >&-")
        self.assertEqual((3, False), (done.returncode, "Traceback" in done.stderr), done.stderr)
        done = self.shell("kiboko show relay-1 2>&-")
        self.assertEqual((0, ""), (done.returncode, done.stderr))

    def test_what_nobody_reads_any_more_is_not_made(self):
        made = []

        def rows():
            for number in range(1000):
                made.append(number)
                yield "row " * 100_000

        out, taken = os.pipe()
        os.close(out)
        with os.fdopen(taken, "w") as pipe, mock.patch("sys.stdout", streams._Output(pipe)):
            streams.write_while_read(rows())
        self.assertLess(len(made), 5)

    def test_a_reader_that_goes_away_does_not_hide_leaks(self):
        done = self.shell("kiboko confirm --flows evidence/flows.csv --all | head -1; exit ${PIPESTATUS[0]}")
        self.assertEqual((1, 1), (done.returncode, len(done.stdout.splitlines())))
        self.assertEqual("", done.stderr)

    def test_a_terminal_of_ascii_letters_gets_them(self):
        done = subprocess.run([*PROGRAM, "check", "desk-1", "forecast-1", "forecast-api"], cwd=self.folder,
                              capture_output=True, env={**os.environ, "PYTHONIOENCODING": "ascii"}, timeout=PATIENCE)  # fmt: skip
        self.assertNotIn(b"Traceback", done.stderr)
        self.assertTrue(done.stdout.isascii() and b"forecast-1" in done.stdout)


class Signals(Interrupted):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        header, *lines = (cls.folder / "evidence" / "flows.csv").read_text().splitlines(keepends=True)
        cls.large = cls.folder / "large.csv"
        body = "".join(lines)
        cls.large.write_text(header + body * (100_000_000 // len(body)))  # several pieces: worked on by others

    def test_ctrl_c_ends_a_run_and_its_workers(self):
        process = self.start("confirm", "--flows", self.large)
        self.assertTrue(waits_for(lambda: len(children(process.pid)) >= 2))
        workers = children(process.pid)
        process.send_signal(signal.SIGINT)
        _, errors = process.communicate(timeout=PATIENCE)
        self.assertEqual((130, False), (process.returncode, "Traceback" in errors), errors)
        self.assertTrue(waits_for(lambda: not any(map(runs, workers))))

    def test_workers_end_with_their_parent_however_it_ends(self):
        for number in (signal.SIGKILL, signal.SIGTERM):
            process = self.start("flows", self.large)
            self.assertTrue(waits_for(lambda p=process: len(children(p.pid)) >= 2))
            workers = children(process.pid)
            process.send_signal(number)
            process.communicate(timeout=PATIENCE)
            self.assertTrue(waits_for(lambda w=workers: not any(map(runs, w))), number)

    def test_an_export_that_is_cut_short_leaves_nothing_and_harms_nothing(self):
        target = self.folder / "out.csv"
        target.write_text("the earlier one\n")
        for number, status in ((signal.SIGINT, 130), (signal.SIGTERM, -signal.SIGTERM)):
            process = self.start("flows", self.large, "--export", target)
            self.assertTrue(waits_for(lambda: any(self.folder.glob(".out.csv*"))), "it began to write")
            process.send_signal(number)
            process.communicate(timeout=PATIENCE)
            self.assertEqual("the earlier one\n", target.read_text())
            if number == signal.SIGINT:
                self.assertEqual(status, process.returncode)
                self.assertEqual([], list(self.folder.glob(".out.csv*")))
            for left in self.folder.glob(".out.csv*"):
                left.unlink()

    def test_ctrl_c_while_it_starts_says_nothing_of_how_it_is_made(self):
        for delay in (0.1, 0.2, 0.3, 0.4):
            process = self.start("confirm", "--flows", self.large)
            time.sleep(delay)
            process.send_signal(signal.SIGINT)
            _, errors = process.communicate(timeout=PATIENCE)
            # Before the first line of the program only the interpreter can speak.
            self.assertFalse("Traceback" in errors and "__main__.py" in errors, errors)
            self.assertIn(process.returncode, (130, -signal.SIGINT, 1))

    def test_ctrl_c_while_a_class_is_made_is_none_of_its_faults(self):
        """Python makes a RuntimeError of whatever comes up then, an interruption too."""
        text = """
            import kiboko.commands.main, kiboko.__main__
            class Named:
                def __set_name__(self, owner, name): raise KINDS[0]
            def run():
                class Made: one = Named()
            kiboko.commands.main.run = run
            kiboko.__main__.run()
        """
        for kind, status, said in (("KeyboardInterrupt", 130, "kiboko: interrupted\n"), ("ValueError", 1, "Traceback")):
            done = subprocess.run([sys.executable, "-c", textwrap.dedent(text).replace("KINDS[0]", kind)], text=True,
                                  capture_output=True, check=False)  # fmt: skip
            self.assertEqual(status, done.returncode)
            self.assertIn(said, done.stderr)
            self.assertEqual(kind == "ValueError", "Traceback" in done.stderr)

    def test_ctrl_c_ends_a_probe_and_what_it_sent_is_kept(self):
        record = self.folder / "probes.jsonl"
        # An address of the loopback that nobody listens at, over UDP: silence is waited for.
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as silent:
            silent.bind(("127.0.0.1", 0))
            port = silent.getsockname()[1]
            process = self.start("probe", "127.0.0.1", "tcp/1", f"udp/{port}", "--timeout", "30", "--record", record)
            self.assertTrue(
                waits_for(lambda: record.exists() and record.read_text().count("\n")), "tcp/1 is answered for"
            )
            process.send_signal(signal.SIGINT)
            _, errors = process.communicate(timeout=PATIENCE)
        self.assertEqual((130, False), (process.returncode, "Traceback" in errors), errors)
        self.assertEqual(["tcp/1"], [json.loads(line)["service"] for line in record.read_text().splitlines()])

    def test_ctrl_c_ends_the_demo_at_once(self):
        process = self.start("demo", self.folder / "again", start_new_session=True)
        seen = [process.stdout.readline() for _ in range(12)]
        self.assertTrue(all(seen))
        os.killpg(process.pid, signal.SIGINT)  # as a terminal does: the step that runs is told too
        rest, errors = process.communicate(timeout=PATIENCE)
        self.assertEqual((130, False), (process.returncode, "Traceback" in errors), errors)
        self.assertNotIn("as they should", rest)


class Collector(Interrupted):
    def test_sigterm_is_obeyed_under_load_and_the_report_is_whole(self):
        process = self.start("collect", self.folder / "store", "--flow-port", "0", "--syslog-port", "0", "--json")
        ports = []
        while len(ports) < 3:
            line = process.stderr.readline()
            self.assertTrue(line, "it ended too soon")
            if line.rstrip().rpartition(":")[2].isdecimal():
                ports.append(int(line.rpartition(":")[2]))
        flooding = threading.Event()

        def flood():
            with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
                while not flooding.is_set():
                    for port in ports:
                        sender.sendto(b"<134>" + b"key=value " * 800, ("127.0.0.1", port))

        thread = threading.Thread(target=flood)
        thread.start()
        try:
            time.sleep(1)
            process.send_signal(signal.SIGTERM)
            output, errors = process.communicate(timeout=PATIENCE)
        finally:
            flooding.set()
            thread.join()
        self.assertEqual((0, False), (process.returncode, "Traceback" in errors), errors)
        self.assertIn('"kiboko": "collect/1"', output)


if __name__ == "__main__":
    unittest.main()
