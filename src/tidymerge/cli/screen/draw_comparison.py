"""Drawing on the terminal how two tables differ."""

from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from tidymerge.cli.screen.draw import STYLES, cut, grid, rejected, said, value
from tidymerge.core.explain.wording import found_by, how_they_differ, wording
from tidymerge.core.naming.mapping import listing
from tidymerge.model.receipt import Receipt

_LONGEST_ADDRESS = 400


def comparison(out: Console, shown: Receipt) -> None:
    """Print what differs by column, records that only one side has, what can't be compared; the counts last."""
    (table,) = shown.tables
    first, second = cut(table.target, _LONGEST_ADDRESS), cut(shown.incoming, _LONGEST_ADDRESS)
    out.print(Text.assemble(("Compared", "bold"), f" {first} ", ("with", "bold"), f" {second}"))
    out.print(Text(found_by(shown, cut) + "\n", "dim"))
    if table.columns:
        listed = grid("Differences by column", ("column", "records", "example: row", "key", "first", "second"))
        for name, count in sorted(table.columns.items(), key=lambda item: -item[1]):
            one = table.examples[name]
            key = cut(" / ".join(one.key))
            listed.add_row(
                cut(name), f"{count:,}", str(one.row or ""), key, value(one.before), value(one.after, "cyan")
            )
        out.print(Padding(listed, (0, 0, 1, 0)))
    alone = [sample for sample in table.samples if sample.outcome != "updated"]
    if alone:
        listed = grid(
            "Some that only one of them has", ("where", "row", *(name for name, *_ in alone[0].fields)), of_data=True
        )
        for sample in alone:
            style = STYLES[sample.outcome]
            cells = [
                value(first if sample.outcome == "removed" else second, style) for _, first, second, _ in sample.fields
            ]
            listed.add_row(Text(wording(shown).called(sample.outcome), style), str(sample.row or ""), *cells)
        out.print(Padding(listed, (0, 0, 1, 0)))
    if shown.rejects.reasons:
        out.print(Padding(rejected(shown, "Can't be compared: rows of the second"), (0, 0, 1, 0)))
    lines = [
        ("Columns only in the first, or not asked for", table.left_alone),
        ("Columns only in the second", table.not_loaded),
    ]
    for words, names in lines:
        if names:
            out.print(Text(f"{words}: {listing(names)}.", "dim"))
    if any(names for _, names in lines) or shown.notes or shown.warnings:
        said(out, shown)
        out.print()
    out.print(_counts(shown))
    out.print(
        Text.assemble(
            (how_they_differ(shown), "bold"), (f"  fingerprint {shown.fingerprint}, {shown.seconds:.1f} s", "dim")
        )
    )


def _counts(shown: Receipt) -> Padding:
    table, words = Table(box=None, show_header=False, padding=(0, 2, 0, 0)), wording(shown)
    table.add_column(justify="right", style="bold")
    table.add_column()
    table.add_column(style="dim")
    table.add_row(f"{shown.tables[0].rows_before:,}", "rows in the first")
    table.add_row(f"{shown.rows.read:,}", "rows in the second")
    for outcome, meaning in words.meanings.items():
        count = getattr(shown.rows, outcome)
        if count or outcome in words.counts_always:
            style = STYLES[outcome] if count else "dim"
            table.add_row(Text(f"{count:,}", style), Text(words.called(outcome), style), meaning)
    if left := shown.without_partner:
        why = "rows of the first whose key is on rows that are not compared"
        table.add_row(Text(f"{left:,}", STYLES["rejected"]), Text("without a partner", STYLES["rejected"]), why)
    return Padding(table, (0, 0, 1, 2))
