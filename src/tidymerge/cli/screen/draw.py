"""Drawing a receipt on the terminal. Every word here is read by somebody about to change a table."""

from collections.abc import Sequence

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from tidymerge.cli.screen.listing import Listing
from tidymerge.cli.screen.typed import typed
from tidymerge.core.naming.mapping import listing
from tidymerge.core.words import counted, nothing_to_write, plural
from tidymerge.model import Reason
from tidymerge.model.receipt import Conflict, Receipt, RejectedCell, SampleRow, State, TableReceipt

_ROWS_NAMED = 8
_LONGEST_VALUE = 40
_LONGEST_NAME = 400
_SHOWN = {"\n": "␤", "\t": "␉", "\N{NO-BREAK SPACE}": "␣"}
_NUMBERS = (
    "fields", "row", "rows", "example: row", "columns", "blank", "distinct", "longest",
    "inserted", "updated", "removed", "rejected",
)  # fmt: skip
_SENTENCES = (
    "which", "for example", "expected", "rule", "as it came → as it is loaded", "what is wrong", "commonest values",
    "what",
)  # fmt: skip
_STYLES = {
    "inserted": "green",
    "updated": "cyan",
    "removed": "magenta",
    "unchanged": "dim",
    "skipped": "dim",
    "rejected": "red",
}
_MEANINGS = {
    "inserted": "no record had the key: a new one",
    "updated": "a record had the key and other values",
    "unchanged": "a record had the key and the same values",
    "skipped": "left out on purpose: the notes say why",
    "rejected": "something is wrong with the row",
}
_UNDONE = {
    "updated": "the earlier values again",
    "removed": "the run had inserted the record",
    "inserted": "the run had removed the record",
    "unchanged": "is as it was before the run already",
    "rejected": "can't be put back: see above",
}
_CONFLICTS_SHOWN = 12


def receipt(out: Console, shown: Receipt, *, details: bool = True) -> None:
    """Print a receipt: what changes, how, what is wrong; the tally last, where the eye rests after scrolling."""
    for table in shown.tables:
        out.print(_heading(shown, table))
        blocks = (_samples(table.samples), _changes(table), _columns(table)) if details else ()
        for block in blocks:
            if block is not None:
                out.print(block)
    if shown.undoes:
        if shown.conflicts:
            out.print(_conflicts(shown))
    elif shown.rejects.reasons:
        out.print(_rejects(shown))
    _said(out, shown)
    out.print(_tally(shown))
    out.print(_closing(shown))


def _said(out: Console, shown: Receipt) -> None:
    """Notes, warnings and limits, and how to go ahead all the same."""
    for note in shown.notes:
        out.print(Text.assemble(("Note: ", "dim"), note))
    for warning in shown.warnings:
        out.print(Text.assemble(("Warning: ", "bold yellow"), warning))
    for limit in shown.limits:
        out.print(Text.assemble(("Limit: ", "bold red"), limit))
    if shown.go_ahead:
        out.print(f"If that is meant, give {typed((name, str(count)) for name, count in shown.go_ahead.items())}.")


def _heading(shown: Receipt, table: TableReceipt) -> RenderableType:
    verb = {State.LOADED: "Loaded", State.PREVIEWED: "Preview of"}.get(shown.state, "Not loaded:")
    if shown.undoes:
        verb = {State.UNDONE: "Undone:", State.PREVIEWED: "Preview of undoing"}.get(shown.state, "Not undone:")
    line = Text.assemble(
        (verb, "bold"),
        f" {cut(shown.incoming, _LONGEST_NAME)} ",
        ("in" if shown.undoes else "into", "bold"),
        f" {cut(table.target, _LONGEST_NAME)}",
    )
    conditional = (" if undone" if shown.undoes else " if loaded") if shown.state is State.PREVIEWED else ""
    names = f"Column names in row {shown.header_row}. " if shown.header_row else ""
    under = (
        f"{names}Records matched by {' + '.join(map(cut, table.key)).rstrip('.')}. "
        f"The table: {counted(table.rows_before, 'row')} before, {table.rows_after:,} after{conditional}."
    )
    return Group(line, Text(under + "\n", "dim"))


