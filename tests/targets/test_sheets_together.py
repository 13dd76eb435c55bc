"""Sheets of one workbook as the targets of one run."""

from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.styles import Font
from openpyxl.worksheet.table import Table

import tidymerge
from chance import PROPERTY, some
from conftest import NO_LIMITS, text_file
from tidymerge import errors

FIND = '{ from = "Keeper", find = { in = "Keepers", where = "E-mail", take = "Name" } }'
PARTS = {
    "Keepers": 'key = "E-mail"\n[table.columns]\n"E-mail" = "Mail"\nName = "Name"\nSince = "Since"\n[table.types]\nSince = "date"\n',
    "Hives": f'key = "Code"\n[table.columns]\nCode = "Hive"\nKeeper = {FIND}\nMade = "Made"\n[table.types]\nMade = "date"\n',
}


def coop(path, keepers=(), hives=()):
    """A workbook of two sheets, the second one with a table in it, and a third one that nobody loads into."""
    book = Workbook()
    for at, (name, head, rows) in enumerate(
        (("Keepers", ["E-mail", "Name", "Since"], keepers), ("Hives", ["Code", "Keeper", "Made"], hives))
    ):
        sheet = book.worksheets[0] if at == 0 else book.create_sheet(name)
        sheet.title = name
        for row in [head, *rows]:
            sheet.append(row)
        sheet["A1"].font = Font(bold=True)
    book["Hives"].add_table(Table(displayName="All_hives", ref=f"A1:C{max(2, len(hives) + 1)}"))
    totals = book.create_sheet("Totals")
    totals.append(["Hives", "=COUNTA(Hives!A2:A9)"])
    book.save(path)
    return str(path)


def job(folder, only=("Hives", "Keepers")):
    """A job for some of the sheets, the child first; its path."""
    text = "".join(f'[[table]]\nrows = "{name.lower()}.csv"\nat = "coop.xlsx#{name}"\n{PARTS[name]}\n' for name in only)
    path = Path(folder, f"{'-'.join(only)}.toml")
    path.write_text(text)
    return str(path)


def values(path):
    """All cells of all sheets, without rows that are wholly blank."""
    return {
        sheet.title: [[cell.value for cell in row] for row in sheet if any(cell.value for cell in row)]
        for sheet in load_workbook(path)
    }


def incoming(folder, keepers, hives):
    text_file(Path(folder, "keepers.csv"), [["Mail", "Name", "Since"], *keepers])
    text_file(Path(folder, "hives.csv"), [["Hive", "Keeper", "Made"], *hives])


def test_sheets_of_one_workbook_are_loaded_in_one_run_and_taken_back(folder, run):
    coop("coop.xlsx", [["alma@x", "Alma", None]], [["L1", "Alma", None]])
    start = values("coop.xlsx")
    incoming(folder, [["zoe@x", "Zoe", "2026-05-01"]], [["L1", "zoe@x", "2026-04-01"], ["L2", "alma@x", ""], ["L3", "?", ""]])  # fmt: skip
    preview = tidymerge.preview(job=job(folder))
    assert values("coop.xlsx") == start
    ended = run("load", "--job", job(folder), "--yes", "--json")
    assert ended.status == 3, ended.err
    done = ended.receipt
    assert [table["rows"]["rejected"] for table in done["tables"]] == [0, 1]
    found = values("coop.xlsx")
    assert [row[:2] for row in found["Keepers"]] == [["E-mail", "Name"], ["alma@x", "Alma"], ["zoe@x", "Zoe"]]
    assert [row[:2] for row in found["Hives"]] == [["Code", "Keeper"], ["L1", "Zoe"], ["L2", "Alma"]]
    book = load_workbook("coop.xlsx")
    assert (book["Keepers"]["C3"].is_date, book["Hives"]["C2"].is_date) == (True, True)
    assert book["Hives"].tables["All_hives"].ref == "A1:C3"
    assert done["fingerprint"] == preview.fingerprint
    assert tidymerge.load(job=job(folder), limits=NO_LIMITS, rejects=False, accept_warnings=True).changed == 0
    tidymerge.undo(done["run"])
    assert values("coop.xlsx") == start


