"""The staged changes, judged by the database itself: where they would break a constraint of the table."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import numpy as np
import pyarrow as pa
from msgspec import Struct

from tidymerge.core.decide.rows import key_text
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import NUMBER, POSITION, ConstraintBroken, Database, quoted, same_place
from tidymerge.databases.contract.reading import numbers
from tidymerge.model import Check, ForeignKey, Indices, Reason, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet, Violation

_NONE: "Mapping[str, Stage]" = MappingProxyType({})
_NO_NUMBERS: Mapping[str, tuple[int, int]] = MappingProxyType({})
_NO_ENDS = (("min", 0), ("max", -1))
BY_ITSELF = {"CASCADE": "remove it, too", "SET NULL": "empty that there", "SET DEFAULT": "reset that there"}
_LISTED = 50_000  # positions in one statement


class Stage(Struct, frozen=True):
    """The staging table `table` of changes to the table of `shape`. `places` are the columns that locate a record.

    `leaving` is the staging table of records to remove, if there are any. `changed` are the columns that some update
    changes, and `referring` the foreign keys that refer to one of them. `beside` are the stages of all tables of the
    run, by name: what is decided there counts as done. Columns that are `loose` refer to tables that are written later,
    and are filled after that. In columns that are `awaited`, values from one number to another stand for ids of records
    that are not written yet.
    """

    database: Database
    shape: TableShape
    table: str
    places: tuple[str, ...]
    loaded: frozenset[str]
    leaving: str | None = None
    changed: frozenset[str] = frozenset()
    referring: tuple[ForeignKey, ...] = ()
    beside: "Mapping[str, Stage]" = _NONE
    loose: frozenset[str] = frozenset()
    awaited: Mapping[str, tuple[int, int]] = _NO_NUMBERS

    @property
    def target(self) -> str:
        """The target's name in SQL."""
        return self.database.in_sql(self.shape.name)

    @property
    def bits(self) -> dict[str, int]:
        """The bit of each rewritable column in the number that says which columns of a staged row change."""
        return {name: 1 << index for index, name in enumerate(self.shape.rewritable)}

    def bits_of(self, changes: ChangeSet) -> Indices:
        """For each change which rewritable columns it writes, as a sum of their bits."""
        bits = np.zeros(changes.written, np.int64)
        for name, bit in self.bits.items():
            changed = changes.updates.changing(name)
            bits[: len(changed)] += changed * bit
        return bits

    @property
    def same_place(self) -> str:
        """The join condition that finds the staged record `s` in the target `t`."""
        return same_place(self.places)

    def is_leaving(self, record: str) -> str:
        """SQL for whether the record of that alias is among those to remove."""
        return f"EXISTS (SELECT 1 FROM {self.leaving} l WHERE {same_place(self.places, record, 'l')})"

    def remove(self, positions: Sequence[int]) -> None:
        """Take the changes at `positions` away."""
        for start in range(0, len(positions), _LISTED):
            listed = ", ".join(f"{position:d}" for position in positions[start : start + _LISTED])
            for table in filter(None, (self.table, self.leaving)):
                self.database.change(f"DELETE FROM {table} WHERE {quoted(POSITION)} IN ({listed})")

    def violations(self, key: Sequence[str]) -> list[Violation]:
        """Staged changes that would break a foreign key, a unique constraint or a check."""
        return [
            *self._without_parent(),
            *self._not_unique(key),
            *self._check_failed(),
            *(self._referred_to() if self.leaving else ()),
        ]

    def _referred_to(self) -> list[Violation]:
        """Records to remove to which others refer: those would be left without a parent, or be removed along."""
        return [violation for key in self.database.referring(self.shape.name) for violation in self._referring(key)]

    def _referring(self, key: ForeignKey) -> list[Violation]:
        """Records of another table that refer to some that are to be removed.

        SELECT s.position, t.code FROM leaving s JOIN keepers x ON x.keeper_id = s.place_0
        JOIN hives t ON t.keeper_id = x.keeper_id ORDER BY s.position
        """
        child, join = self.database.describe(self.database.find_table(key.table)), self.database.traits.join
        pairs = zip(key.columns, key.referred, strict=True)
        # The collation of what is referred to counts: in SQLite it is that of the left side.
        refers = " AND ".join(f"x.{quoted(there)} = t.{quoted(here)}" for here, there in pairs)
        theirs = self if child.name == self.shape.name else self.beside.get(child.name)
        # Those that leave too, or are given another parent, are not in the way.
        if theirs is not None and theirs.leaving:
            refers += f" AND NOT {theirs.is_leaving('t')}"
        if theirs is not None and theirs.loaded.issuperset(key.columns):
            pairs = zip(key.columns, key.referred, strict=True)
            other = " OR ".join(
                f"o.{quoted(here)} IS NULL OR o.{quoted(here)} <> x.{quoted(there)}" for here, there in pairs
            )
            moved = f"SELECT 1 FROM {theirs.table} o WHERE {same_place(theirs.places, 't', 'o')} AND ({other})"
            refers += f" AND NOT EXISTS ({moved})"
        source = (
            f"FROM {self.leaving} s {join} {self.target} x ON {same_place(self.places, 'x')} "
            f"{join} {self.database.in_sql(child.name)} t ON {refers} ORDER BY s.{quoted(POSITION)}"
        )
        names = child.primary_key or key.columns
        position = TargetColumn(POSITION, NUMBER.type)
        rows = self.database.read(
            [position, *(child.column(name) for name in names)],
            lambda expressions: f"SELECT s.{quoted(POSITION)}, {', '.join(expressions[1:])} {source}",
        ).values
        if not rows.num_rows:
            return []
        numbered = np.asarray(as_array(rows[POSITION]).to_numpy(), np.int64)
        positions, first, counts = np.unique(numbered, return_index=True, return_counts=True)
        texts = [key_text(rows.take(pa.array(first)), [name]).to_pylist() for name in names]
        said = tuple(
            f"{child.name} {', '.join(f'{name} {text}' for name, text in zip(names, one, strict=True))}"
            + (f" and {count - 1:,} more" if count > 1 else "")
            for one, count in zip(zip(*texts, strict=True), counts.tolist(), strict=True)
        )
        wanted = f"no record of {child.name} that refers to it by {' + '.join(key.columns)}"
        if key.on_delete in BY_ITSELF:
            wanted += f" (the database would {BY_ITSELF[key.on_delete]})"
        return [Violation(Reason.REFERRED_TO, wanted, (), positions, found=said)]

    def _without_parent(self) -> list[Violation]:
        """Changes whose values are not found where a foreign key wants them.

        SELECT s.position AS n FROM stage s WHERE s.keeper_id IS NOT NULL
        AND NOT EXISTS (SELECT 1 FROM keepers p WHERE p.keeper_id = s.keeper_id)
        """
        found = []
        for key in self.shape.foreign_keys:
            if not self.loaded.issuperset(key.columns):
                continue
            present = " AND ".join(f"s.{quoted(name)} IS NOT NULL" for name in key.columns)
            for name in set(key.columns) & set(self.awaited):
                low, high = self.awaited[name]
                present += f" AND NOT s.{quoted(name)} BETWEEN {low:d} AND {high:d}"
            pairs = list(zip(key.columns, key.referred, strict=True))
            in_parent = " AND ".join(f"p.{quoted(there)} = s.{quoted(here)}" for here, there in pairs)
            parent = self if key.table == self.shape.name else self.beside.get(key.table, self)
            goes = parent.leaving if parent.shape.name == key.table else None
            stays = f" AND NOT {parent.is_leaving('p')}" if goes else ""
            query = (
                f"SELECT s.{quoted(POSITION)} AS n FROM {self.table} s WHERE {present} AND NOT EXISTS "
                f"(SELECT 1 FROM {self.database.in_sql(key.table)} p WHERE {in_parent}{stays})"
            )
            if key.table == self.shape.name and self.loaded.issuperset(key.referred):
                in_stage = " AND ".join(f"o.{quoted(there)} = s.{quoted(here)}" for here, there in pairs)
                query += f" AND NOT EXISTS (SELECT 1 FROM {self.table} o WHERE {in_stage})"
            if parent is not self and parent.loaded.issuperset(key.referred):
                in_stage = " AND ".join(f"o.{quoted(there)} = s.{quoted(here)}" for here, there in pairs)
                query += f" AND NOT EXISTS (SELECT 1 FROM {parent.table} o WHERE {in_stage})"
            wanted = f"a value found in {key.table} ({', '.join(key.referred)})"
            found += self._violation(query, Reason.NO_SUCH_RECORD, wanted, key.columns)
        return found

    def _not_unique(self, key: Sequence[str]) -> list[Violation]:
        """Changes after which two records would have the values of a unique constraint.

        WITH a AS (SELECT s.position, s.tag FROM stage s LEFT JOIN hives t ON t.rowid = s.place_0),
        twice AS (SELECT a.tag FROM a GROUP BY a.tag HAVING count(*) > 1)
        SELECT a.position AS n FROM a WHERE EXISTS (SELECT 1 FROM twice t WHERE a.tag = t.tag)
        OR EXISTS (SELECT 1 FROM hives t WHERE a.tag = t.tag
                   AND NOT EXISTS (SELECT 1 FROM stage s WHERE t.rowid = s.place_0))
        """
        found = []
        for names in (self.shape.primary_key, *self.shape.unique):
            if set(names) == set(key) or not set(names) & self.loaded - set(key):
                continue
            listed = ", ".join(f"a.{quoted(name)}" for name in names)
            same = " AND ".join(f"a.{quoted(name)} = t.{quoted(name)}" for name in names)
            query = (
                f"WITH a AS ({self.after(names)}), "
                f"twice AS (SELECT {listed} FROM a GROUP BY {listed} HAVING count(*) > 1) "
                f"SELECT a.{quoted(POSITION)} AS n FROM a WHERE EXISTS (SELECT 1 FROM twice t WHERE {same}) "
                f"OR EXISTS (SELECT 1 FROM {self.target} t WHERE {same} AND NOT {self._is_staged})"
            )
            wanted = f"a value that no other record has: {' + '.join(names)} is unique"
            found += self._violation(query, Reason.NOT_UNIQUE, wanted, names)
        return found

    @property
    def _is_staged(self) -> str:
        """Whether a record `t` is itself among the staged: then its new values count, or none, not its old."""
        updated = f"EXISTS (SELECT 1 FROM {self.table} s WHERE {self.same_place})"
        return f"({updated} OR {self.is_leaving('t')})" if self.leaving else updated

    def _check_failed(self) -> list[Violation]:
        """Changes after which a check would be false.

        SELECT hives.position AS n FROM (SELECT s.position, s.honey_kg, t.notes FROM stage s LEFT JOIN hives t …)
        AS hives WHERE CASE WHEN hives.position BETWEEN 0 AND 41 THEN NOT (honey_kg >= 0) ELSE 1 = 0 END
        """
        found = []
        computed = {column.name for column in self.shape.columns if column.generated}
        for check in self.shape.checks:
            if not computed.isdisjoint(check.columns):
                continue  # what the database computes is known to it alone, and only when it writes
            if check.domain is not None and not self.loaded.issuperset(check.columns):
                continue  # no row brings a value for it
            wanted = f"what the target checks: {check.expression}"
            positions = np.sort(self._broken(check, *self._ends))
            always = self.database.traits.rechecks and check.domain is None
            if len(positions):
                found.append(Violation(Reason.CHECK_FAILED, wanted, check.columns, positions, always))
        return found

    @property
    def _ends(self) -> tuple[int, int]:
        """The first and the last position that is staged."""
        name = quoted(POSITION)
        ends = (f"SELECT coalesce({pick}({name}), {other}) AS n FROM {self.table}" for pick, other in _NO_ENDS)
        low, high = (int(numbers(self.database.read, query)[0]) for query in ends)
        return low, high

    def _broken(self, check: Check, low: int, high: int) -> Indices:
        """The positions that break a check, those for which it can't be worked out among them (a division by zero)."""
        if low > high:
            return np.zeros(0, np.int64)
        try:
            with self.database.savepoint():
                found: Indices = numbers(self.database.read, self._offenders(check, low, high))
                return found
        except ConstraintBroken:
            if low == high:
                return np.array([low], np.int64)
        middle = (low + high) // 2
        both: Indices = np.r_[self._broken(check, low, middle), self._broken(check, middle + 1, high)]
        return both

    def _offenders(self, check: Check, low: int, high: int) -> str:
        """The records between two positions that break a check: the schema's own text, which holds unless it is false.

        In a CASE, so that it is worked out for no others.
        """
        judged = quoted(self.shape.name if check.domain is None else "checked")
        rows = self.after([column.name for column in self.shape.columns if not column.generated])
        if check.domain is not None:
            (name,) = check.columns
            rows = f"SELECT {quoted(POSITION)}, s.{quoted(name)} AS {quoted(check.domain)} FROM {self.table} s"
        place = f"{judged}.{quoted(POSITION)}"
        broken = f"CASE WHEN {place} BETWEEN {low:d} AND {high:d} THEN NOT ({check.expression}) ELSE 1 = 0 END"
        return f"SELECT {place} AS n FROM ({rows}) AS {judged} WHERE {broken}"

    def after(self, names: Sequence[str]) -> str:
        """SQL for the staged records as they would stand after the load."""
        columns = ", ".join(
            f"s.{quoted(name)}" if name in self.loaded else f"t.{quoted(name)} AS {quoted(name)}" for name in names
        )
        return (
            f"SELECT s.{quoted(POSITION)}, {columns} FROM {self.table} s LEFT JOIN {self.target} t ON {self.same_place}"
        )

    def _violation(self, query: str, reason: Reason, wanted: str, columns: Sequence[str]) -> list[Violation]:
        try:
            with self.database.savepoint():
                found = np.sort(numbers(self.database.read, query))
        except ConstraintBroken:
            return []  # it can't be worked out for some row, as in a division by zero: the database tells when writing
        return [Violation(reason, wanted, tuple(columns), found)] if len(found) else []
