"""Conditions that a database tells just as we do: whole numbers held against numbers, and blanks."""

from msgspec import Struct


class Term(Struct, frozen=True):
    """A comparison of a column of whole numbers: `sign` is =, <>, <, <=, >, >=, in, null or there.

    "null" and "there" have no numbers, and "in" may have several.
    """

    column: str
    sign: str
    numbers: tuple[int, ...] = ()
