"""Writing staged changes: a statement for each range of them, narrowed down to single rows where values are refused."""

from collections.abc import Iterable, Sequence
from collections.abc import Set as AbstractSet
from functools import partial

import numpy as np
from msgspec import Struct, field

from tidymerge.core.decide.change_set import reject
from tidymerge.core.match.order import generations, is_circle
from tidymerge.core.tidy.cells import as_array, valid
from tidymerge.databases.contract.database import CHANGED, ConstraintBroken, quoted
from tidymerge.errors import TargetChanged
from tidymerge.model import Flaw, Reason
from tidymerge.model.changes import ChangeSet, Refusal, Written
from tidymerge.targets.sql.detours import NONE, Detours, checked, detours_for, emptied
from tidymerge.targets.sql.ranges import PlacedInsert, Statement, Stretch, patterns, ranges, stretches
from tidymerge.targets.sql.stage import Stage

_ATTEMPT = "attempt"
_HIDDEN = "; a policy hides that record from you, or a trigger made it"


class _Again(ConstraintBroken):
    """Rows were refused after others had made way for them: all is taken back and written without them."""


class Writer(Struct):
    """Writes the changes staged in `stage` to `table`, whose job's key is `key`; without one records have their places.

    `alone`: nobody else can have written to the table since it was compared.
    """

    stage: Stage
    table: str
    key: tuple[str, ...]
    alone: bool
    detours: Detours = NONE
    refused: list[Refusal] = field(default_factory=list)
    stretches: list[Stretch] = field(default_factory=list)

    def write(self, changes: ChangeSet) -> Written:
        """One UPDATE for each group of updates, one INSERT for each set of columns given."""
        gone: list[Refusal] = []
        while True:
            self.refused, self.stretches = [], []
            self.detours = detours_for(self.stage, changes, self.key)
            try:
                done = self._all(changes) if not self.detours else self._attempt(changes)
            except _Again:
                self.stage.remove([refusal.position for refusal in self.refused])
                changes = _without(changes, self.refused)
                late = self._hindered(changes)
                self.stage.remove([refusal.position for refusal in late])
                changes = _without(changes, late)
                gone += [*self.refused, *late]
                continue
            self.stage.remove([refusal.position for refusal in self.refused])
            return Written(*done, (*gone, *self.refused))

    def _attempt(self, changes: ChangeSet) -> tuple[int, int, int]:
        with self.stage.database.savepoint(_ATTEMPT):
            done = self._all(changes)
            if self.refused:
                raise _Again("Rows were refused on a detour.")
            return done

    def _hindered(self, changes: ChangeSet) -> list[Refusal]:
        """The changes that break a constraint now that others are out."""
        late: dict[int, str] = {}
        for violation in self.stage.violations(self.key):
            at = violation.positions[np.isin(violation.positions, changes.positions)]
            late |= dict.fromkeys(at.tolist(), f"expected {violation.wanted}")
        return [Refusal(position, why) for position, why in late.items()]

    def _all(self, changes: ChangeSet) -> tuple[int, int, int]:
        """Write all; how many records were updated, inserted and removed."""
        shape, last = self.stage.shape, self.detours.last
        own_parents = [set(key.columns) for key in shape.foreign_keys if key.table == shape.name]
        # Others may take the place of a record that goes, but updates may first have to cease to refer to it.
        letting_go = [columns for columns in own_parents if not columns.isdisjoint(changes.updates.columns)]
        late = any(columns.isdisjoint(last) for columns in letting_go)
        removed = self._removed(changes) if not letting_go else 0
        for aside in self.detours.asides:
            for low, high in stretches(aside.positions):
                self._narrowed(low, high, Statement(self._move_aside, (aside.column, aside.value)))
        if letting_go and not late:
            removed = self._removed(changes)
        inserted = self._inserted(changes) if own_parents else 0
        updated = 0
        later: list[tuple[list[str], int, int, bool]] = []
        for found in ranges(changes.updates.shapes, changes.updates.positions, changes.updates.changed):
            first = [name for name in found.names if name not in last]
            if first:
                update = Statement(partial(self._update, found.mixed), first)
                updated += self._narrowed(found.low, found.high, update)
            if len(first) < len(found.names):
                later.append(([name for name in found.names if name in last], found.low, found.high, not first))
        for names, low, high, counts in later:
            own = [name for name in names if name not in self.stage.loose]
            filled = self._narrowed(low, high, Statement(self._fill, own)) if own else 0
            updated += filled if counts else 0
        if not own_parents:
            inserted = self._inserted(changes)
        self._fill_new(changes)
        if late:
            removed = self._removed(changes)
        return updated, inserted, removed

    def _removed(self, changes: ChangeSet) -> int:
        removals = changes.removals
        if not len(removals):
            return 0
        own = [key for key in self.stage.shape.foreign_keys if key.table == self.stage.shape.name]
        for key in own:  # also by columns that are not loaded
            # Tested row by row, a record that is its own parent stands in its own way.
            circle = is_circle(removals.before, key, or_itself=self.stage.database.traits.row_by_row)
            name = emptied(self.stage, key)
            if len(own) > 1 and name not in checked(self.stage):  # one key may lead there, and another one back
                circle |= valid(as_array(removals.before[key.columns[0]]))
            for low, high in stretches(removals.positions[circle]) if name else ():
                self._narrowed(low, high, Statement(self._let_go, (name or "",)))
        # Children first, a statement for each generation: MariaDB tests foreign keys row by row.
        levels = generations(removals.before, self.stage.shape)
        found = ranges(levels, removals.positions, {})
        return sum(self._narrowed(one.low, one.high, Statement(self._delete, ())) for one in found)

    def _inserted(self, changes: ChangeSet) -> int:
        inserts = changes.inserts
        found = ranges(patterns(inserts), inserts.positions, inserts.given)
        return sum(
            self._narrowed(
                one.low, one.high, self._inserting([name for name in one.names if name not in self.detours.last])
            )
            for one in found
        )

    def _inserting(self, names: Sequence[str]) -> Statement:
        if self.key:
            return Statement(self._insert, names)
        return PlacedInsert(self.stage.shape, self.stage.table, names, self.stage.places, self.stretches)

    def _fill_new(self, changes: ChangeSet) -> None:
        """Fill the columns of new records that were left empty at first."""
        self._fill_given(changes, [name for name in self.detours.last if name not in self.stage.loose])

    def _fill_given(self, changes: ChangeSet, names: Sequence[str]) -> None:
        """Fill columns of new records, where those give them."""
        inserts = changes.inserts
        for found in ranges(patterns(inserts), inserts.positions, inserts.given):
            given = [name for name in found.names if name in names]
            if given:
                self._narrowed(found.low, found.high, Statement(self._fill, given))

    def fill(self, changes: ChangeSet) -> int:
        """Fill the loose columns; how many records were updated by nothing else. Raises TargetChanged."""
        loose, updated = self.stage.loose, 0
        self._fill_given(changes, tuple(loose))
        for found in ranges(changes.updates.shapes, changes.updates.positions, changes.updates.changed):
            names = [name for name in found.names if name in loose]
            if names:
                filled = self._narrowed(found.low, found.high, Statement(self._fill, names))
                updated += filled if len(names) == len(found.names) else 0
        self._none_refused()
        return updated

    def let_go(self, changes: ChangeSet) -> None:
        """Empty the loose columns of records that are to go. Raises TargetChanged."""
        for name in self.stage.loose:
            for low, high in stretches(changes.removals.positions):
                self._narrowed(low, high, Statement(self._let_go, (name,)))
        self._none_refused()

    def _none_refused(self) -> None:
        if self.refused:
            raise TargetChanged(f"What was tested before is refused now: {self.refused[0].message}.")

    @property
    def _same_key(self) -> str:
        same = " AND ".join(f"t.{quoted(name)} = s.{quoted(name)}" for name in self.key)
        return same or self.stage.same_place

    @property
    def _same(self) -> str:
        """What finds a record once values were moved aside: its place may have gone with them."""
        asides = {aside.column for aside in self.detours.asides}
        return self._same_key if self.displaces(asides) else self.stage.same_place

    def displaces(self, columns: Iterable[str]) -> bool:
        """Whether writing these columns changes where records are found."""
        written, shape = set(columns), self.stage.shape
        by_row = self.stage.database.traits.moves and not shape.primary_key
        return bool(written) and (by_row or bool(written & {*self.stage.places, *shape.primary_key}))

    def _move_aside(self, aside: Sequence[str], where: str) -> str:
        column, value = aside
        return self._update_to({column: value}, f"{self.stage.same_place} AND {where}")

    def _let_go(self, names: Sequence[str], where: str) -> str:
        """Records that leave, and refer to each other in a circle, refer to nothing first."""
        where = f"{self.stage.same_place} AND {where}"
        return self.stage.database.update(self.table, self.stage.leaving or "", dict.fromkeys(names, "NULL"), where)

    def _update(self, mixed: AbstractSet[str], names: Sequence[str], where: str) -> str:
        """One statement for records of which different columns change: a `mixed` one stays where it does not.

        UPDATE hives AS t SET notes = CASE WHEN (s.changed & 4) = 0 THEN t.notes ELSE s.notes END …
        """
        settings = {name: f"s.{quoted(name)}" for name in dict.fromkeys([*names, *self._restamped])}
        for name in (name for name in names if name in mixed):
            bit = self.stage.bits[name]
            keeps = f"(s.{quoted(CHANGED)} & {bit:d}) = 0 THEN t.{quoted(name)}"
            settings[name] = f"CASE WHEN {keeps} ELSE s.{quoted(name)} END"
        return self._update_to(settings, f"{self._same} AND {where}")

    def _fill(self, names: Sequence[str], where: str) -> str:
        settings = {name: f"s.{quoted(name)}" for name in dict.fromkeys([*names, *self._restamped])}
        return self._update_to(settings, f"{self._same_key} AND {where}")

    @property
    def _restamped(self) -> list[str]:
        """The loaded columns that the database would stamp at each update if they were not written."""
        return [c.name for c in self.stage.shape.columns if c.restamped and c.name in self.stage.loaded]

    def _update_to(self, settings: dict[str, str], where: str) -> str:
        return self.stage.database.update(self.table, self.stage.table, settings, where)

    def _insert(self, names: Sequence[str], where: str) -> str:
        return self.stage.database.insert(self.stage.shape, self.stage.table, names, where)

    def _delete(self, _: Sequence[str], where: str) -> str:
        return self.stage.database.delete(self.table, self.stage.leaving or "", self.stage.places, where)

    def _narrowed(self, low: int, high: int, statement: Statement) -> int:
        """Run a statement over positions `low` to `high`; where values are at fault, halve until bad rows are single.

        A bad row among n costs about 2 log2 n statements.
        """
        try:
            with self.stage.database.savepoint():
                return statement.run(self.stage.database, low, high)
        except ConstraintBroken as broken:
            # The key was new when it was compared. If nobody inserted it meanwhile, waiting for others is no help.
            names = set(self.stage.shape.unique_names.get(broken.constraint or "", ()))
            there = bool(names) and names == set(self.key)
            if there and not self.alone:
                raise TargetChanged(
                    f"A new key is there already, inserted meanwhile or hidden from you by a policy: {broken}."
                ) from broken
            if low == high:
                self.refused.append(Refusal(low, f"{broken}{_HIDDEN if there else ''}"))
                return 0
        middle = (low + high) // 2
        return self._narrowed(low, middle, statement) + self._narrowed(middle + 1, high, statement)


def _without(changes: ChangeSet, refused: Sequence[Refusal]) -> ChangeSet:
    """The changes without those at the refused positions."""
    rows = changes.rows_at([refusal.position for refusal in refused])
    return reject(changes, [Flaw(Reason.REFUSED, rows, "")]) if len(rows) else changes
