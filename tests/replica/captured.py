"""Captures of what real packets do in a replica, and what real exporters make of these."""

import contextlib
import json
import os
import socket
import struct
import subprocess
import threading
import time
from concurrent.futures import ThreadPoolExecutor

from kiboko.replica.kernel import Services, build, enter
from kiboko.replica.site import GATEWAY4, GATEWAY6
from kiboko.replica.verify import send_all
from kiboko.wire.probes import Sending
from tests.replica.strangers import send

SAMPLING = "one packet in twenty, each counted for twenty"
EXPORTERS = {
    "each direction by itself": ("softflowd", "-6", "-d", "-v", "10", "-A", "milli"),
    "both directions, the lower address first": ("softflowd", "-6", "-d", "-v", "10", "-A", "milli", "-b"),
    "of another make": ("pmacctd",),
    SAMPLING: ("softflowd", "-6", "-d", "-v", "10", "-A", "milli", "-s", "20"),
}
"""How exporters are called that send IPFIX, but for what they read and where they send to."""
_OTHER_MAKE = """
daemonize: false
pcap_savefile: {capture}
pcap_savefile_wait: false
plugins: nfprobe
nfprobe_receiver: 127.0.0.1:{port}
nfprobe_version: 10
nfprobe_timeouts: tcp=3:tcp.rst=3:tcp.fin=3:udp=3:icmp=3:general=3:maxlife=3600:expint=1
aggregate: src_host, dst_host, src_port, dst_port, proto, tcpflags
"""
_BUFFER, _RCVBUFFORCE, _EVERY_PROTOCOL, _AT_ONCE, _QUIET = 64 << 20, 33, 3, 50, 0.7


def captured_inside(argument):
    """In a replica: the outcomes of trials, while strangers send; what passes the bridge of each subnet goes into a
    capture file of its name in `folder` (pcap, microseconds, Ethernet)."""
    layout, trials, strays, subnets, folder = argument
    build(layout)
    _forget_neighbours(layout)
    services, stopped = Services(layout), threading.Event()
    taps = [
        threading.Thread(target=_capture, args=(layout.homes[each], f"{folder}/{each}.pcap", stopped))
        for each in subnets
    ]
    for each in taps:
        each.start()
    time.sleep(0.3)

    def send_strays():
        with ThreadPoolExecutor(_AT_ONCE) as pool:
            list(pool.map(send, strays))

    meanwhile = threading.Thread(target=send_strays)
    meanwhile.start()
    outcomes = tuple(send_all(layout, trials, Sending(0.7, 2)))
    meanwhile.join()
    services.close()
    stopped.set()
    for each in taps:
        each.join()
    return outcomes


def _forget_neighbours(layout):
    """Have machines of one subnet find each other by messages of their own, as real ones do, where a replica has told
    them of each other. Of their routers they are told still: these have no such addresses."""
    for name in layout.machines:
        shown = subprocess.run(["ip", "-n", name, "-j", "neigh", "show", "nud", "permanent"], capture_output=True)
        known = [each for each in json.loads(shown.stdout or "[]") if each["dst"] not in (GATEWAY4, GATEWAY6)]
        lines = "".join(f"neigh del {each['dst']} dev {each['dev']}\n" for each in known if each["dev"] != "br0")
        subprocess.run(["ip", "-n", name, "-batch", "-"], input=lines.encode(), check=True)


def _capture(home, path, stopped):
    enter(home)
    with (
        socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(_EVERY_PROTOCOL)) as made,
        open(path, "wb") as out,
    ):
        made.setsockopt(socket.SOL_SOCKET, _RCVBUFFORCE, _BUFFER)
        made.bind(("br0", 0))
        made.settimeout(0.2)
        out.write(struct.pack("!IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 1))
        while not stopped.is_set():
            with contextlib.suppress(TimeoutError):
                data = made.recv(65535)
                seconds, rest = divmod(time.time(), 1)
                out.write(struct.pack("!IIII", int(seconds), int(rest * 1e6), len(data), len(data)) + data)


def exported(exporter, capture, path):
    """Have an exporter read a capture file, and keep the messages that it sends as a file of IPFIX (RFC 5655)."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as receiver, open(path, "wb") as kept:
        receiver.setsockopt(socket.SOL_SOCKET, _RCVBUFFORCE, _BUFFER)
        receiver.bind(("127.0.0.1", 0))
        port = receiver.getsockname()[1]
        if EXPORTERS[exporter] == ("pmacctd",):
            config = f"{path}.conf"
            with open(config, "w") as out:
                out.write(_OTHER_MAKE.format(capture=capture, port=port))
            command = ["pmacctd", "-f", config]
        else:
            command = [*EXPORTERS[exporter], "-r", capture, "-n", f"127.0.0.1:{port}", "-p", f"{path}.pid"]
        subprocess.run(list(map(os.fspath, command)), capture_output=True, check=False, timeout=60)
        receiver.settimeout(_QUIET)
        with contextlib.suppress(TimeoutError):
            while True:
                kept.write(receiver.recv(65535))
