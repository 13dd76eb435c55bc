"""A workbook as a package of parts (ECMA-376, part 2): parts are found by their relations, and copied as they are."""

import posixpath
import zipfile
import zlib
from collections.abc import Container, Mapping
from pathlib import Path
from types import MappingProxyType
from typing import BinaryIO
from xml.etree import ElementTree as ET

from tidymerge.errors import TargetUnreadable

CONTENT_TYPES = "[Content_Types].xml"
_NONE: Mapping[str, bytes] = MappingProxyType({})


def local(tag: str) -> str:
    """The name of an element or attribute without its namespace."""
    return tag.rpartition("}")[2]


def parsed(data: bytes, place: str) -> ET.Element:
    """The tree of some XML, which may declare no entities of its own. Raises TargetUnreadable."""
    if b"<!DOCTYPE" in data:
        raise TargetUnreadable(f"{place} has declarations that a workbook has no use for.")
    try:
        return ET.fromstring(data)  # noqa: S314 - what such XML could harm with is refused above
    except ET.ParseError as error:
        raise TargetUnreadable(f"{place} is not XML ({error}).") from None


class Package:
    """The parts of a workbook, by name; some are `new`, and not in the file yet. Raises TargetUnreadable."""

    def __init__(self, path: Path, new: Mapping[str, bytes] = _NONE) -> None:
        self._path = path
        self._new = new
        with self._opened() as archive:
            self.names = archive.namelist()
        self.main = self.related("", "officeDocument")[0]

    def over(self, new: Mapping[str, bytes]) -> "Package":
        """The same with some parts anew."""
        return Package(self._path, {**self._new, **new})

    def _opened(self) -> zipfile.ZipFile:
        try:
            return zipfile.ZipFile(self._path)
        except (zipfile.BadZipFile, OSError) as error:
            raise TargetUnreadable(f"{self._path} can't be read as a workbook ({error}).") from None

    def read(self, name: str) -> bytes:
        """The bytes of a part."""
        if name in self._new:
            return self._new[name]
        try:
            with self._opened() as archive:
                return archive.read(name)
        except (KeyError, zipfile.BadZipFile, zlib.error, NotImplementedError) as error:
            raise TargetUnreadable(f"The part {name} of {self._path} can't be read ({error}).") from None

    def tree(self, name: str) -> ET.Element:
        """A part, parsed."""
        return parsed(self.read(name), f"The part {name} of {self._path}")

    def relations(self, name: str) -> dict[str, tuple[str, str]]:
        """What a part refers to, by the name of the relation: its kind, and the other part."""
        folder, base = posixpath.split(name)
        rels = posixpath.join(folder, "_rels", f"{base}.rels")
        if rels not in self.names:
            return {}
        found = {}
        for relation in self.tree(rels):
            target = relation.get("Target", "")
            if relation.get("TargetMode") != "External":
                full = target[1:] if target.startswith("/") else posixpath.normpath(posixpath.join(folder, target))
                found[relation.get("Id", "")] = ((relation.get("Type") or "").rpartition("/")[2], full)
        return found

    def related(self, name: str, kind: str) -> list[str]:
        """The parts of a kind that a part refers to. Raises TargetUnreadable if the main part is not there."""
        found = [part for found, part in self.relations(name).values() if found == kind]
        if not found and not name:
            raise TargetUnreadable(f"{self._path} is not a workbook: it names no main part.")
        return found

    def sheets(self, *, visible: bool = False) -> dict[str, str]:
        """The parts of the sheets, or of those that can be seen, by the sheets' names, in their order."""
        relations = self.relations(self.main)
        found = {}
        for element in self.tree(self.main).iter():
            if local(element.tag) == "sheet" and (not visible or element.get("state", "visible") == "visible"):
                identity = next((value for name, value in element.items() if local(name) == "id"), "")
                kind, part = relations.get(identity, ("", ""))
                if kind == "worksheet":
                    found[element.get("name", "")] = part
        return found

    def visible(self) -> dict[str, bool]:
        """Whether each sheet can be seen, by its name, in their order; those of charts, too."""
        sheets = [one for one in self.tree(self.main).iter() if local(one.tag) == "sheet"]
        return {one.get("name", ""): one.get("state", "visible") == "visible" for one in sheets}

    def copy(
        self, file: BinaryIO, new: Mapping[str, bytes], *, more: Mapping[str, bytes] = _NONE, gone: Container[str] = ()
    ) -> None:
        """Write the package with some parts anew, and all others as they are, in the same order.

        There may be `more` parts at the end, and some may be `gone`.
        """
        with self._opened() as old, zipfile.ZipFile(file, "w") as archive:
            for info in old.infolist():
                if info.filename in gone:
                    continue
                data = new[info.filename] if info.filename in new else old.read(info)
                archive.writestr(info, data, info.compress_type, 6 if info.filename in new else None)
            for name, data in more.items():
                archive.writestr(name, data, zipfile.ZIP_DEFLATED, 6)

    def without(self, kind: str) -> tuple[str | None, dict[str, bytes]]:
        """The part of a kind that the main part refers to, and the parts that name it, without it."""
        gone = self.related(self.main, kind)
        if not gone:
            return None, {}
        folder, base = posixpath.split(self.main)
        rels = posixpath.join(folder, "_rels", f"{base}.rels")
        from tidymerge.formats.sheet.parts import elements, tree, written  # late: only writing needs it

        parts = {}
        for name, tag, attribute, ending in (
            (rels, "Relationship", "Type", f"/{kind}"),
            (CONTENT_TYPES, "Override", "PartName", f"/{gone[0]}"),
        ):
            root = tree(self.read(name), f"The part {name} of {self._path}")
            for element in [one for one in elements(root, tag) if (one.get(attribute) or "").endswith(ending)]:
                root.remove(element)
            parts[name] = written(root)
        return gone[0], parts
