"""Stopping a load at any moment leaves the old or the new state, never a part."""

import json
import signal
import sqlite3
from contextlib import closing

import pytest

from conftest import database, stored, text_file
from tidymerge.run.past import past_runs

_STOP_AT = """
import os, signal, sys
from tidymerge.run import record
from tidymerge.history import folder
from tidymerge.targets.sql import target
from tidymerge.databases.sqlite import session
from tidymerge.cli.app import main
where, number = {!r}, {}
owner, name, when = {{
    "after the lock": (target.SqlTarget, "describe", "after"),
    "after staging": (target.SqlTarget, "stage", "after"),
    "after the first statement": (session.Session, "change", "after"),
    "after all is written": (target.SqlTarget, "write", "after"),
    "after the log is sealed": (folder.FolderRecording, "seal", "after"),
    "before the commit": (session.Session, "commit", "before"),
    "after the commit": (session.Session, "commit", "after"),
    "before the log is settled": (folder.FolderRecording, "settle", "before"),
    "while an earlier run is looked at": (record, "committed", "before"),
}}[where]
original = getattr(owner, name)
def stopping(*arguments, **options):
    if when == "before":
        os.kill(os.getpid(), number)
    result = original(*arguments, **options)
    if when == "after":
        os.kill(os.getpid(), number)
    return result
setattr(owner, name, stopping)
main()
"""
POINTS = [
    "after the lock",
    "after staging",
    "after the first statement",
    "after all is written",
    "after the log is sealed",
    "before the commit",
    "after the commit",
    "before the log is settled",
]


@pytest.fixture
def big(folder):
    """A table of 2,000 hives and a sheet that changes half of them and adds as many."""
    rows = [(f"A{at // 100:04}", at % 100, "white", 1.5, None, None) for at in range(2000)]
    target = database(folder / "coop.db", rows=rows)
    news = [(f"A{at // 100:04}", at % 100, "red" if at % 2 else "blue", 2.5) for at in range(1000, 3000)]
    return target, text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour", "honey_kg"], *news])


def states(big):
    """The table before and after the load."""
    before = stored(big[0])
    copy = before[:1000] + [(*row[:2], b"red" if row[1] % 2 else b"blue", 2.5, *row[4:]) for row in before[1000:]]
    added = [
        (f"A{at // 100:04}".encode(), at % 100, b"red" if at % 2 else b"blue", 2.5, None, None)
        for at in range(2000, 3000)
    ]
    return before, copy + added


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("point", POINTS)
def test_stopped_at_a_point(run, big, point, number):
    before, after = states(big)
    load = ("load", big[1], "--into", big[0], "--yes")
    done = run(*load, script=_STOP_AT.format(point, int(number)))
    late = ("after the commit", "before the log is settled")
    committed = point in late or (point == "before the commit" and number != signal.SIGKILL)
    assert stored(big[0]) == (after if committed else before)
    if number == signal.SIGKILL:
        assert done.status == -signal.SIGKILL
    elif committed:  # the commit was under way: the signal came too late, and what is said is true
        assert (done.status, "Committed" in done.out) == (0, True), done.err
    else:
        assert (done.status, done.err) == (
            1,
            "tidymerge: Interrupted; nothing was written. (tidymerge explain interrupted)\n",
        )
    noticed = json.loads(run("runs", "--json").out)
    told = {"after the log is sealed": "had not committed", "before the commit": "had not committed"} | dict.fromkeys(
        late, "had committed"
    )
    if number == signal.SIGKILL:  # found out by looking at the target, and said
        assert [told[point] in note for note in noticed["notes"]] == [True] * (point in told)
    ends = [(run["state"], run["settled"]) for run in noticed["runs"]]
    recorded = committed or point in told or number != signal.SIGKILL
    assert ends == [("loaded" if committed else "failed", True)] * recorded
    assert run(*load).status == 0
    assert stored(big[0]) == after


