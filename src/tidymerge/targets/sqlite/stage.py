"""The staging table: decided changes inside SQLite, where set-based statements and checks reach them.

It lives in the connection's own temporary schema, so that a preview can use it on a read-only file.
Each loaded column has there the affinity and collation that it has in the target, so a value compares
and converts in it as it will in the target.
"""

from collections.abc import Mapping, Sequence

import numpy as np
import pyarrow as pa

from tidymerge.core.cells import as_array
from tidymerge.core.rows import key_text
from tidymerge.model import ChangeSet, Existing, Flaw, Fold, Mask, Pairing, Reason, TableShape
from tidymerge.targets.sqlite.columns import to_stored
from tidymerge.targets.sqlite.describe import affinity
from tidymerge.targets.sqlite.session import Session, quoted

STAGE = "tidymerge staged changes"
POSITION = "tidymerge position"
_PLACE = "tidymerge place "
_COLLATION = {Fold.NOTHING: "BINARY", Fold.ASCII_CASE: "NOCASE", Fold.TRAILING_SPACES: "RTRIM"}


class Stage:
    """The staged changes of one run against one table. `places` are the columns that locate a record."""

    def __init__(self, session: Session, shape: TableShape, places: Sequence[str], stamps: Mapping[str, str]) -> None:
        self.session = session
        self.shape = shape
        self.places = tuple(places)
        self.stamps = stamps
        self.loaded: tuple[str, ...] = ()

    @property
    def table(self) -> str:
        """The staging table's name in SQL."""
        return f"temp.{quoted(STAGE)}"

    @property
    def target(self) -> str:
        """The target's name in SQL."""
        return f"main.{quoted(self.shape.name)}"

    @property
    def same_place(self) -> str:
        """The join condition that finds the staged record `s` in the target `t`."""
        return " AND ".join(
            f"t.{quoted(place)} = s.{quoted(_PLACE + str(index))}" for index, place in enumerate(self.places)
        )

    @property
    def is_insert(self) -> str:
        """The condition that a staged row `s` is a new record: it has no place yet."""
        return f"s.{quoted(_PLACE + '0')} IS NULL"

    def fill(self, changes: ChangeSet, existing: Existing, pairing: Pairing) -> None:
        """Create the staging table and put the changes there, at their positions in the change set."""
        self.loaded = tuple(column.name for column in pairing.columns)
        places = existing.places.take(pa.array(changes.existing))
        count = changes.after.num_rows
        columns = {POSITION: pa.array(np.arange(count, dtype=np.int64))}
        declared = [f"{quoted(POSITION)} INTEGER PRIMARY KEY"]
        for index, name in enumerate(existing.places.column_names):
            place = as_array(places[name])
            columns[_PLACE + str(index)] = pa.concat_arrays([place, pa.nulls(changes.inserts, place.type)])
            declared.append(quoted(_PLACE + str(index)))
        for column in pairing.columns:
            columns[column.name] = to_stored(as_array(changes.after[column.name]), column, self.stamps.get(column.name))
            kind = affinity(column.type.declared) if column.type.declared != "no type" else ""
            declared.append(f"{quoted(column.name)} {kind} COLLATE {_COLLATION[column.fold]}")
        self.session.run(f"DROP TABLE IF EXISTS {self.table}")
        self.session.run(f"CREATE TEMP TABLE {quoted(STAGE)} ({', '.join(declared)})")
        if count:
            self.session.fill(STAGE, pa.table(columns))

    def remove(self, positions: Sequence[int]) -> None:
        """Take the changes at `positions` away."""
        for position in positions:
            self.session.run(f"DELETE FROM {self.table} WHERE {quoted(POSITION)} = ?", [position])

    def violations(self, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
        """Staged changes that would break a foreign key, a unique constraint or a check."""
        if not changes.after.num_rows:
            return []
        return [
            *self._without_parent(changes, pairing),
            *self._not_unique(changes, pairing),
            *self._check_failed(changes, pairing),
        ]

    def _without_parent(self, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
        flaws = []
        for key in self.shape.foreign_keys:
            if not set(key.columns) <= set(self.loaded):
                continue
            present = " AND ".join(f"s.{quoted(name)} IS NOT NULL" for name in key.columns)
            pairs = list(zip(key.columns, key.referred, strict=True))
            in_parent = " AND ".join(f"p.{quoted(there)} = s.{quoted(here)}" for here, there in pairs)
            query = (
                f"SELECT s.{quoted(POSITION)} AS n FROM {self.table} s WHERE {present} AND NOT EXISTS "
                f"(SELECT 1 FROM main.{quoted(key.table)} p WHERE {in_parent})"
            )
            if key.table == self.shape.name and set(key.referred) <= set(self.loaded):
                in_stage = " AND ".join(f"o.{quoted(there)} = s.{quoted(here)}" for here, there in pairs)
                query += f" AND NOT EXISTS (SELECT 1 FROM {self.table} o WHERE {in_stage})"
            wanted = f"a value found in {key.table} ({', '.join(key.referred)})"
            flaws += self._flaws(query, Reason.NO_SUCH_RECORD, wanted, key.columns, changes, pairing)
        return flaws

    def _not_unique(self, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
        flaws = []
        for names in (self.shape.primary_key, *self.shape.unique):
            if set(names) == set(pairing.key) or not set(names) & set(self.loaded) - set(pairing.key):
                continue
            listed = ", ".join(f"a.{quoted(name)}" for name in names)
            same = " AND ".join(f"a.{quoted(name)} = t.{quoted(name)}" for name in names)
            query = (
                f"WITH a AS ({self._after()}), "
                f"twice AS (SELECT {listed} FROM a GROUP BY {listed} HAVING count(*) > 1) "
                f"SELECT a.{quoted(POSITION)} AS n FROM a WHERE EXISTS (SELECT 1 FROM twice t WHERE {same}) "
                f"OR EXISTS (SELECT 1 FROM {self.target} t WHERE {same} AND NOT {self._is_staged})"
            )
            wanted = f"a value that no other record has: {' + '.join(names)} is unique"
            flaws += self._flaws(query, Reason.NOT_UNIQUE, wanted, names, changes, pairing)
        return flaws

    @property
    def _is_staged(self) -> str:
        """Whether a record `t` is itself among the staged updates: then its new values count, not its old."""
        return f"EXISTS (SELECT 1 FROM {self.table} s WHERE {self.same_place})"

    def _check_failed(self, changes: ChangeSet, pairing: Pairing) -> list[Flaw]:
        flaws = []
        for check in self.shape.checks:
            # The expression is the schema's own text; a check holds unless it is false (ISO SQL).
            query = (
                f"SELECT {quoted(self.shape.name)}.{quoted(POSITION)} AS n "
                f"FROM ({self._after()}) AS {quoted(self.shape.name)} WHERE NOT ({check.expression})"
            )
            flaws += self._flaws(
                query,
                Reason.CHECK_FAILED,
                f"what the target checks: {check.expression}",
                check.columns,
                changes,
                pairing,
            )
        return flaws

    def _after(self) -> str:
        """SQL for the staged records as they would stand after the load, all columns of the target."""
        names = [column.name for column in self.shape.columns if not column.generated]
        columns = ", ".join(
            f"s.{quoted(name)}" if name in self.loaded else f"t.{quoted(name)} AS {quoted(name)}" for name in names
        )
        return (
            f"SELECT s.{quoted(POSITION)}, {columns} FROM {self.table} s LEFT JOIN {self.target} t ON {self.same_place}"
        )

    def _flaws(
        self,
        query: str,
        reason: Reason,
        wanted: str,
        names: Sequence[str],
        changes: ChangeSet,
        pairing: Pairing,
    ) -> list[Flaw]:
        found = np.sort(self.session.table(query)["n"].to_numpy().astype(np.int64))
        positions = found[_concerned(changes, names)[found]]
        if not len(positions):
            return []
        sources = {pair.target.name: pair.incoming for pair in pairing.pairs}
        shown = [name for name in names if name in sources]
        values = key_text(changes.after.take(pa.array(positions)), shown) if shown else None
        column = " / ".join(sources[name] for name in shown) or None
        return [Flaw(reason, changes.incoming[positions], wanted, column, values)]


def _concerned(changes: ChangeSet, names: Sequence[str]) -> Mask:
    """The changes that write one of the columns `names`: an old offence of the record is no fault of the row."""
    if not names:
        return np.ones(changes.after.num_rows, bool)
    written = [changes.changed[name] for name in names if name in changes.changed]
    updates = np.logical_or.reduce([np.zeros(changes.updates, bool), *written])
    concerned: Mask = np.r_[updates, np.ones(changes.inserts, bool)]
    return concerned
