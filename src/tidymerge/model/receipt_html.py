"""A receipt in a notebook: a few lines of HTML, all that came from outside made harmless."""

from collections.abc import Sequence
from html import escape

from tidymerge.model.receipt import Action, Receipt

_COUNTS = ("inserted", "updated", "unchanged", "skipped", "rejected", "removed")


def receipt_html(receipt: Receipt) -> str:
    """What was done to which table, the counts, the changes by column, and what is worth knowing."""
    title = _title(receipt)
    rows = [_row([table.called, *(f"{getattr(table.rows, name):,}" for name in _COUNTS)]) for table in receipt.tables]
    counts = f"<table>{_row(['table', *_COUNTS], 'th')}{''.join(rows)}</table>"
    columns = [_row([name, f"{count:,}"]) for table in receipt.tables for name, count in table.columns.items()]
    changes = f"<table>{_row(['column', 'fields'], 'th')}{''.join(columns)}</table>" if columns else ""
    reasons = [_row([name, f"{count:,}"]) for name, count in receipt.rejects.reasons.items()]
    rejects = f"<table>{_row(['rejected', 'rows'], 'th')}{''.join(reasons)}</table>" if reasons else ""
    said = [
        *(f"Limit: {one}" for one in receipt.limits),
        *(f"Warning: {one}" for one in receipt.warnings),
        *receipt.notes,
    ]
    named = f"Run {receipt.run}, fingerprint" if receipt.run else "Fingerprint"
    lines = "".join(f"<div>{escape(one)}</div>" for one in (*said, f"{named} {receipt.fingerprint}"))
    return f"<div><div>{title}</div>{counts}{changes}{rejects}{lines}</div>"


def _title(receipt: Receipt) -> str:
    incoming, target = escape(receipt.incoming), escape(receipt.tables[0].target)
    if receipt.action is Action.COMPARE:
        return f"compared <b>{target}</b> with <b>{incoming}</b>"
    rows = f"{incoming} into " if receipt.action is Action.LOAD else ""
    return f"{receipt.action.value}, {receipt.state.value}: {rows}<b>{target}</b>"


def _row(cells: Sequence[str], tag: str = "td") -> str:
    return "<tr>" + "".join(f"<{tag}>{escape(cell)}</{tag}>" for cell in cells) + "</tr>"
