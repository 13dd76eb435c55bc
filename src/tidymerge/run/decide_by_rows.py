"""Removals whose records rows name: what goes along with those, and the copies of all that goes."""

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change import only
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.removal import with_others
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.job.model import Job, Removal
from tidymerge.model import Existing, Indices, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import ChangeSet
from tidymerge.ports.target import Target
from tidymerge.run.archives import Archives
from tidymerge.run.ask import equal_texts
from tidymerge.run.decide_remove import Going, beside_of, decided_removal, notes_on, staged_branches
from tidymerge.run.decided import Decided, Part
from tidymerge.run.records import record_key
from tidymerge.run.settle import Staged
from tidymerge.run.tree import grown


class Leaving(Struct):
    """What is asked beside the removal of records that rows name, and what was decided about it."""

    asked: Removal
    target: Target
    archives: Archives
    now: datetime
    children: tuple[Going, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def staged(self) -> list[Staged]:
        """What goes along, as it is staged."""
        return [child.staged for child in self.children]

    def grow(
        self, changes: ChangeSet, existing: Existing, pairing: Pairing, shape: TableShape
    ) -> tuple[ChangeSet, Existing]:
        """The removals, which are not staged yet, with those of records that refer to them; what does is staged."""
        if not self.asked.with_referring or not len(changes.removals):
            return changes, existing
        named: list[Indices] = []

        def meant(columns: Sequence[TargetColumn]) -> Existing:
            found, removals = self._named(changes, pairing, columns)
            named.append(changes.removals.rows[removals])
            return found

        branches = grown(self.target, shape, pairing.key, meant)
        (rows,) = named
        more = branches[0].existing.values.num_rows - len(rows)
        self.children = tuple(staged_branches(self.asked, branches, Surroundings(self.now)))
        self.notes = tuple(notes_on(branches, more))
        return with_others(changes, rows, branches[0].existing, shape), branches[0].existing

    def _named(self, changes: ChangeSet, pairing: Pairing, columns: Sequence[TargetColumn]) -> tuple[Existing, Indices]:
        """The records that go, with some columns, and which removal each of them is."""
        keys = changes.removals.named_by(pairing.key)
        found = self.target.fetch(columns, pairing.key_columns, keys)
        own = found.values.select(list(pairing.key))
        equal = by_number(
            equal_texts(self.target, pairing.key_columns, texts_to_tell([own, keys], pairing.key_columns))
        )
        matches = match(code_keys(own, keys, pairing.key_columns, equal))
        return only(found, matches.times > 0), matches.record[matches.times > 0]

    def completed(self, decided: Decided, parts: Sequence[Sequence[Part]]) -> Decided:
        """The removal with all of that; `parts` are those of what goes along, settled."""
        others = [decided_removal(child, part) for child, (part,) in zip(self.children, parts, strict=True)]
        decided = replace(decided, beside=beside_of(self.children, others)).noting(*self.notes, last=True)
        return self.archives.filled(decided, self.now)


def leaving(job: Job, target: Target, shape: TableShape, now: datetime) -> Leaving | None:
    """What is asked beside a removal, with the archives opened; None for any other load. Raises BadOption."""
    asked = job.removal
    if asked is None or not (asked.with_referring or asked.archive):
        return None
    key = record_key(asked.key, shape) if asked.archive else ()
    return Leaving(asked, target, Archives.opened(asked, target, shape, key), now)
