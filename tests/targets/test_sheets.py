"""Workbooks as targets: what is not loaded stays as it was, however the workbook is written."""

import zipfile
from datetime import date, datetime
from xml.etree import ElementTree as ET

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from openpyxl import Workbook, load_workbook
from openpyxl.chart import BarChart, Reference
from openpyxl.formatting.rule import CellIsRule
from openpyxl.styles import Font, PatternFill
from openpyxl.worksheet.datavalidation import DataValidation
from openpyxl.worksheet.table import Table
from python_calamine import CalamineWorkbook

import tidymerge
from chance import PROPERTY, some
from conftest import NO_LIMITS, text_file
from tidymerge import errors
from tidymerge.formats.sheet.serials import numbered, readable
from tidymerge.formats.sheet.xml import number
from tidymerge.model import Kind
from tidymerge.run.past import past_runs, story

HEAD = ["Apiary", "Hive", "Queen", "Honey kg", "Seen on", "Price", "Worth"]
NEWS = [["apiary", "hive", "queen", "honey kg", "seen on"], ["101", 1, "red", 12.5, "2026-06-01"], ["205", 7, "blue", "3.5", "2026-06-02"]]  # fmt: skip


def book_of_hives(path, *, table=True):
    """A sheet with a title, formulas, a chart, validation, conditional colours, and a second sheet that sums it up."""
    book = Workbook()
    sheet = book.active
    sheet.title = "Hives"
    sheet.append(["The co-operative's hives"])
    sheet["A1"].font = Font(bold=True, size=14)
    sheet.append([])
    sheet.append(HEAD)
    for at in range(6):
        sheet.append(["101", at + 1, "yellow", 10 + at / 4, date(2026, 5, 1 + at), 9.5, f"=D{at + 4}*F{at + 4}"])
    for at in range(4, 10):
        sheet.cell(at, 4).number_format, sheet.cell(at, 5).number_format = "0.00", "dd.mm.yyyy"
        sheet.cell(at, 1).fill = PatternFill("solid", fgColor="FFEEDD")
        sheet.row_dimensions[at].height = 21
    sheet.freeze_panes, sheet.column_dimensions["C"].width = "A4", 33
    if table:
        sheet.add_table(Table(displayName="HiveList", ref="A3:G9"))
    else:
        sheet.auto_filter.ref = "A3:G9"
    colours = DataValidation(type="list", formula1='"white,yellow,red,green,blue"', sqref="C4:C9 J1")
    sheet.add_data_validation(colours)
    sheet.conditional_formatting.add(
        "D4:D9", CellIsRule(operator="lessThan", formula=["11"], fill=PatternFill(bgColor="FFC7CE"))
    )
    chart = BarChart()
    chart.add_data(Reference(sheet, min_col=4, min_row=3, max_row=9), titles_from_data=True)
    sheet.add_chart(chart, "J3")
    book.create_sheet("Sum")["A1"] = "=SUM(Hives!D4:D9)"
    book.save(path)
    return str(path)


def parts(path):
    with zipfile.ZipFile(path) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def load(folder, target, rows=NEWS, key=("apiary", "hive"), **options):
    incoming = text_file(folder / "in.csv", rows)
    return tidymerge.load(
        incoming, target, key=list(key), accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS, **options
    )


