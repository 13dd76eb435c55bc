"""A target that is not there yet: its columns, types and key, told by the job and the data."""

from collections.abc import Mapping, Sequence

from msgspec.structs import replace

from tidymerge.core.infer.told import declared, in_words, types_of_arrays, widest
from tidymerge.core.naming.mapping import fold, incoming_name, listing
from tidymerge.errors import AmbiguousColumn, BadOption, NoSuchColumn
from tidymerge.job.model import Job
from tidymerge.model import NewColumn
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.target import Related, Target
from tidymerge.run.split import Gathered
from tidymerge.run.widen import Widened, plain_name, without_formula

_REQUIRED = " not null"
_SQL = {"text": "VARCHAR", "timestamp": "TIMESTAMP", "float": "DOUBLE PRECISION"}


def created(job: Job, gathered: Gathered, target: Target) -> Widened:
    """Make the target that the job asks for. Raises UsageError and TargetError."""
    beside_others = isinstance(target, Related)
    rules = _rules(job, gathered, in_database=beside_others)
    like = _like(job, target)
    columns = like or [_column(job, name, rule, gathered) for name, rule in rules.items()]
    names = [column.name for column in columns]
    for name in [*job.types, *(rules if like else ())]:
        if fold(name) not in {fold(one) for one in names}:
            raise NoSuchColumn(f"The new table has no column {name!r}; it has {listing(names)}.", column=name)
    key = tuple(dict.fromkeys(_named(name, names) for name in job.key))
    shape = target.create(columns, key)
    fed = {_named(name, names): rule for name, rule in rules.items()}
    append = job.rules.append or not key
    done = replace(job, columns=fed, renames={}, only=(), key=key, rules=replace(job.rules, append=append))
    said = (
        table_in_sql(shape.name, columns, key) if beside_others else ", ".join(f"{c.name} ({c.type})" for c in columns)
    )
    return Widened(done, shape, tuple(columns), made=said)


def _named(name: str, names: Sequence[str]) -> str:
    """The column of the new table that is meant. Raises NoSuchColumn."""
    fitting = [one for one in names if one == name] or [one for one in names if fold(one) == fold(name)]
    if not fitting:
        raise NoSuchColumn(f"The new table has no column {name!r}; it has {listing(names)}.", column=name)
    return fitting[0]


def _rules(job: Job, gathered: Gathered, *, in_database: bool) -> dict[str, ColumnRule]:
    """What feeds each new column: as the job says, or all incoming columns.

    In a database, names have small letters and underscores, as they need no quotes then.
    """
    if job.columns:
        return dict(job.columns)
    incoming = gathered.sample.names
    named = {incoming_name(incoming, source): target for target, source in job.renames.items()}
    found: dict[str, ColumnRule] = {}
    for name in incoming:
        called = named.get(name) or (plain_name(name).lower() if in_database else without_formula(name))
        if job.only and fold(called) not in {fold(one) for one in (*job.only, *job.key)}:
            continue
        if fold(called) in {fold(other) for other in found}:
            raise AmbiguousColumn(f"{name!r} and another incoming column would both be called {called}.", column=name)
        found[called] = ColumnRule(sources=(name,))
    if not found:
        raise BadOption("There are no columns to make a table of.")
    return found


def _column(job: Job, name: str, rule: ColumnRule, gathered: Gathered) -> NewColumn:
    """One column: its type is as the job declares it, or as the data tell. Raises BadOption."""
    said = next((kind for column, kind in job.types.items() if fold(column) == fold(name)), None)
    if said is not None:
        words = said.strip()
        required = words.lower().endswith(_REQUIRED)
        words = words[: -len(_REQUIRED)].strip() if required else words
        declared(words)
        return NewColumn(name, words, required)
    if not rule.unshaped:
        raise BadOption(f"Say the type of the new column {name}, which has a rule: types = {{ {name} = 'text' }}.")
    source = incoming_name(gathered.sample.names, rule.sources[0])
    pieces = [gathered.rows()] if gathered.batches is None else gathered.batches()
    told = [kind for piece in pieces for kind in types_of_arrays(piece.column(source).arrays)]
    return NewColumn(name, in_words(widest(told)) if told else "text")


def _like(job: Job, target: Target) -> list[NewColumn]:
    """The columns of the table whose structure the new one is to have; none if it is told by the rows."""
    if job.like is None:
        return []
    if not isinstance(target, Related):
        raise BadOption("A file has no other table beside it whose structure it could have.")
    other = target.beside(job.like)
    columns = [column for column in other.describe().columns if column.loadable]
    known = other.definitions([column.name for column in columns])
    return [replace(one, required=not column.nullable) for one, column in zip(known, columns, strict=True)]


def table_in_sql(name: str, columns: Sequence[NewColumn], key: Sequence[str]) -> str:
    """The new table in standard SQL, for people; columns that are like others, as the database declares those."""
    parts = []
    for one in columns:
        kind = one.definition.plain if one.definition else _type(one.type)
        parts.append(f"{_quoted(one.name)} {kind}{' NOT NULL' if one.required or one.name in key else ''}")
    if key:
        parts.append(f"PRIMARY KEY ({', '.join(map(_quoted, key))})")
    return f"CREATE TABLE {_quoted(name)} ({', '.join(parts)})"


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _type(words: str, names: Mapping[str, str] = _SQL) -> str:
    kind, _, size = words.partition("(")
    return names.get(kind, kind.upper()) + (f"({size}" if size else "")
