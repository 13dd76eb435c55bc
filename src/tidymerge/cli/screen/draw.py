"""Drawing a receipt on the terminal. Every word here is read by somebody about to change a table."""

from collections.abc import Sequence

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from tidymerge.cli.screen.listing import Listing
from tidymerge.cli.screen.typed import typed
from tidymerge.core.explain.wording import by_rows, closing, found_by, heading, statement, wording
from tidymerge.core.naming.mapping import listing
from tidymerge.core.words import counted, plural
from tidymerge.model import Reason
from tidymerge.model.receipt import Action, Conflict, Receipt, RejectedCell, SampleRow, State, TableReceipt

_ROWS_NAMED = 8
_LONGEST_VALUE = 40
_LONGEST_NAME = 400
_SHOWN = {"\n": "␤", "\t": "␉", "\N{NO-BREAK SPACE}": "␣"}
_NUMBERS = (
    "fields", "row", "rows", "records", "example: row", "columns", "blank", "distinct", "longest",
    "inserted", "updated", "removed", "rejected", "unchanged", "skipped",
)  # fmt: skip
_SENTENCES = (
    "which", "for example", "expected", "rule", "as it came → as it is loaded", "what is wrong", "commonest values",
    "what", "what is in the way",
)  # fmt: skip
STYLES = {
    "inserted": "green",
    "updated": "cyan",
    "removed": "magenta",
    "unchanged": "dim",
    "skipped": "dim",
    "rejected": "red",
}
_CONFLICTS_SHOWN = 12


def receipt(out: Console, shown: Receipt, *, details: bool = True) -> None:
    """Print a receipt: what changes, how, what is wrong; the tally last, where the eye rests after scrolling."""
    if shown.is_family:
        out.print(Padding(Group(_family_heading(shown), _tables(shown)), (0, 0, 1, 0)))
    for at, table in enumerate(shown.tables):
        if not details and (at or shown.is_family):
            break
        out.print(_further(shown, table) if at or shown.is_family else _heading(shown, table))
        by_row = by_rows(shown)
        views = (_samples(table.samples, by_row=by_row), _changes(table, by_row=by_row), _columns(table))
        blocks = views if details else ()
        for block in blocks:
            if block is not None:
                out.print(block)
    if shown.undoes:
        if shown.conflicts:
            out.print(_conflicts(shown))
    elif shown.rejects.reasons:
        out.print(rejected(shown) if by_rows(shown) or shown.action is not Action.REMOVE else _staying(shown))
    said(out, shown)
    if len(shown.tables) > 1 and (details or not shown.is_family):  # what stood above is out of sight by now
        out.print(_tables(shown))
    out.print(_tally(shown))
    out.print(_closing(shown))


def said(out: Console, shown: Receipt) -> None:
    """Notes, warnings and limits, and how to go ahead all the same."""
    for note in shown.notes:
        out.print(Text.assemble(("Note: ", "dim"), note))
    for warning in shown.warnings:
        out.print(Text.assemble(("Warning: ", "bold yellow"), warning))
    for limit in shown.limits:
        out.print(Text.assemble(("Limit: ", "bold red"), limit))
    if shown.go_ahead:
        allowed = [(name, "" if count is True else str(count)) for name, count in shown.go_ahead.items()]
        out.print(f"If that is meant, give {typed(allowed)}.")


def _heading(shown: Receipt, table: TableReceipt) -> RenderableType:
    head, rows, between = heading(shown)
    line = Text.assemble(
        (head, "bold"),
        f" {cut(rows, _LONGEST_NAME)} " if rows else "",
        (between, "bold"),
        f" {cut(table.target, _LONGEST_NAME)}",
    )
    conditional = f" {wording(shown).condition}" if shown.state is State.PREVIEWED else ""
    names = f"Column names in row {shown.header_row}. " if shown.header_row else ""
    asked = cut(statement(shown.request), _LONGEST_NAME)
    found = found_by(shown, cut)
    size = f"The table: {counted(table.rows_before, 'row')} before, {table.rows_after:,} after{conditional}."
    under = f"{names}{found} {size}"
    if asked:
        under = f"{asked}\n{found} The table has {counted(table.rows_before, 'record')}."
    return Group(line, Text(under + "\n", "dim"))


