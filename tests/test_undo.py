"""The way back: a load and its undo leave every column as it was, and nobody else's work is ever overwritten."""

import csv
import json
import sqlite3
import time
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import tidymerge
from chance import PROPERTY, fresh_folder, some
from conftest import HIVES, NO_LIMITS, database, stored, text_file
from strategies import SHEET_ROWS, TABLE_ROWS, any_text
from test_meaning import HEADER, RULES, TABLE, job_text

AS_STORED = ", ".join(f"typeof({name}), quote({name})" for name in ("code", "no", "kg", "seen", "note", "other"))


def exactly(path: Path) -> list[tuple]:
    """Every value of the table with its storage class, as SQLite itself would write it down."""
    with closing(sqlite3.connect(path)) as connection, connection:
        return connection.execute(f"SELECT {AS_STORED} FROM hives ORDER BY code, no").fetchall()


@settings(PROPERTY, max_examples=some(120))
@given(SHEET_ROWS, TABLE_ROWS, RULES)
def test_load_then_undo_gives_the_table_that_was_and_undo_of_that_the_loaded_one(rows, table, rules):
    with fresh_folder() as folder:
        database(folder / "coop.db", TABLE, rows=table)
        text_file(folder / "sheet.csv", [HEADER, *rows])
        (folder / "job.toml").write_text(job_text(rules), "utf-8")
        start = exactly(folder / "coop.db")
        done = tidymerge.load(job=folder / "job.toml", accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS)
        loaded = exactly(folder / "coop.db")
        if not done.changed:
            assert loaded == start
            return
        undone = tidymerge.undo(done.run)
        assert exactly(folder / "coop.db") == start
        assert (undone.rows.updated, undone.rows.removed, undone.rows.rejected) == (
            done.rows.updated,
            done.rows.inserted,
            0,
        )
        assert tidymerge.undo(done.run).changed == 0  # a second undo has nothing left to do
        tidymerge.undo(undone.run)
        assert exactly(folder / "coop.db") == loaded


CELL = st.one_of(
    st.none(), st.integers(-(2**63), 2**63 - 1), st.floats(allow_nan=False), st.binary(max_size=4),
    any_text(5),
)  # fmt: skip


@settings(PROPERTY, max_examples=some(80))
@given(st.lists(st.tuples(CELL, CELL, CELL, CELL), min_size=1, max_size=6), st.data())
def test_whatever_sqlite_stores_in_a_column_comes_back_as_it_was(values, data):
    """Any storage class in any column: what its declared type can't hold, a load may replace, and undo must restore."""
    with fresh_folder() as folder:
        script = "CREATE TABLE hives (k INTEGER PRIMARY KEY, a DECIMAL(9,2), b, c TIMESTAMP, d TEXT)"
        rows = [(at, *cells) for at, cells in enumerate(values)]
        target = database(folder / "coop.db", script, rows=rows)
        news = [
            [at, *data.draw(st.tuples(*[st.sampled_from(["", "1", "2026-05-04"])] * 4))] for at in range(len(rows) + 1)
        ]
        query = "SELECT " + ", ".join(f"typeof({c}), quote({c})" for c in "kabcd") + " FROM hives ORDER BY k"
        with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
            start = connection.execute(query).fetchall()
        incoming = text_file(folder / "in.csv", [["k", "a", "b", "c", "d"], *news])
        done = tidymerge.load(incoming, target, accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS)
        if done.changed:
            tidymerge.undo(done.run)
        with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
            assert connection.execute(query).fetchall() == start


SHEET = [
    ["apiary_code", "hive_no", "queen_colour", "honey_kg"],
    ["L01", 1, "red", 99],
    ["L01", 2, "yellow", 8],
    ["N09", 4, "blue", 1],
]


@pytest.fixture
def loaded(run, hives, folder):
    """The name of a run that updated two hives and inserted one."""
    return run("load", text_file(folder / "in.csv", SHEET), "--into", hives, "--yes", "--json").receipt["run"]


def change(folder, statement):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute(statement)


