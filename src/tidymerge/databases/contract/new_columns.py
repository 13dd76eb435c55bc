"""New tables and columns in SQL."""

from collections.abc import Mapping, Sequence

from tidymerge.databases.contract.database import quoted
from tidymerge.model import ColumnType, Kind


def type_in_sql(column: ColumnType, names: Mapping[Kind, str]) -> str:
    """The type of a column in SQL; `names` are a database's own, with DECIMAL and TEXT without their sizes."""
    name = names[column.kind]
    if column.kind is Kind.DECIMAL:
        return f"{name}({column.precision}, {column.decimals})"
    if column.kind is Kind.TEXT and column.length:
        return f"VARCHAR({column.length})"
    return name


def creating(table: str, columns: Sequence[tuple[str, str, bool]], key: Sequence[str]) -> str:
    """The statement that makes a table of columns, given by name, SQL type, and whether they may not be empty."""
    parts = [f"{quoted(name)} {kind}{' NOT NULL' if required else ''}" for name, kind, required in columns]
    if key:
        parts.append(f"PRIMARY KEY ({', '.join(map(quoted, key))})")
    return f"CREATE TABLE {table} ({', '.join(parts)})"


def adding(table: str, columns: Sequence[tuple[str, str]]) -> list[str]:
    """Statements that add columns, given by name and SQL type, to a table."""
    return [f"ALTER TABLE {table} ADD COLUMN {quoted(name)} {kind}" for name, kind in columns]


def dropping(table: str, names: Sequence[str]) -> list[str]:
    """Statements that take columns away."""
    return [f"ALTER TABLE {table} DROP COLUMN {quoted(name)}" for name in names]
