"""Changing and removing records from the command line: what is asked, what stops it, and how it ends."""

import sqlite3
from contextlib import closing

import pytest

from conftest import text_file

SCHEMA = """CREATE TABLE keepers (id INTEGER PRIMARY KEY, name TEXT, mentor INTEGER REFERENCES keepers (id));
INSERT INTO keepers VALUES (1, 'Alma', NULL), (2, 'Bo', 1), (3, 'Cai', NULL), (4, 'Dee', NULL);"""


@pytest.fixture
def keepers(folder):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.executescript(SCHEMA)
    return "coop.db#keepers"


def names(folder):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        return [name for (name,) in connection.execute("SELECT name FROM keepers ORDER BY id")]


def test_a_person_is_asked_with_all_numbers(on_terminal, keepers, folder):
    change = ("change", keepers, "--set", "name = upper(name)", "--where", "id <= 2")
    shown, ended = on_terminal(*change, answer=b"n\n")
    assert ("Update 2 of 4 records in coop.db#keepers?" in shown, ended, names(folder)[0]) == (True, 4, "Alma")
    shown, ended = on_terminal(*change, answer=b"y\n")
    assert (ended, names(folder)) == (0, ["ALMA", "BO", "Cai", "Dee"])
    shown, ended = on_terminal(*change)
    assert ("There is nothing to change." in shown, ended) == (True, 0)
    shown, ended = on_terminal("remove", keepers, "--where", "id = 3", answer=b"y\n")
    assert ("Remove 1 of 4 records in coop.db#keepers?" in shown, ended, names(folder)) == (
        True,
        0,
        ["ALMA", "BO", "Dee"],
    )


def test_nobody_is_asked_about_what_stops_anyway(on_terminal, keepers, folder):
    (folder / "gone.csv").write_text("id\n1\n3\n")
    for asked, said in (
        (("--where", "id in (1, 3)"), "1 of 2 records can't go"),
        (("--keys", "gone.csv"), "others refer to 1 of the records"),
        ((), "all 4 records of the table are meant"),  # and not that some of them can't go
    ):
        shown, ended = on_terminal("remove", keepers, *asked)
        assert (said in " ".join(shown.split()), "[y/N]" in shown, ended) == (True, False, 4), shown
    (folder / "gone.csv").write_text("id\n4\n9\n")
    shown, ended = on_terminal("remove", keepers, "--keys", "gone.csv", answer=b"n\n")
    assert ("Remove 1 of 4 records" in shown, ended, len(names(folder))) == (True, 4, 4)


def test_a_forgotten_condition_is_said_with_the_number_of_records(run, keepers, folder):
    change = ("change", keepers, "--set", "name = null")
    stopped = run(*change, "--json", "--strict")
    assert (stopped.status, stopped.receipt["go_ahead"]) == (4, {"every_record": True})
    assert "all 4 records of the table are meant" in stopped.err
    assert "Type --every-record." in stopped.err
    assert run(*change, "--where", "id > 9").out.count("No record meets the condition.") == 1
    done = run(*change, "--every-record", "--json").receipt
    assert (done["state"], done["request"], done["rows"]["updated"]) == (
        "changed", {"action": "change", "set": {"name": "null"}, "where": None, "keys": None, "drop": [], "with_referring": False, "archive": {}}, 4,
    )  # fmt: skip
    assert "in every record" in run("runs").out
    assert run("undo", "last").status == 0
    assert names(folder)[0] == "Alma"


def test_a_file_that_may_not_be_written_is_said_before_anything_is_asked(on_terminal, keepers):
    shown, ended = on_terminal("change", keepers, "--set", "name = 'x'", "--where", "id = 1", "--page", "coop.db")
    assert (ended, "[y/N]" in shown) == (2, False), shown


