"""`kiboko collect STORE`: flow records and log messages off the wire into a store."""

from __future__ import annotations

import argparse
from pathlib import Path

from kiboko.commands.options import add_columns_option, add_examples, add_network_option


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The options of `collect`."""
    parser.add_argument("store", metavar="STORE", type=Path, help="a folder for records, made where there is none")
    parser.add_argument("--listen", metavar="ADDRESS", default="127.0.0.1",
                        help="where to receive (127.0.0.1, this machine alone; 0.0.0.0 or :: is anywhere)")  # fmt: skip
    parser.add_argument("--flow-port", metavar="PORT", default="4739",
                        help="IPFIX over UDP and TCP, NetFlow over UDP (4739; 0: any free one; 'none')")  # fmt: skip
    parser.add_argument("--syslog-port", metavar="PORT", default="5514",
                        help="syslog over UDP and TCP (5514; 0 is any free one, 'none' for none)")  # fmt: skip
    parser.add_argument("--tls-port", metavar="PORT", help="syslog over TLS, with a certificate (6514)")
    parser.add_argument("--flow-tls-port", metavar="PORT",
                        help="IPFIX over TLS, with a certificate (4740)")  # fmt: skip
    parser.add_argument("--certificate", metavar="FILE", type=Path, help="the certificate of this collector (PEM)")
    parser.add_argument("--key", metavar="FILE", type=Path, help="its key, where that is not in the same file")
    parser.add_argument("--client-authority", metavar="FILE", type=Path,
                        help="take TLS only from senders with a certificate of this authority")  # fmt: skip
    parser.add_argument("--keep-days", metavar="N", type=int, help="remove what is older than so many days")
    parser.add_argument("--keep-size", metavar="SIZE", help="remove the oldest beyond so much in all, such as 20G")
    parser.add_argument("--confirm", action="store_true", help="hold the records against the rules as they come")
    add_network_option(parser)
    add_columns_option(parser)
    parser.add_argument("--stop-after", metavar="SECONDS", type=float, help="end by itself")
    parser.add_argument("--quiet", action="store_true", help="no live view, and no line for a leak or break")
    parser.add_argument("--json", action="store_true", help="a report at the end, collect/1")
    add_examples(
        parser,
        "collect store",
        "collect store --confirm --stop-after 60",
        "collect store --listen 0.0.0.0 --keep-days 30 --keep-size 20G",
    )


def run(args: argparse.Namespace) -> int:
    """Collect until told to stop; 0, or 1 where `--confirm` met a leak or a break."""
    from kiboko.commands.collecting import run as collect  # only who collects pays for what that needs

    return collect(args)
