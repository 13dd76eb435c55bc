"""Two things at the same time: one goes on in a thread, such as records that arrive while rows are tidied."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import TypeVar

T = TypeVar("T")


@contextmanager
def meanwhile(work: Callable[[], T], break_off: Callable[[], None]) -> Iterator[Callable[[], T]]:
    """Let `work` go on in a thread; what is yielded waits for its result.

    Where something else fails before that, as by Ctrl-C, `break_off` makes the work end soon. Only its end is waited
    for: the thread still holds the connection.
    """
    with ThreadPoolExecutor(1) as pool:
        going_on = pool.submit(work)
        try:
            yield going_on.result
        except BaseException:
            if not going_on.done():
                break_off()
            raise