def test_a_stop_in_one_sheet_leaves_the_workbook_as_it_is(folder):
    coop("coop.xlsx", [["alma@x", "Alma", None]])
    before = Path("coop.xlsx").read_bytes()
    incoming(folder, [["zoe@x", "Zoe", ""]], [["L3", "?", ""]])
    with pytest.raises(tidymerge.Stopped, match="strict"):
        tidymerge.load(job=job(folder), limits=NO_LIMITS, strict=True)
    assert Path("coop.xlsx").read_bytes() == before
    assert not list(Path().glob(".*tidymerge*"))


@pytest.mark.parametrize(
    ("first", "second", "words"),
    [
        ("coop.xlsx#Hives", "coop.xlsx#All_hives", "called All_hives|in one sheet"),
        ("coop.xlsx#Hives", "other.xlsx#Keepers", "different places"),
        ("coop.xlsx#Hives", "coop.csv", "a file by itself"),
        ("coop.xlsx#Hives", "coop.xlsx", "which sheet"),
        ("coop.xlsx#Hives", "coop.xlsx#hives", "in one sheet|called"),
    ],
)
def test_what_can_not_be_one_run_is_refused_by_name(folder, first, second, words):
    coop("coop.xlsx")
    coop("other.xlsx")
    Path("coop.csv").write_text("Code\n")
    incoming(folder, [], [["L3", "", ""]])
    tables = "".join(f'[[table]]\nrows = "hives.csv"\nat = "{at}"\nkey = "Code"\n[table.columns]\nCode = "Hive"\n' for at in (first, second))  # fmt: skip
    Path("job.toml").write_text(tables)
    with pytest.raises(errors.BadOption, match=words):
        tidymerge.preview(job="job.toml")


def test_an_id_that_a_sheet_would_have_to_give_is_refused(folder):
    coop("coop.xlsx", [["alma@x", "Alma", None]])
    incoming(folder, [["zoe@x", "Zoe", ""]], [["L3", "zoe@x", ""]])
    path = Path(job(folder))
    path.write_text(path.read_text().replace('\nName = "Name"', ""))
    with pytest.raises(errors.BadOption, match="Keepers gives new rows no Name in time"):
        tidymerge.preview(job=str(path))


NAMES = st.sampled_from(["a", "b", "c", "+d", "é <1>"])
# A look-up sees a changed record as it was before, so names stay.
KEEPERS = st.lists(
    st.tuples(NAMES, st.sampled_from(["", "2026-05-01"])).map(lambda row: (row[0], row[0].upper(), row[1])), max_size=5
)
HIVES = st.lists(st.tuples(NAMES, st.one_of(NAMES, st.just("")), st.sampled_from(["", "2026-06-01", "x"])), max_size=5)


@settings(PROPERTY, max_examples=some(15))
@given(there=st.tuples(KEEPERS, HIVES), news=st.tuples(KEEPERS, HIVES))
def test_sheets_together_come_to_the_same_as_one_after_the_other(tmp_path_factory, there, news):
    folder = tmp_path_factory.mktemp("together")
    with pytest.MonkeyPatch.context() as patch:
        patch.chdir(folder)
        keepers, hives = ([list(row) for row in {row[0]: row for row in rows}.values()] for rows in there)
        coop("coop.xlsx", [[*row[:2], None] for row in keepers], [[*row[:2], None] for row in hives])
        start, first = Path("coop.xlsx").read_bytes(), values("coop.xlsx")
        incoming(folder, *news)
        apart = [
            tidymerge.load(job=job(folder, [name]), limits=NO_LIMITS, rejects=False, accept_warnings=True)
            for name in ("Keepers", "Hives")
        ]
        found = values("coop.xlsx")
        Path("coop.xlsx").write_bytes(start)
        done = tidymerge.load(job=job(folder), limits=NO_LIMITS, rejects=False, accept_warnings=True)
        assert values("coop.xlsx") == found
        assert done.changed == sum(one.changed for one in apart)
        if done.changed:
            back = tidymerge.undo(done.run)
            assert values("coop.xlsx") == first
            tidymerge.undo(back.run)
            assert values("coop.xlsx") == found
