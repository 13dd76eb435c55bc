"""The steps of a column rule: each a small record that applies itself to cells, and says itself in words.

Texts are worked on once for each distinct one. Numbers, dates and truth values that a spreadsheet or a database
gave as such stay what they are, unless a step needs them as text. The steps stand here in the order of their work.
"""

import re
from collections.abc import Mapping, Sequence
from datetime import date, datetime, time
from typing import ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from msgspec import Struct, field

from tidymerge.core.tidy.cells import by_distinct, valid
from tidymerge.core.tidy.patterns import check_pattern, first_found
from tidymerge.model import Flaw, Kind, Mask, Reason

KEEP_VALUE = "\0keep"  # what becomes of values that a map does not have, if they stay: no text of a file can be this


class About(Struct, frozen=True):
    """The column that a step works on, for what is wrong with its cells: what feeds it, and its kind."""

    name: str
    kind: Kind
    flaws: list[Flaw] = field(default_factory=list)

    def flaw(self, reason: Reason, wrong: Mask, wanted: str, texts: pa.Array) -> None:
        """Note cells that are wrong."""
        rows = np.flatnonzero(wrong)
        if len(rows):
            self.flaws.append(Flaw(reason, rows, wanted, self.name, texts.take(pa.array(rows))))


class Step(Struct, frozen=True):
    """One thing that is done to the cells of a column."""

    needs_text: ClassVar[bool] = False  # whether all cells must be texts first

    def words(self) -> str:
        """What it does, as a person would say it."""
        raise NotImplementedError

    def check(self, where: str) -> None:
        """Raise BadExpression if it can't be done; `where` names its column in the job."""


class TextStep(Step, frozen=True):
    """A step that makes other texts of texts."""

    needs_text: ClassVar[bool] = True

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """What it makes of the texts."""
        raise NotImplementedError


class CellStep(Step, frozen=True):
    """A step that reads texts among the cells as something else."""

    def of_cells(self, cells: pa.Array, about: About) -> pa.Array:
        """What it makes of cells of one type."""
        raise NotImplementedError


class Cut(TextStep, frozen=True):
    """Cut the text at `at` and take a piece: from 1, or from the end if negative.

    There must be `pieces` of them: `rest` says what becomes of more ("join": the last one has them all, "drop"). With
    `missing_is_null` a text without the piece gives nothing.
    """

    at: str
    number: int = 1
    pieces: int | None = None
    rest: str | None = None
    missing_is_null: bool = False

    def words(self) -> str:
        """Which piece it takes, and what becomes of others."""
        said = [f"{_place(self.number)} of the text cut at {self.at!r}"]
        said += [f"more pieces: {self.rest}"] if self.rest else []
        return "; ".join([*said, *(["nothing where it is missing"] if self.missing_is_null else [])])

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """The pieces; a text that is not cut as the job expects is flawed."""
        counts = by_distinct(texts, lambda text: len(text.split(self.at)), pa.int64()).fill_null(0).to_numpy()
        exact = self.pieces if self.rest is None and not self.missing_is_null else None
        wrong = valid(texts) & (counts < (exact or abs(self.number))) & (not self.missing_is_null)
        if self.pieces is not None and self.rest is None:
            wrong |= counts > self.pieces
        about.flaw(Reason.NOT_SPLIT, wrong, f"{self._wanted(exact)} with {self.at!r} between them", texts)
        return by_distinct(texts, lambda text: self._piece(text.split(self.at)), pa.string())

    def _wanted(self, exact: int | None) -> str:
        if exact is not None:
            return f"exactly {exact} pieces"
        return f"at most {self.pieces} pieces" if self.missing_is_null else f"at least {abs(self.number)} pieces"

    def _piece(self, pieces: Sequence[str]) -> str | None:
        """The piece, without spaces around it; the last one that the job uses has the rest where that is joined."""
        at = self.number - 1 if self.number > 0 else self.number
        if not -len(pieces) <= at < len(pieces):
            return None
        if self.rest == "join" and self.number == self.pieces:
            return self.at.join(pieces[at:]).strip() or None
        return pieces[at].strip() or None


