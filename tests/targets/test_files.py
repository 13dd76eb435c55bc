"""Text files as targets: the same loads and undos, and every line that does not change stays to the byte."""

import json
import stat
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import tidymerge
from chance import PROPERTY, fresh_folder, some
from conftest import NO_LIMITS, database, text_file

HEAD = ["code", "no", "kg", "seen", "note"]
ROWS = [
    ["L01", "1", "12.50", "2026-05-01", "calm"],
    ["L01", "2", "7.25", "", ""],
    ["M02", "1", "3.00", "2026-05-02", "a 'b'"],
]
NEWS = [
    HEAD,
    ["L01", "1", "13", "2026-05-03", ""],
    ["L01", "2", "7.25", "", ""],
    ["N09", "4", "1.5", "2026-05-09", 'semi;colon "x"'],
]


def written(path, delimiter=",", newline="\n", encoding="utf-8", mark=b"", rows=ROWS):
    """A target file of that dialect."""
    text = "".join(delimiter.join(row) + newline for row in [HEAD, *rows])
    path.write_bytes(mark + text.encode(encoding))
    return str(path)


def load(folder, target, rows=NEWS, **options):
    incoming = text_file(folder / "in.csv", rows)
    preview = tidymerge.preview(incoming, target, key=["code", "no"])
    receipt = tidymerge.load(
        incoming,
        target,
        key=["code", "no"],
        accept_warnings=True,
        rejects=folder / "r.csv",
        limits=NO_LIMITS,
        **options,
    )
    assert (preview.rows, preview.fingerprint) == (receipt.rows, receipt.fingerprint)
    return receipt


@pytest.mark.parametrize(
    ("delimiter", "newline", "encoding", "mark"),
    [(",", "\n", "utf-8", b""), (";", "\r\n", "utf-8", b"\xef\xbb\xbf"), ("\t", "\n", "cp1252", b""), ("|", "\r\n", "utf-16-le", b"\xff\xfe")],
)  # fmt: skip
def test_the_dialect_stays_and_only_changed_lines_are_written(folder, delimiter, newline, encoding, mark):
    rows = [*ROWS, ["É7", "9", "1.00", "", "grün"]]
    target = written(folder / "hives.csv", delimiter, newline, encoding, mark, rows)
    before = Path(target).read_bytes()
    Path(target).chmod(0o640)
    receipt = load(folder, target)
    assert (receipt.rows.updated, receipt.rows.inserted, receipt.rows.unchanged) == (1, 1, 1)
    assert receipt.tables[0].read_back == 2
    quoted = '"semi;colon ""x"""'
    lines = before.removeprefix(mark).decode(encoding).splitlines(keepends=True)
    lines[1] = delimiter.join(["L01", "1", "13.00", "2026-05-03", "calm"]) + newline
    lines.append(delimiter.join(["N09", "4", "1.50", "2026-05-09", quoted]) + newline)
    assert Path(target).read_bytes() == mark + "".join(lines).encode(encoding)
    assert stat.S_IMODE(Path(target).stat().st_mode) == 0o640
    assert load(folder, target).changed == 0
    undone = tidymerge.undo(receipt.run)
    assert Path(target).read_bytes() == before
    tidymerge.undo(undone.run)
    assert Path(target).read_bytes() == mark + "".join(lines).encode(encoding)
    assert sorted(path.name for path in folder.iterdir() if path.name.startswith(".")) == []


def test_new_texts_are_guarded_against_spreadsheets_unless_the_column_has_others(folder):
    target = folder / "t.csv"
    target.write_bytes(b"k,note,phone,low\n1,x,+49 30 1,-5\n2,y,0,-\n3,'=kept,1,2\n")
    rows = [
        ["k", "note", "phone", "low"],
        [1, "=1+1", "+49 30 2", "-6"],
        [2, "-7.5", "@x", "z"],
        [3, "=kept", "1", "2"],
        [4, "'=a", "", ""],
    ]
    incoming = text_file(folder / "in.csv", rows)
    done = tidymerge.load(incoming, str(target), key="k", accept_warnings=True, limits=NO_LIMITS)
    assert (done.rows.updated, done.rows.unchanged, done.rows.inserted) == (2, 1, 1)
    assert target.read_bytes() == b"k,note,phone,low\n1,'=1+1,+49 30 2,-6\n2,-7.5,@x,z\n3,'=kept,1,2\n4,''=a,,\n"
    assert tidymerge.preview(incoming, str(target), key="k").changed == 0
    tidymerge.undo(done.run)
    assert target.read_bytes() == b"k,note,phone,low\n1,x,+49 30 1,-5\n2,y,0,-\n3,'=kept,1,2\n"


def test_cells_that_do_not_change_stay_to_the_byte_even_in_lines_that_do(folder):
    target = folder / "t.csv"
    target.write_bytes(b'k;"a";b;c\n1;"needless"; spaced ;"x;""y"\n2;;"";z\n')
    incoming = text_file(folder / "in.csv", [["k", "b"], [1, "new"], [2, "1;2"]])
    done = tidymerge.load(incoming, str(target), key="k", accept_warnings=True, limits=NO_LIMITS)
    assert target.read_bytes() == b'k;"a";b;c\n1;"needless";new;"x;""y"\n2;;"1;2";z\n'
    tidymerge.undo(done.run)
    assert target.read_bytes() == b'k;"a";b;c\n1;"needless";" spaced ";"x;""y"\n2;;"";z\n'


