"""The shapes of a change file: which changes there are, and what each is told."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Field

from kiboko.files.documents.shapes import Shape, Texts
from kiboko.files.network.schema import (
    AcceptedShape,
    Action,
    FilterShape,
    Flag,
    Ports,
    RouteShape,
    RuleShape,
    Whole,
)

VALUES = dict[str, Any]


class AddRule(Shape):
    """A rule that a filter has not, in front of or behind one that it has; by its own order else, or as the last."""

    filter: str
    direction: Literal["inbound", "outbound", "rules"] | None = None
    rule: RuleShape
    before: str | None = None
    after: str | None = None


class ReplaceRule(Shape):
    """Another rule in the place of one; its order and id stay where the other has none."""

    rule: str
    with_: RuleShape = Field(alias="with")


class EditRule(Shape):
    """Some fields of a rule, each with what it is to be; nothing (null) takes a field out."""

    elsewhere: ClassVar = dict.fromkeys(RuleShape.model_fields, "it goes into 'set'") | {"from": "it goes into 'set'"}
    rule: str
    set_: VALUES = Field(alias="set")


class MoveRule(Shape):
    """A rule in another place of its list."""

    rule: str
    before: str | None = None
    after: str | None = None
    order: Whole | None = None


class Attach(Shape):
    """A filter at machines, interfaces, subnets or outsides; groups and `all` from the filter's own side."""

    filter: str
    to: Texts


class Detach(Shape):
    """A filter off where it is attached."""

    filter: str
    from_: Texts = Field(alias="from")


class SetInstance(Shape):
    """What a machine is; of tags only those that are named, and nothing (null) takes one off."""

    elsewhere: ClassVar = {
        "filters": "attach and detach do that",
        **dict.fromkeys(("addresses", "public", "subnet"), "set_interface does that"),
    }
    instance: str
    state: Literal["running", "stopped"] | None = None
    tags: dict[str, str | None] = Field(default={})
    listens: list[Any] | None = None
    forwards: Flag | None = None
    host_filter: Any = None


class SetInterface(Shape):
    """What an interface is; a public address of nothing (null) takes it off."""

    elsewhere: ClassVar = {"filters": "attach and detach do that"}
    interface: str
    addresses: Texts | None = None
    public: str | None = None
    subnet: str | None = None


class SetSubnet(Shape):
    """What a subnet carries; nothing (null) takes it off."""

    subnet: str
    filter: str | None = None
    route_table: str | None = None
    zone: str | None = None


class AddRoute(Shape):
    """An entry of a route table."""

    table: str
    route: RouteShape


class Route(Shape):
    """An entry that a route table has."""

    table: str
    to: str
    origin: Literal["static", "learned"] | None = None


class ReplaceRoute(Route):
    """Another entry in the place of one."""

    with_: RouteShape = Field(alias="with")


class SetGroup(Shape):
    """A group as a whole; it is made where there is none."""

    group: str
    members: Texts | None = None
    where: dict[str, Texts] | None = None
    addresses: Texts | None = None


class Members(Shape):
    """Some members of a group."""

    group: str
    members: Texts


class SetCrossing(Shape):
    """The filter of a crossing; it is made where there is none."""

    source: str = Field(alias="from")
    destination: str = Field(alias="to")
    filter: str


class RemoveCrossing(Shape):
    """A crossing that there is."""

    source: str = Field(alias="from")
    destination: str = Field(alias="to")


class SetService(Shape):
    """What a named service stands for; it is made where there is none."""

    service: str
    means: Texts


class AddFilter(Shape):
    """A filter that there is not."""

    filter: str
    is_: FilterShape = Field(alias="is")


class Accept(AcceptedShape):
    """A finding of `audit` that somebody lives with."""


class SetDefaults(Shape):
    """What holds where nothing is said."""

    same_zone: Action | None = None
    between_zones: Action | None = None
    ephemeral_ports: Ports | None = None


class OneChange(Shape):
    """One change: exactly one of these."""

    add_rule: AddRule | None = None
    replace_rule: ReplaceRule | None = None
    edit_rule: EditRule | None = None
    move_rule: MoveRule | None = None
    remove_rule: str | None = None
    enable_rule: str | None = None
    disable_rule: str | None = None
    attach: Attach | None = None
    detach: Detach | None = None
    set_instance: SetInstance | None = None
    set_interface: SetInterface | None = None
    set_subnet: SetSubnet | None = None
    add_route: AddRoute | None = None
    replace_route: ReplaceRoute | None = None
    remove_route: Route | None = None
    set_group: SetGroup | None = None
    add_members: Members | None = None
    remove_members: Members | None = None
    remove_group: str | None = None
    set_crossing: SetCrossing | None = None
    remove_crossing: RemoveCrossing | None = None
    set_service: SetService | None = None
    remove_service: str | None = None
    add_filter: AddFilter | None = None
    remove_filter: str | None = None
    accept: Accept | None = None
    set_defaults: SetDefaults | None = None


class ChangeFileShape(Shape):
    """A change file, version 1."""

    kiboko: Annotated[Literal["change/1"], BeforeValidator(str)]
    name: str
    reason: str = ""
    changes: list[OneChange]


VERBS = tuple(OneChange.model_fields)
