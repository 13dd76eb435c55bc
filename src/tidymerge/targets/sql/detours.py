"""Values in each other's way: moved aside before others take them, so that swaps, chains and circles go through.

A database tests unique columns row by row, and most test foreign keys statement by statement. So a value that another
change takes is first replaced by one that nobody has; and where parents and children change each other's keys in one
table, the columns that refer are emptied first and filled last.
"""

from collections.abc import Sequence
from collections.abc import Set as AbstractSet

import numpy as np
from msgspec import Struct

from tidymerge.core.match.order import is_circle
from tidymerge.core.tidy.cells import as_array
from tidymerge.databases.contract.database import NUMBER, POSITION, place_name, quoted, same_place
from tidymerge.databases.contract.reading import numbers
from tidymerge.model import ForeignKey, Indices, Kind, Reason, TargetColumn
from tidymerge.model.changes import ChangeSet, Violation
from tidymerge.targets.sql.stage import Stage

_SIGNS = ("~", "!", "#", "^", "~~")  # what a text that is moved aside may begin with


class Aside(Struct, frozen=True):
    """A column whose value is replaced for a while, in staged updates at `positions`, by `value` (SQL over `s`)."""

    column: str
    positions: Indices
    value: str


class Detours(Struct, frozen=True):
    """What is moved aside first, and which columns that refer to their own or a later table are filled last."""

    asides: tuple[Aside, ...] = ()
    last: tuple[str, ...] = ()

    def __bool__(self) -> bool:
        return bool(self.asides or self.last)


NONE = Detours()


def own_keys(stage: Stage) -> list[ForeignKey]:
    """The foreign keys of the table that refer to itself and are loaded."""
    return [
        key
        for key in stage.shape.foreign_keys
        if key.table == stage.shape.name and stage.loaded.issuperset((*key.columns, *key.referred))
    ]


def emptied(stage: Stage, key: ForeignKey) -> str | None:
    """A column of the key that can be empty for a while: then the record refers to nothing."""
    fixed = {*stage.shape.primary_key, *key.referred}
    return next((name for name in key.columns if stage.shape.column(name).nullable and name not in fixed), None)


def detours_for(stage: Stage, changes: ChangeSet, key: Sequence[str]) -> Detours:
    """How the changes get past each other. Those for which there is no way are among `hindrances` already."""
    changed = set(changes.updates.columns)
    asides = []
    for names in _unique(stage, key, changed):
        wanted = _wanted(stage, names)
        aside = _aside(stage, names, key) if len(wanted) else None
        if aside is not None:
            asides.append(Aside(aside[0], wanted[:, 1], aside[1]))
    own = _filled_last(stage, changes, changed)
    for name in own:
        mask = changes.updates.changing(name)
        if mask.any():
            asides.append(Aside(name, changes.updates.positions[mask], "NULL"))
    loose = [name for name in stage.loose if len(changes.inserts) or name in changed]
    return Detours(tuple(asides), tuple(dict.fromkeys((*own, *loose))))


def _filled_last(stage: Stage, changes: ChangeSet, changed: AbstractSet[str]) -> tuple[str, ...]:
    """The columns that refer to records of the same table whose keys come into being, change or go by these changes."""
    found = []
    inserts = changes.inserts
    several = len(own_keys(stage)) > 1  # one key may lead there, and another one back
    for key in own_keys(stage):
        name = emptied(stage, key)
        moves = not changed.isdisjoint(key.referred)
        # A record that goes may have to go before another takes its values, but not before its children let go of it.
        lets_go = len(changes.removals) and not changed.isdisjoint(key.columns) and name not in checked(stage)
        if name is not None and (
            moves
            or lets_go
            or (len(inserts) and ((several and name not in checked(stage)) or is_circle(inserts.after, key).any()))
        ):
            found.append(name)
    return tuple(dict.fromkeys(found))


def checked(stage: Stage) -> set[str]:
    """The columns whose values are checked: a value in between may not pass."""
    return {name for check in stage.shape.checks for name in check.columns}


def _unique(stage: Stage, key: Sequence[str], changed: AbstractSet[str]) -> list[tuple[str, ...]]:
    """The unique sets of columns that some update changes."""
    shape = stage.shape
    return [names for names in dict.fromkeys((shape.primary_key, *shape.unique)) if changed & (set(names) - set(key))]