@pytest.mark.parametrize(("table", "part"), [(True, ""), (True, "#hivelist"), (False, "#Hives")])
def test_all_else_in_the_workbook_stays_and_new_rows_look_like_the_row_above(folder, table, part):
    target = book_of_hives(folder / "hives.xlsx", table=table)
    before = parts(target)
    receipt = load(folder, target + part)
    assert (receipt.rows.updated, receipt.rows.inserted) == (1, 1)
    assert "formulas" in receipt.notes[0]
    after = parts(target)
    assert list(after) == list(before)
    touched = {"xl/worksheets/sheet1.xml", "xl/workbook.xml"} | ({"xl/tables/table1.xml"} if table else set())
    assert {name for name in before if before[name] != after[name]} == touched
    assert any("charts/chart" in name for name in after)
    book = load_workbook(target)
    sheet = book["Hives"]
    assert [cell.value for cell in sheet[4]] == ["101", 1, "red", 12.5, datetime(2026, 6, 1), 9.5, "=D4*F4"]
    assert [cell.value for cell in sheet[10]] == ["205", 7, "blue", 3.5, datetime(2026, 6, 2), None, "=D10*F10"]
    assert [cell.style_id for cell in sheet[10]] == [cell.style_id for cell in sheet[9]]
    assert sheet.row_dimensions[10].height == 21
    assert (sheet.dimensions, sheet.freeze_panes) == ("A1:G10", "A4")
    assert sheet.tables["HiveList"].ref == "A3:G10" if table else sheet.auto_filter.ref == "A3:G10"
    assert [str(rule.sqref) for rule in sheet.conditional_formatting] == ["D4:D10"]
    assert {str(one) for one in sheet.data_validations.dataValidation[0].sqref.ranges} == {"C4:C10", "J1"}
    assert book.calculation.fullCalcOnLoad
    assert load(folder, target + part).changed == 0
    tidymerge.undo(receipt.run)
    sheet, old = load_workbook(target)["Hives"], load_workbook(book_of_hives(folder / "was.xlsx", table=table))["Hives"]
    assert list(sheet.values) == list(old.values)
    assert [cell.style_id for cell in sheet[4]] == [cell.style_id for cell in old[4]]
    assert sheet.dimensions == old.dimensions
    assert (sheet.tables["HiveList"].ref if table else sheet.auto_filter.ref) == "A3:G9"


def test_a_formula_that_no_program_could_work_out_is_not_copied(folder):
    target = book_of_hives(folder / "hives.xlsx")
    book = load_workbook(target)
    book["Hives"]["G9"] = '=" &'
    book.save(target)
    assert load(folder, target).rows.inserted == 1
    assert load_workbook(target)["Hives"]["G10"].value is None


def test_an_undone_row_that_others_wrote_below_leaves_a_gap_and_moves_nothing(folder):
    target = book_of_hives(folder / "hives.xlsx", table=False)
    receipt = load(folder, target)
    book = load_workbook(target)
    book["Hives"].append(["310", 1, "green", 1, date(2026, 6, 6), 1, "=D11*F11"])
    book.save(target)
    tidymerge.undo(receipt.run)
    rows = list(load_workbook(target)["Hives"].values)
    assert [row[0] for row in rows[8:]] == ["101", None, "310"]


def package(path, rows, *, prefix="", strings="", styles='<xf numFmtId="0"/><xf numFmtId="14"/>', properties=""):
    """A workbook written by hand, as few programs write them."""
    spread = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
    office = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
    pre, name = (f"{prefix}:", f"xmlns:{prefix}") if prefix else ("", "xmlns")
    relations = '<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">{}</Relationships>'
    one = f'<Relationship Id="r{{}}" Type="{office}/{{}}" Target="{{}}"/>'
    files = {
        "[Content_Types].xml": '<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">'
        '<Default Extension="xml" ContentType="application/xml"/>'
        '<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>'
        '<Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/></Types>',
        "_rels/.rels": relations.format(one.format(1, "officeDocument", "/xl/workbook.xml")),
        "xl/workbook.xml": f'<workbook xmlns="{spread}" xmlns:r="{office}"><workbookPr {properties}/><sheets><sheet name="S" sheetId="1" r:id="r1"/></sheets></workbook>',
        "xl/_rels/workbook.xml.rels": relations.format(
            one.format(1, "worksheet", "sheet.xml") + one.format(2, "styles", "styles.xml") + one.format(3, "sharedStrings", "sharedStrings.xml")
        ),
        "xl/styles.xml": f'<styleSheet xmlns="{spread}"><cellXfs count="2">{styles}</cellXfs></styleSheet>',
        "xl/sharedStrings.xml": f'<{pre}sst {name}="{spread}">{strings}</{pre}sst>',
        "xl/sheet.xml": f'<{pre}worksheet {name}="{spread}"><{pre}sheetData>{rows}</{pre}sheetData></{pre}worksheet>',
    }  # fmt: skip
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for file, text in files.items():
            archive.writestr(file, text)
    return str(path)


