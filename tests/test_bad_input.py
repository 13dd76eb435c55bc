"""Bad input: a sentence that says what to do, the right exit status, and a table that is as it was."""

import os
import re
import sqlite3
import stat
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest

from conftest import database, sheet, stored, text_file, wait_for

GOOD = [["Apiary code", "Hive no.", "Queen colour"], ["L01", 1, "red"]]


def make(folder, name):
    """Make the bad file of that name; return the command line for it."""
    good = text_file(folder / "good.csv", GOOD)
    sheet(folder / "good.xlsx", GOOD)
    path = folder / name
    match name:
        case "empty.csv":
            path.write_bytes(b"")
        case "blank.csv":
            path.write_bytes(b"\n \n")
        case "broken.xlsx":
            path.write_bytes((folder / "good.xlsx").read_bytes()[:900])
        case "text.xlsx":
            path.write_text("Apiary code,Hive no.\nL01,1\n")
        case "empty.xlsx":
            sheet(path, [])
        case "zeros.csv":
            path.write_bytes(b"Apiary code,Hive no.\n\0\0\0,1\n")
        case "quotes.csv":
            path.write_bytes(b'Apiary code,Hive no.,Queen colour\nL01,1,"red\nL02,2,blue\n')
        case "latin.csv":
            path.write_bytes("Apiary code,Hive no.,Queen colour\nL01,1,grün\n".encode("cp1252"))
        case "cut.csv":
            path.write_bytes("Apiary code,Hive no.,Queen colour\nL01,1,red\n".encode("utf-16")[:-1])
        case "unnamed.csv":
            text_file(path, [["L01", 1, "red"], ["L02", 2, "blue"]])
        case "twice.csv":
            text_file(path, [["Apiary code", "Hive no.", "hive-no", "Queen colour"], ["L01", 1, 1, "red"]])
        case "same.csv":
            text_file(path, [["Apiary code", "Hive no.", "Hive no.", "Queen"], ["L01", 1, 1, "red"]])
        case "keyless.csv":
            text_file(path, [["Apiary code", "Queen colour"], ["L01", "red"]])
        case "good.pdf":
            path.write_text(good)
    return name


@pytest.mark.parametrize(
    ("incoming", "options", "status", "code", "words"),
    [
        ("none.csv", [], 1, "no-such-file", "none.csv"),
        ("nowhere/none.csv", [], 1, "no-such-file", "no folder nowhere"),
        (".", [], 1, "no-such-file", "folder"),
        ("good.xlsx#Missing", [], 1, "no-such-sheet", "it has Inspections"),
        ("good.pdf", [], 2, "bad-address", ".csv"),
        ("empty.csv", [], 1, "no-rows", "empty"),
        ("blank.csv", [], 1, "no-rows", "empty"),
        ("empty.xlsx", [], 1, "no-rows", "empty"),
        ("broken.xlsx", [], 1, "broken-file", "save it again"),
        ("text.xlsx", [], 1, "broken-file", "save it again"),
        ("zeros.csv", [], 1, "broken-file", "zero bytes"),
        ("quotes.csv", [], 1, "broken-file", "line 2"),
        ("latin.csv", ["--encoding", "utf-8"], 1, "wrong-encoding", "line 2"),
        ("cut.csv", [], 1, "wrong-encoding", "get it again"),
        ("latin.csv", ["--encoding", "klingon"], 2, "bad-option", "klingon"),
        (f"{'n' * 300}.csv", [], 2, "bad-address", "too long"),
        ("good.csv", ["--job", "j" * 300], 1, "no-such-file", "too long"),
        ("good.csv", ["--quote", "||"], 2, "bad-option", "one ASCII character"),
        ("unnamed.csv", [], 1, "no-header", "--map"),
        ("twice.csv", [], 2, "ambiguous-column", "--map 'hive_no="),
        ("same.csv", [], 2, "ambiguous-column", "different names"),
        ("keyless.csv", [], 2, "no-key", "--key"),
        ("keyless.csv", ["--key", "hive_no"], 2, "no-such-column", "--map 'hive_no="),
        ("good.csv", ["--key", "hive"], 2, "no-such-column", "did you mean 'hive_no'"),
        ("good.csv", ["--map", "honey=Queen colour"], 2, "no-such-column", "honey_kg"),
        ("good.csv", ["--map", "honey_kg=Quen"], 2, "no-such-column", "Queen colour"),
        ("good.csv", ["--map", "honey_kg"], 2, "bad-option", "TARGET=INCOMING"),
        ("good.csv", ["--only", "nothing"], 2, "no-such-column", "nothing"),
        ("good.csv", ["--delimiter", "xx"], 2, "bad-option", "one ASCII character"),
        ("good.csv", ["--header-row", "0"], 2, "bad-option", "1 or more"),
        ("good.csv", ["--header-row", "9"], 1, "no-rows", "no row 9"),
        ("good.xlsx", ["--header-row", "9"], 1, "no-rows", "no row 9"),
    ],
)
def test_incoming(run, hives, folder, incoming, options, status, code, words):
    before = stored(hives)
    make(folder, incoming.partition("#")[0])
    ended = run("load", incoming, "--into", hives, "--yes", *options)
    assert (ended.status, f"(tidymerge explain {code})" in ended.err) == (status, True), ended.err
    assert words in ended.err
    assert "Traceback" not in ended.err
    assert ended.out == ""
    assert stored(hives) == before