def _family_heading(shown: Receipt) -> RenderableType:
    """The heading of a load into several tables."""
    head, rows, between = heading(shown)
    line = Text.assemble((head, "bold"), f" {cut(rows, _LONGEST_NAME)} ", (between, "bold"), f" {cut(shown.place)}")
    return Group(line, Text(f"{len(shown.tables)} tables in one run, parents before their children.", "dim"))


def _further(shown: Receipt, table: TableReceipt) -> RenderableType:
    """The heading of one of several tables."""
    if shown.is_family:
        line = Text.assemble(cut(table.incoming, _LONGEST_NAME), (" into ", "bold"), cut(table.called, _LONGEST_NAME))
    else:
        line = Text.assemble(("and ", "bold"), cut(table.target, _LONGEST_NAME))
    verb = "matched" if shown.is_family else "named"
    return Group(line, Text(f"Records {verb} by {' + '.join(map(cut, table.key))}.\n", "dim"))


def _tables(shown: Receipt) -> RenderableType:
    """The counts of each table."""
    found = {name: [getattr(table.rows, name) for table in shown.tables] for name in STYLES}
    names = [name for name, counts in found.items() if any(counts)]
    listed = grid("Records by table", ("table", "before", *names, "after"), counts=("before", "after"))
    tree = shown.tree if shown.is_family else [(at, 0) for at in range(len(shown.tables))]
    for at, depth in tree:
        table = shown.tables[at]
        counts = [Text(f"{found[name][at]:,}", STYLES[name] if found[name][at] else "dim") for name in names]
        name = f"{'   ' * (depth - 1)}└─ " * (depth > 0) + cut(table.called)
        listed.add_row(name, f"{table.rows_before:,}", *counts, f"{table.rows_after:,}")
    return Padding(listed, (1, 0, 0, 0))


def _tally(shown: Receipt) -> RenderableType:
    tally = shown.rows
    grid = Table(box=None, show_header=False, padding=(0, 2, 0, 0))
    grid.add_column(justify="right", style="bold")
    grid.add_column()
    grid.add_column(style="dim")
    words = wording(shown)
    grid.add_row(f"{tally.read:,}", plural(tally.read, words.one, words.many), words.which)
    for name, meaning in words.meanings.items():
        count = getattr(tally, name)
        if not count and words.counts_always and name not in words.counts_always:
            continue
        style = STYLES[name] if count else "dim"
        extra = f" ({_fields(shown)})" if name == "updated" and count else ""
        grid.add_row(Text(f"{count:,}", style), Text(name + extra, style), meaning)
    return Padding(grid, (1, 0, 0, 2))


def _fields(shown: Receipt) -> str:
    """How many fields were updated, and of how many records where these are not as many as the rows."""
    records = sum(table.records_updated for table in shown.tables)
    words = f"{shown.fields_updated:,} {plural(shown.fields_updated, 'field', 'fields')}"
    return words if records == shown.rows.updated else f"{words} in {records:,} {plural(records, 'record', 'records')}"


def _changes(table: TableReceipt, *, by_row: bool) -> RenderableType | None:
    if not table.columns:
        return None
    names = ("example: row", "key") if by_row else ("example: key",)
    listed = grid("Changes by column", ("column", "fields", *names, "before", "after"))
    for name, count in sorted(table.columns.items(), key=lambda item: -item[1]):
        example = table.examples[name]
        listed.add_row(
            cut(name),
            f"{count:,}",
            *([str(example.row or "")] if by_row else []),
            cut(" / ".join(example.key)),
            value(example.before),
            value(example.after, "cyan"),
        )
    return Padding(listed, (0, 0, 1, 0))


