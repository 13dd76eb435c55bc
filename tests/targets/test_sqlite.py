"""SQLite: the contract, and what is its own."""

import contextlib
import sqlite3
import subprocess
from pathlib import Path

import pytest
from contract import TargetContract
from hypothesis import given, settings
from hypothesis import strategies as st

import tidymerge
from chance import PROPERTY, fresh_folder, some
from conftest import NO_LIMITS, database, stored, text_file
from program import PROGRAM
from tidymerge.databases.sqlite import session
from tidymerge.job.model import Job
from tidymerge.run.load import load


class TestSqlite(TargetContract):
    def make(self, folder: Path, script: str) -> None:
        connection = sqlite3.connect(folder / "coop.db")
        connection.executescript(script)
        connection.close()

    def address(self, folder: Path, table: str) -> str:
        return f"{folder / 'coop.db'}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        connection = sqlite3.connect(folder / "coop.db")
        found = connection.execute(query).fetchall()
        connection.close()
        return found

    def unchecked(self, schema: str, rows: str) -> str:
        return f"PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; {schema}; {rows};"

    doubling = "CREATE TRIGGER twice AFTER UPDATE ON t BEGIN UPDATE t SET n = NEW.n * 2 WHERE k = NEW.k; END"

    @pytest.mark.parametrize("table", [
        "k TEXT, n REAL, keeper TEXT REFERENCES keeper, PRIMARY KEY (k, n)) WITHOUT ROWID", "n TEXT PRIMARY KEY, k TEXT, keeper TEXT REFERENCES keeper) WITHOUT ROWID",
        "k TEXT PRIMARY KEY, n TEXT, keeper TEXT REFERENCES keeper, rowid TEXT, _rowid_ TEXT, oid TEXT)",
    ])  # fmt: skip
    def test_a_tree_of_tables_without_row_numbers_goes_and_comes_back(self, folder, table):
        self.make(folder, f"CREATE TABLE keeper (code TEXT PRIMARY KEY, boss TEXT REFERENCES keeper) WITHOUT ROWID; CREATE TABLE hive ({table};"
            "INSERT INTO keeper VALUES ('a', NULL), ('b', 'a'), ('c', NULL); INSERT INTO hive (k, n, keeper) VALUES ('x', 1.5, 'a'), ('y', 2.5, 'b'), ('z', 3.5, 'c')")  # fmt: skip
        queries = "SELECT * FROM keeper ORDER BY code", "SELECT k, n, keeper FROM hive ORDER BY k"
        start = [self.rows(folder, query) for query in queries]
        gone = tidymerge.remove(
            self.address(folder, "keeper"), where="code = 'a'", with_referring=True, limits=NO_LIMITS
        )
        assert [table.rows.removed for table in gone.tables] == [2, 2]
        tidymerge.undo(gone.run)
        assert [self.rows(folder, query) for query in queries] == start

    @pytest.mark.parametrize("declared", [
        "", "NOT NULL", "INT DEFAULT 5", "TEXT COLLATE NOCASE NOT NULL DEFAULT 'it''s'", "DECIMAL(8, 2)", "TIMESTAMP DEFAULT CURRENT_TIMESTAMP",
        "VARCHAR(9) DEFAULT (1 + 2)", "TEXT COLLATE RTRIM", "BLOB NOT NULL",
    ])  # fmt: skip
    def test_a_column_comes_back_as_it_was_declared(self, folder, declared):
        self.make(
            folder,
            f'CREATE TABLE "t #1" (k INTEGER PRIMARY KEY, "n ""1" {declared} /* last */); INSERT INTO "t #1" VALUES (1, 7), (2, 8);',
        )
        if "NOT NULL" not in declared:
            self.make(folder, 'UPDATE "t #1" SET "n ""1" = NULL WHERE k = 2')
        queries = ("SELECT * FROM pragma_table_xinfo('t #1')", 'SELECT * FROM "t #1"', "PRAGMA integrity_check")
        start = [self.rows(folder, query) for query in queries]
        gone = tidymerge.change(self.address(folder, "t #1"), drop='n "1')
        assert self.rows(folder, 'SELECT * FROM "t #1"') == [(1,), (2,)]
        tidymerge.undo(gone.run)
        found = [self.rows(folder, query) for query in queries]
        assert found[1:] == start[1:]
        assert [str(cell).strip("()") for cell in found[0][1]] == [str(cell).strip("()") for cell in start[0][1]]

    needing = "CREATE TRIGGER noting AFTER UPDATE ON t BEGIN DELETE FROM t WHERE NEW.a < 0 AND NEW.note = ''; END;"

    restamped = (
        "TEXT",
        "CREATE TRIGGER stamp AFTER UPDATE OF n ON t BEGIN UPDATE t SET touched = strftime('%f', 'now') || hex(randomblob(4)) WHERE k = NEW.k; END;",
    )

    def refusing_trigger(self, table: str, condition: str) -> str:
        return f"CREATE TRIGGER no BEFORE INSERT ON {table} WHEN {condition} BEGIN SELECT RAISE(ABORT, 'unlucky'); END;"

    def meddling_trigger(self, table: str, statement: str) -> str:
        return f"CREATE TRIGGER meddle AFTER INSERT ON {table} BEGIN {statement}; END;"

    @pytest.mark.parametrize(
        ("collation", "incoming", "matched"),
        [("NOCASE", "l01", True), ("RTRIM", "L01", True), ("BINARY", "l01", False), ("NOCASE", "É1", False)],
    )
    def test_keys_are_equal_where_the_collation_says_so(self, folder, collation, incoming, matched):
        filler = "".join(f"INSERT INTO t VALUES ('F{at}', 0);" for at in range(20))  # so that keys are looked up
        stored = "L01  " if collation == "RTRIM" else "é1" if incoming == "É1" else "L01"
        self.make(
            folder,
            f"CREATE TABLE t (k TEXT COLLATE {collation} PRIMARY KEY, n INTEGER); INSERT INTO t VALUES ('{stored}', 1); {filler}",
        )
        receipt = self.load(folder, "t", [["k", "n"], [incoming, 2]])
        assert (receipt.rows.updated, receipt.rows.inserted) == ((1, 0) if matched else (0, 1))
        if matched:
            assert self.rows(folder, f"SELECT k, n FROM t WHERE k = '{stored}'") == [(stored, 2)]

    def test_the_same_key_twice_follows_the_collation(self, folder):
        self.make(folder, "CREATE TABLE t (k TEXT COLLATE NOCASE PRIMARY KEY, n INTEGER)")
        receipt = self.load(folder, "t", [["k", "n"], ["a", 1], ["A", 1], ["b", 1], ["B", 2]])
        assert (receipt.rows.inserted, receipt.rows.skipped, receipt.rows.rejected) == (1, 1, 2)

    @pytest.mark.parametrize("extra", ["", "WITHOUT ROWID", "STRICT"])
    def test_kinds_of_tables_and_names_of_row_numbers(self, folder, extra):
        self.make(folder, f"CREATE TABLE t (k TEXT PRIMARY KEY NOT NULL, rowid INTEGER, oid INTEGER, twice INTEGER GENERATED ALWAYS AS (oid * 2)) {extra};"
                          "INSERT INTO t (k, rowid, oid) VALUES ('a', 9, 1), ('b', 9, 2);")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "rowid", "oid", "twice"], ["a", 9, 5, 0], ["c", 9, 7, 0]])
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [("a", 9, 5, 10), ("b", 9, 2, 4), ("c", 9, 7, 14)]
        assert receipt.tables[0].not_loaded == ("twice",)
        undone = tidymerge.undo(receipt.run)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [("a", 9, 1, 2), ("b", 9, 2, 4)]
        tidymerge.undo(undone.run)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [("a", 9, 5, 10), ("b", 9, 2, 4), ("c", 9, 7, 14)]

    @pytest.mark.parametrize(
        ("stored", "written"),
        [("2026-05-01 08:00:00", "2026-05-04 09:30:00"), ("2026-05-01T08:00:00.000000", "2026-05-04T09:30:00.000000")],
    )
    def test_timestamps_are_written_as_the_table_spells_them(self, folder, stored, written):
        self.make(
            folder,
            f"CREATE TABLE t (k INTEGER PRIMARY KEY, at DATETIME); INSERT INTO t VALUES (1, '{stored}'), (2, '{stored}');",
        )
        receipt = self.load(folder, "t", [["k", "at"], [1, "2026-05-01 08:00"], [2, "2026-05-04 09:30"]])
        assert receipt.rows.updated == 1
        assert self.rows(folder, "SELECT at FROM t ORDER BY k") == [(stored,), (written,)]

    def test_a_check_is_cut_out_of_the_schema_whatever_is_written_in_it(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER CHECK (t.n < 5 /* ) */ AND n <> ')'))")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "n"], [1, 4], [2, 5]])
        assert self.reasons(receipt) == {"check failed": [3]}

    def test_replace_clauses_of_the_schema_may_not_swallow_rows(self, folder):
        self.make(
            folder,
            "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, CONSTRAINT u UNIQUE (n) ON CONFLICT REPLACE); INSERT INTO t VALUES (1, 1);",
        )
        receipt = self.load(folder, "t", [["k", "n"], [2, 1], [3, 3]])
        assert self.reasons(receipt) == {"not unique": [2]}
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1), (3, 3)]

    def test_the_target_is_not_locked_by_a_preview_and_keeps_its_journal_mode(self, folder):
        self.make(
            folder,
            "PRAGMA journal_mode = WAL; CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1);",
        )
        receipt = self.load(folder, "t", [["k", "n"], [1, 2]])
        assert receipt.rows.updated == 1
        assert self.rows(folder, "PRAGMA journal_mode") == [("wal",)]

    def test_every_type_goes_in_and_is_unchanged_the_second_time(self, folder):
        types = "INTEGER, DECIMAL(8,2), NUMERIC, REAL, VARCHAR(5), TEXT, BOOLEAN, DATE, TIME, DATETIME, TIMESTAMPTZ, UUID, JSON, BLOB, STRING"
        names = [f"c{at}" for at in range(15)]
        self.make(
            folder,
            f"CREATE TABLE t (k INTEGER PRIMARY KEY, {', '.join(map(' '.join, zip(names, types.split(', '), strict=True)))}, loose)".replace(
                "DECIMAL(8 2)", "DECIMAL(8,2)"
            ),
        )
        cells = ["7", "12.50", "0.125", "1.5", "abc", "tëxt", "yes", "2026-05-04", "09:30", "2026-05-04 09:30", "2026-05-04T09:30+02:00",
                 "550E8400-e29b-41d4-a716-446655440000", '{"b": 1}', "00ff", "A1", "any"]  # fmt: skip
        first = self.load(folder, "t", [["k", *names, "loose"], [1, *cells]])
        assert (first.rows.inserted, first.rejects.first) == (1, ())
        again = self.load(folder, "t", [["k", *names, "loose"], [1, *cells]])
        assert again.rows.unchanged == 1, again.tables[0].examples
        self.comes_back(folder, "t")
        assert self.rows(folder, "SELECT c1, c6, c8, c10, c13, typeof(c1) FROM t") == [
            (12.5, 1, "09:30:00.000000", "2026-05-04 07:30:00+00:00", b"\x00\xff", "real")
        ]


