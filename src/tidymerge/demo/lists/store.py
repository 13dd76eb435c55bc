"""The records of the stand-in: the tables of a SQLite file as entity sets, one transaction a change set."""

import hashlib
import re
import secrets
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from threading import RLock
from typing import Any

from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.databases.contract.database import quoted
from tidymerge.demo.lists.types import BadValue, Property, property_of, to_stored

_NAME = re.compile(r"[^\W\d]\w{0,127}")  # a simple identifier (OData JSON, 4.01, 15.2)
_CONSTANT = re.compile(r"'((?:[^']|'')*)'|(-?\d+(?:\.\d+)?)")


class Reference(Struct, frozen=True):
    """A foreign key: `columns` must be found as `referred` columns of another set."""

    columns: tuple[str, ...]
    set: str
    referred: tuple[str, ...]


class EntitySet(Struct, frozen=True):
    """One table as a set of entities."""

    name: str
    properties: Mapping[str, Property]
    key: tuple[str, ...]
    references: tuple[Reference, ...] = ()


class Trouble(Exception):
    """A request that can't be done, with its HTTP status."""

    def __init__(self, status: int, message: str) -> None:
        super().__init__(message)
        self.status = status


class Changes(Struct):
    """What was written since the stand-in began, for delta links: set and key of each record."""

    each: list[tuple[str, tuple[Any, ...]]] = field(default_factory=list)
    began: str = field(default_factory=lambda: secrets.token_hex(4))

    @property
    def token(self) -> str:
        """What stands for now."""
        return f"{self.began}-{len(self.each)}"

    def since(self, token: str, name: str) -> list[tuple[Any, ...]]:
        """The keys of records of a set that were written since then. Raises Trouble."""
        began, _, count = token.partition("-")
        if began != self.began or not count.isdecimal():
            raise Trouble(410, "what changed since then is not known any more: read all")
        return list(dict.fromkeys(key for set_name, key in self.each[int(count) :] if set_name == name))


