"""Rows that were taken out and come back: what the person changed, and what others changed in the table since.

A cell that is as it was taken out says nothing. One that was edited is loaded, unless somebody else changed the same
field to another value since. Source: docs/extract.md.
"""

from collections.abc import Collection, Mapping, Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field
from msgspec.structs import replace

from tidymerge.core.decide.columns import spared
from tidymerge.core.decide.question import Question
from tidymerge.core.decide.rows import key_cells, key_name, key_text
from tidymerge.core.match.match import code_keys, match
from tidymerge.core.tidy.cells import any_of, as_array, differs, keep, mask_of, shown, valid
from tidymerge.core.tidy.convert import as_text, cast_cells
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Flaw, Indices, Kind, Mask, Pair, Pairing, Reason, TargetColumn
from tidymerge.model.base import ROW_MARK, Base, Clashes, Side
from tidymerge.model.rules import Blanks

_FLOAT_DIGITS = 15  # that a spreadsheet program keeps
KEPT = "the table's values stay, which others changed since"
GONE = "its record is gone since, and nothing of the row was changed"


class Since(Struct, frozen=True):
    """The base of rows that come back, in the target's types: plain data, which can be pickled.

    Where values are not of their column's type, `texts` has them as they were written. One side may be preferred where
    both changed a field.
    """

    run: str
    key: tuple[str, ...]
    values: pa.Table
    texts: Mapping[str, pa.Array]
    prefer: Side | None = None


class Back(Struct):
    """The question of rows that come back, in which only edited cells speak; and what stands in the way of rows.

    `missing` counts the rows of the base that are on no incoming row. Rows are left out, by why. Of the records those
    `may_go` that were taken out and are as they were then, if records on no row are to go at all.
    """

    question: Question
    flaws: list[Flaw] = field(default_factory=list)
    left_out: dict[str, Mask] = field(default_factory=dict)
    clashes: Clashes | None = None
    missing: int = 0
    may_go: Mask | None = None


def since_of(base: Base, pairing: Pairing, prefer: Side | None) -> Since:
    """The base in the types that the target's columns have now."""
    values, texts = {}, {}
    for column in pairing.columns:
        if column.name not in base.values.column_names:
            continue
        held = as_array(base.values[column.name])
        if held.type == column.type.arrow:
            values[column.name] = held
        else:
            texts[column.name] = held if pa.types.is_string(held.type) else shown(held)
            values[column.name] = cast_cells(
                [held] if held.null_count < len(held) else [], column.type, len(held)
            ).values
    return Since(base.run, base.key, pa.table(values), texts, prefer)


def brought_back(question: Question, since: Since) -> Back:
    """What the rows say against their base, and how that stands to the records as they are now."""
    asked = _Asked(question, since)
    values, cleared, flaws = question.converted.values, dict(question.converted.cleared), question.converted.flaws
    back = Back(question, missing=int(len(since.values) - len(np.unique(asked.of[asked.has]))))
    touched = np.zeros(question.rows, bool)
    silent: dict[str, Mask] = {}
    for pair in question.pairing.pairs:
        name = pair.target.name
        if name in question.pairing.key or name not in since.values.column_names:
            continue
        edited = asked.edited(pair)
        touched |= edited
        silent[name] = asked.has & ~edited
        unread = silent[name].copy()
        flaws = tuple(_without(flaws, pair, unread))
        emptied = edited & ~valid(as_array(values[name])) & ~_flawed(flaws, pair, question.rows)
        cleared[name] = (cleared.get(name, np.zeros(question.rows, bool)) & ~unread) | emptied
    gone, came = asked.gone, asked.came
    if since.prefer is Side.SHEET:
        silent = {name: mask & ~gone for name, mask in silent.items()}  # the whole record comes again
    kept = _clash(back, asked, silent)
    if since.prefer is Side.TABLE:
        for pair in question.pairing.pairs:
            if pair.target.name not in question.pairing.key:
                mask = silent.setdefault(pair.target.name, np.zeros(question.rows, bool))
                mask |= came
        kept |= came & asked.says_otherwise
    for name, mask in silent.items():
        at = values.column_names.index(name)
        values = values.set_column(at, name, keep(as_array(values[name]), ~mask))
        cleared[name] = cleared.get(name, np.zeros(question.rows, bool)) & ~mask
    converted = replace(question.converted, values=values, flaws=flaws, cleared=_marks(cleared))
    back.question = replace(question, converted=converted, pairing=_keeping(question.pairing, silent))
    speaks = [valid(as_array(values[name])) | cleared[name] for name in silent]
    _stand(back, asked, touched, kept & ~any_of(speaks, question.rows))
    back.may_go = _as_taken_out(question, since) if question.rules.absent is not None else None
    return back


