"""How much an archive may hold when it is unpacked."""

import zipfile
from pathlib import Path

from tidymerge.errors import BrokenFile
from tidymerge.settings import most_unpacked


def check_unpacked(path: Path) -> None:
    """Refuse an archive that says it holds more than may be unpacked. Raises BrokenFile."""
    most = most_unpacked()
    try:
        with zipfile.ZipFile(path) as archive:
            size = sum(part.file_size for part in archive.infolist())
    except (zipfile.BadZipFile, OSError, NotImplementedError, ValueError):
        return  # what reads it says what is wrong
    if size > most:
        raise BrokenFile(too_much(str(path), most))


def too_much(name: str, most: int) -> str:
    """What is said of a file that holds more than may be unpacked."""
    return (
        f"{name} holds more than {most:,} bytes when it is unpacked, which is more than is allowed. If it is "
        "as large as that, let TIDYMERGE_MOST_UNPACKED say more."
    )
