"""Addresses: where rows live, written as FILE, FILE#PART, SCHEME://…/DATABASE#TABLE, or https://…/ROOT/#LIST."""

import os
import re
import sys
from pathlib import Path
from urllib.parse import parse_qsl, quote, unquote, urlsplit

from msgspec import Struct

from tidymerge.errors import BadAddress
from tidymerge.settings import allowed_variables

STANDARD_INPUT = "-"
_SQLITE = "sqlite:///"  # a URL's way to say that the rest is a file
_HOME = "~/"
SERVERS = {"postgresql": "postgresql", "mariadb": "mariadb", "mysql": "mariadb"}  # scheme: kind of server
SERVICES = ("https", "http")  # that speak OData, a list or a table behind the #
_PORTS = {"postgresql": 5432, "mariadb": 3306, "https": 443, "http": 80}
_VARIABLE = re.compile(r"\$\{(\w+)\}")
# Where a variable may stand unasked: user name, password, and options that are passwords.
_SECRETS = re.compile(r"(?<=://)[^/?#@]*@|(?<=[?&])\w*password=[^&#]*")
_ESCAPE = (
    "The server's address can't be read: its port is no number, or an @ stands behind the host. In a user name or "
    "password write special characters as %XX, such as %40 for @ and %2F for /."
)


class Address(Struct, frozen=True):
    """A file, or a server's database (`server` is its URL), and what stands after the #: the sheet or table in it."""

    path: Path
    fragment: str | None = None
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
        return f"{self.place}#{self.fragment}" if self.fragment else self.place


def is_server(text: str) -> bool:
    """Whether an address leads to a server: of a database, or of a service behind HTTP."""
    return "://" in text and not text.lower().startswith(_SQLITE)


def is_service(text: str) -> bool:
    """Whether an address leads to a service behind HTTP."""
    return text.partition("://")[0].lower() in SERVICES and "://" in text


def local(text: str) -> str:
    """A file's address as it leads from here: without sqlite:///, and with the home folder in place of ~."""
    if text.lower().startswith(_SQLITE):
        text = text[len(_SQLITE) :]
    if text.startswith(_HOME) and not Path("~").exists():
        return str(Path.home() / text.removeprefix(_HOME))
    return text


def _is_unescaped(text: str) -> bool:
    """Whether the rest of a user name or password seems to stand where the host ends: an @ after the first / ? or #."""
    rest = text.partition("://")[2]
    host, mark, beyond = re.split(r"([/?#])", f"{rest}#", maxsplit=1)[:3]
    before_part = beyond.partition("#")[0] if mark != "#" else beyond
    return "@" not in host and "@" in before_part


def without_password(text: str) -> str:
    """A server's address with the environment variable TIDYMERGE_PASSWORD in place of a password written out.

    Of one that can't be read only the scheme is left, as a password may stand anywhere in it.
    """
    if is_server(text) and _is_unescaped(text):
        return f"{text.partition('://')[0]}://…"
    text = re.sub(r"([?&]\w*password=)[^&#]*", r"\1${TIDYMERGE_PASSWORD}", text)
    return re.sub(r"(://[^/?#@:]*:)(?!\$\{)[^/?#@]+@", r"\1${TIDYMERGE_PASSWORD}@", text)


def without_fragment(text: str) -> str:
    """An address without the sheet or table in it, as it is written. Raises BadAddress."""
    fragment = parse(text).fragment
    return text if fragment is None else text.removesuffix(f"#{fragment}")


def same_place(one: str, other: str) -> bool:
    """Whether two addresses lead to the same file or the same database of a server, however they are written."""
    return _resolved(one) == _resolved(other)


def same_table(one: str, other: str) -> bool:
    """The same, and to the same sheet or table in it."""
    return same_place(one, other) and one.partition("#")[2] == other.partition("#")[2]


def _resolved(text: str) -> tuple[str, ...]:
    if not is_server(text):
        return ("file", str(parse(text).path.resolve()))
    url = urlsplit(text.partition("#")[0])
    scheme = SERVERS.get(url.scheme.lower(), url.scheme)
    host = (url.hostname or "localhost").lower()
    ways = sorted(f"{name}={value}" for name, value in parse_qsl(url.query) if name in ("host", "port", "unix_socket"))
    return (scheme, host, str(url.port or _PORTS.get(scheme)), url.path.strip("/"), *ways)


def parse(text: str) -> Address:
    """Split an address at its '#'. Names with a '#' in them work: the longest file that exists is the file.

    In a server's address `${NAME}` stands for an environment variable. Raises BadAddress.
    """
    if is_server(text):
        return _parse_server(text)
    text = local(text)
    splits = [(text, "")] + [(text[:at], text[at + 1 :]) for at in reversed(range(len(text))) if text[at] == "#"]
    try:
        for name, fragment in splits:
            if name and Path(name).exists():
                return Address(_named_in_text(Path(name)), fragment or None)
    except OSError as error:  # such as a name that is longer than the system takes
        raise BadAddress(f"{text} can't be looked for: {error.strerror}.") from None
    name, _, fragment = text.partition("#")
    return Address(_named_in_text(Path(name)), fragment or None)


def _named_in_text(path: Path) -> Path:
    """The path, which receipts and the log must be able to name. Raises BadAddress."""
    whole = os.path.realpath(path)
    if not is_text(whole):
        raise BadAddress(
            f"The name {whole} has bytes that are not {sys.getfilesystemencoding()} text. Rename that file or folder."
        )
    return path


def is_text(text: str) -> bool:
    """Whether it can be written as UTF-8: half letters can't, which stand for bytes that are no text (PEP 383)."""
    return not any("\ud800" <= sign <= "\udfff" for sign in text)


def _parse_server(text: str) -> Address:
    url, _, fragment = text.partition("#")
    scheme = url.partition("://")[0].lower()
    if scheme not in SERVERS and scheme not in SERVICES:
        known = ", ".join((*SERVERS, *SERVICES))
        raise BadAddress(f"{scheme}:// is not a kind of server that is known; known are {known}.")
    if _is_unescaped(text):
        raise BadAddress(_ESCAPE)
    missing = [name for name in _VARIABLE.findall(text) if name not in os.environ]
    beyond = [name for name in _VARIABLE.findall(_SECRETS.sub("", text)) if name not in allowed_variables()]
    if beyond:
        raise BadAddress(
            f"The address takes the environment variable {beyond[0]} for more than a user name or a password, which "
            "would send it to wherever the address leads. If that is meant, allow it.",
            give=((("allow_variable", beyond[0]),),),
        )
    if missing:
        raise BadAddress(f"The address names the environment variable {missing[0]}, which is not set.")
    # A password from the environment may hold any character.
    url = re.sub(r":\$\{(\w+)\}@", lambda found: f":{quote(os.environ[found[1]], safe='')}@", url)
    url, fragment = (_VARIABLE.sub(lambda found: os.environ[found[1]], piece) for piece in (url, fragment))
    try:
        _ = urlsplit(url).port
    except ValueError:
        raise BadAddress(_ESCAPE) from None
    return Address(Path(), fragment or None, url)


def reopened(text: str) -> str:
    """The address to open a target by again from anywhere, without a password that was written out in it."""
    if is_server(text):
        return without_password(text)
    address = parse(text)
    path = address.path.absolute()
    return f"{path}#{address.fragment}" if address.fragment else str(path)