def test_an_undo_that_is_asked_to_end_leaves_the_load_as_it_was(run, big):
    _, after = states(big)
    assert run("load", big[1], "--into", big[0], "--yes").status == 0
    done = run("undo", "last", "--yes", script=_STOP_AT.format("after all is written", int(signal.SIGTERM)))
    assert (done.status, "Interrupted; nothing was written." in done.err) == (1, True)
    assert stored(big[0]) == after


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_load_that_is_asked_to_end_while_it_looks_at_an_earlier_run_ends(run, big, number):
    before, after = states(big)
    load = ("load", big[1], "--into", big[0], "--yes")
    cut_off = run(*load, script=_STOP_AT.format("after the log is sealed", int(signal.SIGKILL)))
    assert cut_off.status == -signal.SIGKILL
    done = run(*load, script=_STOP_AT.format("while an earlier run is looked at", int(number)))
    assert (done.status, "Interrupted; nothing was written." in done.err) == (1, True), done.err
    assert stored(big[0]) == before
    assert run(*load).status == 0
    assert stored(big[0]) == after


@pytest.mark.parametrize("way", ["by a link", "with a log of its own"])
def test_a_run_that_was_cut_off_is_not_taken_for_the_one_that_wrote_the_same(
    run, big, folder, home, tmp_path_factory, way
):
    """It had not committed; the same sheet, loaded by another way, makes the table hold what it would have written."""
    (folder / "other").symlink_to(folder)
    load = ("load", big[1], "--into", big[0], "--yes")
    assert run(*load, script=_STOP_AT.format("after the log is sealed", int(signal.SIGKILL))).status == -signal.SIGKILL
    if way == "by a link":
        again = run("load", big[1], "--into", f"{folder}/other/coop.db#hives", "--yes", "--json")
        assert "had not committed" in str(again.receipt["notes"])  # settled before, as it is the same place
    else:
        run(*load, TIDYMERGE_HOME=str(tmp_path_factory.mktemp("theirs")))
        (note,) = json.loads(run("runs", "--json").out)["notes"]
        assert "unless somebody without this log wrote the same values" in note


@pytest.mark.parametrize(
    ("colours", "wrote"),
    [
        (("white", "yellow"), False), (("red", "red"), True), (("red", "green"), True), (("green", "yellow"), False),
        (("green", "green"), None), (("red", "yellow"), None),
    ],
)  # fmt: skip
def test_the_records_tell_whether_a_run_that_was_cut_off_lasted_unless_they_speak_against_each_other(
    run, hives, folder, colours, wrote
):
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], ["L01", 1, "red"], ["L01", 2, "red"]])
    script = _STOP_AT.format("after the log is sealed", int(signal.SIGKILL))
    assert run("load", "in.csv", "--into", hives, "--yes", script=script).status == -signal.SIGKILL
    with closing(sqlite3.connect("coop.db")) as connection, connection:
        connection.executemany(
            "UPDATE hives SET queen_colour = ? WHERE apiary_code = 'L01' AND hive_no = ?",
            zip(colours, (1, 2), strict=True),
        )
    (cut,) = past_runs().runs
    assert cut.run.settled == (wrote is not None)
    assert wrote is None or cut.run.wrote == wrote


def test_a_later_run_of_the_log_leaves_a_doubt_that_is_said(run, big, folder, home):
    load = ("load", big[1], "--into", big[0], "--yes")
    assert run(*load, script=_STOP_AT.format("after the log is sealed", int(signal.SIGKILL))).status == -signal.SIGKILL
    (cut,) = (home / "runs").glob("*.json")
    entry, changes = cut.read_bytes(), cut.with_suffix(".parquet").read_bytes()
    later = run(*load, "--json").receipt["run"]  # which settles the one before
    cut.write_bytes(entry)  # as if it could not have been settled then
    cut.with_suffix(".parquet").write_bytes(changes)
    cut.with_suffix(".lock").touch()
    (note,) = json.loads(run("runs", "--json").out)["notes"]
    assert f"the later run {later} wrote there too" in note
