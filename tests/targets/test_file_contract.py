"""What every kind of file does as a target: the same loads, undos, refusals and proofs."""

import json
import os
import stat
import threading
from datetime import date, timedelta
from pathlib import Path

import pytest
from file_kinds import HEAD, KINDS
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.chart import BarChart

import tidymerge
from chance import PROPERTY, fresh_folder, some
from conftest import NO_LIMITS, text_file
from tidymerge.errors import TargetLocked
from tidymerge.formats import swap
from tidymerge.targets import open_target
from tidymerge.targets.files import FileTarget

ROWS = [
    ["L01", 1, 12.5, date(2026, 5, 1), "calm"],
    ["L01", 2, 7.25, date(2026, 5, 1), None],
    ["M02", 1, 3.0, date(2026, 5, 2), "=a 'b'"],
    ["M02", 2, None, None, None],
    ["M03", 1, 4.5, date(2026, 5, 2), "x"],
]
NEWS = [
    HEAD,
    ["L01", 1, 13, "2026-05-03", ""],
    ["L01", 2, "7.25", "", ""],
    ["M02", 2, 8.75, "2026-05-03", '=1+1 "x"'],
    ["M02", 1, 8.755, "", ""],
    ["N09", 4, "1.5", "2026-05-09", "@semi;colon"],
]
KEY = ["code", "no"]
kinds = pytest.mark.parametrize("kind", KINDS, ids=lambda kind: type(kind).__name__.lower())


def load(folder, target, rows=NEWS, **options):
    incoming = text_file(folder / "in.csv", rows)
    preview = tidymerge.preview(incoming, target, key=KEY)
    receipt = tidymerge.load(
        incoming, target, key=KEY, accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS, **options
    )
    assert (preview.rows, preview.fingerprint) == (receipt.rows, receipt.fingerprint)
    return receipt


def times(folder):
    return {path.name: (path.stat().st_mtime_ns, path.read_bytes()) for path in folder.rglob("*") if path.is_file()}


@kinds
def test_a_load_its_undo_and_the_undo_of_that(kind, folder):
    target = kind.make(folder, ROWS)
    for path in [Path(target), *Path(target).glob("*")]:
        path.chmod(0o750 if path.is_dir() else 0o640)
    start, before = kind.rows(target), times(folder)
    receipt = load(folder, target)
    counts = receipt.rows
    assert (counts.updated, counts.inserted, counts.unchanged, counts.rejected) == (2, 1, 1, 1)
    assert dict(receipt.rejects.reasons) == {"too many decimals": 1}
    assert receipt.tables[0].read_back == 3
    after = kind.rows(target)
    wanted = [list(row) for row in start]
    wanted[0][2:4] = ["13", "2026-05-03"]
    wanted[3][2:] = ["8.75", "2026-05-03", '=1+1 "x"']
    new = ["N09", "4", "1.5", "2026-05-09", "@semi;colon"]
    place = 4 if getattr(kind, "files", 1) > 1 else 5  # in a folder, at the end of a file that is written anyway
    assert after == [*wanted[:place], new, *wanted[place:]]
    assert load(folder, target).changed == 0
    undone = tidymerge.undo(receipt.run)
    assert kind.rows(target) == start
    tidymerge.undo(undone.run)
    assert sorted(kind.rows(target)) == sorted(after)
    assert {stat.S_IMODE(path.stat().st_mode) for path in folder.rglob("hives*") if path.is_file()} <= {0o640}
    assert [path.name for path in folder.rglob(".*")] == []
    if (folder / "hives" / "part-2.parquet").exists():
        assert times(folder)["part-2.parquet"] == before["part-2.parquet"]


TEXTS = st.text(st.sampled_from('ab =+@&<"_xD0\n1é'), max_size=6).map(str.strip)
CELLS = st.tuples(
    st.none() | st.integers(0, 10**7).map(lambda cents: cents / 100),
    st.none() | st.dates(date(1905, 1, 1), date(2199, 1, 1)),
    st.none() | TEXTS.filter(bool),
)


