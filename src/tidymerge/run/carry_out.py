"""From the decision to the commit, the same for every run: write, prove, save, seal, commit."""

from collections.abc import Callable, Sequence
from functools import partial

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.match.family import family
from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.model.receipt import Receipt
from tidymerge.model.run import Run
from tidymerge.ports.log import Recording
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.run.commit import (
    Carried,
    Keep,
    Shield,
    commit,
    complete,
    let_go,
    prove,
    prove_gone,
    remove_held,
    seal,
    write,
)
from tidymerge.run.decided import Beside, Decided
from tidymerge.run.once import keep_rows
from tidymerge.run.relatives import drop_refused, with_own, with_parents, without_orphans
from tidymerge.run.report import Clock, make_receipt
from tidymerge.run.save import Saved


class Manner(Struct, frozen=True):
    """How a run is carried out.

    `check` is asked again where the target refused some of what was decided, and raises Stopped if the run may not go
    on; `save` writes the files beside the run. With `trusting`, differences that the target's own triggers make are
    noted; with `only_changed`, columns that an update does not write are not looked at. `shield` guards the moment of
    the commit against interruption, so that what is said afterwards is true.
    """

    check: Callable[[Decided], None]
    save: Callable[[Decided], Saved]
    trusting: bool
    only_changed: bool
    shield: Shield


def carry_out(
    target: Target, decided: Decided, run: Run, clock: Clock, recording: Recording, progress: Progress, manner: Manner
) -> Receipt:
    """Write what was decided, and end as `run.state` says. Raises Stopped, ProofFailed, LogUnwritable, TargetError."""
    carried, *beside = _written(target, decided, recording, progress, manner)
    decided = carried.decided
    saved = manner.save(decided)
    with saved.with_the_run():
        # Made before the commit: after it nothing may fail.
        verified = all(one.verified for one in (carried, *beside))
        receipt = make_receipt(
            decided.noting(*saved.notes, last=True), run.state, clock, saved.rejects, verified=verified
        )
        receipt = replace(receipt, undoes=run.undoes)
        keep_rows(decided, recording)
        entry = seal(target, carried, run, receipt, recording, beside)
        return commit(target, entry, clock, recording, manner.shield)


def _written(
    target: Target, decided: Decided, recording: Recording, progress: Progress, manner: Manner
) -> list[Carried]:
    """Each table as it was written and proved, the first one with what became of the others."""
    if decided.only_drops:
        return [prove_gone(target, let_go(target, decided, recording.add, progress), progress)]
    tables, places = _parents_first([Beside(target, decided), *decided.beside])
    writing = _Writing(tables, recording, progress, manner)
    # What comes is there, and proved, before anything goes. Parents come before their children, and go after them.
    going = [at for at in places if _only_loses(tables[at])]
    coming = [at for at in places if at not in going]
    holding = [at for at in coming if tables[at].holding]
    for at in coming:
        writing.write(at)
    writing.prove([at for at in coming if at not in holding])
    for at in (*going, *holding):
        _let_go(tables[at])
    for at in (at for at in places[::-1] if at in going or at in holding):
        writing.write(at) if at in going else writing.remove(at)
    writing.prove([*holding, *going])
    return writing.carried