def _tally(shown: Receipt) -> RenderableType:
    tally = shown.rows
    grid = Table(box=None, show_header=False, padding=(0, 2, 0, 0))
    grid.add_column(justify="right", style="bold")
    grid.add_column()
    grid.add_column(style="dim")
    if shown.undoes:
        grid.add_row(f"{tally.read:,}", plural(tally.read, "record", "records"), "that the run had changed")
    else:
        grid.add_row(f"{tally.read:,}", plural(tally.read, "row read", "rows read"), "blank rows not counted")
    for name, meaning in (_UNDONE if shown.undoes else _MEANINGS).items():
        count = getattr(tally, name)
        style = _STYLES[name] if count else "dim"
        extra = f" ({_fields(shown)})" if name == "updated" and count else ""
        grid.add_row(Text(f"{count:,}", style), Text(name + extra, style), meaning)
    return Padding(grid, (1, 0, 0, 2))


def _fields(shown: Receipt) -> str:
    """How many fields were updated, and of how many records where these are not as many as the rows."""
    records = sum(table.records_updated for table in shown.tables)
    words = f"{shown.fields_updated:,} {plural(shown.fields_updated, 'field', 'fields')}"
    return words if records == shown.rows.updated else f"{words} in {records:,} {plural(records, 'record', 'records')}"


def _changes(table: TableReceipt) -> RenderableType | None:
    if not table.columns:
        return None
    listed = grid("Changes by column", ("column", "fields", "example: row", "key", "before", "after"))
    for name, count in sorted(table.columns.items(), key=lambda item: -item[1]):
        example = table.examples[name]
        listed.add_row(
            cut(name),
            f"{count:,}",
            str(example.row),
            cut(" / ".join(example.key)),
            value(example.before),
            value(example.after, "cyan"),
        )
    return Padding(listed, (0, 0, 1, 0))


def _samples(samples: Sequence[SampleRow]) -> RenderableType | None:
    if not samples:
        return None
    names = [name for name, *_ in samples[0].fields]
    listed = grid("Some rows in full (what changes is picked out)", ("row", "", *names), of_data=True)
    for sample in samples:
        cells = []
        for _, before, after, changed in sample.fields:
            if sample.outcome == "updated" and changed:
                cells.append(Text.assemble(value(before, "dim"), " → ", value(after, "bold cyan")))
            else:
                cells.append(value(after, "green" if sample.outcome == "inserted" else "dim"))
        listed.add_row(str(sample.row), Text(sample.outcome, _STYLES[sample.outcome]), *cells)
    return Padding(listed, (0, 0, 1, 0))


def _columns(table: TableReceipt) -> RenderableType | None:
    """Is the mapping right? A literal typed by mistake or a swapped column is seen at a glance."""
    if not table.view:
        return None
    listed = grid("Is the mapping right?", ("column", "from", "rule", "as it came → as it is loaded"))
    for column in table.view:
        shown = Text("   ").join(_before_after(before, after) for before, after in column.samples)
        mark = " (key)" if column.target in table.key else " (new)" if column.target in table.columns_added else ""
        listed.add_row(cut(column.target) + mark, cut(column.source), cut(column.rule or "-", _LONGEST_NAME), shown)
    lines = []
    if table.not_loaded:
        lines.append(f"Incoming columns not loaded: {listing(table.not_loaded)}.")
    if table.left_alone:
        lines.append(f"Target columns left as they are: {listing(table.left_alone)}.")
    return Group(listed, Text("\n".join(lines) + "\n", "dim"))


def _before_after(before: str | None, after: str | None) -> Text:
    if before == after:
        return value(after)
    if before is None:
        return value(after, "cyan")
    return Text.assemble(value(before), " → ", value(after, "cyan"))


def _rejects(shown: Receipt) -> RenderableType:
    listed = grid("Rejected rows", ("reason", "rows", "which", "for example", "expected"))
    for reason, count in shown.rejects.reasons.items():
        cells = [cell for cell in shown.rejects.first if cell.reason == reason]
        numbers = ", ".join(_which(cell) for cell in cells[:_ROWS_NAMED])
        more = f" and {count - _ROWS_NAMED:,} more" if count > _ROWS_NAMED else ""
        listed.add_row(Text(reason, "red"), f"{count:,}", numbers + more, _example(cells[0]), cells[0].expected)
    where = Text(
        f"Rejected rows are in {shown.rejects.file}: correct them there and load that file.\n"
        if shown.rejects.file
        else ""
    )
    return Group(listed, where)


