"""Columns that come and go in PostgreSQL: what needs one, and how it is declared. The server keeps lists of both."""

from tidymerge.databases.contract.database import quoted
from tidymerge.databases.postgres.session import Session
from tidymerge.model import Definition

# Source: PostgreSQL's documentation, 54.18 pg_depend. A column's own default, and that it may not be
# empty, go with it.
_DEPENDING = """
SELECT DISTINCT CASE d.classid
    WHEN 'pg_rewrite'::regclass THEN (SELECT CASE c.relkind WHEN 'm' THEN 'the materialized view ' ELSE 'the view ' END
        || c.oid::regclass::text FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class WHERE r.oid = d.objid)
    ELSE 'the ' || pg_describe_object(d.classid, d.objid, d.objsubid) END AS what
FROM pg_depend d JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
WHERE d.refclassid = 'pg_class'::regclass AND d.refobjid = %s::regclass AND a.attname = %s AND NOT EXISTS (
    SELECT FROM pg_attrdef f WHERE d.classid = 'pg_attrdef'::regclass AND f.oid = d.objid
    AND f.adrelid = d.refobjid AND f.adnum = d.refobjsubid)
AND NOT EXISTS (SELECT FROM pg_constraint k WHERE d.classid = 'pg_constraint'::regclass AND k.oid = d.objid
    AND k.contype = 'n')
ORDER BY 1"""
_DECLARED = """
SELECT format_type(a.atttypid, a.atttypmod) AS kind, a.attnotnull AS required,
    CASE WHEN a.attcollation <> t.typcollation
        THEN quote_ident(n.nspname) || '.' || quote_ident(c.collname) END AS called,
    pg_get_expr(f.adbin, f.adrelid) AS value
FROM pg_attribute a JOIN pg_type t ON t.oid = a.atttypid
LEFT JOIN pg_collation c ON c.oid = a.attcollation LEFT JOIN pg_namespace n ON n.oid = c.collnamespace
LEFT JOIN pg_attrdef f ON f.adrelid = a.attrelid AND f.adnum = a.attnum
WHERE a.attrelid = %s::regclass AND a.attname = %s AND NOT a.attisdropped"""


def depending(session: Session, table: str, name: str) -> list[str]:
    """What needs a column of the table, given by its name in SQL."""
    return [row["what"] for row in session.rows(_DEPENDING, [table, name])]


def definition(session: Session, table: str, name: str) -> Definition:
    """How the server declares a column: its type, and what is altered once it has its values."""
    (row,) = session.rows(_DECLARED, [table, name])
    plain = f"{row['kind']} COLLATE {row['called']}" if row["called"] else str(row["kind"])
    column = f"ALTER COLUMN {quoted(name)}"
    full = [f"{column} SET DEFAULT {row['value']}"] if row["value"] is not None else []
    full += [f"{column} SET NOT NULL"] if row["required"] else []
    return Definition(plain, ", ".join(full), bool(row["required"]))