def _wanted(stage: Stage, names: Sequence[str]) -> np.ndarray:
    """Pairs of positions: a change that takes the values which the update of another record gives up.

    New records come after the updates, and so are in nobody's way, unless the table refers to itself.

        WITH a AS (SELECT s.position, s.tag FROM stage s LEFT JOIN hives t …)
        SELECT a.position AS n, o.position AS r FROM a JOIN stage g ON g.position = a.position
        JOIN hives t ON t.tag = a.tag JOIN stage o ON t.rowid = o.place_0 AND (o.tag IS NULL OR o.tag <> t.tag)
        WHERE o.position <> a.position
    """
    first_come = any(key.table == stage.shape.name for key in stage.shape.foreign_keys)
    updated = f"g.{quoted(POSITION)} = a.{quoted(POSITION)} AND g.{quoted(place_name(0))} IS NOT NULL"
    known = "" if first_come else f"JOIN {stage.table} g ON {updated} "
    theirs = f"JOIN {stage.table} o ON {same_place(stage.places, 't', 'o')}"
    same = " AND ".join(f"t.{quoted(name)} = a.{quoted(name)}" for name in names)
    loaded = [quoted(name) for name in names if name in stage.loaded]
    gives = " OR ".join(f"o.{name} IS NULL OR o.{name} <> t.{name}" for name in loaded)
    query = (
        f"WITH a AS ({stage.after(names)}) SELECT a.{quoted(POSITION)} AS n, o.{quoted(POSITION)} AS r FROM a "
        f"{known}JOIN {stage.target} t ON {same} {theirs} AND ({gives}) "
        f"WHERE o.{quoted(POSITION)} <> a.{quoted(POSITION)}"
    )
    found = stage.database.read([NUMBER, _OTHER], lambda _: query).values
    pairs = [np.asarray(as_array(found[name]).to_numpy(), np.int64) for name in (NUMBER.name, _OTHER.name)]
    takers, givers = pairs
    # One that several take is given up once.
    _, first = np.unique(givers, return_index=True)
    return np.stack([takers[first], givers[first]], axis=1) if len(givers) else np.zeros((0, 2), np.int64)


_OTHER = TargetColumn("r", NUMBER.type)


def _aside(stage: Stage, names: Sequence[str], key: Sequence[str]) -> tuple[str, str] | None:
    """A column of the unique set, and a value for it that nobody has, in SQL over the staged row `s`."""
    columns = [stage.shape.column(name) for name in names if name in stage.loaded and name not in key]
    free = [column for column in columns if column.name not in checked(stage) and not column.generated]
    for column in free:
        if column.type.kind in (Kind.INTEGER, Kind.DECIMAL) and (number := _number_aside(stage, column)):
            return column.name, number
    for column in free:
        if column.type.kind is Kind.TEXT and not column.type.allowed and (text := _text_aside(stage, column)):
            return column.name, text
    referred = {name for one in stage.referring for name in one.referred}
    for column in columns:
        if column.nullable and column.name not in stage.shape.primary_key and column.name not in referred:
            return column.name, "NULL"
    return None


def _last_position(stage: Stage) -> int:
    return int(numbers(stage.database.read, f"SELECT max({quoted(POSITION)}) AS n FROM {stage.table}")[0])


def _number_aside(stage: Stage, column: TargetColumn) -> str | None:
    """A whole number beyond all that are there or come."""
    name = quoted(column.name)
    both = f"SELECT {{pick}}({name}) AS x FROM {stage.target} UNION ALL SELECT {{pick}}({name}) AS x FROM {stage.table}"
    low, high = column.type.minimum, column.type.maximum
    if column.type.kind is Kind.DECIMAL:
        size = 10 ** min((column.type.precision or 18) - column.type.decimals, 18) - 1
        low, high = (0 if column.type.bounded else -size), size
    whole = "CAST(floor(max(x)) AS {kind}) + 1", "CAST(ceil(min(x)) AS {kind}) - 1"
    last = _last_position(stage)
    for pick, rounded, sign in (("max", whole[0], 1), ("min", whole[1], -1)):
        expression = rounded.format(kind=stage.database.traits.whole_type)
        edge = _edge(stage, f"SELECT {expression} AS n FROM ({both.format(pick=pick)}) q")
        if edge is None:
            continue
        if low <= edge <= high and low <= edge + sign * last <= high:
            return f"{edge} {'+' if sign > 0 else '-'} s.{quoted(POSITION)}"
    return None


