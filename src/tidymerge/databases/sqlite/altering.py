"""Columns that come and go in SQLite: what needs one, how it is declared, and a declaration made whole again."""

import re
from pathlib import Path

from tidymerge.databases.contract.database import quoted
from tidymerge.databases.contract.depending import rules_naming
from tidymerge.databases.sqlite.session import Session
from tidymerge.errors import TargetError
from tidymerge.model import Definition, Fold, TableShape

COLLATIONS = {Fold.NOTHING: "BINARY", Fold.ASCII_CASE: "NOCASE", Fold.TRAILING_SPACES: "RTRIM"}
_IN_THE_WAY = re.compile(r"error in (index|trigger|view) (.+?)(?: after drop column)?: ")


def depending(session: Session, shape: TableShape, name: str) -> list[str]:
    """What needs a column: the table's own rules, and what SQLite itself names when the column goes from a copy.

    The copy has all tables, but no rows, and lies in memory. SQLite names one thing at a time, so each that it names is
    taken away there, until the column goes.
    """
    # A foreign key refers to unique columns, so that those of other tables need no look.
    rules = rules_naming(shape, [name])
    listed = ", ".join(quoted(column.name) for column in shape.columns)
    # Without its own rules, of which one would end the search.
    found, _ = _in_the_way(session, shape.name, name, f"CREATE TABLE {quoted(shape.name)} ({listed})")
    if rules:
        return rules + found
    found, said = _in_the_way(session, shape.name, name, None)
    return found + ([_own_need(shape)] if said else [])


def _own_need(shape: TableShape) -> str:
    """What in the table itself needs a column, where that is no rule: SQLite says only that there is something."""
    computed = [column.name for column in shape.columns if column.generated]
    if len(computed) == 1:
        return f"the computed column {computed[0]}"
    return f"one of the computed columns ({', '.join(computed)})" if computed else "the definition of the table"


def _in_the_way(session: Session, table: str, name: str, made: str | None) -> tuple[list[str], str | None]:
    """What has to go from a copy before a column of it can, and what is said if it can't; the table may be `made` new.

    The copy is a database in memory with the same indexes, views and triggers, as far as it can have them.
    """
    copy = Session(Path("copy"), write=False, new=True)
    found: list[str] = []
    try:
        order = "CASE type WHEN 'table' THEN 0 WHEN 'view' THEN 1 ELSE 2 END"
        for row in session.rows(
            f"SELECT type, name, sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY {order}, rowid"
        ):
            own = made is not None and (row["type"], row["name"]) == ("table", table)
            _tried(copy, made if own and made else row["sql"])
        while said := _tried(copy, f"ALTER TABLE {quoted(table)} DROP COLUMN {quoted(name)}"):
            named = _IN_THE_WAY.search(said)
            if named is None or _tried(copy, f"DROP {named[1]} {quoted(named[2])}"):
                return found, said
            found.append(f"the {named[1]} {named[2]}")
    finally:
        copy.close()
    return found, None


def _tried(session: Session, statement: str) -> str | None:
    """Run a statement; what is said if that fails."""
    try:
        session.run(statement)
    except TargetError as error:
        return str(error)
    return None


def definition(session: Session, shape: TableShape, name: str) -> Definition:
    """How SQLite declares a column. One that is added to a table with rows has no NOT NULL and no default yet."""
    (row,) = session.rows(
        'SELECT type, "notnull" AS required, dflt_value AS value FROM pragma_table_xinfo(?, ?) WHERE name = ?',
        [shape.name, "main", name],
    )
    fold = shape.column(name).fold
    plain = f"{row['type']} COLLATE {COLLATIONS[fold]}" if fold is not Fold.NOTHING else str(row["type"])
    required = " NOT NULL" if row["required"] else ""
    default = "" if row["value"] is None else f" DEFAULT ({row['value']})"
    return Definition(plain, f"{plain}{required}{default}", bool(required))


def complete(session: Session, table: str, name: str, declared: Definition) -> str | None:
    """Put the whole declaration into the schema; what can't be put there, in words.

    Raises TargetError where a record has no value that must have one.

    SQLite can't do that by a statement. Source: https://www.sqlite.org/lang_altertable.html, 7: constraints and
    defaults, which change nothing in the records, may be written into the schema.
    """
    if declared.plain == declared.full:
        return None
    column, note = quoted(name), None
    whole, default, value = declared.full.partition(" DEFAULT ")
    if default and session.rows("SELECT 1 AS n FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ?", [table]):
        declared = Definition(declared.plain, whole, declared.required)
        note = f"{name} is there again, but without its default {value}: a trigger of {table} would have run."
    elif default:  # a record that was not written since the column came would show the default
        session.run(f"UPDATE main.{quoted(table)} SET {column} = NULL WHERE {column} IS NULL")
    if declared.required:
        (blank,) = session.rows(f"SELECT count(*) AS n FROM main.{quoted(table)} WHERE {column} IS NULL")
        if blank["n"]:
            raise TargetError(
                f"{blank['n']:,} records of {table} have no value of {name}, which may not be empty: they came after "
                "the column went. Take them out, or give them a value once the column is there."
            )
    (row,) = session.rows("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?", [table])
    added = f"{column} {declared.plain}".rstrip()
    before, found, after = row["sql"].rpartition(added)
    if not found:
        raise TargetError(
            f"The schema of {table} does not show the column {name} as it was added; nothing was written."
        )
    (version,) = session.rows("PRAGMA schema_version")
    session.run("PRAGMA writable_schema = ON")
    session.run(
        "UPDATE sqlite_schema SET sql = ? WHERE type = 'table' AND name = ?",
        [f"{before}{column} {declared.full.strip()}{after}", table],
    )
    session.run(f"PRAGMA schema_version = {next(iter(version.values())) + 1:d}")
    session.run("PRAGMA writable_schema = RESET")
    return note