def _conflicts(shown: Receipt) -> RenderableType:
    """Both values of each record that can't be put back, and who wrote what is there now."""
    listed = grid("Can't be put back", ("key", "column", "the run wrote", "now", "by", "what is wrong"))
    for conflict in shown.conflicts[:_CONFLICTS_SHOWN]:
        found = conflict.reason == Reason.CHANGED_SINCE
        listed.add_row(
            cut(" / ".join(conflict.key)),
            cut(conflict.column or ""),
            value(conflict.wrote) if found else "",
            value(conflict.now, "cyan") if found else "",
            f"run {conflict.by}" if conflict.by else "not by a run in the log" if found else "",
            Text(_in_the_way(conflict), "red"),
        )
    more = "and more. " if len(shown.conflicts) > _CONFLICTS_SHOWN else ""
    where = f"All are in {shown.rejects.file}." if shown.rejects.file else "--conflicts FILE writes all to a file."
    return Group(listed, Text(more + where))


def _in_the_way(conflict: Conflict) -> str:
    if conflict.reason == Reason.CHANGED_SINCE:
        return conflict.reason
    if conflict.reason == Reason.REFERRED_TO:
        return f"{conflict.reason} by {conflict.now}"
    return f"{conflict.reason}: {f'{cut(conflict.now)}, ' if conflict.now else ''}expected {conflict.expected}"


def _which(cell: RejectedCell) -> str:
    return str(cell.row) if cell.origin is None else f"{cell.origin} row {cell.row}"


def _example(cell: RejectedCell) -> str:
    return f"{cut(cell.column or '')} {cut(cell.value) if cell.value is not None else ''}".strip()


def _closing(shown: Receipt) -> RenderableType:
    if shown.state is State.UNDONE:
        said = _closing_of_undo(shown)
    elif shown.state is State.LOADED:
        records = shown.rows.inserted + sum(table.records_updated for table in shown.tables)
        if not shown.changed:
            said = nothing_to_write(shown.rows)
        else:
            said = f"Committed. {all_written(records)} back equal."
            if not shown.verified:
                said = "Committed, but not verified: the target's triggers made a difference (see the note)."
    elif shown.state is State.PREVIEWED:
        said = "Nothing was written: this is a preview."
    else:
        said = "Nothing was written."
    parts: list[str | tuple[str, str]] = [
        (said, "bold"),
        (f"  fingerprint {shown.fingerprint}, {shown.seconds:.1f} s", "dim"),
    ]
    if shown.run and shown.changed and shown.state in (State.LOADED, State.UNDONE):
        parts += ["\nTo take it back: ", (f"tidymerge undo {shown.run}", "green")]
    return Text.assemble(*parts)


def _closing_of_undo(shown: Receipt) -> str:
    if not shown.changed:
        return "Nothing to put back: the records are as they were before the run."
    if not shown.verified:
        return "Committed, but not verified: the target's triggers made a difference (see the note)."
    written, gone = shown.rows.inserted + shown.rows.updated, shown.rows.removed
    said = [f"{all_written(written)} back equal"] if written else []
    said += [f"{counted(gone, 'removed record')} {plural(gone, 'is', 'are')} gone"] if gone else []
    words = ", ".join(said)
    return f"Committed. {words[0].upper()}{words[1:]}."


def all_written(records: int) -> str:
    """That what was written was read again: of one record, or of all."""
    return "The one written record reads" if records == 1 else f"All {records:,} written records read"


def grid(title: str, names: Sequence[str], *, of_data: bool = False) -> Listing:
    """An open table with a title; columns of counts and row numbers to the right. `of_data`: the names are others'."""
    shown = [cut(name) for name in names]
    return Listing(title, shown, *(((), ()) if of_data else (_NUMBERS, _SENTENCES)))


def value(text: str | None, style: str = "") -> Text:
    """A value, or the word for none."""
    return Text("(blank)", "dim italic") if text is None else Text(cut(text), style)


def cut(text: str, longest: int = _LONGEST_VALUE) -> str:
    """A text on one line, no longer than a glance, without what would steer the terminal."""
    plain = "".join(sign if sign.isprintable() else _SHOWN.get(sign, "�") for sign in text)
    return plain if len(plain) <= longest else plain[: longest - 1] + "…"