@kinds
@settings(PROPERTY, max_examples=some(40))
@given(
    old=st.lists(CELLS, min_size=1, max_size=7),
    new=st.lists(st.tuples(st.integers(1, 9), CELLS), max_size=7, unique_by=lambda row: row[0]),
)
def test_whatever_is_in_the_cells_an_undo_gives_the_rows_that_were(kind, old, new):
    with fresh_folder() as folder:
        target = kind.make(folder, [["L", at, *cells] for at, cells in enumerate(old, start=1)])
        start = kind.rows(target)
        rows = [["L", at, *("" if cell is None else cell for cell in cells)] for at, cells in new]
        incoming = text_file(folder / "in.csv", [HEAD, *rows])
        done = tidymerge.load(
            incoming, target, key=KEY, accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS
        )
        again = tidymerge.preview(incoming, target, key=KEY)
        assert again.changed == 0
        if done.changed:
            tidymerge.undo(done.run)
        assert kind.rows(target) == start


@kinds
def test_appended_rows_stand_beside_equal_ones_and_go_again(kind, folder):
    target = kind.make(folder, ROWS)
    start = kind.rows(target)
    incoming = text_file(
        folder / "more.csv", [HEAD, *([ROWS[0]] * 2), ["N09", 4, "1.5", "2026-05-09", ""], ["N09", "x", "", "", ""]]
    )
    asked = {"append": True, "rejects": False}
    preview = tidymerge.preview(incoming, target, append=True)
    done = tidymerge.load(incoming, target, **asked)
    assert (preview.rows, preview.fingerprint, done.rows.inserted) == (done.rows, done.fingerprint, 3)
    after = kind.rows(target)
    assert (len(after), after[: len(start)]) == (len(start) + 3, start)
    with pytest.raises(tidymerge.Stopped, match="This very file was loaded"):
        tidymerge.load(incoming, target, **asked)
    undone = tidymerge.undo(done.run)
    assert kind.rows(target) == start
    assert tidymerge.undo(undone.run).rows.inserted == 3
    assert kind.rows(target) == after
    with pytest.raises(tidymerge.UsageError, match="was undone by"):
        tidymerge.undo(undone.run)


@pytest.mark.parametrize(
    "target", ["new.csv", "new.tsv", "new.parquet", "new.xlsx#Visits", "old.xlsx#Vis 'its' & <more>"]
)
@pytest.mark.parametrize("key", [(), ("Hive no",)])
def test_a_file_is_made_and_goes_with_the_undo(folder, target, key):
    book = Workbook()
    book.worksheets[0].append(["id", "name"])
    book.create_sheet("Second")["A1"] = "=Sheet!A1"
    book.save("old.xlsx")
    start = times(folder)
    incoming = text_file(
        folder / "in.csv",
        [
            ["Hive no", "Honey (kg)", "Seen", "=cmd"],
            ["a", "1.5", "2026-05-01", "=1+1"],
            ["b", "", "", "x"],
            ["", 3, "", ""],
        ],
    )
    job = tidymerge.Job((incoming,), target, create=True, key=key)
    preview = tidymerge.preview(incoming, target, create=True, key=key)
    assert "New table: Hive no (text), Honey (kg) (decimal(18, 1)), Seen (date), cmd (text)." in preview.notes
    assert {name: at for name, at in times(folder).items() if name != "in.csv"} == start
    done = tidymerge.load(job=job, rejects=False, limits=NO_LIMITS)
    assert (preview.rows, preview.fingerprint, done.rows.inserted) == (done.rows, done.fingerprint, 3 - len(key))
    (kept,) = [path for path in folder.iterdir() if path.name == target.partition("#")[0]]
    assert stat.S_IMODE(kept.stat().st_mode) in (0o644, 0o664)
    again = tidymerge.load(incoming, target, key="Hive no", rejects=False, accept_warnings=True, limits=NO_LIMITS)
    assert again.rows.unchanged == 2
    with pytest.raises(tidymerge.UsageError, match="already"):
        tidymerge.load(job=job)
    made = kept.read_bytes()
    undone = tidymerge.undo(done.run)
    assert undone.tables[0].table_gone
    assert [path.name for path in folder.iterdir() if path.name == kept.name] == (
        ["old.xlsx"] if "old" in target else []
    )
    assert load_workbook("old.xlsx").sheetnames == ["Sheet", "Second"]
    redone = tidymerge.undo(undone.run)
    if not target.startswith("old"):
        assert kept.suffix == ".xlsx" or kept.read_bytes() == made
        text_file(folder / "more.csv", [["Hive no"], ["z"]])
        tidymerge.load("more.csv", target, append=True)
        assert not tidymerge.undo(redone.run).tables[0].table_gone
        assert kept.exists()
    else:
        book = load_workbook("old.xlsx")
        book["Second"]["A2"] = "='Vis ''its'' & <more>'!A1"
        book.save("old.xlsx")
        with pytest.raises(tidymerge.TargetError, match="refers to it"):
            tidymerge.undo(redone.run)
        assert len(load_workbook("old.xlsx").sheetnames) == 3