def test_what_was_changed_since_is_listed_with_both_values_and_nothing_is_undone(run, hives, folder, loaded):
    change(folder, "UPDATE hives SET honey_kg = 7 WHERE hive_no = 2 AND apiary_code = 'L01'")
    change(folder, "UPDATE hives SET notes = 'mine' WHERE apiary_code = 'N09'")  # in a column that the load left blank
    other = text_file(folder / "next.csv", [SHEET[0], ["L01", 1, "green", ""]])
    later = run("load", other, "--into", hives, "--yes", "--json").receipt["run"]
    change(folder, HIVES.replace("hives", "sold"))  # a table with the same key, into which the same value was loaded
    run(
        "load",
        text_file(folder / "sold.csv", [["apiary_code", "hive_no", "honey_kg"], ["L01", 2, 7]]),
        "--into",
        "coop.db#sold",
        "--yes",
    )
    now = stored(hives)
    ended = run("undo", loaded, "--conflicts", "conflicts.csv", "--json")
    assert (ended.status, ended.receipt["state"], stored(hives)) == (4, "stopped", now)
    assert "--rest" in ended.err
    found = {(*conflict["key"], conflict["column"]): conflict for conflict in ended.receipt["conflicts"]}
    assert [(key, conflict["wrote"], conflict["now"], conflict["by"]) for key, conflict in sorted(found.items())] == [
        (("L01", "1", "queen_colour"), "red", "green", later),
        (("L01", "2", "honey_kg"), "8", "7", None),
        (("N09", "4", "notes"), None, "mine", None),
    ]
    with (folder / "conflicts.csv").open(encoding="utf-8-sig", newline="") as file:
        assert len(list(csv.reader(file))) == 4
    assert "--rest" in run("undo", loaded).err
    rest = run("undo", loaded, "--rest", "--json")
    assert (rest.status, rest.receipt["rows"]["rejected"], rest.receipt["rows"]["updated"]) == (3, 3, 0)
    change(folder, "UPDATE hives SET honey_kg = 8 WHERE hive_no = 2 AND apiary_code = 'L01'")
    assert run("undo", loaded, "--rest", "--json").receipt["rows"]["updated"] == 1
    assert stored(hives)[1][3] == 7.25


def test_a_record_that_is_gone_or_doubled_is_no_ones_to_put_back(run, folder):
    target = database(folder / "coop.db", "CREATE TABLE hives (k TEXT, n INTEGER)", rows=[("a", 1), ("b", 1), ("c", 1)])
    sheet = text_file(folder / "in.csv", [["k", "n"], ["a", 2], ["b", 2], ["c", 2]])
    loaded = run("load", sheet, "--into", target, "--key", "k", "--yes", "--json").receipt["run"]
    change(folder, "DELETE FROM hives WHERE k = 'a'")
    change(folder, "INSERT INTO hives VALUES ('b', 2)")
    ended = run("undo", loaded, "--rest", "--json")
    assert sorted(conflict["reason"] for conflict in ended.receipt["conflicts"]) == ["gone since", "several records"]
    assert stored(target) == [(b"b", 2), (b"b", 2), (b"c", 1)]


def test_all_that_cannot_be_put_back_is_in_the_file_under_the_jobs_key(run, folder):
    """More than a receipt lists; found by the primary key, shown by the key that the job used."""
    rows = [(at, "A", at, 1) for at in range(1200)]
    target = database(
        folder / "coop.db", "CREATE TABLE hives (id INTEGER PRIMARY KEY, code TEXT, no INTEGER, kg INTEGER)", rows=rows
    )
    sheet = text_file(folder / "in.csv", [["code", "no", "kg"], *(["A", at, 2] for at in range(1200))])
    keys = ("--key", "code", "--key", "no", "--yes", "--most-updated", "1200")
    loaded = run("load", sheet, "--into", target, *keys, "--json").receipt["run"]
    change(folder, "UPDATE hives SET kg = 3")
    preview = run("undo", loaded, "--preview", "--conflicts", "all.csv", "--json")
    assert (preview.status, preview.receipt["rows"]["rejected"], len(preview.receipt["conflicts"])) == (3, 1200, 1000)
    with (folder / "all.csv").open(encoding="utf-8-sig", newline="") as file:
        lines = list(csv.DictReader(file))
    assert len(lines) == 1200
    assert {(line["code"], line["undo: wrote"], line["undo: now"]) for line in lines} == {("A", "2", "3")}
    assert sorted(int(line["no"]) for line in lines) == list(range(1200))
    assert "and more." in run("undo", loaded).out


