"""Reading a MariaDB table's shape from the information schema."""

import re
from typing import Any

from tidymerge.core.naming.mapping import listing
from tidymerge.databases.contract.database import quoted
from tidymerge.databases.mariadb.session import Session
from tidymerge.errors import NoSuchTable, NotATable
from tidymerge.model import Check, ColumnType, Fold, ForeignKey, Kind, TableShape, TargetColumn

_BITS = {"tinyint": 8, "smallint": 16, "mediumint": 24, "int": 32, "bigint": 64}
_TEXTS = ("char", "varchar", "tinytext", "text", "mediumtext", "longtext")
_BINARIES = ("binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob")
_PLAIN = {"date": Kind.DATE, "uuid": Kind.UUID, "json": Kind.JSON}
_LONGEST = {  # in bytes
    "tinytext": 2**8 - 1, "text": 2**16 - 1, "mediumtext": 2**24 - 1, "longtext": 2**32 - 1,
    "tinyblob": 2**8 - 1, "blob": 2**16 - 1, "mediumblob": 2**24 - 1, "longblob": 2**32 - 1,
}  # fmt: skip
_SINGLE, _DOUBLE = 24, 53  # bits of a float's fraction (IEEE 754)
_TIME = (838 * 3600 + 59 * 60 + 59) * 10**6  # microseconds
_YEARS = (1901, 2155)
_TABLES = """SELECT table_schema AS s, table_name AS t, table_type AS kind, engine AS engine
FROM information_schema.tables WHERE table_schema = coalesce(%s, DATABASE()) ORDER BY 2"""


def table_names(session: Session) -> list[str]:
    """The names of the tables of the database, in alphabetical order."""
    return [row["t"] for row in session.rows(_TABLES, [None]) if row["kind"] != "VIEW"]


def find_table(session: Session, wanted: str | None) -> tuple[str, str]:
    """The database and the table that `wanted` (hives, or coop.hives) means. Raises NoSuchTable and NotATable."""
    known = session.rows(_TABLES, [None])
    tables = [row["t"] for row in known if row["kind"] != "VIEW"]
    if wanted is None and len(tables) != 1:
        raise NoSuchTable(
            f"{session.place} holds {len(tables)} tables; name one after '#': {listing(tables)}.", known=tuple(tables)
        )
    wanted = wanted or tables[0]
    before, dot, after = wanted.partition(".")
    elsewhere = session.rows(_TABLES, [before]) if dot else []
    for fits in (str, str.lower):
        for row in [*known, *elsewhere]:
            if fits(row["t"]) == fits(wanted if row in known else after):
                if row["kind"] == "VIEW":
                    raise NotATable(f"{wanted!r} in {session.place} is a view: load into the table under it.")
                _check_transactions(session, row)
                return row["s"], row["t"]
    has = f"it has {listing(tables)}" if tables else "it has no tables"
    raise NoSuchTable(f"{session.place} has no table {wanted!r}; {has}.", table=wanted, known=tuple(tables))


def _check_transactions(session: Session, row: dict[str, Any]) -> None:
    able = session.rows(
        "SELECT transactions AS able FROM information_schema.engines WHERE engine = %s", [row["engine"]]
    )
    if not able or able[0]["able"] != "YES":
        raise NotATable(
            f"{row['t']!r} in {session.place} is kept by the engine {row['engine']}, which can't undo a load that "
            "fails; change it first: ALTER TABLE … ENGINE = InnoDB."
        )


def in_sql(place: tuple[str, str]) -> str:
    """A table's name in SQL."""
    return ".".join(quoted(part) for part in place)