def test_names_that_are_no_text(run, hives, folder):
    """They could be opened, but neither be shown nor be kept in the log."""
    text_file(folder / "week\udc80.csv", GOOD)
    for incoming, code in (("week\udc80.csv", "bad-option"), ("*.csv", "bad-address")):
        ended = run("load", incoming, "--into", hives, "--yes")
        assert (ended.status, f"(tidymerge explain {code})" in ended.err) == (2, True), ended.err


@pytest.mark.parametrize(
    ("target", "status", "code", "words"),
    [
        ("missing.db#hives", 1, "no-such-file", "missing.db"),
        ("coop.db#Bees", 1, "no-such-table", "it has hives, keepers"),
        ("coop.db", 1, "no-such-table", "holds 2 tables"),
        ("coop.db#viewed", 1, "not-a-table", "viewed"),
        ("coop.db#keepers", 2, "no-such-column", "key column email"),
        ("not.db#hives", 1, "target-unreadable", "not a SQLite database"),
        ("damaged.db#hives", 1, "target-unreadable", "damaged"),
        ("plain.txt", 2, "bad-address", "coop.db#hives"),
        ("oracle://h/coop#hives", 2, "bad-address", "known are postgresql, mariadb, mysql"),
        ("postgresql://h:port/coop#hives", 2, "bad-address", "its port is no number"),
        ("postgresql://${NO_SUCH_NAME}@h/coop#hives", 2, "bad-address", "NO_SUCH_NAME, which is not set"),
        ("postgresql://127.0.0.1:1/coop#hives", 1, "server-away", "port 1 failed: Connection refused"),
        ("mariadb://127.0.0.1:1/coop#hives", 1, "server-away", "refused) (port 1). Check"),
        (
            "postgresql://alma:s3%cret@h/coop#hives",
            1,
            "server-away",
            "No connection to postgresql://alma@h/coop: invalid",
        ),
        ("mariadb://127.0.0.1:1#hives", 2, "bad-address", "names no database"),
        ("mariadb://127.0.0.1/coop?tls=1#hives", 2, "bad-address", "tls is no option"),
    ],
)
def test_target(run, hives, folder, target, status, code, words):
    with closing(sqlite3.connect(folder / "coop.db")) as connection, connection:
        connection.execute("CREATE VIEW viewed AS SELECT * FROM hives")
        connection.execute("CREATE TABLE keepers (queen_colour TEXT, email TEXT)")
    (folder / "plain.txt").write_text("no table")
    (folder / "not.db").write_text("this is no database at all, but long enough to look like a file header")
    whole = (folder / "coop.db").read_bytes()
    (folder / "damaged.db").write_bytes(whole[:4096] + b"\xff" * (len(whole) - 4096))
    incoming = text_file(folder / "good.csv", GOOD)
    options = ["--key", "email"] if "keepers" in target else []
    ended = run("load", incoming, "--into", target, "--yes", *options)
    assert (ended.status, f"(tidymerge explain {code})" in ended.err) == (status, True), ended.err
    assert "cret" not in ended.err
    assert words in ended.err
    assert "Traceback" not in ended.err


