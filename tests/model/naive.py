"""The naive model of a load: one row after another, in plain Python, written from the documents alone."""

from collections import Counter
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from model.kinds import BAD, Type, tidy


@dataclass(frozen=True)
class Column:
    """A column of the target. `parent` refers to the single key column of the same table."""

    name: str
    type: Type
    key: bool = False
    nullable: bool = True
    unique: bool = False
    most: int | None = None
    default: Any = None
    parent: bool = False


@dataclass(frozen=True)
class Case:
    """A target, its records, the incoming rows (all texts), and the rules of the job.

    A row begins with a word that may have it skipped and its instruction. A table may have a column of its own that
    `computes`, and one that is `stamped` with every update.
    """

    place: str
    columns: tuple[Column, ...]
    records: tuple[tuple[Any, ...], ...]
    rows: tuple[tuple[str, ...], ...]
    rules: dict[str, Any] = field(default_factory=dict)
    column_rules: dict[str, dict[str, Any]] = field(default_factory=dict)
    computes: bool = False
    stamped: bool = False

    @property
    def keys(self) -> tuple[int, ...]:
        return tuple(at for at, column in enumerate(self.columns) if column.key)


@dataclass
class Wanted:
    """What a load is to do: the outcome of each row, and the records afterwards by key."""

    outcomes: list[str]
    records: dict[Any, tuple[Any, ...]]

    @property
    def counts(self) -> dict[str, int]:
        return Counter(self.outcomes)


def same(value: Any) -> Any:
    """What makes values equal to the target: numbers whatever their zeros, documents whatever their order."""
    return value.normalize() if isinstance(value, Decimal) and not value else value


def load(case: Case) -> Wanted:
    """What becomes of the rows."""
    before = {key_of(case, record): record for record in case.records}
    rows = [read(case, row) for row in case.rows]
    outcomes: list[str | None] = ["skipped" if row[0] == "skip" else instructed(case, row[1]) for row in case.rows]
    going = [goes(case, row) for row in case.rows]
    rows = [only_key(case, row) if gone else row for row, gone in zip(rows, going, strict=True)]
    exact = [exact_key(case, row, before) for row in case.rows]
    keys = [found or key_of(case, row) for row, found in zip(rows, exact, strict=True)]
    for at, row in enumerate(rows):
        if outcomes[at] is None and (BAD in row or any(row[key] is None for key in case.keys)):
            outcomes[at] = "rejected"
    repeats = settle_repeats(case, rows, keys, outcomes)
    changes: dict[int, tuple[Any, ...]] = {}
    for at, row in enumerate(rows):
        if outcomes[at] is None:
            outcomes[at], record = decide(case, row, case.rows[at], before.get(keys[at]))
            if outcomes[at] == "removed" or record is not None:
                changes[at] = record
    absent = absentees(case, before, keys, outcomes)
    for key in absent:
        changes[len(keys)] = None
        keys.append(key)
        outcomes.append("removed")
    while bad := offenders(case, before, changes, keys):
        for at in bad:
            outcomes[at] = "rejected"
            del changes[at]
    for at, first in repeats.items():
        if outcomes[first] == "rejected":
            outcomes[at] = "rejected"
    after = dict(before)
    for at, record in changes.items():
        put(after, keys[at], record)
    return Wanted([str(outcome) for outcome in outcomes], after)


def absentees(case: Case, before: dict[Any, Any], keys: list[Any], outcomes: list[str | None]) -> list[Any]:
    """The records that are on no row, if the rows can be the full list."""
    if case.rules.get("absent") != "remove":
        return []
    read = [at for at, row in enumerate(case.rows) if any(tidy(cell) for cell in row)]
    named = [
        row[0] == "skip" or not any(part is None or part is BAD for part in keys[at])
        for at, row in enumerate(case.rows)
    ]
    rejected = sum(outcomes[at] == "rejected" for at in read)
    if not read or not all(named[at] for at in read) or rejected > len(read) / 10:
        return []
    return [key for key in before if key not in keys]