def test_more_digits_than_sqlite_keeps_are_rejected(folder):
    target = database(
        folder / "c.db", "CREATE TABLE t (k INTEGER PRIMARY KEY, n DECIMAL(20,2), id DECIMAL(18,0))", "t", ()
    )
    incoming = text_file(
        folder / "i.csv",
        [["k", "n", "id"], [1, "1234567890123.45", "123456789012345678"], [2, "12345678901234.56", ""]],
    )
    receipt = tidymerge.load(incoming, target, rejects=folder / "r.csv")
    assert [(cell.row, cell.reason) for cell in receipt.rejects.first] == [(3, "digits lost")]
    assert receipt.rows.inserted == 1  # and proved: SQLite keeps whole numbers of eighteen digits


def test_decimals_that_are_stored_as_text_keep_all_of_their_digits(folder):
    target = database(
        folder / "c.db",
        "CREATE TABLE t (k INTEGER PRIMARY KEY, n DECIMALTEXT(38,10))",
        "t",
        [(1, "1234567890123456789012345678.5")],
    )
    incoming = text_file(
        folder / "i.csv",
        [["k", "n"], [1, "1234567890123456789012345678.50"], [2, "9999999999999999999999999999.9999999999"]],
    )
    receipt = tidymerge.load(incoming, target)
    assert (receipt.rows.unchanged, receipt.rows.inserted) == (1, 1)
    assert [row[1].decode() for row in stored(target)] == [
        "1234567890123456789012345678.5",
        "9999999999999999999999999999.9999999999",
    ]


