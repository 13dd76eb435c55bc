"""Columns that the target lacks, added to it on request: which they are, what they are called, and their types."""

import re
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.infer.told import declared, in_words, types_of_arrays, widest
from tidymerge.core.naming.mapping import fold, incoming_name, pair_columns, target_name
from tidymerge.errors import AmbiguousColumn, BadOption, NoSuchColumn
from tidymerge.job.model import Job
from tidymerge.model import ColumnType, NewColumn, TableShape
from tidymerge.ports.target import Target
from tidymerge.run.split import Gathered


class Widened(Struct, frozen=True):
    """The job and the shape of its target, with the columns that were added. `made` is a whole new table, in SQL."""

    job: Job
    shape: TableShape
    added: tuple[NewColumn, ...] = ()
    made: str | None = None

    @property
    def notes(self) -> tuple[str, ...]:
        """What was added, for people."""
        if self.made is not None:
            return (f"New table: {self.made}.",)
        return tuple(f"New column: {new.name}, of the type {new.type}." for new in self.added)


def widen(job: Job, gathered: Gathered, shape: TableShape, target: Target) -> Widened:
    """Give the target the columns that the job asks for. Raises UsageError and TargetError."""
    if not job.add:
        return Widened(job, shape)
    found = _missing(job, gathered, shape)
    new = [NewColumn(name, _type(job, name, sources, gathered)) for name, sources in found.items()]
    check_types(job, shape, [one.name for one in new])
    if not new:
        return Widened(job, shape)
    fed = {name: sources[0] for name, sources in found.items() if name not in job.columns}
    only = (*job.only, *fed) if job.only else ()
    return Widened(replace(job, renames={**job.renames, **fed}, only=only), target.add(new), tuple(new))


def _missing(job: Job, gathered: Gathered, shape: TableShape) -> dict[str, tuple[str, ...]]:
    """What feeds each column to add: those that the job's own rules name, and incoming ones that feed nothing."""
    names = gathered.sample.names
    known = {fold(column.name) for column in shape.columns}
    ruled = {name: rule for name, rule in job.columns.items() if fold(name) not in known}
    asked = job.add if isinstance(job.add, tuple) else None
    unknown = [name for name in ruled if asked is not None and fold(name) not in {fold(one) for one in asked}]
    if unknown:
        target_name(shape, unknown[0])  # which raises
    rules = {name: rule for name, rule in job.columns.items() if name not in ruled}
    alike = gathered.sample.rows.called
    pairing = pair_columns(names, shape, renames=job.renames, only=job.only, key=job.key, rules=rules, called=alike)
    used = {source for rule in ruled.values() for source in rule.sources}
    wanted = list(pairing.not_loaded)
    if asked is not None:
        wanted = [incoming_name(names, name) for name in asked if fold(name) not in {fold(one) for one in ruled}]
    found = {name: rule.sources for name, rule in ruled.items()}
    for name in wanted:
        if name in used or (asked is None and job.only):
            continue
        called = _called(name, shape)
        if fold(called) in known:
            if asked is not None:
                raise AmbiguousColumn(
                    f"{name!r} can't be added: {shape.name} has the column {target_name(shape, called)}.",
                    column=name,
                )
            continue
        if not _types(name, gathered):
            continue
        if called in found:
            raise AmbiguousColumn(
                f"{name!r} and another incoming column would both be added as {called}; rename one.", column=name
            )
        found[called] = (name,)
    return found


def _types(name: str, gathered: Gathered) -> list[ColumnType]:
    """The types that the values of an incoming column have, in any piece of the rows; none if it holds nothing."""
    pieces = [gathered.rows()] if gathered.batches is None else gathered.batches()
    return [found for piece in pieces for found in types_of_arrays(piece.column(name).arrays)]


def _called(name: str, shape: TableShape) -> str:
    """The name of a new column: as the incoming one, but in small letters and underscores where all others are.

    It does not begin with what a spreadsheet would take for a formula.
    """
    name, plain = without_formula(name), plain_name(name)
    for pattern, spelled in ((r"[a-z_][a-z0-9_]*", plain.lower()), (r"[A-Z_][A-Z0-9_]*", plain.upper())):
        if plain and all(re.fullmatch(pattern, column.name) for column in shape.columns):
            return spelled
    return name


def without_formula(name: str) -> str:
    """The name, which does not begin with what a spreadsheet would take for a formula."""
    return name.strip().lstrip("=+-@'\t\r ") or name.strip()


def plain_name(name: str) -> str:
    """The name with underscores in place of spaces and signs."""
    return re.sub(r"[^\w]+", "_", without_formula(name)).strip("_") or without_formula(name)


def _type(job: Job, name: str, sources: Sequence[str], gathered: Gathered) -> str:
    """The type of a new column in words: as the job declares it, or as its values tell."""
    if name in job.types:
        declared(job.types[name])
        return job.types[name]
    rule = job.columns.get(name)
    if rule is not None and not rule.plain:
        raise BadOption(f"Say the type of the new column {name}, which has a rule: types = {{ {name} = 'text' }}.")
    source = incoming_name(gathered.sample.names, sources[0])
    return in_words(widest(_types(source, gathered)))


def check_types(job: Job, shape: TableShape, new: Sequence[str] = ()) -> None:
    """Types can be declared of new columns, and of those that have none of their own. Raises UsageError."""
    for name in job.types:
        if name in new:
            continue
        if not shape.types_told:
            raise BadOption(f"{shape.name} has types of its own: leave {name} out of `types` in the job's [target].")
        if name not in {column.name for column in shape.columns}:
            raise NoSuchColumn(
                f"The job declares a type for {name}, a column that {shape.name} does not have.", column=name
            )