class Store:
    """The tables of a SQLite file. One connection, used by one request at a time."""

    def __init__(self, path: Path) -> None:
        self._base = sqlite3.connect(path, check_same_thread=False, isolation_level=None, timeout=30)
        self._base.execute("PRAGMA foreign_keys = on")
        self._lock = RLock()
        self._inside = False
        self._pending: list[tuple[str, tuple[Any, ...]]] = []
        self.changes = Changes()

    def close(self) -> None:
        """Let the file go."""
        self._base.close()

    def sets(self) -> dict[str, EntitySet]:
        """All tables that have a primary key, and names that OData takes."""
        with self._lock:
            names = [name for (name,) in self._base.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
            found = [self._set(name) for name in names if _NAME.fullmatch(name) and not name.startswith("sqlite_")]
        return {one.name: one for one in found if one is not None}

    def _set(self, name: str) -> EntitySet | None:
        columns = self._base.execute(f"PRAGMA table_xinfo({quoted(name)})").fetchall()
        key = tuple(column for _, column, *_, at, _ in sorted(columns, key=lambda row: row[5]) if at)
        if not key or not all(_NAME.fullmatch(row[1]) for row in columns):
            return None
        properties = {}
        for _, column, declared, required, default, at, hidden in columns:
            one = property_of(column, declared, nullable=not required and not at)
            constant = _CONSTANT.fullmatch(default or "")
            given = None if constant is None else (constant[1] or constant[2] or "").replace("''", "'")
            own_number = key == (column,) and declared.upper() == "INTEGER"
            filled = own_number or (default is not None and constant is None and default.upper() != "NULL")
            properties[column] = replace(one, default=given, computed=hidden in (2, 3), filled=filled)
        references: dict[int, list[tuple[str, str, str]]] = {}
        for number, _, table, own, other, *_ in self._base.execute(f"PRAGMA foreign_key_list({quoted(name)})"):
            references.setdefault(number, []).append((table, own, other))
        return EntitySet(name, properties, key, tuple(map(_reference, references.values())))

    @contextmanager
    def together(self) -> Iterator[None]:
        """All that is done inside, or nothing of it."""
        with self._lock:
            if self._inside:
                yield
                return
            self._inside = True
            self._pending = []
            self._base.execute("BEGIN IMMEDIATE")
            try:
                yield
                self._base.execute("COMMIT")
                self.changes.each += self._pending
            except sqlite3.IntegrityError as error:
                self._base.execute("ROLLBACK")
                raise Trouble(409, str(error)) from None
            except BaseException:
                self._base.execute("ROLLBACK")
                raise
            finally:
                self._inside = False

    def select(self, one: EntitySet, where: str, values: Sequence[Any], tail: str = "") -> list[tuple[Any, ...]]:
        """The records that meet a condition, whole, in the order of their keys."""
        names = ", ".join(map(quoted, one.properties))
        # With a condition, SQLite is kept from walking through all records in the order of their keys.
        order = ", ".join(quoted(name) if where == "1" else f"+{quoted(name)}" for name in one.key)
        with self._lock:
            query = f"SELECT {names} FROM {quoted(one.name)} WHERE {where} ORDER BY {order}{tail}"
            return self._base.execute(query, values).fetchall()

    def count(self, one: EntitySet, where: str, values: Sequence[Any]) -> int:
        """How many records meet a condition."""
        with self._lock:
            query = f"SELECT count(*) FROM {quoted(one.name)} WHERE {where}"
            return int(self._base.execute(query, values).fetchone()[0])

    def get(self, one: EntitySet, key: Sequence[Any]) -> tuple[Any, ...]:
        """The record of a key. Raises Trouble."""
        found = self.select(one, *_of_key(one, key))
        if not found:
            raise Trouble(404, f"{one.name} has no record of that key")
        return found[0]

    def insert(self, one: EntitySet, values: Mapping[str, Any]) -> tuple[Any, ...]:
        """A new record, as it stands then. Raises Trouble."""
        stored = _stored(one, values)
        names, marks = ", ".join(map(quoted, stored)), ", ".join("?" * len(stored))
        into = f"({names}) VALUES ({marks})" if stored else "DEFAULT VALUES"
        with self.together(), _translated():
            done = self._base.execute(f"INSERT INTO {quoted(one.name)} {into}", list(stored.values()))
            row = self._base.execute(
                f"SELECT {', '.join(map(quoted, one.properties))} FROM {quoted(one.name)} WHERE rowid = ?",
                (done.lastrowid,),
            ).fetchone()
            self._pending.append((one.name, key_of(one, row)))
            found: tuple[Any, ...] = row
            return found

    def update(
        self, one: EntitySet, key: Sequence[Any], values: Mapping[str, Any], match: str | None
    ) -> tuple[Any, ...]:
        """Change some properties of a record, if it still has the ETag; the record then. Raises Trouble."""
        stored = {name: value for name, value in _stored(one, values).items() if name not in one.key}
        with self.together(), _translated():
            _check(self.get(one, key), match)
            if stored:
                where, found = _of_key(one, key)
                sets = ", ".join(f"{quoted(name)} = ?" for name in stored)
                self._base.execute(f"UPDATE {quoted(one.name)} SET {sets} WHERE {where}", [*stored.values(), *found])
            row = self.get(one, key)
            self._pending.append((one.name, key_of(one, row)))
            return row

    def delete(self, one: EntitySet, key: Sequence[Any], match: str | None) -> None:
        """Remove a record, if it still has the ETag. Raises Trouble."""
        with self.together(), _translated():
            row = self.get(one, key)
            _check(row, match)
            where, values = _of_key(one, key)
            self._base.execute(f"DELETE FROM {quoted(one.name)} WHERE {where}", values)
            self._pending.append((one.name, key_of(one, row)))


def key_of(one: EntitySet, row: Sequence[Any]) -> tuple[Any, ...]:
    """The key of a record."""
    names = list(one.properties)
    return tuple(row[names.index(name)] for name in one.key)


def etag_of(row: Sequence[Any]) -> str:
    """What tells a record from the same one with other values."""
    return f'W/"{hashlib.sha256(repr(tuple(row)).encode()).hexdigest()[:20]}"'


def _check(row: Sequence[Any], match: str | None) -> None:
    if match is not None and match != "*" and match != etag_of(row):
        raise Trouble(412, "the record was changed since")


def _of_key(one: EntitySet, key: Sequence[Any]) -> tuple[str, list[Any]]:
    return " AND ".join(f"{quoted(name)} = ?" for name in one.key), list(key)


def _stored(one: EntitySet, values: Mapping[str, Any]) -> dict[str, Any]:
    stored = {}
    for name, value in values.items():
        if "@" in name:
            continue
        if name not in one.properties:
            raise Trouble(400, f"{one.name} has no property {name!r}")
        if not one.properties[name].computed:
            try:
                stored[name] = to_stored(value, one.properties[name])
            except BadValue as error:
                raise Trouble(400, str(error)) from None
    return stored


@contextmanager
def _translated() -> Iterator[None]:
    try:
        yield
    except sqlite3.IntegrityError as error:
        raise Trouble(409, str(error)) from None


def _reference(rows: Sequence[tuple[str, str, str]]) -> Reference:
    return Reference(tuple(row[1] for row in rows), rows[0][0], tuple(row[2] or row[1] for row in rows))