_COLUMNS = """SELECT column_name AS name, data_type AS type, column_type AS declared, is_nullable AS nullable,
column_default AS value, extra AS extra, character_maximum_length AS length, numeric_precision AS digits,
numeric_scale AS scale, datetime_precision AS fraction, collation_name AS collation
FROM information_schema.columns WHERE table_schema = %s AND table_name = %s ORDER BY ordinal_position"""
_UNIQUE = """SELECT index_name AS name, column_name AS col, sub_part AS part
FROM information_schema.statistics WHERE table_schema = %s AND table_name = %s AND non_unique = 0
ORDER BY index_name <> 'PRIMARY', index_name, seq_in_index"""
_KEYS = """SELECT k.constraint_name AS name, k.column_name AS col, {schema} AS s, {table} AS t,
k.referenced_column_name AS referred, r.update_rule AS rule,
r.delete_rule AS goes FROM information_schema.key_column_usage k
JOIN information_schema.referential_constraints r
ON r.constraint_schema = k.constraint_schema AND r.constraint_name = k.constraint_name AND r.table_name = k.table_name
WHERE {where} AND k.referenced_table_name IS NOT NULL
ORDER BY k.table_schema, k.table_name, k.constraint_name, k.ordinal_position"""
_FOREIGN = _KEYS.format(
    schema="k.referenced_table_schema",
    table="k.referenced_table_name",
    where="k.table_schema = %s AND k.table_name = %s",
)
_REFERRING = _KEYS.format(
    schema="k.table_schema",
    table="k.table_name",
    where="k.referenced_table_schema = %s AND k.referenced_table_name = %s",
)


def describe(session: Session, place: tuple[str, str], called: str) -> TableShape:
    """The shape of a table, which is `called` so."""
    rows = session.rows(_COLUMNS, place)
    checks = _checks(session, place, [row["name"] for row in rows])
    documents = {check.columns[0] for check in checks if re.fullmatch(r"json_valid\([`\"].*[`\"]\)", check.expression)}
    unique: dict[str, list[str | None]] = {}
    for row in session.rows(_UNIQUE, place):
        unique.setdefault(row["name"], []).append(row["col"] if row["part"] is None else None)
    whole = {name: tuple(column for column in found if column) for name, found in unique.items() if None not in found}
    return TableShape(
        called,
        tuple(_column(row, is_document=row["name"] in documents) for row in rows),
        whole.get("PRIMARY", ()),
        tuple(dict.fromkeys(columns for name, columns in whole.items() if name != "PRIMARY")),
        tuple(_foreign_keys(session, _FOREIGN, place)),
        tuple(check for check in checks if not check.expression.startswith("json_valid")),
        whole,
    )


