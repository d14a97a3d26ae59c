""" "Did you mean": the nearest of the words that would have been right."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

_MEANT = {
    "allow": ("accept", "permit", "pass"), "drop": ("deny", "block", "discard"), "reject": ("refuse",),
    "allowed": ("permitted", "accepted", "permit", "accept"), "blocked": ("denied", "dropped", "deny", "drop"),
    "discard": ("blackhole", "null", "null0", "drop", "reject", "unreachable", "prohibit"),
    "tunnel": ("vpn", "ipsec"), "peering": ("peer", "transit", "hub", "router"), "nat": ("snat", "masquerade"),
    "running": ("up", "started", "on", "active"), "stopped": ("down", "off", "terminated", "inactive"),
    "from": ("source", "sources", "src", "source_address"), "to": ("destination", "destinations", "dst", "dest"),
    "service": ("port", "ports", "protocol", "proto", "dport", "destination_port", "destination_ports"),
    "source_ports": ("sport", "source_port"), "action": ("verdict", "target"), "otherwise": ("default", "policy"),
    "condition": ("user", "users", "identity", "application", "applications", "app", "url", "domain", "fqdn",
                  "hostname", "schedule", "time", "when", "if", "category", "country", "profile"),
    "established": ("ack", "tcp_established", "state", "ct_state"),
    "note": ("comment", "description", "remark"), "order": ("priority", "sequence", "position", "number"),
    "id": ("name",), "attach_to": ("attached_to", "applies_to"), "via": ("gateway", "next_hop", "nexthop"),
    "addresses": ("ip", "ips", "address"), "listens": ("listeners", "sockets"), "instances": ("hosts", "machines"),
    "denied": ("blocked", "block", "deny", "dropped", "drop", "rejected", "reject", "refused"),
    "passed": ("allowed", "allow", "accepted", "accept", "permitted", "permit", "pass"),
    "answered": ("open", "up", "success", "ok", "reachable", "connected"), "refused": ("closed", "reset", "rejected"),
    "silent": ("filtered", "timeout", "timed_out", "dropped", "no_answer", "no-answer"),
    "inbound": ("in", "ingress", "incoming", "input"), "outbound": ("out", "egress", "outgoing", "output"),
    "add_rule": ("insert_rule", "append_rule", "new_rule", "create_rule"),
    "edit_rule": ("change_rule", "update_rule", "modify_rule", "set_rule"), "attach": ("attach_filter",),
    **{f"remove_{each}": tuple(f"{verb}_{each}" for verb in ("delete", "del", "drop", "rm", "take"))
       for each in ("rule", "route", "members", "group", "crossing", "service", "filter")},
    "detach": ("detach_filter", "unattach"),
    "enable_rule": ("switch_on", "activate_rule"), "disable_rule": ("switch_off", "deactivate_rule"),
    "public": ("routed", "announced", "global", "public_ip", "public_address"),
    "cidrs": ("blocks",), "cidr": ("block",), "outside": ("outsides", "external"),
}  # fmt: skip
"""The words of network files and change files, each with those that others have for the same."""
_MANY, _FEW = 1000, 200
"""Of more candidates than many, those few are compared that have the most pairs of letters in common with the word."""


def alike(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> list[str]:
    """The candidates most like a word, best first; `likeness` runs from 0 (anything) to 1 (the word itself). Where none
    is as it is written, those are that are like it in small letters, as names are.

    The library is imported here, since only who mistypes needs it.
    """
    import difflib

    listed = list(candidates)
    if word not in listed:
        meant = [each for each in listed if word.lower() in _MEANT.get(each, ())]
        if meant:
            return meant[:most]
    if len(listed) > _MANY:
        import heapq

        own = _pairs(word.lower())
        listed = heapq.nlargest(_FEW, listed, key=lambda each: _shared(own, _pairs(each.lower())))
    found = difflib.get_close_matches(word, listed, most, likeness)
    return found or difflib.get_close_matches(word.lower(), listed, most, likeness)


def _pairs(word: str) -> set[tuple[str, str]]:
    """Letters that stand next to each other."""
    return {*itertools.pairwise(word)}


def _shared(own: set[tuple[str, str]], other: set[tuple[str, str]]) -> float:
    return len(own & other) / (len(own) + len(other) or 1)


def nearest(word: str, candidates: Iterable[str], most: int = 1, likeness: float = 0.6) -> str:
    """`; did you mean 'NAME'?` for the candidates most like a word, or nothing where none is."""
    close = alike(word, candidates, most, likeness)
    return f"; did you mean {', '.join(map(repr, close))}?" if close else ""
