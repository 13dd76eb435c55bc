"""A watched folder: what arrives is loaded once, whatever ends the watcher in between, and goes to its place."""

import json
import os
import random
import shutil
import signal
import sqlite3
import threading
import time
from contextlib import closing
from pathlib import Path

import pytest
from openpyxl import Workbook

from chance import LONG, SEED
from conftest import database, wait_for
from tidymerge.cli.commands.watch import _waiting

JOB = """
[incoming]
at = "nothing.csv"
[target]
at = "coop.db#hives"
key = "code"
[limits]
inserted = 60
rejected = 5
"""
TABLE = "CREATE TABLE hives (code VARCHAR(9) PRIMARY KEY, kg INTEGER)"


@pytest.fixture
def drop(folder):
    """A folder to be watched, with a job beside it."""
    database(folder / "coop.db", TABLE, rows=[("A", 1)])
    Path("job.toml").write_text(JOB)
    Path("drop").mkdir()
    return folder / "drop"


def rows(path, pairs):
    Path(path).write_text("code,kg\n" + "".join(f"{code},{kg}\n" for code, kg in pairs))


def held_rows():
    with closing(sqlite3.connect("coop.db")) as connection:
        return dict(connection.execute("SELECT code, kg FROM hives").fetchall())


def once(run, *options, status=0):
    """What happened, by file, in one go."""
    ended = run("watch", "drop", "--job", "job.toml", "--once", "--rest", "0.05", "--log", "json", *options)
    assert ended.status == status, (ended.out, ended.err)
    return {line["file"]: line for line in map(json.loads, ended.out.splitlines()) if line["file"]}


def there(folder):
    """The files of the watched folder, without those that are only ours; run names are left out."""
    found = []
    for path in folder.rglob("*"):
        if path.is_file() and path.name != "lock":
            parts = path.relative_to(folder).as_posix().split(".")
            found.append(".".join(part for part in parts if not (part[:2] == "20" and "-" in part)))
    return sorted(found)


def test_what_arrives_goes_to_its_place(run, drop):
    rows(drop / "1.csv", [("A", 2), ("B", 3)])
    rows(drop / "2.csv", [("B", "many"), ("C", 4)])
    rows(drop / "3.csv", [(f"N{at}", at) for at in range(70)])
    shutil.copy(drop / "1.csv", drop / "4.csv")  # the same again
    rows(drop / ".hidden.csv", [("X", 1)])
    rows(drop / "open.csv", [("X", 1)])
    (drop / ".~lock.open.csv#").write_text("somebody")
    (drop / "notes.pdf").write_text("no rows")
    told = once(run, "--yes", status=1)
    assert {file: line["event"] for file, line in told.items()} == {
        "1.csv": "loaded", "2.csv": "loaded", "3.csv": "held", "4.csv": "known", "open.csv": "later",
    }  # fmt: skip
    assert held_rows() == {"A": 2, "B": 3, "C": 4}
    assert there(drop) == sorted([
        ".hidden.csv", ".~lock.open.csv#", "done/1.csv", "done/1.json", "done/4.csv", "done/4.json", "held/3.csv",
        "held/3.csv.why.txt", "notes.pdf", "open.csv", "rejected/2.csv", "rejected/2.json", "rejected/2.marked.csv",
        "rejected/2.rejects.csv",
    ])  # fmt: skip
    assert told["2.csv"]["rows"]["rejected"] == 1
    why = (drop / "held" / "3.csv.why.txt").read_text()
    assert "tidymerge load '" in why
    assert "70" in why
    released = run("load", "drop/held/3.csv", "--job", "job.toml", "--yes", "--most-inserted", "100")
    assert released.status == 0, released.err
    (drop / ".~lock.open.csv#").unlink()
    told = once(run, "--yes")
    assert {file: line["event"] for file, line in told.items()} == {"3.csv": "released", "open.csv": "loaded"}
    assert "done/3.csv" in there(drop)
    assert not any("held" in name for name in there(drop))
    rows(drop / "1.csv", [("A", 2), ("B", 3)])  # loaded long ago
    assert once(run)["1.csv"]["event"] == "known"
    runs = json.loads(run("runs", "--json").out)["runs"]
    first = next(one["run"] for one in runs if one["incoming"] and "1.csv" in str(one["incoming"]))
    assert run("undo", first, "--yes").status == 0
    rows(drop / "1.csv", [("A", 2), ("B", 3)])  # taken back since: it is wanted again
    assert once(run, "--yes")["1.csv"]["event"] == "loaded"


