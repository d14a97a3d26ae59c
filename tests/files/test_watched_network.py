"""Whether a network file is another than when it was read, whatever of it changes and whenever."""

import json
import os
import tempfile
import unittest
from pathlib import Path

from kiboko.core.errors import InputError
from kiboko.files.network.network_file import load_with_files
from kiboko.files.network.watched import WatchedNetwork
from tests.helpers import base

EMPTY = {"nftables": [{"table": {"family": "inet", "name": "fw", "handle": 1}}]}


class Watched(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "hosts").mkdir()
        (self.folder / "hosts" / "ann.json").write_text(json.dumps(EMPTY))
        self.values = base()
        self.values["instances"]["ann"]["host_filter"] = {"nftables": "hosts/ann.json"}
        self.reads = 0

    def write(self, name="network.yaml", **more):
        (self.folder / name).write_text(json.dumps(self.values | more))

    def watched(self, path):
        self.write()

        def read():
            self.reads += 1
            return load_with_files(str(path))

        return WatchedNetwork(str(path), read)

    def looks(self, network):
        """What two looks come to, one after the other."""
        return [network.has_changed(), network.has_changed()]

    def test_it_has_changed_when_it_is_left_alone_and_not_while_it_is_written(self):
        network = self.watched(self.folder / "network.yaml")
        self.assertEqual([False, False], self.looks(network))
        self.write(name="network.yaml", services={"one": "tcp/1"})
        self.assertEqual([False, True], self.looks(network))
        self.write(services={"one": "tcp/12"})
        self.assertEqual([False, True], self.looks(network))
        self.assertIn("one", network.load().services)
        self.assertEqual([False, False], self.looks(network))

    def test_a_file_beside_it_counts(self):
        network = self.watched(self.folder / "network.yaml")
        (self.folder / "hosts" / "ann.json").write_text(json.dumps(EMPTY) + "\n")
        self.assertEqual([False, True], self.looks(network))
        network.load()
        self.assertEqual([False, False], self.looks(network))
        (self.folder / "notes.txt").write_text("no part of it")
        self.assertEqual([False, False], self.looks(network))

    def test_a_part_that_comes_or_goes_counts(self):
        network = self.watched(self.folder)
        (self.folder / "more.yaml").write_text("{kiboko: 1, services: {two: tcp/2}}")
        self.assertEqual([False, True], self.looks(network))
        self.assertIn("two", network.load().services)
        (self.folder / "more.yaml").unlink()
        self.assertEqual([False, True], self.looks(network))
        self.assertNotIn("two", network.load().services)
        self.assertEqual([False, False], self.looks(network))

    def test_one_that_cannot_be_read_is_not_tried_again_until_it_changes(self):
        network = self.watched(self.folder / "network.yaml")
        self.write(subnets={})
        self.assertEqual([False, True], self.looks(network))
        self.assertRaises(InputError, network.load)
        self.assertEqual([False, False], self.looks(network))
        self.assertIn("a1", network.topology.subnets, "what was read before is still there")
        os.unlink(self.folder / "network.yaml")
        self.assertEqual([False, True], self.looks(network))
        self.assertRaises(InputError, network.load)
        self.write()
        self.assertEqual([False, True], self.looks(network))
        network.load()
        self.assertEqual([False, False], self.looks(network))

    def test_what_changes_while_it_is_read_is_read_again(self):
        path = self.folder / "network.yaml"
        network = self.watched(path)
        self.write(services={"one": "tcp/1"})
        self.assertEqual([False, True], self.looks(network))
        read = network._read

        def disturbed():
            found = read()
            self.write(services={"other": "tcp/2"})
            return found

        network._read = disturbed
        self.assertIn("one", network.load().services)
        network._read = read
        self.assertEqual([False, True], self.looks(network))
        self.assertIn("other", network.load().services)
        self.assertEqual([False, False], self.looks(network))


if __name__ == "__main__":
    unittest.main()