def test_what_a_constraint_forbids_is_listed_with_the_value_that_it_forbids(run, folder):
    schema = "CREATE TABLE hives (k INTEGER PRIMARY KEY, mail TEXT UNIQUE)"
    target = database(folder / "coop.db", schema, rows=[(1, "a"), (2, "b")])
    sheet = text_file(folder / "in.csv", [["k", "mail"], [1, "c"], [2, "d"]])
    loaded = run("load", sheet, "--into", target, "--yes", "--json").receipt["run"]
    change(folder, "INSERT INTO hives VALUES (9, 'a')")
    stopped = run("undo", loaded, "--json")
    (conflict,) = stopped.receipt["conflicts"]
    assert (conflict["key"], conflict["reason"], conflict["column"], conflict["now"]) == (
        ["1"],
        "not unique",
        "mail",
        "a",
    )
    assert [cell["value"] for cell in stopped.receipt["rejects"]["first"]] == ["a"]
    assert "not unique: a, expected a value that no other record has" in " ".join(run("undo", loaded).out.split())


def test_undo_shows_a_preview_and_goes_ahead_only_as_expected(run, hives, folder, loaded):
    before = stored(hives)
    preview = run("undo", loaded, "--preview", "--json").receipt
    assert (preview["state"], preview["rows"]["updated"], preview["rows"]["removed"], stored(hives)) == (
        "previewed",
        2,
        1,
        before,
    )
    assert run("undo", loaded, "--expect", "0" * 16).status == 4
    done = run("undo", loaded[:-2], "--expect", preview["fingerprint"])
    assert done.status == 0
    assert "Committed. All 2 written records read back equal, 1 removed record is gone." in " ".join(done.out.split())
    listed = json.loads(run("runs", "--json").out)["runs"]
    assert [(one["state"], one["undoes"], bool(one["undone_by"])) for one in listed] == [
        ("undone", loaded, False), ("stopped", loaded, False), ("loaded", None, True),
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("prepare", "words"),
    [
        ("ALTER TABLE hives DROP COLUMN honey_kg", "no longer has the column honey_kg"),
        ("DROP TABLE hives", "no table 'hives'"),
        ("DELETE FROM hives", "2 of 3 records"),
    ],
)
def test_what_makes_an_undo_impossible_is_said(run, hives, folder, loaded, prepare, words):
    change(folder, prepare)
    ended = run("undo", loaded)
    assert ended.status in (1, 2, 4)
    assert words in ended.err


@pytest.mark.parametrize(
    ("answer", "status", "words"), [(b"y\n", 0, "Committed. All 2"), (b"n\n", 4, "Nothing was undone.")]
)
def test_on_a_terminal_undo_shows_the_preview_and_asks(on_terminal, hives, loaded, answer, status, words):
    before = stored(hives)
    shown, ended = on_terminal("undo", loaded, answer=answer)
    assert ended == status, shown
    for said in ("Preview of undoing", "red", "white", "Put back 2 and remove again 1 of 4 records in", words):
        assert said in shown, said
    assert (stored(hives) == before) == bool(status)


def test_on_a_terminal_a_conflict_or_a_limit_is_shown_and_nothing_is_asked(on_terminal, hives, folder, loaded):
    change(folder, "UPDATE hives SET honey_kg = 7 WHERE hive_no = 2 AND apiary_code = 'L01'")
    shown, ended = on_terminal("undo", loaded)
    assert (ended, "[y/N]" in shown, "changed since" in shown, shown.count("--rest")) == (4, False, True, 1), shown
    shown, ended = on_terminal("undo", loaded, "--rest", answer=b"y\n")
    assert (ended, "Put back 1 and remove again 1 of 4 records in" in shown) == (3, True), shown
    shown, ended = on_terminal("load", "in.csv", "--into", hives, "--most-updated", "0")
    assert (ended, "[y/N]" in shown, "more than the limit of 0" in shown) == (4, False, True), shown