def test_a_tree_is_asked_about_table_by_table_and_drawn(on_terminal, run, keepers, folder):
    asked = ("remove", keepers, "--where", "id in (1, 3)", "--archive", "gone", "--create", "--with-referring", "--most-removed", "3")  # fmt: skip
    shown, ended = on_terminal(*asked, answer=b"n\n")
    question = "Remove 3 of 4 records in coop.db#keepers, insert 3 records in coop.db#gone?"
    assert (question in " ".join(shown.split()), ended, len(names(folder))) == (True, 4, 4), shown
    shown, ended = on_terminal(*asked, "--page", "page.html", answer=b"y\n")
    assert (ended, names(folder)) == (0, ["Dee"]), shown
    page = (folder / "page.html").read_text("utf-8")
    assert page.count("<td>gone</td>") == 4  # its counts, and its three records
    lines = run("receipt", "last", "--changes", "changes.csv")
    assert lines.status == 0
    written = (folder / "changes.csv").read_text("utf-8-sig").splitlines()
    assert written[0] == "table,outcome,row,key: id,column,before,after"
    assert {line.split(",")[0] for line in written[1:]} == {"keepers", "gone"}
    assert "keepers, inserted" not in run("runs", "--record", "3").out
    shown, ended = on_terminal("undo", "last", answer=b"y\n")
    assert (ended, names(folder)) == (0, ["Alma", "Bo", "Cai", "Dee"]), shown


@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_an_archive_in_a_file_is_new_and_only_there_when_the_records_are_gone(run, keepers, folder, ending):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute("UPDATE keepers SET name = '=1+1' WHERE id = 3")
        connection.execute(
            "CREATE TRIGGER no BEFORE DELETE ON keepers WHEN OLD.id = 4 BEGIN SELECT RAISE(ABORT, 'no'); END"
        )
    asked = ("remove", keepers, "--archive", f"gone.{ending}", "--stamp", "archived_at", "--most-removed", "4")
    assert run(*asked, "--where", "id > 2", "--preview").status == 0
    assert run(*asked, "--where", "id = 4").status == 4
    assert not (folder / f"gone.{ending}").exists()
    done = run(*asked, "--where", "id = 3", "--json").receipt
    assert f"1 record in the new file gone.{ending}." in done["notes"]
    loaded = run("preview", f"gone.{ending}", "--into", keepers, "--json").receipt
    assert (loaded["rows"]["inserted"], loaded["tables"][0]["not_loaded"]) == (1, ["archived_at"])
    again = run(*asked, "--where", "id = 2")
    assert (again.status, "is there already" in again.err) == (2, True)
    assert run("load", f"gone.{ending}", "--into", keepers, "--yes").status == 0
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        assert connection.execute("SELECT * FROM keepers WHERE id = 3").fetchall() == [
            (3, "'=1+1" if ending == "csv" else "=1+1", None)  # a spreadsheet must not run it
        ]


def test_several_tables_of_a_file_with_an_odd_name_come_back(run, keepers, folder):
    (folder / "coop.db").rename(folder / "co#op.db")
    with closing(sqlite3.connect(folder / "co#op.db")) as connection, connection:
        connection.execute('CREATE TABLE "h""i#ve" (k INTEGER PRIMARY KEY, keeper INTEGER REFERENCES keepers)')
        connection.execute('INSERT INTO "h""i#ve" VALUES (7, 3), (8, 4)')
    asked = ("remove", "co#op.db#keepers", "--where", "id = 3", "--with-referring", "--most-removed", "3", "--archive", 'h"i#ve=gone; %s', "--create")  # fmt: skip
    done = run(*asked, "--json").receipt
    assert [table["rows"]["removed"] for table in done["tables"]] == [1, 1, 0]
    with closing(sqlite3.connect(folder / "co#op.db")) as connection, connection:
        assert connection.execute('SELECT * FROM "gone; %s"').fetchall() == [(7, 3)]
    assert run("undo", "last").status == 0
    with closing(sqlite3.connect(folder / "co#op.db")) as connection, connection:
        assert connection.execute('SELECT count(*) FROM "h""i#ve"').fetchone() == (2,)