def test_a_locked_database_is_named(run, hives, folder):
    holder = sqlite3.connect(folder / "coop.db", isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    good, why = text_file(folder / "good.csv", GOOD), "locks of files are a process's"
    ended = run("load", good, "--into", hives, process=why, TIDYMERGE_LOCK_WAIT="1")
    holder.execute("ROLLBACK")
    holder.close()
    assert (ended.status, "also after 1 seconds" in ended.err, "target-locked" in ended.err) == (1, True, True)
    assert run("load", "good.csv", "--into", hives).status == 0


def test_a_locked_database_is_waited_for_and_loads_at_once_come_one_after_the_other(hives, folder, programs):
    """One of them comes first; the others must neither fail nor decide on what they read before it."""
    files = [
        text_file(folder / f"{who}.csv", [GOOD[0], ["L01", 1, who], [who, 1, who]]) for who in ("red", "blue", "pink")
    ]
    holder = sqlite3.connect(folder / "coop.db", isolation_level=None)
    holder.execute("BEGIN IMMEDIATE")
    at_the_door = (
        "from pathlib import Path\nfrom tidymerge.databases.sqlite.session import Session\n"
        "from tidymerge.cli.app import main\nrun = Session.run\n"
        "def seen(self, sql, *given):\n"
        "    if sql == 'BEGIN IMMEDIATE':\n        Path(sys.argv[2] + '.at').touch()\n"
        "    return run(self, sql, *given)\n"
        "Session.run = seen\nmain()"
    )
    all_of_them = [
        programs.start(["load", file, "--into", hives, "--yes"], folder, script=f"import sys\n{at_the_door}")
        for file in files
    ]
    wait_for(lambda: all(Path(f"{file}.at").exists() for file in files))
    holder.execute("ROLLBACK")
    holder.close()
    assert [running.wait() for running in all_of_them] == [0, 0, 0]
    assert {row[2] for row in stored(hives) if row[0] in (b"red", b"blue", b"pink")} == {b"red", b"blue", b"pink"}


@pytest.mark.parametrize("name", ["LOCK_WAIT", "KEEP_DAYS", "LARGE_FILE", "ROWS_AT_ONCE"])
def test_a_setting_that_cannot_be_read_is_named_when_it_is_needed(run, hives, folder, name):
    setting, before = {"TIDYMERGE_LARGE_FILE": "1", f"TIDYMERGE_{name}": "30 s"}, stored(hives)
    ended = run("load", text_file(folder / "good.csv", GOOD), "--into", hives, "--yes", **setting)
    assert (ended.status, "bad-setting" in ended.err, f"TIDYMERGE_{name}" in ended.err) == (2, True, True), ended.err
    assert stored(hives) == before
    assert run("--version", **setting).status == 0


def test_a_read_only_database_can_be_previewed_but_not_loaded(run, hives, folder):
    data = bytearray((folder / "coop.db").read_bytes())
    data[18] = 3  # a write version newer than the library's own makes the file read-only, even for root
    (folder / "coop.db").write_bytes(data)
    incoming = text_file(folder / "good.csv", GOOD)
    assert run("preview", incoming, "--into", hives).status == 0
    ended = run("load", incoming, "--into", hives)
    assert (ended.status, "target-read-only" in ended.err) == (1, True), ended.err
    assert (folder / "coop.db").read_bytes() == bytes(data)


def test_a_full_disk_leaves_the_table_as_it_was(run, folder):
    target = database(folder / "coop.db")
    incoming = text_file(folder / "many.csv", [GOOD[0], *([f"X{at}", at, "red"] for at in range(20_000))])
    before, size = stored(target), (folder / "coop.db").stat().st_size
    limited = (
        "import resource, sys; from tidymerge.cli.app import main; "
        f"resource.setrlimit(resource.RLIMIT_FSIZE, ({size} + 300_000, -1)); main()"
    )
    done = run("load", incoming, "--into", target, "--yes", "--most-inserted", "20000", script=limited)
    assert (done.status, "target-full" in done.err) == (1, True), done.err
    assert stored(target) == before


def test_rejects_that_cannot_be_written_stop_the_load(run, hives, folder):
    before = stored(hives)
    incoming = text_file(folder / "bad.csv", [["Apiary code", "Hive no."], ["L09", "x"], ["L10", "1"]])
    ended = run("load", incoming, "--into", hives, "--yes", "--rejects", "nowhere/r.csv")
    assert (ended.status, "no folder nowhere" in ended.err) == (2, True)
    assert stored(hives) == before


def test_ragged_rows_are_rejected_and_named(run, hives, folder):
    (folder / "ragged.csv").write_text(
        "Apiary code,Hive no.,Queen colour\nL01,1,red\n\nTotal\nL01,2,blue,extra\nM02,1,green\n"
    )
    ended = run("load", "ragged.csv", "--into", hives, "--json")
    assert ended.status == 3
    assert ended.receipt["rejects"]["reasons"] == {"wrong number of cells": 2}
    assert [(cell["row"], cell["value"]) for cell in ended.receipt["rejects"]["first"]] == [
        (4, "1 cells"),
        (5, "4 cells"),
    ]
    assert [row[2] for row in stored(hives)] == [b"red", b"yellow", b"green"]


@pytest.mark.parametrize(
    "name", ['say "hive"', "semi;colon--", "100%s", "select", "蜂箱 ульи", "it's # here", "new\tline", "[a]`b`"]
)
def test_hostile_names_in_tables_columns_sheets_and_files(run, folder, name):
    quoted = '"' + name.replace('"', '""') + '"'
    script = f'CREATE TABLE {quoted} ({quoted} TEXT PRIMARY KEY, {quoted[:-1]} 2" DECIMAL(8,2) CHECK ({quoted[:-1]} 2" < 100))'
    target = database(folder / f"{name} base.db", script, name, [("k1", 1)])
    safe = name.translate(str.maketrans("", "", "[]:*?/\\\t'"))  # what a spreadsheet allows in a sheet's name
    path = sheet(folder / f"{name} sheet.xlsx", [[name, f"{name} 2"], ["k1", 2.5], ["k2", 3], ["k3", 100]], safe)
    ended = run("load", f"{path}#{safe}", "--into", target, "--json")
    assert ended.status == 3, ended.err
    assert ended.receipt["rows"] == {
        "inserted": 1,
        "updated": 1,
        "unchanged": 0,
        "skipped": 0,
        "rejected": 1,
        "removed": 0,
        "absent": 0,
    }
    assert ended.receipt["rejects"]["reasons"] == {"check failed": 1}
    assert run("look", target).status == 0
    assert run("preview", f"{path}#{safe}", "--into", target).status == 3


def test_secrets_and_control_characters_of_cells_do_not_steer_the_terminal(run, hives, folder):
    incoming = text_file(
        folder / "esc.csv", [["Apiary code", "Hive no.", "Queen colour"], ["L01", 1, "\x1b[2Jred [b]x"]]
    )
    shown = run("preview", incoming, "--into", hives).out
    assert "\x1b" not in shown
    hostile = text_file(
        folder / "n.csv", [["Apiary code", "Hive no.", "Queen colour", "\x1b[31mred"], ["L01", 1, "x", "y"]]
    )
    for ended in (
        run("look", hostile),
        run("preview", hostile, "--into", hives),
        run("preview", "\x1b[31m.csv", "--into", hives),
    ):
        assert "\x1b" not in ended.out + ended.err
    assert "red [b]x" in shown


def test_the_database_file_keeps_its_mode_and_owner(run, hives, folder):
    (folder / "coop.db").chmod(0o640)
    run("load", text_file(folder / "good.csv", GOOD), "--into", hives)
    assert stat.S_IMODE((folder / "coop.db").stat().st_mode) == 0o640
    assert {path.name for path in folder.iterdir()} == {"coop.db", "good.csv"}


def test_debug_shows_where(run, hives):
    assert "Traceback" in run("--debug", "preview", "none.csv", "--into", hives).err


@pytest.mark.parametrize(("scheme", "package"), [("postgresql", "psycopg"), ("mariadb", "pymysql")])
def test_a_driver_that_is_not_installed_is_named_with_its_command(scheme, package):
    program = (
        f"import sys; sys.modules['{package}'] = None; import tidymerge; "
        f"tidymerge.preview('{__file__}', '{scheme}://127.0.0.1:1/coop#hives')"
    )
    ended = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=False)
    assert f"MissingPackage: {'PostgreSQL' if scheme == 'postgresql' else 'MariaDB'} needs the package" in ended.stderr
    assert re.search(rf"pip install '?{package}", ended.stderr, re.IGNORECASE)


