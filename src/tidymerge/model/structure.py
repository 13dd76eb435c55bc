"""The structure of a table at one moment, as the run log keeps it: what the next run is compared with."""

from msgspec import Struct


class StoredColumn(Struct, frozen=True):
    """A column: its type as declared (`type`), the family of that (`kind`), and the bounds of what it holds.

    A type that is not known is blank. `length` counts characters, or octets where the type does; `precision` and
    `scale` are decimal digits; `least` and `most` bound integers. A `required` column may not be blank.
    """

    name: str
    type: str = ""
    kind: str = ""
    length: int | None = None
    precision: int | None = None
    scale: int | None = None
    least: int | None = None
    most: int | None = None
    required: bool = False


class Structure(Struct, frozen=True):
    """The columns of a table in order, and what is enforced on them; `told` says that the types were told by the data.

    `unique` are the columns of each unique constraint, `references` and `checks` are told in words.
    """

    columns: tuple[StoredColumn, ...]
    primary_key: tuple[str, ...] = ()
    unique: tuple[tuple[str, ...], ...] = ()
    references: tuple[str, ...] = ()
    checks: tuple[str, ...] = ()
    told: bool = False