def test_a_workbook_with_hidden_sheets_or_charts_is_not_taken_away(folder):
    incoming = text_file(folder / "in.csv", [["k"], ["a"]])
    book = Workbook()
    book.worksheets[0]["A1"] = "mine"
    book.create_chartsheet("Chart", 0).add_chart(BarChart())
    book.save("old.xlsx")
    done = tidymerge.load(incoming, "old.xlsx#New", create=True)
    assert load_workbook("old.xlsx")["New"]["A2"].value == "a"
    tidymerge.undo(done.run)
    assert (load_workbook("old.xlsx").sheetnames, load_workbook("old.xlsx")["Sheet"]["A1"].value) == (
        ["Chart", "Sheet"],
        "mine",
    )
    done = tidymerge.load(incoming, "old.xlsx#New", create=True)
    book = load_workbook("old.xlsx")
    book["Sheet"].sheet_state = "hidden"
    del book["Chart"]
    book.save("old.xlsx")
    with pytest.raises(tidymerge.TargetError, match="hidden"):
        tidymerge.undo(done.run)
    assert load_workbook("old.xlsx").sheetnames == ["Sheet", "New"]


@kinds
def test_many_rows_are_decided_in_parts(kind, folder, run, monkeypatch):
    first = date(2026, 1, 1)
    target = kind.make(folder, [["L", at, at / 4, first + timedelta(days=at), "old"] for at in range(1, 121)])
    text_file(
        folder / "in.csv", [HEAD, *(["L", at, at / 4, "", "old" if at % 3 else "new"] for at in range(140, 0, -1))]
    )
    monkeypatch.setenv("TIDYMERGE_ROWS_AT_ONCE", "20")
    monkeypatch.setenv("TIDYMERGE_LARGE_FILE", "10")
    options = ("--key", "code", "--key", "no", "--most-inserted", "20", "--most-updated", "100%", "--yes")
    start = kind.rows(target)
    ended = run("load", "in.csv", "--into", target, *options)
    assert (ended.status, "40  updated" in ended.out, "20  inserted" in ended.out) == (0, True, True), ended
    after = kind.rows(target)
    assert {row[1]: row[4] for row in after} == {str(at): "old" if at % 3 else "new" for at in range(1, 141)}
    assert run("undo", "last", "--yes").status == 0
    assert kind.rows(target) == start


@kinds
def test_hostile_names_and_texts_are_only_names_and_texts(kind, folder):
    head = ["select", "a.b;c'\"%s", "=kg()", "<b>", "名前"]
    target = kind.make(folder, [["x", 1, 1.5, date(2026, 5, 1), "'; DROP TABLE t"]], head)
    incoming = text_file(
        folder / "in.csv", [head, ["x", 1, 2.5, "", "=cmd|' /C calc'!A0"], ["%s", 2, 1, "", "<script>"]]
    )
    receipt = tidymerge.load(incoming, target, key=head[:2], accept_warnings=True, limits=NO_LIMITS)
    assert (receipt.rows.updated, receipt.rows.inserted) == (1, 1)
    assert [row[4] for row in kind.rows(target)] == ["=cmd|' /C calc'!A0", "<script>"]
    tidymerge.undo(receipt.run)
    assert [row[4] for row in kind.rows(target)] == ["'; DROP TABLE t"]


@kinds
def test_a_file_that_is_changed_meanwhile_is_read_again_and_nobody_is_overwritten(kind, folder, monkeypatch):
    target = kind.make(folder, ROWS)
    write, left = FileTarget.write, [1]

    def meanwhile(self, changes):
        if left[0]:
            left[0] -= 1
            kind.make(folder, [[*row[:4], "theirs"] for row in ROWS])
        return write(self, changes)

    monkeypatch.setattr(FileTarget, "write", meanwhile)
    receipt = tidymerge.load(text_file(folder / "in.csv", NEWS[:4]), target, key=KEY)
    assert receipt.rows.updated == 2
    assert sorted(row[4] for row in kind.rows(target))[1:] == ["theirs"] * 4


