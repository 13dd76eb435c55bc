"""Reading a SQLite table's shape from its schema."""

import re
from typing import TYPE_CHECKING

from msgspec.structs import replace

from tidymerge.core.naming.mapping import listing
from tidymerge.databases.contract.database import quoted
from tidymerge.databases.sqlite.session import Session
from tidymerge.errors import NoSuchTable, NotATable
from tidymerge.model import Check, ColumnType, Fold, ForeignKey, Kind, TableShape, TargetColumn

if TYPE_CHECKING:
    from sqlglot.tokenizer_core import Token

# SQLite keeps decimals as doubles, which hold 15 decimal digits: https://www.sqlite.org/floatingpoint.html
_DIGITS = 15
_WHOLE_DIGITS = 18  # of a whole number, which is kept as a 64-bit integer
_HIDDEN_GENERATED = (2, 3)
_INTEGER_BOUNDS = {
    "TINYINT": (-128, 255),
    "SMALLINT": (-(2**15), 2**15 - 1),
    "INT2": (-(2**15), 2**15 - 1),
    "MEDIUMINT": (-(2**23), 2**23 - 1),
}


def tables(session: Session) -> list[str]:
    """The names of the tables, in alphabetical order."""
    found = session.rows(
        "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name"
    )
    return [row["name"] for row in found]


def find_table(session: Session, name: str | None) -> str:
    """The table's own spelling of `name`, or the only table. Raises NoSuchTable and NotATable."""
    known = tables(session)
    has = f"it has {listing(known)}" if known else "it has no tables"
    if name is None:
        if len(known) == 1:
            return known[0]
        raise NoSuchTable(
            f"{session.path} holds {len(known)} tables; name one after '#': {listing(known)}.", known=tuple(known)
        )
    rows = session.rows("SELECT name, type, sql FROM sqlite_schema WHERE type IN ('table', 'view')")
    fitting = [row for row in rows if row["name"] == name] or [
        row for row in rows if row["name"].lower() == name.lower()
    ]
    if not fitting:
        raise NoSuchTable(f"{session.path} has no table {name!r}; {has}.", table=name, known=tuple(known))
    if fitting[0]["type"] == "view" or fitting[0]["sql"].upper().startswith("CREATE VIRTUAL"):
        raise NotATable(f"{name!r} in {session.path} is not an ordinary table and can't be loaded into; {has}.")
    found: str = fitting[0]["name"]
    return found


def describe(session: Session, table: str) -> TableShape:
    """The shape of `table`, which must exist."""
    info = session.rows(
        'SELECT name, type, "notnull", dflt_value, pk, hidden FROM pragma_table_xinfo(?, ?)', [table, "main"]
    )
    primary_key = tuple(row["name"] for row in sorted(info, key=lambda row: row["pk"]) if row["pk"])
    unique = _unique(session, table)
    alias = rowid_alias(session, table, info)
    columns = tuple(
        TargetColumn(
            name=row["name"],
            type=column_type(session, table, row["name"], row["type"]),
            nullable=not row["notnull"] and not (row["pk"] and not has_rowid(session, table)),
            has_default=row["dflt_value"] is not None or row["name"] == alias,
            generated=row["hidden"] in _HIDDEN_GENERATED,
            fold=_fold(session, table, row["name"]),
        )
        for row in info
    )
    return TableShape(
        name=table,
        columns=columns,
        primary_key=primary_key,
        unique=tuple(names for names in unique if names != primary_key),
        foreign_keys=_foreign_keys(session, table),
        checks=_checks(session, table, [row["name"] for row in info]),
    )


def has_rowid(session: Session, table: str) -> bool:
    """Whether the table has SQLite's hidden row number (it lacks one if made WITHOUT ROWID)."""
    found = session.rows("SELECT wr FROM pragma_table_list WHERE schema = 'main' AND name = ?", [table])
    return not found[0]["wr"]


