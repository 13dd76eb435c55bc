"""The page on errors (docs/errors.md), which comes with the package: a section for each code."""

from collections.abc import Mapping
from importlib.resources import files


def sections() -> Mapping[str, str]:
    """What the page says of each code, as Markdown, in the page's order."""
    page = (files("tidymerge.reports") / "errors.md").read_text(encoding="utf-8")
    _, *found = page.split("\n## ")
    return {code: text.strip() for code, _, text in (section.partition("\n") for section in found)}
