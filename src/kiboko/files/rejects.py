"""Rows that cannot be used: counted by kind, with the first place of each, never a reason to lose the rest."""

from __future__ import annotations

from dataclasses import dataclass, field

from kiboko.core.errors import InputError, Place, Problem


@dataclass(slots=True)
class Rejects:
    """What was rejected while reading one file. With `strict`, the first one stops the reading."""

    file: str
    strict: bool = False
    counts: dict[str, int] = field(default_factory=dict)
    first: dict[str, str] = field(default_factory=dict)

    def note(self, kind: str, where: str, text: str, line: int) -> None:
        """Count a rejected row. `where` is shown to the user, such as `row 40,000`."""
        if self.strict:
            raise InputError([Problem(Place(self.file, line), f"{where}: {text}")])
        self.counts[kind] = self.counts.get(kind, 0) + 1
        self.first.setdefault(kind, f"{where} (line {line}): {text}")

    @property
    def total(self) -> int:
        """How many rows were rejected."""
        return sum(self.counts.values())

    def sentences(self) -> list[str]:
        """One sentence for each kind of fault."""
        return [
            f"{self.file}: {count:,} {'row' if count == 1 else 'rows'} rejected, {kind}; first {self.first[kind]}"
            for kind, count in self.counts.items()
        ]
