"""A walker of a changed network shares what the change leaves as it is, and says what one made anew would."""

import dataclasses
import random
import unittest

from kiboko.core.header.services import Service
from kiboko.core.network import edits
from kiboko.core.walk.walk import Walker
from tests.helpers import load
from tests.random_networks import random_network

SERVICES = (Service(6, 22), Service(6, 80), Service(17, 53))


def walks(walker):
    """What every pair of a network comes to, gate by gate."""
    interfaces = walker.directory.interfaces()
    found = []
    for near in interfaces:
        for far in interfaces:
            for source in near.addresses[:1]:
                target = far.address(source.family)
                if target is not None and near.instance != far.instance:
                    for service in SERVICES:
                        walk = walker.walk(walker.directory.endpoint(source), target, service)
                        found.append((walk.verdict, walk.signal,
                                      [(row.gate, row.at, row.filter, row.rule, row.action) for row in walk.rows]))  # fmt: skip
    return found


def changes(topology, chance):
    """One change of each kind."""
    filters, instances = list(topology.filters.values()), list(topology.instances.values())
    chosen, instance = chance.choice(filters), chance.choice(instances)
    for each in filters:
        for way in edits.WAYS:
            rules = getattr(each, way)
            if rules:
                yield topology.with_filter(dataclasses.replace(each, **{way: rules[1:]}))
                break
    yield topology.with_filter(dataclasses.replace(chosen, attach_to=("all",) if chosen.layer == "instance" else ()))
    yield edits.with_instance(topology, dataclasses.replace(instance, running=not instance.running))
    yield edits.with_instance(topology, dataclasses.replace(instance, tags={"role": "other"}))
    yield edits.with_instance(topology, dataclasses.replace(instance, interfaces=instance.interfaces[:1]))
    bare = [each._replace(filters=()) for each in instance.interfaces]
    yield edits.with_instance(topology, dataclasses.replace(instance, interfaces=tuple(bare)))


class ChangedNetworks(unittest.TestCase):
    def test_a_changed_walker_says_what_a_fresh_one_does_and_the_first_is_left_alone(self):
        for seed in range(4):
            topology = load(random_network(seed))
            walker = Walker(topology)
            before = walks(walker)  # so that there is something to share
            for changed in changes(topology, random.Random(seed)):
                with self.subTest(seed=seed):
                    self.assertEqual(walks(Walker(changed)), walks(walker.on(changed)))
            self.assertEqual(before, walks(walker))
