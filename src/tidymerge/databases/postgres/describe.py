"""Reading a PostgreSQL table's shape from the system catalogs."""

from msgspec import Struct

from tidymerge.core.naming.mapping import listing
from tidymerge.databases.contract.database import quoted
from tidymerge.databases.postgres.session import Session
from tidymerge.errors import NoSuchTable, NotATable
from tidymerge.model import Check, ColumnType, Fold, ForeignKey, Kind, TableShape, TargetColumn

_NOT_TABLES = {
    "v": "a view: load into the table under it, or into one whose rows the view shows",
    "m": "a materialized view: load into the tables it is made from, then refresh it",
    "f": "a foreign table, whose rows another server keeps: load into the table there",
}
_INTEGERS = {"int2": 2**15, "int4": 2**31, "int8": 2**63}
_PLAIN = {
    "bool": Kind.BOOLEAN,
    "date": Kind.DATE,
    "uuid": Kind.UUID,
    "json": Kind.JSON,
    "jsonb": Kind.JSON,
    "bytea": Kind.BINARY,
    "text": Kind.TEXT,
    "citext": Kind.TEXT,
    "name": Kind.TEXT,
}
_DAY = 24 * 3600 * 10**6  # microseconds: 24:00 is a time there
_VARIABLE_HEADER = 4  # added to a declared length in atttypmod: pg_attribute's documentation
_DOMAINS_WORD = "value"  # what a domain's check calls the value it judges


class Name(Struct, frozen=True):
    """A table: its schema, its name, and what people call it (with the schema where it must be said)."""

    schema: str
    table: str
    called: str
    kind: str

    @property
    def in_sql(self) -> str:
        """The name in SQL."""
        return f"{quoted(self.schema)}.{quoted(self.table)}"


def names(session: Session) -> list[Name]:
    """All tables, views and foreign tables, in alphabetical order."""
    found = session.rows(
        """SELECT n.nspname, c.relname, c.relkind::text AS kind, pg_table_is_visible(c.oid) AS visible
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND n.nspname NOT IN ('pg_catalog', 'information_schema')
        AND n.nspname NOT LIKE 'pg\\_t%' ORDER BY 4 DESC, 1, 2"""
    )
    return [
        Name(
            row["nspname"],
            row["relname"],
            row["relname"] if row["visible"] else f"{row['nspname']}.{row['relname']}",
            row["kind"],
        )
        for row in found
    ]


def find_table(session: Session, wanted: str | None) -> Name:
    """The table that `wanted` (hives, or public.hives) means, or the only table. Raises NoSuchTable and NotATable."""
    known = names(session)
    tables = [name.called for name in known if name.kind in "rp"]
    has = f"it has {listing(tables)}" if tables else "it has no tables"
    if wanted is None:
        if len(tables) == 1:
            return next(name for name in known if name.called == tables[0])
        raise NoSuchTable(
            f"{session.place} holds {len(tables)} tables; name one after '#': {listing(tables)}.", known=tuple(tables)
        )
    for fits in (str, str.lower):
        for name in known:
            if fits(wanted) in (fits(name.called), fits(f"{name.schema}.{name.table}")):
                if name.kind not in "rp":
                    raise NotATable(f"{name.called!r} in {session.place} is {_NOT_TABLES[name.kind]}.")
                return name
    raise NoSuchTable(f"{session.place} has no table {wanted!r}; {has}.", table=wanted, known=tuple(tables))


