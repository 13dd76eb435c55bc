"""Stopping a load at any moment leaves the old or the new state, never a part."""

import os
import random
import signal
import subprocess
import sys
import time

import pytest

from conftest import PROGRAM, database, stored, text_file

_STOP_AT = """
import os, signal, sys
from tidymerge.targets.sql import target
from tidymerge.targets.sqlite import session
from tidymerge.cli.app import main
where, number = sys.argv.pop(1), int(sys.argv.pop(1))
owner, name, when = {
    "after the lock": (target.SqlTarget, "describe", "after"),
    "after staging": (target.SqlTarget, "stage", "after"),
    "after the first statement": (session.Session, "change", "after"),
    "after all is written": (target.SqlTarget, "write", "after"),
    "before the commit": (session.Session, "commit", "before"),
    "after the commit": (session.Session, "commit", "after"),
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
    "before the commit",
    "after the commit",
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
    committed = point == "after the commit" or (point == "before the commit" and number != signal.SIGKILL)
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
    again = subprocess.run([PROGRAM, "load", big[1], "--into", big[0], "--yes"], cwd=folder, check=False)
    assert again.returncode == 0
    assert stored(big[0]) == after


def test_killed_at_random_moments(big, folder):
    before, after = states(big)
    command = [PROGRAM, "load", big[1], "--into", big[0], "--yes"]
    moments = random.Random(7)
    whole = time.monotonic()
    copy = (folder / "coop.db").read_bytes()
    subprocess.run(command, cwd=folder, check=True, capture_output=True)
    whole = time.monotonic() - whole
    for _ in range(8):
        (folder / "coop.db").write_bytes(copy)
        process = subprocess.Popen(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        time.sleep(moments.uniform(0.3, 1) * whole)
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        assert stored(big[0]) in (before, after)
        for left in folder.glob("coop.db-*"):
            left.unlink()
