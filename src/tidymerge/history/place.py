"""Where the run log is, how long it keeps, and who is running this."""

import getpass
import os
import sys
from pathlib import Path

from tidymerge.errors import BadOption

_KEPT_DAYS = 400  # a year and a month: what happened this time last year can still be asked


def home() -> Path:
    """The folder of the log: `TIDYMERGE_HOME`, or the user's state folder as the system has it."""
    given = os.environ.get("TIDYMERGE_HOME")
    if given:
        return Path(given).expanduser()
    from platformdirs import user_state_path

    return user_state_path("tidymerge", appauthor=False)


def kept_days() -> int | None:
    """For how many days runs are kept: `TIDYMERGE_KEEP_DAYS`, or for ever. Raises BadOption."""
    given = os.environ.get("TIDYMERGE_KEEP_DAYS", str(_KEPT_DAYS)).strip().lower()
    if given == "all":
        return None
    if not given.isdigit() or int(given) < 1:
        raise BadOption(f"TIDYMERGE_KEEP_DAYS is a number of days from 1, or all; it is {given!r}.")
    return int(given)


def user() -> str:
    """The operating system's name for who runs this, whatever the environment says."""
    if sys.platform != "win32":
        import pwd

        try:
            return pwd.getpwuid(os.getuid()).pw_name
        except KeyError:
            return str(os.getuid())
    return getpass.getuser()
