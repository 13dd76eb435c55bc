"""Lists behind HTTP, beside a bare loop over the same requests, against the stand-in in a process of its own.

    python benchmarks/lists.py [--rows 100000] [--changed 2000] [--rounds 5]

Reading: all records, page by page; bare is an httpx loop with `response.json()` that follows the links. Writing: changed
records in change sets of 100; bare posts the same batches, made before. All imports are counted. At last: from which
share of the list on it is faster to read all of it than to ask by keys; and what it takes to read only what changed.
"""

import argparse
import csv
import json
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.request import urlopen

import coop
from turns import in_turn

_PORT = 8799
_ROOT = f"http://127.0.0.1:{_PORT}/coop/"
_TYPE = "application/json;odata.metadata=minimal;IEEE754Compatible=true"
_TIMED = (
    "import json, time\nbegan = time.perf_counter()\n{work}\nseconds = time.perf_counter() - began\n"
    "peak = next(int(l.split()[1]) for l in open('/proc/self/status') if l.startswith('VmHWM')) / 1024\n"
    "print(json.dumps({{'seconds': seconds, 'megabytes': peak, 'sending': globals().get('sending', 0)}}))"
)
_READ = {
    "bare": f"import httpx\nclient, url, rows = httpx.Client(timeout=120), '{_ROOT}hives', []\nwhile url:\n"
    f"    found = client.get(url, headers={{'Accept': '{_TYPE}'}}).json()\n    rows += found['value']\n"
    "    url = found.get('@odata.nextLink')",
    "tidymerge": "from tidymerge.sources import open_source\nfrom tidymerge.model import ReadOptions\n"
    f"rows = open_source('{_ROOT}#hives', ReadOptions()).read(0)",
}


def serve(database: Path) -> subprocess.Popen:
    """The stand-in, ready to answer."""
    code = f"from pathlib import Path; from tidymerge.demo.lists.serve import serve; serve(Path({str(database)!r}), {_PORT}, print)"
    running = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.DEVNULL)
    while True:
        try:
            with urlopen(_ROOT):
                return running
        except OSError:
            time.sleep(0.1)


def batches(rows: list[list[str]], at: int) -> list[bytes]:
    """The batches that change these rows, each 100 in one set, with the ETags that the records have now."""
    import httpx

    client, url, etags = httpx.Client(timeout=120), f"{_ROOT}hives", {}
    while url:
        found = client.get(url).json()
        etags |= {(one["apiary_code"], one["hive_no"]): one["@odata.etag"] for one in found["value"]}
        url = found.get("@odata.nextLink")
    made = []
    for start in range(0, len(rows), 100):
        each = [
            {
                "id": str(number), "method": "patch", "atomicityGroup": "g0",
                "url": f"hives(apiary_code='{code}',hive_no={hive})", "body": {"honey_kg": f"{at}.25"},
                "headers": {"If-Match": etags[code, int(hive)], "Content-Type": "application/json;IEEE754Compatible=true"},
            }
            for number, (code, hive) in enumerate(rows[start : start + 100])
        ]  # fmt: skip
        made.append(json.dumps({"requests": each}).encode())
    return made


def write_ways(folder: Path, rows: list[list[str]], rounds: int) -> None:
    """Change the rows in both ways, in turn; the lines of the table."""
    turn, sheet, ready = [0], folder / "in.csv", folder / "batches.json"

    def prepare() -> None:
        turn[0] += 1
        with sheet.open("w", newline="") as file:
            csv.writer(file).writerows(
                [["apiary_code", "hive_no", "honey_kg"], *([*row, f"{turn[0]}.25"] for row in rows)]
            )
        ready.write_text(json.dumps([one.decode() for one in batches(rows, turn[0])]))

    ways = {
        "bare": f"import httpx\nclient = httpx.Client(timeout=120)\nstart = time.perf_counter()\n"
        f"for one in json.load(open({str(ready)!r})):\n"
        f"    client.post('{_ROOT}$batch', content=one, headers={{'Content-Type': 'application/json'}}).json()\n"
        "sending = time.perf_counter() - start",
        "tidymerge": "import tidymerge\nfrom tidymerge.services.odata import sending as module\nown = module.Sender.send\n"
        "def send(*all):\n    global sending\n    start = time.perf_counter()\n    own(*all)\n    sending = time.perf_counter() - start\n"
        f"module.Sender.send = send\ntidymerge.load({str(sheet)!r}, '{_ROOT}#hives', limits=tidymerge.Limits("
        "tidymerge.Most(100, 'target')), accept_warnings=True)",
    }
    found = in_turn(
        ways,
        rounds,
        prepare,
        lambda way: ["-c", _TIMED.format(work=ways[way])],
        {"TIDYMERGE_HOME": str(folder / "home")},
    )
    line(f"{len(rows):,} changed records, the whole load", found)
    for runs in found.values():
        for run in runs:
            run["seconds"] = run["sending"]
    line(f"{len(rows):,} changed records, sent and read back", found)


