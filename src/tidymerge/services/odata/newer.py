"""Leaving old rows to the service: only those that surely are, as the others are looked at all the same."""

from collections.abc import Sequence
from datetime import UTC, datetime
from urllib.parse import quote

from tidymerge.core.naming.mapping import fold
from tidymerge.model import Kind, TargetColumn


def newer_records(newer: tuple[str, int | datetime] | None, columns: Sequence[TargetColumn]) -> str:
    """A condition on a property of numbers, dates or times, percent-encoded; nothing for any other."""
    column = None if newer is None else next((one for one in columns if fold(one.name) == fold(newer[0])), None)
    literal = None if column is None or newer is None else _literal(column, newer[1])
    if column is None or literal is None:
        return ""
    return quote(f"{column.name} ge {literal} or {column.name} eq null", safe="")


def _literal(column: TargetColumn, least: int | datetime) -> str | None:
    kind = column.type.kind
    if isinstance(least, int):
        return f"{least:d}" if kind is Kind.INTEGER else None
    if kind is Kind.DATE and least.tzinfo is None:
        return f"{least:%Y-%m-%d}"
    if kind is Kind.TIMESTAMP and least.tzinfo is not None:
        return f"{least.astimezone(UTC):%Y-%m-%dT%H:%M:%S.%fZ}"
    return None
