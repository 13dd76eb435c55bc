"""What every kind of target must do. Adding a target means subclassing this, and giving it a place to make tables."""

from collections.abc import Callable, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

import pytest
from related_contract import RelatedContract

import tidymerge
from conftest import NO_LIMITS, text_file
from tidymerge.model import ReadOptions
from tidymerge.model.rules import Rules
from tidymerge.run.compare import Comparison, compare
from tidymerge.run.look_structure import since
from tidymerge.run.would_hold import would_hold
from tidymerge.targets import open_target
from tidymerge.targets.sql.writer import Writer


def without(reasons: Mapping[str, str]) -> Callable[[type], type]:
    """Leave tests of the contract out of a class, by what the target lacks: the words of their names, by the reason."""

    def left_out(contract: type) -> type:
        for names in reasons.values():
            for name in names.split():
                assert hasattr(contract, f"test_{name}"), name
                setattr(contract, f"test_{name}", None)
        return contract

    return left_out


class TargetContract(RelatedContract):
    """Each test makes tables by standard SQL, loads a small sheet through the Python door, and looks at the rows."""

    def make(self, folder: Path, script: str) -> None:
        """Run a script of SQL statements where the tables are to live."""
        raise AssertionError("a subclass makes tables")

    def address(self, folder: Path, table: str) -> str:
        raise AssertionError("a subclass knows where they live")

    def rows(self, folder: Path, query: str) -> list[tuple]:
        raise AssertionError("a subclass reads them")

    def load(self, folder: Path, table: str, rows: list[list[Any]], **options: Any) -> tidymerge.Receipt:
        """Load `rows` (the first is the header); preview must say the same beforehand."""
        incoming = text_file(folder / "in.csv", rows)
        target = self.address(folder, table)
        asked = {
            name: value
            for name, value in options.items()
            if name in ("key", "columns", "only", "add", "append", "again")
        }
        preview = tidymerge.preview(incoming, target, **asked)
        receipt = tidymerge.load(incoming, target, accept_warnings=True, rejects=folder / "r.csv", **options)
        if "refused" not in str(receipt.rejects.reasons):
            assert (preview.rows, preview.fingerprint) == (receipt.rows, receipt.fingerprint)
        return receipt

    def comes_back(self, folder: Path, table: str) -> None:
        """Rows that are taken out and come back as they are change nothing, in whatever kind of file."""
        for ending in ("xlsx", "ods", "csv", "parquet"):
            file = folder / f"out.{ending}"
            run = tidymerge.extract(self.address(folder, table), file)
            back = tidymerge.load(file, base=run, accept_warnings=True, rejects=False)
            assert (back.changed, back.rows.rejected) == (0, 0), (ending, back.rejects.first, back.tables[0].examples)
            assert back.rows.unchanged, ending
            file.unlink()

    def reasons(self, receipt: tidymerge.Receipt) -> dict[str, list[int]]:
        """The rejected rows by reason."""
        found: dict[str, list[int]] = {}
        for cell in receipt.rejects.first:
            found.setdefault(cell.reason, []).append(cell.row)
        return found

    def test_defaults_blanks_and_not_null(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, a VARCHAR(9) DEFAULT 'new' NOT NULL, b VARCHAR(9) NOT NULL, c INTEGER);"
                          "INSERT INTO t VALUES (1, 'x', 'y', 5);")  # fmt: skip
        receipt = self.load(
            folder, "t", [["k", "a", "b", "c"], [1, "", "", ""], [2, "", "z", ""], [3, "q", "z", 1], [4, "q", "", 1]]
        )
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [
            (1, "x", "y", 5),
            (2, "new", "z", None),
            (3, "q", "z", 1),
        ]
        assert self.reasons(receipt) == {"blank not allowed": [5]}
        missing = self.load(folder, "t", [["k", "c"], [1, 6], [9, 1]])
        assert self.reasons(missing) == {"blank not allowed": [3]}
        assert self.rows(folder, "SELECT c FROM t WHERE k = 1") == [(6,)]

    def test_sides_are_compared_as_the_table_compares(self, folder):
        self.make(folder, "CREATE TABLE t (k VARCHAR(9) PRIMARY KEY, n DECIMAL(9, 2));"
                  "INSERT INTO t VALUES ('a', 1), ('b', 2.5), ('d', 4), ('e', 0.25);")  # fmt: skip
        file = text_file(folder / "in.csv", [["k", "n"], ["A", "1.00"], ["b", "2.505"], ["c", 9], ["e", "some"]])
        ((alike,),) = self.rows(folder, "SELECT count(*) FROM t WHERE k = 'A'")
        table = self.address(folder, "t")
        for sides in ((table, file), (file, table)):
            receipt, touched = compare(Comparison(*sides), 99)
            rows = receipt.rows
            assert (rows.unchanged, rows.updated, rows.rejected) == (alike, 1, 1), touched
            assert (rows.removed, rows.inserted) == (2 - alike, 2 - alike)
            assert [touch.key for touch in touched if touch.outcome == "updated"] == [("b",)]
        assert self.rows(folder, "SELECT count(*) FROM t") == [(4,)]

    def test_foreign_keys_see_records_of_the_same_load(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, mentor INTEGER REFERENCES t (k));"
                          "INSERT INTO t VALUES (1, NULL);")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "mentor"], [2, 3], [3, 1], [4, 9], [5, 4], [1, 8]])
        assert self.reasons(receipt) == {"no such record": [4, 5, 6]}  # row 5 needs row 4, which needs nobody there
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, None), (2, 3), (3, 1)]
        assert receipt.rejects.first[0].value == "9"

    def test_a_record_may_refer_to_one_that_comes_later_in_the_sheet(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, mentor INTEGER, a VARCHAR(9) DEFAULT 'x', FOREIGN KEY (mentor) REFERENCES t (k));"
                          "INSERT INTO t VALUES (1, NULL, 'x');")  # fmt: skip
        receipt = self.load(
            folder, "t", [["k", "mentor", "a"], [1, 4, "y"], [2, 3, "y"], [3, 4, ""], [4, "", ""], [5, 2, "z"]]
        )
        assert (receipt.rows.updated, receipt.rows.inserted) == (1, 4)

    def test_an_old_offence_of_a_record_is_no_fault_of_the_row(self, folder):
        """Where a constraint came later than the data, a record may break it already; other columns can still change.

        But a database that holds every update to all checks would refuse it, so the preview says so.
        """
        self.make(folder, self.unchecked(
            "CREATE TABLE p (id INTEGER PRIMARY KEY);"
            "CREATE TABLE t (k INTEGER PRIMARY KEY, parent INTEGER REFERENCES p (id), low INTEGER, n INTEGER, CONSTRAINT few CHECK (low < 5))",
            "INSERT INTO t VALUES (1, 99, 1, 0), (2, NULL, 1, 0), (3, NULL, 9, 0)"))  # fmt: skip
        receipt = self.load(folder, "t", [["k", "parent", "low", "n"], [1, 99, 1, 7], [2, 98, 1, 7], [3, "", 9, 7]])
        refused = {"check failed": [4]} if self.rechecks else {}
        assert self.reasons(receipt) == {"no such record": [3], **refused}
        assert self.rows(folder, "SELECT k, n FROM t ORDER BY k") == [(1, 7), (2, 0), (3, 0 if self.rechecks else 7)]

    rechecks = False

    def unchecked(self, schema: str, rows: str) -> str:
        raise AssertionError("a subclass puts rows past the constraints")

    def test_unique_columns_other_than_the_key(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, email VARCHAR(20) UNIQUE, n INTEGER);"
                          "INSERT INTO t VALUES (1, 'a@example.org', 0), (2, 'b@example.org', 0), (3, 'c@example.org', 0);")  # fmt: skip
        rows = [
            ["k", "email", "n"],
            [1, "b@example.org", 1],
            [3, "new@example.org", 1],
            [4, "d@example.org", 1],
            [5, "d@example.org", 1],
            [6, "e@example.org", 1],
        ]
        receipt = self.load(folder, "t", rows)
        assert self.reasons(receipt) == {"not unique": [2, 4, 5]}
        assert self.rows(folder, "SELECT k, email FROM t ORDER BY k") == [
            (1, "a@example.org"), (2, "b@example.org"), (3, "new@example.org"), (6, "e@example.org"),
        ]  # fmt: skip

    @pytest.mark.parametrize(
        ("schema", "stored", "incoming", "wanted"),
        [
            # a swap, a chain, a circle of three, a value that an insert takes over
            ("k INTEGER PRIMARY KEY, u VARCHAR(9) UNIQUE", "(1, 'a'), (2, 'b')", [[1, "b"], [2, "a"]], [(1, "b"), (2, "a")]),
            ("k INTEGER PRIMARY KEY, u INTEGER NOT NULL UNIQUE", "(1, 1), (2, 2), (3, 3)", [[1, 2], [2, 3], [3, 4]], [(1, 2), (2, 3), (3, 4)]),
            ("k INTEGER PRIMARY KEY, u VARCHAR(3) NOT NULL UNIQUE", "(1, 'a'), (2, 'b'), (3, 'c')", [[1, "b"], [2, "c"], [3, "a"]], [(1, "b"), (2, "c"), (3, "a")]),
            ("k INTEGER PRIMARY KEY, u DATE UNIQUE", "(1, '2026-05-01'), (2, '2026-05-02')", [[1, "2026-05-02"], [3, "2026-05-01"], [2, "2026-05-03"]],
             [(1, "2026-05-02"), (2, "2026-05-03"), (3, "2026-05-01")]),
            # a primary key that is not the job's key
            ("u INTEGER PRIMARY KEY, k INTEGER NOT NULL UNIQUE", "(1, 10), (2, 20), (3, 30)", [[10, 2], [20, 1], [30, 7]], [(10, 2), (20, 1), (30, 7)]),
            ("k INTEGER NOT NULL UNIQUE, u VARCHAR(5) NOT NULL PRIMARY KEY", "(1, 'a'), (2, 'b')", [[1, "b"], [2, "a"]], [(1, "b"), (2, "a")]),
        ],
    )  # fmt: skip
    def test_unique_values_change_hands(self, folder, schema, stored, incoming, wanted):
        listed = "u, k" if schema.startswith("u") else "k, u"
        self.make(folder, f"CREATE TABLE t ({schema}); INSERT INTO t ({listed}) VALUES {stored};")
        before = self.rows(folder, "SELECT k, u FROM t ORDER BY k")
        receipt = self.load(folder, "t", [["k", "u"], *incoming], key=["k"])
        assert [
            (k, str(u) if isinstance(wanted[0][1], str) else u)
            for k, u in self.rows(folder, "SELECT k, u FROM t ORDER BY k")
        ] == wanted
        assert receipt.rows.rejected == 0
        assert self.load(folder, "t", [["k", "u"], *incoming], key=["k"]).rows.unchanged == len(incoming)
        undone = tidymerge.undo(receipt.run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT k, u FROM t ORDER BY k") == before
        tidymerge.undo(undone.run, into=self.address(folder, "t"))
        assert len(self.rows(folder, "SELECT k, u FROM t")) == len(wanted)

    restamped = ("TIMESTAMP", "")

    @pytest.mark.core
    def test_a_flawed_row_does_not_take_good_ones_of_its_key_along(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER NOT NULL, CONSTRAINT few CHECK (n < 100))")
        rows = [["k", "n"], [1, "x"], [1, 5], [1, 5], [2, "x"], [2, 5], [2, 6], [3, 200], [3, 200], [4, ""], [4, ""]]
        receipt = self.load(folder, "t", rows)
        assert self.reasons(receipt) == {
            "not a number": [2, 5], "same key twice": [6, 7], "check failed": [8, 9], "blank not allowed": [10, 11],
        }  # fmt: skip
        assert (receipt.rows.inserted, receipt.rows.skipped) == (1, 1)
        assert self.rows(folder, "SELECT k, n FROM t") == [(1, 5)]

    @pytest.mark.core
    def test_a_sheet_of_keys_alone_and_columns_that_differ_by_case(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER)")
        receipt = self.load(folder, "t", [["k"], [1], [1], [2]])
        assert (receipt.rows.inserted, receipt.rows.skipped) == (2, 1)

    def test_an_undo_does_not_ask_for_what_the_run_never_wrote(self, folder):
        kind, trigger = self.restamped
        self.make(
            folder,
            f"CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, touched {kind}); INSERT INTO t (k, n) VALUES (1, 1), (2, 2);{trigger}",
        )
        receipt = self.load(folder, "t", [["k", "n"], [1, 5], [3, 3]])
        assert (receipt.rows.updated, receipt.rows.inserted) == (1, 1)
        undone = tidymerge.undo(receipt.run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT k, n FROM t ORDER BY k") == [(1, 1), (2, 2)]
        tidymerge.undo(undone.run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT k, n FROM t ORDER BY k") == [(1, 5), (2, 2), (3, 3)]

    def test_keys_of_bytes_are_undone(self, folder):
        self.make(
            folder,
            f"CREATE TABLE t (k {self.bytes} PRIMARY KEY, n INTEGER); INSERT INTO t VALUES ({self.two_bytes}, 1);",
        )
        receipt = self.load(folder, "t", [["k", "n"], ["00ff", 2], ["0a0b", 3]])
        assert (receipt.rows.updated, receipt.rows.inserted) == (1, 1)
        tidymerge.undo(tidymerge.undo(receipt.run, into=self.address(folder, "t")).run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT n FROM t ORDER BY k") == [(2,), (3,)]

    bytes, two_bytes = "BLOB", "X'00ff'"

    def test_what_cannot_be_moved_aside_is_said_before(self, folder):
        self.make(
            folder,
            "CREATE TABLE t (k INTEGER PRIMARY KEY, u DATE NOT NULL UNIQUE); INSERT INTO t VALUES (1, '2026-05-01'), (2, '2026-05-02'), (3, '2026-05-03');",
        )
        rows = [["k", "u"], [1, "2026-05-02"], [2, "2026-05-08"], [3, "2026-05-09"]]
        receipt = self.load(folder, "t", rows)
        assert self.reasons(receipt) == {"not unique": [2, 3]}
        assert receipt.rows.updated == 1
        assert self.load(folder, "t", rows).changed == 0  # also not what would be free by now

    def test_parents_and_children_move_together(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, code VARCHAR(9) NOT NULL UNIQUE, mentor VARCHAR(9), FOREIGN KEY (mentor) REFERENCES t (code));"
                          "INSERT INTO t VALUES (1, 'a', NULL), (2, 'b', 'a'), (3, 'c', 'b');")  # fmt: skip
        before = self.rows(folder, "SELECT * FROM t ORDER BY k")
        rows = [["k", "code", "mentor"], [1, "A", ""], [2, "b", "A"], [4, "d", "e"], [5, "e", "d"], [3, "c", "c"]]
        receipt = self.load(
            folder, "t", rows
        )  # a key that changes with its child, a circle, and one that refers to itself
        assert receipt.rows.rejected == 0
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [
            (1, "A", None),
            (2, "b", "A"),
            (3, "c", "c"),
            (4, "d", "e"),
            (5, "e", "d"),
        ]
        tidymerge.undo(receipt.run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == before
        left = self.load(folder, "t", [["k", "code"], [1, "A"]])  # record 2 would lose its mentor
        assert self.reasons(left) == {"referred to": [2]}

    def test_a_key_that_others_follow_may_change(self, folder):
        self.make(folder, "CREATE TABLE p (k INTEGER PRIMARY KEY, code INTEGER NOT NULL UNIQUE);"
                          "CREATE TABLE c (id INTEGER PRIMARY KEY, code INTEGER, FOREIGN KEY (code) REFERENCES p (code) ON UPDATE CASCADE);"
                          "CREATE TABLE d (id INTEGER PRIMARY KEY, code INTEGER, FOREIGN KEY (code) REFERENCES p (code));"
                          "INSERT INTO p VALUES (1, 10), (2, 20), (3, 30); INSERT INTO c VALUES (1, 10), (2, 20); INSERT INTO d VALUES (1, 30);")  # fmt: skip
        receipt = self.load(folder, "p", [["k", "code"], [1, 20], [2, 10], [3, 31]])
        assert self.reasons(receipt) == {"referred to": [4]}
        assert self.rows(folder, "SELECT id, code FROM c ORDER BY id") == [
            (1, 20),
            (2, 10),
        ]  # they follow their parents

    def test_checks_judge_the_record_as_it_would_stand(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, low DECIMAL(8,2), high DECIMAL(8,2), CONSTRAINT room CHECK (low <= high));"
                          "INSERT INTO t VALUES (1, 1, 9), (2, 1, 9), (3, 10, NULL);")  # fmt: skip
        receipt = self.load(
            folder, "t", [["k", "low", "high"], [1, "9.5", ""], [2, "8.5", ""], [3, "", "9"], [4, "20", "100"]]
        )
        assert self.reasons(receipt) == {"check failed": [2, 4]}
        assert [(int(k), float(low)) for k, low in self.rows(folder, "SELECT k, low FROM t ORDER BY k")] == [
            (1, 1),
            (2, 8.5),
            (3, 10),
            (4, 20),
        ]

    def test_what_only_the_database_can_say_is_narrowed_down_to_the_rows(self, folder):
        self.make(
            folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER);" + self.refusing_trigger("t", "NEW.n = 13")
        )
        receipt = self.load(
            folder, "t", [["k", "n"], *([at, 13 if at in (7, 60) else at + 100] for at in range(1, 101))]
        )
        assert self.reasons(receipt) == {"refused by the target": [8, 61]}
        assert receipt.rows.inserted == 98
        assert self.rows(folder, "SELECT count(*), min(n) FROM t") == [(98, 101)]
        assert "only when written" in receipt.notes[0]

    def refusing_trigger(self, table: str, condition: str) -> str:
        raise AssertionError("a subclass writes a trigger that refuses rows")

    def meddling_trigger(self, table: str, statement: str) -> str:
        raise AssertionError("a subclass writes a trigger that runs a statement after an insert")

    @pytest.mark.parametrize("statement", ["UPDATE t SET n = n + 1 WHERE k = NEW.k", "DELETE FROM t WHERE k = 1"])
    def test_a_trigger_that_changes_rows_on_its_own_rolls_the_load_back(self, folder, statement):
        self.make(
            folder,
            "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1);"
            + self.meddling_trigger("t", statement),
        )
        with pytest.raises(tidymerge.ProofFailed, match="rigger"):
            self.load(folder, "t", [["k", "n"], [2, 5], [3, 5]])
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1)]
        assert not (folder / "r.csv").exists()

    def test_one_update_for_all_sets_of_changed_columns_touches_nothing_else(self, folder, monkeypatch):
        narrowed, statements = Writer._narrowed, []  # noqa: SLF001
        monkeypatch.setattr(Writer, "_narrowed", lambda *given: statements.append(given) or narrowed(*given))
        columns = "abcdef"
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, {', '.join(f'{name} INTEGER' for name in columns)});"
                  + "".join(f"INSERT INTO t VALUES ({k}, 0, 0, 0, 0, 0, 0);" for k in range(64)))  # fmt: skip
        wanted = [[k, *(k >> bit & 1 for bit in range(6))] for k in range(64)]
        receipt = self.load(folder, "t", [["k", *columns], *wanted])
        assert (receipt.rows.updated, receipt.rows.unchanged) == (63, 1)
        assert receipt.fields_updated == sum(sum(row[1:]) for row in wanted)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [tuple(row) for row in wanted]
        assert len(statements) == 1

    def test_what_does_not_change_in_a_record_stays_to_the_last_sign(self, folder):
        stored = [(1, 1, " a ", "x"), (2, 2, "b", "  "), (3, 3, "", None)]
        listed = "(1, 1, ' a ', 'x'), (2, 2, 'b', '  '), (3, 3, '', NULL)"
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, a VARCHAR(9), b VARCHAR(9));"
                          f"INSERT INTO t VALUES {listed};")  # fmt: skip
        receipt = self.load(folder, "t", [["k", "n", "a", "b"], [1, 5, "", "x"], [2, 2, "c", ""], [3, 3, "", "y"]])
        assert (receipt.rows.updated, receipt.fields_updated) == (3, 3)
        written = [(1, 5, " a ", "x"), (2, 2, "c", "  "), (3, 3, "", "y")]
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == written
        tidymerge.undo(receipt.run, into=self.address(folder, "t"))
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == stored

    @pytest.mark.core
    def test_the_first_rejects_are_the_first_rows_whatever_order_the_database_names_them_in(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, u VARCHAR(9) UNIQUE, n INTEGER);"
                          "INSERT INTO t VALUES " + ", ".join(f"({k}, 'u{k}', 0)" for k in range(30)))  # fmt: skip
        rows = [["k", "u", "n"], *([29 - at, "same", at % 2] for at in range(30))]
        found = self.load(folder, "t", rows, limits=NO_LIMITS).rejects.first
        assert [cell.row for cell in found] == list(range(2, 2 + len(found)))

    def test_few_rows_against_many_are_looked_up_by_key(self, folder):
        values = ",".join(f"('A{at:04}', {at % 7}, {at})" for at in range(2000))
        self.make(
            folder,
            f"CREATE TABLE t (a VARCHAR(8), b INTEGER, n INTEGER, PRIMARY KEY (a, b)); INSERT INTO t VALUES {values};",
        )
        receipt = self.load(
            folder,
            "t",
            [["a", "b", "n"], ["A0008", 1, 8], ["A0009", 2, 99], ["A0009", 2, 99], ["A0009", 3, 5], ["a0010", 3, 5]],
        )
        assert (receipt.rows.unchanged, receipt.rows.updated, receipt.rows.skipped, receipt.rows.inserted) == (
            1,
            1,
            1,
            2,
        )
        assert "letter case" in receipt.warnings[0]
        assert self.rows(folder, "SELECT count(*) FROM t") == [(2002,)]

    @pytest.mark.parametrize(
        ("foreign", "fourth"), [(", FOREIGN KEY (mentor) REFERENCES t (k)", "e"), ("", "a")], ids=["parents", "unique"]
    )
    def test_undo_of_records_that_refer_to_each_other_or_take_each_others_values(self, folder, foreign, fourth):
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, mentor INTEGER, mail VARCHAR(9) UNIQUE{foreign});"
                          "INSERT INTO t VALUES (1, NULL, 'a'), (9, 1, 'z');")  # fmt: skip
        query = "SELECT * FROM t ORDER BY k"
        start = self.rows(folder, query)
        loaded = self.load(
            folder, "t", [["k", "mentor", "mail"], [1, 3, "b"], [3, "", "c"], [2, 3, "d"], [4, 2, fourth]]
        )
        after = self.rows(folder, query)
        assert (loaded.rows.updated, loaded.rows.inserted) == (1, 3), loaded.rejects
        undone = tidymerge.undo(loaded.run)
        assert (self.rows(folder, query), undone.rows.removed) == (start, 3)
        tidymerge.undo(undone.run)
        assert self.rows(folder, query) == after

    @pytest.mark.core
    def test_a_change_of_records(self, folder):
        self.make(folder, "CREATE TABLE p (id INTEGER PRIMARY KEY); INSERT INTO p VALUES (1), (2), (5);"
                          "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, kg DECIMAL(5, 2) NOT NULL, mail VARCHAR(9) UNIQUE, p INTEGER, CHECK (n < 50), FOREIGN KEY (p) REFERENCES p (id));"
                          "INSERT INTO t VALUES (1, 10, 1.15, 'a', 1), (2, 20, 2.25, 'b', 1), (3, 30, 3.5, NULL, 2), (4, NULL, 999, 'd', NULL), (5, 50 - 1, 5, 'e', 2);")  # fmt: skip
        query = "SELECT k, n, kg, mail, p FROM t ORDER BY k"
        start, target = self.rows(folder, query), self.address(folder, "t")
        with pytest.raises(tidymerge.Stopped, match="all 5 records"):
            tidymerge.change(target, {"n": "0"})
        asked = {"n": "n + 10", "kg": "kg * 1.1 + k - k", "p": "n / 10"}  # each from the values before
        preview = tidymerge.change(target, asked, where="k > 1 and (n > 10 or n is null)", preview=True)
        changed = tidymerge.change(target, asked, where="k > 1 and (n > 10 or n is null)", expect=preview.fingerprint)
        assert (changed.rows.read, changed.rows.updated, changed.rows.rejected) == (4, 1, 3)
        assert changed.rejects.reasons == {"no such record": 1, "out of range": 1, "check failed": 1}
        assert {cell.record for cell in changed.rejects.first} == {"3", "4", "5"}
        assert changed.notes[-1] == "1 new value of kg rounded to the column's decimals."
        written = [(1, 10, *start[0][2:]), (2, 30, type(start[1][2])("2.48"), "b", 2), *start[2:]]
        assert self.rows(folder, query) == written
        again = tidymerge.change(target, {"n": "30", "mail": "mail"}, where="k = 2")
        assert (again.rows.unchanged, again.changed, self.rows(folder, query)) == (1, 0, written)
        swapped = tidymerge.change(
            target, {"mail": "case mail when 'a' then 'b' else 'a' end"}, where="mail in ('a', 'b')"
        )
        assert (swapped.rows.updated, [row[3] for row in self.rows(folder, query)[:2]]) == (2, ["b", "a"]), (
            swapped.rejects
        )
        assert tidymerge.change(target, {"kg": "null"}, where="k = 1").rejects.reasons == {"blank not allowed": 1}
        tidymerge.undo(swapped.run)
        tidymerge.undo(changed.run)
        assert self.rows(folder, query) == start
        tidymerge.undo("last")
        assert self.rows(folder, query) == written

    @pytest.mark.core
    def test_a_removal_of_records(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, kg DECIMAL(5, 2), note VARCHAR(9) DEFAULT 'x', mentor INTEGER, FOREIGN KEY (mentor) REFERENCES t (k));"
                          "CREATE TABLE hive (id INTEGER PRIMARY KEY, t INTEGER, FOREIGN KEY (t) REFERENCES t (k) ON DELETE CASCADE);"
                          "INSERT INTO t VALUES (1, 10, 1.15, 'a', NULL), (2, 20, 2.25, NULL, 1), (3, 30, 3.5, '', 2), (4, NULL, 999, 'd', 3), (5, 50, NULL, 'e', 5);"
                          "INSERT INTO hive VALUES (7, 5), (8, 5), (9, NULL);")  # fmt: skip
        query = "SELECT k, n, kg, note, mentor FROM t ORDER BY k"
        start, target = self.rows(folder, query), self.address(folder, "t")
        with pytest.raises(tidymerge.Stopped, match="all 3 records"):
            tidymerge.remove(self.address(folder, "hive").replace("#t", "#hive"))
        with pytest.raises(tidymerge.Stopped, match="3 of 3 records can't go") as stopped:
            tidymerge.remove(target, where="n in (20, 30, 50)")  # whatever the database would do by itself
        said = {cell.record: cell.value for cell in stopped.value.receipt.rejects.first}
        assert said == {"2": "t k 3", "3": "t k 4", "5": "hive id 7 and 1 more"}  # 2 could go with 3, which can't
        named = text_file(folder / "gone.csv", [["k", "n"], [4, "x"], [4, 7], [9, ""], ["", 1]])
        by_rows = tidymerge.remove(target, keys=named, limits=NO_LIMITS)
        assert (by_rows.rows.removed, by_rows.rows.skipped, self.reasons(by_rows)) == (
            1, 1, {"not there": [4], "blank key": [5]},
        )  # fmt: skip
        assert self.rows(folder, query) == [*start[:3], start[4]]
        tidymerge.undo(by_rows.run)
        with pytest.raises(tidymerge.Stopped, match="others refer to 1 of the records"):
            tidymerge.remove(target, keys=text_file(folder / "gone.csv", [["k"], [1], [4]]), limits=NO_LIMITS)
        assert self.rows(folder, query) == start
        preview = tidymerge.remove(target, where="k < 5", preview=True)
        removed = tidymerge.remove(target, where="k < 5", expect=preview.fingerprint)
        assert (removed.rows.read, removed.rows.removed, removed.tables[0].rows_after) == (4, 4, 1)
        assert self.rows(folder, query) == start[4:]
        assert tidymerge.remove(target, where="k < 5").changed == 0
        undone = tidymerge.undo(removed.run)
        assert (undone.rows.inserted, self.rows(folder, query)) == (4, start)
        tidymerge.undo(undone.run)
        assert (self.rows(folder, query), self.rows(folder, "SELECT count(*) FROM hive")) == (start[4:], [(3,)])

    keyless = "CREATE TABLE t (hive VARCHAR(9), kg DECIMAL(6, 2));"

    def test_rows_are_appended_and_exactly_those_go_again(self, folder):
        self.make(folder, "CREATE TABLE known (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO known VALUES (1, 1);"
                          f"CREATE TABLE numbered ({self.numbered}, hive VARCHAR(9), kg DECIMAL(6, 2), note VARCHAR(9) DEFAULT 'x', CONSTRAINT few CHECK (kg < 90));"
                          "INSERT INTO numbered (hive, kg) VALUES ('a', 1), ('z', NULL);"
                          + (f"{self.keyless} INSERT INTO t VALUES ('a', 1), ('z', NULL);" if self.keyless else ""))  # fmt: skip
        rows = [["hive", "kg"], ["a", 1], ["a", 1], ["b", ""], ["c", "x"], ["", 2]]
        wanted = [("a", 1), ("a", 1), ("a", 1), ("b", None), (None, 2), ("z", None)]
        for table in ("numbered", *(["t"] if self.keyless else [])):
            query = f"SELECT hive, kg FROM {table} ORDER BY CASE WHEN hive IS NULL THEN 1 ELSE 0 END, hive"
            start, target = self.rows(folder, query), self.address(folder, table)
            done = self.load(folder, table, rows, append=True)
            assert (done.rows.inserted, self.reasons(done)) == (4, {"not a number": [5]})
            after = self.rows(folder, query)
            assert sorted(map(str, after)) == sorted(
                str((hive, None if kg is None else after[0][1] * kg)) for hive, kg in wanted
            )
            with pytest.raises(tidymerge.Stopped, match="This very file was loaded"):
                tidymerge.load("in.csv", target, append=True, rejects=False)
            undone = tidymerge.undo(done.run)
            assert (undone.rows.removed, self.rows(folder, query)) == (4, start)
            redone = tidymerge.undo(undone.run)
            assert (redone.rows.inserted, self.rows(folder, query)) == (4, after)
            assert tidymerge.load("in.csv", target, append=True, again=True, rejects=False).rows.inserted == 4
            tidymerge.undo("last")
            self.make(
                folder, f"DELETE FROM {table} WHERE hive = 'b'; INSERT INTO {table} (hive, kg) VALUES ('new', 3);"
            )
            assert tidymerge.undo(redone.run, rest=True).rows.removed == 3
            assert sorted(map(str, self.rows(folder, query))) == sorted(
                map(str, [*start, *self.rows(folder, f"SELECT hive, kg FROM {table} WHERE hive = 'new'")])
            )
        over = self.load(folder, "numbered", [["hive", "kg"], ["d", 80], ["e", 95]], append=True)
        assert (over.rows.inserted, self.reasons(over)) == (1, {"check failed": [3]})
        known = self.load(folder, "known", [["k", "n"], [1, 1], [2, 2]], append=True)
        assert (known.rows.inserted, self.reasons(known)) == (1, {"already there": [2]})

    numbered = "id INTEGER PRIMARY KEY"

    @pytest.mark.core
    def test_rows_of_one_key_are_all_kept(self, folder):
        self.make(folder, f"CREATE TABLE t ({self.numbered}, hive VARCHAR(9), kg DECIMAL(6, 2), note VARCHAR(9));"
                          "INSERT INTO t (hive, kg, note) VALUES ('a', 1, 'x'), ('a', 2, 'y'), ('z', NULL, 'z');")  # fmt: skip
        query, target = "SELECT hive, kg, note FROM t ORDER BY id", self.address(folder, "t")
        start = self.rows(folder, query)
        job = folder / "keep.toml"
        job.write_text(f"[target]\nat = {target!r}\nkey = 'hive'\n[rules]\nsame_key_twice = 'keep-all'\n")
        text_file(folder / "in.csv", [["hive", "kg"], ["a", 2], ["a", 3], ["a", 3], ["b", 5]])
        asked = {"job": job, "accept_warnings": True, "limits": NO_LIMITS}
        done = tidymerge.load("in.csv", **asked)
        assert (done.rows.unchanged, done.rows.updated, done.rows.inserted) == (1, 1, 2)
        after = self.rows(folder, query)
        assert [(hive, int(kg or 0), note) for hive, kg, note in after] == [
            ("a", 3, "x"), ("a", 2, "y"), ("z", 0, "z"), ("a", 3, None), ("b", 5, None),
        ]  # fmt: skip
        assert tidymerge.load("in.csv", **asked).rows.unchanged == 4
        undone = tidymerge.undo(done.run)
        assert self.rows(folder, query) == start
        tidymerge.undo(undone.run)
        assert self.rows(folder, query) == after
        text_file(folder / "in.csv", [["id", "hive", "kg"], [8, "a", 2]])
        with pytest.raises(tidymerge.UsageError, match="bring id, which tells the records apart"):
            tidymerge.load("in.csv", **asked)
        self.make(folder, "CREATE TABLE u (k VARCHAR(9) PRIMARY KEY, kg DECIMAL(6, 2));")
        with pytest.raises(tidymerge.UsageError, match="is unique"):
            tidymerge.load(
                text_file(folder / "u.csv", [["k", "kg"], ["a", 1]]),
                self.address(folder, "u"),
                key="k",
                job=tidymerge.Job((), "", rules=Rules(same_key_twice="keep-all")),
            )

    def test_a_table_is_made_and_goes_with_the_undo(self, folder):
        self.make(folder, "CREATE TABLE hive (id INTEGER PRIMARY KEY, kg DECIMAL(6, 2) NOT NULL, note VARCHAR(9)); CREATE TABLE apiary (id INTEGER PRIMARY KEY, town VARCHAR(9));"
                          "INSERT INTO hive VALUES (1, 1.5, 'x'), (2, 2, NULL); INSERT INTO apiary VALUES (1, 'Ried');")  # fmt: skip
        rows = [
            ["Hive no", "Honey (kg)", "Seen on", "select"],
            ["a", "1.5", "2026-05-01", 7],
            ["b", "2.25", "", 8],
            ["b", "3", "", 8],
            ["", "1", "", 9],
        ]
        target = self.address(folder, "new")
        incoming = text_file(folder / "in.csv", rows)
        job = tidymerge.Job(
            (incoming,), target, key=("hive_no",), create=True, types={"seen_on": "date", "select": "integer not null"}
        )
        preview = tidymerge.preview(job=job)
        assert (
            'CREATE TABLE "new" ("hive_no" VARCHAR NOT NULL, "honey_kg" DECIMAL(18, 2), "seen_on" DATE, "select" INTEGER NOT NULL, PRIMARY KEY ("hive_no"))'
            in " ".join(preview.notes)
        )
        with pytest.raises(tidymerge.TargetError):
            tidymerge.preview(incoming, target)  # nothing was made
        done = tidymerge.load(job=job, rejects=False, limits=NO_LIMITS, accept_warnings=True)
        assert (preview.rows, preview.fingerprint) == (done.rows, done.fingerprint)
        assert (done.rows.inserted, done.rejects.reasons) == (1, {"same key twice": 2, "blank key": 1})
        query = "SELECT hive_no, honey_kg FROM new ORDER BY hive_no"
        assert [(key, float(kg)) for key, kg in self.rows(folder, query)] == [("a", 1.5)]
        with pytest.raises(tidymerge.UsageError, match="is there already"):
            tidymerge.load(job=job)
        undone = tidymerge.undo(done.run)
        assert undone.tables[0].table_gone
        with pytest.raises(tidymerge.TargetError):
            tidymerge.preview(incoming, target)
        redone = tidymerge.undo(undone.run)
        assert (redone.rows.inserted, len(self.rows(folder, query))) == (1, 1)
        self.make(
            folder, "INSERT INTO new (hive_no, " + ('"select"' if self.quotes else "`select`") + ") VALUES ('mine', 1)"
        )
        kept = tidymerge.undo(redone.run)
        assert (kept.tables[0].table_gone, self.rows(folder, "SELECT hive_no FROM new")) == (False, [("mine",)])
        self.make(folder, "DROP TABLE new")
        once_more = tidymerge.load(job=job, rejects=False, limits=NO_LIMITS, accept_warnings=True)
        self.make(folder, "ALTER TABLE new ADD COLUMN theirs INTEGER")
        kept = tidymerge.undo(once_more.run)
        assert (kept.tables[0].table_gone, self.rows(folder, "SELECT theirs FROM new")) == (False, [])
        self.make(folder, "DROP TABLE new")
        from_query = tidymerge.Job(
            (self.address(folder, "hive").partition("#")[0],), target, key=("id",), like="hive",
            read=ReadOptions(query="SELECT h.id, h.kg, a.town AS note FROM hive h LEFT JOIN apiary a ON a.id = h.id"), create=True,
        )  # fmt: skip
        assert tidymerge.load(job=from_query).rows.inserted == 2
        assert [
            (key, float(kg), note) for key, kg, note in self.rows(folder, "SELECT id, kg, note FROM new ORDER BY id")
        ] == [(1, 1.5, "Ried"), (2, 2, None)]
        odd = text_file(folder / "odd.csv", [["id", "kg", "note"], [9, 1, "longer than nine"], [8, "12345.5", ""]])
        like_it = tidymerge.preview(odd, target)
        assert {cell.reason for cell in like_it.rejects.first} == {"too long", "out of range"}, like_it.rejects.first
        stopped = tidymerge.Limits(inserted=tidymerge.Most(1))
        with pytest.raises(tidymerge.Stopped):
            tidymerge.load(
                job=tidymerge.Job((incoming,), self.address(folder, "other"), create=True, key=("select",)),
                limits=stopped,
            )
        assert "other" not in [name for name, *_ in self.table_names(folder)]

    quotes = True

    def table_names(self, folder):
        with open_target(self.address(folder, "hive"), write=False) as target:
            return target.tables()

    @pytest.mark.core
    def test_records_that_are_on_no_row(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, active VARCHAR(3), mentor INTEGER, FOREIGN KEY (mentor) REFERENCES t (k));"
                          "CREATE TABLE hive (id INTEGER PRIMARY KEY, t INTEGER, FOREIGN KEY (t) REFERENCES t (k) ON DELETE CASCADE);"
                          "INSERT INTO t VALUES (1, 1, 'yes', NULL), (2, 1, 'yes', 1), (3, 1, 'no', 2), (4, 1, 'yes', 2), (5, 2, 'yes', NULL), (6, 1, 'yes', NULL);"
                          "INSERT INTO hive VALUES (7, 6);")  # fmt: skip
        query = "SELECT k, active FROM t ORDER BY k"
        start, target = self.rows(folder, query), self.address(folder, "t")
        job = folder / "full.toml"

        def load(rows, absent, **options):
            text_file(folder / "in.csv", rows)
            job.write_text(
                f"[incoming]\nat = 'in.csv'\n[target]\nat = {target!r}\n[rules]\nabsent = {absent}\nabsent_within = 'n = 1'\n"
                "[columns]\nk = 'k'\nactive = { value = 'yes' }\n"
            )
            asked = {"accept_warnings": True, "rejects": False, "limits": NO_LIMITS} | options
            preview = tidymerge.preview(job=job)
            receipt = tidymerge.load(job=job, **asked)
            assert (preview.rows, preview.fingerprint) == (receipt.rows, receipt.fingerprint)
            return receipt

        marked = load([["k"], [1], [6]], "{ active = 'no' }")
        assert (marked.rows.read, marked.rows.updated, marked.rows.unchanged, marked.rows.absent) == (2, 2, 2, 2)
        assert self.rows(folder, query) == [(1, "yes"), (2, "no"), (3, "no"), (4, "no"), (5, "yes"), (6, "yes")]
        tidymerge.undo(marked.run)
        assert self.rows(folder, query) == start
        gone = load([["k"], [1]], "'remove'")
        assert (gone.rows.removed, gone.rows.absent, gone.rows.read, gone.tables[0].rows_after) == (3, 4, 1, 3)
        (reject,) = gone.rejects.first
        assert (reject.record, reject.value, gone.rejects.reasons) == ("6", "hive id 7", {"referred to": 1})
        tidymerge.undo(gone.run)
        assert self.rows(folder, query) == start
        for rows in ([["k"]], [["k"], [1], ["x"]], [["k"], *([at] for at in range(20, 29)), [9], [9.5]]):
            assert load(rows, "'remove'").rows.removed == 0
        with pytest.raises(tidymerge.Stopped, match="would be removed"):
            load([["k"], [1]], "'remove'", limits=tidymerge.Limits(removed=tidymerge.Most(1)))

    def test_others_take_the_values_of_a_record_that_goes(self, folder):
        """Also where a record has to cease to refer to it, and refers to the one that takes them."""
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, tag VARCHAR(3) UNIQUE, mentor INTEGER, FOREIGN KEY (mentor) REFERENCES t (k));"
                          "INSERT INTO t VALUES (1, 'a', NULL), (2, 'b', 1), (4, 'd', 2);")  # fmt: skip
        query, target = "SELECT k, tag, mentor FROM t ORDER BY k", self.address(folder, "t")
        start = self.rows(folder, query)
        (folder / "full.toml").write_text(f"[target]\nat = {target!r}\n[rules]\nabsent = 'remove'\n")
        rows = text_file(folder / "in.csv", [["k", "tag", "mentor"], [2, "b", 3], [3, "a", ""], [4, "d", 2]])
        done = tidymerge.load(rows, job=folder / "full.toml", limits=NO_LIMITS, accept_warnings=True)
        assert (done.rows.updated, done.rows.inserted, done.rows.removed, done.rows.unchanged) == (1, 1, 1, 1)
        assert self.rows(folder, query) == [(2, "b", 3), (3, "a", None), (4, "d", 2)]
        undone = tidymerge.undo(done.run)
        assert self.rows(folder, query) == start
        tidymerge.undo(undone.run)
        assert self.rows(folder, query) == [(2, "b", 3), (3, "a", None), (4, "d", 2)]

    def test_an_undo_that_would_leave_others_without_a_parent_names_them(self, folder):
        """Whatever the foreign key would do by itself: nobody else's record is removed or changed along."""
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER);"
                          "CREATE TABLE hive (id INTEGER PRIMARY KEY, t INTEGER, FOREIGN KEY (t) REFERENCES t (k));"
                          "CREATE TABLE lot (id INTEGER PRIMARY KEY, t INTEGER, FOREIGN KEY (t) REFERENCES t (k) ON DELETE CASCADE);"
                          "INSERT INTO t VALUES (1, 1);")  # fmt: skip
        loaded = self.load(folder, "t", [["k", "n"], [1, 2], [2, 2], [3, 2], [4, 2]])
        self.make(folder, "INSERT INTO hive VALUES (7, 2), (8, 2), (9, 1); INSERT INTO lot VALUES (5, 3);")
        with pytest.raises(tidymerge.Stopped, match="2 of 4 records") as stopped:
            tidymerge.undo(loaded.run)
        said = {conflict.key: conflict.now for conflict in stopped.value.receipt.conflicts}
        assert said == {("2",): "hive id 7 and 1 more", ("3",): "lot id 5"}
        undone = tidymerge.undo(loaded.run, rest=True)
        assert (undone.rows.removed, undone.rows.updated, undone.rows.rejected) == (1, 1, 2)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 1), (2, 2), (3, 2)]
        assert self.rows(folder, "SELECT count(*) FROM lot") == [(1,)]

    @pytest.mark.core
    def test_undo_finds_records_by_the_primary_key_where_the_job_used_another(self, folder):
        self.make(folder, "CREATE TABLE t (id INTEGER PRIMARY KEY, k VARCHAR(9), n INTEGER); INSERT INTO t VALUES (1, 'a', 1), (2, 'b', 1), (3, 'b', 1);")  # fmt: skip
        loaded = self.load(folder, "t", [["k", "n"], ["a", 5]], key="k")
        self.make(folder, "UPDATE t SET k = 'c' WHERE id = 1")
        tidymerge.undo(loaded.run)
        assert self.rows(folder, "SELECT * FROM t ORDER BY id") == [(1, "c", 1), (2, "b", 1), (3, "b", 1)]

    def test_a_trigger_that_is_trusted_does_not_disturb_the_log(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1);")
        self.make(folder, self.doubling)
        loaded = self.load(folder, "t", [["k", "n"], [1, 5], [2, 6]], trust_triggers=True)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 10), (2, 6)]
        tidymerge.undo(loaded.run, trust_triggers=True)
        assert self.rows(folder, "SELECT * FROM t") == [(1, 2)]  # the trigger has doubled what was put back too

    doubling: str  # a trigger on t that doubles every n that an update writes

    def test_columns_are_added_on_request_and_go_with_the_undo(self, folder):
        self.make(
            folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1), (2, 1), (3, 1);"
        )
        start = self.rows(folder, "SELECT * FROM t ORDER BY k")
        sheet = [["k", "N", "Wind", "Honey (kg)", "Seen on", "Code", "Blank"],
                 [1, 5, "west", "1.5", "2026-05-01", "007", ""], [4, 6, "", "12.25", "", "8", ""], [2, 1, "", "", "", "", ""]]  # fmt: skip
        preview = tidymerge.preview(text_file(folder / "p.csv", sheet), self.address(folder, "t"), add=True)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == start
        assert "New column: honey_kg, of the type decimal(18, 2)." in preview.notes
        loaded = self.load(folder, "t", sheet, add=True)
        assert (loaded.rows.updated, loaded.rows.inserted, loaded.rows.unchanged) == (1, 1, 1)
        query = "SELECT k, n, wind, honey_kg, seen_on, code FROM t ORDER BY k"
        after = self.rows(folder, query)
        found = [[cell if cell is None else str(cell) for cell in row] for row in after]
        assert found == [
            ["1", "5", "west", found[0][3], "2026-05-01", "007"], ["2", "1", None, None, None, None],
            ["3", "1", None, None, None, None], ["4", "6", None, "12.25", None, "8"],
        ]  # fmt: skip
        assert float(found[0][3]) == 1.5
        assert self.load(folder, "t", sheet, add=True).changed == 0
        assert tidymerge.undo(loaded.run).rows.removed == 1
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == start
        again = tidymerge.undo("last")
        assert self.rows(folder, query) == after
        self.make(folder, "UPDATE t SET wind = 'east' WHERE k = 3")
        undone = tidymerge.undo(again.run)
        assert "The column wind, which the run had added, stays: 1 of its values do." in undone.notes
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 1, None), (2, 1, None), (3, 1, "east")]

    def test_an_added_column_that_something_needs_by_now_stays_after_the_undo(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1), (2, 1);")
        loaded = self.load(folder, "t", [["k", "n", "wind", "rain"], [1, 5, 3, 4]], add=True)
        self.make(folder, "CREATE INDEX by_wind ON t (wind)")
        undone = tidymerge.undo(loaded.run)
        assert any("wind, which the run had added, stays: the index" in note for note in undone.notes), undone.notes
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 1, None), (2, 1, None)]

    def test_a_column_goes_with_its_values_and_comes_back_as_it_was(self, folder):
        declared = "VARCHAR(9) DEFAULT 'it''s' NOT NULL"
        self.make(folder, f"CREATE TABLE t (k INTEGER PRIMARY KEY, a INTEGER, note {declared}, z INTEGER); INSERT INTO t VALUES (1, 5, 'x', NULL), (2, 6, '', 7), (3, NULL, 'y', NULL);")  # fmt: skip
        query = "SELECT k, a, note, z FROM t ORDER BY k"
        start = self.rows(folder, query)
        address = self.address(folder, "t")
        preview = tidymerge.change(address, drop=["NOTE", "z"], preview=True)
        assert self.rows(folder, query) == start
        gone = tidymerge.change(address, drop=["NOTE", "z"], expect=preview.fingerprint)
        assert (gone.rows.updated, gone.rows.unchanged, gone.fields_updated) == (3, 0, 4)
        assert self.rows(folder, "SELECT * FROM t ORDER BY k") == [(1, 5), (2, 6), (3, None)]
        tidymerge.undo(gone.run)
        assert self.rows(folder, query) == start
        refused = self.load(folder, "t", [["k", "note"], [4, "longer than nine"]])
        assert refused.rejects.first[0].expected == "at most 9 characters", refused.rejects.first
        assert self.load(folder, "t", [["k", "note"], [4, ""]], only=["k"]).rows.inserted == 1
        assert self.rows(folder, "SELECT note FROM t WHERE k = 4") == [("it's",)]
        tidymerge.undo("last")

    def test_a_column_that_holds_nothing_goes_and_comes_back_and_goes(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER, z DATE DEFAULT '2026-05-01'); INSERT INTO t VALUES (1, 1, NULL);")  # fmt: skip
        gone = tidymerge.change(self.address(folder, "t"), drop="z")
        assert gone.rows.unchanged == 1
        back = tidymerge.undo(gone.run)
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1, None)]
        self.load(folder, "t", [["k", "n"], [2, 2]])
        assert str(self.rows(folder, "SELECT z FROM t WHERE k = 2")[0][0]) == "2026-05-01"
        tidymerge.undo("last")
        tidymerge.undo(back.run)
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1)]

    def test_a_column_of_which_another_is_computed_does_not_go(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, e INTEGER, g INTEGER GENERATED ALWAYS AS (e * 2) STORED); INSERT INTO t (k, e) VALUES (1, 4);")  # fmt: skip
        with pytest.raises(tidymerge.Stopped, match=r"e is needed by the .*\bg\b.*; nothing was written\. Change what"):
            tidymerge.change(self.address(folder, "t"), drop="e")
        assert self.rows(folder, "SELECT * FROM t") == [(1, 4, 8)]

    @pytest.mark.core
    def test_a_tree_of_records_goes_with_its_root_and_comes_back(self, folder):
        self.make(folder, "CREATE TABLE keeper (id INTEGER PRIMARY KEY, name VARCHAR(9), mentor INTEGER REFERENCES keeper (id)); "
            "CREATE TABLE hive (code VARCHAR(9), no INTEGER, keeper INTEGER REFERENCES keeper (id) ON DELETE SET NULL, PRIMARY KEY (code, no)); "
            "CREATE TABLE seen (n INTEGER PRIMARY KEY, code VARCHAR(9), no INTEGER, by_keeper INTEGER REFERENCES keeper (id), note VARCHAR(9), FOREIGN KEY (code, no) REFERENCES hive (code, no) ON DELETE CASCADE); "
            "CREATE TABLE other (k INTEGER PRIMARY KEY, seen INTEGER REFERENCES seen (n)); ALTER TABLE keeper ADD COLUMN best INTEGER REFERENCES seen (n)")  # fmt: skip
        self.make(folder, "INSERT INTO keeper (id, name, mentor) VALUES (1, 'a', NULL), (2, 'b', 1), (3, 'c', 2), (4, NULL, NULL); UPDATE keeper SET mentor = 3 WHERE id = 1; "
            "INSERT INTO hive VALUES ('L', 1, 1), ('L', 2, 3), ('M', 1, 4), ('M', 2, NULL); "
            "INSERT INTO seen VALUES (1, 'L', 1, 4, 'x'), (2, 'L', 2, 3, NULL), (3, 'M', 1, 4, ''), (4, 'M', 2, 2, 'y'), (5, NULL, NULL, NULL, 'z'); UPDATE keeper SET best = CASE id WHEN 1 THEN 4 WHEN 2 THEN 1 ELSE 5 END")  # fmt: skip
        tables = ("keeper", "hive", "seen")  # keeper and seen refer to each other in a circle
        start = {name: sorted(map(str, self.rows(folder, f"SELECT * FROM {name}"))) for name in tables}

        def now():
            return {name: sorted(map(str, self.rows(folder, f"SELECT * FROM {name}"))) for name in tables}

        asked = {"where": "id = 1", "with_referring": True, "limits": NO_LIMITS}
        preview = tidymerge.remove(self.address(folder, "keeper"), **asked, preview=True)
        assert now() == start
        gone = tidymerge.remove(self.address(folder, "keeper"), **asked, expect=preview.fingerprint)
        counts = {table.target.rpartition("#")[2]: table.rows.removed for table in gone.tables}
        assert (counts, gone.rows.removed) == ({"keeper": 3, "hive": 2, "seen": 3}, 8)
        assert [table.rows_after for table in gone.tables] == [1, 2, 2]
        left = now()
        assert {name: len(rows) for name, rows in left.items()} == {"keeper": 1, "hive": 2, "seen": 2}
        back = tidymerge.undo(gone.run)
        assert now() == start
        assert back.rows.inserted == 8
        tidymerge.undo(back.run)
        assert now() == left
        # A child whose parent can't come back stays away.
        self.make(folder, "INSERT INTO hive VALUES ('L', 1, 4)")
        with pytest.raises(tidymerge.Stopped) as stopped:
            tidymerge.undo(gone.run)
        assert [table.rows.rejected for table in stopped.value.receipt.tables] == [0, 1, 0]
        self.make(folder, "DELETE FROM hive WHERE code = 'L'; INSERT INTO keeper (id, name) VALUES (3, 'new')")
        rest = tidymerge.undo(gone.run, rest=True)
        assert [table.rows.rejected for table in rest.tables] == [1, 0, 0]

    @pytest.mark.core
    def test_records_that_go_are_archived_first(self, folder):
        self.make(folder, "CREATE TABLE hive (code VARCHAR(9), no INTEGER, kg DECIMAL(8, 2) NOT NULL, note VARCHAR(20), PRIMARY KEY (code, no)); CREATE TABLE seen (n INTEGER PRIMARY KEY, code VARCHAR(9), no INTEGER, FOREIGN KEY (code, no) REFERENCES hive (code, no)); "
            "CREATE TABLE old (why VARCHAR(9), no INTEGER, code VARCHAR(9), kg DECIMAL(8, 2), note VARCHAR(20), archived_at TIMESTAMP, PRIMARY KEY (code, no)); "
            "INSERT INTO hive VALUES ('L', 1, 1.5, ' x '), ('L', 2, 2, NULL), ('M', 1, 3, ''); INSERT INTO seen VALUES (1, 'L', 1), (2, 'M', 1);"
            "INSERT INTO old VALUES ('now', 2, 'L', 2, NULL, '2026-05-01 12:00:00')")  # fmt: skip
        hives, tables = self.address(folder, "hive"), ("hive", "seen", "old")

        def now():
            return {name: sorted(map(str, self.rows(folder, f"SELECT * FROM {name}"))) for name in tables}

        start = now()
        asked = {"where": "code = 'L'", "with_referring": True, "archive": "old", "stamps": "archived_at", "limits": NO_LIMITS}  # fmt: skip
        preview = tidymerge.remove(hives, **asked, preview=True)
        assert now() == start
        gone = tidymerge.remove(hives, **asked, expect=preview.fingerprint)
        assert (gone.rows.removed, gone.rows.inserted, gone.rows.unchanged) == (3, 1, 1)
        copied = self.rows(folder, "SELECT why, kg, note, archived_at IS NULL FROM old WHERE no = 1")
        assert [(why, float(kg), note, bool(blank)) for why, kg, note, blank in copied] == [(None, 1.5, " x ", False)]
        left = now()
        assert (len(left["hive"]), len(left["seen"])) == (1, 1)
        tidymerge.undo(gone.run)
        assert now() == start
        by_rows = {
            **asked,
            "where": None,
            "keys": text_file(folder / "go.csv", [["no", "code"], [1, "L"], [2, "L"], [9, "Q"]]),
        }
        named = tidymerge.remove(hives, **by_rows)
        assert (named.rows.removed, named.rows.inserted, named.rows.unchanged, named.rows.rejected) == (3, 1, 1, 1)
        assert [now()[name] for name in ("hive", "seen")] == [left["hive"], left["seen"]]
        tidymerge.undo(named.run)
        assert now() == start
        self.make(folder, "UPDATE old SET kg = 9 WHERE no = 2")
        changed = now()
        for how, said in ((asked, "1 of 5 records can't go"), (by_rows, "1 record can't go, or can't be copied")):
            with pytest.raises(tidymerge.Stopped, match=said):
                tidymerge.remove(hives, **how)
            assert now() == changed
        with pytest.raises(tidymerge.UsageError, match="has no column kg"):
            tidymerge.remove(hives, **{**asked, "archive": "seen", "stamps": ()})

    def test_an_archive_is_made_like_the_table_and_goes_with_the_undo(self, folder):
        self.make(folder, "CREATE TABLE hive (code VARCHAR(9) PRIMARY KEY, kg DECIMAL(8, 2) NOT NULL, note VARCHAR(20)); CREATE TABLE seen (n INTEGER PRIMARY KEY, code VARCHAR(9) REFERENCES hive (code)); "
            "INSERT INTO hive VALUES ('L', 1.5, ' x '), ('M', 3, ''); INSERT INTO seen VALUES (1, 'L'), (2, 'M');")  # fmt: skip
        hives = self.address(folder, "hive")
        asked = {"where": "code = 'L'", "with_referring": True, "archive": {"": "old", "seen": "old_seen"}, "create": True, "limits": NO_LIMITS}  # fmt: skip
        preview = tidymerge.remove(hives, **asked, preview=True)
        gone = tidymerge.remove(hives, **asked, expect=preview.fingerprint)
        archived = [(" x ",)], [(1, "L")]
        assert (self.rows(folder, "SELECT note FROM old"), self.rows(folder, "SELECT * FROM old_seen")) == archived
        back = tidymerge.undo(gone.run)
        assert len(self.rows(folder, "SELECT * FROM hive")) == len(self.rows(folder, "SELECT * FROM seen")) == 2
        with pytest.raises(tidymerge.TidyMergeError, match="old"):
            tidymerge.remove(hives, **{**asked, "create": False})
        tidymerge.undo(back.run)
        assert (self.rows(folder, "SELECT note FROM old"), self.rows(folder, "SELECT * FROM old_seen")) == archived
        blank = self.load(folder, "old", [["code", "kg", "note"], ["Z", "", "a"], ["Y", "1", "x" * 21]])
        assert {cell.reason for cell in blank.rejects.first} == {"blank not allowed", "too long"}

    needing: str  # a trigger on t that uses its columns a and note
    called: Mapping[str, str] = MappingProxyType({})  # what the database calls what a table needs

    @pytest.mark.core
    def test_rows_that_come_back_leave_alone_what_others_changed(self, folder):
        self.make(folder, "CREATE TABLE t (k VARCHAR(9) PRIMARY KEY, n DECIMAL(6, 2), a VARCHAR(20), d DATE);"
                          "INSERT INTO t VALUES ('a', 1, 'x', '2026-05-01'), ('b', 2, 'y', NULL), ('c', 3, 'z', NULL), ('d', 4, NULL, NULL)")  # fmt: skip
        run = tidymerge.extract(self.address(folder, "t"), folder / "t.csv", where="k < 'd'")
        self.make(
            folder, "UPDATE t SET n = 9, a = 'theirs' WHERE k IN ('a', 'b'); DELETE FROM t WHERE k = 'c';"
            "INSERT INTO t VALUES ('e', 5, 'theirs', NULL)",
        )  # fmt: skip
        rows = [["k", "n", "a", "d"], ["a", "1.00", "x", "2026-06-01"], ["b", "8", "y", ""], ["c", "3", "zz", ""]]
        text_file(folder / "t.csv", [*rows, ["d", "4", "mine", ""], ["f", "6", "new", ""]])
        done = tidymerge.load(
            folder / "t.csv", base=run, accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS
        )
        assert self.reasons(done) == {"changed since": [3], "gone since": [4], "came since": [5]}
        found = [tuple(map(str, row)) for row in self.rows(folder, "SELECT k, n, a, d FROM t ORDER BY k")]
        plain = [(k, float(n), a, d) for k, n, a, d in found]
        assert plain == [
            ("a", 9, "theirs", "2026-06-01"),
            ("b", 9, "theirs", "None"),
            ("d", 4, "None", "None"),
            ("e", 5, "theirs", "None"),
            ("f", 6, "new", "None"),
        ]
        kept = tidymerge.load(folder / "t.csv", base=run, prefer="sheet", accept_warnings=True, rejects=False)
        assert (kept.rows.updated, kept.rows.inserted, kept.rows.rejected) == (2, 1, 0)
        tidymerge.undo(kept.run)
        tidymerge.undo(done.run)
        assert len(self.rows(folder, "SELECT k FROM t")) == 4

    def test_rules_that_would_be_broken_are_told_with_the_records(self, folder):
        self.make(folder, f"CREATE TABLE owner (email {self.folding} PRIMARY KEY); INSERT INTO owner VALUES ('a@x'), ('it''s@x');"
                          f"CREATE TABLE t (k INTEGER PRIMARY KEY, email {self.folding}, n INTEGER, d DATE, c {self.folding});"
                          "INSERT INTO t VALUES (1, 'A@X', 5, NULL, 'Ab'), (2, 'z@x', 99, '2026-05-01', 'ab'), (3, NULL, -4, '2026-05-01', NULL), (4, 'it''s@x', NULL, NULL, 'abc')")  # fmt: skip
        table = self.address(folder, "t")
        for rule, broken, values, mends in (
            ("email refers to owner.email", [2], ["z@x"], True),
            ("d is unique", [2, 3], ["2026-05-01"], False),
            ("c is unique", [1, 2], ["Ab", "ab"], False),
            ("email + d are unique", [], [], False),
            ("n between 0 and 30", [2, 3], ["-4", "99"], True),
            ("email is not null", [3], [], False),
        ):
            found = would_hold(table, rule)
            assert (found.broken, found.rows) == (len(broken), 4), rule
            place = found.columns.index("k")
            assert sorted(int(row[place] or 0) for row in found.examples) == broken, rule
            assert [one.value for one in found.values] == values, rule
            assert (found.job is not None) == mends, rule
            if found.job is not None:
                (folder / "mend.toml").write_text(found.job, "utf-8")
                done = tidymerge.change(job=folder / "mend.toml")
                assert (done.rows.updated, would_hold(table, rule).broken) == (len(broken), 0), rule
                tidymerge.undo(done.run)

    @pytest.mark.core
    def test_what_changed_in_the_structure_since_the_last_run_is_said(self, folder):
        """A column of the job that is gone warns, all else is noted; what the run before added is no news."""
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, a VARCHAR(9), b VARCHAR(9), c VARCHAR(9));")

        def said(columns: str, number: int, **options: Any) -> tuple[tuple[str, ...], ...]:
            receipt = self.load(folder, "t", [["k", *columns], [number, *"5678"[: len(columns)]]], **options)
            sides = (receipt.warnings, receipt.notes)
            return tuple(tuple(one for one in side if "since the last run" in one) for side in sides)

        assert said("abcd", 1, add=["d"]) == said("abcd", 2) == ((), ())
        self.make(folder, "ALTER TABLE t ADD COLUMN e INTEGER;")
        (note,) = said("abcd", 3)[1]
        assert note.endswith(": column e is new.")
        self.make(folder, "ALTER TABLE t DROP COLUMN b; CREATE UNIQUE INDEX t_a ON t (k, c);")
        warnings, notes = said("acd", 4)
        assert [one.rpartition(": ")[2] for one in (*warnings, *notes)] == ["column b is gone.", "unique k + c is new."]
        assert said("acd", 4) == ((), ())
        then = since(self.address(folder, "t"), "last")
        assert (then.differences, then.rows_before, then.rows_after) == ((), 4, 4)

    def test_what_needs_a_column_is_named_and_nothing_is_dropped(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, a INTEGER, b INTEGER, c INTEGER CHECK (c > a), d INTEGER REFERENCES t (k), note VARCHAR(9), free INTEGER, UNIQUE (b))")  # fmt: skip
        self.make(folder, "CREATE INDEX by_a ON t (note, a); CREATE VIEW seen AS SELECT x.k, x.a AS b FROM t x; CREATE VIEW other AS SELECT k FROM t; INSERT INTO t VALUES (1, 1, 1, 2, 1, 'x', 3);")  # fmt: skip
        self.make(folder, self.needing)
        start = self.rows(folder, "SELECT * FROM t")
        address = self.address(folder, "t")
        for column, needed in (
            ("k", ("primary",)), ("a", ("by_a", "seen", "check", "noting")), ("b", ("unique",)), ("d", ("foreign",)),
            ("note", ("by_a", "noting")),
        ):  # fmt: skip
            warnings = " ".join(tidymerge.change(address, drop=column, key=["free"], preview=True).warnings)
            assert all(self.called.get(word, word) in warnings for word in needed), warnings
            assert column == "k" or "other" not in warnings
            with pytest.raises(tidymerge.Stopped, match="needed by") as stopped:
                tidymerge.change(address, drop=column, key=["free"])
            assert stopped.value.reason == "needed"
        assert self.rows(folder, "SELECT * FROM t") == start
        assert tidymerge.change(address, drop="free").rows.updated == 1

    def test_a_column_is_not_added_where_nothing_is_loaded(self, folder):
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, n INTEGER); INSERT INTO t VALUES (1, 1);")
        with pytest.raises(tidymerge.Stopped):
            self.load(folder, "t", [["k", "wind"], [1, "west"]], add=["wind"], limits=tidymerge.Limits(fewest_rows=9))
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1)]
        self.load(folder, "t", [["k", "wind", "rain"], [1, "west", "no"]], add=["wind"])
        assert self.rows(folder, "SELECT * FROM t") == [(1, 1, "west")]
