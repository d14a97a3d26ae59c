"""A few of the random command lines that `make fuzz` goes on with for ten minutes."""

import contextlib
import io
import os
import unittest
from unittest import mock

from tests.fuzz_commands import fuzz


@unittest.skipUnless(hasattr(os, "fork"), "each command line is run in a process that is forked")
class RandomLines(unittest.TestCase):
    def test_each_ends_with_a_status_of_its_own_and_what_it_prints_can_be_pasted(self):
        printed = io.StringIO()
        with mock.patch.dict(os.environ), contextlib.redirect_stdout(printed):
            met = fuzz(300, 1000, most=6)
        self.assertEqual(0, met["bad"], printed.getvalue())
        self.assertTrue(met["pasted"] and met["status 0"] and met["status 1"] and met["status 2"], met)


if __name__ == "__main__":
    unittest.main()