def test_shared_and_rich_texts_prefixes_and_rows_without_numbers(folder):
    strings = "".join(f"<x:si>{one}</x:si>" for one in (
        "<x:t>k</x:t>", "<x:t>note</x:t>", "<x:r><x:rPr><x:b/></x:rPr><x:t>bold</x:t></x:r><x:r><x:t> &amp; plain</x:t></x:r>",
        '<x:t xml:space="preserve">two &lt;b&gt; _x005F_x0041_ </x:t>',
    ))  # fmt: skip
    rows = (
        '<x:row><x:c t="s"><x:v>0</x:v></x:c><x:c t="s"><x:v>1</x:v></x:c></x:row>'
        '<x:row spans="1:2"><x:c><x:v>1.0</x:v></x:c><x:c t="s" s="1"><x:v>2</x:v></x:c></x:row>'
        '<x:row><x:c r="A3"><x:v>2E0</x:v></x:c><x:c r="B3" t="s"><x:v>3</x:v></x:c></x:row><x:row r="7"/>'
    )
    target = package(folder / "s.xlsx", rows, prefix="x", strings=strings)
    news = [["k", "note"], [1, "new\nline"], [2, "x_x0041_"], [3, "<third>"]]
    receipt = load(folder, target, news, ["k"])
    assert (receipt.rows.updated, receipt.rows.inserted) == (2, 1)
    xml = parts(target)["xl/sheet.xml"].decode()
    assert '<x:c r="B2" s="1" t="inlineStr">' in xml
    assert '<x:row r="4"><x:c r="A4"><x:v>3</x:v></x:c><x:c r="B4" t="inlineStr"><x:is><x:t>&lt;third&gt;</x:t></x:is></x:c></x:row><x:row r="7"/>' in xml  # fmt: skip
    assert load(folder, target, news, ["k"]).changed == 0
    tidymerge.undo(receipt.run)
    xml = parts(target)["xl/sheet.xml"].decode()
    assert "<x:is><x:r><x:rPr><x:b/></x:rPr><x:t>bold</x:t></x:r><x:r><x:t> &amp; plain</x:t></x:r></x:is>" in xml
    assert "two &lt;b&gt; _x005F_x0041_ </x:t>" in xml
    assert 'r="4"' not in xml


@pytest.mark.parametrize(("properties", "serial"), [("", 46174), ('date1904="1"', 44712)])
def test_dates_are_counted_from_the_workbooks_own_first_day_and_shown_as_dates(folder, properties, serial):
    rows = (
        '<row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c><c r="B1" t="inlineStr"><is><t>seen</t></is></c><c r="C1" t="inlineStr"><is><t>at</t></is></c></row>'
        '<row r="2"><c r="A2"><v>1</v></c></row><row r="3"><c r="A3"><v>2</v></c></row>'
    )
    target = package(folder / "s.xlsx", rows, properties=properties)
    (folder / "j.toml").write_text(
        "[target]\nat = 's.xlsx'\nkey = ['k']\ntypes = { seen = 'date', at = 'timestamp' }\n", "utf-8"
    )
    news = [["k", "seen", "at"], [1, "2026-06-01", "2026-06-01 12:00"], [2, "1899-12-31", ""]]
    receipt = tidymerge.load(
        text_file(folder / "in.csv", news), target, job=folder / "j.toml", accept_warnings=True, limits=NO_LIMITS
    )
    assert dict(receipt.rejects.reasons) == {"refused by the target": 1}
    assert "1 March 1900" in receipt.rejects.first[0].expected or properties
    xml = parts(target)["xl/sheet.xml"].decode()
    assert f"<v>{serial}</v>" in xml
    assert f"<v>{serial}.5</v>" in xml
    found = CalamineWorkbook.from_path(target).get_sheet_by_index(0).to_python()
    assert found[1] == [1, date(2026, 6, 1), datetime(2026, 6, 1, 12)]
    told = [field for _, touch in story(["1"], past_runs()) for field in touch.fields]
    assert told == [("seen", None, "2026-06-01"), ("at", None, "2026-06-01 12:00:00")]
    tidymerge.undo(receipt.run)
    assert f"<v>{serial}" not in parts(target)["xl/sheet.xml"].decode()