@kinds
def test_two_loads_at_once_end_as_one_after_the_other(kind, folder, programs):
    target = kind.make(folder, ROWS)
    rows = {who: [["X", str(at), "1", "", who] for at in range(200)] for who in "ab"}
    files = [text_file(folder / f"{who}.csv", [HEAD, *rows[who]]) for who in "ab"]
    options = [
        "--into",
        target,
        "--key",
        "code",
        "--key",
        "no",
        "--yes",
        "--most-inserted",
        "200",
        "--most-updated",
        "200",
    ]
    both = [programs.start(["load", file, *options], folder) for file in files]
    assert [running.wait() for running in both] == [0, 0]
    found = [row[4] for row in kind.rows(target) if row[0] == "X"]
    assert (len(found), len(set(found))) == (200, 1)  # one of them, wholly


@kinds
def test_a_folder_that_is_held_or_full_or_not_to_be_written_is_said(kind, run, folder, monkeypatch):
    target = kind.make(folder, ROWS)
    incoming, before = text_file(folder / "in.csv", NEWS[:4]), times(folder)
    monkeypatch.setenv("TIDYMERGE_LOCK_WAIT", "0")
    options = ("--into", target, "--key", "code", "--key", "no", "--yes")
    held, done_with = threading.Event(), threading.Event()

    def hold():
        with open_target(target, write=True):
            held.set()
            done_with.wait(60)

    thread = threading.Thread(target=hold)
    thread.start()
    held.wait(10)
    ended = run("load", incoming, *options)
    done_with.set()
    thread.join()
    assert (ended.status, "target-locked" in ended.err) == (1, True), ended.err
    for name in (f"~${kind.name}", f".~lock.{kind.name}#"):
        (folder / name).touch()
        ended = run("load", incoming, *options)
        assert (ended.status, "is open in a spreadsheet program" in ended.err) == (1, True), ended.err
        (folder / name).unlink()
    script = (
        "import errno, os, sys\nfrom tidymerge.formats import swap\nfrom tidymerge.cli.app import main\n"
        "def failing(*_):\n    raise OSError(errno.{0}, os.strerror(errno.{0}))\n"
        "swap._keep_owner = failing\nmain()"
    )
    for error, code in (("ENOSPC", "target-full"), ("EROFS", "target-read-only")):
        done = run("load", incoming, *options, script=script.format(error))
        assert (done.status, code in done.err) == (1, True), done.err
    assert times(folder) == {**before, "in.csv": times(folder)["in.csv"]}


def test_a_folder_whose_change_was_cut_off_halfway_is_completed_by_whoever_comes_next(run, folder):
    kind = KINDS[3]
    target = kind.make(folder, ROWS)
    script = (
        "import os, sys\nfrom pathlib import Path\nimport tidymerge\n"
        "replace, seen = Path.replace, []\n"
        "def first_only(self, other):\n"
        "    if other.name[:4] == 'part' and seen:\n        os._exit(9)\n"
        "    seen.extend([self] if other.name[:4] == 'part' else [])\n    return replace(self, other)\n"
        "Path.replace = first_only\n"
        "tidymerge.load(sys.argv[1], sys.argv[2], key=['code', 'no'], accept_warnings=True)"
    )
    incoming = text_file(folder / "in.csv", NEWS[:4])
    assert run(incoming, target, script=script).status == 9
    record = folder / "hives" / ".tidymerge-swap.json"
    assert record.exists()
    assert tidymerge.preview(incoming, target, key=KEY).changed == 0  # read as it counts, without a hand on it
    assert record.exists()
    receipt = tidymerge.load(incoming, target, key=KEY)
    assert (receipt.changed, "shows that it had committed" in str(receipt.notes)) == (0, True)
    assert [row[2] for row in kind.rows(target)][::3] == ["13", "8.75"]
    assert [path.name for path in folder.rglob(".*")] == []


VICTIM = "what somebody needs"


