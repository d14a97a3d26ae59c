"""Two machines made of network namespaces, joined by a cable, for tests that ask the kernel itself."""

import json
import os
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from tests import program

CLIENT4, SERVER4 = "10.9.0.1", "10.9.0.2"
CLIENT6, SERVER6 = "fd09::1", "fd09::2"
OPEN_PORTS = (1000, 1001, 1002)

_SERVE = """
import selectors, socket, sys
chosen = selectors.DefaultSelector()
for family, address in ((socket.AF_INET, "0.0.0.0"), (socket.AF_INET6, "::")):
    for port in map(int, sys.argv[1:]):
        for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
            made = socket.socket(family, kind)
            made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if family == socket.AF_INET6:
                made.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            made.bind((address, port))
            if kind == socket.SOCK_STREAM:
                made.listen()
            chosen.register(made, selectors.EVENT_READ, kind)
print("ready", flush=True)
while True:
    for key, _ in chosen.select():
        if key.data == socket.SOCK_STREAM:
            key.fileobj.accept()[0].close()
        else:
            try:
                data, sender = key.fileobj.recvfrom(2048)
                key.fileobj.sendto(data, sender)
            except OSError:
                pass  # our own filter took the answer
"""


def why_not():
    """Why namespaces cannot be made here; None where they can."""
    if os.geteuid() != 0:
        return "needs root to make network namespaces"
    for tool in ("ip", "nft"):
        if shutil.which(tool) is None and not Path(f"/usr/sbin/{tool}").exists():
            return f"needs {tool}"
    return None


def run(*command, text=None):
    """Run a command that must succeed; its output."""
    done = subprocess.run(command, capture_output=True, text=True, input=text, timeout=60)
    if done.returncode:
        raise AssertionError(f"{' '.join(command)}: {done.stderr[:600]}\n{text or ''}")
    return done.stdout


@unittest.skipIf(why_not() is not None, why_not() or "")
class TwoMachines(unittest.TestCase):
    """A client and a server on one cable; the server answers TCP and UDP on `OPEN_PORTS`, in both families. Neighbours
    are set by hand, so that a rule set that drops neighbour discovery changes nothing else, where `knows_neighbours`.
    """

    knows_neighbours = True

    @classmethod
    def setUpClass(cls):
        os.environ["PATH"] += ":/usr/sbin:/sbin"
        cls.client, cls.server = f"kbc{os.getpid()}", f"kbs{os.getpid()}"
        for name in (cls.client, cls.server):
            run("ip", "netns", "add", name)
            cls.addClassCleanup(run, "ip", "netns", "del", name)
        run(
            "ip",
            "link",
            "add",
            "eth0",
            "netns",
            cls.client,
            "type",
            "veth",
            "peer",
            "name",
            "eth0",
            "netns",
            cls.server,
        )
        macs = {}
        for name, own4, own6 in ((cls.client, CLIENT4, CLIENT6), (cls.server, SERVER4, SERVER6)):
            inside = ("ip", "-n", name)
            run(*inside, "address", "add", f"{own4}/24", "dev", "eth0")
            run(*inside, "address", "add", f"{own6}/64", "dev", "eth0", "nodad")
            run(*inside, "link", "set", "lo", "up")
            run(*inside, "link", "set", "eth0", "up")
            macs[name] = json.loads(run(*inside, "-j", "link", "show", "eth0"))[0]["address"]
            for setting in (
                "net.ipv4.icmp_ratelimit=0",
                "net.ipv6.icmp.ratelimit=0",
                "net.ipv4.icmp_msgs_per_sec=100000",
            ):
                cls.inside(name, "sysctl", "-qw", setting)
        for name, other, four, six in (
            (cls.client, cls.server, SERVER4, SERVER6),
            (cls.server, cls.client, CLIENT4, CLIENT6),
        ):
            for address in (four, six) if cls.knows_neighbours else ():
                run(
                    "ip",
                    "-n",
                    name,
                    "neigh",
                    "replace",
                    address,
                    "lladdr",
                    macs[other],
                    "dev",
                    "eth0",
                    "nud",
                    "permanent",
                )
        cls.serving = subprocess.Popen(
            ["ip", "netns", "exec", cls.server, sys.executable, "-c", _SERVE, *map(str, OPEN_PORTS)],
            stdout=subprocess.PIPE,
        )
        cls.addClassCleanup(cls._stop_serving)
        assert cls.serving.stdout.readline() == b"ready\n"

    @classmethod
    def _stop_serving(cls):
        cls.serving.kill()
        cls.serving.wait()
        cls.serving.stdout.close()

    @classmethod
    def inside(cls, name, *command, text=None):
        """Run a command in one of the two namespaces."""
        return run("ip", "netns", "exec", name, *command, text=text)

    def load_rules(self, name, rules):
        """Replace the kernel rule set of a namespace and give back what the kernel lists of it, as JSON text."""
        # nft wants a line break or a semicolon before the brace that ends a chain.
        self.inside(
            name,
            "nft",
            "-f",
            "-",
            text="flush ruleset\n" + rules.replace(" }", " \n}").replace("} chain ", "}\nchain "),
        )
        # What was tracked under the rules of before is over soon: a client port that comes up again within the half
        # minute that the kernel gives UDP would be of a known connection.
        for kind in ("udp_timeout", "udp_timeout_stream", "icmp_timeout", "icmpv6_timeout"):
            self.inside(name, "sh", "-c", f"echo 2 > /proc/sys/net/netfilter/nf_conntrack_{kind} || true")
        return self.inside(name, "nft", "-j", "list", "ruleset")

    def probe(self, address, services, *options):
        """Real probes from the client, by the built program: the records."""
        words = ["probe", address, *services, "--json", "--timeout", "0.3", "--attempts", "1", *options]
        done = program.run(words, namespace=self.client)
        if done.returncode not in (0, 1) or not done.stdout:
            raise AssertionError(done.stderr)
        return [json.loads(line) for line in done.stdout.splitlines()]
