"""Rows and records that share keys, made by chance: each row has a record of its own, and finds it again."""

import random
import sqlite3
from contextlib import closing
from itertools import permutations
from pathlib import Path
from typing import Any

import pytest

import tidymerge
from chance import PARTS, fresh_folder
from conftest import NO_LIMITS, text_file
from tidymerge.history import changes

Record = tuple[str, int | None, str | None]


def stands(row: Record, record: Record) -> bool:
    """Whether a record holds all that a row says: a blank says nothing."""
    return row[0] == record[0] and all(said is None or said == held for said, held in zip(row, record, strict=True))


def most_unchanged(rows: list[Record], records: list[Record]) -> int:
    """How many rows can find a record that holds what they say, each one of its own: by trying all ways."""
    rows, spare = rows[:], records + [("", None, None)] * len(rows)
    found = (sum(stands(*pair) for pair in zip(rows, some, strict=True)) for some in permutations(spare, len(rows)))
    return max(found, default=0)


class Csv:
    def __init__(self, folder: Path, records: list[Record]) -> None:
        self.address = text_file(
            folder / "t.csv", [["k", "n", "a"], *([k, "" if n is None else n, a or ""] for k, n, a in records)]
        )

    def records(self) -> list[Record]:
        lines = [line.split(",") for line in Path(self.address).read_text("utf-8").splitlines()[1:]]
        return [(k, int(n) if n else None, a or None) for k, n, a in lines]


class Sqlite:
    def __init__(self, folder: Path, records: list[Record], first: str = "") -> None:
        self.path = folder / "t.db"
        self.address = f"{self.path}#t"
        with closing(sqlite3.connect(self.path)) as connection, connection:
            connection.execute(f"CREATE TABLE t ({first}k TEXT, n INTEGER, a TEXT)")
            connection.executemany("INSERT INTO t (k, n, a) VALUES (?, ?, ?)", records)
        connection.close()

    def records(self) -> list[Record]:
        connection = sqlite3.connect(self.path)
        found = connection.execute("SELECT k, n, a FROM t").fetchall()
        connection.close()
        return found


class Numbered(Sqlite):
    def __init__(self, folder: Path, records: list[Record]) -> None:
        super().__init__(folder, records, "id INTEGER PRIMARY KEY, ")


@pytest.mark.by_chance(share=2)
@pytest.mark.parametrize("part", PARTS)
def test_each_row_has_a_record_of_its_own(part, share, home):
    for number in share.of(12, 1200, part):
        kind = (Csv, Sqlite, Numbered)[number % 3]
        with fresh_folder() as folder:
            check(kind, random.Random(f"keep {number}"), folder)


def check(kind: Any, chance: random.Random, folder: Path) -> None:
    def some(most: int) -> list[Record]:
        return [(chance.choice("abc"), chance.choice([None, 1, 2]), chance.choice([None, "x", "y"])) for _ in range(chance.randint(0, most))]  # fmt: skip

    records, rows = some(4), some(4)
    if kind is Csv:  # a row of nothing but a key is one
        records = records or [("z", 1, "x")]
    target = kind(folder, records)
    lines: list[Any] = [[k, "" if n is None else n, a or ""] for k, n, a in rows]
    for _ in range(chance.randint(0, 2)):  # rows that are rejected take no record from a good one
        lines.insert(chance.randint(0, len(lines)), [chance.choice("abc"), "wrong", ""])
    text_file(folder / "in.csv", [["k", "n", "a"], *lines])
    (folder / "job.toml").write_text(
        f'[incoming]\nat = "in.csv"\n[target]\nat = "{target.address}"\nkey = "k"\n'
        + ('types = { n = "integer" }\n' if kind is Csv else "")
        + '[rules]\nsame_key_twice = "keep-all"\n'
    )
    options: dict[str, Any] = {
        "job": folder / "job.toml",
        "accept_warnings": True,
        "limits": NO_LIMITS,
        "rejects": False,
    }
    preview = tidymerge.preview(job=folder / "job.toml")
    done = tidymerge.load(**options)
    assert (preview.rows, preview.fingerprint) == (done.rows, done.fingerprint)
    after = sorted(target.records(), key=str)
    unchanged = sum(
        most_unchanged([row for row in rows if row[0] == k], [record for record in records if record[0] == k])
        for k in "abc"
    )
    more = sum(max(0, sum(row[0] == k for row in rows) - sum(record[0] == k for record in records)) for k in "abc")
    said = (done.rows.rejected, done.rows.unchanged, done.rows.inserted, len(after))
    assert said == (len(lines) - len(rows), unchanged, more, len(records) + more), (records, lines, after)
    again = tidymerge.load(**options)
    assert (again.rows.unchanged, again.changed) == (len(rows), 0), (records, rows, after)
    if done.changed:
        undone = tidymerge.undo(done.run)
        assert sorted(target.records(), key=str) == sorted(records, key=str)
        tidymerge.undo(undone.run)
        assert sorted(target.records(), key=str) == after


def test_equal_records_in_several_parts_of_the_log_are_each_taken_once(home, tmp_path, monkeypatch):
    monkeypatch.setattr(changes, "_ROWS", 2)
    for kind in (Csv, Sqlite):
        target = kind(tmp_path, [("a", 1, "x"), ("b", None, None)])
        start = target.records()
        rows = text_file(tmp_path / f"{kind.__name__}.csv", [["k", "n", "a"], *[["a", 1, "x"]] * 5, ["c", 2, ""]])
        done = tidymerge.load(rows, target.address, append=True, accept_warnings=True)
        undone = tidymerge.undo(done.run)
        assert (undone.rows.removed, target.records()) == (6, start)
        assert tidymerge.undo(undone.run).rows.inserted == 6


def test_rows_that_were_appended_are_not_in_the_way_of_a_job_whose_rows_count_once(home, tmp_path):
    target = Sqlite(tmp_path, [("a", 1, "x")])
    tidymerge.load(text_file(tmp_path / "more.csv", [["k", "n"], ["b", 2]]), target.address, append=True)
    rows = text_file(tmp_path / "in.csv", [["k", "n"], ["a", 5]])
    (tmp_path / "job.toml").write_text(
        f'[target]\nat = "{target.address}"\nkey = "k"\n[columns]\nk = "k"\n'
        'n = { compute = "existing.n + incoming.n" }\n[rules]\nonce = true\n'
    )
    assert tidymerge.load(rows, job=tmp_path / "job.toml").rows.updated == 1
    with pytest.raises(tidymerge.Stopped, match="loaded before"):
        tidymerge.load(rows, job=tmp_path / "job.toml")
    assert target.records()[0] == ("a", 6, "x")
