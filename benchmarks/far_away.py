"""A server 20 ms away: what a load costs more than next door, and how many round trips that makes.

    python benchmarks/far_away.py [--server postgresql --server mariadb]

Needs the servers that TIDYMERGE_BENCH_POSTGRESQL and TIDYMERGE_BENCH_MARIADB name, by host and port. A small proxy
delays every byte by 10 ms each way. Each load updates and inserts a tenth of its rows, in a process of its own; the
ways take turns, medians of `--rounds`.
"""

import argparse
import os
import queue
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from urllib.parse import urlsplit

from coop import hives, make_incoming
from load_servers import PREPARE

_ONE_WAY = 0.010
_HERE = Path(__file__).parent


def _pump(source: socket.socket, sink: socket.socket) -> None:
    """Pass bytes on, each piece 10 ms after it came."""
    waiting: queue.Queue[tuple[float, bytes]] = queue.Queue()

    def deliver() -> None:
        while True:
            due, data = waiting.get()
            time.sleep(max(0.0, due - time.perf_counter()))
            try:
                sink.sendall(data) if data else sink.shutdown(socket.SHUT_WR)
            except OSError:
                return
            if not data:
                return

    threading.Thread(target=deliver, daemon=True).start()
    while True:
        try:
            data = source.recv(1 << 20)
        except OSError:
            data = b""
        waiting.put((time.perf_counter() + _ONE_WAY, data))
        if not data:
            return


def proxy(host: str, port: int) -> int:
    """Start the proxy in threads; its port."""
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        while True:
            near, _ = listener.accept()
            far = socket.create_connection((host, port))
            for one in (near, far):
                one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            threading.Thread(target=_pump, args=(near, far), daemon=True).start()
            threading.Thread(target=_pump, args=(far, near), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    return int(listener.getsockname()[1])


def _seconds(server: str, url: str, through: str, incoming: Path) -> float:
    PREPARE[server][1](url)
    command = [sys.executable, str(_HERE / "ways_servers.py"), "tidymerge", through, str(incoming)]
    import json

    return float(json.loads(subprocess.run(command, check=True, capture_output=True, text=True).stdout)["seconds"])


def main() -> None:
    """Make the data, load near and far, print the table."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--server", action="append", choices=sorted(PREPARE))
    parser.add_argument("--rounds", type=int, default=3)
    options = parser.parse_args()
    print("| server | rows | near, s | 20 ms away, s | more, s | round trips that makes |\n|---|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as folder:
        existing = hives(0, 20_000, seed=1)
        rows = Path(folder) / "existing.csv"
        rows.write_text(
            "".join(",".join("" if v is None else str(v) for v in row) + "\r\n" for row in existing), "utf-8"
        )
        for server in options.server or sorted(PREPARE):
            url = os.environ[f"TIDYMERGE_BENCH_{server.upper()}"]
            parts = urlsplit(url)
            ports = {"postgresql": 5432, "mariadb": 3306}
            port = proxy(str(parts.hostname), parts.port or ports[server])
            user = f"{parts.username}@" if parts.username else ""
            far = parts._replace(netloc=f"{user}127.0.0.1:{port}").geturl()
            PREPARE[server][0](url, rows)
            for count in (200, 2_000, 20_000):
                incoming = Path(folder) / f"{count}.csv"
                make_incoming(incoming, existing, count, 0.1, 0.1, seed=2)
                times = [
                    (_seconds(server, url, url, incoming), _seconds(server, url, far, incoming))
                    for _ in range(options.rounds)
                ]
                near, away = (statistics.median(column) for column in zip(*times, strict=True))
                trips = (away - near) / (2 * _ONE_WAY)
                print(f"| {server} | {count:,} | {near:.2f} | {away:.2f} | {away - near:.2f} | {trips:.0f} |")


if __name__ == "__main__":
    main()