def line(what: str, found: dict[str, list[dict]]) -> None:
    """A line of the table."""
    bare, ours = (statistics.median(run["seconds"] for run in found[way]) for way in ("bare", "tidymerge"))
    memory = max(run["megabytes"] for run in found["tidymerge"])
    print(f"| {what} | {bare:.2f} | {ours:.2f} | **{ours / bare:.2f}** | {memory:.0f} |", flush=True)


def shares(rows: list[list[str]]) -> None:
    """How long it takes to ask for some records by their keys, and for all of them."""
    import pyarrow as pa

    from tidymerge.address import parse
    from tidymerge.model.access import Access
    from tidymerge.services.odata.describe import described
    from tidymerge.services.odata.reading import Records
    from tidymerge.services.odata.session import Session

    session = Session(parse(f"{_ROOT}#hives"), Access())
    records = Records(session, described(session.metadata, "hives"))
    columns = [records.about.shape.column(name) for name in ("apiary_code", "hive_no", "honey_kg")]
    began = time.perf_counter()
    for _ in records.all(columns):
        pass
    whole = time.perf_counter() - began
    print("\n| share asked for by keys | of the time for all |\n|---|---|")
    for share in (0.01, 0.05, 0.1, 0.2, 0.3):
        some = rows[: int(len(rows) * share)]
        texts = pa.table(
            {name: pa.array([row[at] for row in some]) for at, name in enumerate(("apiary_code", "hive_no"))}
        )
        began = time.perf_counter()
        records.of_keys(columns, ["apiary_code", "hive_no"], texts)
        print(f"| {share:.0%} | {(time.perf_counter() - began) / whole:.2f} |", flush=True)
    session.close()


def changes(rows: list[list[str]]) -> None:
    """How long it takes to read only what changed, and all."""
    import httpx

    from tidymerge.address import parse
    from tidymerge.model.access import Access
    from tidymerge.services.odata.describe import described
    from tidymerge.services.odata.reading import Records
    from tidymerge.services.odata.session import Session
    from tidymerge.services.odata.tracking import tracked

    session = Session(parse(f"{_ROOT}#hives"), Access())
    records = Records(session, described(session.metadata, "hives"))
    columns = records.about.shape.columns
    began = time.perf_counter()
    link = tracked(records, columns, None).onward
    whole = time.perf_counter() - began
    print("\n| records that changed | of the time for all |\n|---|---|")
    link = tracked(records, columns, link).onward  # of no changes: what the first one costs is not of interest
    for some in (100, 1_000, 10_000):
        for one in batches(rows[:some], some):
            httpx.post(f"{_ROOT}$batch", content=one, headers={"Content-Type": "application/json"}, timeout=120)
        began = time.perf_counter()
        found = tracked(records, columns, link)
        print(f"| {found.records.values.num_rows:,} | {(time.perf_counter() - began) / whole:.3f} |", flush=True)
        link = found.onward
    session.close()


def main() -> None:
    """Serve a list, run the ways, print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rows", type=int, default=100_000)
    parser.add_argument("--changed", type=int, default=2000)
    parser.add_argument("--rounds", type=int, default=5)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        database = folder / "coop.db"
        coop.make_database(database, coop.hives(0, options.rows, seed=1), coop.CREATE)
        connection = sqlite3.connect(database)
        rows = [list(map(str, row)) for row in connection.execute("SELECT apiary_code, hive_no FROM hives").fetchall()]
        connection.close()
        running = serve(database)
        try:
            print("| what | bare, s | tidymerge, s | ratio | peak MB |\n|---|---|---|---|---|")
            found = in_turn(_READ, options.rounds, lambda: None, lambda way: ["-c", _TIMED.format(work=_READ[way])])
            line(f"{options.rows:,} records read", found)
            write_ways(folder, rows[: options.changed], options.rounds)
            shares(rows)
            changes(rows)
        finally:
            running.terminate()
            running.wait()


if __name__ == "__main__":
    sys.exit(main())
