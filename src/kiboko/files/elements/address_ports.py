"""Addresses with a port behind them, as `10.1.1.10:40001` and `[2001:db8::9]:443` (RFC 3986): logs of load balancers
and proxies have both in one column."""

from __future__ import annotations

import re

import pyarrow as pa

from kiboko.files.elements.fields import DESTINATIONS, SOURCES

_BOTH = r"^\s*(?:(?P<four>\d{1,3}(?:\.\d{1,3}){3})|\[(?P<six>[0-9A-Fa-f:.]+)\]):(?P<port>\d{1,5})\s*$"
_PATTERN = re.compile(_BOTH)
_LOOKED_AT = 200
_PORTS = {"sourceTransportPort": SOURCES, "destinationTransportPort": DESTINATIONS}
PORT_OF = {name: port for port, names in _PORTS.items() for name in names}
"""The element of the port that belongs to each address."""


def address_and_port(text: str) -> tuple[str, str] | None:
    """The address and the port of a text that has both; None for any other."""
    found = _PATTERN.match(text)
    return (found["four"] or found["six"], found["port"]) if found is not None else None


def ports_apart(batch: pa.Table) -> pa.Table:
    """Records as columns by information element, with ports in columns of their own where addresses have them
    behind them, and no other column has ports."""
    for element, names in _PORTS.items():
        if element in batch.column_names and batch.column(element).null_count < batch.num_rows:
            continue
        for name in names:
            if name in batch.column_names and _has_ports(batch.column(name)):
                batch = _parted(batch, name, element)
                break
    return batch


def _has_ports(column: pa.ChunkedArray) -> bool:
    """Whether some of the first addresses of a column have a port behind them."""
    values = column.slice(0, _LOOKED_AT).to_pylist()
    texts = [value.decode("utf-8", "replace") if isinstance(value, bytes) else value for value in values]
    return any(isinstance(text, str) and address_and_port(text) is not None for text in texts)


def _parted(batch: pa.Table, name: str, element: str) -> pa.Table:
    import pyarrow.compute as pc  # takes long to load, and few logs have such columns

    texts = batch.column(name)
    if pa.types.is_dictionary(texts.type):
        texts = texts.cast(texts.type.value_type)
    # What is no UTF-8 is no address either: whoever reads those tells.
    found = pc.extract_regex(texts, _BOTH)
    four, six, port = (pc.struct_field(found, part) for part in ("four", "six", "port"))
    address = pc.if_else(pc.equal(four, pa.scalar("", four.type)), six, four)
    batch = batch.set_column(batch.column_names.index(name), name, pc.coalesce(address, texts.cast(address.type)))
    if element in batch.column_names:
        batch = batch.drop_columns([element])
    return batch.append_column(element, port.cast(pa.string()).cast(pa.int32()))
