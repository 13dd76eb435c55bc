"""This version side by side with another commit, over the same loads.

    python benchmarks/against.py COMMIT [--rows 1000000] [--rounds 5] [--servers]

Both the commit and the last one are installed into folders of their own. Each load runs in a process of its own on a
fresh copy of the same data; the two versions take turns. Servers are those of TIDYMERGE_BENCH_POSTGRESQL and
TIDYMERGE_BENCH_MARIADB.
"""

import argparse
import csv
import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from coop import hives, make_database, make_incoming

_GIT = shutil.which("git") or "git"
_ROOT = Path(__file__).parent.parent
_LOAD = """
import json, resource, sys, time
began = time.perf_counter()
import tidymerge
incoming, target = sys.argv[1:]
limits = tidymerge.Limits(updated=tidymerge.Most(100, "target"), inserted=tidymerge.Most(100, "target"))
receipt = tidymerge.load(incoming, target, key=("apiary_code", "hive_no"), limits=limits, accept_warnings=True, rejects=False)
print(json.dumps({"seconds": time.perf_counter() - began, "counts": [receipt.rows.inserted, receipt.rows.updated],
    "megabytes": resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024}))
"""


def installed(commit: str, folder: Path) -> str:
    """The Python of a fresh environment with that commit."""
    folder.mkdir()
    tree, python = folder / "tree", str(folder / "venv" / "bin" / "python")
    subprocess.run([_GIT, "clone", "-q", str(_ROOT), str(tree)], check=True)
    subprocess.run([_GIT, "-C", str(tree), "checkout", "-q", commit], check=True)
    subprocess.run([sys.executable, "-m", "venv", str(folder / "venv")], check=True)
    subprocess.run([python, "-m", "pip", "install", "-q", f"{tree}[all]"], check=True)
    return python


def measure(pythons: dict[str, str], rounds: int, incoming: Path, fresh: Callable[[], str], home: Path) -> None:
    """Load in turn with each version, and print medians and their ratio."""
    found: dict[str, list[dict]] = {name: [] for name in pythons}
    for _ in range(rounds):
        for name, python in pythons.items():
            done = subprocess.run(
                [python, "-c", _LOAD, str(incoming), fresh()], check=True, capture_output=True, text=True,
                env={**os.environ, "TIDYMERGE_HOME": str(home)},
            )  # fmt: skip
            found[name].append(json.loads(done.stdout))
            shutil.rmtree(home, ignore_errors=True)
    counts = {tuple(run["counts"]) for runs in found.values() for run in runs}
    if len(counts) != 1:
        raise SystemExit(f"The two versions decide differently: {counts}")
    medians = {name: statistics.median(run["seconds"] for run in runs) for name, runs in found.items()}
    memory = {name: max(run["megabytes"] for run in runs) for name, runs in found.items()}
    before, after = medians.values()
    print(
        f" {before:.2f} | {after:.2f} | {after / before:.2f} | {' | '.join(f'{size:.0f}' for size in memory.values())} |",
        flush=True,
    )


def main() -> None:
    """Make the data, run both, print a table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("commit")
    parser.add_argument("--rows", type=int, default=1_000_000)
    parser.add_argument("--rounds", type=int, default=5)
    parser.add_argument("--servers", action="store_true")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        pythons = {"before": installed(options.commit, folder / "1"), "after": installed("HEAD", folder / "2")}
        existing = hives(0, options.rows, seed=1)
        make_database(folder / "coop.db", existing)
        incoming = {}
        for case, share, new, changed in (("a", 1.0, 0.02, 0.05), ("b", 0.2, 0.10, 0.20)):
            incoming[case] = folder / f"{case}.csv"
            make_incoming(incoming[case], existing, int(options.rows * share), new, changed, seed=2)
        print("| load | before s | after s | ratio | before MB | after MB |\n|---|---|---|---|---|---|")

        def sqlite() -> str:
            shutil.copyfile(folder / "coop.db", folder / "copy.db")
            return f"{folder / 'copy.db'}#hives"

        def text() -> str:
            shutil.copyfile(incoming["a"], folder / "target.csv")
            return str(folder / "target.csv")

        cases = [("SQLite (a)", "a", sqlite), ("SQLite (b)", "b", sqlite), ("CSV", "b", text)]
        if options.servers:
            from load_servers import PREPARE

            rows = folder / "existing.csv"
            with rows.open("w", newline="", encoding="utf-8") as file:
                csv.writer(file).writerows(existing)
            for kind, (fill, reset) in PREPARE.items():
                url = os.environ[f"TIDYMERGE_BENCH_{kind.upper()}"]
                fill(url, rows)
                cases.append((f"{kind} (b)", "b", lambda url=url, reset=reset: (reset(url), f"{url}#hives")[1]))
        for words, case, fresh in cases:
            print(f"| {words} |", end="", flush=True)
            measure(pythons, options.rounds, incoming[case], fresh, folder / "home")


if __name__ == "__main__":
    main()
