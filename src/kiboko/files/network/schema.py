"""The shapes of the network file: which keys there are and what each holds.

These models check keys and types and make the published JSON Schema; what names refer to, and whether
addresses fit, is for `kiboko.files.network.network_file`. `python -m kiboko.files.network.schema` prints the
schema.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, WithJsonSchema

from kiboko.files.documents.lined_yaml import Plain
from kiboko.files.documents.shapes import Shape, Texts

_WHOLE = re.compile(r"[-+]?[0-9]+")
_FLAGS = {"true": True, "True": True, "TRUE": True, "false": False, "False": False, "FALSE": False}


def _whole(value: Any) -> Any:
    if isinstance(value, Plain) and _WHOLE.fullmatch(value) and len(value) < 12:
        return int(value)
    raise ValueError("a whole number belongs here")


def _flag(value: Any) -> Any:
    if isinstance(value, Plain) and value in _FLAGS:
        return _FLAGS[value]
    raise ValueError("true or false belongs here")


_FORMER_ORIGINS = {"manual": "static", "platform": "learned", "local": "connected, which is never listed"}


def _origin(value: Any) -> Any:
    if isinstance(value, str) and value in _FORMER_ORIGINS:
        raise ValueError(f"this is called {_FORMER_ORIGINS[value]} now")
    return value


Whole = Annotated[int, BeforeValidator(_whole), WithJsonSchema({"type": "integer"})]
Flag = Annotated[bool, BeforeValidator(_flag), WithJsonSchema({"type": "boolean"})]


def _some(value: list[str]) -> list[str]:
    if not value:
        raise ValueError("one name or more belongs here")
    return value


SomeTexts = Annotated[Texts, AfterValidator(_some)]
_CARRYING = {
    "type": "object",
    "properties": {"carrying": {"type": "string", "description": "every interface that carries this filter"}},
    "required": ["carrying"],
    "additionalProperties": False,
}
_PLAIN_ITEM = {"anyOf": [{"type": "string"}, _CARRYING]}
_PLAIN_PEER = {"anyOf": [*_PLAIN_ITEM["anyOf"], {"type": "array", "items": _PLAIN_ITEM}]}
_ALL_BUT = {
    "type": "object",
    "properties": {"not": _PLAIN_PEER, "in": _PLAIN_PEER},
    "required": ["not"],
    "additionalProperties": False,
    "description": "every address, or those of `in`, but these",
}
_PEER_ITEM = {"anyOf": [{"type": "string"}, _CARRYING, _ALL_BUT]}
PeerValue = Annotated[
    Any,
    WithJsonSchema(
        {
            "description": "a name, an address, a CIDR block, a range a-b, any, {carrying: FILTER}, {not: PEER},"
            " {in: PEER, not: PEER}, or a list of these",
            "anyOf": [*_PEER_ITEM["anyOf"], {"type": "array", "items": _PEER_ITEM}],
        }
    ),
]
ServiceValue = Annotated[
    Texts,
    Field(description="tcp/443, tcp/8000-8010, tcp, icmp/echo-request, icmp/3/4, proto/47, any, or a name"),
]
Ports = Annotated[
    str,
    BeforeValidator(lambda value: str(value) if isinstance(value, str) else value),
    Field(description="a port or a range such as 32768-60999"),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "integer"}]}),
]
Action = Literal["allow", "drop", "reject"]


class DefaultsShape(Shape):
    """What holds where nothing is said."""

    ephemeral_ports: Ports | None = None
    same_zone: Action = "allow"
    between_zones: Action = "drop"


class NetworkShape(Shape):
    """A routed address space."""

    cidrs: Texts
    public: Texts | None = None


class OutsideShape(Shape):
    """An endpoint set beyond the networks."""

    addresses: Texts
    zone: str | None = None
    filter: str | None = None
    ephemeral_ports: Ports | None = None


class GatewayShape(Shape):
    """A way in or out of networks."""

    kind: Literal["internet", "nat", "peering", "tunnel"]
    network: str | None = None
    networks: list[str] | None = None
    address: str | None = None
    outside: str | None = None


class RouteShape(Shape):
    """One entry of a route table."""

    to: str
    via: Annotated[
        Any,
        WithJsonSchema(
            {
                "description": "a gateway, discard, or an instance",
                "anyOf": [
                    {"type": "string"},
                    {
                        "type": "object",
                        "properties": {"instance": {"type": "string"}, "interface": {"type": "string"}},
                        "required": ["instance"],
                        "additionalProperties": False,
                    },
                ],
            }
        ),
    ]
    origin: Annotated[Literal["static", "learned"], BeforeValidator(_origin)] = "static"
    note: str = ""


class SubnetShape(Shape):
    """A block of a network."""

    network: str
    cidr: Texts
    zone: str | None = None
    route_table: str | None = None
    filter: str | None = None


class ZoneShape(Shape):
    """A zone; it has nothing but its name and an optional note."""

    note: str = ""


class CrossingShape(Shape):
    """Traffic from one zone to another, or inside one."""

    source: str = Field(alias="from")
    destination: str = Field(alias="to")
    filter: str
    note: str = ""


class RuleShape(Shape):
    """One rule. A field left out matches anything."""

    order: Whole | None = None
    id: str | None = None
    action: Action
    source: PeerValue = Field(default=None, alias="from")
    destination: PeerValue = Field(default=None, alias="to")
    service: ServiceValue | None = None
    source_ports: Annotated[Texts, Field(description="client ports, such as 1024-65535")] | None = None
    stateful: Flag | None = Field(default=None, description="in zone filters only")
    established: Flag = Field(default=False, description="TCP with ACK or RST alone: no openings")
    log: Flag = False
    enabled: Flag = True
    condition: str | None = Field(default=None, description="what else has to hold, in words: a user, a time")
    note: str = ""


class FilterShape(Shape):
    """A named rule set of one layer."""

    layer: Literal["subnet", "instance", "zone", "host"]
    decide: Literal["first", "any"]
    stateful: Flag
    inbound: list[RuleShape] | None = None
    outbound: list[RuleShape] | None = None
    rules: list[RuleShape] | None = None
    otherwise: Action = "drop"
    attach_to: Texts = Field(default=[])
    exempt: Texts = Field(default=[])
    note: str = ""


class GroupShape(Shape):
    """A named set of endpoints."""

    members: Texts | None = None
    where: dict[str, Texts] | None = None
    addresses: Texts | None = None
    note: str = ""


class InterfaceShape(Shape):
    """One interface of an instance."""

    name: str | None = None
    subnet: str
    addresses: Texts = Field(default=[])
    public: str | None = None
    filters: Texts = Field(default=[])


class InstanceShape(Shape):
    """A machine."""

    state: Literal["running", "stopped"] = "running"
    tags: dict[str, str] = Field(default={})
    interfaces: list[InterfaceShape] = Field(default=[])
    host_filter: Annotated[
        Any,
        WithJsonSchema(
            {
                "description": "a filter of layer host, or the file that `nft -j list ruleset` printed",
                "anyOf": [
                    {"type": "string"},
                    {
                        "type": "object",
                        "properties": {"nftables": {"type": "string"}},
                        "required": ["nftables"],
                        "additionalProperties": False,
                    },
                ],
            }
        ),
    ] = None
    listens: Annotated[
        Any,
        WithJsonSchema(
            {
                "description": "what accepts on this machine; left out: not known",
                "anyOf": [
                    {"type": "string"},
                    {
                        "type": "array",
                        "items": {
                            "anyOf": [
                                {"type": "string"},
                                {
                                    "type": "object",
                                    "properties": {
                                        "service": {
                                            "anyOf": [
                                                {"type": "string"},
                                                {"type": "array", "items": {"type": "string"}},
                                            ]
                                        },
                                        "address": {"type": "string"},
                                    },
                                    "required": ["service"],
                                    "additionalProperties": False,
                                },
                            ]
                        },
                    },
                    {
                        "type": "object",
                        "properties": {"sockets": {"type": "string", "description": "`ss -H -tuln` output"}},
                        "required": ["sockets"],
                        "additionalProperties": False,
                    },
                ],
            }
        ),
    ] = None
    forwards: Flag = False
    ephemeral_ports: Ports | None = None
    note: str = ""


class AcceptedShape(Shape):
    """A finding of `audit` that somebody has looked at and lives with."""

    finding: str
    at: str
    reason: str
    until: Annotated[str, Field(description="the last day on which it is accepted, as 2026-12-31")] | None = None


class ExpectationShape(Shape):
    """A promise about traffic, which `expect` holds the network to."""

    id: str
    source: SomeTexts = Field(alias="from")
    destination: SomeTexts = Field(alias="to")
    service: Annotated[ServiceValue, AfterValidator(_some)]
    expect: Literal["allowed", "blocked", "only"]
    excepted: Texts = Field(default=[], alias="except")
    family: Annotated[Literal[4, 6], BeforeValidator(_whole)] | None = None
    owner: str = ""
    reason: str = ""


class NetworkFile(Shape):
    """A network file, version 1: one file, or one part of a folder."""

    kiboko: Annotated[Literal[1], BeforeValidator(_whole)]
    name: str | None = None
    note: str = ""
    as_of: str | None = Field(default=None, description="when this was true of the real network, RFC 3339")
    defaults: DefaultsShape | None = None
    networks: dict[str, NetworkShape] = Field(default={})
    outside: dict[str, OutsideShape] = Field(default={})
    gateways: dict[str, GatewayShape] = Field(default={})
    route_tables: dict[str, list[RouteShape]] = Field(default={})
    subnets: dict[str, SubnetShape] = Field(default={})
    zones: dict[str, ZoneShape | None] = Field(default={})
    crossings: list[CrossingShape] = Field(default=[])
    filters: dict[str, FilterShape] = Field(default={})
    groups: dict[str, GroupShape] = Field(default={})
    services: dict[str, ServiceValue] = Field(default={})
    instances: dict[str, InstanceShape] = Field(default={})
    observation_points: dict[str, Any] = Field(default={})
    logins: Annotated[Texts, Field(description="services by which a machine is logged in to")] | None = None
    administration: Annotated[Texts, Field(description="services that are not for everybody")] | None = None
    accepted: list[AcceptedShape] = Field(default=[])
    expectations: list[ExpectationShape] = Field(default=[])


SINGLE = ("name", "note", "as_of", "logins", "administration")
"""What stands beside the sections of a network file. A section may be there with nothing in it; these may not."""


def json_schema() -> str:
    """The JSON Schema (draft 2020-12) of the network file, as text."""
    import json

    made = NetworkFile.model_json_schema(by_alias=True)
    for shape in made["$defs"].values():
        for value in shape["properties"].values():
            _take_null_out(value)
    for key, value in made["properties"].items():
        if key in SINGLE:
            _take_null_out(value)
        elif key not in made["required"] and {"type": "null"} not in value.get("anyOf", ()):
            held = {name: value.pop(name) for name in [*value] if name not in ("default", "description", "title")}
            value["anyOf"] = [held, {"type": "null"}]
    return json.dumps(made, indent=1) + "\n"


def _take_null_out(value: dict[str, Any]) -> None:
    """Of a key's schema: what may be left out may not be there without a value."""
    left = [each for each in value.get("anyOf", ()) if each != {"type": "null"}]
    if len(left) < len(value.get("anyOf", ())):
        del value["anyOf"]
        value.update(left[0] if len(left) == 1 else {"anyOf": left})
        value.pop("default", None)


if __name__ == "__main__":
    print(json_schema(), end="")
