"""Movements made by chance, against a naive model that loads one row after another; refused the second time."""

import csv
import random
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
import tomlkit

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS
from model import places
from model.kinds import TYPES
from model.naive import Case, Column
from model.test_model import by_key

pytestmark = pytest.mark.by_chance(share=3)

KIND = {kind.name: kind for kind in TYPES}
DELTAS = ("", "1", "-1", "2.5", "-2.5", "7", "x", "1.005")


def case_of(name: str, chance: random.Random) -> tuple[Case, bool]:
    """A table of lots, rows that add to them, and whether an empty stock counts as none."""
    sql = name in ("sqlite", "postgresql", "mariadb")
    columns = (
        Column("k", KIND["code"], key=True, nullable=False),
        Column("stock", KIND["money"], most=None),
        Column(
            "n",
            KIND["int" if sql else "count"],
            default=0 if sql else None,
            most=3 if sql and chance.random() < 0.3 else None,
        ),
        Column("note", KIND["text"]),
    )
    money = [None, Decimal("10.00"), Decimal("0.50"), Decimal("-1.00")]
    keys = chance.sample(["a", "b", "c", "d"], chance.randint(0, 3))
    records = tuple((key, chance.choice(money), chance.choice([0, 1, 2]), chance.choice([None, "old"])) for key in keys)
    rows = tuple(
        ("skip" if chance.random() < 0.1 else "", chance.choice(["a", "b", "c", "d", ""]), chance.choice(DELTAS), chance.choice(["", "new", "old"]))
        for _ in range(chance.randint(0, 9))
    )  # fmt: skip
    return Case(name, columns, records, rows), chance.random() < 0.7


def naive(case: Case, *, from_none: bool) -> tuple[dict[Any, Any], list[str]]:
    """The records afterwards, and what became of the rows."""
    start = {record[0]: record for record in case.records}
    now, outcomes = dict(start), []
    for skip, key, delta, note in case.rows:
        before = now.get(key)
        stock = before[1] if before else None
        if from_none and stock is None:
            stock = Decimal(0)
        new = stock + Decimal(delta) if stock is not None and delta not in ("", "x") else None
        lost = stock is None and delta not in ("", "x")
        if skip:
            outcomes.append("skipped")
        elif not key or delta == "x" or lost or (new is not None and new != new.quantize(Decimal("0.01"))):
            outcomes.append("rejected")
        else:
            was = before or (key, None, None, None)
            now[key] = (key, was[1] if new is None else new, (was[2] or 0) + 1, note or was[3])
            outcomes.append("updated" if before else "inserted")
    most = case.columns[2].most
    over = {key for key, record in now.items() if most is not None and record != start.get(key) and record[2] > most}
    for key in over:  # which of its rows is at fault can't be told
        now.pop(key)
        now |= {key: start[key]} if key in start else {}
    kinds = [
        "rejected" if row[1] in over and outcome in ("updated", "inserted") else outcome
        for row, outcome in zip(case.rows, outcomes, strict=True)
    ]
    return now, kinds


@pytest.mark.parametrize("part", PARTS)
def test_movements_add_up_as_if_they_came_one_by_one(part, share, place_of, monkeypatch):
    for number in share.of(12, 820, part):
        place = place_of(number, but="parquet")
        name = place.name
        case, from_none = case_of(name, random.Random(f"movement {name} {number}"))
        with fresh_folder() as folder:
            try:
                check(case, place, folder, from_none=from_none)
            except Exception as error:
                error.add_note(f"case {number} of {name}: {case} {from_none}")
                raise


def check(case: Case, place: Any, folder: Path, *, from_none: bool) -> None:
    """Load a case's movements, and look at everything."""
    target = place.make(case, folder)
    start = by_key(case, places.records(place, case, target))
    stock = "coalesce(existing.stock, 0)" if from_none else "existing.stock"
    types = {column.name: column.type.names[case.place] for column in case.columns} if case.place in ("csv", "xlsx") else {}  # fmt: skip
    job = {
        "incoming": {"at": "in.csv", "skip_when": "do = 'skip'", "delimiter": ","},
        "target": {"at": target, "key": ["k"], "types": types},
        "columns": {"k": "k", "stock": {"compute": f"{stock} + incoming.delta"}, "n": {"compute": "coalesce(existing.n, 0) + 1"}, "note": "note"},
        "rules": {"once": True},
    }  # fmt: skip
    (folder / "job.toml").write_text(tomlkit.dumps(job), "utf-8")
    with (folder / "in.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([["do", "k", "delta", "note"], *case.rows])
    wanted, kinds = naive(case, from_none=from_none)
    asked: dict[str, Any] = {"job": folder / "job.toml"}
    options: dict[str, Any] = {"accept_warnings": True, "limits": NO_LIMITS, "rejects": folder / "r.csv"}
    preview = tidymerge.preview(**asked)
    done = tidymerge.load(**asked, **options)
    assert (preview.rows, preview.fingerprint) == (done.rows, done.fingerprint)
    blank = [not any(row) for row in case.rows]
    told = [kind for kind, gone in zip(kinds, blank, strict=True) if not gone]
    found = {kind: getattr(done.rows, kind) for kind in ("inserted", "updated", "unchanged", "skipped", "rejected")}
    assert found == {kind: told.count(kind) for kind in found}, done.rejects.first
    loaded = {key[0]: record for key, record in by_key(case, places.records(place, case, target)).items()}
    assert loaded == wanted
    if not done.changed:
        return
    with pytest.raises(tidymerge.Stopped, match="loaded before"):
        tidymerge.load(**asked, **options)
    undone = tidymerge.undo(done.run, into=target)
    assert by_key(case, places.records(place, case, target)) == start
    redone = tidymerge.undo(undone.run, into=target)
    with pytest.raises(tidymerge.Stopped, match="loaded before"):  # it counts again
        tidymerge.load(**asked, **options)
    tidymerge.undo(redone.run, into=target)
    assert tidymerge.load(**asked, **options).changed == done.changed
