"""Stopping a load at any moment leaves the old or the new state, never a part."""

import json
import signal
import subprocess
import sys

import pytest

from conftest import PROGRAM, database, stored, text_file

_STOP_AT = """
import os, signal, sys
from tidymerge import recording
from tidymerge.history import folder
from tidymerge.targets.sql import target
from tidymerge.targets.sqlite import session
from tidymerge.cli.app import main
where, number = sys.argv.pop(1), int(sys.argv.pop(1))
owner, name, when = {
    "after the lock": (target.SqlTarget, "describe", "after"),
    "after staging": (target.SqlTarget, "stage", "after"),
    "after the first statement": (session.Session, "change", "after"),
    "after all is written": (target.SqlTarget, "write", "after"),
    "after the log is sealed": (folder.FolderRecording, "seal", "after"),
    "before the commit": (session.Session, "commit", "before"),
    "after the commit": (session.Session, "commit", "after"),
    "before the log is settled": (folder.FolderRecording, "settle", "before"),
    "while an earlier run is looked at": (recording, "committed", "before"),
}[where]
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
    """A table of 20,000 hives and a sheet that changes half of them and adds as many."""
    rows = [(f"A{at // 100:04}", at % 100, "white", 1.5, None, None) for at in range(20_000)]
    target = database(folder / "coop.db", rows=rows)
    news = [(f"A{at // 100:04}", at % 100, "red" if at % 2 else "blue", 2.5) for at in range(10_000, 30_000)]
    return target, text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour", "honey_kg"], *news])


def states(big):
    """The table before and after the load."""
    before = stored(big[0])
    copy = before[:10_000] + [(*row[:2], b"red" if row[1] % 2 else b"blue", 2.5, *row[4:]) for row in before[10_000:]]
    added = [
        (f"A{at // 100:04}".encode(), at % 100, b"red" if at % 2 else b"blue", 2.5, None, None)
        for at in range(20_000, 30_000)
    ]
    return before, copy + added


@pytest.mark.parametrize("number", [signal.SIGKILL, signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("point", POINTS)
def test_stopped_at_a_point(big, point, number, folder):
    before, after = states(big)
    command = [sys.executable, "-c", _STOP_AT, point, str(int(number)), "load", big[1], "--into", big[0], "--yes"]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    late = ("after the commit", "before the log is settled")
    committed = point in late or (point == "before the commit" and number != signal.SIGKILL)
    assert stored(big[0]) == (after if committed else before)
    if number == signal.SIGKILL:
        assert done.returncode == -signal.SIGKILL
    elif committed:  # the commit was under way: the signal came too late, and what is said is true
        assert (done.returncode, "Committed" in done.stdout) == (0, True), done.stderr
    else:
        assert (done.returncode, done.stderr) == (
            1,
            "tidymerge: Interrupted; nothing was written. (docs/errors.md#interrupted)\n",
        )
    noticed = json.loads(
        subprocess.run([PROGRAM, "runs", "--json"], cwd=folder, check=True, capture_output=True).stdout
    )
    told = {"after the log is sealed": "had not committed", "before the commit": "had not committed"} | dict.fromkeys(
        late, "had committed"
    )
    if number == signal.SIGKILL:  # found out by looking at the target, and said
        assert [told[point] in note for note in noticed["notes"]] == [True] * (point in told)
    ends = [(run["state"], run["settled"]) for run in noticed["runs"]]
    recorded = committed or point in told or number != signal.SIGKILL
    assert ends == [("loaded" if committed else "failed", True)] * recorded
    again = subprocess.run([PROGRAM, "load", big[1], "--into", big[0], "--yes"], cwd=folder, check=False)
    assert again.returncode == 0
    assert stored(big[0]) == after


def test_an_undo_that_is_asked_to_end_leaves_the_load_as_it_was(big, folder):
    _, after = states(big)
    subprocess.run([PROGRAM, "load", big[1], "--into", big[0], "--yes"], cwd=folder, check=True)
    command = [
        sys.executable,
        "-c",
        _STOP_AT,
        "after all is written",
        str(int(signal.SIGTERM)),
        "undo",
        "last",
        "--yes",
    ]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert (done.returncode, "Interrupted; nothing was written." in done.stderr) == (1, True)
    assert stored(big[0]) == after


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_a_load_that_is_asked_to_end_while_it_looks_at_an_earlier_run_ends(big, folder, number):
    before, after = states(big)
    load = ["load", big[1], "--into", big[0], "--yes"]
    cut_off = [sys.executable, "-c", _STOP_AT, "after the log is sealed", str(int(signal.SIGKILL)), *load]
    assert subprocess.run(cut_off, cwd=folder, capture_output=True, check=False).returncode == -signal.SIGKILL
    asked = [sys.executable, "-c", _STOP_AT, "while an earlier run is looked at", str(int(number)), *load]
    done = subprocess.run(asked, cwd=folder, capture_output=True, text=True, check=False)
    assert (done.returncode, "Interrupted; nothing was written." in done.stderr) == (1, True), done.stderr
    assert stored(big[0]) == before
    assert subprocess.run([PROGRAM, *load], cwd=folder, capture_output=True, check=False).returncode == 0
    assert stored(big[0]) == after
