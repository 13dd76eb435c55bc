"""The small parts of a workbook: parsed, changed, written again. Prefixes, and what we don't know, stay as they are."""

from collections.abc import Iterator

from lxml import etree

from tidymerge.errors import TargetUnreadable


def tree(data: bytes, place: str) -> etree._Element:
    """The root of some XML, which may declare no entities of its own. Raises TargetUnreadable."""
    if b"<!DOCTYPE" in data:
        raise TargetUnreadable(f"{place} has declarations that a workbook has no use for.")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=True)
    try:
        return etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise TargetUnreadable(f"{place} is not XML ({error}).") from None


def written(root: etree._Element) -> bytes:
    """The XML of a root."""
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", standalone=True))


def elements(root: etree._Element, *names: str) -> Iterator[etree._Element]:
    """The elements of some names, whatever their namespace, in the order of the document."""
    yield from root.iter(*(f"{{*}}{name}" for name in names))


def named(root: etree._Element, name: str) -> str:
    """The name of an element in the namespace of the root."""
    return str(etree.QName(etree.QName(root).namespace, name).text)