def test_updating_all_records_of_a_key_needs_a_primary_key(folder):
    database(folder / "c.db", "CREATE TABLE t (k INTEGER, n INTEGER)", "t", [(1, 1), (1, 2)])
    (folder / "job.toml").write_text(
        '[incoming]\nat = "i.csv"\n[target]\nat = "c.db#t"\nkey = "k"\n[rules]\nseveral_records = "update-all"\n'
    )
    text_file(folder / "i.csv", [["k", "n"], [1, 5]])
    with pytest.raises(tidymerge.UsageError, match="no primary key"):
        tidymerge.preview(job=folder / "job.toml")


VALUES = st.sampled_from([None, 1, 2**40, 2.5, "text", "7", b"\x00\xff", b"A", ""])


@settings(PROPERTY, max_examples=some(200))
@given(rows=st.lists(st.tuples(VALUES, VALUES), max_size=9))
def test_a_result_is_the_same_whatever_the_driver_is_given_at_once(rows):
    """The driver settles types by the first batch: a value of another type that comes later must not be lost."""
    with fresh_folder() as folder, pytest.MonkeyPatch.context() as patch:
        with contextlib.closing(sqlite3.connect(f"{folder}/t.db")) as connection, connection:
            connection.execute("CREATE TABLE t (a, b)")
            connection.executemany("INSERT INTO t VALUES (?, ?)", rows)
        opened = session.Session(folder / "t.db", write=False)
        whole = opened._one_batch("SELECT * FROM t", (), 100)  # noqa: SLF001
        for size in (1, 2, 3):
            patch.setattr(session, "_ROWS", (size, size))
            assert opened.table("SELECT * FROM t").equals(whole)
        opened.close()


