"""Killed at any moment, a load or an undo leaves the table as it was or as it was to be, and the log knows which.

The load adds a column too, where the target can do that within the transaction.

Each round starts the program, kills it (SIGKILL) at a random moment of its work, and then asks three things: is the
table in the state before or after, does the log's verdict say so, and does the same command, given again, complete?
"""

import os
import random
import shutil
import sqlite3
import time
from contextlib import closing
from functools import partial
from pathlib import Path

import psycopg
import pyarrow as pa
import pytest
from openpyxl import Workbook
from pyarrow import parquet
from python_calamine import CalamineWorkbook

import servers
import tidymerge
from chance import LONG, SEED
from conftest import NO_LIMITS, text_file
from tidymerge.run.past import past_runs

OWN = f"killed{os.getpid()}"  # the workers of the tests share a server
ROWS = 3000 if LONG else 300
SCHEMA = "CREATE TABLE hives (k INTEGER PRIMARY KEY, kg INTEGER, note VARCHAR(20))"
KEPT = ", ".join(f"({at}, {at % 7}, 'kept')" for at in range(ROWS))


class Sqlite:
    adds = True
    rounds = 120

    def __init__(self, folder, request):
        self.path = folder / "coop.db"
        self.address = f"{self.path}#hives"
        with closing(sqlite3.connect(self.path)) as connection, connection:
            connection.executescript(f"{SCHEMA}; INSERT INTO hives VALUES {KEPT};")

    def rows(self):
        with closing(sqlite3.connect(self.path)) as connection, connection:
            return connection.execute("SELECT * FROM hives ORDER BY k").fetchall()


class Postgres:
    adds = True
    rounds = 50

    def __init__(self, folder, request):
        self.url = request.getfixturevalue("postgresql_server")
        mark = "&" if "?" in self.url else "?"
        self.schema = OWN
        self.address = f"{self.url}{mark}options=-csearch_path%3D{self.schema}#hives"
        self.run(
            f"DROP SCHEMA IF EXISTS {self.schema} CASCADE; CREATE SCHEMA {self.schema}; SET search_path = {self.schema}; {SCHEMA}; INSERT INTO hives VALUES {KEPT}"
        )

    def run(self, script):
        with psycopg.connect(self.url, autocommit=True) as connection:
            cursor = connection.execute(script)
            return cursor.fetchall() if cursor.description else []

    def rows(self):
        return self.run(f"SELECT * FROM {self.schema}.hives ORDER BY k")


class Mariadb:
    rounds = 50
    adds = False  # its new columns come before the transaction, and an empty one may stay

    def __init__(self, folder, request):
        self.url = request.getfixturevalue("mariadb_server")
        self.run(f"CREATE OR REPLACE DATABASE {OWN}", None)
        self.run(f"{SCHEMA}; INSERT INTO hives VALUES {KEPT}")
        self.address = f"{servers.with_database(self.url, OWN)}#hives"

    def run(self, script, database=OWN):
        connection = servers.mariadb_connection(self.url, database)
        with connection, connection.cursor() as cursor:
            cursor.execute(script)
            return list(cursor.fetchall())

    def rows(self):
        return self.run("SELECT * FROM hives ORDER BY k")


class TextFile:
    adds = True
    rounds = 40

    def __init__(self, folder, request):
        self.path = folder / "hives.csv"
        self.address = str(self.path)
        text_file(self.path, [["k", "kg", "note"], *([at, at % 7, "kept"] for at in range(ROWS))])

    def rows(self):
        return self.path.read_bytes()


class Sheet:
    adds = True
    rounds = 20

    def __init__(self, folder, request):
        self.path = folder / "hives.xlsx"
        self.address = str(self.path)
        book = Workbook(write_only=True)
        sheet = book.create_sheet("Hives")
        for row in (["k", "kg", "note"], *([at, at % 7, "kept"] for at in range(ROWS))):
            sheet.append(row)
        book.save(self.path)

    def rows(self):
        return CalamineWorkbook.from_path(self.address).get_sheet_by_index(0).to_python()


