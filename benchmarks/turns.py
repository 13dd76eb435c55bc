"""Ways of doing the same, each in a process of its own, taking turns: a noisy machine is then noisy for all of them."""

import json
import os
import subprocess
import sys
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