def rowid_alias(session: Session, table: str, info: list[dict[str, object]]) -> str | None:
    """The INTEGER PRIMARY KEY column, which SQLite fills by itself."""
    keys = [row for row in info if row["pk"]]
    if len(keys) == 1 and str(keys[0]["type"]).upper() == "INTEGER" and has_rowid(session, table):
        return str(keys[0]["name"])
    return None


def affinity(declared: str) -> str:
    """The storage class that SQLite prefers for a declared type: https://www.sqlite.org/datatype3.html, 3.1."""
    name = declared.upper()
    for needles, found in (
        (("INT",), "INTEGER"),
        (("CHAR", "CLOB", "TEXT"), "TEXT"),
        (("BLOB",), "BLOB"),
        (("REAL", "FLOA", "DOUB"), "REAL"),
    ):
        if any(needle in name for needle in needles):
            return found
    return "NUMERIC" if name else "BLOB"


def column_type(session: Session, table: str, column: str, declared: str) -> ColumnType:
    """The type of a column that is declared so; one without a type is told by what is stored."""
    name = re.sub(r"\(.*", "", declared.upper()).strip()
    sizes = [int(size) for size in re.findall(r"\d+", declared.partition("(")[2])]
    first, second, *_ = (*sizes, None, None)
    if not name:
        return ColumnType(_kind_of_stored(session, table, column), "no type")
    if "BOOL" in name:
        return ColumnType(Kind.BOOLEAN, declared)
    if "INT" in name and "POINT" not in name:
        bounds = next(
            (bounds for key, bounds in _INTEGER_BOUNDS.items() if name.startswith(key)), (-(2**63), 2**63 - 1)
        )
        low, high = (0, bounds[1]) if "UNSIGNED" in name else bounds
        return ColumnType(Kind.INTEGER, declared, minimum=low, maximum=high)
    if any(word in name for word in ("DEC", "NUMERIC", "NUMBER", "MONEY")):
        scale = second if second is not None else (0 if first is not None else None)
        kept = None if affinity(declared) == "TEXT" else _WHOLE_DIGITS if scale == 0 else _DIGITS
        return ColumnType(Kind.DECIMAL, declared, precision=first, scale=scale, digits=kept)
    for kind, words in _KIND_WORDS:
        if any(word in name for word in words):
            zone = kind is Kind.TIMESTAMP and ("TZ" in name or "WITH TIME ZONE" in name)
            length = first if kind is Kind.TEXT else None
            numeric = kind is Kind.JSON and affinity(declared) == "NUMERIC"
            return ColumnType(kind, declared, length=length, zone=zone, numeric_text=numeric)
    return ColumnType(Kind.TEXT, declared, length=first, numeric_text=affinity(declared) == "NUMERIC")


_KIND_WORDS = (
    (Kind.FLOAT, ("REAL", "FLOA", "DOUB")),
    (Kind.TEXT, ("CHAR", "CLOB", "TEXT")),
    (Kind.BINARY, ("BLOB", "BINARY", "BYTEA")),
    (Kind.TIMESTAMP, ("TIMESTAMP", "DATETIME")),
    (Kind.DATE, ("DATE",)),
    (Kind.TIME, ("TIME",)),
    (Kind.UUID, ("UUID", "GUID")),
    (Kind.JSON, ("JSON",)),
)


def _kind_of_stored(session: Session, table: str, column: str) -> Kind:
    """A column without a declared type means what is stored in it."""
    query = f"SELECT DISTINCT typeof({quoted(column)}) AS stored FROM main.{quoted(table)}"
    stored = {row["stored"] for row in session.rows(query)} - {"null"}
    if stored and stored <= {"integer"}:
        return Kind.INTEGER
    return Kind.FLOAT if stored and stored <= {"integer", "real"} else Kind.TEXT


