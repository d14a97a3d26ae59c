"""Two versions of a network side by side: what they say differently, and what that opens and closes."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from kiboko.core.changes.difference import CLOSED, IN_PART, OPENED, Changed, Difference
from kiboko.core.changes.said import RuleLine, RulesBeside, Said, rules_beside
from kiboko.core.header.services import services_texts
from kiboko.core.queries.ends import Ends
from kiboko.core.reachability.naming import Namer
from kiboko.views.check_view import decider_text
from kiboko.views.output import Grid, Output
from kiboko.views.reach_view import check_words, named
from kiboko.views.text import counted, network_option

_STYLES = {OPENED: "allowed", CLOSED: "blocked", IN_PART: "partly"}
_MOST_SAID = 40
_MOST_NAMES = 8
_MOST_LISTS = 6
_AROUND = 2
_MOST_SERVICES = 8


@dataclass(frozen=True, slots=True)
class CompareShown:
    """How it is shown: both network files as they were named, all names or the first few, and how many lines."""

    old: str
    new: str
    full: bool = False
    top: int = 40
    toggles: str = ""
    """What else goes on a command line, where rules are toggled rather than files compared."""

    @property
    def options(self) -> str:
        """What goes on the command line of a question about the second version."""
        return network_option(self.new) + self.toggles


def show_difference(found: Difference, shown: CompareShown, ends: tuple[Ends, Ends], out: Output) -> None:
    """What the files say differently, then every verdict that is another one."""
    met = Counter(each.kind for each in found.changed)
    told = ", ".join(f"{met[kind]:,} {kind}" for kind in (OPENED, CLOSED, IN_PART) if met[kind]) or "no verdict changes"
    out.line(f"{counted(len(found.said), 'difference')} in what the files say; {told}.", "heading")
    _show_said(found.said, shown, out)
    lists = list(rules_beside(ends[0].topology, ends[1].topology))
    for beside in lists if shown.full else lists[:_MOST_LISTS]:
        _show_beside(beside, shown, out)
    namer = Namer(ends[1])
    for kind in (OPENED, CLOSED, IN_PART):
        lines = [each for each in found.changed if each.kind == kind]
        if not lines:
            continue
        out.heading(f"What is {kind}" if kind != IN_PART else "What is changed in part")
        for number, each in enumerate(lines[: shown.top], 1):
            _show_line(number, each, shown, ends, namer, out)
        if len(lines) > shown.top:
            out.line(f"and {counted(len(lines) - shown.top, 'more line')}; --top N shows more, --json all", "quiet")
    caveats = caveats_of(found)
    if caveats:
        out.heading("Bear in mind")
        out.bullets(caveats)


def caveats_of(found: Difference) -> list[str]:
    """What has to be borne in mind."""
    told = []
    for names, where in ((found.gone, "the first"), (found.new, "the second")):
        if names:
            more = f" and {len(names) - _MOST_NAMES} more" if len(names) > _MOST_NAMES else ""
            told.append(f"only {where} file has {', '.join(names[:_MOST_NAMES])}{more}: verdicts on them are not"
                        " compared; reach tells of them")  # fmt: skip
    if found.moved:
        more = f" and {len(found.moved) - _MOST_NAMES} more" if len(found.moved) > _MOST_NAMES else ""
        told.append(f"not compared, since the files do not both have them, or have them at other addresses:"
                    f" {', '.join(found.moved[:_MOST_NAMES])}{more}; reach tells of them")  # fmt: skip
    return told


def _show_said(said: Sequence[Said], shown: CompareShown, out: Output) -> None:
    if not said:
        return
    out.heading("What the files say")
    most = len(said) if shown.full else _MOST_SAID
    for each in said[:most]:
        sign = "-" if each.after is None else "+" if each.before is None else "~"
        style = {"-": "blocked", "+": "allowed", "~": "partly"}[sign]
        where = f"  ({each.place})" if each.place is not None else ""
        out.parts((f"  {sign} ", style), (f"{each.section} ", "quiet"), (each.name, "mark"), (where, "quiet"))
        for label, text in (("before", each.before), ("now", each.after)):
            if text is not None and text != "there":
                out.labelled(f"      {label:<8}", text)
    if len(said) > most:
        out.line(f"  and {len(said) - most:,} more; --full shows all", "quiet")


def _show_beside(beside: RulesBeside, shown: CompareShown, out: Output) -> None:
    """A list of rules in both versions, in the order in which they decide: what differs, and the rules around it."""
    out.heading(f"{beside.filter}, {beside.way}: the rules before and after, in the order in which they decide")
    grid = Grid(["", "before", "after"], wide=("before", "after"))
    left_out = 0
    for at, line in enumerate(beside.lines):
        near = beside.lines[max(0, at - _AROUND) : at + _AROUND + 1]
        if not shown.full and all(each.is_same for each in near):
            left_out += 1
            continue
        sign, style = _sign(line)
        grid.add([sign, line.before or "", line.after or ""], style)
    out.grid(grid)
    if left_out:
        out.line(f"  and {counted(left_out, 'rule')} that stay as they are; --full shows them", "quiet")


def _sign(line: RuleLine) -> tuple[str, str]:
    if line.is_same:
        return " ", "quiet"
    return ("-", "blocked") if line.after is None else ("+", "allowed") if line.before is None else ("~", "partly")


def _show_line(
    number: int, each: Changed, shown: CompareShown, ends: tuple[Ends, Ends], namer: Namer, out: Output
) -> None:
    family = ", IPv6" if each.family == 6 else ""
    out.parts((f"{number:>3}. ", "quiet"), (f"{each.before} → {each.after}", _STYLES[each.kind]), (f"{family}: ", ""),
              (named(namer.names(each.sources), shown.full), "mark"))  # fmt: skip
    out.labelled("     to        ", named(namer.names(each.destinations), shown.full))
    texts = services_texts(each.services)
    more = "" if shown.full or len(texts) <= _MOST_SERVICES else f" and {len(texts) - _MOST_SERVICES} more"
    out.labelled("     on        ", ", ".join(texts if shown.full else texts[:_MOST_SERVICES]) + more)
    for label, ports, decider in zip(("before", "now"), each.ports, _deciders(each, ends), strict=True):
        text = f"client ports {ports} get an answer" if ports else decider
        if text:
            out.labelled(f"     {label:<10}", text)
    out.labelled("     see       ", check_words(each.example, each.family, shown.options), is_paste=True)


def _deciders(each: Changed, ends: tuple[Ends, Ends]) -> tuple[str, str]:
    """What stops the example in each version, empty where nothing does."""
    found = []
    for which in ends:
        source, destination, service = each.example
        pairs = which.pairs(source, destination, each.family)
        walk = which.walk_pair(pairs[0], service) if pairs else None
        decider = walk.decided_by if walk is not None else None
        found.append(f"stopped by {decider_text(decider)}" if decider is not None else "")
    return found[0], found[1]


def compare_json(found: Difference, shown: CompareShown, ends: tuple[Ends, Ends]) -> dict[str, Any]:
    """All that differs, as `compare/1`."""
    namer = Namer(ends[1])
    met = Counter(each.kind for each in found.changed)
    return {
        "kiboko": "compare/1",
        "summary": {"old": shown.old, "new": shown.new, "said": len(found.said), "opened": met[OPENED],
                    "closed": met[CLOSED], "changed_in_part": met[IN_PART]},
        "said": [
            {"section": each.section, "name": each.name, "before": each.before, "after": each.after,
             "file": each.place.file if each.place else None, "line": each.place.line if each.place else None}
            for each in found.said
        ],
        "rows": [
            {
                "kind": each.kind, "before": each.before, "after": each.after, "family": each.family,
                "sources": [name.text for name in namer.names(each.sources)],
                "destinations": [name.text for name in namer.names(each.destinations)],
                "services": services_texts(each.services),
                "client_ports_before": each.ports[0].texts(), "client_ports_after": each.ports[1].texts(),
                "check": check_words(each.example, each.family, shown.options),
            }
            for each in found.changed
        ],
        "caveats": caveats_of(found),
    }  # fmt: skip