def _as_taken_out(question: Question, since: Since) -> Mask:
    """The records that were taken out, and that nobody changed since."""
    key, existing = question.pairing.key_columns, question.existing.values
    codes = code_keys(existing, since.values.select(question.pairing.key), key, _to_the_letter)
    of = match(codes).record
    same: Mask = of >= 0
    for name in since.values.column_names:
        if name not in question.pairing.key:
            base = as_array(since.values[name]).take(pa.array(of, mask=of < 0))
            same &= ~_moved(question.shape.column(name), as_array(existing[name]), base)
    return same


def _keeping(pairing: Pairing, columns: Collection[str]) -> Pairing:
    """The pairing, in which a blank of some columns says nothing: those that were emptied are known."""
    pairs = (
        replace(pair, rule=replace(pair.rule, blanks=Blanks.KEEP)) if pair.target.name in columns else pair
        for pair in pairing.pairs
    )
    return replace(pairing, pairs=tuple(pairs))


def _marks(cleared: Mapping[str, Mask]) -> dict[str, Mask]:
    return {name: mask for name, mask in cleared.items() if mask.any()}


class _Asked:
    """How rows stand to their base and to the records: `of` is the row of the base, -1 for none."""

    def __init__(self, question: Question, since: Since) -> None:
        self.question, self.since = question, since
        key = question.pairing.key_columns
        own = question.converted.values.select(question.pairing.key)
        codes = code_keys(own, since.values.select(question.pairing.key), key, _to_the_letter)
        self.of: Indices = match(codes).record
        self.has: Mask = self.of >= 0
        self.record: Indices = np.where(question.matches.times > 0, question.matches.record, -1)
        self.known: Mask = self.record >= 0
        self.keyed: Mask = question.codes.incoming >= 0
        self.gone: Mask = self.has & ~self.known
        self.came: Mask = ~self.has & self.known & self.keyed

    def base(self, name: str) -> pa.Array:
        """For each row what a column was when it was taken out."""
        return as_array(self.since.values[name]).take(pa.array(self.of, mask=~self.has))

    def now(self, name: str) -> pa.Array:
        """For each row what its record holds now."""
        held = as_array(self.question.existing.values[name])
        return held.take(pa.array(self.record, mask=~self.known))

    def edited(self, pair: Pair) -> Mask:
        """Where a cell says other than what was taken out."""
        name, converted = pair.target.name, self.question.converted
        new, old = as_array(converted.values[name]), self.base(name)
        other: Mask = self.has & differs(new, old)
        if not other.any():
            return other
        if pair.target.type.kind is Kind.TEXT:
            other &= valid(new) | _holds(old)  # an empty text is a blank cell
            if name in converted.untidied:
                other &= ~mask_of(pc.equal(converted.untidied[name], old))
        elif pair.target.type.kind is Kind.FLOAT:
            other &= ~_close(new, old)
        if name in self.since.texts and pair.rule.unshaped:
            written = self.since.texts[name].take(pa.array(self.of, mask=~self.has))
            cells = as_text(self.question.incoming.column(pair.rule.sources[0]))
            other &= ~mask_of(pc.equal(cells, written))
        return other

    @property
    def says_otherwise(self) -> Mask:
        """Where a row says other than what its record holds now."""
        masks = []
        for pair in self.question.pairing.pairs:
            new = as_array(self.question.converted.values[pair.target.name])
            masks.append(valid(new) & differs(new, self.now(pair.target.name)))
        return any_of(masks, self.question.rows)

    @property
    def renamed(self) -> tuple[Indices, Indices]:
        """The rows whose key was edited, and the rows of the base that they were: no row has that key any more."""
        incoming = self.question.incoming
        if all(column.name != ROW_MARK for column in incoming.columns):
            return np.zeros(0, np.int64), np.zeros(0, np.int64)
        marks = as_text(incoming.column(ROW_MARK))
        prefix = f"{self.since.run}:"
        mine = mask_of(pc.starts_with(marks, prefix))
        numbers = pc.utf8_slice_codeunits(marks, len(prefix)).to_pylist()
        length = len(self.since.values)
        marked = np.array(
            [
                int(text) - 1 if own and text.isdecimal() and 0 < int(text) <= length else -1
                for own, text in zip(mine.tolist(), numbers, strict=True)
            ],
            np.int64,
        )
        there = np.zeros(length + 1, bool)
        there[self.of[self.has]] = True
        rows = np.flatnonzero((marked >= 0) & (marked != self.of) & ~there[marked] & self.keyed)
        return rows, marked[rows]