def _fold(session: Session, table: str, column: str) -> Fold:
    """The column's collation, found out by trying it: SQLite has no other way to ask in SQL.

    The first part of the UNION gives the column its collation and no rows.
    """
    probe = (
        f"WITH probe(x) AS (SELECT {quoted(column)} FROM main.{quoted(table)} WHERE 0 UNION SELECT 'a') "
        "SELECT x = 'A' AS letter_case, x = 'a ' AS spaces FROM probe"
    )
    answer = session.rows(probe)[0]
    if answer["letter_case"]:
        return Fold.ASCII_CASE
    return Fold.TRAILING_SPACES if answer["spaces"] else Fold.NOTHING


def _unique(session: Session, table: str) -> tuple[tuple[str, ...], ...]:
    """The column lists of the unique indexes that cover all rows and only plain columns."""
    found = []
    for index in session.rows('SELECT name, "unique", partial FROM pragma_index_list(?, ?)', [table, "main"]):
        if index["unique"] and not index["partial"]:
            parts = session.rows("SELECT name FROM pragma_index_info(?, ?) ORDER BY seqno", [index["name"], "main"])
            if all(part["name"] is not None for part in parts):
                found.append(tuple(part["name"] for part in parts))
    return tuple(dict.fromkeys(found))


def _foreign_keys(session: Session, table: str) -> tuple[ForeignKey, ...]:
    rows = session.rows(
        'SELECT id, seq, "table", "from", "to", on_update, on_delete FROM pragma_foreign_key_list(?, ?) '
        "ORDER BY id, seq",
        [table, "main"],
    )
    keys = []
    for number in dict.fromkeys(row["id"] for row in rows):
        parts = [row for row in rows if row["id"] == number]
        referred = tuple(row["to"] for row in parts)
        if None in referred:  # REFERENCES keepers, without columns, means its primary key
            info = session.rows("SELECT name, pk FROM pragma_table_xinfo(?, ?)", [parts[0]["table"], "main"])
            referred = tuple(row["name"] for row in sorted(info, key=lambda row: row["pk"]) if row["pk"])
        follows = parts[0]["on_update"].upper() == "CASCADE"
        on_delete = parts[0]["on_delete"].upper()
        keys.append(ForeignKey(tuple(row["from"] for row in parts), parts[0]["table"], referred, follows, on_delete))
    return tuple(keys)


def referring(session: Session, table: str) -> list[ForeignKey]:
    """The foreign keys of all tables that refer to `table`; `table` of each is the one that it stands in."""
    return [
        replace(key, table=name)
        for name in tables(session)
        for key in _foreign_keys(session, name)
        if key.table.lower() == table.lower()
    ]


def _checks(session: Session, table: str, columns: list[str]) -> tuple[Check, ...]:
    """The check constraints, cut out of the CREATE TABLE statement that the schema keeps."""
    sql = session.rows("SELECT sql FROM sqlite_schema WHERE type = 'table' AND name = ?", [table])[0]["sql"]
    if "CHECK" not in sql.upper():
        return ()
    from sqlglot.dialects.sqlite import SQLite  # late: it takes longer to import than most tables to load
    from sqlglot.errors import TokenError

    try:
        tokens = SQLite().tokenize(sql)
    except TokenError:
        return ()  # then the database itself judges the rows when they are written
    checks = []
    for at, token in enumerate(tokens[:-1]):
        if token.text.upper() == "CHECK" and tokens[at + 1].token_type.name == "L_PAREN":
            end = _closing(tokens, at + 1)
            expression = sql[tokens[at + 1].end + 1 : tokens[end].start].strip()
            named = at >= 2 and tokens[at - 2].text.upper() == "CONSTRAINT"  # noqa: PLR2004
            words = {inner.text.lower() for inner in tokens[at:end]}
            mentioned = tuple(name for name in columns if name.lower() in words)
            checks.append(Check(tokens[at - 1].text if named else expression, expression, mentioned))
    return tuple(checks)


def _closing(tokens: "list[Token]", opening: int) -> int:
    """The index of the parenthesis that closes the one at `opening`."""
    depth = 0
    for at in range(opening, len(tokens)):
        depth += {"L_PAREN": 1, "R_PAREN": -1}.get(tokens[at].token_type.name, 0)
        if not depth:
            return at
    return len(tokens) - 1
