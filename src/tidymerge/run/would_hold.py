"""Which records would break a rule that a table does not have yet. The flow of `look` for rules."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TypedDict

import numpy as np
import pyarrow as pa
import tomlkit
from msgspec import Struct
from msgspec.structs import replace

from tidymerge.address import without_password
from tidymerge.core.decide.change import ChangePlan, meeting, only
from tidymerge.core.decide.columns import Surroundings
from tidymerge.core.infer.spellings import ValueCount, values_of
from tidymerge.core.infer.wishes import Wish, WishKind, among, set_right, wish_of
from tidymerge.core.match.match import by_number, code_keys, match, texts_to_tell
from tidymerge.core.naming.mapping import target_name
from tidymerge.core.tidy.cells import as_array, shown, valid
from tidymerge.errors import BadOption
from tidymerge.model import Mask, Pair, Pairing, TableShape, TargetColumn
from tidymerge.model.rules import ColumnRule
from tidymerge.ports.target import Target
from tidymerge.run.ask import equal_texts, sibling
from tidymerge.run.records import condition
from tidymerge.targets import open_target

_EXAMPLES = 10
_VALUES = 20
FORMAT = "tidymerge-rules/1"  # of what is printed for programs


class Verdict(Struct, frozen=True):
    """How many of a table's records break a rule, the first of them, and the commonest values that do.

    `where` is the condition that picks them; `job` is the text of a job that would set them right, where one surely
    does. Of `unclear` records it can't be worked out.
    """

    target: str
    wish: str
    rows: int
    broken: int
    unclear: int
    columns: tuple[str, ...]
    examples: tuple[tuple[str | None, ...], ...]
    values: tuple[ValueCount, ...]
    where: str | None = None
    job: str | None = None


class Verdicts(TypedDict):
    """What is printed for programs."""

    format: str
    rules: tuple[Verdict, ...]


def would_hold(address: str, text: str) -> Verdict:
    """Look which records would break a rule. Raises UsageError and TargetError."""
    with open_target(address, write=False) as target:
        shape = target.describe()
        wish = wish_of(text, shape)
        key = next((names for names in (shape.primary_key, *shape.unique) if names), ())
        found = (
            _conditional(wish, shape, key, target)
            if wish.kind is WishKind.CONDITION
            else _listed(wish, shape, key, target)
        )
        job = _job(found, wish, shape, key, address)
        return replace(found, target=target.address, job=job)


def _plan(shape: TableShape, names: Sequence[str], where: str | None) -> ChangePlan:
    columns = [column for column in shape.columns if column.name in names]
    pairs = tuple(Pair(column, column.name, ColumnRule(sources=(column.name,))) for column in columns)
    return ChangePlan(shape, Pairing(pairs, (), (), ()), (), condition(where, shape), Surroundings(datetime.now(UTC)))


def _conditional(wish: Wish, shape: TableShape, key: Sequence[str], target: Target) -> Verdict:
    """The records for which a condition is not true; where it is unknown, it is not broken (ISO SQL, checks)."""
    where = f"not ({wish.text})"
    uses = [name for _, name in _plan(shape, key, where).where.uses]  # type: ignore[union-attr]
    plan = _plan(shape, [*key, *uses], where)
    rows = unclear = 0
    parts = []
    for batch in target.read_in_batches(plan.columns_read, ()):
        met = meeting(plan, batch)
        rows, unclear = rows + batch.values.num_rows, unclear + int(met.unclear.sum())
        parts.append(only(batch, met.records).values)
    broken = pa.concat_tables(parts)
    return _verdict(wish, broken, [*key, *uses], uses, rows, unclear, where if broken.num_rows else None)


def _listed(wish: Wish, shape: TableShape, key: Sequence[str], target: Target) -> Verdict:
    """The records whose values are there several times, or are found nowhere."""
    columns = [shape.column(name) for name in wish.columns]
    wanted = [column for column in shape.columns if column.name in {*key, *wish.columns}]
    values = target.read(wanted).combine_chunks()
    own = values.select(list(wish.columns))
    bad = _repeated(columns, own, target) if wish.kind is WishKind.UNIQUE else _unknown(wish, columns[0], own, target)
    broken = values.filter(pa.array(bad))
    different = broken.select(list(wish.columns)).group_by(list(wish.columns)).aggregate([])
    return _verdict(wish, broken, [*key, *wish.columns], wish.columns, len(values), 0, among(columns, different))


def _repeated(columns: Sequence[TargetColumn], own: pa.Table, target: Target) -> Mask:
    """The rows whose values others have, too, as the target compares them; a null is like no other."""
    equal = by_number(equal_texts(target, columns, texts_to_tell([own], columns)))
    coded = code_keys(own, own.slice(0, 0), columns, equal)
    codes = coded.incoming
    counts = np.bincount(codes[codes >= 0], minlength=coded.size)
    found: Mask = (codes >= 0) & (np.append(counts, 0)[codes] > 1)
    return found


def _unknown(wish: Wish, column: TargetColumn, own: pa.Table, target: Target) -> Mask:
    """The rows whose value is found nowhere in the other table."""
    other, records = sibling(target, wish.table)
    referred = other.column(target_name(other, wish.referred))
    if referred.type.arrow != column.type.arrow:
        raise BadOption(
            f"{column.name} is {column.type.declared}, and {other.name}.{referred.name} {referred.type.declared}: "
            "values of different types never refer to each other."
        )
    there = pa.table({column.name: as_array(records[referred.name])})
    equal = by_number(equal_texts(target, [column], texts_to_tell([own, there], [column])))
    found: Mask = valid(as_array(own[column.name])) & (match(code_keys(own, there, [column], equal)).times == 0)
    return found


def _verdict(
    wish: Wish, broken: pa.Table, listed: Sequence[str], about: Sequence[str], rows: int, unclear: int,
    where: str | None,
) -> Verdict:  # fmt: skip
    names = tuple(dict.fromkeys(listed))
    first = [shown(as_array(broken[name].slice(0, _EXAMPLES))).to_pylist() for name in names]
    told: tuple[ValueCount, ...] = ()
    if len(set(about)) == 1 and broken.num_rows:
        texts = shown(as_array(broken[about[0]]))
        told = values_of(about[0], texts, words=False).values[:_VALUES]
    return Verdict("", wish.text, rows, broken.num_rows, unclear, names, tuple(zip(*first, strict=True)), told, where)


def _job(found: Verdict, wish: Wish, shape: TableShape, key: Sequence[str], address: str) -> str | None:
    """A job that sets the records right, for `change`."""
    uses = [name for name in found.columns if name not in key] or list(found.columns)
    setting = set_right(wish, shape, found.where if found.broken else None, uses)
    if setting is None:
        return None
    column, expression = setting
    document = tomlkit.document()
    document.add(tomlkit.comment(f"{found.broken:,} of {found.rows:,} records break: {wish.text}"))
    document.add("change", tomlkit.item({"where": found.where}))
    document.add("target", tomlkit.item({"at": without_password(address)}))
    document.add("columns", tomlkit.item({column: {"compute": expression}}))
    return tomlkit.dumps(document)
