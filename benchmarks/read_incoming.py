"""Reading incoming rows of the other formats, beside what the plain library takes for its own objects.

    python benchmarks/read_incoming.py [--rows 300000] [--rounds 5]

A workbook and an ODS file beside calamine's rows of Python objects, JSON Lines beside `json.loads` of each line, CSV
beside Arrow's reader. What the product reads are typed columns: with what looks blank and is not, blank rows told, the
numbers as they stand in the document, the header found.
"""

import csv
import json
import tempfile
import zipfile
from collections.abc import Callable
from datetime import date
from html import escape
from pathlib import Path

import mixed
from turns import arguments, in_turn, table

_NUMBERS = (1, 3, 4, 5)
_SPACES = " ".join(
    f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"' for name in ("office", "table", "text")
)
_ODS = "application/vnd.oasis.opendocument.spreadsheet"
_MANIFEST = (
    '<?xml version="1.0"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
    f'<manifest:file-entry manifest:full-path="/" manifest:media-type="{_ODS}"/>'
    '<manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>'
)


def make_xlsx(path: Path, rows: list[list]) -> None:
    """A workbook with numbers and dates as such."""
    from openpyxl import Workbook

    book = Workbook(write_only=True)
    sheet = book.create_sheet("Hives")
    sheet.append(mixed.COLUMNS)
    for row in rows:
        sheet.append([*row[:4], float(row[4]), float(row[5]), date.fromisoformat(row[6]), *row[7:]])
    book.save(path)


def make_ods(path: Path, rows: list[list]) -> None:
    """The least that is an ODS file (ISO 26300): a zip with the content in it."""

    def cell(at: int, value: object) -> str:
        if value is None:
            return "<table:table-cell/>"
        kind = f'"float" office:value="{value}"' if at in _NUMBERS else '"string"'
        return f"<table:table-cell office:value-type={kind}><text:p>{escape(str(value))}</text:p></table:table-cell>"

    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("mimetype", _ODS)
        archive.writestr("META-INF/manifest.xml", _MANIFEST)
        with archive.open("content.xml", "w") as file:
            start = f'<office:document-content {_SPACES} office:version="1.3"><office:body><office:spreadsheet>'
            file.write(f'<?xml version="1.0"?>{start}<table:table table:name="Hives">'.encode())
            header = "".join(f"<table:table-cell><text:p>{name}</text:p></table:table-cell>" for name in mixed.COLUMNS)
            file.write(f"<table:table-row>{header}</table:table-row>".encode())
            for row in rows:
                cells = "".join(cell(at, value) for at, value in enumerate(row))
                file.write(f"<table:table-row>{cells}</table:table-row>".encode())
            file.write(b"</table:table></office:spreadsheet></office:body></office:document-content>")


def make_jsonl(path: Path, rows: list[list]) -> None:
    """An object a line."""
    with path.open("w", encoding="utf-8") as file:
        for row in rows:
            named = dict(zip(mixed.COLUMNS, row, strict=True))
            numbers = {mixed.COLUMNS[at]: float(row[at]) for at in (4, 5)}
            file.write(json.dumps(named | numbers, ensure_ascii=False) + "\n")


def make_csv(path: Path, rows: list[list]) -> None:
    """Comma-separated text."""
    with path.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([mixed.COLUMNS, *rows])


def plain(_: str, path: str) -> None:
    """The library's own objects."""
    match Path(path).suffix:
        case ".jsonl":
            with open(path, encoding="utf-8") as file:
                rows = [json.loads(line) for line in file]
        case ".csv":
            from pyarrow.csv import read_csv

            rows = read_csv(path)
        case _:
            from python_calamine import CalamineWorkbook

            rows = CalamineWorkbook.from_path(path).get_sheet_by_index(0).to_python(skip_empty_area=False)
    assert len(rows) > 0  # noqa: S101 - it must have read them


def ours(_: str, path: str) -> None:
    """The product's reader, down to typed columns."""
    from tidymerge.model import ReadOptions
    from tidymerge.sources import open_source

    source = open_source(path, ReadOptions(), None)
    assert len(source.read(0).row_numbers) > 0  # noqa: S101


FORMATS: dict[str, Callable[[Path, list[list]], None]] = {
    "xlsx": make_xlsx,
    "ods": make_ods,
    "jsonl": make_jsonl,
    "csv": make_csv,
}


def main() -> None:
    """Make the files, read them in turn, print the tables."""
    options = arguments(__doc__, {"plain library": plain, "tidymerge": ours}, rows=300_000, rounds=5)
    with tempfile.TemporaryDirectory() as folder:
        rows = mixed.hives(0, options.rows, seed=1)
        for name, make in FORMATS.items():
            path = Path(folder) / f"hives.{name}"
            make(path, rows)
            print(f"\n{name}, {options.rows:,} rows of {len(mixed.COLUMNS)} columns")
            ways = ("plain library", "tidymerge")
            found = in_turn(
                ways, options.rounds, lambda: None, lambda way, path=path: [__file__, "--one", way, folder, str(path)]
            )
            table(found)


if __name__ == "__main__":
    main()
