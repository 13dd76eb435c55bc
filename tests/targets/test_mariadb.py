"""MariaDB: the contract, and what is its own."""

from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path
from urllib.parse import parse_qs, urlsplit
from zlib import crc32

import pymysql
import pytest
from pymysql.constants import CLIENT
from server_contract import PLAIN, ServerContract

import tidymerge
from conftest import text_file
from servers import mariadb_connection, with_database
from tidymerge.core.decide.part import decide_part
from tidymerge.databases.mariadb import altering
from tidymerge.databases.mariadb.session import Session
from tidymerge.run import decide_load as run_decide


class TestMariadb(ServerContract):
    folding = "VARCHAR(20) COLLATE utf8mb4_general_ci"
    numbered, keyless = "id INTEGER AUTO_INCREMENT PRIMARY KEY", ""
    quotes = False
    types = (
        ("TINYINT", "-7", "-7"), ("SMALLINT UNSIGNED", "65535", "65535"), ("BIGINT", "9223372036854775807", "9223372036854775807"),
        ("BIGINT UNSIGNED", "18446744073709551615", "18446744073709551615"), ("DECIMAL(8,2)", "12.5", "12.50"),
        ("DECIMAL(38,10)", "1234567890123456789012345678.0123456789", "1234567890123456789012345678.0123456789"), ("FLOAT", "1234567.5", "1234570.0"),
        ("DOUBLE", "0.1", "0.1"), ("VARCHAR(5)", "tëxt", "tëxt"), ("CHAR(5)", "ab", "ab"), ("TEXT", "a\\b", "a\\b"), ("TINYINT(1)", "yes", "1"),
        ("DATE", "2026-05-04", "2026-05-04"), ("TIME(3)", "09:30:00.5", "9:30:00.500000"), ("DATETIME(6)", "2026-05-04 09:30:00.25", "2026-05-04 09:30:00.250000"),
        ("TIMESTAMP NULL", "2026-05-04T09:30+02:00", "2026-05-04 07:30:00"), ("DATETIME", "2026-05-04 09:30:01", "2026-05-04 09:30:01"),
        ("UUID", "550E8400-e29b-41d4-a716-446655440000", "550e8400-e29b-41d4-a716-446655440000"), ("JSON", '{"b": 1}', '{"b":1}'),
        ("VARBINARY(4)", "00ff", "b'\\x00\\xff'"), ("ENUM('white', 'it''s')", "it's", "it's"), ("YEAR", "2026", "2026"),
    )  # fmt: skip
    narrow = "VARCHAR(20) CHARACTER SET latin1 COLLATE latin1_swedish_ci"
    awkward = frozenset({2, 4})
    writing_function = "CREATE FUNCTION writes() RETURNS int MODIFIES SQL DATA BEGIN DELETE FROM t; RETURN 1; END;"
    random = "floor(rand() * 1000000) + 1"
    strange = ("DATE", "'0000-00-00'", "not a date")
    more_spelled, untold, backslash = (
        (", m TINYINT(1), n INT(6) ZEROFILL, o YEAR, p ENUM('x')", ", 2, 12, 0, 'x'"),
        ("m", "n", "o"),
        "\\\\",
    )
    session, round_trips = Session, ("run", "rows", "stream", "load", "insert")
    foreign = "POINT"
    far, shown_far = "POINT(1, 2)", "ST_AsText(far)"
    odd = ("DATE", "'0000-00-00'", "2026-05-04")
    doubling = "CREATE TRIGGER twice BEFORE UPDATE ON t FOR EACH ROW SET NEW.n = NEW.n * 2"
    needing = "CREATE TRIGGER noting BEFORE UPDATE ON t FOR EACH ROW SET NEW.c = NEW.a + length(NEW.note)"
    restamped = ("TIMESTAMP(6) NULL ON UPDATE CURRENT_TIMESTAMP(6)", "")
    bytes = "VARBINARY(4)"
    longest = "-838:59:59"
    sleep = "DO SLEEP(2)"
    unstorable = ("VARCHAR(20) CHARACTER SET latin1", "bee 蜂")

    @pytest.fixture(autouse=True)
    def server(self, mariadb_server, folder):
        """Each test has a database of its own."""
        self.url, self.database = mariadb_server, f"d{crc32(str(folder).encode())}"
        self.run(f"DROP DATABASE IF EXISTS {self.database}; CREATE DATABASE {self.database} COLLATE utf8mb4_bin", None)
        yield
        self.run(f"DROP DATABASE {self.database}", None)

    def connect(self, database: str | None) -> pymysql.Connection:
        return mariadb_connection(self.url, database)

    def run(self, script: str, database: str | None) -> list[tuple]:
        connection = self.connect(database)
        with connection, connection.cursor() as cursor:
            cursor.execute(script)
            rows = list(cursor.fetchall())
            while cursor.nextset():
                pass
        return rows

    def quoted(self, name: str) -> str:
        return "`" + name.replace("`", "``") + "`"

    def make(self, folder: Path, script: str) -> None:
        self.run(script, self.database)

    def address(self, folder: Path, table: str) -> str:
        return f"{with_database(self.url, self.database)}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        return self.run(query, self.database)

    def unchecked(self, schema: str, rows: str) -> str:
        return f"SET check_constraint_checks = 0, foreign_key_checks = 0; {schema}; {rows};"

    def refusing_trigger(self, table: str, condition: str) -> str:
        return f"CREATE TRIGGER no BEFORE INSERT ON {table} FOR EACH ROW IF {condition} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'unlucky'; END IF;"

    # No trigger of MariaDB may change its own table; what it can do is change the row itself.
    test_a_trigger_that_changes_rows_on_its_own_rolls_the_load_back = None

    @pytest.mark.parametrize(("declared", "value"), [
        ("DECIMAL(8, 2) NOT NULL DEFAULT 1.5", "7"), ("VARCHAR(9) CHARACTER SET latin1 COLLATE latin1_bin DEFAULT 'it''s'", "'x'"), ("INT UNSIGNED", "4000000000"),
        ("TIMESTAMP(3) NOT NULL DEFAULT CURRENT_TIMESTAMP(3) ON UPDATE CURRENT_TIMESTAMP(3)", "'2026-05-01 10:00:00.123'"), ("JSON", "'{}'"),
        ("TEXT NOT NULL COMMENT 'it''s, the last'", "''"), ("ENUM('a', 'b') NOT NULL", "'b'"),
    ])  # fmt: skip
    def test_a_column_comes_back_as_it_was_declared(self, folder, declared, value):
        self.make(folder, f"CREATE TABLE t (k INT PRIMARY KEY, `n 1` {declared}, z INT)")
        self.make(folder, f"INSERT INTO t VALUES (1, {value}, 2)")
        query = "SELECT column_type, is_nullable, column_default, extra, collation_name, column_comment FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = 't' AND column_name = 'n 1'"
        start = self.rows(folder, query), self.rows(folder, "SELECT `n 1` FROM t")
        gone = tidymerge.change(self.address(folder, "t"), drop="n 1")
        assert self.rows(folder, "SELECT * FROM t") == [(1, 2)]
        tidymerge.undo(gone.run)
        assert (self.rows(folder, query), self.rows(folder, "SELECT `n 1` FROM t")) == start

    def test_a_column_that_others_write_to_meanwhile_goes_with_what_they_wrote(self, folder, monkeypatch):
        self.make(folder, "CREATE TABLE t (k INT PRIMARY KEY, note VARCHAR(9)); INSERT INTO t VALUES (1, 'x'), (2, NULL);")  # fmt: skip
        waiting, locked = ["UPDATE t SET note = 'late' WHERE k = 2"], altering.Altering.after_commit

        def late(self_):
            if waiting:
                self.make(folder, waiting.pop())
            return locked(self_)

        monkeypatch.setattr(altering.Altering, "after_commit", late)
        gone = tidymerge.change(self.address(folder, "t"), drop="note")
        assert (gone.rows.updated, self.rows(folder, "SELECT * FROM t")) == (2, [(1,), (2,)])
        tidymerge.undo(gone.run)
        assert self.rows(folder, "SELECT * FROM t") == [(1, "x"), (2, "late")]

    def test_a_trigger_that_changes_the_row_rolls_the_load_back(self, folder):
        self.make(folder, PLAIN + "CREATE TRIGGER meddle BEFORE INSERT ON t FOR EACH ROW SET NEW.n = 0;")
        with pytest.raises(tidymerge.ProofFailed, match=r"wrote 5, found 0.*the trigger meddle"):
            self.load(folder, "t", [["k", "n"], [2, 5]])
        assert self.rows(folder, "SELECT * FROM t") == []
        trusted = self.load(folder, "t", [["k", "n"], [2, 5]], trust_triggers=True)
        assert (trusted.verified, self.rows(folder, "SELECT k, n FROM t")) == (False, [(2, 0)])
        assert "as triggers are trusted" in trusted.notes[0]

    def sleeping_trigger(self, table: str) -> str:
        return f"CREATE TRIGGER sleeps BEFORE INSERT ON {table} FOR EACH ROW {self.sleep};"

    def sleeping(self, folder: Path) -> int | None:
        found = self.rows(
            folder,
            f"SELECT id FROM information_schema.processlist WHERE db = '{self.database}' AND state = 'User sleep'",
        )
        return found[0][0] if found else None

    def end(self, folder: Path, connection: int) -> None:
        self.rows(folder, f"KILL {connection}")

    def hold(self, statement, held, done) -> None:
        connection = self.connect(self.database)
        with connection, connection.cursor() as cursor:
            cursor.execute("START TRANSACTION")
            cursor.execute(statement)
            held.set()
            done.wait(30)

    @pytest.mark.parametrize(
        ("collation", "stored", "key", "matched"),
        [
            ("utf8mb4_general_ci", "L01", "l01", True),
            ("utf8mb4_unicode_ci", "Jose", "jos\u00e9", True),
            ("utf8mb4_bin", "L01", "l01", False),
            ("utf8mb4_general_nopad_ci", "L01", "l01", True),
        ],
    )
    def test_keys_are_equal_where_the_server_says_so(self, folder, collation, stored, key, matched):
        fillers = ", ".join(f"('F{at}', 0, '')" for at in range(30))
        self.make(
            folder,
            f"CREATE TABLE t (k VARCHAR(9) COLLATE {collation} PRIMARY KEY, n INTEGER, a VARCHAR(9) COLLATE utf8mb4_general_ci); INSERT INTO t VALUES ('{stored}', 1, 'x'), {fillers}",
        )
        receipt = self.load(
            folder, "t", [["k", "n", "a"], [key, 2, "X"], [key, 2, "X"], [key.upper(), 2, "X"], ["F1", 0, ""]]
        )
        assert (receipt.rows.updated, receipt.rows.skipped) == ((1, 2) if matched else (1, 1))
        if matched:  # the value of another column is compared exactly: a change of letter case is a change
            assert self.rows(folder, f"SELECT k, BINARY a FROM t WHERE k = '{stored}'") == [(stored, b"X")]

    def test_who_and_where_may_stand_in_an_option_file(self, folder):
        self.make(folder, PLAIN)
        url = urlsplit(self.url)
        said = {
            "user": url.username,
            "host": url.hostname,
            "port": url.port,
            "socket": parse_qs(url.query).get("unix_socket", [None])[0],
        }
        lines = [f"{name} = {value}" for name, value in said.items() if value]
        (folder / "own.cnf").write_text("\n".join(["[coop]", *lines]), "utf-8")
        address = f"mariadb:///{self.database}?option_file=own.cnf&option_group=coop#t"
        receipt = tidymerge.load(text_file(folder / "in.csv", [["k", "n"], [1, 1]]), address)
        assert receipt.tables[0].target == f"mariadb:///{self.database}#t"
        assert self.rows(folder, "SELECT k, n FROM t") == [(1, 1)]

    def test_a_year_is_compared_as_the_number_that_it_is(self, folder):
        """To the server 50 is 2050 beside a year: it may not leave out records by such a condition."""
        self.make(folder, "CREATE TABLE t (k INTEGER PRIMARY KEY, made YEAR, flags BIT(8), n INTEGER UNSIGNED); INSERT INTO t VALUES (1, 2024, b'101', 7), (2, 1999, b'1', 8);")  # fmt: skip
        for where, found in (
            ("made > 50", 2),
            ("made in (24, 99)", 0),
            ("n > -1 and n < 8", 1),
            ("made between 1990 and 2000", 1),
        ):
            assert tidymerge.change(self.address(folder, "t"), {"n": "n"}, where=where, preview=True).rows.read == found

    def test_zero_dates_are_not_empty_and_stay(self, folder):
        self.make(
            folder,
            "SET sql_mode = ''; CREATE TABLE t (k INTEGER PRIMARY KEY, d DATE NOT NULL, n INTEGER); INSERT INTO t VALUES (1, '0000-00-00', 1), (2, '2026-05-04', 1)",
        )
        receipt = self.load(folder, "t", [["k", "d", "n"], [1, "", 5], [2, "2026-05-04", 5]])
        assert receipt.rows.updated == 2
        assert "something in d that its declared type can't hold" in receipt.warnings[0]
        assert self.rows(folder, "SELECT n FROM t WHERE d = '0000-00-00'") == [(5,)]

    def test_a_server_that_takes_no_files_is_given_rows_instead(self, folder, monkeypatch):
        self.make(folder, PLAIN)
        monkeypatch.setattr(CLIENT, "LOCAL_FILES", 0)  # by which the server refuses as if it were switched off there
        with pytest.raises(pymysql.Error, match=r"(?i)local"):
            self.run("LOAD DATA LOCAL INFILE '/dev/null' INTO TABLE t", self.database)
        self.make(folder, "DROP TABLE t")
        self.test_every_type_goes_in_and_is_unchanged_the_second_time(folder)
        self.make(folder, "DROP TABLE t")
        monkeypatch.setenv("TIDYMERGE_HOME", str(folder / "anew"))  # where nothing is known of the first table
        self.test_a_row_that_the_column_cannot_store_is_named_in_the_preview(folder)

    @pytest.mark.parametrize(
        ("script", "words"), [("CREATE TABLE t (k INTEGER PRIMARY KEY) ENGINE = MyISAM", "MyISAM, which can't undo"), (PLAIN + "CREATE VIEW v AS SELECT * FROM t; RENAME TABLE t TO u, v TO t", "is a view")]
    )  # fmt: skip
    def test_what_cannot_be_loaded_into_is_said(self, folder, script, words):
        self.make(folder, script)
        with pytest.raises(tidymerge.TargetError, match=words):
            self.load(folder, "t", [["k"], [1]])

    def test_what_a_column_would_change_or_cut_is_rejected_by_name(self, folder):
        self.make(
            folder,
            "CREATE TABLE t (k INTEGER PRIMARY KEY, f FLOAT(7,2), b BINARY(4), s TINYTEXT, u BIGINT UNSIGNED, d DECIMAL(5,1) UNSIGNED)",
        )
        rows = [["k", "f", "b", "s", "u", "d"], [1, "1.25", "00112233", "é" * 127, str(2**64 - 1), "9999.9"], [2, "1.005", "", "", "", ""],
                [3, "", "0011", "", "", ""], [4, "", "", "é" * 128, "", ""], [5, "", "", "", "-1", ""], [6, "", "", "", "", "-0.1"], [7, "123456", "", "", "", ""]]  # fmt: skip
        receipt = self.load(folder, "t", rows)
        assert self.reasons(receipt) == {
            "too many decimals": [3], "wrong length": [4], "too long": [5], "out of range": [6, 7, 8],
        }  # fmt: skip
        assert receipt.rows.inserted == 1
        assert self.load(folder, "t", rows[:2]).rows.unchanged == 1

    def test_a_part_decided_in_another_process_is_decided_alike(self, folder, monkeypatch):
        """All that it needs is data, what only the server knows of equal texts too."""
        self.make(
            folder,
            """CREATE TABLE keepers (id INT PRIMARY KEY, name VARCHAR(40)) COLLATE utf8mb4_general_ci;
            INSERT INTO keepers VALUES (1, 'Jürgen'), (2, 'Ane');
            CREATE TABLE t (code VARCHAR(20) PRIMARY KEY, keeper INT, honey DECIMAL(8,2), seen DATE)
              COLLATE utf8mb4_general_ci;
            INSERT INTO t VALUES ('Nørre', 2, 1, '2026-05-01'), ('SØR', 1, 2, '2026-06-01')""",
        )
        rows = [
            ["Code", "Keeper", "Kg", "Seen"],
            ["NØRRE ", "JÜRGEN", "2.5", "2026-05-02"],
            ["sør", "ane", 9, "2026-05-30"],
        ]
        rows += [["Ny", "nobody", 4, "2026-05-02"], ["Ly", "Ane", 4, ""], ["left out", "", "", ""]]
        (folder / "job.toml").write_text(f"""
            incoming = {{ at = "{text_file(folder / "in.csv", rows)}", skip_when = "Code like 'left%'" }}
            target = {{ at = "{self.address(folder, "t")}", key = "code" }}
            [columns]
            code = "Code"
            keeper = {{ from = "Keeper", find = {{ in = "keepers", where = "name", take = "id" }} }}
            honey = {{ compute = "cast(Kg as decimal) * 2" }}
            seen = {{ from = "Seen", update_when = "greater" }}
        """, "utf-8")  # fmt: skip
        here = tidymerge.preview(job=folder / "job.toml")
        assert (here.rows.updated, here.rows.inserted, here.rows.rejected, here.rows.skipped) == (2, 1, 1, 1)
        with ProcessPoolExecutor(1, get_context("spawn")) as pool:
            elsewhere = []

            def decide(*arguments):
                elsewhere.append(pool.submit(decide_part, *arguments).result())
                return elsewhere[-1]

            monkeypatch.setattr(run_decide, "decide_part", decide)
            receipt = tidymerge.load(
                job=folder / "job.toml", expect=here.fingerprint, rejects=False, accept_warnings=True
            )
        assert (receipt.rows, len(elsewhere)) == (here.rows, 1)
        assert self.rows(folder, "SELECT code, keeper, honey FROM t WHERE code = 'sør'") == [("SØR", 2, 18)]