CELLS = st.text(st.sampled_from('ab ,"\n=é'), max_size=5).map(str.strip)


@settings(PROPERTY, max_examples=some(80))
@given(
    st.lists(st.tuples(CELLS, CELLS), max_size=6),
    st.lists(st.tuples(st.integers(0, 8), CELLS, CELLS), max_size=6, unique_by=lambda row: row[0]),
    st.sampled_from(["", "\n"]),
)
def test_whatever_is_in_the_cells_a_load_and_its_undo_give_the_file_that_was(rows, news, end):
    with fresh_folder() as folder:
        target = folder / "t.csv"
        text_file(target, [["k", "a", "b"], *([at, *cells] for at, cells in enumerate(rows))], lineterminator="\n")
        target.write_bytes(target.read_bytes().removesuffix(b"\n") + end.encode())
        start = target.read_bytes()
        incoming = text_file(folder / "in.csv", [["k", "a", "b"], *news])
        done = tidymerge.load(
            incoming, str(target), key="k", accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS
        )
        assert tidymerge.preview(incoming, str(target), key="k").changed == 0
        if done.changed:
            tidymerge.undo(done.run)
        assert target.read_bytes() == start


def test_types_are_told_by_the_cells(folder):
    target = written(folder / "hives.csv", rows=[*ROWS, ["007", "3", "1.25", "", ""]])
    receipt = load(
        folder,
        target,
        [
            HEAD,
            ["L01", "1", "12.5", "2026-05-01", "calm"],
            ["7", "3", "1", "", ""],
            ["M02", "1", "many", "01/05/2026", ""],
        ],
    )
    assert receipt.rows.unchanged == 1  # 12.5 is 12.50
    assert receipt.rows.inserted == 1  # '7' is not '007', and the near miss is a warning
    assert "leading zeros" in str(receipt.warnings)
    assert set(receipt.rejects.reasons) == {"not a number"}


@pytest.mark.parametrize(
    ("types", "words"),
    [
        ("kg = 'decimal(6, 1)'", None), ("kilos = 'integer'", "kilos"), ("kg = 'number'", "known are integer"),
        ("note = 'date(3)'", "no type"), ("kg = 'decimal'", None),
    ],
)  # fmt: skip
def test_the_job_may_declare_the_types(run, folder, types, words):
    written(folder / "hives.csv")
    text_file(
        folder / "in.csv",
        [HEAD, ["L01", "1", "12.5", "", ""], ["L01", "2", "7.255", "", ""], ["M02", "1", "4", "", ""]],
    )
    job = f"[incoming]\nat = 'in.csv'\n[target]\nat = 'hives.csv'\nkey = ['code', 'no']\ntypes = {{ {types} }}\n"
    (folder / "j.toml").write_text(job, "utf-8")
    ended = run("load", "--job", "j.toml", "--yes")
    if words:
        assert (ended.status, words in ended.err) == (2, True), ended.err
    else:
        narrow = "6, 1" in types
        assert (ended.status, "too many decimals" in ended.out) == ((3, True) if narrow else (0, False)), ended.out
        kilos = [line.split(",")[2] for line in (folder / "hives.csv").read_text("utf-8").splitlines()[1:]]
        assert kilos == ["12.50", "7.25" if narrow else "7.255", "4"]
        assert run("undo", "last").status == 0
    (folder / "j.toml").write_text(job.replace("hives.csv", "coop.db#hives"), "utf-8")
    database(folder / "coop.db")
    assert "has types of its own" in run("preview", "--job", "j.toml").err


def test_what_the_encoding_does_not_have_is_rejected_by_name(folder):
    target = written(folder / "hives.csv", encoding="cp1252", rows=[*ROWS, ["É7", "9", "1.00", "", "grün"]])
    news = [HEAD, ["L01", "1", "13", "", "蜂"], ["L01", "2", "8", "", ""], ["M02", "1", "4", "", "nul" + chr(0)]]
    (folder / "in.jsonl").write_text("".join(json.dumps(dict(zip(HEAD, row, strict=True))) + "\n" for row in news[1:]))
    incoming = str(folder / "in.jsonl")
    receipt = tidymerge.load(incoming, target, key=["code", "no"], accept_warnings=True, rejects=folder / "r.csv")
    assert dict(receipt.rejects.reasons) == {"refused by the target": 2}
    assert receipt.rows.updated == 1


@pytest.mark.parametrize(
    ("text", "words"),
    [("a,b\n1,2\n\n3,4\n", "blank lines"), ("a,b\n1,2,3\n", "more or fewer cells"), ("", "is empty"), ("a,a\n1,2\n", "two columns")],
)  # fmt: skip
def test_a_file_that_is_no_table_is_refused(run, folder, text, words):
    (folder / "t.csv").write_text(text, "utf-8")
    text_file(folder / "in.csv", [["a", "b"], [1, 2]])
    ended = run("load", "in.csv", "--into", "t.csv", "--key", "a", "--yes")
    assert (ended.status, words in ended.err) in ((1, True), (2, True)), ended.err
    assert (folder / "t.csv").read_text("utf-8") == text
