"""The records that travel through a run. Nothing here reads, decides or writes."""

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from tidymerge.rules import ColumnRule

MOST_DIGITS = 38  # that a 128-bit decimal holds
Indices = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]


class Kind(StrEnum):
    """What a column means, whatever the database calls it (ISO SQL's type families)."""

    INTEGER = "integer"
    DECIMAL = "decimal"
    FLOAT = "float"
    TEXT = "text"
    BOOLEAN = "boolean"
    DATE = "date"
    TIME = "time"
    TIMESTAMP = "timestamp"
    UUID = "uuid"
    JSON = "json"
    BINARY = "binary"


_ARROW = {
    Kind.INTEGER: pa.int64(),
    Kind.FLOAT: pa.float64(),
    Kind.TEXT: pa.string(),
    Kind.BOOLEAN: pa.bool_(),
    Kind.DATE: pa.date32(),
    Kind.TIME: pa.time64("us"),
    Kind.UUID: pa.string(),
    Kind.JSON: pa.string(),
    Kind.BINARY: pa.binary(),
}


@dataclass(frozen=True, slots=True)
class ColumnType:
    """A target column's type: its kind and the bounds of what it can hold.

    `length` counts characters, `octets` bytes (of text as UTF-8); a `padded` column fills shorter values up;
    `precision` and `scale` are decimal digits; `digits` is how many
    significant digits the target keeps of a decimal; of a float `precision` counts bits (24 for single
    precision) and `digits` those it is rounded to if it has a scale, of a time or timestamp `scale` is the
    digits after its seconds; `allowed` lists the only
    texts that an enumeration takes; `minimum` and `maximum` bound integers, and decimals where `bounded`;
    times `beyond_day` are bounded so too, in microseconds, and held as texts in one spelling;
    `numeric_text` marks a text column in which the database stores
    text that looks like a number as a number. Values `as_stored` are not typed: they travel as the
    database's own exact text, of which it can make the very same value again.
    """

    kind: Kind
    declared: str
    length: int | None = None
    octets: int | None = None
    padded: bool = False
    precision: int | None = None
    scale: int | None = None
    digits: int | None = None
    minimum: int = -(2**63)
    maximum: int = 2**63 - 1
    bounded: bool = False
    beyond_day: bool = False
    zone: bool = False
    numeric_text: bool = False
    allowed: tuple[str, ...] = ()
    as_stored: bool = False

    @property
    def arrow(self) -> pa.DataType:
        """The Arrow type in which the core holds this column."""
        if self.as_stored:
            return pa.string()
        match self.kind:
            case Kind.DECIMAL:
                return pa.string() if self.spelled_out else pa.decimal128(MOST_DIGITS, self.decimals)
            case Kind.TIME if self.beyond_day:
                return pa.string()
            case Kind.TIMESTAMP:
                return pa.timestamp("us", "UTC" if self.zone else None)
            case kind:
                return _ARROW[kind]

    @property
    def decimals(self) -> int:
        """Digits kept after the decimal point of a decimal that declares them; 0 of others."""
        return self.scale or 0

    @property
    def spelled_out(self) -> bool:
        """Whether decimals are held as texts in one spelling (`core.digits`): 128 bits may not hold them all."""
        return self.kind is Kind.DECIMAL and (self.scale is None or (self.precision or 0) > MOST_DIGITS)


class Fold(StrEnum):
    """What the target ignores when it compares two texts for equality."""

    NOTHING = "nothing"
    ASCII_CASE = "ASCII letter case"
    DATABASE = "what only the database can tell"
    TRAILING_SPACES = "trailing spaces"


@dataclass(frozen=True, slots=True)
class TargetColumn:
    """One column of the target, as it is declared there.

    `foreign` marks a type that rows can't be loaded into; `collation` is its name in SQL where a copy of the
    column must be given it; `restamped` that the database changes it with every update that does not.
    """

    name: str
    type: ColumnType
    nullable: bool = True
    has_default: bool = False
    generated: bool = False
    fold: Fold = Fold.NOTHING
    foreign: bool = False
    collation: str = ""
    restamped: bool = False

    @property
    def loadable(self) -> bool:
        """Whether rows can bring a value for it."""
        return not (self.generated or self.foreign)

    def as_stored(self) -> "TargetColumn":
        """The same column, its values as the database's own exact text."""
        return replace(self, type=replace(self.type, as_stored=True))


