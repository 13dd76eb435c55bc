"""Changing and removing records from the command line: what is asked, what stops it, and how it ends."""

import sqlite3

import pytest

SCHEMA = """CREATE TABLE keepers (id INTEGER PRIMARY KEY, name TEXT, mentor INTEGER REFERENCES keepers (id));
INSERT INTO keepers VALUES (1, 'Alma', NULL), (2, 'Bo', 1), (3, 'Cai', NULL), (4, 'Dee', NULL);"""


@pytest.fixture
def keepers(folder):
    with sqlite3.connect(folder / "coop.db") as connection:
        connection.executescript(SCHEMA)
    return "coop.db#keepers"


def names(folder):
    with sqlite3.connect(folder / "coop.db") as connection:
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
        "changed", {"action": "change", "set": {"name": "null"}, "where": None, "keys": None, "drop": []}, 4,
    )  # fmt: skip
    assert "in every record" in run("runs").out
    assert run("undo", "last").status == 0
    assert names(folder)[0] == "Alma"


def test_a_file_that_may_not_be_written_is_said_before_anything_is_asked(on_terminal, keepers):
    shown, ended = on_terminal("change", keepers, "--set", "name = 'x'", "--where", "id = 1", "--page", "coop.db")
    assert (ended, "[y/N]" in shown) == (2, False), shown