class _Writing:
    """The tables of a run while they are written: `done` has what became of each so far, by its place."""

    def __init__(self, tables: Sequence[Beside], recording: Recording, progress: Progress, manner: Manner) -> None:
        self._tables = tables
        self._recording, self._progress, self._manner = recording, progress, manner
        self._done: dict[int, Carried] = {}

    def write(self, at: int) -> None:
        """Write a table, with the ids that its parents were given."""
        table = self._tables[at]
        parents = {place: (self._tables[place].target, carried.decided) for place, carried in self._done.items()}
        told = with_parents(table.target, table.decided, parents)
        carried = _write(replace(table, decided=told), self._keep(at), self._progress, always=len(self._tables) > 1)
        self._done[at] = carried
        if carried.written.refused:
            self._manner.check(self._joined)
        self._done[at] = with_own(table.target, carried)

    def remove(self, at: int) -> None:
        """Remove the records that a table held back until their children had gone."""
        self._done[at] = remove_held(self._tables[at].target, self._done[at])

    def prove(self, some: Sequence[int]) -> None:
        """Complete some tables, and prove them."""
        trusting, only_changed = self._manner.trusting, self._manner.only_changed
        for at in some:
            self._done[at] = complete(self._tables[at].target, self._done[at], self._keep(at))
        for at in some:
            target, carried = self._tables[at].target, self._done[at]
            self._done[at] = prove(target, carried, self._progress, trusting=trusting, only_changed=only_changed)

    def _keep(self, at: int) -> Keep:
        return partial(self._recording.add, table=at)

    @property
    def carried(self) -> list[Carried]:
        """All tables, the first one with what became of the others."""
        first, *others = (self._done[at] for at in range(len(self._tables)))
        return [replace(first, decided=self._joined), *others]

    @property
    def _joined(self) -> Decided:
        """What was decided about the first table, with the others as they were carried out so far."""
        known = [self._done[at].decided if at in self._done else one.decided for at, one in enumerate(self._tables)]
        beside = tuple(replace(one, decided=decided) for one, decided in zip(self._tables[1:], known[1:], strict=True))
        return replace(known[0], beside=beside)


def _write(table: Beside, keep: Keep, progress: Progress, *, always: bool) -> Carried:
    """Write one table. Rows whose parents in it are refused are not written either."""
    target, decided = table.target, table.decided
    if not isinstance(target, Related) or not any(one.table < 0 for one in decided.awaits):
        late = table.loose or table.holding
        return write(target, decided, keep, progress, late=late, always=always, holding=table.holding)
    while True:
        left = None
        try:
            with target.savepoint():
                carried = write(target, decided, keep, progress, late=True, always=always, holding=table.holding)
                left = without_orphans(target, carried.decided)
                if left is carried.decided:
                    return carried
                _take_back()
        except ConstraintBroken:
            if left is None:
                raise
            drop_refused(target, decided, left)
            decided = left


def _only_loses(table: Beside) -> bool:
    """Whether records go from a table and none come, so that its turn is after those that refer to it."""
    tally = table.decided.tally
    return isinstance(table.target, Related) and tally.removed > 0 and not tally.inserted


def _take_back() -> None:
    """End a savepoint so that what was written since goes."""
    raise ConstraintBroken("Rows were refused to which others refer.")


def _parents_first(tables: list[Beside]) -> tuple[list[Beside], list[int]]:
    """The tables and their order, with columns loosened by which they refer to each other in a circle. BadOption."""
    shapes = [one.decided.shape for one in tables]
    after = {
        one.decided.shape.name: [shapes[awaited.table].name for awaited in one.decided.awaits if awaited.table >= 0]
        for one in tables
    }
    found = family(shapes, {one.decided.shape.name: one.decided.pairing.key for one in tables}, after)
    told = []
    for one in tables:
        own = [awaited.column for awaited in one.decided.awaits if awaited.table < 0]
        loose = (*found.loose.get(one.decided.shape.name, ()), *own)
        if loose and isinstance(one.target, Related):
            one.target.loosen(loose)
        tally, name = one.decided.tally, one.decided.shape.name
        referred = any(key.table == name for shape in shapes if shape.name != name for key in shape.foreign_keys)
        holding = referred and tally.removed > 0 and tally.inserted > 0  # else it comes after its children anyway
        told.append(replace(one, loose=bool(loose), holding=holding))
    names = [shape.name for shape in shapes]
    return told, [names.index(name) for name in found.order]


def _let_go(table: Beside) -> None:
    """Empty what refers in a circle to records of other tables which go, too."""
    for part in table.decided.parts if table.loose else ():
        if len(part.changes.removals) and isinstance(table.target, Related):
            table.target.let_go(part.changes)