@given(
    st.floats(0, 3_000_000) | st.integers(0, 3_000_000).map(float),
    st.sampled_from([Kind.DATE, Kind.TIMESTAMP, Kind.TIME]),
    st.booleans(),
)
def test_a_date_in_words_is_the_same_number_again(serial, kind, base_1904):
    text = f"n{number(serial)}"
    shown = readable(text, kind, base_1904=base_1904)
    assert numbered(shown, base_1904=base_1904) == text
    if kind is Kind.DATE and serial == int(serial) and serial >= 61:
        assert shown[0] == "m" or serial > 2_900_000


def test_a_column_of_formulas_is_not_loaded_and_control_signs_are_rejected(folder):
    target = book_of_hives(folder / "hives.xlsx")
    (folder / "in.jsonl").write_text('{"apiary": "101", "hive": 2, "queen": "bad\\u0001sign"}\n', "utf-8")
    receipt = tidymerge.load(
        str(folder / "in.jsonl"), target, key=["apiary", "hive"], accept_warnings=True, limits=NO_LIMITS
    )
    assert dict(receipt.rejects.reasons) == {"refused by the target": 1}
    with pytest.raises(errors.UnloadableColumn, match="computed by the target"):
        load(folder, target, [["apiary", "hive", "w"], ["101", 1, 5]], columns={"Worth": "w"})


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda data: data[:200], "can't be read"),
        (lambda data: b"no workbook", "can't be read"),
        (lambda data: data.replace(b"", b"", 1), None),
    ],
)
def test_a_workbook_that_is_broken_or_lacks_the_sheet_is_refused(folder, run, spoil, words):
    target = folder / "hives.xlsx"
    book_of_hives(target)
    target.write_bytes(spoil(target.read_bytes()))
    before = target.read_bytes()
    text_file(folder / "in.csv", NEWS)
    part = "" if words else "#Bees"
    ended = run("load", "in.csv", "--into", f"hives.xlsx{part}", "--key", "apiary", "--key", "hive", "--yes")
    assert (ended.status, (words or "no sheet 'Bees'; it has Hives, Sum and the tables HiveList") in ended.err) == (
        1,
        True,
    )
    assert target.read_bytes() == before


@pytest.mark.parametrize("odd", ["<!-- -->", "<![CDATA[]]>"])
def test_xml_that_only_a_full_parser_could_tell_is_refused(folder, odd):
    target = package(folder / "s.xlsx", f'{odd}<row r="1"><c r="A1" t="inlineStr"><is><t>k</t></is></c></row>')
    with pytest.raises(errors.TargetUnreadable, match="unusual way"):
        load(folder, target, [["k"], [1]], ["k"])


def test_a_table_gets_columns_whatever_they_are_called_and_loses_them(folder):
    target = book_of_hives(folder / "hives.xlsx")
    names = ['Wind (m/s) <&"\\\\1>', "two\nlines"]
    receipt = load(
        folder, target, [["apiary", "hive", *names], ["101", 1, "=west", "x"], ["205", 1, "", "y"]], add=True
    )
    table = load_workbook(target)["Hives"].tables["HiveList"]
    assert (table.ref, table.autoFilter.ref) == ("A3:I10", "A3:I10")
    assert [column.name.replace("_x000a_", "\n") for column in table.tableColumns[-2:]] == names
    assert [column.id for column in table.tableColumns] == list(range(1, 10))
    assert [cell.value for cell in load_workbook(target)["Hives"][3]][-2:] == names
    tidymerge.undo(receipt.run)
    book, old = load_workbook(target)["Hives"], load_workbook(book_of_hives(folder / "was.xlsx"))["Hives"]
    assert list(book.values) == list(old.values)
    assert [column.name for column in book.tables["HiveList"].tableColumns] == HEAD
    assert book.tables["HiveList"].ref == "A3:G9"


@pytest.mark.parametrize("what", ["below", "totals", "formula"])
def test_there_must_be_room_and_a_formula_is_not_overwritten(folder, what):
    target = book_of_hives(folder / "hives.xlsx")
    book = load_workbook(target)
    sheet = book["Hives"]
    if what == "below":
        sheet["B10"] = "a note"
    elif what == "totals":
        sheet.tables["HiveList"].totalsRowCount, sheet.tables["HiveList"].ref = 1, "A3:G10"
        sheet["A10"] = "Total"
    else:
        sheet["D4"] = "=5*2"
    book.save(target)
    receipt = load(folder, target)
    words = {"below": "row 10, below the table", "totals": "totals right below", "formula": "D4 holds a formula"}
    assert dict(receipt.rejects.reasons) == {"refused by the target": 1}
    assert words[what] in receipt.rejects.first[0].expected + str(receipt.rejects.first[0].value)
    assert receipt.rows.updated + receipt.rows.inserted == 1