def _edge(stage: Stage, query: str) -> int | None:
    """A number; None if it is beyond what 64 bits hold."""
    found: int | None = stage.database.read([NUMBER], lambda _: query).values[NUMBER.name][0].as_py()
    return found


def _text_aside(stage: Stage, column: TargetColumn) -> str | None:
    """A text that begins as no other does."""
    longest = len(str(_last_position(stage)))
    name = quoted(column.name)
    for sign in _SIGNS:
        if column.type.length is not None and len(sign) + longest > column.type.length:
            continue
        taken = " UNION ALL ".join(
            f"SELECT count(*) AS x FROM {table} WHERE {name} LIKE '{sign}%'" for table in (stage.target, stage.table)
        )
        if not numbers(stage.database.read, f"SELECT sum(x) AS n FROM ({taken}) q")[0]:
            return f"concat('{sign}', s.{quoted(POSITION)})"
    return None


def hindrances(stage: Stage, key: Sequence[str]) -> list[Violation]:
    """Changes that can't get past each other, or past records that refer to what they change."""
    found = []
    changed = stage.changed
    for names in _unique(stage, key, changed):
        wanted = _wanted(stage, names)
        if len(wanted) and _aside(stage, names, key) is None:
            listed = " + ".join(names)
            # Givers too: if they went through, the next load of the same rows would find more to do.
            words = f"values that don't pass from one record to another: {listed} is unique and can't be moved aside"
            found.append(Violation(Reason.NOT_UNIQUE, words, tuple(names), np.unique(wanted)))
    for referring in stage.referring:
        if not referring.follows and not changed.isdisjoint(referring.referred):
            found += _left_behind(stage, referring)
    return found


def _left_behind(stage: Stage, key: ForeignKey) -> list[Violation]:
    """Updates of what other records refer to, where those would be left without a parent."""
    child = stage.database.describe(stage.database.find_table(key.table))
    pairs = list(zip(key.columns, key.referred, strict=True))
    refers = " AND ".join(f"x.{quoted(there)} = t.{quoted(here)}" for here, there in pairs)
    moves = " OR ".join(f"s.{quoted(there)} <> x.{quoted(there)}" for _, there in pairs if there in stage.loaded)
    stays = ""
    if child.name == stage.shape.name:
        own = next((one for one in own_keys(stage) if one.columns == key.columns), None)
        if stage.leaving:
            stays += f" AND NOT {stage.is_leaving('t')}"
        if own is not None and emptied(stage, own):  # it is given its new parent once that is there
            stays += f" AND NOT EXISTS (SELECT 1 FROM {stage.table} o WHERE {same_place(stage.places, 't', 'o')})"
    query = (
        f"SELECT DISTINCT s.{quoted(POSITION)} AS n FROM {stage.table} s "
        f"JOIN {stage.target} x ON {same_place(stage.places, 'x')} "
        f"JOIN {stage.database.in_sql(child.name)} t ON {refers}{stays} WHERE {moves}"
    )
    positions = np.sort(numbers(stage.database.read, query))
    if not len(positions):
        return []
    wanted = f"a value that no record of {child.name} refers to by {' + '.join(key.columns)}: they would lose it"
    return [Violation(Reason.REFERRED_TO, wanted, key.referred, positions)]


def circles(changes: ChangeSet, stage: Stage) -> Indices:
    """New records that refer to each other in a circle by columns that can't be empty even for a while."""
    inserts = changes.inserts
    found = np.zeros(len(inserts), bool)
    for key in own_keys(stage) if len(inserts) else ():
        if emptied(stage, key) is None:
            found |= is_circle(inserts.after, key)
    return inserts.positions[found]


def in_circle(positions: Indices, stage: Stage) -> list[Violation]:
    """The violation of such records, where the database tests row by row."""
    if not len(positions):
        return []
    names = tuple(dict.fromkeys(name for key in own_keys(stage) for name in key.columns))
    wanted = "a parent that can be written before it: these new records refer to each other in a circle"
    return [Violation(Reason.NO_SUCH_RECORD, wanted, names, positions)]
