"""Python's cyclic garbage collector, held while millions of objects come into being that all are to stay."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def uncollected() -> Iterator[None]:
    """Without the collector, which would walk over all objects again and again: cells and rows hold no cycles."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()
