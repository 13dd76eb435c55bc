"""Savepoints and commits, the same on all databases, and what goes wrong around them, in the same words."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from tidymerge.databases.contract.database import ConstraintBroken
from tidymerge.errors import ServerAway

NOT_CONNECTED = "No connection to {place}: {message}. Check the address, and that the server runs and lets you in."
AWAY = "No connection to {place}: {message}. Nothing that was not committed lasts."
IN_DOUBT = (
    "That happened in the moment of the commit, so it can't be known yet whether the load lasted: `tidymerge runs` "
    "finds out as soon as the server answers."
)


@contextmanager
def savepoint(run: Callable[[str], object], name: str) -> Iterator[None]:
    """Undo what happens inside if values are at fault; any other error ends the transaction anyway."""
    run(f"SAVEPOINT {name}")
    try:
        yield
    except ConstraintBroken:
        run(f"ROLLBACK TO SAVEPOINT {name}")
        run(f"RELEASE SAVEPOINT {name}")
        raise
    run(f"RELEASE SAVEPOINT {name}")


def commit(run: Callable[[str], object]) -> None:
    """Commit on a server. Raises ServerAway if it can't be known whether that worked."""
    try:
        run("COMMIT")
    except ServerAway as away:
        raise ServerAway(f"{away} {IN_DOUBT}", **away.facts) from away