def _samples(samples: Sequence[SampleRow], *, by_row: bool) -> RenderableType | None:
    if not samples:
        return None
    names = [name for name, *_ in samples[0].fields]
    title = f"Some {'rows' if by_row else 'records'} in full (what changes is picked out)"
    listed = grid(title, (*(["row"] if by_row else []), "", *names), of_data=True)
    for sample in samples:
        cells = []
        for _, before, after, changed in sample.fields:
            if sample.outcome == "updated" and changed:
                cells.append(Text.assemble(value(before, "dim"), " → ", value(after, "bold cyan")))
            elif sample.outcome == "removed":
                cells.append(value(before, "magenta"))
            else:
                cells.append(value(after, "green" if sample.outcome == "inserted" else "dim"))
        listed.add_row(
            *([str(sample.row or "")] if by_row else []), Text(sample.outcome, STYLES[sample.outcome]), *cells
        )
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


def rejected(shown: Receipt, title: str = "") -> RenderableType:
    """What is wrong with rows or records, by reason."""
    what = "rows" if by_rows(shown) else "records"
    listed = grid(title or f"Rejected {what}", ("reason", what, "which", "for example", "expected"))
    for reason, count in shown.rejects.reasons.items():
        cells = [cell for cell in shown.rejects.first if cell.reason == reason]
        numbers = ", ".join(_which(cell) for cell in cells[:_ROWS_NAMED])
        more = f" and {count - _ROWS_NAMED:,} more" if count > _ROWS_NAMED else ""
        listed.add_row(Text(reason, "red"), f"{count:,}", numbers + more, _example(cells[0]), cells[0].expected)
    if not shown.rejects.file:
        return listed
    after = ": correct them there and load that file" if by_rows(shown) else ""
    return Group(listed, Text(f"Rejected {what} are in {shown.rejects.file}{after}.\n"))


def _staying(shown: Receipt) -> RenderableType:
    """The records that can't go, each with what is in the way."""
    listed = grid("Can't go", ("record", "why", "what is in the way"))
    for cell in shown.rejects.first[:_CONFLICTS_SHOWN]:
        found = cell.value if cell.reason == Reason.REFERRED_TO else f"expected {cell.expected}"
        listed.add_row(cut(cell.record or ""), Text(cell.reason, "red"), cut(found or "", _LONGEST_NAME))
    more = shown.rows.rejected - len(shown.rejects.first[:_CONFLICTS_SHOWN])
    where = f"All are in {shown.rejects.file}." if shown.rejects.file else "--rejects FILE writes all to a file."
    return Group(listed, Text(f"and {more:,} more. {where}\n" if more else ""))


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
    if cell.record is not None:
        return cut(cell.record)
    return str(cell.row) if cell.origin is None else f"{cell.origin} row {cell.row}"


def _example(cell: RejectedCell) -> str:
    return f"{cut(cell.column or '')} {cut(cell.value) if cell.value is not None else ''}".strip()


def _closing(shown: Receipt) -> RenderableType:
    parts: list[str | tuple[str, str]] = [
        (closing(shown), "bold"),
        (f"  fingerprint {shown.fingerprint}, {shown.seconds:.1f} s", "dim"),
    ]
    if shown.run and shown.lasts and shown.state.wrote:
        parts += ["\nTo take it back: ", (f"tidymerge undo {shown.run}", "green")]
    return Text.assemble(*parts)


def grid(title: str, names: Sequence[str], *, of_data: bool = False, counts: Sequence[str] = ()) -> Listing:
    """An open table with a title; columns of row numbers and `counts`, those usual and others, to the right.

    `of_data`: the names are others'.
    """
    shown = [cut(name) for name in names]
    return Listing(title, shown, *(((), ()) if of_data else ((*_NUMBERS, *counts), _SENTENCES)))


def value(text: str | None, style: str = "") -> Text:
    """A value, or the word for none."""
    return Text("(blank)", "dim italic") if text is None else Text(cut(text), style)


def cut(text: str, longest: int = _LONGEST_VALUE) -> str:
    """A text on one line, no longer than a glance, without what would steer the terminal."""
    plain = "".join(sign if sign.isprintable() else _SHOWN.get(sign, "�") for sign in text)
    return plain if len(plain) <= longest else plain[: longest - 1] + "…"