def test_nobody_is_asked_where_a_copy_stands_in_the_way(on_terminal, keepers, folder):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute("CREATE TABLE gone AS SELECT * FROM keepers WHERE id = 3")
        connection.execute("CREATE UNIQUE INDEX once ON gone (id)")
        connection.execute("UPDATE gone SET name = 'other'")
    text_file(folder / "go.csv", [["id"], [3]])
    asked = ("remove", keepers, "--keys", "go.csv", "--with-referring", "--archive", "gone", "--most-removed", "4")
    shown, ended = on_terminal(*asked)
    assert (ended, "[y/N]" in shown, len(names(folder))) == (4, False, 4), shown
    assert "can't be copied" in " ".join(shown.split())


def test_a_circle_of_tables_that_nothing_breaks_is_refused_by_name(run, folder):
    with closing(sqlite3.connect(folder / "pair.db")) as connection, connection:
        connection.executescript(
            "CREATE TABLE egg (id INTEGER PRIMARY KEY, hen INTEGER NOT NULL REFERENCES hen); INSERT INTO egg VALUES (1, 1);"
            "CREATE TABLE hen (id INTEGER PRIMARY KEY, egg INTEGER NOT NULL REFERENCES egg); INSERT INTO hen VALUES (1, 1)"
        )
    refused = run("remove", "pair.db#hen", "--where", "id = 1", "--with-referring")
    assert (refused.status, "egg and hen refer to each other in a circle" in refused.err) == (2, True), refused.err


def test_archives_that_would_get_in_each_others_way_are_refused(run, keepers, folder):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.executescript(
            "CREATE TABLE hive (id INTEGER PRIMARY KEY, keeper INTEGER REFERENCES keepers); INSERT INTO hive VALUES (1, 3);"
        )
    asked = ("remove", keepers, "--where", "id = 3", "--with-referring", "--most-removed", "4")
    for archives, words in (
        (("--archive", "gone", "--archive", "hive=gone", "--create"), "gone is there already"),
        (("--archive", "keepers"), "so it can't be the archive"),
        (("--archive", "hive"), "has no column name"),
        (("--create",), "Say which archive is made"),
        (("--archive", "both.csv", "--rejects", "both.csv"), "is an archive. Name another file"),
        (("--archive", "both.csv", "--archive", "hive=both.csv"), "both.csv is named twice"),
        (("--archive", "gone.xls/x"), "a file for it ends in .csv or .parquet"),
    ):
        refused = run(*asked, *archives)
        assert (refused.status, words in refused.err) == (2, True), refused.err
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.executescript(
            "CREATE TABLE old (id INTEGER PRIMARY KEY, name TEXT, mentor INTEGER); INSERT INTO old VALUES (3, 'Other', NULL);"
        )
    stopped = run(*asked, "--archive", "old", "--rejects", "r.csv")
    assert (stopped.status, "1 of 3 records can't go" in stopped.err) == (4, True), stopped.err
    why = "\"name 'Other': already there, expected no other record of that id in the archive\""
    assert (folder / "r.csv").read_text("utf-8-sig").splitlines()[1:] == [f"old,3,{why}"]
    assert len(names(folder)) == 4


def test_a_job_has_an_archive_in_a_file_beside_it(run, keepers, folder):
    (folder / "jobs").mkdir()
    (folder / "jobs" / "retire.toml").write_text(
        "[remove]\nwhere = 'id = 3'\narchive = 'gone.csv'\nstamps = ['archived_at']\n[target]\nat = '../coop.db#keepers'\n[limits]\nremoved = 1\n"
    )
    assert run("remove", "--job", "jobs/retire.toml").status == 0
    assert (folder / "jobs" / "gone.csv").read_text("utf-8-sig").splitlines()[0] == "id,name,mentor,archived_at"
    assert len(names(folder)) == 3