ODD = st.one_of(
    st.none(), st.just("not seen"), st.integers(0, 100_000), st.floats(0, 60_000).map(lambda x: round(x, 3)),
    st.just(date(2026, 5, 4)), st.just(datetime(2026, 5, 4, 9, 30)), st.just(True),
)  # fmt: skip


def raw_cells(path):
    """Every cell as the sheet's XML has it: place, kind and value; a blank one is none, and a number the double it is."""
    root = ET.fromstring(parts(path)["xl/worksheets/sheet1.xml"])  # noqa: S314 - made above
    cells = [cell for cell in root.iter() if cell.tag.endswith("}c")]
    return {
        cell.get("r"): (cell.get("t", "n"), float(text) if cell.get("t", "n") == "n" else text)
        for cell in cells
        if (text := "".join(inner.text or "" for inner in cell.iter()))
    }


@settings(PROPERTY, max_examples=some(60))
@given(st.lists(ODD, min_size=5, max_size=9), st.lists(ODD, min_size=5, max_size=9))
def test_a_logged_cell_stands_for_itself_whatever_its_column_holds(tmp_path_factory, before, after):
    folder = tmp_path_factory.mktemp("odd")
    book = Workbook()
    book.active.append(["k", "seen"])
    dates = [date(2026, 5, at + 1) for at in range(9)]  # enough of them make it a column of dates
    for at, cell in enumerate([*before, *dates]):
        book.active.append([at, cell])
    target = folder / "t.xlsx"
    book.save(target)
    start = raw_cells(target)
    incoming = Workbook()
    incoming.active.append(["k", "seen"])
    for at, cell in enumerate(after):
        incoming.active.append([at, cell])
    incoming.save(folder / "in.xlsx")
    done = tidymerge.load(
        str(folder / "in.xlsx"), str(target), key="k", accept_warnings=True, rejects=folder / "r.csv", limits=NO_LIMITS
    )
    loaded = raw_cells(target)
    if not done.changed:
        assert loaded == start
        return
    undone = tidymerge.undo(done.run)
    assert raw_cells(target) == start
    tidymerge.undo(undone.run)
    assert raw_cells(target) == loaded


@pytest.mark.parametrize(
    ("sheet", "formula", "seen"),
    [
        ("Hives", "SUM(B2:B4)", False), ("Sums", "SUM(Hives!$B$2:$B$4)", False), ("Sums", "COUNTA('Hives'!A1:C4)", False),
        ("Sums", "SUM(Hives!B2:B400)", True), ("Sums", "SUM(Hives!B:B)", True), ("Sums", "SUM(B2:B4)", True),
        ("Sums", "Hives!B4", True), ("Sums", "SUM(Hives!B2:B3)", True), ("Sums", "SUM(Hives!H2:H4)", True),
    ],
)  # fmt: skip
def test_formulas_that_would_not_see_new_rows_are_named(folder, sheet, formula, seen):
    book = Workbook()
    book.active.title = "Hives"
    for row in (["k", "kg", "note"], ["a", 1, "x"], ["b", 2, "y"], ["c", 3, "z"]):
        book.active.append(row)
    book.create_sheet("Sums")
    book[sheet]["F1"] = f"={formula}"
    book.save(folder / "hives.xlsx")
    new = tidymerge.preview(
        text_file(folder / "in.csv", [["k", "kg"], ["d", 4], ["a", 9]]), folder / "hives.xlsx", key="k"
    )
    named = [one for one in new.warnings if f"{sheet}!F1 ={formula}" in one]
    assert bool(named) != seen, new.warnings
    old = tidymerge.preview(text_file(folder / "in.csv", [["k", "kg"], ["a", 9]]), folder / "hives.xlsx", key="k")
    assert old.warnings == ()
