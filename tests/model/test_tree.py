"""Records that go with all that refers to them, made by chance: who goes, and that the undo brings back just those."""

import random
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS, text_file

SCHEMA = """
CREATE TABLE keeper (id INTEGER PRIMARY KEY, mentor INTEGER REFERENCES keeper, friend INTEGER REFERENCES keeper (id),
    best INTEGER REFERENCES seen (n));
CREATE TABLE hive (code TEXT COLLATE NOCASE, no INTEGER, owner INTEGER REFERENCES keeper ON DELETE CASCADE, PRIMARY KEY (code, no));
CREATE TABLE seen (n INTEGER PRIMARY KEY, code TEXT, no INTEGER, who INTEGER REFERENCES keeper ON DELETE SET NULL,
    again INTEGER REFERENCES seen, FOREIGN KEY (code, no) REFERENCES hive (code, no));
"""
REFERS = {  # table: by which columns, to which table, and its columns
    "keeper": [((1,), "keeper", (0,)), ((2,), "keeper", (0,)), ((3,), "seen", (0,))],
    "hive": [((2,), "keeper", (0,))],
    "seen": [((3,), "keeper", (0,)), ((4,), "seen", (0,)), ((1, 2), "hive", (0, 1))],
}
WIDTHS = {"keeper": 4, "hive": 3, "seen": 5}
Tables = dict[str, list[tuple]]


pytestmark = pytest.mark.by_chance(share=2)


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
    best = range(count) if chance.random() < 0.5 else ()  # then the tables refer to each other in a circle
    return {"keeper": [(k, maybe(keepers), maybe(keepers), maybe(best)) for k in keepers], "hive": hives, "seen": seen}


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


def held(path: Path, table: str) -> list[tuple]:
    with closing(sqlite3.connect(path)) as connection:
        return connection.execute(f"SELECT * FROM {table} ORDER BY 1, 2").fetchall()


def stored(path: Path) -> Tables:
    return {name: held(path, name) for name in REFERS}


def went(tables: Tables, gone: set, name: str) -> list[tuple]:
    return sorted((record for at, record in enumerate(tables[name]) if (name, at) in gone), key=str)


@pytest.mark.parametrize("part", PARTS)
def test_all_that_refers_goes_and_comes_back(part, share, home):
    for number in share.of(4, 200, part):
        chance = random.Random(number)
        tables = made(chance)
        with fresh_folder() as folder:
            path = folder / "coop.db"
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
            asked = {"with_referring": True, "limits": NO_LIMITS}
            if number % 2:
                asked["where"] = f"{('id', 'no')[column]} in ({', '.join(map(str, picked))})"
            else:  # rows name them, one of them twice; one is not there
                names = {("keeper", 0): ["id"], ("hive", 1): ["code", "no"]}[root, column]
                rows = [r[: len(names)] for r in tables[root] if r[column] in picked]
                asked["keys"] = text_file(folder / "go.csv", [names, *rows, *rows[:1], [99] * len(names)])
            archived = chance.choice([(), ("keeper",), ("hive", "seen"), ("keeper", "hive", "seen")])
            if archived:
                asked |= {"archive": {name: f"{name}_gone" for name in archived}, "create": True}
            preview = tidymerge.remove(f"{path}#{root}", **asked, preview=True)
            assert stored(path) == start, number
            done = tidymerge.remove(f"{path}#{root}", **asked, expect=preview.fingerprint, rejects=folder / "r.csv")
            there = [row[0] for row in held(path, "(SELECT name, 1 FROM sqlite_schema)")]
            for name in archived:  # one to which nothing goes is not made
                copies = went(tables, gone, name)
                found = held(path, f"{name}_gone") if f"{name}_gone" in there else []
                assert (sorted(found, key=str), f"{name}_gone" in there) == (copies, bool(copies)), number
            left = {
                name: sorted((r for at, r in enumerate(records) if (name, at) not in gone), key=str)
                for name, records in tables.items()
            }
            assert {name: sorted(records, key=str) for name, records in stored(path).items()} == left, number
            assert done.rows.removed == len(gone), number
            if "keys" in asked:
                assert done.tables[0].rows.read == len(rows) + min(len(rows), 1) + 1, number
            if done.changed:
                back = tidymerge.undo(done.run)
                assert stored(path) == start, number
                tidymerge.undo(back.run)
                assert {name: sorted(records, key=str) for name, records in stored(path).items()} == left, number