DEEP = 100_000


@pytest.mark.parametrize(
    ("name", "content", "arguments"),
    [
        ("deep.json", "[" * DEEP + "]" * DEEP, ("deep.json", "--into", "{hives}")),
        ("deep.jsonl", '{"a":' * DEEP + "1" + "}" * DEEP, ("deep.jsonl", "--into", "{hives}")),
        ("deep.toml", "a = " + "[" * DEEP + "]" * DEEP, ("good.csv", "--job", "deep.toml")),
        ("x", "", ("good.csv", "--into", "{hives}", "--skip-when", "(" * 2000 + "1 = 1" + ")" * 2000)),
        ("x", "", ("good.csv", "--into", "{hives}", "--skip-when", "1 = 1" + " + 1" * 3000)),
        *(("x", "", ("good.csv", "--into", "{hives}", "--encoding", name)) for name in ("base64", "rot13", "undefined", "nonsense", "a\0b")),
    ],
    ids=lambda value: value[:12] if isinstance(value, str) else None,
)  # fmt: skip
def test_what_is_odd_is_an_error_of_ours(run, hives, folder, name, content, arguments):
    (folder / name).write_text(content)
    text_file(folder / "good.csv", GOOD)
    arguments = [argument.format(hives=hives) for argument in arguments]
    if any("\0" in argument for argument in arguments):
        return  # no process takes such an argument
    ended = run("preview", *arguments)
    assert ended.status in (1, 2), ended.out
    assert "(tidymerge explain " in ended.err, ended.err[:300]
    assert len(ended.err) < 5000


