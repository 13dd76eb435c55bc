"""From incoming cells to the cells that a column rule makes of them, before they are cast to the target's type.

Texts are worked on once for each distinct one. Numbers, dates and truth values that a spreadsheet or a database
gave as such stay what they are, unless a step needs them as text.
"""

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, time

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tidymerge.core.tidy.cells import by_distinct, valid
from tidymerge.core.tidy.convert import as_text, tidy_parts
from tidymerge.core.tidy.numbers import number_text
from tidymerge.core.tidy.patterns import first_found
from tidymerge.core.tidy.tidying import tidy
from tidymerge.model import Flaw, Incoming, IncomingColumn, Kind, Mask, Reason
from tidymerge.model.rules import KEEP_VALUE, ColumnRule


@dataclass(frozen=True, slots=True)
class Shaped:
    """The cells for one target column, what went wrong, and the rows whose cell says "clear this"."""

    parts: tuple[pa.Array, ...]
    flaws: tuple[Flaw, ...]
    cleared: Mask


def shape_column(incoming: Incoming, rule: ColumnRule, kind: Kind, clear_mark: str | None) -> Shaped:
    """Apply the steps of a rule that fetches its value from incoming columns or is a constant."""
    rows = len(incoming.row_numbers)
    cleared = np.zeros(rows, bool)
    if rule.constant is not None:
        return Shaped((pa.repeat(pa.scalar(rule.constant), rows),), (), cleared)
    columns = [incoming.column(name) for name in rule.sources]
    parts = tidy_parts(columns[0].parts)
    if clear_mark is not None:
        parts, cleared = _take_mark(parts, clear_mark, rows)
    if len(columns) > 1:
        parts = [_joined(columns, rule.join)]
    name = " + ".join(rule.sources)
    flaws: list[Flaw] = []
    if _needs_text(rule) or len(columns) > 1:
        for column in columns:
            flaws += _digits_lost(column)
    if _needs_text(rule):
        taken, wrong = _taken(_one_text(parts, rows), rule, name)
        flaws += wrong
        parts = [_text_steps(taken, rule)]
    if rule.values:
        parts, wrong = _mapped(parts[0], rule, name)
        flaws += wrong
    parts = [_number_marks(part, rule) for part in parts]
    if rule.true_words or rule.false_words:
        parts = [_truth_words(part, rule) for part in parts]
    if rule.date_formats:
        parts, wrong = _dated(parts, rule, kind, name)
        flaws += wrong
    flaws = [flaw if flaw.cells else replace(flaw, cells=rule.sources) for flaw in flaws]
    return Shaped(tuple(parts), tuple(flaws), cleared)


def _take_mark(parts: Sequence[pa.Array], mark: str, rows: int) -> tuple[list[pa.Array], Mask]:
    cleared = np.zeros(rows, bool)
    kept = []
    for part in parts:
        if not pa.types.is_string(part.type):
            kept.append(part)
            continue
        marked = pc.equal(part, mark).fill_null(False)
        cleared |= marked.to_numpy(zero_copy_only=False)
        kept.append(pc.if_else(marked, pa.scalar(None, pa.string()), part))
    return kept, cleared


def _needs_text(rule: ColumnRule) -> bool:
    steps = (rule.split, rule.pattern, rule.replace, rule.case, rule.pad_to, rule.values)
    return any(step for step in steps)


def _one_text(parts: Sequence[pa.Array], rows: int) -> pa.Array:
    return as_text(IncomingColumn("", tuple(parts))) if parts else pa.nulls(rows, pa.string())


def _digits_lost(column: IncomingColumn) -> list[Flaw]:
    """Numbers that have lost digits before they could become texts."""
    found = [number_text(part).bad for part in column.parts if pa.types.is_floating(part.type)]
    shown = as_text(column)
    return [
        Flaw(bad.reason, bad.rows, bad.expected, column.name, shown.take(pa.array(bad.rows)), (column.name,))
        for some in found
        for bad in some
    ]


