"""The live view can be paused and filtered; what comes in meanwhile is shown afterwards, and was stored all along."""

import io
import unittest

from rich.console import Console

from kiboko.core.records.flow_table import table_of
from kiboko.views.collect_view import LiveTally
from kiboko.views.live_view import LiveView
from tests.core.test_watch import record


class View(unittest.TestCase):
    def setUp(self):
        self.ended = []
        self.tally = LiveTally()
        self.view = LiveView(lambda: self.ended.append(True), self.tally)

    def feed(self, *ports):
        table = table_of([record("10.1.1.10", "10.2.1.10", 40000, port, "passed", 2) for port in ports])
        self.tally.add(table)
        self.view.add(table, lambda address: "ann" if str(address) == "10.1.1.10" else str(address))

    def services(self, height=20):
        return [cells[3] for cells in self.view.shown(height)]

    def press(self, keys):
        for key in keys:
            self.view.press(key)

    def test_the_latest_records_that_fit_are_shown_with_names(self):
        self.feed(*range(1, 31))
        self.assertEqual(self.services(3), ["tcp/28", "tcp/29", "tcp/30"])
        self.assertEqual(self.view.shown(1)[0][1:3], ["ann 10.1.1.10", "10.2.1.10"])

    def test_a_pause_stands_still_and_loses_nothing(self):
        self.feed(1, 2)
        self.press(" ")
        self.feed(3)
        self.assertEqual((self.services(), self.tally.records), (["tcp/1", "tcp/2"], 3))
        self.assertIn("paused, 1 more since", self.view._foot())
        self.press(" ")
        self.assertEqual(self.services(), ["tcp/1", "tcp/2", "tcp/3"])

    def test_a_filter_is_typed_mended_kept_and_cleared(self):
        self.feed(22, 80, 8080)
        self.press("/tcp/88\x7f0\r")
        self.assertEqual(self.services(), ["tcp/80", "tcp/8080"])
        self.press("/ANN\r")
        self.assertEqual(len(self.services()), 3)
        self.press("/nobody\r")
        self.assertEqual(self.services(), [])
        self.press("\x1b")
        self.assertEqual(len(self.services()), 3)

    def test_keys_that_mean_something_are_text_while_a_filter_is_typed(self):
        self.press("/q \r")
        self.assertEqual((self.ended, self.view._foot().startswith("filter: q ")), ([], True))
        self.press("q")
        self.assertEqual(self.ended, [True])

    def test_it_is_drawn_within_its_height_and_leaks_stand_on_top(self):
        self.feed(*range(1, 60))
        self.view._told.append("LEAK 10:00:00Z ann to dan, tcp/22: passed \x1b[31m")
        console = Console(file=io.StringIO(), width=100, height=20, force_terminal=False)
        console.print(self.view._drawn(100, 20))
        lines = console.file.getvalue().rstrip("\n").split("\n")
        self.assertLessEqual(len(lines), 20)
        self.assertIn("59 records", lines[0])
        self.assertIn("LEAK 10:00:00Z", lines[1])
        self.assertNotIn("\x1b", console.file.getvalue())
        self.assertIn("tcp/59", console.file.getvalue())


if __name__ == "__main__":
    unittest.main()
