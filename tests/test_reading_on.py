"""Going on where the last run ended: newer rows, and files that were not loaded before."""

import json
import random
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest

from chance import SEED
from conftest import database, text_file

SCHEMA = "CREATE TABLE staging (k INTEGER PRIMARY KEY, kg INTEGER, changed_on TIMESTAMP); CREATE TABLE hives (k INTEGER PRIMARY KEY, kg INTEGER);"


@pytest.fixture
def coop(folder):
    database(folder / "coop.db", SCHEMA, rows=[])
    Path("job.toml").write_text(
        '[incoming]\nat = "coop.db#staging"\nnewer_by = "Changed On"\nnewer_overlap = "1 hour"\n[target]\nat = "coop.db#hives"\n[columns]\nk = "k"\nkg = "kg"\n'
    )
    return folder


def do(statement):
    with closing(sqlite3.connect("coop.db")) as connection, connection:
        return connection.execute(statement).fetchall()


def load(run, *options):
    ended = run("load", "--job", "job.toml", "--yes", "--json", *options)
    assert ended.status == 0, ended.err
    return ended.receipt


def test_only_rows_that_are_as_new_as_the_last_one_are_read(run, coop):
    do("INSERT INTO staging VALUES (1, 1, '2026-05-01 10:00:00'), (2, 2, '2026-05-02 10:00:00'), (3, 3, NULL)")
    assert load(run)["rows"]["inserted"] == 3
    do("INSERT INTO staging VALUES (4, 4, '2026-05-02 09:30:00'), (5, 5, '2026-05-02 08:00:00'), (6, 6, '2026-05-03')")
    do("UPDATE staging SET kg = 9 WHERE k = 1")  # whose time says nothing of it
    assert load(run, "--rows", "4")["incoming"]["rows"] == 1  # which says nothing of the other rows
    second = load(run)
    assert "from 2026-05-02 09:00:00 on; 4 rows" in str(second["notes"])
    assert (second["rows"]["inserted"], second["incoming"]["rows"]) == (1, 4)  # 2 is equal, 3 has no time
    assert load(run)["incoming"]["rows"] == 2  # the last one again, and the one without a time
    preview = run("preview", "--job", "job.toml", "--from-start", "--json").receipt
    assert (preview["incoming"]["rows"], preview["rows"]["updated"], preview["rows"]["inserted"]) == (6, 1, 1)
    assert run("undo", second["run"], "--yes").status == 0
    assert load(run)["rows"]["inserted"] == 1  # what was taken back comes again
    do("DELETE FROM staging WHERE k <> 1")
    assert load(run)["warnings"] == []  # that there are none is no reason to stop
    do("UPDATE staging SET changed_on = 'soon'")
    assert "no dates, times or whole numbers" in run("preview", "--job", "job.toml").err


@pytest.mark.by_chance
def test_numbers_serve_too_and_never_miss_one(run, coop, share):
    chance, known = random.Random(3 + SEED), {}
    Path("job.toml").write_text(
        '[incoming]\nat = "coop.db"\nquery = "select k, kg, kg as version from staging"\nnewer_by = "version"\n[target]\nat = "coop.db#hives"\n[columns]\nk = "k"\nkg = "kg"\n'
    )
    version = -5
    for _ in share.of(6, 30):
        for _ in range(chance.randint(0, 4)):
            version += chance.randint(0, 3)  # several may have the same one
            key = chance.randint(1, 40)
            known[key] = version
            do(f"INSERT INTO staging (k, kg) VALUES ({key}, {version}) ON CONFLICT (k) DO UPDATE SET kg = excluded.kg")
        load(run)
        assert dict(do("SELECT k, kg FROM hives")) == known


def test_a_run_of_some_columns_says_nothing_of_the_others(run, coop):
    do("ALTER TABLE hives ADD COLUMN tare INTEGER")
    Path("job.toml").write_text(Path("job.toml").read_text() + 'tare = "kg"\n')
    do("INSERT INTO staging VALUES (1, 1, '2026-05-01'), (2, 2, '2026-05-02')")
    load(run)
    do("UPDATE staging SET kg = 9, changed_on = '2026-05-03' WHERE k = 1")
    do("UPDATE staging SET changed_on = '2026-05-09' WHERE k = 2")
    assert load(run, "--only", "kg")["rows"]["updated"] == 1
    assert load(run)["rows"]["updated"] == 1
    assert do("SELECT * FROM hives WHERE k = 1") == [(1, 9, 9)]


def test_no_record_is_absent_where_only_what_is_new_is_read(run, coop):
    job = Path("job.toml").read_text()
    Path("job.toml").write_text(job + '[rules]\nabsent = "remove"\n')
    do("INSERT INTO staging VALUES (1, 1, '2026-05-01 10:00:00'), (2, 2, '2026-05-09')")
    do("INSERT INTO hives VALUES (7, 7)")
    assert load(run)["rows"]["removed"] == 1  # the first time all rows are there
    do("INSERT INTO hives VALUES (8, 8)")
    second = load(run)
    assert (second["incoming"]["rows"], second["rows"]["removed"]) == (1, 0)
    assert "the job reads only what is new since its last run" in str(second["warnings"])
    Path("job.toml").write_text(
        '[incoming]\nat = "week*.csv"\nonce = true\n[target]\nat = "coop.db#hives"\n[rules]\nabsent = "remove"\n'
    )
    text_file(Path("week1.csv"), [["k", "kg"], [1, 1], [2, 2]])
    assert load(run)["rows"]["removed"] == 1
    do("INSERT INTO hives VALUES (9, 9)")
    assert load(run)["rows"]["removed"] == 0  # no file is new


def test_files_are_taken_once_however_they_are_called(run, coop):
    Path("job.toml").write_text('[incoming]\nat = "week*.csv"\nonce = true\n[target]\nat = "coop.db#hives"\n')
    for number in (1, 2):
        text_file(Path(f"week{number}.csv"), [["k", "kg"], [number, number]])
    assert load(run)["rows"]["inserted"] == 2
    text_file(Path("week3.csv"), [["k", "kg"], [3, 3]])
    Path("week2.csv").rename("week20.csv")
    third = load(run)
    assert (third["rows"]["inserted"], third["incoming"]["rows"]) == (1, 1)
    assert "2 files passed over" in str(third["notes"])
    nothing = load(run)
    assert (nothing["rows"]["skipped"], nothing["rows"]["unchanged"]) == (1, 0)
    assert "3 files passed over" in str(nothing["notes"])
    assert load(run, "--from-start")["rows"]["unchanged"] == 3
    assert json.loads(run("runs", "--json").out)["runs"]
