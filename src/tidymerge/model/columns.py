"""A column of the target: its type, and how the target compares its texts."""

from enum import StrEnum

import pyarrow as pa
from msgspec import Struct
from msgspec.structs import replace

MOST_DIGITS = 38  # that a 128-bit decimal holds


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


class ColumnType(Struct, frozen=True):
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


class TargetColumn(Struct, frozen=True):
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
