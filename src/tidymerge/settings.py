"""Every `TIDYMERGE_*` of the environment, in one place, read when it is needed.

A setting that can't be read is an error of its own, which names it; it never ends the program while it starts.
"""

import os
from collections.abc import Iterable
from pathlib import Path

from tidymerge.errors import BadSetting

_KEPT_DAYS = 400  # a year and a month: what happened this time last year can still be asked


def _number(name: str, default: int, least: int, unit: str) -> int:
    given = os.environ.get(name, "").strip()
    if not given:
        return default
    try:
        number = int(given)
    except ValueError:
        number = least - 1
    if number < least:
        raise BadSetting(
            f"The setting {name} is a number of {unit} from {least}; it is {given!r}. "
            f"Set it right, or take it away: then it is {default:,}.",
            setting=name,
        )
    return number


def lock_wait() -> int:
    """For how many seconds to wait for what another program has locked. Raises BadSetting."""
    return _number("TIDYMERGE_LOCK_WAIT", 30, 0, "seconds")


def wait() -> int:
    """For how many seconds to start again where others keep changing the same records. Raises BadSetting."""
    return _number("TIDYMERGE_WAIT", 60, 0, "seconds")


def large_file() -> int:
    """The bytes above which a text file is read block by block. Raises BadSetting."""
    return _number("TIDYMERGE_LARGE_FILE", 64 << 20, 0, "bytes")


def most_unpacked() -> int:
    """The most bytes that a compressed file, a workbook or standard input may hold. Raises BadSetting."""
    return _number("TIDYMERGE_MOST_UNPACKED", 4 << 30, 1, "bytes")


def longest_line() -> int:
    """The most bytes that a line of a text file may have. Raises BadSetting."""
    return _number("TIDYMERGE_LONGEST_LINE", 64 << 20, 1, "bytes")


def answer_wait() -> int:
    """For how many seconds to wait for an answer of a service behind HTTP. Raises BadSetting."""
    return _number("TIDYMERGE_ANSWER_WAIT", 120, 1, "seconds")


def changes_at_once() -> int:
    """How many changes are sent to a service behind HTTP in one set. Raises BadSetting."""
    return _number("TIDYMERGE_CHANGES_AT_ONCE", 100, 1, "changes")


def token_for_hosts() -> tuple[str, list[str]] | None:
    """A token for services behind HTTP, and the hosts that it is for. Raises BadSetting where these are not named."""
    token = os.environ.get("TIDYMERGE_TOKEN")
    if not token:
        return None
    hosts = os.environ.get("TIDYMERGE_TOKEN_HOST", "").lower().split()
    if not hosts:
        raise BadSetting(
            "TIDYMERGE_TOKEN has a token, but TIDYMERGE_TOKEN_HOST does not say for which host, as in "
            "lists.example.org. It is sent to no other.",
            setting="TIDYMERGE_TOKEN_HOST",
        )
    return token, hosts


def rows_at_once() -> int:
    """How many rows a part of a large load has. Raises BadSetting."""
    return _number("TIDYMERGE_ROWS_AT_ONCE", 1_000_000, 1, "rows")


def kept_days() -> int | None:
    """For how many days runs are kept, None for ever. Raises BadSetting."""
    given = os.environ.get("TIDYMERGE_KEEP_DAYS", "").strip()
    return None if given.lower() == "all" else _number("TIDYMERGE_KEEP_DAYS", _KEPT_DAYS, 1, 'days (or "all")')


def home() -> Path:
    """The folder of the log: `TIDYMERGE_HOME`, or the user's state folder as the system has it."""
    given = os.environ.get("TIDYMERGE_HOME")
    if given:
        return Path(given).expanduser()
    from platformdirs import user_state_path

    return user_state_path("tidymerge", appauthor=False)


def allowed_variables() -> set[str]:
    """The environment variables that an address may take for more than a user name or a password."""
    return set(os.environ.get("TIDYMERGE_ALLOW_VARIABLES", "").replace(",", " ").split())


def allow_variables(names: Iterable[str]) -> None:
    """Allow these too, for this process."""
    if allowed := sorted(allowed_variables().union(names)):
        os.environ["TIDYMERGE_ALLOW_VARIABLES"] = " ".join(allowed)


def debug() -> None:
    """Show where errors arise, in this process."""
    os.environ["TIDYMERGE_DEBUG"] = "1"


def is_debugging() -> bool:
    """Whether an error shows where in the program it arose."""
    return bool(os.environ.get("TIDYMERGE_DEBUG"))
