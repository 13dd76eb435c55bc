"""What the columns of a sheet are called: by the cells of the header row, each name once."""

from collections.abc import Sequence

_LETTERS = 26


def column_letter(index: int) -> str:
    """The letter over a spreadsheet column: 0 is A, 26 is AA."""
    letters = ""
    index += 1
    while index:
        index, rest = divmod(index - 1, _LETTERS)
        letters = chr(ord("A") + rest) + letters
    return letters


def column_index(letters: str) -> int:
    """The other way round: AA is 26."""
    index = 0
    for letter in letters.upper():
        index = index * _LETTERS + ord(letter) - ord("A") + 1
    return index - 1


def column_names(header: Sequence[str], first: int = 0) -> list[str]:
    """Names for the columns under a header row, each once: one without a name is called by its letter.

    Of several with one name the first keeps it, and the others get a number: Qty, Qty (2).
    """
    said = [name.strip() for name in header]
    taken, names = set(said), []
    given: set[str] = set()
    for index, name in enumerate(said, start=first):
        called = name or f"column {column_letter(index)}"
        unique, number = called, 1
        while unique in given or (unique in taken and (number > 1 or not name)):
            number += 1
            unique = f"{called} ({number})"
        given.add(unique)
        names.append(unique)
    return names