@pytest.mark.parametrize(
    "names",
    [
        {"../victim.txt": ".../victim.txt.tidymerge-ab"}, {"{outside}": "part-0.parquet"}, {"part-0.parquet": "{outside}"},
        {"part-0.parquet": "part-1.parquet"}, {"part-0.parquet": ".part-0.parquet.tidymerge-ab"}, ["part-0.parquet"],
        {"..": ".x.tidymerge-ab"}, {"link.parquet": ".link.parquet.tidymerge-ab"}, "not even JSON",
    ],
    ids=str,
)  # fmt: skip
def test_a_planted_record_is_not_believed_and_nothing_is_touched(folder, tmp_path_factory, names):
    kind = KINDS[3]
    target = kind.make(folder, ROWS)
    place, outside = folder / "hives", tmp_path_factory.mktemp("outside") / "victim.txt"
    outside.write_text(VICTIM)
    (folder / "victim.txt").write_text(VICTIM)
    (place / ".part-0.parquet.tidymerge-ab").symlink_to(outside)
    (place / ".link.parquet.tidymerge-ab").write_text("planted")
    (place / "link.parquet").symlink_to(outside)
    said = json.dumps(names).replace("{outside}", str(outside)) if not isinstance(names, str) else names
    (place / ".tidymerge-swap.json").write_text(said)
    before = times(folder)
    incoming = text_file(folder / "in.csv", NEWS[:4])
    for run_it in (tidymerge.preview, tidymerge.load):
        with pytest.raises(tidymerge.TargetError, match="can't be believed"):
            run_it(incoming, target, key=KEY)
    assert (outside.read_text(), (folder / "victim.txt").read_text()) == (VICTIM, VICTIM)
    assert {name: at for name, at in times(folder).items() if name != "in.csv"} == before


def test_names_of_new_files_are_not_foreseen_and_a_link_in_their_place_is_not_followed(run, folder):
    """Whoever may write in the folder can plant links only at names that he knows."""
    kind = KINDS[0]
    target = kind.make(folder, ROWS)
    (folder / "victim.txt").write_text(VICTIM)
    planting = (
        "import os, secrets\nfrom pathlib import Path\nfrom tidymerge.cli.app import main\n"
        "secrets.token_hex = lambda size: 'ab' * size\n"
        f"os.symlink('victim.txt', '.{Path(target).name}.tidymerge-' + 'ab' * 8)\nmain()"
    )
    options = ("--into", target, "--key", "code", "--key", "no", "--yes")
    run("load", text_file(folder / "in.csv", NEWS[:4]), *options, script=planting)
    assert (folder / "victim.txt").read_text() == VICTIM
    assert not Path(target).is_symlink()


@pytest.mark.parametrize("at", [0, 3])
def test_other_names_of_a_file_are_noticed(folder, at):
    target = KINDS[at].make(folder, ROWS)
    file = next((folder / "hives").glob("*.parquet")) if at else Path(target)
    os.link(file, folder / "other.name")
    preview = tidymerge.preview(text_file(folder / "in.csv", NEWS[:4]), target, key=KEY)
    assert any("2 names (hard links)" in note for note in preview.notes)


def test_a_target_that_is_a_link_stays_one(folder):
    target = Path(KINDS[0].make(folder, ROWS))
    real = target.rename(folder / "real.csv")
    target.symlink_to(real)
    assert tidymerge.load(text_file(folder / "in.csv", NEWS[:4]), target, key=KEY, accept_warnings=True).changed
    assert (target.is_symlink(), real.read_bytes().count(b"\n")) == (True, len(KINDS[0].rows(str(target))) + 1)


def test_where_folders_can_not_be_locked_a_file_in_them_is(folder, monkeypatch):
    """As on Windows: one load at a time, and after a kill the system drops the lock."""
    monkeypatch.setattr(swap, "BY_FILE", True)
    monkeypatch.setenv("TIDYMERGE_LOCK_WAIT", "0")
    target = folder / "hives.csv"
    target.write_text("code,no\nL01,1\n")
    one, other = swap.Swap(folder, "here"), swap.Swap(folder, "here")
    one.lock(target)
    with pytest.raises(TargetLocked, match="Another program holds"):
        other.lock(target)
    one.close()
    other.lock(target)
    other.close()
    receipt = tidymerge.load(
        text_file(folder / "in.csv", [["code", "no"], ["L02", 1]]), target, key=["code"], accept_warnings=True
    )
    assert (receipt.rows.inserted, target.read_text()) == (1, "code,no\nL01,1\nL02,1\n")
