"""Ways of doing the same, each in a process of its own, taking turns: a noisy machine is then noisy for all of them."""

import argparse
import json
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Mapping


def in_turn(
    ways: Iterable[str],
    rounds: int,
    prepare: Callable[[], object],
    command: Callable[[str], list[str]],
    environment: Mapping[str, str] | None = None,
) -> dict[str, list[dict]]:
    """For each way what its script printed, as JSON, each round. `prepare` makes things fresh before every turn."""
    found: dict[str, list[dict]] = {way: [] for way in ways}
    for _ in range(rounds):
        for way, runs in found.items():
            prepare()
            done = subprocess.run(
                [sys.executable, *command(way)],
                check=True,
                capture_output=True,
                text=True,
                env={**os.environ, **(environment or {})},
            )
            runs.append(json.loads(done.stdout))
    return found


def arguments(
    about: str | None, ways: Mapping[str, Callable[[str, str], object]], **numbers: int
) -> argparse.Namespace:
    """The numbers given on the command line; as one of the turns, take it, print seconds and megabytes, and end."""
    from ways_sqlite import peak_megabytes

    parser = argparse.ArgumentParser(description=about)
    for name, usual in numbers.items():
        parser.add_argument(f"--{name}", type=int, default=usual)
    parser.add_argument("--one", nargs=3, help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.one:
        way, target, path = options.one
        began = time.perf_counter()
        ways[way](target, path)
        print(json.dumps({"seconds": time.perf_counter() - began, "megabytes": peak_megabytes()}))
        sys.exit()
    return options


def table(found: Mapping[str, list[dict]]) -> None:
    """Print the medians, and how they stand to that of the first way."""
    medians = {way: statistics.median(run["seconds"] for run in runs) for way, runs in found.items()}
    base = next(iter(medians.values()))
    print("| way | median s | ratio | peak MB |\n|---|---|---|---|")
    for way, runs in found.items():
        memory = max(run["megabytes"] for run in runs)
        print(f"| {way} | {medians[way]:.2f} | {medians[way] / base:.2f} | {memory:.0f} |")
