"""Last year's file is noticed, and next week's is not."""

import json
import shutil
import sqlite3
from contextlib import closing

import pytest

from conftest import database, text_file

TABLE = "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, seen DATE)"


@pytest.fixture
def load(run, folder):
    target = database(folder / "t.db", TABLE, "t", [(1, 0, None), (2, 0, None)])

    def load(name, n, seen, *options):
        text_file(folder / name, [["k", "n", "seen"], [1, n, seen], [2, n, ""]])
        return run("load", name, "--into", target, "--json", *options)

    return load


def test_an_older_file_is_a_warning_and_a_newer_is_not(run, load, folder):
    assert load("week31.csv", 1, "2026-07-29").status == 0
    assert load("week32.csv", 2, "2026-08-05").status == 0
    old = load("week30.csv", 3, "2026-07-22")
    (warning,) = old.receipt["warnings"]
    assert (old.status, "The rows are older than those of week32.csv" in warning) == (4, True)
    assert "the latest seen is 2026-07-22, and was 2026-08-05 there" in warning
    preview = run("preview", "week30.csv", "--into", f"{folder}/t.db#t", "--json").receipt
    assert preview["warnings"] == [warning]
    assert load("north.csv", 4, "2026-07-22").status == 0  # another kind of file
    assert load("week33.csv", 5, "2026-08-05").status == 0
    assert run("undo", "last").status == 0
    assert load("week34.csv", 6, "2026-08-05", "--yes").status == 0


def test_a_file_that_was_followed_by_another_is_a_warning(run, load, folder):
    """Also where it has no dates; the same file again, or one whose follower was taken back, is none."""
    assert load("list1.csv", 1, "").status == 0
    assert load("list2.csv", 2, "").status == 0
    again = load("list1.csv", 1, "")
    assert again.status == 4
    assert "This very file was loaded on" in again.receipt["warnings"][0]
    assert "since then list2.csv was loaded" in again.receipt["warnings"][0]
    shutil.copy(folder / "list2.csv", folder / "list3.csv")
    assert load("list3.csv", 2, "").status == 0  # nothing to change
    loaded = [one["run"] for one in json.loads(run("runs", "--json").out)["runs"] if one["state"] == "loaded"]
    assert run("undo", loaded[1]).status == 0
    assert load("list1.csv", 1, "").status == 0


def test_a_column_that_went_since_the_last_load_stops_the_next_one(run, folder):
    """It is looked at against the last load that kept the structure, though the last run was stopped."""
    incoming = text_file(folder / "in.csv", [["id", "a", "b"], [1, "x", "y"]])
    into = ("load", incoming, "--into", f"{folder}/t.db#t")
    with closing(sqlite3.connect(folder / "t.db")) as made:
        made.execute("CREATE TABLE t (id INTEGER PRIMARY KEY, a VARCHAR(9), b VARCHAR(9))")
    assert run(*into, "--yes").status == 0
    with closing(sqlite3.connect(folder / "t.db")) as changed:
        changed.execute("ALTER TABLE t DROP COLUMN b")
    stopped = run(*into, "--json")
    assert (stopped.status, [one.rpartition(": ")[2] for one in stopped.receipt["warnings"]]) == (
        4,
        ["column b is gone."],
    )
    told = json.loads(run("look", "t.db#t", "--since", "last", "--json").out)
    assert [(one["part"], one["name"], one["after"]) for one in told["differences"]] == [("column", "b", None)]
    assert "column  b     VARCHAR(9)  -" in run("look", "t.db#t", "--since", "last").out
    early = run("look", "t.db#t", "--since", "2h")
    assert (early.status, stopped.receipt["run"] in early.err, "the first that did is" in early.err) == (2, False, True)
    assert "column  b     text   -" in run("look", "t.db#t", "--against", "in.csv").out
    assert run(*into, "--yes").status == 0
    assert run(*into).status == 0
