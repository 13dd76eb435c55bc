"""Reading the records of a target that a run asks about: those that meet a condition, and by what they are named."""

from collections.abc import Collection, Sequence

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.account import account
from tidymerge.core.decide.change import ChangePlan, meeting, only
from tidymerge.core.expressions import Expression, Scopes, compile_expression, type_of
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import listing, target_name
from tidymerge.core.warn.limits import Excess, exceeded
from tidymerge.core.words import counted
from tidymerge.errors import BadOption, NoKey
from tidymerge.job.model import Change, Removal
from tidymerge.model import Existing, Mask, Sample, TableShape
from tidymerge.model.existing import put_together
from tidymerge.model.receipt import Request
from tidymerge.model.rules import Most
from tidymerge.ports.progress import Progress
from tidymerge.ports.target import Related, Target
from tidymerge.run.ask import equal_texts
from tidymerge.run.decided import Decided, Part


def record_key(given: Sequence[str], shape: TableShape, set_columns: Collection[str] = ()) -> tuple[str, ...]:
    """The columns that name a record: those given, or the first key of the target that is not to be set."""
    if given:
        key = tuple(dict.fromkeys(target_name(shape, name) for name in given))
        both = [name for name in key if name in set_columns]
        if both:
            raise BadOption(
                f"{both[0]} names the records and is to be set: afterwards an undo could not find them. Name them by "
                "other columns."
            )
        return key
    full = [names for names in shape.unique if not any(shape.column(name).nullable for name in names)]
    own = [names for names in (shape.primary_key, *full) if names]
    for names in own:
        if not set(names) & set(set_columns):
            return names
    if own and set(own[0]) & set(set_columns):
        found = f"{' + '.join(own[0])} is to be set, and {shape.name} has no other key by which an undo finds a record"
    else:
        found = f"{shape.name} declares no key, by which an undo finds a record"
    others = listing([column.name for column in shape.columns if column.name not in set_columns])
    raise NoKey(f"{found}. Say which columns name it; there are {others}.", give=((("key", "COLUMN"),),))


class Found(Struct, frozen=True):
    """The records that meet the condition, which of them share their key with others, and counts of the others."""

    existing: Existing
    several: Mask | None
    rows: int
    unclear: int


def read_records(plan: ChangePlan, shape: TableShape, target: Target, progress: Progress) -> Found:
    """Read all records, and keep those that meet the condition."""
    key = plan.pairing.key_columns
    found, keys, rows, unclear = [], [], 0, 0
    sees_to_keys = set(plan.pairing.key) in [set(names) for names in (shape.primary_key, *shape.unique) if names]
    terms = plan.terms if sees_to_keys else ()  # else all keys are needed
    for batch in target.read_in_batches(plan.columns_read, key, terms):
        met = meeting(plan, batch)
        rows, unclear = rows + batch.values.num_rows, unclear + int(met.unclear.sum())
        found.append(only(batch, met.records))
        keys += [] if sees_to_keys else [batch.values.select(plan.pairing.key)]
        progress.rows(batch.values.num_rows)
    if terms:
        rows = target.count()
    existing = put_together(found)
    several = None if sees_to_keys else _shared(plan, existing, pa.concat_tables(keys), target)
    return Found(existing, several, rows, unclear)


def _shared(plan: ChangePlan, existing: Existing, keys: pa.Table, target: Target) -> Mask:
    """The records whose key others of the table have, too."""
    columns = plan.pairing.key_columns
    own = existing.values.select(plan.pairing.key)
    equal = by_number(equal_texts(target, columns, texts_to_tell([own, keys], columns)))
    shared: Mask = match(code_keys(own, keys, columns, equal)).times > 1
    return shared


def condition(where: str | None, shape: TableShape) -> Expression | None:
    """The condition, checked. Raises BadExpression."""
    return compile_expression(where, "where", own_columns(shape), condition=True) if where else None


def own_columns(shape: TableShape) -> Scopes:
    """What expressions may use: the record's own columns, as they are stored."""
    return {"existing": {column.name: type_of(column.type) for column in shape.columns if not column.foreign}}


def decided_about(
    asked: Change | Removal, target: Target, plan: ChangePlan, read: Found, part: Part, request: Request, what: str
) -> Decided:
    """What was decided about the records, proved; `what` is the count that a limit is on if every record is meant."""
    tally = account.tally([part.changes])
    account.prove_tally(tally, part.changes, part.read)
    limits = asked.limits
    if not asked.named and getattr(limits, what) is None:  # who asks for every record means all of them
        limits = replace(limits, **{what: Most(100, "target")})
    return Decided(
        target=target.address,
        sample=Sample(part.rows()),
        shape=plan.shape,
        pairing=plan.pairing,
        rows_before=read.rows,
        parts=(part,),
        tally=tally,
        fingerprint=account.fingerprint([part.changes]),
        warnings=(),
        notes=(*plan.shape.notes, *_notes(plan, read)),
        view=(),
        limits=(*_unconditional(asked, read.rows), *exceeded(limits, tally, read.rows, len(part.changes.updates))),
        unreadable=frozenset(read.existing.unreadable),
        request=request,
        alone=not isinstance(target, Related),
    )


def _unconditional(asked: Change | Removal, rows: int) -> list[Excess]:
    """What a run without a condition goes over."""
    if asked.named or asked.every_record:
        return []
    words = f"There is no condition, so all {rows:,} records of the table are meant."
    return [Excess(words, "every_record", count=True)]


def _notes(plan: ChangePlan, read: Found) -> list[str]:
    """What is worth saying of the records that were not picked, and of none that were."""
    notes = []
    if read.unclear:
        notes.append(
            f"{counted(read.unclear, 'record')} left alone: the condition can't be worked out there, as it divides by "
            "zero or meets a value that is not of its column's type."
        )
    if not read.existing.values.num_rows:
        notes.append("No record meets the condition." if plan.where else "There are no records.")
    return notes
