"""Who we are to a service: a token, or a user and a password. Nothing here is printed, logged or kept.

What signs in is sent to one host only: the one that it was given for.
"""

import base64
import netrc
import os
import re
import subprocess
from collections.abc import Mapping
from urllib.parse import unquote, urlsplit

from msgspec import Struct

from tidymerge.address import Address
from tidymerge.errors import BadAddress, SignInRefused
from tidymerge.model.access import Access
from tidymerge.settings import token_for_hosts

_VARIABLE = re.compile(r"\$\{(\w+)\}")
_COMMAND_WAIT = 60  # seconds


class Secrets(Struct, frozen=True):
    """The headers that sign in, and the texts that must not be seen."""

    headers: Mapping[str, str]
    hidden: tuple[str, ...] = ()

    def hide(self, said: str) -> str:
        """What somebody said, without them."""
        for secret in self.hidden:
            said = said.replace(secret, "…")
        return said


def secrets_of(address: Address, host: str, access: Access) -> Secrets:
    """What signs in at a host: the job's headers and command, the environment, the address, or a netrc file.

    The first that there is counts. Raises BadAddress, BadSetting and SignInRefused.
    """
    headers = {name: _filled(text, name) for name, text in access.headers.items()}
    hidden = [headers[name] for name, text in access.headers.items() if _VARIABLE.search(text)]
    hidden += [os.environ[found] for text in access.headers.values() for found in _VARIABLE.findall(text)]
    if "authorization" not in {name.lower() for name in headers}:
        token, user, password = _token(host, access), *_named(address, host)
        if token is not None:
            headers["Authorization"] = f"Bearer {token}"
            hidden.append(token)
        elif user is not None:
            pair = base64.b64encode(f"{user}:{password or ''}".encode()).decode()
            headers["Authorization"] = f"Basic {pair}"
            hidden += [pair, *([password] if password else [])]
    for name, text in headers.items():
        if not text.isascii() or "\n" in text or "\r" in text:
            raise BadAddress(f"The header {name} for {host} has signs that a header can't have.")
    return Secrets(headers, tuple(secret for secret in hidden if secret))


def _filled(text: str, name: str) -> str:
    missing = [found for found in _VARIABLE.findall(text) if found not in os.environ]
    if missing:
        raise BadAddress(f"The header {name} names the environment variable {missing[0]}, which is not set.")
    return _VARIABLE.sub(lambda found: os.environ[found[1]], text)


def _token(host: str, access: Access) -> str | None:
    """A token from the job's command, or from the environment if that is for this host."""
    if access.token_command:
        return _told_by(access.token_command)
    given = token_for_hosts()
    return given[0] if given is not None and host in given[1] else None


def _told_by(command: tuple[str, ...]) -> str:
    """What a command prints. What it says on its standard error is not repeated, as it may hold secrets."""
    try:
        done = subprocess.run(list(command), capture_output=True, text=True, timeout=_COMMAND_WAIT, check=True)  # noqa: S603 - the job's owner named it
    except (OSError, subprocess.SubprocessError) as error:
        why = getattr(error, "returncode", None)
        said = f"ended with {why}" if why is not None else type(error).__name__
        raise SignInRefused(f"The token command {command[0]} gave no token ({said}). Run it by hand.") from None
    token = done.stdout.strip()
    if not token:
        raise SignInRefused(f"The token command {command[0]} printed nothing. Run it by hand.")
    return token


def _named(address: Address, host: str) -> tuple[str | None, str | None]:
    """A user and a password, as the address has them or a netrc file."""
    url = urlsplit(address.server or "")
    if url.username:
        return unquote(url.username), unquote(url.password or "")
    try:
        found = netrc.netrc(os.environ.get("NETRC")).authenticators(host.partition(":")[0])
    except netrc.NetrcParseError as error:  # what it found there may be a secret
        raise BadAddress(
            f"Line {error.lineno} of the netrc file can't be understood, so who signs in is not known."
        ) from None
    except OSError:
        return None, None
    return (found[0], found[2]) if found else (None, None)
