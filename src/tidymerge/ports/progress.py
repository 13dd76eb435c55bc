"""Who is told how far a run has come."""

from typing import Protocol


class Progress(Protocol):
    """Told when a stage of a run begins, and how far it has come."""

    def stage(self, words: str, rows: int | None = None) -> None:
        """A stage begins, said in a few words for people, over so many rows if that is known."""

    def rows(self, count: int) -> None:
        """So many more rows have gone through the stage."""


class Quiet:
    """Progress that nobody wants to see."""

    def stage(self, words: str, rows: int | None = None) -> None:
        """Say nothing."""

    def rows(self, count: int) -> None:
        """Say nothing."""