def test_a_temporary_folder_that_can_not_be_used_is_named(run, hives, folder):
    before = stored(hives)
    (folder / "file").touch()
    working = "import tempfile\ntempfile.tempdir = '{}'\nfrom tidymerge.cli.app import main\nmain()"
    for place in (folder / "file", folder / "none"):
        ended = run(
            "load", text_file(folder / "good.csv", GOOD), "--into", hives, "--yes", script=working.format(place)
        )
        assert (ended.status, "no-room" in ended.err, "TMPDIR" in ended.err) == (1, True, True), ended.err
    full = (
        "import errno, os\nfrom tidymerge.run import split\nfrom tidymerge.cli.app import main\n"
        "def full(*_):\n    raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))\nsplit._Spill.add = full\nmain()"
    )
    rows = [GOOD[0], *(["X", at, "red"] for at in range(100))]
    small = {"TIDYMERGE_LARGE_FILE": "1", "TIDYMERGE_ROWS_AT_ONCE": "10"}
    ended = run("load", text_file(folder / "many.csv", rows), "--into", hives, "--yes", script=full, **small)
    assert (ended.status, "no-room" in ended.err) == (1, True), ended.err
    assert stored(hives) == before


def test_what_a_killed_run_left_in_the_temporary_folder_goes_with_the_next(run, hives, folder, programs):
    place = folder / "tmp"
    place.mkdir()
    killed = (
        "import os, signal\nfrom tidymerge.run import stage_load as flow\nfrom tidymerge.cli.app import main\n"
        "flow.describe = lambda *_: os.kill(os.getpid(), signal.SIGKILL)\nmain()"
    )
    text_file(folder / "good.csv", GOOD)
    assert run("preview", "good.csv", "--into", hives, script=killed, TMPDIR=str(place)).status == -9
    assert len(list(place.iterdir())) == 1
    (place / "tidymerge-mine").mkdir()  # without a lock, so nobody's
    for folder_of_ours in place.iterdir():
        os.utime(folder_of_ours, (1, 1))
    assert run("preview", "good.csv", "--into", hives, TMPDIR=str(place)).status == 0
    assert list(place.iterdir()) == []