@dataclass(frozen=True, slots=True)
class ForeignKey:
    """`columns` of the target must be found as `referred` columns of `table`.

    With `follows` the database changes them along when those change.
    """

    columns: tuple[str, ...]
    table: str
    referred: tuple[str, ...]
    follows: bool = False


@dataclass(frozen=True, slots=True)
class Check:
    """A check constraint: its expression as the database itself wrote it, and the columns it names.

    A domain's check calls the one column it judges by another name, which is `domain`.
    """

    name: str
    expression: str
    columns: tuple[str, ...]
    domain: str | None = None


@dataclass(frozen=True, slots=True)
class TableShape:
    """A target table: its columns in order, and what the database enforces on them.

    `unique_names` are the columns of the unique constraints by the names that the database has for them in errors;
    `notes` say what is worth knowing of a write; `types_told` that the types are no declared ones but told by the data.
    """

    name: str
    columns: tuple[TargetColumn, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    checks: tuple[Check, ...] = ()
    unique_names: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    types_told: bool = False

    def column(self, name: str) -> TargetColumn:
        """The column of that exact name. Raises KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(name)


@dataclass(frozen=True, slots=True)
class IncomingColumn:
    """A column as it arrived.

    A spreadsheet's column may mix numbers, text and dates, so it travels as one array a type
    (`parts`, equally long); a row holds a value in at most one of them, and in none if blank. No two columns have one
    `name`; `called` is what the header says if that is another: nothing, or what an earlier column is called too.
    """

    name: str
    parts: tuple[pa.Array, ...]
    called: str | None = None


@dataclass(frozen=True, slots=True)
class Flaw:
    """Something wrong with one column (or with whole rows) in `rows`, indices into the incoming rows.

    `column` is what is at fault, for people; `cells` are the incoming columns that it is made of. `values` are the
    cells as text, one a row in `rows`, or None when the flaw is not about a cell.
    """

    reason: "Reason"
    rows: Indices
    expected: str
    column: str | None = None
    values: pa.Array | None = None
    cells: tuple[str, ...] = ()


NO_ROW = -1  # in place of an incoming row, where none asked for a change


@dataclass(frozen=True, slots=True)
class Incoming:
    """The rows to load. `row_numbers` are as the person sees them, 1 for the top line.

    A flaw of a column counts where that column is used. `assumed` is the encoding of a text file that does not tell
    its own; `uncalculated` counts, by column, the formulas whose result is not stored; `merged` has, by column, the
    first rows whose cells are one, so that only the upper one has the value; `reads` are the tables of a query.

    Rows gathered from several addresses have these in `origins`, and in `origin` which one each row is from.
    """

    address: str
    columns: tuple[IncomingColumn, ...]
    row_numbers: Indices
    header_row: int
    sheet: str | None = None
    flaws: tuple[Flaw, ...] = ()
    notes: tuple[str, ...] = ()
    origins: tuple[str, ...] = ()
    origin: Indices | None = None
    assumed: str | None = None
    uncalculated: Mapping[str, int] = field(default_factory=dict)
    merged: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    reads: tuple[str, ...] = ()

    def numbers_of(self, rows: Indices) -> Indices:
        """The numbers of some rows as the person sees them; 0 for NO_ROW."""
        numbers: Indices = np.append(self.row_numbers, 0)[rows]
        return numbers

    def place(self, row: int) -> str:
        """Where a row stands, for people: its number, with its file or sheet if the rows come from several."""
        number = str(self.row_numbers[row])
        return number if self.origin is None else f"{self.origins[self.origin[row]]} row {number}"

    @property
    def called(self) -> dict[str, str]:
        """What the header calls those columns whose names are ours: of several with one name, all but the first."""
        return {column.name: column.called for column in self.columns if column.called}

    def column(self, name: str) -> IncomingColumn:
        """The column of that exact name. Raises KeyError."""
        for column in self.columns:
            if column.name == name:
                return column
        raise KeyError(name)


class Reason(StrEnum):
    """Why a row was rejected."""

    WRONG_CELLS = "wrong number of cells"
    BLANK_KEY = "blank key"
    NOT_A_NUMBER = "not a number"
    NOT_WHOLE = "not a whole number"
    TOO_MANY_DECIMALS = "too many decimals"
    DIGITS_LOST = "digits lost"
    OUT_OF_RANGE = "out of range"
    TOO_LONG = "too long"
    WRONG_LENGTH = "wrong length"
    NOT_A_DATE = "not a date"
    NOT_A_TIME = "not a time"
    NOT_A_TIMESTAMP = "not a timestamp"
    NOT_TRUE_OR_FALSE = "not true or false"
    NOT_A_UUID = "not a UUID"
    NOT_JSON = "not JSON"
    NOT_BINARY = "not binary"
    NOT_ALLOWED = "not an allowed value"
    TURNED_INTO_DATE = "a date among text"
    STORED_AS_NUMBER = "text that would be stored as a number"
    FORMULA_ERROR = "a formula error"
    NOT_SPLIT = "wrong number of pieces"
    PATTERN_NOT_FOUND = "pattern not found"
    NOT_IN_MAP = "not in the value map"
    NOT_COMPUTED = "can't be computed"
    UNKNOWN_INSTRUCTION = "unknown instruction"
    ALREADY_THERE = "already there"
    NOT_THERE = "not there"
    SAME_KEY_TWICE = "same key twice"
    SEVERAL_RECORDS = "several records"
    BLANK_NOT_ALLOWED = "blank not allowed"
    NO_SUCH_RECORD = "no such record"
    SEVERAL_FOUND = "several found"
    BLANK_INSTRUCTION = "no instruction"
    NOT_UNIQUE = "not unique"
    CHECK_FAILED = "check failed"
    REFUSED = "refused by the target"
    CHANGED_SINCE = "changed since"
    GONE_SINCE = "gone since"
    REFERRED_TO = "referred to"


@dataclass(frozen=True, slots=True)
class Pair:
    """A target column, the name of what feeds it (for messages), and the rule by which it does."""

    target: TargetColumn
    incoming: str
    rule: ColumnRule


@dataclass(frozen=True, slots=True)
class Pairing:
    """Which incoming column feeds which target column, and which of them find the record."""

    pairs: tuple[Pair, ...]
    key: tuple[str, ...]
    not_loaded: tuple[str, ...]
    left_alone: tuple[str, ...]

    @property
    def columns(self) -> tuple[TargetColumn, ...]:
        """The target columns that the job loads, key columns included, in the target's order."""
        return tuple(pair.target for pair in self.pairs)

    @property
    def compared(self) -> tuple[Pair, ...]:
        """What can make a record count as changed: neither key columns nor those that only go along."""
        return tuple(pair for pair in self.pairs if pair.target.name not in self.key and not pair.rule.goes_along)

    @property
    def going_along(self) -> tuple[Pair, ...]:
        """The columns that are written when something else in the record changes, and are no change by themselves."""
        return tuple(pair for pair in self.pairs if pair.target.name not in self.key and pair.rule.goes_along)

    @property
    def key_columns(self) -> tuple[TargetColumn, ...]:
        """The key columns, in the order of the key."""
        by_name = {pair.target.name: pair.target for pair in self.pairs}
        return tuple(by_name[name] for name in self.key)


@dataclass(frozen=True, slots=True)
class Existing:
    """The target's records that may match, as typed columns.

    `places` says where each record lives, in whatever form the adapter needs to find it again.
    `unreadable` marks, by column, the records whose stored value is not of the column's declared type: it is
    null in `values`, but not empty.
    `complete` says whether these are all the records of the target.
    """

    values: pa.Table
    places: pa.Table
    complete: bool
    unreadable: Mapping[str, Mask] = field(default_factory=dict)
