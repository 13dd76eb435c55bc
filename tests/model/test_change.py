"""Changes of records, made by chance, against a naive model: content, counts, preview, a second look, undo, its undo."""

import json
import random
from collections.abc import Callable
from dataclasses import replace
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path
from typing import Any

import pytest
import tomlkit

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS
from model import cases, places
from model.naive import Case, Column, folded
from model.test_model import by_key

pytestmark = pytest.mark.by_chance(share=4)

NUMERIC = ("int", "small", "money")
MONEY = Decimal("0.01")
BAD = object()
Work = Callable[[dict[str, Any]], Any]


def quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def known(value: Any, work: Callable[[Any], Any]) -> Any:
    return None if value is None else work(value)


def assigned(column: Column, value: Any) -> Any:
    """What a column holds once a value is assigned to it: rounded, or BAD."""
    if value is None:
        return None if column.nullable else BAD
    if column.type.name in NUMERIC:
        value = Decimal(value).quantize(MONEY if column.type.name == "money" else Decimal(1), ROUND_HALF_UP)
    found = column.type.read(str(value)) if column.type.name in (*NUMERIC, "code") else value
    if isinstance(found, str) and found == "\0bad":
        return BAD
    return BAD if column.most is not None and found > column.most else found


def setting(chance: random.Random, column: Column, case: Case) -> tuple[str, Work]:
    """An expression for a column, and what it works out to."""
    name, own = column.name, quoted(column.name)
    if column.type.name in NUMERIC:
        factor = chance.choice(["1.05", "3", "-1", "1000000000"])
        return chance.choice([
            (f"{own} * {factor}", lambda r: known(r[name], lambda v: v * Decimal(factor))),
            (f"coalesce({own}, 7) + 1", lambda r: (7 if r[name] is None else r[name]) + 1),
            (f"case when {own} > 5 then {own} - 5 else {own} end", lambda r: known(r[name], lambda v: v - 5 if v > 5 else v)),
        ])  # fmt: skip
    if column.type.name in ("text", "code"):
        return chance.choice([
            (f"{own} || '!'", lambda r: known(r[name], lambda v: f"{v}!")),
            (f"coalesce({own}, 'none')", lambda r: "none" if r[name] is None else r[name]),
            (f"upper({own})", lambda r: known(r[name], str.upper)),
        ])  # fmt: skip
    same = [other.name for other in case.columns if other.type is column.type]
    other = chance.choice(same)
    return chance.choice([(quoted(other), lambda r: r[other]), ("null", lambda r: None)])


def condition(chance: random.Random, case: Case) -> tuple[str | None, Work]:
    """A condition on the records, and whether it is true."""
    column = chance.choice(case.columns)
    name, own = column.name, quoted(column.name)
    choices = [
        (None, lambda r: True), (f"{own} is null", lambda r: r[name] is None), (f"{own} is not null", lambda r: r[name] is not None),
    ]  # fmt: skip
    if column.type.name in NUMERIC:
        choices += [(f"{own} >= 5", lambda r: r[name] is not None and r[name] >= 5)] * 3
        choices += [
            (f"{own} in (5, 7, -3)", lambda r: r[name] in (5, 7, -3)),
            (f"0 < {own} and {own} <> 8", lambda r: r[name] is not None and 0 < r[name] != 8),
        ]
        choices += [(f"not ({own} between 1 and 9)", lambda r: r[name] is not None and not 1 <= r[name] <= 9)]
    if column.type.name in ("text", "code"):
        value = str(chance.choice(column.type.stored))
        text = value.replace("'", "''")
        choices += [(f"{own} = '{text}'", lambda r: r[name] == value), (f"{own} <> '{text}'", lambda r: r[name] not in (None, value))]  # fmt: skip
    return chance.choice(choices)


@pytest.mark.parametrize("part", PARTS)
def test_changes_do_what_the_documents_say(part, share, place_of, home):
    for number in share.of(16, 1_150, part):
        place = place_of(number)
        name = place.name
        case = cases.case(name, number)
        with fresh_folder() as folder:
            try:
                check(case, random.Random(f"change {name} {number}"), place, folder)
                check_removal(case, random.Random(f"remove {name} {number}"), place, folder)
                check_drop(case, random.Random(f"drop {name} {number}"), place, folder)
            except Exception as error:
                error.add_note(f"case {number} of {name}: {case}")
                raise


def check(case: Case, chance: random.Random, place: Any, folder: Path) -> None:
    """Change a case's records, and look at everything."""
    free = [column for column in case.columns if not (column.key or column.unique or column.parent)]
    if not free:
        return
    chosen = chance.sample(free, min(len(free), chance.randint(1, 2)))
    sets = {column.name: setting(chance, column, case) for column in chosen}
    where, holds = condition(chance, case)
    target = place.make(case, folder)
    start = by_key(case, places.records(place, case, target))
    wanted, counts = naive(case, start, sets, holds)
    columns = {name: {"compute": text} for name, (text, _) in sets.items()}
    job = job_file(case, folder, target, where, "change", {"columns": columns})
    preview = tidymerge.change(job=job, preview=True)
    done = tidymerge.change(job=job, limits=NO_LIMITS, rejects=folder / "r.csv")
    assert (preview.rows, preview.fingerprint) == (done.rows, done.fingerprint)
    assert (done.rows.updated, done.rows.unchanged, done.rows.rejected) == counts, done.rejects
    assert done.tables[0].rows_before == len(start)
    changed = by_key(case, places.records(place, case, target))
    assert changed == wanted, (sets, where)
    if done.changed:
        undone = tidymerge.undo(done.run, into=target)
        assert by_key(case, places.records(place, case, target)) == start
        tidymerge.undo(undone.run, into=target)
        assert by_key(case, places.records(place, case, target)) == changed


