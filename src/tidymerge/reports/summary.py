"""A receipt as Markdown, for a change that others review, or for the summary of a scheduled job.

Source: CommonMark, and the tables of GitHub Flavored Markdown. What came from outside can't become markup.
"""

import re
from collections.abc import Sequence
from pathlib import Path

from tidymerge.core.explain.wording import closing, found_by, heading, statement, wording
from tidymerge.errors import BadOption
from tidymerge.model.receipt import Receipt
from tidymerge.on_disk import replacing
from tidymerge.reports.bars import columns_of
from tidymerge.reports.ours import SIGNED

_MARKS = re.compile(r"([\\`*_\[\]|~<>&$])")  # wherever they stand; the others mean something only where a line begins
_ROWS = 20  # of a table: who wants more has the page


def write_summary(receipt: Receipt, path: Path) -> None:
    """Write the file. Raises BadOption."""
    try:
        with replacing(path) as draft:
            draft.write_text(summary(receipt), encoding="utf-8")
    except OSError as error:
        raise BadOption(f"The summary can't be written to {path}: {error.strerror or error}.") from None


def summary(receipt: Receipt) -> str:
    """The text."""
    words = wording(receipt)
    head, rows, between = heading(receipt)
    title = " ".join(filter(None, (head, _plain(rows), between, _plain(receipt.place))))
    asked = statement(receipt.request)
    counts = [
        (words.called(name), f"{getattr(receipt.rows, name):,}", meaning)
        for name, meaning in words.meanings.items()
        if getattr(receipt.rows, name) or name in words.counts_always
    ]
    blocks = [
        SIGNED,
        f"### {title}",
        f"Asked: {_plain(asked)}" if asked else "",
        f"**{_plain(closing(receipt))}** {_plain(found_by(receipt))}",
        *(f"> **Limit:** {_plain(limit)}" for limit in receipt.limits),
        *(f"> **Warning:** {_plain(warning)}" for warning in receipt.warnings),
        _table(("", "rows", ""), counts),
        _table(("column", "fields that differ"), [(name, f"{count:,}") for name, count in columns_of(receipt).items()]),
        _table(("rejected", "rows"), [(name, f"{count:,}") for name, count in receipt.rejects.reasons.items()]),
        "\n".join(f"* {_plain(note)}" for note in receipt.notes),
        " · ".join(
            filter(None, (f"run `{receipt.run}`" if receipt.run else "", f"fingerprint `{receipt.fingerprint}`"))
        ),
    ]
    return "\n\n".join(filter(None, blocks)) + "\n"


def _table(names: Sequence[str], rows: Sequence[Sequence[str]]) -> str:
    if not rows:
        return ""
    lines = [names, ["---" if at != 1 else "--:" for at in range(len(names))]]
    lines += [[_plain(cell) for cell in row] for row in rows[:_ROWS]]
    if len(rows) > _ROWS:
        lines.append([f"and {len(rows) - _ROWS:,} more", *[""] * (len(names) - 1)])
    return "\n".join(f"| {' | '.join(line)} |" for line in lines)


def _plain(text: str) -> str:
    """A text on one line in which no sign is a mark."""
    return _MARKS.sub(r"\\\1", " ".join(text.split())).replace("@", "&#64;")  # nobody is called by it
