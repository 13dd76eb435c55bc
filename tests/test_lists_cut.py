"""Lists behind HTTP, cut off at any moment or any byte: the log's verdict is right, and undo brings back the start.

There is no transaction, so a run may be there in part. Then the log must name the very records.
"""

import contextlib
import random
import sqlite3
import threading
import time
from pathlib import Path

import numpy as np
import pytest

import tidymerge
from chance import LONG, ODATA_VERSIONS, SEED
from conftest import NO_LIMITS, text_file
from relay import Relay
from tidymerge.demo.lists.faults import Fault, Manners
from tidymerge.demo.lists.serve import served
from tidymerge.errors import TidyMergeError
from tidymerge.history.folder import FolderLog
from tidymerge.run.past import past_runs

HIVES = 60
ENOUGH = 30  # cuts, of which some are too early, and some too late


def sql(path: Path, script: str) -> list[tuple]:
    with contextlib.closing(sqlite3.connect(path, timeout=30)) as connection, connection:
        return connection.execute(script).fetchall()


def rows(path: Path) -> dict[int, tuple]:
    return {row[0]: row[1:] for row in sql(path, "SELECT * FROM hives")}


@pytest.fixture
def path(folder: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("TIDYMERGE_CHANGES_AT_ONCE", "7")
    monkeypatch.setenv("TIDYMERGE_WAIT", "1")
    found = folder / "lists.db"
    sql(found, "CREATE TABLE hives (k INTEGER PRIMARY KEY, kg DECIMAL(9, 2), note TEXT)")
    for at in range(HIVES):
        sql(found, f"INSERT INTO hives VALUES ({at}, {at / 4}, 'kept')")
    text_file(
        folder / "in.csv", [["k", "kg", "note"], *([at, at + 0.5, "came"] for at in range(HIVES // 2, HIVES * 3 // 2))]
    )
    return found


def really(before: dict[int, tuple], after: dict[int, tuple], now: dict[int, tuple]) -> set[int]:
    """The records that hold what a run was to write."""
    return {
        at for at in before.keys() | after.keys() if before.get(at) != after.get(at) and now.get(at) == after.get(at)
    }


def said(run) -> set[int]:
    """The records of which the log says so."""
    keys = [np.asarray(part.keys["k"]) for part in FolderLog().changes(run)] if run.wrote else []
    return {int(key) for each in keys for key in each}


def check(path: Path, before: dict[int, tuple], after: dict[int, tuple], seen: dict[str, int]) -> None:
    """Hold the last run's entry against the list, and take back what is there."""
    run = past_runs().runs[0].run
    there = really(before, after, rows(path))
    every = really(before, after, after)
    wanted = "loaded" if there == every else "failed" if not there else "partly"
    assert run.settled, run
    assert (run.state, said(run)) == (wanted, there), (run.message, sorted(there))
    seen[wanted] += 1
    if there:
        tally = run.receipt.rows
        assert tally.updated + tally.inserted == len(there)
        assert tally.read == HIVES
        tidymerge.undo(run.name)
    assert rows(path) == before


@pytest.mark.by_chance
@pytest.mark.parametrize("version", ODATA_VERSIONS)
def test_a_connection_that_is_cut_at_any_byte(path, folder, version, share):
    """At a byte of a change set's body or its answer, or at any that goes over the wire; half of them for good."""
    manners, by_chance = Manners(version=version), random.Random(3 + SEED)
    seen = dict.fromkeys(("loaded", "failed", "partly"), 0)
    with served(path, manners) as root, Relay(root) as relay:
        place = f"http://127.0.0.1:{relay.port}/coop/#hives"
        before = rows(path)
        done = tidymerge.load("in.csv", place, key="k", limits=NO_LIMITS, accept_warnings=True)
        after, passed = rows(path), list(relay.passed)
        tidymerge.undo(done.run)
        for at in share.of(6, 80):
            if at % 4 < 2:
                cut = {by_chance.choice(["cut_request", "cut_answer"]): by_chance.randrange(4000)}
                manners.faults[:] = [Fault(path="$batch", after=by_chance.randrange(9), **cut)]
                if at % 2:  # and then the service is away for as long as anybody waits
                    later = 2 * manners.faults[0].after + by_chance.randrange(4, 16)
                    manners.faults.append(Fault(after=later, times=10**6, cut_answer=0))
            else:
                side = by_chance.randrange(2)
                relay.cut(side, by_chance.randrange(passed[side]), away=bool(at % 2))
            with contextlib.suppress(TidyMergeError):
                tidymerge.load("in.csv", place, key="k", limits=NO_LIMITS, accept_warnings=True)
            manners.faults.clear()
            relay.back()
            check(path, before, after, seen)
    assert all(seen.values()) or sum(seen.values()) < ENOUGH, seen


@pytest.mark.by_chance
def test_a_program_that_is_killed_at_any_moment(path, folder, programs, share):
    manners, by_chance, seen = Manners(), random.Random(5 + SEED), dict.fromkeys(("loaded", "failed", "partly"), 0)
    with served(path, manners) as root:
        before = rows(path)
        command = (
            "load",
            str(folder / "in.csv"),
            "--into",
            f"{root}#hives",
            "--key",
            "k",
            "--yes",
            "--most-updated",
            "100%",
        )
        start = time.perf_counter()
        programs.start(command, folder).wait()
        longest, after = time.perf_counter() - start, rows(path)
        assert past_runs().runs[0].run.state == "loaded", past_runs().runs[0].run.message
        tidymerge.undo("last")
        for _ in share.of(3, 40):
            running = programs.start(command, folder)
            time.sleep(by_chance.uniform(0.3, 1.1) * longest)
            running.kill()
            running.wait()
            time.sleep(0.2)  # what the service has begun, it ends
            if rows(path) == before:
                seen["failed"] += 1
                past_runs()
                continue
            check(path, before, after, seen)
    assert all(seen.values()) or sum(seen.values()) < ENOUGH, seen


@pytest.mark.by_chance
def test_writers_at_once_never_lose_a_change(path, folder, monkeypatch, share):
    """Each writer adds up in fields of its own; loads change other fields of the same records meanwhile."""
    monkeypatch.setenv("TIDYMERGE_WAIT", "120")
    most, names = (2500 if LONG else 60), [f"w{at}" for at in range(4 if LONG else 3)]
    edits = dict.fromkeys(names, 0)
    for name in names:
        sql(path, f"ALTER TABLE hives ADD COLUMN {name} INTEGER NOT NULL DEFAULT 0")
    with served(path) as root:

        def write(name: str) -> None:
            import httpx

            by_chance, known = random.Random(f"{name} {SEED}"), {}
            with httpx.Client(base_url=root, timeout=60) as client:
                while edits[name] < most and share.lasts:
                    edits[name] += 1
                    at = by_chance.randrange(HIVES)
                    while True:
                        found = known.get(at) or client.get(f"hives({at})").json()
                        etag = {"If-Match": found["@odata.etag"]}
                        answer = client.patch(f"hives({at})", json={name: found[name] + 1}, headers=etag)
                        known[at] = answer.json() if answer.status_code == 200 else None
                        if known[at]:
                            break

        threads = [threading.Thread(target=write, args=(name,)) for name in names]
        for thread in threads:
            thread.start()
        for at in range(3):
            file = text_file(folder / f"in{at}.csv", [["k", "kg"], *([k, 100 * at + k] for k in range(HIVES))])
            tidymerge.load(file, f"{root}#hives", key="k", limits=NO_LIMITS, accept_warnings=True)
        for thread in threads:
            thread.join()
    for name in names:
        assert sql(path, f"SELECT sum({name}) FROM hives") == [(edits[name],)]
    share.note(sum(edits.values()), most * len(names))
    assert [row[0] for row in sql(path, "SELECT kg FROM hives ORDER BY k")] == [200 + k for k in range(HIVES)]


def test_the_receipt_of_a_run_that_was_cut_off_says_what_is_there(path, folder, run, monkeypatch):
    manners = Manners()
    with served(path, manners) as root:
        for away, wanted in ((10**6, "Only a part is there"), (0, "Because")):
            manners.faults[:] = [Fault(path="$batch", after=1, cut_request=0), Fault(path="$batch", times=0)]
            if away:
                manners.faults[1] = Fault(path="$batch", after=1, times=away, cut_request=0)
            run("load", "in.csv", "--into", f"{root}#hives", "--key", "k", "--yes", "--most-updated", "100%")
            manners.faults.clear()
            said = run("receipt", "last")
            assert wanted in said.out, said.err
            assert "Committed" not in said.out
            assert ("Partly loaded" in said.out) == bool(away)
            if away:
                assert run("undo", "last", "--yes").status == 0
