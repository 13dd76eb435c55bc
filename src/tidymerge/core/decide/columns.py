"""Every loaded column from the incoming rows, by its rule: shaped, computed, looked up, cast."""

from collections.abc import Mapping, Sequence
from datetime import datetime

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.decide.coming import Coming, Stand
from tidymerge.core.decide.lookup import LookUp, Sought, look_up, seek
from tidymerge.core.expressions import Expression, Frame
from tidymerge.core.tidy.cells import as_array, keep, shown
from tidymerge.core.tidy.convert import as_text, cast_cells, tidy_arrays
from tidymerge.core.tidy.shaping import shape_column
from tidymerge.core.tidy.tidying import tidy
from tidymerge.errors import BadOption
from tidymerge.model import EqualTexts, Flaw, Incoming, Indices, Kind, Mask, Pair, Pairing, Reason
from tidymerge.model.flaws import of_rows
from tidymerge.model.rules import ColumnRule, Find


class Converted(Struct, frozen=True):
    """The incoming rows in the target's types, one column a loaded column; null is blank or flawed.

    `cleared` marks, by column, the rows whose cell says that the value is to be cleared; `not_found` counts, by
    column, the look-ups that found nothing where the job allows that; `untidied` has the texts as they arrived of
    columns in which tidying changed any.
    """

    values: pa.Table
    flaws: tuple[Flaw, ...]
    rounded: dict[str, int]
    cleared: Mapping[str, Mask]
    not_found: Mapping[str, int] = field(default_factory=dict)
    untidied: Mapping[str, pa.Array] = field(default_factory=dict)

    def only(self, rows: Indices) -> "Converted":
        """Some of the rows; what is counted, is counted of all."""
        at = pa.array(rows)
        return replace(
            self,
            values=self.values.take(at),
            flaws=of_rows(self.flaws, rows, self.values.num_rows),
            cleared={name: mask[rows] for name, mask in self.cleared.items()},
            untidied={name: texts.take(at) for name, texts in self.untidied.items()},
        )


class Surroundings(Struct, frozen=True):
    """What a conversion needs in addition to the rows: compiled computed values, look-up tables, the run's stamps.

    `asked` are the incoming columns that conditions and instructions look at. `stands` are numbers for ids that the
    database gives, by the look-ups that see them.
    """

    now: datetime
    computes: Mapping[str, Expression] = field(default_factory=dict)
    look_ups: Mapping[Find, LookUp] = field(default_factory=dict)
    stamps: Mapping[str, str] = field(default_factory=dict)
    clear_mark: str | None = None
    own_table: str = ""
    asked: frozenset[str] = frozenset()
    stands: Mapping[Find, Stand] = field(default_factory=dict)

    @property
    def movements(self) -> frozenset[str]:
        """The columns whose values are worked out from what the record holds."""
        return frozenset(name for name, compute in self.computes.items() if compute.looks_at("existing"))

    def telling(self, equal: Mapping[Find, EqualTexts]) -> "Surroundings":
        """The same with what the database said of the texts that are looked up."""
        tables = {find: replace(table, equal=equal.get(find)) for find, table in self.look_ups.items()}
        return replace(self, look_ups=tables) if equal else self


class Understood(Struct):
    """Incoming rows, tidied, shaped and cast. Of columns for which the database must be asked, the cells `sought`."""

    columns: dict[str, pa.Array] = field(default_factory=dict)
    flaws: list[Flaw] = field(default_factory=list)
    rounded: dict[str, int] = field(default_factory=dict)
    cleared: dict[str, Mask] = field(default_factory=dict)
    not_found: dict[str, int] = field(default_factory=dict)
    sought: dict[str, tuple[Sought, pa.Array]] = field(default_factory=dict)
    untidied: dict[str, pa.Array] = field(default_factory=dict)


def understand(incoming: Incoming, pairing: Pairing, around: Surroundings, skipped: Mask) -> Understood:
    """Tidy, shape and cast every column that the job loads; look-ups come last, for they may see this load's rows.

    Look-ups among texts of which only the database knows which are equal are left to `convert`.
    """
    found = Understood()
    used = used_columns(pairing, around)
    found.flaws += [flaw for flaw in incoming.flaws if flaw.column is None or flaw.column in used]
    for pair in sorted(pairing.pairs, key=lambda pair: pair.rule.find is not None):
        name = pair.target.name
        arrays, flaws, found.cleared[name] = _cells(incoming, pair, around)
        found.flaws += flaws
        if pair.rule.find is None:
            _cast(incoming, pair, arrays, found)
            continue
        table = _with_this_load(around.look_ups[pair.rule.find], found.columns, around)
        sought = seek(tuple(arrays), table, len(incoming.row_numbers))
        texts = sought.texts(table.where)
        if texts is None:
            _look_up(incoming, pair, sought, table, skipped, found)
        else:
            found.sought[name] = sought, texts
    untidied = ((pair.target.name, _untidied(incoming, pair)) for pair in pairing.pairs)
    found.untidied = {name: texts for name, texts in untidied if texts is not None}
    return found


def texts_sought(found: Understood, pairing: Pairing) -> dict[Find, pa.Array]:
    """By look-up the distinct texts of which only the database knows which are equal."""
    texts: dict[Find, list[pa.Array]] = {}
    for pair in pairing.pairs:
        if pair.rule.find is not None and pair.target.name in found.sought:
            texts.setdefault(pair.rule.find, []).append(found.sought[pair.target.name][1])
    return {find: pa.concat_arrays(some).unique() for find, some in texts.items()}


