"""What is certain at the end of the program: whether it committed, whatever became of the words about it."""

_DONE: list[str] = []


def committed() -> bool:
    """Whether a run of this program committed."""
    return bool(_DONE)


def note_commit(run: str) -> None:
    """Remember that a run committed: from here on the exit status is its receipt's."""
    _DONE.append(run)