def goes(case: Case, row: tuple[str, ...]) -> bool:
    """Whether a row says that its record is to go."""
    return "instruction" in case.rules and case.rules["instruction"]["values"].get(row[1]) == "remove"


def only_key(case: Case, row: tuple[Any, ...]) -> tuple[Any, ...]:
    return tuple(value if at in case.keys else None for at, value in enumerate(row))


def put(records: dict[Any, Any], key: Any, record: tuple[Any, ...] | None) -> None:
    """Put a record in its place, or take it away."""
    if record is None:
        del records[key]
    else:
        records[key] = record


def instructed(case: Case, word: str) -> str | None:
    """The outcome that the instruction alone settles."""
    rule = case.rules.get("instruction")
    if rule is None:
        return None
    if not word:
        return {"reject": "rejected", "skip": "skipped", "load": None}[rule["blank"]]
    return "skipped" if word == "ignore" else None if word in rule["values"] else "rejected"


def read(case: Case, row: tuple[str, ...]) -> tuple[Any, ...]:
    """The row's cells as values; the first cell says only whether to skip it."""
    found = []
    for column, cell in zip(case.columns, row[2:], strict=True):
        tidied = tidy(cell)
        if tidied is not None and tidied == case.rules.get("clear_mark"):
            tidied = None
        found.append(None if tidied is None else held(case, column, column.type.read(tidied)))
    return tuple(found)


def held(case: Case, column: Column, value: Any) -> Any:
    """The value, unless the target would store it as another one: SQLite takes JSON that is a number for one."""
    if case.place != "sqlite" or column.type.name != "json" or not isinstance(value, tuple):
        return value
    number = value[1] if isinstance(value[1], Decimal) else Decimal(0)
    return BAD if len(number.normalize().as_tuple().digits) > 15 or abs(number) >= 10**15 else value


def folded(column: Column, value: Any) -> Any:
    if column.type.fold and isinstance(value, str):
        return "".join(sign.lower() if sign.isascii() or column.type.name == "nocase" else sign for sign in value)
    return same(value)


def key_of(case: Case, record: tuple[Any, ...]) -> Any:
    return tuple(folded(case.columns[at], record[at]) for at in case.keys)


def exact_key(case: Case, row: tuple[str, ...], before: dict[Any, Any]) -> Any:
    """The key of the record that has just these cells in its text columns, spaces and all."""
    cells = row[2:]
    values = []
    for at in case.keys:
        column, cell = case.columns[at], cells[at]
        is_text = column.type.name in ("text", "code", "nocase")
        tidied = tidy(cell)
        values.append(cell if is_text else None if tidied is None else column.type.read(tidied))
    key = tuple(folded(case.columns[at], value) for at, value in zip(case.keys, values, strict=True))
    return key if key in before else None


def settle_repeats(case: Case, rows: list[Any], keys: list[Any], outcomes: list[str | None]) -> dict[int, int]:
    """Settle rows of one key; which rows merely repeat another."""
    groups: dict[Any, list[int]] = {}
    for at, key in enumerate(keys):
        if outcomes[at] is None:
            groups.setdefault(key, []).append(at)
    repeats: dict[int, int] = {}
    for group in groups.values():
        said = {
            at: goes(case, case.rows[at]) or (without_key(case, rows[at], cleared(case, at)), cleared(case, at))
            for at in group
        }
        if all(said[at] == said[group[0]] for at in group):
            for at in group[1:]:
                outcomes[at] = "skipped"
                repeats[at] = group[0]
            continue
        how = case.rules.get("same_key_twice", "reject")
        best = {"reject": None, "first": group[0], "last": group[-1]}[how]
        for at in group:
            if at != best:
                outcomes[at] = "rejected" if best is None else "skipped"
    return repeats


