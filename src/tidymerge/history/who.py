"""Who is running this."""

import getpass
import os
import sys


def user() -> str:
    """The operating system's name for who runs this, whatever the environment says."""
    if sys.platform != "win32":
        import pwd

        try:
            return pwd.getpwuid(os.getuid()).pw_name
        except KeyError:
            return str(os.getuid())
    return getpass.getuser()
