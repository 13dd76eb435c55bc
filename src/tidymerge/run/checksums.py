"""Checksums of the incoming files, worked out while their rows are read."""

import hashlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from threading import Event
from typing import Self

from msgspec.structs import replace

from tidymerge.address import STANDARD_INPUT, is_server, parse, without_password
from tidymerge.databases import is_database
from tidymerge.errors import Interrupted

_BLOCK = 1 << 20  # bytes hashed at a time


class Checksums(Mapping[str, str | None]):
    """The incoming addresses, with the SHA-256 of those that are files; databases change too often to have one.

    They stand under their names by `name_of`.
    They are worked out in a thread, and whoever looks at them waits for it. Once stopped, what is left has none. As a
    context: an interruption inside stops them, so that the entry of the run need not wait for a large file.
    """

    def __init__(self, given: Sequence[str], name_of: Callable[[str], str] = str) -> None:
        self._stopped = Event()
        self._name_of = name_of
        pool = ThreadPoolExecutor(1)
        self._found = pool.submit(self._all, tuple(given))
        pool.shutdown(wait=False)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, *_: object) -> None:
        if kind is not None and issubclass(kind, (KeyboardInterrupt, Interrupted)):
            self.stop()

    def stop(self) -> None:
        """Nobody will look any more."""
        self._stopped.set()

    def __getitem__(self, address: str) -> str | None:
        return self._found.result()[address]

    def __iter__(self) -> Iterator[str]:
        return iter(self._found.result())

    def __len__(self) -> int:
        return len(self._found.result())

    def _all(self, given: Sequence[str]) -> dict[str, str | None]:
        found: dict[str, str | None] = {}
        for text in given:
            if text == STANDARD_INPUT or is_server(text):
                found[without_password(text)] = None
                continue
            address = parse(text)
            called = self._name_of(text)
            name = called if called != text else str(replace(address, path=address.path.absolute()))
            found[name] = None
            if address.path.is_file() and not is_database(text):
                with suppress(OSError):  # reading the rows says what is wrong with it
                    found[name] = self._sha256(address.path)
        return found

    def _sha256(self, path: Path) -> str | None:
        digest = hashlib.sha256()
        with path.open("rb") as file:
            while block := file.read(_BLOCK):
                if self._stopped.is_set():
                    return None
                digest.update(block)
        return digest.hexdigest()