def without_key(case: Case, row: Any, clears: tuple[bool, ...]) -> tuple[Any, ...]:
    """What a row says besides its key."""
    return tuple(same(value) for at, value in enumerate(meant(case, row, clears)) if at not in case.keys)


def meant(case: Case, row: Any, clears: Any, *, new: bool = False) -> tuple[Any, ...]:
    """The values as they would be loaded: where a blank clears to the job's default, and in a `new` record, that."""
    found = []
    for at, (column, value) in enumerate(zip(case.columns, row, strict=True)):
        default = case.column_rules.get(column.name, {}).get("default")
        defaults = default is not None and not clears[at] and (new or blanks(case, column) == "clear")
        found.append(column.type.read(default) if value is None and defaults else value)
    return tuple(found)


def cleared(case: Case, at: int) -> tuple[bool, ...]:
    mark = case.rules.get("clear_mark")
    return tuple(mark is not None and tidy(cell) == mark for cell in case.rows[at][2:])


def decide(case: Case, row: Any, cells: tuple[str, ...], record: Any) -> tuple[str, Any]:
    """The outcome of a good row, and the record that it leaves, if it changes any."""
    word = cells[1] if "instruction" in case.rules else ""
    if word == ("new" if record is not None else "change"):
        return "rejected", None
    if goes(case, cells):
        return "removed" if record is not None else "rejected", None
    mark = case.rules.get("clear_mark")
    clears = [mark is not None and tidy(cell) == mark for cell in cells[2:]]
    if record is None:
        return insert(case, row, clears)
    new = list(record)
    for at, column in enumerate(case.columns):
        if not column.key:
            new[at] = updated(case, column, record[at], row[at], cells[2:][at], clear=clears[at])
    along = [at for at, column in enumerate(case.columns) if only_on(case, column) == "update"]
    if all(same(new[at]) == same(record[at]) for at in range(len(new)) if at not in along):
        compared = [at for at, column in enumerate(case.columns) if at not in along and not column.key]
        kept = any(
            kept_back(case, case.columns[at], record[at], row[at], cells[2:][at], clear=clears[at]) for at in compared
        )
        return "skipped" if kept else "unchanged", None
    if any(
        new[at] is None and record[at] is not None and not column.nullable for at, column in enumerate(case.columns)
    ):
        return "rejected", None
    if case.rules.get("updates") is False or not condition(case, "update_when", meant(case, row, clears), record):
        return "skipped", None
    return "updated", tuple(new)


def condition(case: Case, name: str, row: Any, record: Any) -> bool:
    """Whether a condition of the job on rows is met; one that is unknown is not."""
    column = case.rules.get(f"{name} of")
    if column is None:
        return True
    at = [one.name for one in case.columns].index(column)
    if name == "insert_when":
        return row[at] is not None
    return row[at] is not None and record[at] is not None and row[at] >= record[at]


def only_on(case: Case, column: Column) -> str | None:
    found: str | None = case.column_rules.get(column.name, {}).get("only_on")
    return found


def insert(case: Case, row: Any, clears: list[bool]) -> tuple[str, Any]:
    if case.rules.get("inserts") is False:
        return "skipped", None
    values = [
        None if only_on(case, c) == "update" else v
        for c, v in zip(case.columns, meant(case, row, clears, new=True), strict=True)
    ]
    if not condition(case, "insert_when", values, None):
        return "skipped", None
    new = []
    for at, column in enumerate(case.columns):
        value = None if only_on(case, column) == "update" else row[at]
        job_default = case.column_rules.get(column.name, {}).get("default")
        if value is None and job_default is not None and not clears[at] and only_on(case, column) != "update":
            value = column.type.read(job_default)
        if value is None and column.default is not None:
            gives_null = column.nullable and (blanks(case, column) == "clear" or clears[at])
            value = None if gives_null else column.default
        if value is None and not column.nullable:
            return "rejected", None
        new.append(value)
    return "inserted", tuple(new)


def blanks(case: Case, column: Column) -> str:
    return str(case.column_rules.get(column.name, {}).get("blanks") or case.rules.get("blanks", "keep"))