_COLUMNS = """
WITH RECURSIVE base(oid, typid, typmod, strict) AS (
    SELECT t.oid, t.oid, NULL::int, false FROM pg_type t
    UNION ALL
    SELECT b.oid, d.typbasetype, CASE WHEN d.typtypmod >= 0 THEN d.typtypmod END, b.strict OR d.typnotnull
    FROM base b JOIN pg_type d ON d.oid = b.typid WHERE d.typtype = 'd')
SELECT a.attname AS name, format_type(b.typid, coalesce(b.typmod, a.atttypmod)) AS declared,
    coalesce(b.typmod, a.atttypmod) AS typmod, t.typname, t.typtype::text, t.typcategory::text,
    a.attnotnull OR b.strict AS required, a.atthasdef OR d.typdefault IS NOT NULL AS has_default,
    a.attidentity::text AS identity, a.attgenerated::text AS generated,
    d.typtype = 'd' AS is_domain, d.oid::int8 AS domain,
    coalesce(c.collisdeterministic, true) AS deterministic,
    CASE WHEN c.oid IS NOT NULL AND c.collname <> 'default'
        THEN quote_ident(cn.nspname) || '.' || quote_ident(c.collname) END AS collation,
    (SELECT array_agg(e.enumlabel::text ORDER BY e.enumsortorder) FROM pg_enum e WHERE e.enumtypid = b.typid) AS labels
FROM pg_attribute a JOIN pg_type d ON d.oid = a.atttypid
JOIN base b ON b.oid = a.atttypid JOIN pg_type t ON t.oid = b.typid AND t.typtype <> 'd'
LEFT JOIN pg_collation c ON c.oid = a.attcollation LEFT JOIN pg_namespace cn ON cn.oid = c.collnamespace
WHERE a.attrelid = %s::regclass AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attnum"""
_UNIQUE = """
SELECT i.indisprimary AS primary, ic.relname AS index, array_agg(a.attname::text ORDER BY k.at) AS columns
FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid
CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY k(attnum, at)
LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum
WHERE i.indrelid = %s::regclass AND i.indisunique AND i.indpred IS NULL AND i.indisvalid AND k.at <= i.indnkeyatts
GROUP BY 1, 2, i.indexrelid HAVING bool_and(k.attnum > 0) ORDER BY 1 DESC, 2"""
_KEYS = """
SELECT n.nspname, c.relname, pg_table_is_visible(c.oid) AS visible, f.confupdtype = 'c' AS follows,
    f.confdeltype::text AS goes,
    (SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(f.conkey) WITH ORDINALITY k(attnum, at)
        JOIN pg_attribute a ON a.attrelid = f.conrelid AND a.attnum = k.attnum) AS columns,
    (SELECT array_agg(a.attname::text ORDER BY k.at) FROM unnest(f.confkey) WITH ORDINALITY k(attnum, at)
        JOIN pg_attribute a ON a.attrelid = f.confrelid AND a.attnum = k.attnum) AS referred
FROM pg_constraint f JOIN pg_class c ON c.oid = {other} JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE f.contype = 'f' AND {own} = %s::regclass AND f.conparentid = 0 ORDER BY f.conname"""
_FOREIGN = _KEYS.format(own="f.conrelid", other="f.confrelid")
_REFERRING = _KEYS.format(own="f.confrelid", other="f.conrelid")
_CHECKS = """
SELECT k.conname AS name, pg_get_expr(k.conbin, k.conrelid, true) AS expression,
    (SELECT array_agg(a.attname::text) FROM pg_attribute a
        WHERE a.attrelid = k.conrelid AND a.attnum = ANY (k.conkey)) AS columns
FROM pg_constraint k WHERE k.contype = 'c' AND k.conrelid = %s::regclass ORDER BY k.conname"""
_DOMAIN_CHECKS = """
WITH RECURSIVE chain(oid, base) AS (
    SELECT d.oid, d.typbasetype FROM pg_type d WHERE d.oid = %s
    UNION ALL SELECT d.oid, d.typbasetype FROM chain c JOIN pg_type d ON d.oid = c.base WHERE d.typtype = 'd')
SELECT k.conname AS name, pg_get_constraintdef(k.oid) AS definition
FROM pg_constraint k JOIN chain c ON c.oid = k.contypid WHERE k.contype = 'c' ORDER BY k.conname"""


class Described(Struct, frozen=True):
    """A table's shape, and the columns that the table always numbers itself (GENERATED ALWAYS AS IDENTITY)."""

    shape: TableShape
    numbered: frozenset[str]


def describe(session: Session, name: Name) -> Described:
    """The shape of a table."""
    rows = session.rows(_COLUMNS, [name.in_sql])
    unique = session.rows(_UNIQUE, [name.in_sql])
    primary = next((tuple(row["columns"]) for row in unique if row["primary"]), ())
    columns = tuple(_column(row) for row in rows)
    checks = [
        Check(row["name"], row["expression"], tuple(row["columns"] or ()))
        for row in session.rows(_CHECKS, [name.in_sql])
    ]
    checks += [
        check for row in rows if row["is_domain"] for check in _domain_checks(session, row["domain"], row["name"])
    ]
    shape = TableShape(
        name.called,
        columns,
        primary,
        tuple(dict.fromkeys(tuple(row["columns"]) for row in unique if not row["primary"])),
        tuple(_foreign_keys(session, _FOREIGN, name)),
        tuple(checks),
        {row["index"]: tuple(row["columns"]) for row in unique},
    )
    return Described(shape, frozenset(row["name"] for row in rows if row["identity"] == "a"))


