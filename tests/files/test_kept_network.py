"""Networks kept in the cache: the same network as read anew, and never one that the files no longer say."""

import json
import os
import pickle
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import yaml

from kiboko.core.changes.sameness import is_same
from kiboko.demo.data import write_demo
from kiboko.files.network import kept
from kiboko.files.network.kept import load_kept
from kiboko.files.network.network_file import load_network
from tests.helpers import base, kiboko
from tests.random_networks import random_network

RULES = '{"nftables": [{"table": {"family": "inet", "name": "t", "handle": 1}}]}'


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.cache = self.folder / "cache"
        patch = mock.patch.dict(os.environ, {"KIBOKO_CACHE": str(self.cache)})
        patch.start()
        self.addCleanup(patch.stop)
        self.path = self.folder / "network.yaml"
        self.write(base())

    def write(self, values):
        self.path.write_text(yaml.safe_dump(values))

    def files(self):
        return sorted(self.cache.glob("*.network"))

    def loads(self):
        """How often the network file is parsed during a load from the cache, and what came of it."""
        with mock.patch.object(kept, "_load", wraps=kept._load) as load:
            topology = load_kept(str(self.path))
        return load.call_count, topology

    def test_the_second_load_parses_nothing_and_gives_the_same(self):
        self.assertEqual(1, self.loads()[0])
        again, topology = self.loads()
        self.assertEqual(0, again)
        self.assertEqual(load_network(str(self.path)), topology)

    def test_every_random_network_the_demo_and_its_warnings_come_back_whole(self):
        write_demo(self.folder / "demo")
        paths = [self.folder / "demo" / "network.yaml"]
        for seed in range(12):
            made = self.folder / f"random-{seed}"
            made.mkdir()
            paths.append(made / "network.yaml")
            paths[-1].write_text(yaml.safe_dump(random_network(seed)))
        for path in paths:
            fresh = load_network(str(path))
            load_kept(str(path))
            with mock.patch.object(kept, "_load", side_effect=AssertionError("parsed again")):
                again = load_kept(str(path))
            self.assertEqual(fresh, again)
            self.assertEqual(fresh.warnings, again.warnings)

    def test_a_changed_network_is_read_anew(self):
        self.loads()
        changed = base()
        changed["instances"]["bob"]["state"] = "stopped"
        self.write(changed)
        again, topology = self.loads()
        self.assertEqual((1, False), (again, topology.instances["bob"].running))

    def test_a_changed_host_rule_set_is_read_anew(self):
        (self.folder / "rules.json").write_text(RULES)
        values = base()
        values["instances"]["bob"]["host_filter"] = {"nftables": "rules.json"}
        self.write(values)
        self.assertEqual([1, 0], [self.loads()[0], self.loads()[0]])
        chain = '{"chain": {"family": "inet", "table": "t", "name": "c", "handle": 2}}'
        (self.folder / "rules.json").write_text(RULES.replace("]}", f", {chain}]}}"))
        again, topology = self.loads()
        self.assertEqual(1, again)
        self.assertEqual(1, len(topology.instances["bob"].host_filter.chains))

    def test_what_many_machines_have_is_one_rule_set_again_and_is_made_when_it_is_asked_for(self):
        values = base()
        for name in ("ann", "bob", "cat"):
            chain = {"family": "inet", "table": "t", "name": "other" if name == "cat" else "one", "handle": 2}
            (self.folder / f"{name}.json").write_text(RULES[:-2] + f', {{"chain": {json.dumps(chain)}}}]}}')
            values["instances"][name]["host_filter"] = {"nftables": f"{name}.json"}
        self.write(values)
        self.assertEqual(1, self.loads()[0])
        again, topology = self.loads()
        self.assertEqual(0, again)
        ann, bob, cat = (topology.instances[name].host_filter for name in ("ann", "bob", "cat"))
        with mock.patch.object(kept.Held, "made", new_callable=mock.PropertyMock) as made:
            self.assertEqual(["ann.json", "bob.json", "cat.json"], [Path(each.file).name for each in (ann, bob, cat)])
            made.assert_not_called()
        self.assertIs(ann.chains, bob.chains)
        self.assertIsNot(ann.chains, cat.chains)
        fresh = load_network(str(self.path))
        for name, each in (("ann", ann), ("bob", bob), ("cat", cat)):
            other = fresh.instances[name].host_filter
            self.assertTrue(each == other and other == each and each == pickle.loads(pickle.dumps(each)), name)
            self.assertEqual(repr(other), repr(each))
            self.assertTrue(is_same(fresh.instances[name], topology.instances[name]))
        self.assertFalse(is_same(fresh.instances["bob"].host_filter, cat))
        self.assertFalse(ann == bob or fresh.instances["bob"].host_filter == ann, "their files differ")
        self.assertEqual(fresh, topology)

    def test_a_part_added_to_a_folder_counts(self):
        folder = self.folder / "parts"
        folder.mkdir()
        shutil.move(self.path, folder / "network.yaml")
        self.path = folder
        self.assertEqual([1, 0], [self.loads()[0], self.loads()[0]])
        (folder / "more.yaml").write_text("kiboko: 1\nzones: {new: {}}\n")
        again, topology = self.loads()
        self.assertEqual((1, True), (again, "new" in topology.zones))
        (folder / "odd.csv").write_text("a,b\n")
        self.assertEqual(2, kiboko("check", "ann", "bob", "ssh", "-n", str(folder)).returncode)

    def test_what_is_damaged_foreign_or_of_another_release_is_not_used(self):
        self.loads()
        (file,) = self.files()
        whole = file.read_bytes()
        spoilt = [whole[:at] + bytes([whole[at] ^ 1]) + whole[at + 1 :] for at in range(0, len(whole), 97)]
        for data in (*spoilt, whole[:-1], whole[:20], b"", whole + b"x"):
            file.write_bytes(data)
            self.assertEqual(1, self.loads()[0])
        file.chmod(0o666)
        self.assertEqual(1, self.loads()[0], "others may write to it")
        file.unlink()
        (self.folder / "elsewhere").write_bytes(whole)
        file.symlink_to(self.folder / "elsewhere")
        self.assertEqual(1, self.loads()[0], "a link")
        self.loads()
        with mock.patch.object(kept, "_release", return_value="another"):
            self.assertEqual(1, self.loads()[0])

    def test_lists_that_stand_for_no_known_class_make_nothing(self):
        import msgpack

        self.loads()
        (file,) = self.files()
        for value in ([99, "x"], [kept._FIRST, 1, 2, 3, 4], [kept._AGAIN, 7], "text", [kept._TIME, "no time"]):
            body = msgpack.packb(([], value))
            told = kept._hash()
            told.update(body)
            file.write_bytes(kept._MAGIC + told.digest() + body)
            self.assertEqual(1, self.loads()[0], value)

    def test_a_faulty_network_is_not_kept_and_an_unwritable_cache_is_no_fault(self):
        self.path.write_text("kiboko: 1\nzones: {a: {}, a: {}}\n")
        self.assertEqual(2, kiboko("check", "ann", "bob", "ssh", "-n", str(self.path)).returncode)
        self.assertEqual([], self.files())
        self.write(base())
        self.cache.write_text("a file where the folder should be")
        self.assertEqual(0, kiboko("check", "ann", "bob", "ssh", "-n", str(self.path)).returncode)

    def test_no_cache_and_an_empty_name_keep_nothing(self):
        kiboko("check", "ann", "bob", "ssh", "-n", str(self.path), "--no-cache")
        self.assertEqual([], self.files())
        with mock.patch.dict(os.environ, {"KIBOKO_CACHE": ""}):
            self.assertEqual(1, self.loads()[0])
            self.assertEqual(1, self.loads()[0])

    def test_only_so_many_are_kept_and_the_oldest_goes(self):
        self.cache.mkdir()
        others = self.cache / "eth0.network"
        others.write_text("[Match]\nName=eth0\n")
        os.utime(others, (0, 0))
        with mock.patch.object(kept, "_MOST_FILES", 3):
            for count in range(5):
                self.path = self.folder / f"network-{count}.yaml"
                self.write(base())
                self.loads()
        self.assertTrue(others.exists(), "it is none of ours")
        self.assertEqual(3, len([each for each in self.files() if each != others]))
        self.assertEqual(0, self.loads()[0], "the newest is there")

    def test_it_is_for_its_owner_alone(self):
        self.loads()
        self.assertEqual(0o700, self.cache.stat().st_mode & 0o777)
        self.assertEqual(0o600, self.files()[0].stat().st_mode & 0o777)


if __name__ == "__main__":
    unittest.main()