def test_sheets_and_names_by_pattern_in_order_and_left_where_they_are(run, drop):
    book = Workbook()
    book.remove(book.active)
    for name, kg in (("Visit 1", 5), ("Notes", 9), ("Visit 2", 6)):
        sheet = book.create_sheet(name)
        for row in (["code", "kg"], [f"{name}"[-1:] + "x", kg]):
            sheet.append(row)
    book.save(drop / "b.xlsx")
    rows(drop / "late.csv", [("A", 7)])
    rows(drop / "early.csv", [("A", 8)])
    os.utime(drop / "late.csv", (1000, 2000))
    os.utime(drop / "early.csv", (1000, 1000))
    told = once(run, "--pattern", "ear*.csv", "--order", "time", "--leave")
    assert [line["file"] for line in told.values()] == ["early.csv"]
    told = once(run, "--order", "time", "--leave", "--sheets", "Visit*", "--yes")
    assert [(line["file"], line["event"]) for line in told.values()] == [
        ("early.csv", "known"), ("late.csv", "loaded"), ("b.xlsx", "loaded"),
    ]  # fmt: skip
    assert held_rows() == {"A": 7, "1x": 5, "2x": 6}
    assert there(drop) == ["b.xlsx", "early.csv", "late.csv"]


def test_a_target_that_is_not_there_keeps_the_files(run, drop):
    rows(drop / "1.csv", [("A", 2)])
    Path("coop.db").rename("away.db")
    assert once(run, status=1)["1.csv"]["event"] == "later"
    Path("away.db").rename("coop.db")
    assert once(run)["1.csv"]["event"] == "loaded"
    for arguments, words in (
        (["nowhere", "--job", "job.toml"], "no folder"),
        (["drop", "--job", "no.toml"], "no.toml"),
    ):
        ended = run("watch", *arguments, "--once")
        assert (ended.status in (1, 2), words in ended.err) == (True, True), ended.err


def test_a_second_watcher_waits_and_both_end_when_asked(run, drop, programs):
    arguments = ["watch", "drop", "--job", "job.toml", "--rest", "0.05", "--log", "json"]
    with Path("one.log").open("wb") as one, Path("two.log").open("wb") as two, Path(os.devnull).open("rb") as nothing:
        first = programs.start(arguments, drop.parent, (nothing, one, one))
        wait_for(lambda: "watching" in Path("one.log").read_text())
        second = programs.start(arguments, drop.parent, (nothing, two, two))
        wait_for(lambda: "waiting" in Path("two.log").read_text())
        rows(drop / "1.csv", [("A", 2)])
        wait_for((drop / "done" / "1.csv").exists)
        os.kill(first.pid, signal.SIGTERM)
        assert first.wait() == 0
        wait_for(lambda: '"watching"' in Path("two.log").read_text())
        rows(drop / "2.csv", [("A", 3)])
        wait_for((drop / "done" / "2.csv").exists)
        os.kill(second.pid, signal.SIGTERM)
        assert second.wait() == 0
    assert '"loaded"' not in Path("two.log").read_text().split('"watching"')[0]
    assert held_rows() == {"A": 3}


def test_what_arrives_while_a_file_is_loaded_is_heard(drop):
    wait = _waiting(drop)
    wait(60)
    rows(drop / "1.csv", [("A", 2)])
    before = time.monotonic()
    wait(60)
    assert time.monotonic() - before < 50


@pytest.mark.by_chance
def test_killed_at_any_moment_every_file_is_loaded_exactly_once(run, drop, programs):
    """Files arrive in halves while the watcher is killed again and again."""
    kills, files, each = (100, 30, 60) if LONG else (6, 8, 40)
    chance = random.Random(7 + SEED)

    def arrive():
        for number in range(files):
            text = "code,kg\n" + "".join(f"F{number}R{at},{at}\n" for at in range(each))
            path = drop / f"f{number:02}.csv"
            with path.open("w") as file:
                file.write(text[: len(text) // 2])
                file.flush()
                time.sleep(chance.uniform(0, 0.25))  # shorter than what counts as rest
                file.write(text[len(text) // 2 :])
            time.sleep(chance.uniform(0, 0.2 if not LONG else 1.5))

    arguments = ["watch", "drop", "--job", "job.toml", "--rest", "0.5", "--log", "json", "--yes"]
    sender = threading.Thread(target=arrive)
    sender.start()
    for _ in range(kills):
        running = programs.start(arguments, drop.parent)
        time.sleep(chance.uniform(0.05, 1.2))
        running.kill()
        running.wait()
    sender.join()
    once(run, "--yes")
    runs = json.loads(run("runs", "--all", "--json").out)["runs"]
    loaded = [Path(one["incoming"][0]["address"]).name for one in runs if one["state"] == "loaded"]
    assert sorted(loaded) == [f"f{number:02}.csv" for number in range(files)]
    assert held_rows() == {"A": 1} | {f"F{number}R{at}": at for number in range(files) for at in range(each)}
    assert sorted(path.name for path in (drop / "done").glob("*.csv")) == sorted(loaded)
    assert not list(drop.glob("*.csv"))
    assert all(one["rows"]["inserted"] == each for one in runs if one["state"] == "loaded")
