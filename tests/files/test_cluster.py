"""A cluster of workers says what one machine says, to the byte, also when it loses one of them on the way."""

import contextlib
import json
import os
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from bench import flow_logs
from distributed import LocalCluster

from kiboko.batch import piecework
from kiboko.batch.flow_summing import Question, summed
from kiboko.batch.window_judging import JudgeJob
from kiboko.core.errors import EnvironmentFailure, InputError
from kiboko.core.records.flow_query import FlowFilter
from kiboko.demo.data import write_demo
from kiboko.files.elements.column_map import USUAL
from kiboko.files.logs.flow_pieces import Piece, pieces_of
from kiboko.files.logs.windows import Window, windows_of
from kiboko.files.network.network_file import load_network
from tests.helpers import kiboko


class Slow:
    """Another job that tells which process worked on which piece, and takes its time: from when the file `hold` is
    there until three processes have worked, or two minutes, however long one more of them takes to start."""

    def __init__(self, folder, job=None, hold="never"):
        self.folder, self.job, self.hold = str(folder), job, str(hold)

    def start(self):
        do = self.job.start() if self.job is not None else lambda window: window.pieces

        def work(window):
            (piece,) = window.pieces
            Path(self.folder, f"{piece.start}-{os.getpid()}").write_text("")
            time.sleep(0.15)
            patience = time.monotonic() + 120
            while Path(self.hold).exists() and len(self.workers()) < 3 and time.monotonic() < patience:
                time.sleep(0.1)
            if piece.path == "broken":
                raise InputError("broken: cannot be read")
            return do(window)

        return work

    def workers(self):
        return {path.name.partition("-")[2] for path in Path(self.folder).iterdir()}


class Cluster(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    @contextlib.contextmanager
    def cluster(self, workers):
        made = LocalCluster(
            n_workers=workers,
            threads_per_worker=1,
            processes=True,
            host="127.0.0.1",
            dashboard_address=None,
            silence_logs=50,
        )
        with made:
            yield made

    def test_a_worker_that_is_lost_loses_and_doubles_nothing(self):
        data = self.enterContext(tempfile.TemporaryDirectory())
        write_demo(Path(data))
        log = Path(data) / "log.csv"
        flow_logs.write(log, 12_000)
        job = JudgeJob(load_network(f"{data}/network.yaml"), FlowFilter(), USUAL)
        with mock.patch("kiboko.files.logs.flow_pieces.PIECE", 20_000):
            windows = windows_of([log])
        self.assertGreater(len(windows), 40)
        slow = Slow(self.folder, job, hold=Path(data) / "killed")
        with self.cluster(2) as cluster:

            def kill():
                while len(list(self.folder.iterdir())) < 10:
                    time.sleep(0.02)
                worked = [int(path.name.partition("-")[2]) for path in self.folder.iterdir()]
                mine = {worker.pid for worker in cluster.workers.values()}
                self.killed = next(pid for pid in worked if pid in mine)
                os.kill(self.killed, 9)  # a process of the cluster that this test made
                Path(slow.hold).touch()

            killer = threading.Thread(target=kill)
            killer.start()
            found = list(piecework.cluster_outcomes(slow, windows, cluster.scheduler_address))
            killer.join()
        alone = list(map(job.start(), windows))
        self.assertEqual(
            *([[list(tallies) for tallies in each.tallies] for each in outcomes] for outcomes in (found, alone))
        )
        self.assertEqual([each.files for each in found], [each.files for each in alone])
        self.assertIn(str(self.killed), slow.workers())
        self.assertGreaterEqual(len(slow.workers()), 3, "the one that was killed, the other, and the one in its place")

    def test_what_is_wrong_with_a_file_is_said_at_once(self):
        with self.cluster(1) as cluster, self.assertRaisesRegex(InputError, "broken: cannot be read"):
            list(
                piecework.cluster_outcomes(
                    Slow(self.folder), [Window((Piece("broken", "csv"),))], cluster.scheduler_address
                )
            )
        self.assertEqual(len(list(self.folder.iterdir())), 1)

    def test_another_version_on_a_worker_is_refused(self):
        with (
            self.cluster(1) as cluster,
            mock.patch.object(piecework, "__version__", "0.0.0"),
            self.assertRaisesRegex(EnvironmentFailure, "a worker of the cluster has kiboko .*, this is 0.0.0"),
        ):
            list(
                piecework.cluster_outcomes(
                    Slow(self.folder), [Window((Piece("log", "csv"),))], cluster.scheduler_address
                )
            )


class SameResult(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        write_demo(cls.folder)
        logs = cls.folder / "logs"
        logs.mkdir()
        for number in range(3):
            flow_logs.write(logs / f"{number}.csv", 4000 + number)
        with (logs / "2.csv").open("a") as log:
            log.write("torn,row\n")

    def both(self, *arguments):
        alone, cluster = (
            kiboko(*arguments, "logs", "--json", *more, cwd=self.folder) for more in ((), ("--cluster", "local:2"))
        )
        self.assertEqual(alone.stdout, cluster.stdout, cluster.stderr)
        self.assertEqual(alone.returncode, cluster.returncode)
        return json.loads(alone.stdout)

    def test_confirm_to_the_byte(self):
        told = self.both("confirm", "--flows")
        self.assertEqual(told["summary"]["records"], 12_003)
        self.assertTrue(any("1 row rejected" in caveat for caveat in told["caveats"]))

    def test_flows_to_the_byte(self):
        told = self.both("flows", "--by", "source,hour,outcome")
        self.assertEqual(told["summary"]["records"], 12_003)

    def test_pieces_summed_apart_come_to_the_whole(self):
        paths = [self.folder / "logs" / "0.csv"]
        question = Question(FlowFilter(), ("source", "service"))
        whole = summed(paths, question)
        with mock.patch("kiboko.files.logs.flow_pieces.PIECE", 40_000):
            self.assertGreater(len(list(pieces_of(paths[0], USUAL))), 5)
            parts = summed(paths, question)
        self.assertEqual(whole[0].groups, parts[0].groups)
        self.assertEqual(whole[1].rows(), parts[1].rows())
        self.assertEqual(whole[0].total, parts[0].total)

    def test_bad_addresses_are_said(self):
        for address, status, said in (
            ("local:none", 2, "write local:4"),
            ("tcp://127.0.0.1:1", 3, "no Dask scheduler at"),
        ):
            done = kiboko("flows", "logs", "--cluster", address, cwd=self.folder)
            self.assertEqual((done.returncode, said in done.stderr), (status, True), done.stderr)

    def test_without_the_extra_the_way_to_it_is_said(self):
        code = "import sys; sys.modules['distributed'] = None; from kiboko.commands.main import main; sys.exit(main(sys.argv[1:]))"
        done = subprocess.run(
            [sys.executable, "-c", code, "flows", "logs", "--cluster", "local"], cwd=self.folder, capture_output=True,
            text=True, timeout=60, check=False,
        )  # fmt: skip
        self.assertEqual((done.returncode, "pip install 'kiboko[cluster]'" in done.stderr), (2, True), done.stderr)


if __name__ == "__main__":
    unittest.main()
