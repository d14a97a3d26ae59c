"""Statements of kernel rules in the words of nft(8), from the JSON that it prints (libnftables-json(5))."""

from __future__ import annotations

import json
from typing import Any

from kiboko.core.network.host_rules import DEVICE_FIELDS

_MOST_CHARACTERS = 120


def written(expression: Any) -> str:
    """A statement as it is written in a rule; where it is of an unusual kind, its JSON, cut at 120 characters.

    >>> written({"limit": {"rate": 10, "per": "second"}})
    'limit rate 10/second'
    >>> written({"dnat": {"addr": "10.1.1.5", "port": 80}})
    'dnat to 10.1.1.5:80'
    >>> written({"match": {"op": "==", "left": {"meta": {"key": "mark"}}, "right": {"set": [1, {"range": [3, 5]}]}}})
    'meta mark { 1, 3-5 }'
    """
    try:
        ((kind, body),) = expression.items()
        text = _statement(kind, body)
    except (AttributeError, KeyError, IndexError, TypeError, ValueError, RecursionError):
        text = None
    return (text or json.dumps(expression, separators=(",", ":")))[:_MOST_CHARACTERS]


def _statement(kind: str, body: Any) -> str | None:
    if isinstance(body, str):
        return f"{kind} name {body}"
    match kind:
        case "match":
            return _match(body)
        case "mangle":
            return f"{_value(body['key'])} set {_value(body['value'])}"
        case "limit":
            over = "over " if body.get("inv") else ""
            unit = f" {body['rate_unit']}" if body.get("rate_unit", "packets") != "packets" else ""
            return f"limit rate {over}{body['rate']}{unit}/{body['per']}"
        case "quota":
            return f"quota {'over ' if body.get('inv') else ''}{body['val']} {body['val_unit']}"
        case "ct count":
            return f"ct count {'over ' if body.get('inv') else ''}{body['val']}"
        case "dnat" | "snat":
            to = _value(body["addr"]) if "addr" in body else ""
            port = f":{_value(body['port'])}" if "port" in body else ""
            return f"{kind} to {f'[{to}]' if ':' in to and port else to}{port}"
        case "redirect" | "masquerade" | "tproxy":
            return kind + (f" to :{_value(body['port'])}" if body and "port" in body else "")
        case "queue":
            return "queue" + (f" num {_value(body['num'])}" if body and "num" in body else "")
        case "set":
            return f"{body['op']} {body['set']} {{ {_value(body['elem'])} }}"
    return kind if body is None else None


def _match(body: Any) -> str:
    left, right, operator = _value(body["left"]), body["right"], body["op"]
    if isinstance(right, bool):
        return f"{left} {'exists' if right == (operator == '==') else 'missing'}"
    is_masked = isinstance(body["left"], dict) and "&" in body["left"]
    sign = "" if operator in ("==", "in") and not is_masked else f"{operator} "
    return f"{left} {sign}{_value(right)}"


def _value(value: Any) -> str:
    """The left or the right of a comparison, or what something is set to."""
    if isinstance(value, list):
        return ",".join(map(_value, value))
    if not isinstance(value, dict):
        return str(value)
    ((kind, body),) = value.items()
    match kind:
        case "payload" if "protocol" in body:
            return f"{body['protocol']} {body['field']}"
        case "payload":
            return f"@{body['base']},{body['offset']},{body['len']}"
        case "meta":
            return str(body["key"]) if body["key"] in DEVICE_FIELDS else f"meta {body['key']}"
        case "ct":
            return " ".join(filter(None, ("ct", body.get("dir"), body.get("family"), body["key"])))
        case "rt" | "socket":
            return f"{kind} {body['key']}"
        case "exthdr" | "tcp option":
            return " ".join(filter(None, (kind, body["name"], body.get("field"))))
        case "fib":
            flags = body["flags"] if isinstance(body["flags"], list) else [body["flags"]]
            return f"fib {' . '.join(flags)} {body['result']}"
        case "numgen":
            return f"numgen {body['mode']} mod {body['mod']}"
        case "jhash":
            return f"jhash {_value(body['expr'])} mod {body['mod']}"
        case "&" | "|" | "^" | "<<" | ">>":
            return f" {kind} ".join(map(_value, body))
        case "prefix":
            return f"{body['addr']}/{body['len']}"
        case "range":
            return "-".join(map(_value, body))
        case "set":
            return f"{{ {', '.join(map(_value, body if isinstance(body, list) else [body]))} }}"
        case "concat":
            return " . ".join(map(_value, body))
        case "elem":
            return _value(body["val"])
    raise ValueError(kind)
