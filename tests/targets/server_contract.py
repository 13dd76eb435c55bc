"""What every server must do beyond the contract: other people are at work there, and it may go away."""

import contextlib
import re
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import cycle, product

import pytest
from contract import TargetContract

import tidymerge
from conftest import NO_LIMITS, database, stored, text_file
from tidymerge.core.decide.part import read_rows
from tidymerge.errors import ServerAway
from tidymerge.job.model import Job
from tidymerge.model import ReadOptions
from tidymerge.run import attempts
from tidymerge.run import decide_load as run_decide
from tidymerge.run.past import past_runs
from tidymerge.targets import open_target
from tidymerge.targets.sql import SqlTarget

PLAIN = "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, a VARCHAR(20));"


class ServerContract(TargetContract):
    """A subclass also says how the server's own types, sleeps and errors are written."""

    rechecks = True
    types: tuple[tuple[str, str, str], ...]  # declared, incoming cell, what the server shows afterwards
    foreign: str  # the declaration of a column that rows can't be loaded into
    sleep: str  # a statement that takes two seconds
    unstorable: tuple[str, str]  # a column's type, and a text that it can't hold

    def meanwhile(self, monkeypatch, folder, statement: str, *, times: int = 1) -> None:
        """Let another program do something between reading and staging, the first `times` times."""
        stage, left = SqlTarget.stage, [times]

        def staged(target, *arguments):
            if left[0]:
                left[0] -= 1
                self.make(folder, statement)
            return stage(target, *arguments)

        monkeypatch.setattr(SqlTarget, "stage", staged)

    def test_every_type_goes_in_and_is_unchanged_the_second_time(self, folder):
        names = [f"c{at}" for at in range(len(self.types))]
        declared = ", ".join(f"{name} {kind}" for name, (kind, _, _) in zip(names, self.types, strict=True))
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, {declared}, far {self.foreign}, twice INTEGER GENERATED ALWAYS AS (k * 2) STORED)")  # fmt: skip
        rows = [
            ["k", *names, "far", "twice"],
            [1, *(cell for _, cell, _ in self.types), "x", 0],
            [2] + [""] * (len(names) + 2),
        ]
        first = self.load(folder, "t", rows)
        assert (first.rows.inserted, first.rejects.reasons) == (2, {})
        assert set(first.tables[0].not_loaded) == {"far", "twice"}
        (found,) = self.rows(folder, f"SELECT {', '.join(names)} FROM t WHERE k = 1")
        wrong = [(str(value), case) for value, case in zip(found, self.types, strict=True) if str(value) != case[2]]
        assert wrong == []
        again = self.load(folder, "t", rows)
        assert again.rows.unchanged == 2, again.tables[0].examples
        self.comes_back(folder, "t")

    def test_a_value_of_any_type_stays_where_other_columns_of_its_record_change(self, folder):
        types = [one for one in self.types if "GENERATED" not in one[0]]
        names = [f"c{at}" for at in range(len(types))]
        declared = ", ".join(f"{name} {kind}" for name, (kind, _, _) in zip(names, types, strict=True))
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, {declared})")
        for turn in (0, 1):  # first each record gets every other value, then those that it lacks
            rows = [
                [k, *(cell if (at + k + turn) % 2 else "" for at, (_, cell, _) in enumerate(types))] for k in (1, 2)
            ]
            self.load(folder, "t", [["k", *names], *rows], limits=NO_LIMITS)
        for found in self.rows(folder, f"SELECT {', '.join(names)} FROM t"):
            assert [str(value) for value in found] == [shown for _, _, shown in types]

    longest = "24:00:00"

    def test_times_that_no_clock_shows_are_kept(self, folder):
        self.make(
            folder,
            f"CREATE TABLE t (k INTEGER PRIMARY KEY, t TIME); INSERT INTO t VALUES (1, '{self.longest}'), (2, '{self.longest}'), (3, '09:30')",
        )
        rows = [["k", "t"], [1, self.longest], [2, "10:00"], [3, "24:00"], [4, "839:00"], [5, "9:30"]]
        receipt = self.load(folder, "t", rows)
        assert (receipt.rows.unchanged, receipt.rows.updated) == (1, 2)
        assert self.reasons(receipt) == {"out of range": [5], "not a time": [6]}
        found = [row[0].strip() for row in self.rows(folder, "SELECT CAST(t AS CHAR(12)) FROM t ORDER BY k")]
        assert found == [self.longest, "10:00:00", "24:00:00"]

    def test_undo_puts_back_every_type_even_those_that_rows_cannot_be_loaded_into(self, folder):
        names = [f"c{at}" for at in range(len(self.types))]
        declared = ", ".join(f"{name} {kind}" for name, (kind, _, _) in zip(names, self.types, strict=True))
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, {declared}, far {self.foreign}, odd {self.odd[0]}, twice INTEGER GENERATED ALWAYS AS (k * 2) STORED)")  # fmt: skip
        listed = ", ".join(["k", *names, self.shown_far, "odd"])
        query = f"SELECT {listed} FROM t ORDER BY k"
        cells = [cell for _, cell, _ in self.types]
        self.load(folder, "t", [["k", *names], [1, *cells], [3, *cells]])
        self.make(folder, f"UPDATE t SET far = {self.far}, odd = {self.odd[1]} WHERE k = 1")
        start = self.rows(folder, query)
        changes = self.load(
            folder, "t", [["k", *names, "odd"], [1, *([""] * len(names)), self.odd[2]], [2, *cells, self.odd[2]]]
        )
        assert (changes.rows.updated, changes.rows.inserted) == (1, 1), changes.rejects
        self.make(folder, "UPDATE t SET c0 = -8 WHERE k = 2")
        with pytest.raises(tidymerge.Stopped):
            tidymerge.undo(changes.run)
        self.make(folder, "UPDATE t SET c0 = -7 WHERE k = 2")
        loaded = self.rows(folder, query)
        undone = tidymerge.undo(changes.run)
        assert [str(row) for row in self.rows(folder, query)] == [str(row) for row in start]
        tidymerge.undo(undone.run)
        assert [str(row) for row in self.rows(folder, query)] == [str(row) for row in loaded]

    far: str  # a value for the column that rows can't be loaded into
    shown_far = "far"  # how the tests read it
    odd: tuple[str, str, str]  # a type, a value in SQL that we can't hold, and one that is loaded over it

    def test_a_change_by_another_program_during_an_undo_is_a_conflict(self, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        loaded = self.load(folder, "t", [["k", "n", "a"], [1, 5, "new"], [2, 5, "new"], [3, 5, "new"]])
        self.meanwhile(monkeypatch, folder, "UPDATE t SET n = 7 WHERE k = 2")
        with pytest.raises(tidymerge.Stopped) as stopped:
            tidymerge.undo(loaded.run)
        assert [(one.key, one.wrote, one.now) for one in stopped.value.receipt.conflicts] == [(("2",), "5", "7")]
        assert len(self.rows(folder, "SELECT * FROM t")) == 3

    def test_hostile_names_are_only_names(self, folder):
        table, key, column = 'a"; DROP TABLE t; --', "select", '100 %s "x` é 蜂'
        self.make(folder, f"CREATE TABLE {self.quoted(table)} ({self.quoted(key)} VARCHAR(9) PRIMARY KEY, {self.quoted(column)} VARCHAR(20))")  # fmt: skip
        receipt = self.load(
            folder, table, [[key, column], ["%s'\\", "'); DROP TABLE t; --"], ["b", "tab\tnew\nline \\N"]]
        )
        assert receipt.rows.inserted == 2
        assert set(self.rows(folder, f"SELECT * FROM {self.quoted(table)}".replace("%", "%%"))) == {
            ("%s'\\", "'); DROP TABLE t; --"),
            ("b", "tab\tnew\nline \\N"),
        }
        target, name = self.address(folder, table), '"' + column.replace('"', '""') + '"'
        changed = tidymerge.change(
            target, {column: f"substring({name}, 1, 9) || '''; --'"}, where=f"{name} like '%DROP%'"
        )
        removed = tidymerge.remove(target, where=f"{name} like '%''; --'")
        assert (changed.rows.updated, removed.rows.removed) == (1, 1)
        for run in (removed.run, changed.run, receipt.run):
            tidymerge.undo(run)
        assert self.rows(folder, f"SELECT count(*) FROM {self.quoted(table)}".replace("%", "%%")) == [(0,)]

    def quoted(self, name: str) -> str:
        return '"' + name.replace('"', '""') + '"'

    def test_a_row_that_the_column_cannot_store_is_named_in_the_preview(self, folder):
        declared, text = self.unstorable
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, a {declared})")
        rows = [["k", "a"], *([at, text if at in (3, 90) else at] for at in range(1, 101))]
        receipt = self.load(folder, "t", rows)
        assert self.reasons(receipt) == {"refused by the target": [4, 91]}
        assert receipt.rows.inserted == 98
        assert receipt.notes == ()  # the preview knew it
        again = self.load(folder, "t", [["k", "a"], [1, text], [2, 7]])  # now among updates
        assert (again.rows.updated, self.reasons(again)) == (1, {"refused by the target": [2]})

    def test_a_key_that_the_column_cannot_store_is_named_too(self, folder):
        self.make(folder, f"CREATE TABLE t (k {self.narrow} PRIMARY KEY, n INTEGER, CONSTRAINT part CHECK (10 / n > 1));"
                          f"INSERT INTO t VALUES {','.join(f'({chr(39)}k{at}{chr(39)}, 1)' for at in range(100))};")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "n"], ["bee 蜂", 1], ["K1", 2], ["k2", 20], ["k3", 0]])
        rejected = {row for rows in self.reasons(receipt).values() for row in rows}
        assert rejected == self.awkward
        assert receipt.rows.updated + receipt.rows.inserted == 4 - len(rejected)

    awkward: set[
        int
    ]  # rows of that test: one key that latin1 has not, two values that the check refuses or can't judge
    narrow: str  # a column's type in which keys are equal whatever their letter case, and that may not hold all text

    @pytest.mark.parametrize("columns", ["k INTEGER, n INTEGER", "k INTEGER NOT NULL, n INTEGER NOT NULL"])
    def test_a_table_without_a_key_is_found_by_the_jobs(self, folder, columns):
        self.make(folder, f"CREATE TABLE t ({columns}); INSERT INTO t VALUES (1, 1), (2, 2), (2, 3), (4, 1);")
        receipt = self.load(folder, "t", [["k", "n"], [1, 5], [2, 5], [3, 5], [4, 1]], key="k")
        assert self.reasons(receipt) == {"several records": [3]}
        assert self.rows(folder, "SELECT * FROM t ORDER BY k, n") == [(1, 5), (2, 2), (2, 3), (3, 5), (4, 1)]

    def test_a_check_of_a_computed_column_is_left_to_the_server(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, twice INTEGER GENERATED ALWAYS AS (n * 2) STORED, CONSTRAINT few CHECK (twice < 10));")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "n"], [1, 4], [2, 5]])
        assert self.reasons(receipt) == {"refused by the target": [3]}

    def test_a_change_by_another_program_is_never_overwritten_unseen(self, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old'), (2, 0, 'old');")
        self.meanwhile(monkeypatch, folder, "UPDATE t SET a = 'theirs' WHERE k = 1")
        incoming = text_file(folder / "in.csv", [["k", "n", "a"], [1, 5, "old"], [2, 5, "old"]])
        receipt = tidymerge.load(incoming, self.address(folder, "t"))
        assert dict(receipt.tables[0].columns) == {"n": 2, "a": 1}  # decided again: theirs was there before ours
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 5, "old"), (2, 5, "old")]

    def test_a_record_that_no_longer_meets_the_condition_of_a_change_is_left_alone(self, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old'), (2, 0, 'old'), (3, 9, 'old');")
        self.meanwhile(monkeypatch, folder, "UPDATE t SET n = 9 - n WHERE k <> 2")
        receipt = tidymerge.change(self.address(folder, "t"), {"a": "'new'"}, where="n = 0")
        assert receipt.rows.updated == 2
        assert self.rows(folder, "SELECT k, a FROM t ORDER BY k") == [(1, "old"), (2, "new"), (3, "new")]

    def test_a_record_that_another_program_inserts_meanwhile_is_then_updated(self, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        self.meanwhile(monkeypatch, folder, "INSERT INTO t VALUES (7, 1, 'theirs')")
        receipt = tidymerge.load(text_file(folder / "in.csv", [["k", "n"], [7, 5], [1, 0]]), self.address(folder, "t"))
        assert (receipt.rows.inserted, receipt.rows.updated, receipt.rows.unchanged) == (0, 1, 1)
        assert self.rows(folder, "SELECT * FROM t WHERE k = 7") == [(7, 5, "theirs")]

    def test_who_is_always_in_the_way_is_said_after_a_few_attempts(self, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        self.meanwhile(monkeypatch, folder, "UPDATE t SET n = n - 1", times=9)
        monkeypatch.setattr(attempts, "FIRMLY_FROM", 99)  # what stands in the way is in our own thread
        monkeypatch.setenv("TIDYMERGE_WAIT", "1")
        with pytest.raises(tidymerge.TargetError, match="nothing was written") as raised:
            tidymerge.load(text_file(folder / "in.csv", [["k", "n"], [1, 5]]), self.address(folder, "t"))
        said = re.search(r"Tried (\d) times? in \d+ seconds?", str(raised.value))
        attempts_said = -int(said[1]) if said else None
        assert self.rows(folder, "SELECT n FROM t") == [(attempts_said,)]  # once in the way for each attempt

    def test_a_load_gets_through_beside_those_who_never_stop_writing(self, folder):
        self.make(folder, PLAIN + f"INSERT INTO t VALUES {', '.join(f'({at}, 0, NULL)' for at in range(200))};")
        incoming = text_file(folder / "in.csv", [["k", "a"], *([at, "loaded"] for at in range(200))])
        stop = threading.Event()

        def write(of):
            for at in cycle(range(of, 200, 2)):
                if stop.is_set():
                    return
                with contextlib.suppress(Exception):  # a deadlock is theirs to try again
                    self.make(folder, f"UPDATE t SET n = n + 1 WHERE k = {at}")

        with ThreadPoolExecutor(2) as pool:
            writers = [pool.submit(write, of) for of in (0, 1)]
            try:
                receipt = tidymerge.load(incoming, self.address(folder, "t"), accept_warnings=True, limits=NO_LIMITS)
            finally:
                stop.set()
            [one.result() for one in writers]
        assert (receipt.rows.updated, receipt.verified) == (200, True)
        assert {row[0] for row in self.rows(folder, "SELECT a FROM t")} == {"loaded"}

    def test_two_loads_at_once_end_as_one_after_the_other(self, folder):
        self.make(folder, PLAIN)
        files = [
            text_file(folder / f"{who}.csv", [["k", "n", "a"], *([at, who, f"by {who}"] for at in range(who * 50, who * 50 + 100))])
            for who in (0, 1, 2)
        ]  # fmt: skip
        with ThreadPoolExecutor(3) as pool:
            receipts = list(
                pool.map(
                    lambda file: tidymerge.load(
                        file, self.address(folder, "t"), accept_warnings=True, limits=NO_LIMITS
                    ),
                    files,
                )
            )
        assert sum(receipt.rows.inserted for receipt in receipts) == 200
        assert sum(receipt.rows.updated for receipt in receipts) == 100
        assert all(a == f"by {n}" for n, a in self.rows(folder, "SELECT n, a FROM t"))

    def test_two_families_at_once_share_the_parents_that_both_bring(self, folder):
        self.family(folder)

        def load(who):
            """Two new keepers that the other one brings, too, and a hive for each."""
            place = folder / str(who)
            place.mkdir()
            text_file(
                place / "keepers.csv", [["Name", "Email", "Mentor"], *([f"K{n}", f"k{n}@x", ""] for n in range(40))]
            )
            text_file(
                place / "hives.csv", [["Code", "Keeper", "Kg"], *([f"H{who}{n}", f"k{n}@x", n] for n in range(40))]
            )
            text_file(place / "seen.csv", [["Hive", "On", "By"], *([f"H{who}{n}", 1, f"k{n}@x"] for n in range(40))])
            (place / "family.toml").write_text((folder / "family.toml").read_text())
            return tidymerge.load(job=place / "family.toml", accept_warnings=True, limits=NO_LIMITS)

        with ThreadPoolExecutor(3) as pool:
            receipts = list(pool.map(load, range(3)))
        rows = [{table.called.rpartition(".")[2]: table.rows for table in receipt.tables} for receipt in receipts]
        assert sorted(one["keeper"].inserted for one in rows) == [0, 0, 40]
        assert [(one["hive"].inserted, one["seen"].inserted) for one in rows] == [(40, 40)] * 3
        wrong = self.rows(folder, "SELECT h.code FROM hive h JOIN keeper k ON k.id = h.keeper WHERE k.email NOT LIKE concat('k%', '') AND h.code LIKE 'H%'")  # fmt: skip
        assert wrong == []
        pairs = self.rows(
            folder,
            "SELECT substr(h.code, 3), k.name FROM hive h JOIN keeper k ON k.id = h.keeper WHERE h.code LIKE 'H%'",
        )
        assert sorted(pairs) == sorted((str(n), f"K{n}") for n in range(40) for _ in range(3))

    def test_a_lock_is_waited_for_only_so_long(self, run, folder, monkeypatch):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        held, done = threading.Event(), threading.Event()
        holder = threading.Thread(target=self.hold, args=("UPDATE t SET n = 3", held, done))
        holder.start()
        assert held.wait(10)
        try:
            incoming = text_file(folder / "in.csv", [["k", "n"], [1, 5]])
            ended = run("load", incoming, "--into", self.address(folder, "t"), "--yes", TIDYMERGE_LOCK_WAIT="1")
        finally:
            done.set()
            holder.join()
        assert ended.status == 1
        assert "locked, also after 1 seconds" in ended.err
        assert "target-locked" in ended.err
        assert self.rows(folder, "SELECT n FROM t") == [(0,)]

    @pytest.mark.parametrize("how", ["kill the program", "end the connection"])
    def test_what_ends_midway_leaves_the_table_as_it_was(self, folder, programs, how):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');" + self.sleeping_trigger("t"))
        incoming = text_file(folder / "in.csv", [["k", "n"], [1, 5], [2, 5]])
        with (folder / "said").open("w+b") as file:
            command = ("load", incoming, "--into", self.address(folder, "t"), "--yes")
            running = programs.start(command, folder, (file, file, file))
        for _ in range(200):
            if connection := self.sleeping(folder):
                break
            time.sleep(0.05)
        if how == "kill the program":
            running.kill()
        else:
            self.end(folder, connection)
        status, said = running.wait(), (folder / "said").read_text()
        if how == "end the connection":
            assert status == 1
            assert "server-away" in said
            assert "Nothing that was not committed lasts" in said
        for _ in range(200):  # until the server notices
            if not self.sleeping(folder):
                break
            time.sleep(0.05)
        assert self.rows(folder, "SELECT * FROM t") == [(1, 0, "old")]

    @pytest.mark.parametrize("lasted", [True, False])
    def test_a_connection_that_breaks_in_the_moment_of_the_commit_leaves_no_doubt(self, folder, monkeypatch, lasted):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        commit = SqlTarget.commit

        def breaking(target):
            if lasted:
                commit(target)
            raise ServerAway("No connection to it: it broke.")

        monkeypatch.setattr(SqlTarget, "commit", breaking)
        incoming = text_file(folder / "in.csv", [["k", "n"], [1, 5], [2, 5], ["x", 1]])
        with pytest.raises(tidymerge.TargetError, match="had committed" if lasted else "had not committed"):
            tidymerge.load(incoming, self.address(folder, "t"), rejects=folder / "r.csv")
        assert len(self.rows(folder, "SELECT * FROM t")) == (2 if lasted else 1)
        (past,) = past_runs().runs
        assert (past.run.settled, past.run.state) == (True, "loaded" if lasted else "failed")
        assert "x" in (folder / "r.csv").read_text("utf-8")  # they are wanted if it lasted

    def test_rows_of_a_staging_table_or_a_query_on_the_same_server(self, folder):
        self.make(folder, PLAIN + "CREATE TABLE staging (k INTEGER, n DECIMAL(8,2), a VARCHAR(20), at DATE);"
                  "INSERT INTO t VALUES (1, 0, 'old'); INSERT INTO staging VALUES (1, 5, 'new', '2026-05-04'), (2, 6.5, NULL, NULL), (3, 7, '', NULL);")  # fmt: skip
        target, staging = self.address(folder, "t"), self.address(folder, "staging")
        receipt = tidymerge.load(staging, target, accept_warnings=True, rejects=folder / "r.csv")
        assert self.reasons(receipt) == {"not a whole number": [2]}
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 5, "new"), (3, 7, None)]
        (folder / "job.toml").write_text(
            f'[incoming]\nat = "{staging.partition("#")[0]}"\nquery = "select k + 10 as k, 1 as n from staging where k < 3"\n[target]\nat = "{target}"\n', "utf-8"
        )  # fmt: skip
        assert tidymerge.load(job=folder / "job.toml", accept_warnings=True).rows.inserted == 2
        assert self.rows(folder, "SELECT k, n FROM t WHERE k > 10 ORDER BY k") == [(11, 1), (12, 1)]

    @pytest.mark.parametrize("declared", ["TIMESTAMP", "DATE", "INTEGER"])
    @pytest.mark.parametrize("query", ["", 'query = "select * from staging"'])
    def test_a_server_gives_only_rows_that_are_newer(self, folder, declared, query):
        first, second, third = (
            ("1", "2", "3") if declared == "INTEGER" else ("'2026-05-01'", "'2026-05-02'", "'2026-05-03'")
        )
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY); CREATE TABLE staging (k INTEGER, changed {declared} NULL);"
                  f"INSERT INTO staging VALUES (1, {first}), (2, {second}), (3, NULL)")  # fmt: skip
        target, staging = self.address(folder, "t"), self.address(folder, "staging")
        at = staging.partition("#")[0] if query else staging
        (folder / "job.toml").write_text(
            f'[incoming]\nat = "{at}"\n{query}\nnewer_by = "changed"\n[target]\nat = "{target}"\n'
        )
        options = {"job": folder / "job.toml", "accept_warnings": True, "rejects": False}
        assert tidymerge.load(**options).rows.read == 3
        self.make(folder, f"INSERT INTO staging VALUES (4, {third}), (5, {first})")
        assert [tidymerge.load(**options).rows.read for _ in range(2)] == [3, 2]  # without a value, and the last one
        assert self.rows(folder, "SELECT k FROM t ORDER BY k") == [(1,), (2,), (3,), (4,)]

    @pytest.mark.parametrize(
        "query",
        [
            "select 1 as k) t; delete from t; commit; select * from (select 1 as k",
            "select 1 as k; delete from t", "delete from t", "insert into t values (9, 9, 'x')",
            "with gone as (delete from t returning *) select * from gone", "select k, n into other from t",
            "select * from t for update", "not a query", "",
        ],
    )  # fmt: skip
    def test_a_query_only_reads(self, folder, query):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');")
        target = self.address(folder, "t")
        job = Job((target.partition("#")[0],), target, read=ReadOptions(query=query))
        for run_it in (tidymerge.preview, tidymerge.load):
            with pytest.raises(tidymerge.UsageError, match="query"):
                run_it(job=job)
        assert self.rows(folder, "SELECT * FROM t") == [(1, 0, "old")]

    def test_a_query_is_run_once_and_can_change_nothing_even_by_a_function(self, folder):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 0, 'old');" + self.writing_function)
        target = self.address(folder, "t")
        place = target.partition("#")[0]
        with pytest.raises(tidymerge.TidyMergeError, match=r"(?i)read.only"):
            tidymerge.preview(job=Job((place,), target, read=ReadOptions(query="select writes() as k, 1 as n")))
        assert self.rows(folder, "SELECT * FROM t") == [(1, 0, "old")]
        once = Job((place,), target, read=ReadOptions(query=f"select {self.random} as n, k from t"))
        receipt = tidymerge.preview(job=once)  # as a second run of it gives other values, it would not add up
        assert receipt.rows.updated == 1
        assert "The query reads t, the table that its rows go into" in receipt.warnings[0]

    writing_function: str  # a function writes() that changes t
    random: str  # a number that is another each time

    def test_what_can_only_be_shown_as_text_is_rejected_by_name_and_not_lost(self, folder):
        declared, literal, reason = self.strange
        self.make(
            folder,
            f"CREATE TABLE staging (k INTEGER, d {declared}, far {self.foreign}); INSERT INTO staging (k, d) VALUES (1, {literal}), (2, NULL);",
        )
        target = database(folder / "coop.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, d DATE)", "t", ())
        receipt = tidymerge.load(self.address(folder, "staging"), target, rejects=folder / "r.csv")
        assert (receipt.rows.inserted, self.reasons(receipt)) == (1, {reason: [1]})

    strange: tuple[str, str, str]  # a column's type, a value of it that we can't hold, and why its row is rejected

    def test_rows_from_the_server_into_a_file_and_back(self, folder):
        self.make(folder, PLAIN + "INSERT INTO t VALUES (1, 5, 'é'), (2, NULL, 'two');")
        target = database(folder / "coop.db", PLAIN, "t", [(1, 0, "old")])
        assert tidymerge.load(self.address(folder, "t"), target).rows.updated == 1
        assert stored(target) == [(1, 5, "é".encode()), (2, None, b"two")]
        assert tidymerge.load(target, self.address(folder, "t")).rows.unchanged == 2

    def test_the_same_load_has_the_same_receipt_as_on_sqlite(self, folder):
        """Counts, reasons and the fingerprint do not depend on the database."""
        schema = """CREATE TABLE hives (apiary VARCHAR(8) NOT NULL, hive INTEGER NOT NULL, honey DECIMAL(8,2), seen DATE,
            queen VARCHAR(6), PRIMARY KEY (apiary, hive), CONSTRAINT heavy CHECK (honey < 500))"""
        rows = "INSERT INTO hives VALUES ('L01', 1, 12.5, '2026-05-01', 'white'), ('L01', 2, 7.25, NULL, NULL), ('M02', 1, 3, NULL, 'x')"
        self.make(folder, f"{schema}; {rows};")
        embedded = database(folder / "coop.db", f"{schema}; {rows};", "hives", ())
        sheet = [["apiary", "hive", "honey", "seen", "queen"], ["L01", 1, "12.50", "2026-05-04", ""], ["L01", 2, "8", "", "red"],
                 ["N03", 1, "4.125", "", ""], ["N03", 2, "600", "", ""], ["N03", 3, "1", "2026-05-04", "blue"], ["N03", 3, "1", "2026-05-04", "blue"],
                 ["", 4, "", "", ""], ["M02", 1, "3", "", "x"], ["N03", 5, "", "", "too long"]]  # fmt: skip
        ours = self.load(folder, "hives", sheet)
        theirs = tidymerge.load(folder / "in.csv", embedded, accept_warnings=True, rejects=folder / "r2.csv")
        assert (ours.rows, ours.fingerprint, ours.rejects.reasons) == (
            theirs.rows,
            theirs.fingerprint,
            theirs.rejects.reasons,
        )
        assert ours.rows.read == 9

    def test_round_trips_do_not_grow_with_the_rows(self, folder, monkeypatch):
        """Counted where they leave the program; what 20 ms a round trip cost is measured in benchmarks/far_away.py."""
        self.make(folder, PLAIN + f"INSERT INTO t (k, n) VALUES {','.join(f'({at}, 0)' for at in range(3000))};")
        sent = [0]
        for name in self.round_trips:
            original = getattr(self.session, name)

            def counted(session, *arguments, original=original, **options):
                sent[0] += 1
                return original(session, *arguments, **options)

            monkeypatch.setattr(self.session, name, counted)
        counts = []
        for rows in (40, 4000):
            sent[0] = 0
            changed = [["k", "n", "a"], *([at, rows, "" if at % 2 else "x"] for at in range(rows))]
            incoming = text_file(folder / "in.csv", changed)
            receipt = tidymerge.load(incoming, self.address(folder, "t"), accept_warnings=True, limits=NO_LIMITS)
            assert receipt.rows.updated >= 40
            counts.append(sent[0])
        assert counts[1] <= counts[0] + 4 < 60, counts

    def test_no_password_is_ever_shown(self, run, folder):
        self.make(folder, PLAIN)
        head, _, rest = self.address(folder, "t").partition("://")
        user, _, place = rest.rpartition("@") if "@" in rest.partition("?")[0] else ("", "", rest)
        secret = f"{head}://{user or 'root'}:s3cret@{place}"
        ended = run("preview", text_file(folder / "in.csv", [["k", "n"], [1, 1]]), "--into", secret)
        away = run("preview", "in.csv", "--into", f"{head}://{user}:s3cret@127.0.0.1:1/nowhere#t")
        assert "s3cret" not in ended.out + ended.err + away.out + away.err
        asked = (
            ["--values", "n", "--chart", "v.svg"], ["--would-hold", "n is unique"], ["--since", "last"], ["--json"],
            ["--against", "in.csv"], ["--against", secret], [],
        )  # fmt: skip
        for words in asked:
            for at in (secret, secret.partition("#")[0]):
                look = run("look", at, *words)
                assert "s3cret" not in look.out + look.err, words
                assert look.out or look.err
        for sides in ((secret, "in.csv"), ("in.csv", secret), (secret, secret)):
            for words in (["--page", "v.html", "--changes", "v.csv"], ["--json"]):
                compared = run("compare", *sides, *words)
                assert "s3cret" not in compared.out + compared.err, words
                assert compared.status == 0 or compared.err
        assert not [file for file in folder.iterdir() if b"s3cret" in file.read_bytes()]
        assert away.status == 1
        assert "127.0.0.1:1" in away.err
        assert "server-away" in away.err

    def test_exact_text_that_follows_from_a_value_is_the_servers_own(self, folder):
        """What the log keeps without reading it again must be, to the last sign, what it would have read."""
        dates, texts = ("0001-01-01", "1969-12-31", "9999-12-31"), ("a", "a ", "", " ", "ü\\n'\"")
        names = "k INT PRIMARY KEY, a BIGINT, b DECIMAL(8,2), c DECIMAL(20,6), d DECIMAL(20,9), e VARCHAR(9), f CHAR(5), g TEXT, h DATE"
        rows = []
        for k, (number, text, day) in enumerate(product((0, -1, 12, 999999, "-0.000001", "0.05"), texts, dates)):
            a = number if isinstance(number, int) else 9223372036854775807
            quoted = text.replace("'", "''").replace("\\", self.backslash)
            rows.append(
                f"({k}, {a}, {number}, {number}, {number}, '{quoted}', '{quoted}', '{quoted}', '{day}'{self.more_spelled[1]})"
            )
        self.make(folder, f"CREATE TABLE t ({names}{self.more_spelled[0]}); INSERT INTO t VALUES {', '.join(rows)}")
        told = []
        with open_target(self.address(folder, "t"), write=False) as target:
            for column in target.describe().columns:
                typed, exact = target.read([column]), target.read([column.as_stored()])
                text = target.exact_text(column, typed[column.name].combine_chunks())
                if text is not None:
                    told.append(column.name)
                    assert text.to_pylist() == exact[column.name].to_pylist(), column
        assert set("kabcegh") <= set(told)
        assert not set(told) & {"d", *self.untold}

    def test_a_value_that_could_not_be_written_again_is_not_written(self, folder):
        """One statement may serve records of which different columns change, but not where it would meet such a value."""
        declared, odd, day = self.odd
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, a VARCHAR(9), d {declared});"
                          f"INSERT INTO t VALUES (1, 1, 'a', {odd}), (2, 2, 'b', NULL);")  # fmt: skip
        before = self.rows(folder, "SELECT * FROM t ORDER BY k")
        receipt = self.load(folder, "t", [["k", "n", "a", "d"], [1, 5, "z", ""], [2, 2, "c", day]])
        assert (receipt.rows.updated, receipt.fields_updated) == (2, 4)
        after = self.rows(folder, "SELECT * FROM t ORDER BY k")
        assert (str(after[0]), after[1][:3]) == (str((1, 5, "z", before[0][3])), (2, 2, "c"))
        tidymerge.undo(receipt.run, into=self.address(folder, "t"))
        assert str(self.rows(folder, "SELECT * FROM t ORDER BY k")) == str(before)

    def test_what_is_read_meanwhile_is_broken_off_by_an_interruption(self, folder, monkeypatch):
        self.make(folder, PLAIN)
        read, begun, ended = iter([read_rows]), threading.Event(), []

        def slow(target, *given):
            begun.set()
            try:
                target.database.change(
                    self.sleep.replace("PERFORM pg_sleep(2)", "DO $$BEGIN PERFORM pg_sleep(2); END$$")
                )
            except ServerAway as error:
                ended.append(error)
                raise

        def interrupted(*given):  # the keys alone are read before
            for first in read:
                return first(*given)
            assert begun.wait(60)
            raise KeyboardInterrupt

        monkeypatch.setattr(SqlTarget, "fetch", slow)
        monkeypatch.setattr(run_decide, "read_rows", interrupted)
        with pytest.raises(KeyboardInterrupt):
            tidymerge.load(text_file(folder / "in.csv", [["k", "n"], [1, 5]]), self.address(folder, "t"))
        assert ended

    def test_records_are_read_once_before_and_once_after(self, folder, monkeypatch):
        self.make(folder, f"{PLAIN} INSERT INTO t VALUES (1, 1, 'a'), (2, 2, 'b')")
        at, reads = SqlTarget._at, []  # noqa: SLF001
        monkeypatch.setattr(SqlTarget, "_at", lambda *given: reads.append(given[1]) or at(*given))
        rows = text_file(folder / "in.csv", [["k", "n", "a"], [1, 5, "x"], [3, 3, "c"]])
        receipt = tidymerge.load(rows, self.address(folder, "t"), accept_warnings=True)
        assert (receipt.rows.updated, receipt.rows.inserted, len(reads)) == (1, 1, 1)
        tidymerge.undo(receipt.run)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 1, "a"), (2, 2, "b")]