def _joined(columns: Sequence[IncomingColumn], join: str) -> pa.Array:
    """The texts of several columns with `join` between them; blank ones are left out."""
    texts = [_one_text(tidy_parts(column.parts), len(column.parts[0])) for column in columns]
    joined = pc.binary_join_element_wise(*texts, join, null_handling="skip")
    return pc.if_else(pc.equal(joined, ""), pa.scalar(None, pa.string()), joined)


def _taken(texts: pa.Array, rule: ColumnRule, name: str) -> tuple[pa.Array, list[Flaw]]:
    """The piece of each text that the rule takes; a text that is not cut as the job expects is flawed."""
    flaws: list[Flaw] = []
    if rule.split:
        by = rule.split
        counts = by_distinct(texts, lambda text: len(text.split(by)), pa.int64()).fill_null(0).to_numpy()
        least = abs(rule.part) if rule.pieces is None or rule.rest or rule.missing_is_null else rule.pieces
        wrong = valid(texts) & (counts < least) & (not rule.missing_is_null)
        if rule.pieces is not None and rule.rest is None:
            wrong |= counts > rule.pieces
        wanted = f"{_number(rule)} with {by!r} between them"
        flaws += _flaw(Reason.NOT_SPLIT, wrong, wanted, name, texts)
        texts = by_distinct(texts, lambda text: _piece(text.split(by), rule), pa.string())
    if rule.pattern:
        found = first_found(texts, rule.pattern)
        if not rule.missing_is_null:
            wanted = f"a text in which {rule.pattern!r} finds something"
            flaws += _flaw(Reason.PATTERN_NOT_FOUND, valid(texts) & ~valid(found), wanted, name, texts)
        texts = found
    return texts, flaws


def _number(rule: ColumnRule) -> str:
    if rule.pieces is None or rule.rest or rule.missing_is_null:
        return f"at least {abs(rule.part)} pieces" if not rule.missing_is_null else f"at most {rule.pieces} pieces"
    return f"exactly {rule.pieces} pieces"


def _flaw(reason: Reason, wrong: Mask, wanted: str, name: str, texts: pa.Array) -> list[Flaw]:
    rows = np.flatnonzero(wrong)
    return [Flaw(reason, rows, wanted, name, texts.take(pa.array(rows)))] if len(rows) else []


def _piece(pieces: Sequence[str], rule: ColumnRule) -> str | None:
    """The piece, without spaces around it; the last one that the job uses has the rest where that is joined."""
    at = rule.part - 1 if rule.part > 0 else rule.part
    if not -len(pieces) <= at < len(pieces):
        return None
    if rule.rest == "join" and rule.split and rule.part == rule.pieces:
        return rule.split.join(pieces[at:]).strip() or None
    return pieces[at].strip() or None


def _text_steps(texts: pa.Array, rule: ColumnRule) -> pa.Array:
    for pattern_text, replacement in rule.replace:
        texts = pc.replace_substring_regex(texts, pattern_text, replacement)
    if rule.case:
        texts = (pc.utf8_upper if rule.case == "upper" else pc.utf8_lower)(texts)
    if rule.pad_to:
        texts = pc.utf8_lpad(texts, rule.pad_to, rule.pad_with)
    return tidy(texts)


def _mapped(texts: pa.Array, rule: ColumnRule, name: str) -> tuple[list[pa.Array], list[Flaw]]:
    """Each text replaced by what the value map gives for it."""
    folded = {key.casefold(): value for key, value in rule.values.items()}

    def look(text: str) -> str | None:
        found = rule.values.get(text)
        if found is None and rule.fold_case:
            found = folded.get(text.casefold())
        if found is None:
            found = text if rule.otherwise == KEEP_VALUE else rule.otherwise
        return found

    mapped = by_distinct(texts, look, pa.string())
    wanted = f"one of the mapped values: {', '.join(list(rule.values)[:10])}"
    flaws = _flaw(Reason.NOT_IN_MAP, valid(texts) & ~valid(mapped), wanted, name, texts)
    blank = pc.equal(mapped, "").fill_null(False)
    return [pc.if_else(blank, pa.scalar(None, pa.string()), mapped)], flaws