def _place(part: int) -> str:
    if part > 0:
        return f"piece {part}"
    return "the last piece" if part == -1 else f"piece {-part} from the end"


class Match(TextStep, frozen=True):
    """Take what a pattern (RE2) finds: its first group. With `missing_is_null` a text without it gives nothing."""

    pattern: str
    missing_is_null: bool = False

    def words(self) -> str:
        """What it takes."""
        return f"what {self.pattern!r} finds" + ("; nothing where it is missing" if self.missing_is_null else "")

    def check(self, where: str) -> None:
        """The pattern must be one."""
        check_pattern(self.pattern, f"{where}.pattern")

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """What is found; a text in which nothing is found is flawed."""
        found = first_found(texts, self.pattern)
        if not self.missing_is_null:
            wanted = f"a text in which {self.pattern!r} finds something"
            about.flaw(Reason.PATTERN_NOT_FOUND, valid(texts) & ~valid(found), wanted, texts)
        return found


class Replace(TextStep, frozen=True):
    """Replace what patterns (RE2) find: pairs of a pattern and its replacement."""

    pairs: tuple[tuple[str, str], ...]

    def words(self) -> str:
        """That it replaces."""
        return "with replacements"

    def check(self, where: str) -> None:
        """The patterns must be ones."""
        for pattern, replacement in self.pairs:
            check_pattern(pattern, f"{where}.replace", replacement)

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """The texts with the replacements."""
        for pattern, replacement in self.pairs:
            texts = pc.replace_substring_regex(texts, pattern, replacement)
        return texts


class LetterCase(TextStep, frozen=True):
    """Write all letters in `upper` or `lower` case."""

    case: str

    def words(self) -> str:
        """Which case."""
        return f"in {self.case} case"

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """The texts in that case."""
        return (pc.utf8_upper if self.case == "upper" else pc.utf8_lower)(texts)


class Pad(TextStep, frozen=True):
    """Fill shorter texts up from the left."""

    to: int
    filled_with: str = "0"

    def words(self) -> str:
        """How long they become."""
        return f"padded to {self.to} with {self.filled_with!r}"

    def of_texts(self, texts: pa.Array, about: About) -> pa.Array:
        """The texts, filled up."""
        return pc.utf8_lpad(texts, self.to, self.filled_with)


class ValueMap(CellStep, frozen=True):
    """Replace each text by what the map has for it. `otherwise` is what becomes of others: None rejects them."""

    needs_text: ClassVar[bool] = True
    values: Mapping[str, str]
    otherwise: str | None = None
    fold_case: bool = False

    def words(self) -> str:
        """How many values, and what becomes of others."""
        others = "kept" if self.otherwise == KEEP_VALUE else f"become {self.otherwise!r}"
        return f"{len(self.values)} values mapped, others {'rejected' if self.otherwise is None else others}"

    def of_cells(self, cells: pa.Array, about: About) -> pa.Array:
        """The mapped values; a text that the map does not have is flawed."""
        folded = {key.casefold(): value for key, value in self.values.items()}

        def look(text: str) -> str | None:
            found = self.values.get(text)
            if found is None and self.fold_case:
                found = folded.get(text.casefold())
            if found is None:
                found = text if self.otherwise == KEEP_VALUE else self.otherwise
            return found

        mapped = by_distinct(cells, look, pa.string())
        wanted = f"one of the mapped values: {', '.join(list(self.values)[:10])}"
        about.flaw(Reason.NOT_IN_MAP, valid(cells) & ~valid(mapped), wanted, cells)
        blank = pc.equal(mapped, "").fill_null(False)
        return pc.if_else(blank, pa.scalar(None, pa.string()), mapped)


