"""Every loaded column from the incoming rows, by its rule: shaped, computed, looked up, cast."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.cells import as_array, shown
from tidymerge.core.convert import as_text, cast_cells, tidy_parts
from tidymerge.core.expressions import Expression, Frame
from tidymerge.core.lookup import LookUp, look_up
from tidymerge.core.shaping import shape_column
from tidymerge.errors import BadOption
from tidymerge.model import Flaw, Incoming, Mask, Pair, Pairing, Reason
from tidymerge.rules import ColumnRule, Find


@dataclass(frozen=True, slots=True)
class Converted:
    """The incoming rows in the target's types, one column a loaded column; null is blank or flawed.

    `cleared` marks, by column, the rows whose cell says that the value is to be cleared.
    """

    values: pa.Table
    flaws: tuple[Flaw, ...]
    rounded: dict[str, int]
    cleared: Mapping[str, Mask]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What a conversion needs besides the rows: compiled computed values, look-up tables, the run's stamps."""

    now: datetime
    computes: Mapping[str, Expression] = field(default_factory=dict)
    look_ups: Mapping[Find, LookUp] = field(default_factory=dict)
    stamps: Mapping[str, str] = field(default_factory=dict)
    clear_mark: str | None = None
    own_table: str = ""


def convert(incoming: Incoming, pairing: Pairing, around: Surroundings, skipped: Mask) -> Converted:
    """Tidy, shape and cast every column that the job loads; look-ups come last, for they may see this load's rows.

    What is wrong with rows that the job skips is no flaw.
    """
    columns: dict[str, pa.Array] = {}
    flaws: list[Flaw] = list(incoming.flaws)
    rounded: dict[str, int] = {}
    cleared: dict[str, Mask] = {}
    for pair in sorted(pairing.pairs, key=lambda pair: pair.rule.find is not None):
        name = pair.target.name
        parts, found, cleared[name] = _cells(incoming, pair, around)
        flaws += found
        if pair.rule.find is not None:
            table = _with_this_load(around.look_ups[pair.rule.find], columns, around)
            values, found = look_up(tuple(parts), table, pair.incoming, len(incoming.row_numbers))
            flaws += found
            parts = [values] if values.null_count < len(values) else []
        cast = cast_cells(parts, pair.target.type, len(incoming.row_numbers))
        columns[name] = cast.values
        if cast.bad:
            shown = _shown(incoming, pair.rule, parts)
            flaws += [
                Flaw(bad.reason, bad.rows, bad.expected, pair.incoming, shown.take(pa.array(bad.rows)))
                for bad in cast.bad
            ]
        if cast.rounded:
            rounded[name] = cast.rounded
    flaws = spared(flaws, skipped)
    ordered = {column.name: columns[column.name] for column in pairing.columns}
    return Converted(
        pa.table(ordered), tuple(flaws), rounded, {name: mask for name, mask in cleared.items() if mask.any()}
    )


def spared(flaws: Sequence[Flaw], skipped: Mask) -> list[Flaw]:
    """The flaws of rows that are not skipped."""
    kept = []
    for flaw in flaws:
        stays = ~skipped[flaw.rows]
        if stays.any():
            values = None if flaw.values is None else flaw.values.filter(pa.array(stays))
            kept.append(replace(flaw, rows=flaw.rows[stays], values=values))
    return kept


def _cells(incoming: Incoming, pair: Pair, around: Surroundings) -> tuple[list[pa.Array], list[Flaw], Mask]:
    """The cells for one target column before they are cast, what is wrong with them, and where they say "clear"."""
    rows = len(incoming.row_numbers)
    nothing = np.zeros(rows, bool)
    rule = pair.rule
    if rule.stamp is not None:
        return [pa.repeat(pa.scalar(around.stamps[rule.stamp]), rows)], [], nothing
    if rule.compute is not None:
        frame = raw_frame(incoming, around.computes[pair.target.name], around.now)
        values = around.computes[pair.target.name].evaluate(frame)
        flaws = [
            Flaw(
                Reason.NOT_COMPUTED,
                np.flatnonzero(failure.rows),
                f"a value that does not fail: it {failure.words}",
                pair.incoming,
            )
            for failure in frame.failures
        ]
        values = pc.if_else(pa.array(~frame.failed()), values, pa.scalar(None, values.type))
        return ([values] if values.null_count < rows else []), flaws, nothing
    mark = rule.clear_mark if rule.clear_mark is not None else around.clear_mark
    if rule.plain and mark is None:
        return tidy_parts(incoming.column(rule.sources[0]).parts), [], nothing
    shaped = shape_column(incoming, rule, pair.target.type.kind, mark)
    return [part for part in shaped.parts if part.null_count < len(part)], list(shaped.flaws), shaped.cleared


def _shown(incoming: Incoming, rule: ColumnRule, parts: Sequence[pa.Array]) -> pa.Array:
    """The cells as the person knows them: as they arrived, or as they were computed."""
    if len(rule.sources) == 1:
        return as_text(incoming.column(rule.sources[0]))
    texts = [shown(part) for part in parts]
    return texts[0] if len(texts) == 1 else pc.coalesce(*texts)


def raw_frame(incoming: Incoming, expression: Expression, now: datetime) -> Frame:
    """The incoming cells that an expression uses, as text."""
    cells = {(scope, name): as_text(incoming.column(name)) for scope, name in expression.uses}
    return Frame(cells, len(incoming.row_numbers), now)


def _with_this_load(table: LookUp, columns: Mapping[str, pa.Array], around: Surroundings) -> LookUp:
    """A look-up into the target itself also sees the rows of this load."""
    find = table.find
    if find.table != around.own_table or find.where not in columns:
        return table
    if find.take not in columns:
        return table
    own = pa.table({find.where: columns[find.where], find.take: columns[find.take]})
    own = own.filter(pc.and_(pc.is_valid(own[find.where]), pc.is_valid(own[find.take])))
    return replace(table, values=pa.concat_tables([table.values.select([find.where, find.take]), own]))


def constant(text: str | None, pair: Pair, what: str) -> pa.Scalar:
    """A value written in the job, in the column's type. Raises BadOption."""
    if text is None:
        return pa.scalar(None, pair.target.type.arrow)
    cast = cast_cells([pa.array([text])], pair.target.type, 1)
    if cast.bad:
        raise BadOption(f"{what} of {pair.target.name} is {text!r}, but the column takes {cast.bad[0].expected}.")
    return as_array(cast.values)[0]