def referring(session: Session, name: Name) -> list[ForeignKey]:
    """The foreign keys of all tables that refer to this one; `table` of each is the one that it stands in."""
    return _foreign_keys(session, _REFERRING, name)


_ON_DELETE = {"c": "CASCADE", "n": "SET NULL", "d": "SET DEFAULT"}


def _foreign_keys(session: Session, query: str, name: Name) -> list[ForeignKey]:
    return [
        ForeignKey(
            tuple(row["columns"]),
            row["relname"] if row["visible"] else f"{row['nspname']}.{row['relname']}",
            tuple(row["referred"]),
            bool(row["follows"]),
            _ON_DELETE.get(row["goes"], ""),
        )
        for row in session.rows(query, [name.in_sql])
    ]


def _domain_checks(session: Session, domain: int, column: str) -> list[Check]:
    """A domain's checks (and those of the domains under it), which call the column VALUE."""
    found = []
    for row in session.rows(_DOMAIN_CHECKS, [domain]):
        inside = row["definition"].removeprefix("CHECK ").removesuffix(" NOT VALID")
        found.append(Check(row["name"], inside, (column,), _DOMAINS_WORD))
    return found


def _column(row: dict[str, object]) -> TargetColumn:
    kind = _column_type(row)
    fold = Fold.NOTHING
    if row["typname"] == "bpchar":
        fold = Fold.TRAILING_SPACES
    if row["typname"] == "citext" or not row["deterministic"]:
        fold = Fold.DATABASE
    return TargetColumn(
        name=str(row["name"]),
        type=kind or ColumnType(Kind.TEXT, str(row["declared"])),
        nullable=not row["required"],
        has_default=bool((row["has_default"] and not row["generated"]) or row["identity"]),
        generated=bool(row["generated"]),
        fold=fold,
        foreign=kind is None,
        collation=str(row["collation"] or ""),
    )


def _column_type(row: dict[str, object]) -> ColumnType | None:
    """The column's type; None for one that rows can't be loaded into."""
    declared, name, typmod = str(row["declared"]), str(row["typname"]), row["typmod"]
    assert isinstance(typmod, int)  # noqa: S101 - as the catalog declares it
    if row["labels"]:
        return ColumnType(Kind.TEXT, declared, allowed=tuple(row["labels"]))  # type: ignore[arg-type]
    if row["typtype"] != "b" or row["typcategory"] == "A":
        return None
    if name in _INTEGERS:
        return ColumnType(Kind.INTEGER, declared, minimum=-_INTEGERS[name], maximum=_INTEGERS[name] - 1)
    if name == "numeric":
        if typmod < 0:
            return ColumnType(Kind.DECIMAL, declared)
        digits = typmod - _VARIABLE_HEADER
        scale = ((digits & 0x7FF) ^ 1024) - 1024  # eleven bits, signed: numeric.c
        if scale < 0:  # rounds to tens and more without a word
            return None
        return ColumnType(Kind.DECIMAL, declared, precision=digits >> 16 & 0xFFFF, scale=scale)
    if name in ("float4", "float8"):
        return ColumnType(Kind.FLOAT, declared, precision=24 if name == "float4" else 53)
    if name in ("varchar", "bpchar"):
        return ColumnType(Kind.TEXT, declared, length=typmod - _VARIABLE_HEADER if typmod >= 0 else None)
    if name in ("time", "timestamp", "timestamptz"):
        return _moment(name, declared, typmod if typmod >= 0 else None)
    return ColumnType(_PLAIN[name], declared) if name in _PLAIN else None


def _moment(name: str, declared: str, digits: int | None) -> ColumnType:
    """A time or timestamp with so many digits after its seconds."""
    if name == "time":
        return ColumnType(Kind.TIME, declared, scale=digits, minimum=0, maximum=_DAY, beyond_day=True)
    return ColumnType(Kind.TIMESTAMP, declared, scale=digits, zone=name == "timestamptz")
