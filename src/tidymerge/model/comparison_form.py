"""How two tables differ, in its published form, `tidymerge-comparison/1` (docs/compare.md)."""

from typing import TypedDict

from tidymerge.model.receipt import Receipt
from tidymerge.model.receipt_form import CellForm, as_utc, cell_to_dict

FORMAT = "tidymerge-comparison/1"


class FirstForm(TypedDict):
    """The first side: `not_compared` are its rows that no row could be compared with, and that are in the second."""

    address: str
    rows: int
    not_compared: int


class SecondForm(TypedDict):
    """The second side: `repeated` rows say the same as an earlier one, with `not_compared` ones something is wrong."""

    address: str
    rows: int
    repeated: int
    not_compared: int


class RecordsForm(TypedDict):
    """Records by where they are."""

    same: int
    different: int
    only_in_first: int
    only_in_second: int


class ExampleForm(TypedDict):
    """The first record that differs in a column; `row` is that of the second side."""

    row: int
    key: tuple[str, ...]
    first: str | None
    second: str | None


class ComparisonForm(TypedDict):
    """The whole comparison. `columns` counts by column the records that differ in it; `compared` are those looked at.

    `compared` maps columns of the first to those of the second; the others are in only one of them, or not asked for.
    `wrong` are the first cells of each of the `reasons` why rows of the second are not compared.
    """

    format: str
    first: FirstForm
    second: SecondForm
    key: tuple[str, ...]
    records: RecordsForm
    compared: dict[str, str]
    columns: dict[str, int]
    examples: dict[str, ExampleForm]
    others_in_first: tuple[str, ...]
    others_in_second: tuple[str, ...]
    reasons: dict[str, int]
    wrong: tuple[CellForm, ...]
    fingerprint: str
    warnings: tuple[str, ...]
    notes: tuple[str, ...]
    started: str
    seconds: float


def comparison_to_dict(receipt: Receipt) -> ComparisonForm:
    """The comparison as plain data."""
    rows, (table,) = receipt.rows, receipt.tables
    return ComparisonForm(
        format=FORMAT,
        first=FirstForm(address=table.target, rows=table.rows_before, not_compared=receipt.without_partner),
        second=SecondForm(address=receipt.incoming, rows=rows.read, repeated=rows.skipped, not_compared=rows.rejected),
        key=table.key,
        records=RecordsForm(
            same=rows.unchanged, different=rows.updated, only_in_first=rows.removed, only_in_second=rows.inserted
        ),
        compared=dict(table.mapping),
        columns=dict(table.columns),
        examples={
            name: ExampleForm(row=one.row, key=one.key, first=one.before, second=one.after)
            for name, one in table.examples.items()
        },
        others_in_first=table.left_alone,
        others_in_second=table.not_loaded,
        reasons=dict(receipt.rejects.reasons),
        wrong=tuple(map(cell_to_dict, receipt.rejects.first)),
        fingerprint=receipt.fingerprint,
        warnings=receipt.warnings,
        notes=receipt.notes,
        started=as_utc(receipt.started),
        seconds=round(receipt.seconds, 3),
    )
