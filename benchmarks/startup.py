"""How long `tidymerge --help` takes against the import of pandas, turn by turn in fresh processes.

python benchmarks/startup.py        (needs pandas; it is no part of the product)
"""

import shutil
import statistics
import subprocess
import sys
import time

_ROUNDS = 15


def main() -> None:
    """Print the medians and their ratio; the aim is at most 0.4."""
    commands = {
        "tidymerge --help": [shutil.which("tidymerge") or "tidymerge", "--help"],
        "import pandas": [sys.executable, "-c", "import pandas"],
        "bare Python": [sys.executable, "-c", "pass"],
    }
    times: dict[str, list[float]] = {name: [] for name in commands}
    for _ in range(_ROUNDS):
        for name, command in commands.items():
            began = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True)
            times[name].append(time.perf_counter() - began)
    base = statistics.median(times["import pandas"])
    print("| what | median s | ratio |\n|---|---|---|")
    for name, taken in times.items():
        print(f"| {name} | {statistics.median(taken):.3f} | {statistics.median(taken) / base:.2f} |")


if __name__ == "__main__":
    main()