def _clash(back: Back, asked: _Asked, silent: dict[str, Mask]) -> Mask:
    """Note the fields that both sides changed; the rows of which the table's value is preferred."""
    question, since = asked.question, asked.since
    kept = np.zeros(question.rows, bool)
    found: list[tuple[int, str, str | None, str | None, str | None]] = []
    for pair in question.pairing.pairs:
        name = pair.target.name
        if name not in silent:
            continue
        new, old, now = as_array(question.converted.values[name]), asked.base(name), asked.now(name)
        clash = asked.has & ~silent[name] & asked.known & _moved(pair.target, now, old) & _moved(pair.target, now, new)
        if not clash.any():
            continue
        rows = np.flatnonzero(clash)
        texts = [shown(side).take(pa.array(rows)) for side in (old, new, now)]
        if since.prefer is Side.TABLE:
            silent[name] = silent[name] | clash
            kept |= clash
        elif since.prefer is None:
            said = [
                f"{sheet or '(blank)'} (was {was or 'blank'}, is {there or 'blank'} now)"
                for was, sheet, there in zip(*(side.to_pylist() for side in texts), strict=True)
            ]
            wanted = "a field that nobody else changed since it was taken out"
            back.flaws.append(
                Flaw(Reason.CHANGED_SINCE, rows, wanted, pair.incoming, pa.array(said, pa.string()), pair.rule.sources)
            )
        found += [
            (row, name, was, sheet, there)
            for row, was, sheet, there in zip(rows.tolist(), *(side.to_pylist() for side in texts), strict=True)
        ]
    if found:
        numbers, names, was, sheet, there = zip(*found, strict=True)
        at = np.array(numbers, np.int64)
        keys = key_text(question.converted.values, question.pairing.key).take(pa.array(at)).to_pylist()
        back.clashes = Clashes(at, tuple(keys), names, was, sheet, there)
    return kept


def _moved(column: TargetColumn, now: pa.Array, other: pa.Array) -> Mask:
    """Where the table's value is another one; an empty text is none."""
    found = differs(now, other)
    if column.type.kind is Kind.TEXT:
        found &= _holds(now) | _holds(other)
    return found


def _stand(back: Back, asked: _Asked, touched: Mask, kept: Mask) -> None:
    """What becomes of rows whose records are gone, came since, or had another key."""
    question, since = asked.question, asked.since
    key, cells = key_name(question.pairing), key_cells(question.pairing)
    keys = key_text(question.converted.values, question.pairing.key)

    def flaw(reason: Reason, rows: Indices, wanted: str, values: pa.Array) -> None:
        if len(rows):
            back.flaws.append(Flaw(reason, rows, wanted, key, values, cells))

    rows, were = asked.renamed
    before = key_text(since.values, question.pairing.key).take(pa.array(were))
    said = pc.binary_join_element_wise(keys.take(pa.array(rows)), pa.scalar(" (was "), before, pa.scalar(")"), "")
    flaw(Reason.KEY_EDITED, rows, "the key as it was taken out", said)
    gone = asked.gone
    if since.prefer is Side.TABLE:
        back.left_out[KEPT] = kept | (gone & touched)
    elif since.prefer is None:
        lost = np.flatnonzero(gone & touched)
        flaw(Reason.GONE_SINCE, lost, "a record that is still there", keys.take(pa.array(lost)))
        came = np.flatnonzero(asked.came & asked.says_otherwise)
        flaw(Reason.CAME_SINCE, came, "a key that the extract has, or the table lacks", keys.take(pa.array(came)))
    back.left_out[GONE] = gone & ~touched


def _without(flaws: Sequence[Flaw], pair: Pair, rows: Mask) -> Sequence[Flaw]:
    """The flaws without those of one column in some rows."""
    own = [flaw for flaw in flaws if flaw.cells and flaw.cells == pair.rule.sources]
    return [*(flaw for flaw in flaws if not any(flaw is one for one in own)), *spared(own, rows)] if own else flaws


def _flawed(flaws: Sequence[Flaw], pair: Pair, length: int) -> Mask:
    """The rows in which a cell of one column is wrong."""
    found = np.zeros(length, bool)
    for flaw in flaws:
        if flaw.cells == pair.rule.sources:
            found[flaw.rows] = True
    return found


def _holds(texts: pa.Array) -> Mask:
    """Where a text is more than blanks."""
    return valid(tidy(texts))


def _close(one: pa.Array, other: pa.Array) -> Mask:
    """Where floats are the same as far as a spreadsheet program keeps them."""
    left, right = (side.fill_null(np.nan).to_numpy(zero_copy_only=False) for side in (one, other))
    found: Mask = np.isclose(left, right, rtol=5 * 10.0**-_FLOAT_DIGITS, atol=0)
    return found


def _to_the_letter(_: TargetColumn, texts: pa.Array) -> pa.Array:
    """Distinct texts as they are: keys were taken out as they stand."""
    return pa.array(np.arange(len(texts)))
