"""Deciding about the records of a target that are to go, and what stands in the way."""

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.decide.change import ChangePlan, as_rows, unnamed
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.decide.removal import naming, own_parents, remove_part
from tidymerge.core.words import plural
from tidymerge.job.model import Removal
from tidymerge.model import Existing, Pair, Pairing, TableShape, TargetColumn
from tidymerge.model.changes import Tally
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.archives import Archives
from tidymerge.run.decided import Beside, Decided, Part
from tidymerge.run.leaving import for_people, in_full
from tidymerge.run.records import Found, condition, decided_about, read_records, record_key
from tidymerge.run.report import Clock
from tidymerge.run.settle import Staged, settle
from tidymerge.run.tree import Branch, grown

_ON_DELETE = {"CASCADE": "remove records", "SET NULL": "empty {} in records", "SET DEFAULT": "reset {} in records"}


def decide_removal(asked: Removal, target: Target, clock: Clock, progress: Progress) -> Decided:
    """Read the records, stage those that meet the condition, and find what refers to them."""
    shape = target.describe()
    plan = _plan(asked, shape, clock)
    archives = Archives.opened(asked, target, shape, plan.pairing.key)
    progress.stage("reading the records", target.about_how_many)
    if asked.with_referring:
        decided = _decide_tree(asked, target, plan, progress)
    else:
        read = read_records(plan, shape, target, progress)
        progress.stage("looking for what refers to them")
        (decided,) = settled_removals([staged_removal(asked, target, plan, read)])
    decided = archives.filled(decided, clock.started)
    return decided.noting(*_hindered(decided.total), last=True)


class Going(Struct, frozen=True):
    """Records of a table that are staged to go."""

    asked: Removal
    plan: ChangePlan
    read: Found
    staged: Staged


def staged_removal(asked: Removal, target: Target, plan: ChangePlan, read: Found) -> Going:
    """Stage records that go, but for those that can't."""
    rows = as_rows(plan, read.existing, target.address)
    flaws = unnamed(plan, read.existing, read.several)
    changes = remove_part(read.existing, plan.pairing, plan.shape, flaws)
    refusals = target.stage(changes, read.existing, plan.pairing)
    changes = naming(in_full(changes, plan.shape, target), changes.removals.before)
    part = Part(lambda: rows, changes, len(rows.row_numbers))
    return Going(asked, plan, read, Staged(target, [part], refusals, plan.pairing, for_people(target)))


def settled_removals(going: Sequence[Going]) -> list[Decided]:
    """What was decided about each table, once all that goes is staged."""
    settled = settle([one.staged for one in going])
    return [decided_removal(one, part) for one, (part,) in zip(going, settled, strict=True)]


def decided_removal(going: Going, part: Part) -> Decided:
    """What was decided about one table."""
    asked, target = going.asked, going.staged.target
    decided = decided_about(asked, target, going.plan, going.read, part, request_of(asked), "removed")
    return replace(decided, shown=going.staged.shown)


def _decide_tree(asked: Removal, target: Target, plan: ChangePlan, progress: Progress) -> Decided:
    """The records, and all that refers to them, table by table: children are staged first."""
    found: list[Found] = []

    def meant(columns: Sequence[TargetColumn]) -> Existing:
        needed = tuple(column.name for column in columns)
        found.append(read_records(replace(plan, beside=needed), plan.shape, target, progress))
        return found[0].existing

    branches = grown(target, plan.shape, plan.pairing.key, meant)
    progress.stage("looking for what refers to them")
    (read,) = found
    more = branches[0].existing.values.num_rows - read.existing.values.num_rows
    several = None if read.several is None else np.r_[read.several, np.zeros(more, bool)]
    root = staged_removal(asked, target, plan, replace(read, existing=branches[0].existing, several=several))
    children = staged_branches(asked, branches, plan.around)
    first, *others = settled_removals([root, *children])
    decided = replace(first, beside=beside_of(children, others))
    return decided.noting(*notes_on(branches, more), last=True)


def staged_branches(asked: Removal, branches: Sequence[Branch], around: Surroundings) -> list[Going]:
    """The records of all tables but the first, staged."""
    of_children = replace(asked, limits=replace(asked.limits, expect_removed=None))
    going = []
    for branch in branches[1:]:
        own = ChangePlan(branch.shape, _pairing(branch.shape, branch.key), (), None, around)
        of_branch = Found(branch.existing, None, branch.target.count(), 0)
        going.append(staged_removal(of_children, branch.target, own, of_branch))
    return going


def beside_of(children: Sequence[Going], decided: Sequence[Decided]) -> tuple[Beside, ...]:
    """What was decided about the children of a tree, as tables beside its first one."""
    found = []
    for going, one in zip(children, decided, strict=True):
        limits = (replace(excess, words=f"{one.shape.name}: {excess.words}") for excess in one.limits)
        found.append(Beside(going.staged.target, replace(one, limits=tuple(limits))))
    return tuple(found)


def notes_on(branches: Sequence[Branch], more: int) -> list[str]:
    """What is worth saying of a tree: of the first table `more` records go than were meant."""
    notes = []
    if more:
        records = f"{more:,} more {plural(more, 'record', 'records')} of {branches[0].shape.name}"
        notes = [f"{records} {plural(more, 'refers', 'refer')} to those that are meant."]
    return [*notes, *_by_itself(branches)]


def _by_itself(branches: Sequence[Branch]) -> list[str]:
    """What the database would do to some of the records by itself, unseen."""
    tables = {branch.shape.name for branch in branches}
    notes = []
    for branch in branches:
        for key in branch.shape.foreign_keys:
            if key.table in tables and key.on_delete in _ON_DELETE:
                what = _ON_DELETE[key.on_delete].format(" + ".join(key.columns))
                notes.append(f"The database by itself would {what} of {branch.shape.name}; here they go, with undo.")
    return notes


def request_of(asked: Removal) -> Request:
    """What is asked, for the receipt and the log."""
    return Request(Action.REMOVE, {}, asked.where, with_referring=asked.with_referring, archive=dict(asked.archive))


def _hindered(tally: Tally) -> list[str]:
    """What the counts mean."""
    if not tally.rejected:
        return []
    return [f"None is removed as long as {tally.rejected:,} of {tally.read:,} can't go."]


def _plan(asked: Removal, shape: TableShape, clock: Clock) -> ChangePlan:
    """The key and the condition. Raises UsageError."""
    pairing = _pairing(shape, record_key(asked.key, shape))
    beside = tuple(own_parents(shape))
    return ChangePlan(shape, pairing, (), condition(asked.where, shape), Surroundings(clock.started), beside)


def _pairing(shape: TableShape, key: Sequence[str]) -> Pairing:
    """The columns that name a record."""
    pairs = tuple(Pair(shape.column(name), name, ColumnRule(sources=(name,))) for name in key)
    return Pairing(pairs, tuple(key), (), ())