def test_a_load_needs_little_memory(folder):
    """Not even address space: a machine may have none to spare. The driver took 8 GB for each column."""
    target = database(folder / "coop.db")
    text_file(folder / "in.csv", [["apiary_code", "hive_no", "queen_colour"], *(["X", at, "red"] for at in range(30))])
    command = f"ulimit -v 2000000 && exec '{PROGRAM}' load in.csv --into '{target}' --yes --most-inserted 30"
    done = subprocess.run(["bash", "-c", command], cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert len(stored(target)) == 33


def test_a_new_database_never_takes_the_place_of_another(folder):
    incoming = text_file(folder / "in.csv", [["k", "n"], ["a", 1]])

    @contextlib.contextmanager
    def meanwhile():
        if not Path("new.db").exists():
            database("new.db", "CREATE TABLE mine (k TEXT, n TEXT); INSERT INTO mine VALUES ('x', 'y');", rows=())
        yield

    done = load(Job((incoming,), "new.db#t", ("k",), create=True), shield=meanwhile)
    assert (stored("new.db#mine"), stored("new.db#t"), done.rows.inserted) == ([(b"x", b"y")], [(b"a", 1)], 1)
    assert not list(folder.glob(".tidymerge*"))


def test_a_change_makes_nothing_of_a_value_that_is_not_of_its_columns_type(folder):
    """It is not blank, and not known either: by an expression, by a rule of a job, and in the condition."""
    path = folder / "coop.db"
    schema = "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, note TEXT)"
    target = database(path, schema, "t", [(1, "many", "a"), (2, 4, "b"), (3, None, "c")])
    (folder / "job.toml").write_text(
        f'change = {{ where = "k < 3" }}\ntarget = {{ at = "{target}" }}\ncolumns = {{ note = "n" }}\n', "utf-8"
    )
    by_rule = tidymerge.change(job=folder / "job.toml")
    assert (by_rule.rejects.first[0].record, by_rule.rows.updated, by_rule.rows.rejected) == ("1", 1, 1)
    by_expression = tidymerge.change(target, {"note": "case when n = 4 then 'four' else 'other' end"}, where="k <> 3")
    assert (by_expression.rejects.reasons, by_expression.rows.updated) == ({"can't be computed": 1}, 1)
    unclear = tidymerge.change(target, {"note": "'x'"}, where="n is null or n > 4")
    assert (unclear.rows.updated, unclear.notes[-1].partition(":")[0]) == (1, "1 record left alone")
    assert stored(target) == [(1, b"many", b"a"), (2, 4, b"four"), (3, None, b"x")]
    replaced = tidymerge.change(target, {"n": "7"}, where="k = 1")
    assert (replaced.rows.updated, stored(target)[0]) == (1, (1, 7, b"a"))
    tidymerge.undo(replaced.run)
    assert stored(target)[0] == (1, b"many", b"a")
