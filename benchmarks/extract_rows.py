"""Taking rows out of a table, beside a plain query written to the same format without types, a log or a way back.

    python benchmarks/extract_rows.py [--rows 1000000] [--rounds 3]

Parquet and CSV: all rows of the harder data (`mixed.py`) in SQLite, by a query through the same driver and Arrow's own
writers; in PostgreSQL (TIDYMERGE_BENCH_POSTGRESQL), if it is named, CSV by COPY. XLSX: a tenth of the rows, beside
openpyxl's constant-memory writer. All imports are counted.
"""

import argparse
import os
import shutil
import statistics
import sys
import tempfile
from pathlib import Path

import mixed
from coop import make_database
from load_servers import fill_postgresql, reset_postgresql
from turns import in_turn

_QUERY = "SELECT * FROM hives"
_PLAIN = {
    "parquet": "pq.write_table(read(), out, compression='zstd')",
    "csv": "csv.write_csv(read(), out)",
    "xlsx": "book = Workbook(write_only=True); sheet = book.create_sheet(); table = read(); sheet.append(table.column_names); "
    "[sheet.append(row) for row in zip(*(c.to_pylist() for c in table.columns))]; book.save(out)",
}
_IMPORTS = {
    "parquet": "import pyarrow.parquet as pq",
    "csv": "from pyarrow import csv",
    "xlsx": "from openpyxl import Workbook",
}


def code(way: str, form: str, database: str, out: Path) -> str:
    """A program that takes the rows out in one way, and prints how long it took and what memory it needed."""
    if way == "tidymerge":
        work = f"import tidymerge; tidymerge.extract({f'{database}#hives'!r}, {str(out)!r})"
    elif database.startswith("postgresql"):
        work = (
            f"import psycopg\nwith psycopg.connect({database!r}) as c, open({str(out)!r}, 'wb') as f, "
            "c.cursor().copy('COPY hives TO STDOUT (FORMAT csv, HEADER)') as copy:\n    [f.write(b) for b in copy]"
        )
    else:
        work = (
            f"{_IMPORTS[form]}\nimport adbc_driver_sqlite.dbapi as d\nout = {str(out)!r}\n"
            f"def read():\n    c = d.connect({database!r}); k = c.cursor(); k.execute({_QUERY!r}); return k.fetch_arrow_table()\n"
            f"{_PLAIN[form]}"
        )
    return (
        f"import json, time\nbegan = time.perf_counter()\n{work}\nseconds = time.perf_counter() - began\n"
        "peak = next(int(l.split()[1]) for l in open('/proc/self/status') if l.startswith('VmHWM')) / 1024\n"
        "print(json.dumps({'seconds': seconds, 'megabytes': peak}))"
    )


def measure(form: str, database: str, folder: Path, rounds: int) -> None:
    """Both ways in turn; a line of the table."""
    out = folder / f"out.{form}"
    found = in_turn(
        ("plain", "tidymerge"),
        rounds,
        lambda: out.unlink(missing_ok=True),
        lambda way: ["-c", code(way, form, database, out)],
        {"TIDYMERGE_HOME": str(folder / "home")},
    )
    plain, ours = (statistics.median(run["seconds"] for run in found[way]) for way in ("plain", "tidymerge"))
    memory = max(run["megabytes"] for run in found["tidymerge"])
    where = "PostgreSQL" if database.startswith("postgresql") else "SQLite"
    print(f"| {where}, {form} | {plain:.2f} | {ours:.2f} | **{ours / plain:.2f}** | {memory:.0f} |", flush=True)


def main() -> None:
    """Make the tables, run the ways, print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    print("| target and form | plain, s | tidymerge, s | ratio | peak MB |\n|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for count, forms in ((options.rows, ("parquet", "csv")), (options.rows // 10, ("xlsx",))):
            database = folder / f"coop{count}.db"
            make_database(database, mixed.hives(0, count, seed=1), mixed.CREATE)
            for form in forms:
                measure(form, str(database), folder, options.rounds)
        url = os.environ.get("TIDYMERGE_BENCH_POSTGRESQL")
        if url:
            mixed.make_incoming(folder / "all.csv", mixed.hives(0, options.rows, seed=1), options.rows, 0, 0, seed=2)
            rows = folder / "rows.csv"
            rows.write_text("\n".join((folder / "all.csv").read_text("utf-8").splitlines()[1:]) + "\n", "utf-8")
            fill_postgresql(url, rows, mixed)
            reset_postgresql(url, mixed)
            measure("csv", url, folder, options.rounds)
        shutil.rmtree(folder / "home", ignore_errors=True)


if __name__ == "__main__":
    sys.exit(main())
