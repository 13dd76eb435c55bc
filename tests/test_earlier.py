"""Last year's file is noticed, and next week's is not."""

import json
import shutil

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
    assert run("undo", "last").status in (0, 2)  # the stopped run is the last
    shutil.copy(folder / "list2.csv", folder / "list3.csv")
    assert load("list3.csv", 2, "").status == 0  # nothing to change
    loaded = [one["run"] for one in json.loads(run("runs", "--json").out)["runs"] if one["state"] == "loaded"]
    assert run("undo", loaded[1]).status == 0
    assert load("list1.csv", 1, "").status == 0