def convert(incoming: Incoming, found: Understood, pairing: Pairing, around: Surroundings, skipped: Mask) -> Converted:
    """The rows in the target's types. What is wrong with rows that the job skips is no flaw."""
    found = replace(
        found,
        columns=dict(found.columns),
        flaws=list(found.flaws),
        rounded=dict(found.rounded),
        not_found=dict(found.not_found),
    )
    for pair in pairing.pairs:
        if pair.rule.find is not None and pair.target.name in found.sought:
            sought, _ = found.sought[pair.target.name]
            _look_up(incoming, pair, sought, around.look_ups[pair.rule.find], skipped, found)
    flaws = spared(found.flaws, skipped)
    ordered = {column.name: found.columns[column.name] for column in pairing.columns}
    clearing = {name: mask for name, mask in found.cleared.items() if mask.any()}
    return Converted(pa.table(ordered), tuple(flaws), found.rounded, clearing, found.not_found, found.untidied)


def _look_up(incoming: Incoming, pair: Pair, sought: Sought, table: LookUp, skipped: Mask, found: Understood) -> None:
    """Take what the table has for the cells of one column."""
    taken = look_up(sought, table, pair)
    found.flaws += taken.flaws
    lost = int((taken.missing & ~skipped).sum())
    if lost and table.find.missing_is_null:
        found.not_found[pair.target.name] = lost
    _cast(incoming, pair, [taken.values] if taken.values.null_count < len(taken.values) else [], found)


def _cast(incoming: Incoming, pair: Pair, arrays: list[pa.Array], found: Understood) -> None:
    """Cast the cells of one column to its type, and note what is wrong with them."""
    name = pair.target.name
    cast = cast_cells(arrays, pair.target.type, len(incoming.row_numbers))
    flawed = _flawed(incoming, pair)
    found.columns[name] = keep(cast.values, ~flawed) if flawed.any() else cast.values
    if cast.bad:
        texts = _shown(incoming, pair.rule, arrays)
        for bad in cast.bad:
            rows = bad.rows[~flawed[bad.rows]]
            if len(rows):
                values = texts.take(pa.array(rows))
                found.flaws.append(Flaw(bad.reason, rows, bad.expected, pair.incoming, values, pair.rule.sources))
    if cast.rounded:
        found.rounded[name] = cast.rounded


def _untidied(incoming: Incoming, pair: Pair) -> pa.Array | None:
    """The texts of a text column as they arrived, if tidying changes any of them."""
    if pair.target.type.kind is not Kind.TEXT or not pair.rule.unshaped:
        return None
    texts = [array for array in incoming.column(pair.rule.sources[0]).arrays if pa.types.is_string(array.type)]
    return texts[0] if texts and tidy(texts[0]) is not texts[0] else None


def _flawed(incoming: Incoming, pair: Pair) -> Mask:
    """Where a cell that feeds the column was wrong when it arrived, such as a formula error."""
    mask = np.zeros(len(incoming.row_numbers), bool)
    for flaw in incoming.flaws:
        if flaw.column in pair.rule.sources:
            mask[flaw.rows] = True
    return mask


def used_columns(pairing: Pairing, around: Surroundings) -> set[str]:
    """The incoming columns that feed a target column or are asked by the job."""
    used = pairing.sources | around.asked
    computes = around.computes.values()
    return used | {name for one in computes for scope, name in one.uses if scope == "incoming"}


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
    if rule.stamp == "file":
        return [_files(incoming)], [], nothing
    if rule.stamp is not None:
        return [pa.repeat(pa.scalar(around.stamps[rule.stamp]), rows)], [], nothing
    if pair.target.name in around.movements:
        return [], [], nothing  # the record is needed, which is not known yet
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
        return tidy_arrays(incoming.column(rule.sources[0]).arrays), [], nothing
    shaped = shape_column(incoming, rule, pair.target.type.kind, mark)
    return [array for array in shaped.arrays if array.null_count < len(array)], list(shaped.flaws), shaped.cleared


def _files(incoming: Incoming) -> pa.Array:
    """For each row the name of the file that it came from."""
    names = pa.array([file_name(address) for address in incoming.origins or (incoming.address,)], pa.string())
    origin = np.zeros(len(incoming.row_numbers), np.int64) if incoming.origin is None else incoming.origin
    return names.take(pa.array(origin))


def file_name(address: str) -> str:
    """The file of an address without its folder, and without the sheet or table; a server's address as it is."""
    return address if "://" in address else address.partition("#")[0].rpartition("/")[2]


def _shown(incoming: Incoming, rule: ColumnRule, arrays: Sequence[pa.Array]) -> pa.Array:
    """The cells as the person knows them: as they arrived, or as they were computed."""
    if len(rule.sources) == 1:
        return as_text(incoming.column(rule.sources[0]))
    texts = [shown(array) for array in arrays]
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
        stand = around.stands.get(find)
        where = columns[find.where]
        if stand is None:
            return table
        numbers = pa.array(stand.first + np.arange(len(where)), table.take.type.arrow)
        none = where.slice(0, 0)
        return replace(table, coming=Coming(where, numbers, none, np.zeros(0, np.int64), repeat=True))
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
