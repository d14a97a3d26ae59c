"""Flow records held against the rules one after the other, with the requests before each kept in mind: what the compiled
evaluator does for whole tables, by plain means."""

from dataclasses import dataclass

from kiboko.core.evidence.comparison import Comparison, Finding, is_request, seen_behind
from kiboko.core.records.records import FlowRecord
from kiboko.core.records.signs import proves_passage


@dataclass
class Request:
    """A request that was recorded, and whether its reply has shown since that it passed."""

    record: FlowRecord
    finding: Finding
    is_decided: bool = False


class OneByOne(Comparison):
    """A comparison that remembers requests. `corrected` has records whose finding a later record changed, each with it
    as it was and as it is now."""

    def __init__(self, walker):
        super().__init__(walker)
        self.recent = {}
        self.corrected = []

    def flow(self, record):
        """A record held against the rules and against the requests that were given here before it."""
        finding = self.judge(record)
        if record.service.has_ports and record.source_port is not None:
            ends = (record.destination, record.source, record.service.protocol)
            found = self.recent.get((*ends, record.service.detail, record.source_port))
            if found is not None and self.may_reply(record, finding):
                if found.finding.is_undecided and not found.is_decided and proves_passage(record):
                    found.is_decided = True
                    self.corrected.append((found.record, found.finding, self.decided(found.finding)))
                finding = self.judge_reply(record, found.finding)
            if is_request(record, finding):
                self.remember(record, finding)
        return finding

    def remember(self, record, finding):
        """Keep a request under its own addresses, and under those that it bears behind a gateway."""
        ports = (record.service.protocol, record.source_port, record.service.detail)
        entry = Request(record, finding)
        self.recent[(record.source, record.destination, *ports)] = entry
        behind = seen_behind(finding)
        if behind is not None:
            self.recent.setdefault((*behind, *ports), entry)