def test_from_python_a_preview_writes_nothing_and_what_is_in_the_way_is_in_the_receipt(hives, folder, loaded):
    before = stored(hives)
    preview = tidymerge.undo(loaded, preview=True)
    assert (preview.undoes, preview.state, preview.changed, stored(hives)) == (loaded, "previewed", 3, before)
    change(folder, "UPDATE hives SET honey_kg = 7 WHERE hive_no = 2 AND apiary_code = 'L01'")
    with pytest.raises(tidymerge.Stopped) as stopped:
        tidymerge.undo(loaded, expect=tidymerge.undo(loaded, preview=True).fingerprint)
    (conflict,) = stopped.value.receipt.conflicts
    assert (conflict.key, conflict.column, conflict.wrote, conflict.now, conflict.row) == (
        ("L01", "2"),
        "honey_kg",
        "8",
        "7",
        3,
    )
    rest = tidymerge.undo(loaded, rest=True)
    assert (rest.state, rest.tables[0].read_back, rest.tables[0].rows_after, rest.verified) == ("undone", 1, 3, True)


def test_columns_that_came_since_are_left_to_their_default_and_seen_when_filled(run, hives, folder, loaded):
    change(folder, "ALTER TABLE hives ADD COLUMN chip INTEGER DEFAULT 5")
    undone = run("undo", loaded, "--json").receipt["run"]
    change(folder, "ALTER TABLE hives ADD COLUMN late TEXT")
    again = run("undo", undone, "--json").receipt["run"]
    assert [row[6:] for row in stored(hives)] == [(5, None)] * 4
    change(folder, "ALTER TABLE hives ADD COLUMN seen TEXT")
    change(folder, "UPDATE hives SET seen = 'mine' WHERE apiary_code = 'N09'")
    (conflict,) = run("undo", loaded, "--json").receipt["conflicts"]
    assert (conflict["column"], conflict["now"]) == ("seen", "mine")
    assert run("undo", again).status == 4  # that run had put the record there again


def test_a_target_that_has_moved_can_be_named(run, hives, folder, loaded):
    before = (folder / "coop.db").rename(folder / "elsewhere.db")
    assert "coop.db" in run("undo", loaded).err
    assert run("undo", loaded, "--into", f"{before}#hives").status == 0


def test_runs_that_wrote_nothing_or_are_not_there_are_refused(run, hives, folder, loaded):
    again = run("load", "in.csv", "--into", hives, "--json").receipt["run"]
    assert "found nothing to change" in run("undo", again).err
    assert run("undo", "2").status == 2  # every run begins so
    assert "no run 'x'" in run("undo", "x").err


def test_a_trigger_that_brings_a_deleted_record_back_is_noticed_although_all_counts_are_right(folder, hives):
    """It takes another one in its place: only looking for the removed records themselves tells."""
    text_file(folder / "in.csv", [["apiary_code", "hive_no"], ["N09", 1]])
    done = tidymerge.load("in.csv", hives, accept_warnings=True)
    change(
        folder,
        "CREATE TRIGGER back AFTER DELETE ON hives WHEN old.apiary_code = 'N09' BEGIN "
        "INSERT INTO hives (apiary_code, hive_no) VALUES ('N09', 1); DELETE FROM hives WHERE apiary_code = 'M02'; END",
    )
    before = stored(hives)
    with pytest.raises(tidymerge.ProofFailed, match="1 of the 1 removed records are still there"):
        tidymerge.undo(done.run)
    assert stored(hives) == before


def test_a_run_that_is_still_at_work_is_not_undone(run, folder, hives, programs):
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], ["L01", 1, "red"]])
    waiting = (
        "import time\nfrom pathlib import Path\nfrom tidymerge.history import folder\nfrom tidymerge.cli.app import main\n"
        "seal = folder.FolderRecording.seal\ndef sealed(*a):\n    seal(*a)\n    Path('sealed').touch()\n"
        "    while not Path('go').exists():\n        time.sleep(0.02)\nfolder.FolderRecording.seal = sealed\nmain()"
    )
    running = programs.start(["load", "in.csv", "--into", hives, "--yes"], folder, script=waiting)
    while not (folder / "sealed").exists():
        time.sleep(0.02)
    refused = run("undo", "last")
    (folder / "go").touch()
    assert running.wait() == 0
    assert (refused.status, "is still running" in refused.err) == (2, True), refused.err
    assert run("undo", "last", "--yes").status == 0
