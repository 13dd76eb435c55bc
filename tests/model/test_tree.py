"""Records that go with all that refers to them, made by chance: who goes, and that the undo brings back just those."""

import random
import sqlite3
import tempfile
from pathlib import Path

import pytest

import tidymerge
from conftest import NO_LIMITS
from strategies import LONG

NUMBER, STEP = (400 if LONG else 10), 10
SCHEMA = """
CREATE TABLE keeper (id INTEGER PRIMARY KEY, mentor INTEGER REFERENCES keeper, friend INTEGER REFERENCES keeper (id));
CREATE TABLE hive (code TEXT COLLATE NOCASE, no INTEGER, owner INTEGER REFERENCES keeper ON DELETE CASCADE, PRIMARY KEY (code, no));
CREATE TABLE seen (n INTEGER PRIMARY KEY, code TEXT, no INTEGER, who INTEGER REFERENCES keeper ON DELETE SET NULL,
    again INTEGER REFERENCES seen, FOREIGN KEY (code, no) REFERENCES hive (code, no));
"""
REFERS = {  # table: by which columns, to which table, and its columns
    "keeper": [((1,), "keeper", (0,)), ((2,), "keeper", (0,))],
    "hive": [((2,), "keeper", (0,))],
    "seen": [((3,), "keeper", (0,)), ((4,), "seen", (0,)), ((1, 2), "hive", (0, 1))],
}
WIDTHS = {"keeper": 3, "hive": 3, "seen": 5}
Tables = dict[str, list[tuple]]


def made(chance: random.Random) -> Tables:
    """Tables in which all that is referred to is there; circles and records that are their own parents, too."""
    keepers = list(range(chance.randint(1, 6)))
    maybe = lambda some: chance.choice([None, *some]) if some else None  # noqa: E731
    hives = [(chance.choice("ab"), no, maybe(keepers)) for no in range(chance.randint(0, 5))]
    count = chance.randint(0, 8)
    seen = []
    for n in range(count):
        code, no = chance.choice([(None, None), (None, 1), *(hive[:2] for hive in hives)])
        code = code and chance.choice([code, code.upper()])  # equal by the collation of what is referred to
        seen.append((n, code, no, maybe(keepers), maybe(range(count))))
    return {"keeper": [(k, maybe(keepers), maybe(keepers)) for k in keepers], "hive": hives, "seen": seen}


def key(values: tuple) -> tuple:
    return tuple(value.lower() if isinstance(value, str) else value for value in values)


def tree(tables: Tables, gone: set) -> set:
    """What goes: (table, place in it), until nothing more refers to any of it."""
    while True:
        more = set()
        for name, refers in REFERS.items():
            for at, record in enumerate(tables[name]):
                for own, other, theirs in refers:
                    wanted = key(tuple(record[column] for column in own))
                    referred = {
                        key(tuple(tables[other][one][c] for c in theirs)) for table, one in gone if table == other
                    }
                    if None not in wanted and wanted in referred:
                        more.add((name, at))
        if more <= gone:
            return gone
        gone |= more


def stored(path: Path) -> Tables:
    connection = sqlite3.connect(path)
    found = {name: connection.execute(f"SELECT * FROM {name} ORDER BY 1, 2").fetchall() for name in REFERS}
    connection.close()
    return found


@pytest.mark.parametrize("first", range(0, NUMBER, STEP))
def test_all_that_refers_goes_and_comes_back(first, home):
    for number in range(first, first + STEP):
        chance = random.Random(number)
        tables = made(chance)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "coop.db"
            connection = sqlite3.connect(path)
            connection.executescript(SCHEMA)
            for name, records in tables.items():
                connection.executemany(f"INSERT INTO {name} VALUES ({', '.join('?' * WIDTHS[name])})", records)
            connection.commit()
            connection.close()
            start = stored(path)
            root = chance.choice(["keeper", "keeper", "hive"])
            column = 0 if root == "keeper" else 1
            picked = chance.sample(range(8), 3)
            gone = tree(tables, {(root, at) for at, record in enumerate(tables[root]) if record[column] in picked})
            asked = {
                "where": f"{('id', 'no')[column]} in ({', '.join(map(str, picked))})", "with_referring": True, "limits": NO_LIMITS,
            }  # fmt: skip
            preview = tidymerge.remove(f"{path}#{root}", **asked, preview=True)
            assert stored(path) == start, number
            done = tidymerge.remove(f"{path}#{root}", **asked, expect=preview.fingerprint)
            left = {
                name: sorted((r for at, r in enumerate(records) if (name, at) not in gone), key=str)
                for name, records in tables.items()
            }
            assert {name: sorted(records, key=str) for name, records in stored(path).items()} == left, number
            assert done.rows.removed == len(gone), number
            if gone:
                back = tidymerge.undo(done.run)
                assert stored(path) == start, number
                tidymerge.undo(back.run)
                assert {name: sorted(records, key=str) for name, records in stored(path).items()} == left, number
