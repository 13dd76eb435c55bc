"""Families of three tables, loaded together, made by chance: a naive model says who is loaded, and who is whose."""

import random
import sqlite3
from collections import Counter
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS, text_file

SCHEMA = """
CREATE TABLE keeper (id INTEGER PRIMARY KEY, email TEXT NOT NULL UNIQUE, name TEXT NOT NULL, mentor INTEGER REFERENCES keeper);
CREATE TABLE hive (code TEXT PRIMARY KEY, owner INTEGER REFERENCES keeper, kg INTEGER);
CREATE TABLE visit (id INTEGER PRIMARY KEY, hive TEXT NOT NULL REFERENCES hive, day INTEGER NOT NULL, visitor INTEGER NOT NULL REFERENCES keeper,
    UNIQUE (hive, day));
"""
FIND = '{{ from = "{}", find = {{ in = "keeper", where = "email", take = "id" }} }}'
EMAILS, CODES = "abcdef", "pqrst"
Sheet = list[list[str]]
State = dict[str, dict]


pytestmark = pytest.mark.by_chance(share=2)


def job_text(order: list[str]) -> str:
    tables = {
        "keeper": f'key = "email"\n[table.columns]\nemail = "Email"\nname = "Name"\nmentor = {FIND.format("Mentor")}',
        "hive": f'[table.columns]\ncode = "Hive"\nowner = {FIND.format("Owner")}\nkg = "Kg"',
        "visit": f'key = ["hive", "day"]\n[table.columns]\nhive = "Hive"\nday = "Day"\nvisitor = {FIND.format("By")}',
    }
    return "".join(f'[[table]]\nrows = "{name}.csv"\nat = "coop.db#{name}"\n{tables[name]}\n' for name in order)


def made(chance: random.Random) -> tuple[State, dict[str, Sheet]]:
    """What is there, by names; and the sheets, whose rows repeat and contradict each other."""
    some = lambda values, blank=True: chance.choice([*values, *([""] if blank else [])])  # noqa: E731
    there = chance.sample(EMAILS, chance.randint(0, 3))
    keepers = {email: (email.upper(), chance.choice([None, *there])) for email in there}
    hives = {
        code: (chance.choice([None, *there]), chance.randint(0, 9))
        for code in chance.sample(CODES, chance.randint(0, 3))
    }
    visits = {(code, 1): chance.choice(there) for code in hives if there}
    sheets = {
        "keeper": [[some(EMAILS), some(["A", "B"]), some([*EMAILS, "z"])] for _ in range(chance.randint(0, 7))],
        "hive": [[some(CODES), some([*EMAILS, "z"]), some(["1", "2", "x"])] for _ in range(chance.randint(0, 7))],
        "visit": [[some(CODES), some(["1", "2"]), some([*EMAILS, "z"])] for _ in range(chance.randint(0, 7))],
    }  # fmt: skip
    for name, rows in sheets.items():
        sheets[name] = rows + chance.sample(rows, min(len(rows), chance.randint(0, 2)))
    return {"keeper": keepers, "hive": hives, "visit": visits}, sheets


def fates(rows: Sheet, key: int, flawed: list[bool]) -> list[str]:
    """Rows of one key: those that say the same count once, those that don't are out; as are those without a key."""
    found = ["bad" if one or not all(row[:key]) else "good" for row, one in zip(rows, flawed, strict=True)]
    for at, row in enumerate(rows):
        others = [
            n for n, other in enumerate(rows) if other[:key] == row[:key] and found[n] in ("good", "spare", "torn")
        ]
        if found[at] == "good":
            if any(rows[n] != row for n in others):
                for n in others:
                    found[n] = "torn"
            else:
                for n in others[1:]:
                    found[n] = "spare"
    return found


def loaded(state: State, sheets: dict[str, Sheet]) -> tuple[State, dict[str, int]]:
    """The naive model: what is there afterwards, and how many rows of each table are rejected."""
    keepers, hives, visits = (dict(state[name]) for name in ("keeper", "hive", "visit"))
    rows = sheets["keeper"]
    known = set(keepers) | {row[0] for row in rows}
    fate = fates(rows, 1, [bool(row[2]) and row[2] not in known for row in rows])
    fate = [
        "bad" if one == "good" and row[0] not in keepers and not row[1] else one
        for row, one in zip(rows, fate, strict=True)
    ]
    # Who is out by the rows alone is known at once; who is out because of another row, only after the same key was looked at.
    seen = set(keepers) | {row[0] for row, one in zip(rows, fate, strict=True) if one == "good"}
    while True:  # who refers to a new keeper that is not loaded, is not loaded
        new = {row[0] for row, one in zip(rows, fate, strict=True) if one == "good" and row[0] not in keepers}
        lost = [n for n, row in enumerate(rows) if fate[n] == "good" and row[2] and row[2] not in set(keepers) | new]
        if not lost:
            break
        for n in lost:
            fate[n] = "bad"
    rejected = {"keeper": rejects(rows, fate, 1)}
    for row, one in zip(rows, fate, strict=True):
        if one == "good":
            name, mentor = keepers.get(row[0], (None, None))
            keepers[row[0]] = (row[1] or name, row[2] or mentor)
    rows = sheets["hive"]
    fate = fates(rows, 1, [(bool(row[1]) and row[1] not in seen) or row[2] == "x" for row in rows])
    fate = [
        "bad" if one == "good" and row[1] and row[1] not in keepers else one
        for row, one in zip(rows, fate, strict=True)
    ]
    rejected["hive"] = rejects(rows, fate, 1)
    for row, one in zip(rows, fate, strict=True):
        if one == "good":
            owner, kg = hives.get(row[0], (None, None))
            hives[row[0]] = (row[1] or owner, int(row[2]) if row[2] else kg)
    rows = sheets["visit"]
    fate = fates(rows, 2, [bool(row[2]) and row[2] not in seen for row in rows])
    fate = [
        "bad"
        if one == "good"
        and (
            row[0] not in hives
            or (row[2] and row[2] not in keepers)
            or (not row[2] and (row[0], int(row[1])) not in visits)
        )
        else one
        for row, one in zip(rows, fate, strict=True)
    ]
    rejected["visit"] = rejects(rows, fate, 2)
    for row, one in zip(rows, fate, strict=True):
        if one == "good" and row[2]:
            visits[row[0], int(row[1])] = row[2]
    return {"keeper": keepers, "hive": hives, "visit": visits}, rejected