class ParquetFolder:
    """Three files, which take their places one after the other."""

    adds = True
    rounds = 40

    def __init__(self, folder, request):
        self.path = folder / "hives"
        self.path.mkdir()
        self.address = str(self.path)
        for part in range(3):
            at = range(part * ROWS // 3, (part + 1) * ROWS // 3)
            table = {"k": list(at), "kg": [one % 7 for one in at], "note": ["kept"] * len(at)}
            parquet.write_table(pa.table(table), self.path / f"part-{part}.parquet")

    def rows(self):
        found = [parquet.ParquetFile(path).read() for path in sorted(self.path.glob("*.parquet"))]
        return pa.concat_tables(found).sort_by("k")  # what was removed comes back at the end


def with_archive(kind):
    """The same with an archive beside the table, which is looked at, too."""

    class Archived(kind):
        rounds = kind.rounds

        def __init__(self, folder, request):
            super().__init__(folder, request)
            if kind is Mariadb:  # which can't make a table within a transaction
                self.run(SCHEMA.replace("hives", "gone"))

        def rows(self):
            if kind is Sqlite:
                with closing(sqlite3.connect(self.path)) as connection, connection:
                    there = connection.execute("SELECT count(*) FROM sqlite_schema WHERE name = 'gone'").fetchone()[0]
                    gone = connection.execute("SELECT * FROM gone ORDER BY k").fetchall() if there else None
            elif kind is Postgres:
                there = self.run(f"SELECT to_regclass('{self.schema}.gone') IS NOT NULL")[0][0]
                gone = self.run(f"SELECT * FROM {self.schema}.gone ORDER BY k") if there else None
            else:
                gone = list(self.run("SELECT * FROM gone ORDER BY k"))
            return list(super().rows()), gone

    Archived.__name__ = f"Archived{kind.__name__}"
    return Archived


def with_children(kind):
    """The same with two tables more, of which one refers to the other by ids that the database gives."""

    class Family(kind):
        rounds = kind.rounds

        def __init__(self, folder, request):
            super().__init__(folder, request)
            numbered = {
                "Postgres": "id INTEGER GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY", "Mariadb": "id INTEGER AUTO_INCREMENT PRIMARY KEY",
            }.get(kind.__name__, "id INTEGER PRIMARY KEY")  # fmt: skip
            self.execute(
                f"{self.place}CREATE TABLE stay ({numbered}, name VARCHAR(9) NOT NULL UNIQUE); "
                "CREATE TABLE night (stay INTEGER REFERENCES stay (id), n INTEGER, kg INTEGER, PRIMARY KEY (stay, n)); "
                "INSERT INTO stay (name) VALUES ('s1'); INSERT INTO night VALUES (1, 1, 1)"
            )

        place = f"SET search_path = {OWN}; " if kind is Postgres else ""

        def execute(self, script):
            if kind is not Sqlite:
                self.run(script)
                return
            with closing(sqlite3.connect(self.path)) as connection, connection:
                connection.executescript(script)

        def rows(self):
            query = "SELECT name, n, kg FROM stay LEFT JOIN night ON stay = id ORDER BY name, n"
            if kind is Sqlite:
                with closing(sqlite3.connect(self.path)) as connection, connection:
                    return connection.execute(query).fetchall()
            if kind is Postgres:
                query = query.replace("FROM stay", f"FROM {OWN}.stay").replace("JOIN night", f"JOIN {OWN}.night")
            return list(self.run(query))

    Family.__name__ = f"Family{kind.__name__}"
    return Family


class NewTable:
    """A table that is not there yet, in a database file that is not there either."""

    adds = False
    rounds = 80

    def __init__(self, folder, request):
        self.path = folder / "new.db"
        self.address = f"{self.path}#made"

    def rows(self):
        if not self.path.exists():
            return None
        with closing(sqlite3.connect(self.path)) as connection, connection:
            there = connection.execute("SELECT count(*) FROM sqlite_schema WHERE name = 'made'").fetchone()[0]
            return connection.execute("SELECT * FROM made ORDER BY k").fetchall() if there else None


class NewFile(NewTable):
    rounds = 40

    def __init__(self, folder, request):
        self.path = folder / "new.csv"
        self.address = str(self.path)

    def rows(self):
        return self.path.read_bytes() if self.path.exists() else None


def work(programs, *command, seconds=None):
    """Let the program work, for so long if it is to be killed; how long it took."""
    start = time.perf_counter()
    running = programs.start(command, Path())
    if seconds is not None:
        time.sleep(seconds)
        running.kill()
    running.wait()
    return time.perf_counter() - start


def doing(what, kind, target, folder):
    """What the program is told, the same from Python, and how many records it touches."""
    if what in ("remove", "archive"):
        where, touched = f"k >= {ROWS // 3}", ROWS - ROWS // 3
        told = ["remove", target.address, "--where", where, "--key", "k", "--most-removed", "100%"]
        again = partial(tidymerge.remove, target.address, where=where, key="k", limits=NO_LIMITS)
        if what == "remove":
            return told, again, touched
        create = target.adds  # together with what it is for
        told += ["--archive", "gone", *(["--create"] if create else [])]
        return told, partial(again, archive="gone", create=create), touched * 2
    if what == "family":
        names = [f"s{at}" for at in range(ROWS // 4)]
        text_file(folder / "stays.csv", [["name"], *([name] for name in names)])
        text_file(folder / "nights.csv", [["stay", "n", "kg"], *([name, n, 2] for name in names for n in range(4))])
        place = target.address.partition("#")[0]
        look = 'find = { in = "stay", where = "name", take = "id" }'
        (folder / "family.toml").write_text(
            f'[[table]]\nrows = "nights.csv"\nat = "{place}#night"\ncolumns = {{ stay = {{ from = "stay", {look} }}, n = "n", kg = "kg" }}\n'
            f'[[table]]\nrows = "stays.csv"\nat = "{place}#stay"\nkey = "name"\n'
        )
        told = ["load", "--job", str(folder / "family.toml"), "--yes", "--most-updated", "100%"]
        again = partial(tidymerge.load, job=folder / "family.toml", limits=NO_LIMITS, accept_warnings=True)
        return told, again, len(names) * 5 - 1
    if what == "drop":
        told = ["change", target.address, "--drop-column", "note", "--key", "k"]
        return told, partial(tidymerge.change, target.address, drop="note", key="k"), ROWS
    if what == "change":
        sets, at_least = {"kg": "kg * 2 + 1", "note": "note || '!'"}, ROWS // 3
        words = [word for name, text in sets.items() for word in ("--set", f"{name} = {text}")]
        told = ["change", target.address, *words, "--where", f"k >= {at_least}", "--key", "k", "--most-updated", "100%"]
        again = partial(tidymerge.change, target.address, sets, where=f"k >= {at_least}", key="k", limits=NO_LIMITS)
        return told, again, ROWS - at_least
    if what in ("append", "create"):
        more = text_file(folder / "more.csv", [["k", "kg"], *([at, at % 5] for at in range(ROWS, ROWS * 2))])
        told = ["load", more, "--into", target.address, f"--{what}", "--yes"]
        if what == "append":
            return told, partial(tidymerge.load, more, target.address, append=True, accept_warnings=True), ROWS
        return (
            [*told, "--key", "k"],
            partial(
                tidymerge.load, accept_warnings=True, job=tidymerge.Job((more,), target.address, ("k",), create=True)
            ),
            ROWS,
        )
    sheet = [["k", "kg", "note", "wind"], *([at, at % 5, "came", "west"] for at in range(ROWS // 2, ROWS * 3 // 2))]
    incoming = text_file(folder / "in.csv", sheet)
    load = ["load", incoming, "--into", target.address, "--yes", "--most-updated", "100%", "--key", "k"]
    load += ["--add-columns"] if kind.adds else []
    return load, partial(tidymerge.load, incoming, target.address, key="k", add=kind.adds, limits=NO_LIMITS), ROWS


KINDS = [Sqlite, Postgres, Mariadb, TextFile, Sheet, ParquetFolder]
OTHERS = KINDS if LONG else [Sqlite]  # by what they do to records, which is the same from the decision on


@pytest.mark.by_chance
@pytest.mark.parametrize(
    ("kind", "what"),
    [
        *((kind, what) for what in ("load", "change", "remove") for kind in (KINDS if what == "load" else OTHERS)),
        *((kind, "drop") for kind in OTHERS if kind is not Mariadb),
        *((with_archive(kind), "archive") for kind in OTHERS if kind in (Sqlite, Postgres, Mariadb)),
        *((with_children(kind), "family") for kind in OTHERS if kind in (Sqlite, Postgres, Mariadb)),
        *((kind, "append") for kind in (Sqlite, TextFile)),
        *((kind, "create") for kind in (NewTable, NewFile)),
    ],
)
def test_the_table_is_never_half_changed_and_the_log_is_never_wrong(kind, what, folder, request, home, programs, share):
    target = kind(folder, request)
    told, once_more, touched = doing(what, kind, target, folder)
    rounds = kind.rounds if what == "load" else kind.rounds // 8
    before, moments = target.rows(), random.Random(7 + SEED)
    longest = [work(programs, *told)]  # how late a load and an undo are killed; set by how often that was too late
    after = target.rows()
    longest.append(work(programs, "undo", "last"))
    assert target.rows() == before != after
    seen = {True: 0, False: 0}
    for _ in share.of(2 if what == "load" else 1, rounds):
        loaded = target.rows() == after
        if loaded:
            wrote = next(one.run.name for one in past_runs().runs if one.run.wrote)
        else:
            wrote = None
            shutil.rmtree(home / "runs")
        work(programs, *(["undo", wrote] if loaded else told), seconds=moments.uniform(0, 1.3 * longest[loaded]))
        runs = [one.run for one in past_runs().runs if one.run.name != wrote]  # settles what was cut off
        now = target.rows()
        assert now in (before, after)
        done = now == (before if loaded else after)
        assert all(run.settled for run in runs), runs
        assert any(run.wrote for run in runs) == done, (done, runs)
        seen[done] += 1
        longest[loaded] *= 0.85 if done else 1.1
        if not done:  # the same command, given again, completes
            again = tidymerge.undo(wrote) if loaded else once_more()
            assert again.changed == touched
            assert target.rows() == (before if loaded else after)
    if sum(seen.values()) >= 20:  # a few kills may all be too early, or too late
        assert min(seen.values()) >= sum(seen.values()) // 20, seen
