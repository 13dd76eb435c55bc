"""What lies between a client and a service: it passes bytes on, and cuts the connection at one of them."""

import contextlib
import socket
import ssl
import threading
from typing import Self
from urllib.parse import urlsplit


class Relay:
    """Passes on what goes to and comes from a service on this machine; with a `tls` context clients must speak TLS.

    `passed` counts the bytes that went to the service, and those that came back. `cut(side, left)` ends the connection
    after so many more of one of them; with `away` no other one comes about from then on.
    """

    def __init__(self, root: str, tls: ssl.SSLContext | None = None) -> None:
        self._to, self.tls, self._lock = urlsplit(root).port, tls, threading.Lock()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = self._listening.getsockname()[1]
        self.passed = [0, 0]
        self.back()

    def __enter__(self) -> Self:
        threading.Thread(target=self._accept, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._listening.close()

    def cut(self, side: int, left: int, *, away: bool = False) -> None:
        """Cut after so many bytes more."""
        with self._lock:
            self._at, self._away = (side, self.passed[side] + left), away

    def back(self) -> None:
        """Let everything pass again."""
        with self._lock:
            self._at, self._away, self._gone = None, False, False

    def _accept(self) -> None:
        with contextlib.suppress(OSError):
            while True:
                client, _ = self._listening.accept()
                threading.Thread(target=self._connect, args=(client,), daemon=True).start()

    def _connect(self, client: socket.socket) -> None:
        with contextlib.suppress(OSError):
            if self._gone:
                client.close()
                return
            client = client if self.tls is None else self.tls.wrap_socket(client, server_side=True)
            service = socket.create_connection(("127.0.0.1", self._to))
            for one in (client, service):
                one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            both = (client, service)
            threading.Thread(target=self._pass, args=(1, service, client, both), daemon=True).start()
            self._pass(0, client, service, both)

    def _pass(self, side: int, one: socket.socket, other: socket.socket, both: tuple[socket.socket, ...]) -> None:
        with contextlib.suppress(OSError):
            while some := one.recv(65536):
                some, ends = self._counted(side, some)
                other.sendall(some)
                if ends:
                    break
        for each in both:
            with contextlib.suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)
            each.close()

    def _counted(self, side: int, some: bytes) -> tuple[bytes, bool]:
        """What may pass, and whether the connection ends then."""
        with self._lock:
            ends = self._at is not None and self._at[0] == side and self.passed[side] + len(some) >= self._at[1]
            if ends:
                some = some[: self._at[1] - self.passed[side]]
                self._at, self._gone = None, self._away
            self.passed[side] += len(some)
            return some, ends
