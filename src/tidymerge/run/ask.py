"""What a target may be able to do, asked in one place: what it lacks has an answer of its own."""

from collections.abc import Mapping, Sequence

import pyarrow as pa

from tidymerge.errors import NoSuchTable
from tidymerge.model import EqualTexts, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import Violation
from tidymerge.ports.target import AmongOthers, Collated, Constrained, NamedByPlace, Reacting, Target


def sibling(target: Target, table: str) -> tuple[TableShape, pa.Table]:
    """Another table beside the target, to look up in. Raises NoSuchTable."""
    if isinstance(target, AmongOthers):
        return target.sibling(table)
    raise NoSuchTable(
        f"{target.address} is a table by itself, so there is no {table!r} beside it to look up in.", table=table
    )


def equal_among(target: Target, column: TargetColumn, texts: pa.Array) -> EqualTexts:
    """Which of some texts the target takes for equal in a column."""
    assert isinstance(target, Collated)  # noqa: S101 - only such a target has columns of which only it knows that
    return EqualTexts(texts, target.equal_codes(column, texts))


def equal_texts(
    target: Target, columns: Sequence[TargetColumn], texts: Mapping[str, pa.Array]
) -> dict[str, EqualTexts]:
    """The same for the texts of several columns, by name."""
    return {column.name: equal_among(target, column, texts[column.name]) for column in columns if column.name in texts}


def violations(target: Target, pairing: Pairing) -> list[Violation]:
    """The staged changes that would break a constraint."""
    return target.violations(pairing) if isinstance(target, Constrained) else []


def suspects(target: Target) -> list[str]:
    """What may change the target's rows on its own."""
    return target.suspects() if isinstance(target, Reacting) else []


def unseen(target: Target) -> list[str]:
    """What would not see new records."""
    return target.unseen() if isinstance(target, NamedByPlace) else []