class NumberMarks(CellStep, frozen=True):
    """Read numbers as they are written elsewhere: 1.234,50 € is 1234.50, and 12,5 % is 0.125 with `percent`."""

    decimal_mark: str | None = None
    grouping: str | None = None
    percent: bool = False
    currency: str | None = None

    def words(self) -> str:
        """The marks."""
        said = (
            (self.decimal_mark, f"decimal mark {self.decimal_mark!r}"),
            (self.grouping, f"digits grouped by {self.grouping!r}"),
            (self.percent, "percent as a fraction"),
            (self.currency, f"without {self.currency}"),
        )
        return "; ".join(words for given, words in said if given)

    def of_cells(self, cells: pa.Array, about: About) -> pa.Array:
        """Texts in the plain form of numbers."""
        if not pa.types.is_string(cells.type):
            return cells
        for sign in (self.currency or "").split():
            cells = pc.replace_substring(cells, sign, "")
        cells = pc.utf8_trim_whitespace(cells)
        if self.percent:
            cells = by_distinct(cells, _percent, pa.string())
        if self.grouping:
            # Only between groups of three, so that a slip such as 1.5 for 1,5 is not read as 15.
            mark, point = re.escape(self.grouping), re.escape(self.decimal_mark or ".")
            grouped = re.compile(rf"[+-]?\d{{1,3}}(?:{mark}\d{{3}})+(?:{point}\d+)?%?")
            cells = by_distinct(cells, lambda text: _ungrouped(text, grouped, self.grouping or ""), pa.string())
        if self.decimal_mark and self.decimal_mark != ".":
            comma = self.decimal_mark
            cells = by_distinct(cells, lambda text: _decimal_point(text, comma), pa.string())
        return cells


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


class TruthWords(CellStep, frozen=True):
    """Read words as true and as false, in any letter case."""

    true: tuple[str, ...]
    false: tuple[str, ...]

    def words(self) -> str:
        """That there are such words."""
        return "words for true and false"

    def of_cells(self, cells: pa.Array, about: About) -> pa.Array:
        """The texts true and false for the words."""
        if not pa.types.is_string(cells.type):
            return cells
        words = {word.casefold(): "true" for word in self.true} | {word.casefold(): "false" for word in self.false}
        return by_distinct(cells, lambda text: words.get(text.casefold(), text), pa.string())


class DateFormats(CellStep, frozen=True):
    """Read texts by the first of the formats (as of C's strftime) that fits."""

    formats: tuple[str, ...]

    def words(self) -> str:
        """The formats."""
        return f"read as {' or '.join(self.formats)}"

    def of_cells(self, cells: pa.Array, about: About) -> pa.Array:
        """Dates, times or timestamps; texts that no format fits are flawed."""
        if not pa.types.is_string(cells.type):
            return cells
        kind = about.kind
        arrow = {Kind.TIMESTAMP: pa.timestamp("us"), Kind.TIME: pa.time64("us")}.get(kind, pa.date32())
        read = by_distinct(cells, lambda text: read_date(text, self.formats, kind), arrow)
        wanted = f"a {kind.value} written as {' or '.join(self.formats)}"
        reason = {Kind.TIMESTAMP: Reason.NOT_A_TIMESTAMP, Kind.TIME: Reason.NOT_A_TIME}.get(kind, Reason.NOT_A_DATE)
        about.flaw(reason, valid(cells) & ~valid(read), wanted, cells)
        return read


def read_date(text: str, formats: Sequence[str], kind: Kind) -> date | datetime | time | None:
    """The date, time or timestamp that the first fitting format reads, or None."""
    for form in formats:
        try:
            read = datetime.strptime(text, form)  # noqa: DTZ007 - the column keeps no zone
        except ValueError:
            continue
        return read if kind is Kind.TIMESTAMP else read.time() if kind is Kind.TIME else read.date()
    return None
