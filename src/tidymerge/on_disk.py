"""Making sure that what was written outlives the machine's next breath."""

import os
from pathlib import Path


def sync_folder(folder: Path) -> None:
    """Make sure that the folder itself, and so the names in it, are on disk (POSIX)."""
    if os.name == "posix":
        descriptor = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(descriptor)
        finally:
            os.close(descriptor)
