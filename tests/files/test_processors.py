"""How many processors are used: no more than a process may have, whatever the machine has."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from kiboko.batch import processors


class Usable(unittest.TestCase):
    def usable(self, bound, group, quotas):
        """With so many processors to be bound to, in a group, with what `cpu.max` says in some groups."""
        with tempfile.TemporaryDirectory() as folder:
            for name, text in quotas.items():
                Path(folder, name).mkdir(parents=True, exist_ok=True)
                Path(folder, name, "cpu.max").write_text(text)
            told = Path(folder, "told")
            told.write_text(group)
            real = Path.read_text
            with (
                mock.patch("os.sched_getaffinity", lambda _: set(range(bound))),
                mock.patch.object(processors, "_GROUPS", Path(folder)),
                mock.patch.object(
                    Path, "read_text", lambda path: real(told if str(path) == "/proc/self/cgroup" else path)
                ),
            ):
                return processors.usable()

    def test_what_a_process_is_bound_to_and_what_its_groups_may_have(self):
        for bound, group, quotas, expected in (
            (64, "0::/\n", {}, 64),
            (64, "0::/\n", {"": "200000 100000\n"}, 2),
            (64, "0::/\n", {"": "max 100000\n"}, 64),
            (64, "0::/\n", {"": "50000 100000\n"}, 1),
            (64, "0::/\n", {"": "250000 100000\n"}, 3),
            (2, "0::/\n", {"": "800000 100000\n"}, 2),
            (64, "0::/a/b\n", {"a": "400000 100000\n", "a/b": "max 100000\n"}, 4),
            (64, "0::/a/b\n", {"a": "400000 100000\n", "a/b": "100000 100000\n", "c": "1 100000\n"}, 1),
            (64, "0::/../c\n", {"c": "100000 100000\n"}, 64),
            (64, "3:cpu:/a\n", {"a": "100000 100000\n"}, 64),
            (64, "0::/\n", {"": "nonsense"}, 64),
        ):
            self.assertEqual(expected, self.usable(bound, group, quotas), (bound, group, quotas))

    @unittest.skipUnless(hasattr(os, "sched_setaffinity"), "this system binds no process to processors")
    def test_a_process_that_is_bound_to_one_uses_one(self):
        mine = os.sched_getaffinity(0)
        try:
            os.sched_setaffinity(0, {min(mine)})
            self.assertEqual(1, processors.usable())
        finally:
            os.sched_setaffinity(0, mine)


if __name__ == "__main__":
    unittest.main()
