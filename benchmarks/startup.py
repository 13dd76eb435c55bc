"""How long the program takes before it does anything, turn by turn in fresh processes.

    python benchmarks/startup.py

`tidymerge --help` beside the import of pandas, where that is installed; a load of 30 rows into a SQLite table of 1,000
beside the import of what any such program needs. The latter is to be run where pandas is not installed: else pyarrow
imports it, too.
"""

import csv
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Mapping, Sequence
from importlib.util import find_spec
from pathlib import Path

from coop import COLUMNS, hives, make_database

_ROUNDS = 15
_ROWS, _INCOMING = 1000, 30
# What a load imports from others: there is no load without it.
_LIBRARIES = (
    "import pyarrow.compute, pyarrow.csv, pyarrow.parquet, numpy, msgspec, filelock, adbc_driver_sqlite, sqlite3, "
    "pydantic, typer.main, rich.console, rich.table, rich.progress"
)


def compare(commands: Mapping[str, Sequence[str]], base: str, fresh: Callable[[], object] = lambda: None) -> None:
    """Print the medians and their ratios to that of `base`. `fresh` comes before every turn."""
    times: dict[str, list[float]] = {name: [] for name in commands}
    for _ in range(_ROUNDS):
        for name, command in commands.items():
            fresh()
            began = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True)
            times[name].append(time.perf_counter() - began)
    usual = statistics.median(times[base])
    print("\n| what | median s | ratio |\n|---|---|---|")
    for name, taken in times.items():
        print(f"| {name} | {statistics.median(taken):.3f} | {statistics.median(taken) / usual:.2f} |")


def main() -> None:
    """Print both tables."""
    program = shutil.which("tidymerge") or "tidymerge"
    commands = {
        "tidymerge --help": [program, "--help"],
        "import pandas": [sys.executable, "-c", "import pandas"],
        "bare Python": [sys.executable, "-c", "pass"],
    }
    if find_spec("pandas"):
        compare(commands, "import pandas")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        os.environ["TIDYMERGE_HOME"] = str(folder / "home")
        existing = hives(0, _ROWS, seed=1)
        make_database(folder / "kept.db", existing)
        rows = [list(row) for row in existing[:_INCOMING]]
        for row in rows[::5]:
            row[4] = "77.70"
        with (folder / "in.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows([COLUMNS, *rows])
        target = f"{folder / 'coop.db'}#hives"
        commands = {
            "load of 30 rows": [program, "load", str(folder / "in.csv"), "--into", target, "--yes"],
            "all the libraries of a load": [sys.executable, "-c", _LIBRARIES],
            "import pyarrow, numpy": [sys.executable, "-c", "import pyarrow, numpy"],
        }
        compare(commands, "import pyarrow, numpy", lambda: shutil.copyfile(folder / "kept.db", folder / "coop.db"))


if __name__ == "__main__":
    main()