def rejects(rows: Sheet, fate: list[str], key: int) -> int:
    """How many are rejected: who says the same as a rejected row is rejected with it."""
    out = [n for n, one in enumerate(fate) if one in ("bad", "torn")]
    shared = Counter(tuple(rows[n]) for n in out)
    return len(out) + sum(fate[n] == "spare" and tuple(row) in shared for n, row in enumerate(rows))


def stored(path: Path) -> tuple[State, Any]:
    """What is there by names; and to the letter."""
    with closing(sqlite3.connect(path)) as c:
        keepers = c.execute(
            "SELECT k.email, k.name, m.email FROM keeper k LEFT JOIN keeper m ON m.id = k.mentor"
        ).fetchall()
        hives = c.execute("SELECT h.code, k.email, h.kg FROM hive h LEFT JOIN keeper k ON k.id = h.owner").fetchall()
        visits = c.execute("SELECT v.hive, v.day, k.email FROM visit v JOIN keeper k ON k.id = v.visitor").fetchall()
        whole = [c.execute(f"SELECT * FROM {name} ORDER BY 1").fetchall() for name in ("keeper", "hive", "visit")]
    state = {
        "keeper": {email: (name, mentor) for email, name, mentor in keepers},
        "hive": {code: (owner, kg) for code, owner, kg in hives},
        "visit": {(hive, day): by for hive, day, by in visits},
    }
    return state, whole


def make(path: Path, state: State) -> None:
    with closing(sqlite3.connect(path)) as c:
        c.executescript(SCHEMA)
        numbers = {email: number for number, email in enumerate(state["keeper"], start=3)}
        for email, (name, mentor) in state["keeper"].items():
            c.execute("INSERT INTO keeper VALUES (?, ?, ?, ?)", (numbers[email], email, name, numbers.get(mentor)))
        c.executemany(
            "INSERT INTO hive VALUES (?, ?, ?)",
            [(code, numbers.get(owner), kg) for code, (owner, kg) in state["hive"].items()],
        )
        c.executemany(
            "INSERT INTO visit (hive, day, visitor) VALUES (?, ?, ?)",
            [(*key, numbers[by]) for key, by in state["visit"].items()],
        )
        c.commit()


@pytest.mark.parametrize("part", PARTS)
def test_a_family_is_loaded_as_the_naive_model_says_and_taken_back(part, share, home):
    for number in share.of(8, 240, part):
        chance = random.Random(number)
        state, sheets = made(chance)
        with fresh_folder() as folder:
            path = folder
            make(path / "coop.db", state)
            titles = {
                "keeper": ["Email", "Name", "Mentor"],
                "hive": ["Hive", "Owner", "Kg"],
                "visit": ["Hive", "Day", "By"],
            }
            for name, rows in sheets.items():
                text_file(path / f"{name}.csv", [[*titles[name], "n"], *([*row, n] for n, row in enumerate(rows))])
            (path / "job.toml").write_text(job_text(chance.sample(list(titles), 3)))
            wanted, rejected = loaded(state, sheets)
            _, start = stored(path / "coop.db")
            asked = {"job": path / "job.toml", "rejects": False}
            preview = tidymerge.preview(**asked)
            assert stored(path / "coop.db")[1] == start, number
            done = tidymerge.load(**asked, limits=NO_LIMITS, accept_warnings=True, expect=preview.fingerprint)
            found, whole = stored(path / "coop.db")
            assert found == wanted, (number, sheets, state)
            assert {table.called: table.rows.rejected for table in done.tables} == rejected, (number, sheets, state)
            assert [table.rows for table in preview.tables] == [table.rows for table in done.tables], number
            again = tidymerge.load(**asked, limits=NO_LIMITS, accept_warnings=True)
            assert again.changed == 0, number
            if done.changed:
                back = tidymerge.undo(done.run)
                assert stored(path / "coop.db")[1] == start, number
                tidymerge.undo(back.run)
                assert stored(path / "coop.db")[1] == whole, number
