"""Times as documents and records have them."""

from __future__ import annotations

from datetime import UTC, datetime


def parse_time(text: str) -> datetime:
    """A time of RFC 3339, in UTC. Raises ValueError where it is none or has no zone."""
    try:
        found = datetime.fromisoformat(text)
    except ValueError as error:
        raise ValueError(f"'{text}' is not a time such as 2026-11-20T09:00:00Z") from error
    if found.tzinfo is None:
        raise ValueError(f"'{text}' has no time zone; write it as {found.isoformat()}Z if it is UTC")
    try:
        return found.astimezone(UTC)
    except OverflowError as error:
        raise ValueError(f"'{text}' is before or behind all years in UTC") from error