def job_file(case: Case, folder: Path, target: str, where: str | None, part: str, more: dict[str, Any]) -> Path:
    """The job file of a case."""
    types = {column.name: column.type.names[case.place] for column in case.columns} if case.place in ("csv", "xlsx") else {}  # fmt: skip
    key = [column.name for column in case.columns if column.key]
    asked = {"where": where} if where else {"every_record": True}
    path = folder / f"{part}.toml"
    path.write_text(tomlkit.dumps({part: asked, "target": {"at": target, "key": key, "types": types}, **more}), "utf-8")
    return path


def check_removal(case: Case, chance: random.Random, place: Any, folder: Path) -> None:
    """Remove a case's records, and look at everything."""
    where, holds = condition(chance, case)
    target = place.make(case, folder)
    start = by_key(case, places.records(place, case, target))
    names = [column.name for column in case.columns]
    stay = {key: record for key, record in start.items() if not holds(dict(zip(names, record, strict=True)))}
    asked = {"job": job_file(case, folder, target, where, "remove", {})}
    parents = {record[-1] for record in stay.values() if record[-1] is not None} if names[-1] == "parent" else set()
    if any((folded(case.columns[0], parent),) not in stay for parent in parents):
        with pytest.raises(tidymerge.Stopped, match="can't go"):
            tidymerge.remove(target, **asked, limits=NO_LIMITS)
        assert by_key(case, places.records(place, case, target)) == start
        return
    preview = tidymerge.remove(target, **asked, preview=True)
    done = tidymerge.remove(target, **asked, limits=NO_LIMITS, expect=preview.fingerprint)
    assert (done.rows.removed, done.rows.rejected) == (len(start) - len(stay), 0)
    assert by_key(case, places.records(place, case, target)) == stay
    if done.changed:
        undone = tidymerge.undo(done.run, into=target)
        assert by_key(case, places.records(place, case, target)) == start
        tidymerge.undo(undone.run, into=target)
        assert by_key(case, places.records(place, case, target)) == stay


def check_drop(case: Case, chance: random.Random, place: Any, folder: Path) -> None:
    """Take one of a case's columns away, and look at everything."""
    free = [
        column
        for column in case.columns
        if not (column.key or column.unique or column.parent or column.most is not None)
    ]
    free = [column for column in free if column.type.name != "json" or case.place != "sqlite"]  # which SQLite checks
    if case.place == "xlsx":  # others would move
        free = [column for column in free if column is case.columns[-1]]
    if not free:
        return
    gone = chance.choice(free)
    at = case.columns.index(gone)
    less = replace(case, columns=tuple(column for column in case.columns if column is not gone))
    target = place.make(case, folder)
    start = by_key(case, places.records(place, case, target))
    (folder / "remove.toml").unlink(missing_ok=True)  # a job that may need the column
    asked = {"job": job_file(case, folder, target, None, "change", {})}
    asked["job"].write_text(
        asked["job"].read_text("utf-8").replace("every_record = true", f"drop = [{json.dumps(gone.name)}]"), "utf-8"
    )
    preview = tidymerge.change(target, **asked, preview=True)
    done = tidymerge.change(target, **asked, expect=preview.fingerprint)
    held = sum(record[at] is not None for record in start.values())
    assert (done.rows.updated, done.rows.unchanged) == (held, len(start) - held), gone.name
    wanted = {key: record[:at] + record[at + 1 :] for key, record in start.items()}
    assert by_key(less, places.records(place, less, target)) == wanted
    undone = tidymerge.undo(done.run, into=target)
    last = replace(case, columns=(*less.columns, gone))
    assert by_key(last, places.records(place, last, target)) == {key: (*wanted[key], start[key][at]) for key in start}
    tidymerge.undo(undone.run, into=target)
    assert by_key(less, places.records(place, less, target)) == wanted


def naive(
    case: Case, start: dict[Any, Any], sets: dict[str, tuple[str, Work]], holds: Work
) -> tuple[dict[Any, Any], tuple[int, int, int]]:
    """The records afterwards, and how many are updated, unchanged and rejected: one record after another."""
    wanted, updated, unchanged, rejected = {}, 0, 0, 0
    for key, record in start.items():
        values = dict(zip((column.name for column in case.columns), record, strict=True))
        wanted[key] = record
        if not holds(values):
            continue
        columns = {column.name: column for column in case.columns}
        new = {name: assigned(columns[name], work(values)) for name, (_, work) in sets.items()}
        if BAD in new.values():
            rejected += 1
        elif all(values[name] == value for name, value in new.items()):
            unchanged += 1
        else:
            updated += 1
            wanted[key] = tuple((values | new).values())
    return wanted, (updated, unchanged, rejected)
