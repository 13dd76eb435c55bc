"""A receipt as one HTML page: no network, light, dark and print, all that came from outside made harmless."""

from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path

from jinja2 import Environment, StrictUndefined

from tidymerge.core.explain.wording import (
    by_rows,
    closing,
    counted_as,
    found_by,
    heading,
    statement,
    wording,
)
from tidymerge.errors import BadOption
from tidymerge.model.receipt import Action, Receipt, State, Touch
from tidymerge.on_disk import replacing
from tidymerge.reports.bars import OUTCOMES, column_bars, columns_of, tally_bars
from tidymerge.reports.ours import SIGN


def write_page(receipt: Receipt, touched: Sequence[Touch], path: Path) -> None:
    """Write the page. `touched` are the first of the changed records. Raises BadOption."""
    text = page(receipt, touched)
    try:
        with replacing(path) as draft:
            draft.write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadOption(f"The page can't be written to {path}: {error.strerror}.") from None


def page(receipt: Receipt, touched: Sequence[Touch]) -> str:
    """The page's text."""
    source = (files("tidymerge.reports") / "page.html").read_text(encoding="utf-8")
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    counts = {name: getattr(receipt.rows, name) for name in OUTCOMES}
    table, words = receipt.tables[0], wording(receipt)
    return environment.from_string(source).render(
        receipt=receipt,
        maker=SIGN,
        table=table,
        names=[one.called for one in receipt.tables],
        tree=receipt.tree if receipt.is_family else [(at, 0) for at in range(len(receipt.tables))],
        idle=[one for one in receipt.tables if one.not_loaded or one.left_alone],
        heading=" ".join(filter(None, heading(receipt))),
        statement=statement(receipt.request),
        found=found_by(receipt),
        by_rows=by_rows(receipt),
        counted=counted_as(receipt),
        closing=closing(receipt),
        tone=_tone(receipt),
        tally_bars=tally_bars(receipt),
        column_bars=column_bars(receipt),
        tally_words=", ".join(f"{count:,} {words.called(name)}" for name, count in counts.items()),
        tally_left=90 if not words.names else 118,
        comparing=receipt.action is Action.COMPARE,
        called=words.called,
        columns_words=", ".join(f"{name}: {count:,}" for name, count in columns_of(receipt).items()),
        touched=touched,
        more_touched=receipt.changed - len(touched) if touched else 0,
        more_rejects=receipt.rows.rejected
        - len({(cell.origin, cell.row, cell.record) for cell in receipt.rejects.first}),
        can_be_undone=receipt.run and receipt.lasts and receipt.state.wrote,
    )


def _tone(receipt: Receipt) -> str:
    """The colour of the closing words."""
    if receipt.action is Action.COMPARE and (receipt.changed or receipt.rows.rejected):
        return "warn"
    return "bad" if receipt.state in (State.STOPPED, State.FAILED, State.PARTLY) else "good"