def referring(session: Session, place: tuple[str, str]) -> list[ForeignKey]:
    """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
    return _foreign_keys(session, _REFERRING, place)


def _foreign_keys(session: Session, query: str, place: tuple[str, str]) -> list[ForeignKey]:
    keys: dict[tuple[str, ...], list[dict[str, Any]]] = {}
    for row in session.rows(query, place):
        keys.setdefault((row["s"], row["t"], row["name"]), []).append(row)
    return [
        ForeignKey(
            tuple(row["col"] for row in key),
            key[0]["t"] if key[0]["s"] == place[0] else f"{key[0]['s']}.{key[0]['t']}",
            tuple(row["referred"] for row in key),
            key[0]["rule"] == "CASCADE",
            key[0]["goes"],
        )
        for key in keys.values()
    ]


def shown_columns(session: Session, table: str) -> tuple[TargetColumn, ...]:
    """The columns of a temporary table, which the information schema does not have."""
    columns = []
    for row in session.rows(f"SHOW FULL COLUMNS FROM {table}"):
        declared = row["Type"]
        sizes = [int(size) for size in re.findall(r"\d+", declared.partition("(")[2])]
        first, second, *_ = (*sizes, None, None)
        about = {
            "name": row["Field"],
            "type": re.split(r"[( ]", declared)[0],
            "declared": declared,
            "nullable": row["Null"],
            "value": row["Default"],
            "extra": row["Extra"],
            "length": first,
            "digits": first,
            "scale": second or 0,
            "fraction": first or 0,
            "collation": row["Collation"],
        }
        columns.append(_column(about, is_document=False))
    return tuple(columns)


def _checks(session: Session, place: tuple[str, str], columns: list[str]) -> list[Check]:
    """The check constraints. Which table one belongs to stands in different places on MariaDB and MySQL."""
    has = session.rows(
        "SELECT 1 AS n FROM information_schema.columns WHERE table_schema = 'information_schema' "
        "AND lower(table_name) = 'check_constraints' AND lower(column_name) = 'table_name'"
    )
    found = session.rows(
        "SELECT c.constraint_name AS name, c.check_clause AS clause FROM information_schema.check_constraints c "
        + (
            "WHERE c.constraint_schema = %s AND c.table_name = %s ORDER BY 1"
            if has
            else "JOIN information_schema.table_constraints t USING (constraint_schema, constraint_name) "
            "WHERE c.constraint_schema = %s AND t.table_name = %s ORDER BY 1"
        ),
        place,
    )
    return [
        Check(
            row["name"],
            row["clause"],
            tuple(name for name in columns if quoted(name) in row["clause"] or f"`{name}`" in row["clause"]),
        )
        for row in found
    ]


def _column(row: dict[str, Any], *, is_document: bool) -> TargetColumn:
    kind = ColumnType(Kind.JSON, "longtext") if is_document else _column_type(row)
    extra, value = row["extra"].upper(), row["value"]
    return TargetColumn(
        name=row["name"],
        type=kind or ColumnType(Kind.TEXT, row["declared"]),
        nullable=row["nullable"] == "YES",
        has_default="AUTO_INCREMENT" in extra or (value is not None and value != "NULL"),
        generated="GENERATED" in extra.replace("DEFAULT_GENERATED", ""),
        fold=_fold(row["collation"]) if kind is not None and kind.kind is Kind.TEXT else Fold.NOTHING,
        foreign=kind is None,
        collation=row["collation"] or "",
        restamped="ON UPDATE" in extra,
    )


def _fold(collation: str | None) -> Fold:
    """What a collation ignores, where its name tells; the padding of the older ones ignores spaces at the end."""
    if collation is None or re.search(r"nopad_bin|0900_bin", collation):
        return Fold.NOTHING
    return Fold.TRAILING_SPACES if collation.endswith("_bin") else Fold.DATABASE


def _column_type(row: dict[str, Any]) -> ColumnType | None:
    """The column's type; None for one that rows can't be loaded into."""
    name, declared = row["type"].lower(), row["declared"]
    if name in _BITS:
        return _integer(name, declared)
    if name == "decimal":
        positive = "unsigned" in declared
        return ColumnType(
            Kind.DECIMAL, declared, precision=row["digits"], scale=row["scale"], minimum=0, bounded=positive
        )
    if name in ("float", "double"):
        return _float(name, declared)
    if name in _TEXTS:
        counted = name in ("char", "varchar")  # the others are bounded in bytes
        return ColumnType(
            Kind.TEXT, declared, length=row["length"] if counted else None, octets=None if counted else _LONGEST[name]
        )
    if name in _BINARIES:
        sized = name in ("binary", "varbinary")
        return ColumnType(
            Kind.BINARY, declared, octets=row["length"] if sized else _LONGEST[name], padded=name == "binary"
        )
    if name == "enum":
        labels = re.findall(r"'((?:[^']|'')*)'", declared)
        return ColumnType(Kind.TEXT, declared, allowed=tuple(label.replace("''", "'") for label in labels))
    if name in ("time", "datetime", "timestamp"):
        if name == "time":
            scale = row["fraction"]
            return ColumnType(Kind.TIME, declared, scale=scale, minimum=-_TIME, maximum=_TIME, beyond_day=True)
        return ColumnType(Kind.TIMESTAMP, declared, scale=row["fraction"], zone=name == "timestamp")
    if name == "year":
        return ColumnType(Kind.INTEGER, declared, minimum=_YEARS[0], maximum=_YEARS[1])
    return ColumnType(_PLAIN[name], declared) if name in _PLAIN else None


def _float(name: str, declared: str) -> ColumnType:
    """FLOAT(7,2) keeps two decimals and five digits before them; the server rounds without a word."""
    sizes = [int(size) for size in re.findall(r"\d+", declared.partition("(")[2])]
    digits, scale = sizes if len(sizes) > 1 else (None, None)
    bits = _SINGLE if name == "float" else _DOUBLE
    positive = "unsigned" in declared
    return ColumnType(Kind.FLOAT, declared, precision=bits, digits=digits, scale=scale, minimum=0, bounded=positive)


def _integer(name: str, declared: str) -> ColumnType:
    if declared.startswith("tinyint(1)"):
        return ColumnType(Kind.BOOLEAN, declared)
    bits, unsigned = _BITS[name], "unsigned" in declared
    if bits == 64 and unsigned:  # noqa: PLR2004 - more than a signed 64-bit number holds
        return ColumnType(Kind.DECIMAL, declared, precision=20, scale=0, minimum=0, maximum=2**64 - 1, bounded=True)
    low, high = (0, 2**bits - 1) if unsigned else (-(2 ** (bits - 1)), 2 ** (bits - 1) - 1)
    return ColumnType(Kind.INTEGER, declared, minimum=low, maximum=high)
