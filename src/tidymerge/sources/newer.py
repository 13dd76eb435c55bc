"""Leaving old rows to the server: only those that surely are, as the others are looked at all the same."""

from collections.abc import Sequence
from datetime import UTC, datetime

from tidymerge.core.naming.mapping import fold
from tidymerge.databases.contract.database import quoted
from tidymerge.model import Kind, TargetColumn

Newer = tuple[str, int | datetime]


def newer_rows(newer: Newer | None, columns: Sequence[TargetColumn]) -> str:
    """A condition behind the rows `t`, for a column of numbers, dates or times; nothing for any other.

    The bound is a number or a moment of ours, written out by its own parts: no text of anybody's gets into it.
    """
    if newer is None:
        return ""
    name, least = newer
    column = next((one for one in columns if fold(one.name) == fold(name)), None)
    literal = None if column is None else _literal(column, least)
    if column is None or literal is None:
        return ""
    place = f"t.{quoted(column.name)}"
    return f" WHERE ({place} >= {literal} OR {place} IS NULL)"


def _literal(column: TargetColumn, least: int | datetime) -> str | None:
    kind = column.type.kind
    if isinstance(least, int):
        return f"{least:d}" if kind is Kind.INTEGER else None
    if kind not in (Kind.DATE, Kind.TIMESTAMP) or column.type.zone is not (least.tzinfo is not None):
        return None
    moment = least.astimezone(UTC) if least.tzinfo else least  # the zone of all our sessions
    return f"TIMESTAMP '{moment:%Y-%m-%d %H:%M:%S.%f}'"
