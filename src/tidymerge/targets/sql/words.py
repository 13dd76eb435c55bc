"""What servers of all kinds have to be said about, in the same words."""

import os

LOCK_WAIT_SECONDS = int(os.environ.get("TIDYMERGE_LOCK_WAIT", "30"))
LOCKED = (
    f"Another program holds what is needed at {{place}} locked, also after {LOCK_WAIT_SECONDS} seconds of waiting. "
    "Wait for it, or give TIDYMERGE_LOCK_WAIT more seconds, then run this again."
)
AWAY = "No connection to {place}: {message}. Nothing that was not committed lasts."
IN_DOUBT = (
    "That happened in the moment of the commit, so it can't be known whether the load lasted: preview the same rows "
    "again; if it lasted, there is nothing left to do."
)
