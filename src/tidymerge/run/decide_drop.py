"""Deciding to take columns away: what needs them, and the values that go along."""

import pyarrow as pa
from msgspec.structs import replace

from tidymerge.core.decide.change import ChangePlan, as_rows, change_part
from tidymerge.core.decide.columns import Converted, Surroundings
from tidymerge.core.expressions import compile_expression
from tidymerge.core.naming.mapping import target_name, why_not
from tidymerge.errors import BadOption, UnloadableColumn
from tidymerge.job.model import Change
from tidymerge.model import Pair, Pairing, TableShape
from tidymerge.model.receipt import Action, Request
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Target
from tidymerge.run.decided import Decided, Part
from tidymerge.run.known_jobs import jobs_naming
from tidymerge.run.records import decided_about, own_columns, read_records, record_key
from tidymerge.run.report import Clock


def decide_drop(asked: Change, target: Target, clock: Clock, progress: Progress) -> Decided:
    """Read the values of the columns: in the log they are what the undo brings back. Nothing is set."""
    shape = target.describe()
    names = tuple(dict.fromkeys(target_name(shape, name) for name in asked.drop))
    if len(names) == len(shape.columns):
        raise BadOption(f"{shape.name} has no other columns: a table without any is no table.")
    for name in names:
        column = shape.column(name)
        if not column.loadable:
            raise UnloadableColumn(
                f"{name} {why_not(column)}, so an undo could not bring back what it holds. Take it away by hand, if "
                "that is meant.",
                column=name,
            )
    needed = [*target.depending(names), *jobs_naming(target.address, names)]
    plan = _plan(names, record_key(asked.key, shape, set(names)), shape, clock)
    progress.stage("reading the records", target.about_how_many)
    read = read_records(plan, shape, target, progress)
    rows = as_rows(plan, read.existing, target.address)
    none = Converted(pa.table({}), (), {}, {})
    changes = change_part(plan, read.existing, none, read.several).changes
    target.stage(changes, read.existing, plan.pairing)  # which also sees to it that nobody changes them now
    part = Part(lambda: rows, changes, read.existing.values.num_rows)
    request = Request(Action.CHANGE, drops=names)
    every = replace(asked, every_record=True)
    decided = decided_about(every, target, plan, read, part, request, "updated")
    return replace(
        decided,
        dropped=tuple(target.definitions(names)),
        warnings=tuple(f"{one[0].upper()}{one[1:]} needs {' and '.join(names)}." for one in needed),
        needed=tuple(needed),
    )


def _plan(names: tuple[str, ...], key: tuple[str, ...], shape: TableShape, clock: Clock) -> ChangePlan:
    """A plan that clears the columns, which may be empty for that, in all records."""
    scopes = own_columns(shape)
    computes = {name: compile_expression("null", "drop", scopes) for name in names}
    pairs = [
        Pair(replace(column, nullable=True), "(goes)", ColumnRule(compute="null"))
        if column.name in names
        else Pair(column, column.name, ColumnRule(sources=(column.name,)))
        for column in shape.columns
        if column.name in {*names, *key}
    ]
    around = Surroundings(clock.started, computes)
    return ChangePlan(shape, Pairing(tuple(pairs), key, (), ()), names, None, around)
