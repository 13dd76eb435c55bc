"""Addresses: where rows live, written as FILE or FILE#PART."""

from dataclasses import dataclass
from pathlib import Path

STANDARD_INPUT = "-"


@dataclass(frozen=True, slots=True)
class Address:
    """A file and the part of it (sheet or table) that is meant, if one was named."""

    path: Path
    part: str | None = None

    def __str__(self) -> str:
        return f"{self.path}#{self.part}" if self.part else str(self.path)


def parse(text: str) -> Address:
    """Split an address at its '#'. Names with a '#' in them work: the longest file that exists is the file."""
    splits = [(text, "")] + [(text[:at], text[at + 1 :]) for at in reversed(range(len(text))) if text[at] == "#"]
    for name, part in splits:
        if name and Path(name).exists():
            return Address(Path(name), part or None)
    name, _, part = text.partition("#")
    return Address(Path(name), part or None)