def _number_marks(part: pa.Array, rule: ColumnRule) -> pa.Array:
    """Texts of numbers as they are written elsewhere, in the plain form: 1.234,50 € is 1234.50."""
    if not pa.types.is_string(part.type) or not (rule.decimal_mark or rule.grouping or rule.percent or rule.currency):
        return part
    for sign in (rule.currency or "").split():
        part = pc.replace_substring(part, sign, "")
    part = pc.utf8_trim_whitespace(part)
    if rule.percent:
        part = by_distinct(part, _percent, pa.string())
    if rule.grouping:
        # Only between groups of three, so that a slip such as 1.5 for 1,5 is not read as 15.
        mark, point = re.escape(rule.grouping), re.escape(rule.decimal_mark or ".")
        grouped = re.compile(rf"[+-]?\d{{1,3}}(?:{mark}\d{{3}})+(?:{point}\d+)?%?")
        part = by_distinct(part, lambda text: _ungrouped(text, grouped, rule.grouping or ""), pa.string())
    if rule.decimal_mark and rule.decimal_mark != ".":
        mark = rule.decimal_mark
        part = by_distinct(part, lambda text: _decimal_point(text, mark), pa.string())
    return part


def _percent(text: str) -> str:
    """12,5 % becomes 0,125: the point moves two places to the left, exactly."""
    if not text.endswith("%"):
        return text
    number = text[:-1].strip()
    found = re.fullmatch(r"([+-]?)(\d+)(?:([.,])(\d+))?", number)
    if not found:
        return text
    sign, whole, mark, fraction = found[1], found[2].rjust(3, "0"), found[3] or ".", found[4] or ""
    return f"{sign}{whole[:-2]}{mark}{whole[-2:]}{fraction}"


def _ungrouped(text: str, grouped: re.Pattern[str], mark: str) -> str:
    return text.replace(mark, "") if grouped.fullmatch(text) else text


def _decimal_point(text: str, mark: str) -> str:
    """The text with a point for its decimal mark. Where a point already stands it is no number: refused later."""
    return text.replace(mark, ".") if "." not in text else text.replace(".", "\N{MIDDLE DOT}")


def _truth_words(part: pa.Array, rule: ColumnRule) -> pa.Array:
    if not pa.types.is_string(part.type):
        return part
    words = {word.casefold(): "true" for word in rule.true_words}
    words.update({word.casefold(): "false" for word in rule.false_words})
    return by_distinct(part, lambda text: words.get(text.casefold(), text), pa.string())


def _dated(parts: Sequence[pa.Array], rule: ColumnRule, kind: Kind, name: str) -> tuple[list[pa.Array], list[Flaw]]:
    """Texts read by the first of the formats that fits; texts that none fits are flawed."""
    arrow = {Kind.TIMESTAMP: pa.timestamp("us"), Kind.TIME: pa.time64("us")}.get(kind, pa.date32())
    found: list[pa.Array] = []
    flaws: list[Flaw] = []
    for part in parts:
        if not pa.types.is_string(part.type):
            found.append(part)
            continue
        read = by_distinct(part, lambda text: read_date(text, rule.date_formats, kind), arrow)
        wanted = f"a {kind.value} written as {' or '.join(rule.date_formats)}"
        reason = {Kind.TIMESTAMP: Reason.NOT_A_TIMESTAMP, Kind.TIME: Reason.NOT_A_TIME}.get(kind, Reason.NOT_A_DATE)
        flaws += _flaw(reason, valid(part) & ~valid(read), wanted, name, part)
        found.append(read)
    return found, flaws


def read_date(text: str, formats: Sequence[str], kind: Kind) -> date | datetime | time | None:
    """The date, time or timestamp that the first fitting format reads, or None."""
    for form in formats:
        try:
            read = datetime.strptime(text, form)  # noqa: DTZ007 - the column keeps no zone
        except ValueError:
            continue
        return read if kind is Kind.TIMESTAMP else read.time() if kind is Kind.TIME else read.date()
    return None