def updated(case: Case, column: Column, old: Any, new: Any, cell: str, *, clear: bool) -> Any:
    """The value of one column of an existing record afterwards."""
    rules = case.column_rules.get(column.name, {})
    if rules.get("only_on") == "insert":
        return old
    is_text = column.type.name in ("text", "code", "nocase")
    if (
        is_text and not clear and (cell == old or (new is None and old == ""))
    ):  # what is stored, to the letter or tidied
        return old
    empty = old is None or (isinstance(old, str) and is_text and tidy(old) is None)
    if new is None and not clear:
        if blanks(case, column) != "clear":
            return old
        if rules.get("default") is not None:
            new = column.type.read(rules["default"])
    if blanks(case, column) == "fill-only" and not clear and not empty:
        return old
    when = rules.get("update_when")
    if when == "empty" and not empty:
        return old
    if when == "greater" and old is not None and not (new is not None and new > old):
        return old
    return new


def kept_back(case: Case, column: Column, old: Any, new: Any, cell: str, *, clear: bool) -> bool:
    """Whether a rule of the column keeps back a value that the cell says and that is another."""
    rules = case.column_rules.get(column.name, {})
    without = {name: rule for name, rule in rules.items() if name != "update_when"}
    if blanks(case, column) == "fill-only":
        without["blanks"] = "keep"
    free = replace(case, column_rules={**case.column_rules, column.name: without})
    return same(updated(free, column, old, new, cell, clear=clear)) != same(old)


def stuck(case: Case, at: int, before: dict[Any, Any], changes: dict[int, Any], keys: list[Any]) -> set[int]:
    """The rows that hand on a value which can't be moved aside: it may not be blank, and is no number and no text."""
    column = case.columns[at]
    if not column.unique or column.nullable or column.type.name not in ("day", "uuid"):
        return set()
    refers = any(one.parent for one in case.columns)
    holder = {folded(column, record[at]): key for key, record in before.items()}
    found = set()
    for taker, record in changes.items():
        key = holder.get(folded(column, record[at]))
        giver = next((row for row in changes if keys[row] == key and row != taker), None)
        if giver is not None and same(changes[giver][at]) != same(record[at]) and (keys[taker] in before or refers):
            found |= {taker, giver}
    return found


def offenders(case: Case, before: dict[Any, Any], changes: dict[int, Any], keys: list[Any]) -> set[int]:
    """The rows whose change breaks a constraint, as all records would stand."""
    after = dict(before)
    for at, record in changes.items():
        put(after, keys[at], record)
    gone = {at for at, record in changes.items() if record is None}
    # A row that makes a record refer to one that goes is at fault itself.
    fresh = {
        keys[at]
        for at, record in changes.items()
        if record and (keys[at] not in before or before[keys[at]][-1] != record[-1])
    }
    parents = {record[-1] for key, record in after.items() if case.columns[-1].parent and key not in fresh}
    referred = {folded(case.columns[case.keys[0]], parent) for parent in parents}
    bad = {at for at in gone if keys[at][0] in referred}
    changes = {at: record for at, record in changes.items() if record is not None}
    for at, column in enumerate(case.columns):
        bad |= stuck(case, at, before, changes, keys)
        holders: dict[Any, list[Any]] = {}
        for key, record in after.items():
            if column.unique and record[at] is not None:
                holders.setdefault(folded(column, record[at]), []).append(key)
        for row, record in changes.items():
            value = record[at]
            writes = keys[row] not in before or same(before[keys[row]][at]) != same(value)
            if value is None:
                continue
            if column.unique and len(holders[folded(column, value)]) > 1 and writes:
                bad.add(row)
            if column.most is not None and value > column.most and (writes or case.place != "sqlite"):
                bad.add(row)
            if column.parent and writes and (folded(case.columns[case.keys[0]], value),) not in after:
                bad.add(row)
    return bad
