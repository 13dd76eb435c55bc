"""Addresses: where rows live, written as FILE, FILE#PART, or SCHEME://…/DATABASE#TABLE for a server."""

import os
import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from tidymerge.errors import BadAddress

STANDARD_INPUT = "-"
SERVERS = {"postgresql": "postgresql", "mariadb": "mariadb", "mysql": "mariadb"}  # scheme: kind of server
_VARIABLE = re.compile(r"\$\{(\w+)\}")


@dataclass(frozen=True, slots=True)
class Address:
    """A file, or a server's database (`server` is its URL), and the part of it (sheet or table) that is meant."""

    path: Path
    part: str | None = None
    server: str | None = None

    @property
    def place(self) -> str:
        """The file, or the server's database without password and options: what may be shown."""
        if self.server is None:
            return str(self.path)
        url = urlsplit(self.server)
        user = f"{url.username}@" if url.username else ""
        host = url.netloc.rpartition("@")[2]
        return f"{url.scheme}://{user}{host}{url.path}"

    def hide(self, said: str) -> str:
        """What a driver said, without any password that stands in the address."""
        url = urlsplit(self.server or "")
        secrets = [url.password, *(value for name, value in parse_qsl(url.query) if "password" in name)]
        for secret in filter(None, secrets):
            for form in (secret, unquote(secret), quote(secret)):
                said = said.replace(form, "…")
        return said

    def __str__(self) -> str:
        return f"{self.place}#{self.part}" if self.part else self.place


def is_server(text: str) -> bool:
    """Whether an address leads to a database server."""
    return "://" in text


def without_password(text: str) -> str:
    """A server's address with the environment variable TIDYMERGE_PASSWORD in place of a password written out."""
    text = re.sub(r"([?&]\w*password=)[^&#]*", r"\1${TIDYMERGE_PASSWORD}", text)
    return re.sub(r"(://[^/?#@:]*:)(?!\$\{)[^/?#@]+@", r"\1${TIDYMERGE_PASSWORD}@", text)


def parse(text: str) -> Address:
    """Split an address at its '#'. Names with a '#' in them work: the longest file that exists is the file.

    In a server's address `${NAME}` stands for an environment variable. Raises BadAddress.
    """
    if is_server(text):
        return _parse_server(text)
    splits = [(text, "")] + [(text[:at], text[at + 1 :]) for at in reversed(range(len(text))) if text[at] == "#"]
    for name, part in splits:
        if name and Path(name).exists():
            return Address(Path(name), part or None)
    name, _, part = text.partition("#")
    return Address(Path(name), part or None)


def _parse_server(text: str) -> Address:
    url, _, part = text.partition("#")
    scheme = url.partition("://")[0].lower()
    if scheme not in SERVERS:
        raise BadAddress(f"{scheme}:// is not a kind of server that is known; known are {', '.join(SERVERS)}.")
    missing = [name for name in _VARIABLE.findall(text) if name not in os.environ]
    if missing:
        raise BadAddress(f"The address names the environment variable {missing[0]}, which is not set.")
    # A password from the environment may hold any character.
    url = re.sub(r":\$\{(\w+)\}@", lambda found: f":{quote(os.environ[found[1]], safe='')}@", url)
    url, part = (_VARIABLE.sub(lambda found: os.environ[found[1]], piece) for piece in (url, part))
    try:
        _ = urlsplit(url).port
    except ValueError:
        raise BadAddress(
            "The server's address can't be read: its port is no number. In a user name or password write special "
            "characters as %XX, such as %40 for @."
        ) from None
    return Address(Path(), part or None, url)
