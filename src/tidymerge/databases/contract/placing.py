"""Noting beside staged rows where their new records are."""

from collections.abc import Mapping

from tidymerge.databases.contract.database import POSITION, place_name, quoted


def numbered_from(first: int, place: str, table: str) -> str:
    """The records from a number on, in their order: a query for `new`."""
    number = f"t.{quoted(place)}"
    counted = f"row_number() OVER (ORDER BY {number}) AS k"
    return f"SELECT {number} AS place, {counted} FROM {table} t WHERE {number} >= {first:d}"


def in_order(stage: str, where: str) -> str:
    """The positions of staged rows `s`, counted."""
    position = f"s.{quoted(POSITION)}"
    return f"SELECT {position} AS p, row_number() OVER (ORDER BY {position}) AS k FROM {stage} s WHERE {where}"


def placing(stage: str, new: str, where: str, places: Mapping[str, int]) -> str:
    """The statement that notes the places of new records beside the staged rows `s` that they were made of.

    `new` is a query of the places, whose columns are numbered by `places`, with `k`, which counts the records in the
    order of the rows.
    """
    position, ordered = quoted(POSITION), in_order(stage, where)
    listed = ", ".join(f"{quoted(place_name(at))} = n.{name}" for name, at in places.items())
    return f"UPDATE {stage} AS g SET {listed} FROM ({new}) n JOIN ({ordered}) o ON n.k = o.k WHERE g.{position} = o.p"
