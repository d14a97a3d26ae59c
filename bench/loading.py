"""Loading 10,000 instances against composing the same file, one check on top, and 1,000 × 1,000 ends."""

import tempfile
from pathlib import Path

import yaml
from measure import ratio, report, seconds
from networks import large_network

from kiboko.core.queries.ends import Ends, resolve_service
from kiboko.core.queries.near_misses import near_misses
from kiboko.core.queries.pair import ask
from kiboko.core.queries.proposals import proposals
from kiboko.core.reachability.sets import ask_set
from kiboko.core.walk.walk import Walker
from kiboko.files.network.network_file import load_network


def one_check(topology) -> None:
    ends = Ends(Walker(topology))
    services = resolve_service("ssh", {})
    found = ask(ends, ends.resolve("host-1"), ends.resolve("host-2"), services, None, None)
    near_misses(ends.walker, found.walk)
    proposals(ends.walker, found.walk)


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "network.yaml"
        path.write_text(large_network(10_000))
        text = path.read_text()
        timed = ratio(lambda: load_network(str(path)), lambda: yaml.compose(text, yaml.CSafeLoader), 3)
        report("load 10,000 instances / yaml.compose", *timed, 2.5)
        topology = load_network(str(path))
        took = min(seconds(lambda: one_check(topology)) for _ in range(3))
        print(f"one check on it, explained: {took:.3f} s (bar 0.5)")
        path.write_text(large_network(2_000))
        ends = Ends(Walker(load_network(str(path))))
        services = resolve_service("https", {})
        took = seconds(lambda: ask_set(ends, ends.resolve("odd"), ends.resolve("even"), services, None, None))
        print(f"1,000 × 1,000 ends on one service: {took:.1f} s")


if __name__ == "__main__":
    main()
