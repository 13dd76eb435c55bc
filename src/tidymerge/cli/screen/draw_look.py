"""Drawing what is in a sheet or a table."""

from rich.console import Console
from rich.text import Text

from tidymerge.cli.screen.draw import cut, grid, value
from tidymerge.core.infer.profile import ColumnProfile, KeyCandidate
from tidymerge.core.infer.spellings import Values, as_map
from tidymerge.core.words import counted
from tidymerge.run.look import Overview, View
from tidymerge.run.look_structure import Compared
from tidymerge.run.would_hold import Verdict

_SHORT = 24
_VALUES_LISTED = 60
_COLUMNS_SHOWN, _COLUMNS_SAMPLED = 300, 60  # nobody reads thousands on a screen
_KEYS_SHOWN = 3
_VALUES_SHOWN = 4
_CATEGORY = 8  # a text column with no more different values is shown with all of them


def overview(out: Console, shown: Overview) -> None:
    """The sheets of a workbook or the tables of a database."""
    out.print(Text.assemble("\n", (shown.address, "bold"), f": {counted(len(shown.tables), shown.kind)}\n"))
    of_tables = any(shown.keys.values()) or bool(shown.relations)
    listed = grid("", (shown.kind, "rows", "columns", *(("key", "refers to") if of_tables else ())))
    listed.title = None
    for name, rows, columns in shown.tables:
        refers = ", ".join(f"{one.other} by {' + '.join(one.columns)}" for one in shown.relations if one.table == name)
        more = (cut(" + ".join(shown.keys.get(name, ()))) or "-", refers or "-") if of_tables else ()
        listed.add_row(cut(name), f"{rows:,}", str(columns), *more)
    out.print(listed)
    if shown.tables:
        first = next((name for name, rows, _ in shown.tables if rows), shown.tables[0][0])
        out.print(Text(f"\nLook into one with: tidymerge look '{shown.address}#{first}'", "dim"))


def view(out: Console, shown: View) -> None:
    """The columns of one sheet or table, its keys and a few rows."""
    columns = shown.profile.columns
    rows = columns[0].rows if columns else 0
    where = f", column names in row {shown.header_row}" if shown.header_row else ""
    title = f": {counted(rows, 'row')}, {counted(len(columns), 'column')}{where}\n"
    out.print(Text.assemble("\n", (shown.address, "bold"), title))
    listed = grid("", ("column", "type", "blank", "distinct", "commonest values", "smallest", "largest", "longest"))
    listed.title = None
    for column in columns[:_COLUMNS_SHOWN]:
        listed.add_row(
            cut(column.name),
            column.type,
            f"{column.blanks:,}" if column.blanks else "-",
            f"{column.distinct:,}" + (" unique" if column.unique else ""),
            _commonest(column),
            cut(column.smallest or "", _SHORT),
            cut(column.largest or "", _SHORT),
            str(column.longest),
        )
    out.print(listed)
    if len(columns) > _COLUMNS_SHOWN:
        out.print(Text(f"and {len(columns) - _COLUMNS_SHOWN:,} more columns; --json has them all.", "dim"))
    out.print(Text("\n" + _keys(shown) + "\n"))
    if shown.profile.sample:
        named = f", the first {_COLUMNS_SAMPLED} columns" if len(columns) > _COLUMNS_SAMPLED else ""
        names = tuple(column.name for column in columns[:_COLUMNS_SAMPLED])
        sample = grid(f"First rows{named}", names, of_data=True)
        for row in shown.profile.sample:
            sample.add_row(*(value(cell) for cell in row[:_COLUMNS_SAMPLED]))
        out.print(sample)
    for note in shown.notes:
        out.print(Text.assemble(("\nNote: ", "dim"), note))


def values(out: Console, found: Values, address: str) -> None:
    """The different values of a column, groups that are probably one, and a value map of those."""
    blank = f", {found.blanks:,} blank" if found.blanks else ""
    head = f": {counted(len(found.values), 'different value')} in {counted(found.rows, 'row')}{blank}\n"
    out.print(Text.assemble("\n", (f"{address}, {found.column}", "bold"), head))
    if found.values:
        listed = grid("", ("value", "rows", "share"))
        listed.title = None
        for one in found.values[:_VALUES_LISTED]:
            listed.add_row(cut(one.value), f"{one.rows:,}", f"{one.rows / found.rows:.1%}")
        out.print(listed)
    if len(found.values) > _VALUES_LISTED:
        out.print(Text(f"and {len(found.values) - _VALUES_LISTED:,} more values; --json has them all.", "dim"))
    told = as_map(found)
    if told is None:
        return
    groups = grid("\nProbably one value", ("the commonest", "others", "told by"), of_data=True)
    for group in found.spellings:
        others = ", ".join(f"{cut(one.value, _SHORT)} ({one.rows:,})" for one in group.others)
        groups.add_row(cut(group.value), others, group.why)
    out.print(groups)
    out.print(Text("\nAs a value map in a job's [columns], to be looked at first:", "dim"))
    out.print(Text(told), soft_wrap=True)


def differences(out: Console, found: Compared) -> None:
    """How the structure of a table differs from another, or from what it was."""
    out.print(Text.assemble("\n", (found.after, "bold"), ", against ", (found.before, "bold")))
    there, here = ("then", "now") if found.at_times else ("there", "here")
    before = "" if found.rows_before is None else f"{found.rows_before:,} {there}, "
    out.print(Text(f"Rows: {before}{found.rows_after:,} {here}.\n"))
    if not found.differences:
        out.print(Text(f"The structure is the same: {counted(found.columns, 'column')}.", "green"))
        return
    listed = grid("", ("what", "name", there, here, ""))
    listed.title = None
    for one in found.differences:
        sides = [_side(one.part, side) for side in (one.before, one.after)]
        listed.add_row(one.part, cut(one.name), *sides, Text("holds less", "yellow") if one.narrower else "")
    out.print(listed)


def _side(part: str, side: str | None) -> str:
    """What there is on one side: a type, or just that it is there."""
    if side is None:
        return "-"
    return (cut(side) or "yes") if part in ("column", "type", "blanks") else "yes"


def verdict(out: Console, found: Verdict) -> None:
    """Which records would break a rule, and what would set them right."""
    head = "holds for all" if not found.broken else f"{found.broken:,} of"
    out.print(Text.assemble("\n", (f"{found.target}: {found.wish}", "bold")))
    words = f"{head} {counted(found.rows, 'record')}" + (" would break it" if found.broken else "")
    out.print(Text(f"{words[0].upper()}{words[1:]}.", "" if found.broken else "green"))
    if found.unclear:
        out.print(Text(f"For {counted(found.unclear, 'record')} it can't be worked out."))
    if not found.broken:
        return
    if found.values:
        told = ", ".join(f"{cut(one.value, _SHORT)} ({one.rows:,})" for one in found.values)
        out.print(Text.assemble(("By value: ", "dim"), told))
    first = grid("The first of them", found.columns, of_data=True)
    for row in found.examples:
        first.add_row(*(value(cell) for cell in row))
    out.print(first)
    if found.where is not None:
        out.print(Text.assemble(("\nThey are those where: ", "dim"), found.where), soft_wrap=True)
    if found.job is not None:
        out.print(Text("\nA job that would set them right, for tidymerge change --job FILE --preview:", "dim"))
        out.print(Text(found.job.rstrip()), soft_wrap=True)
    elif found.where is not None:
        out.print(
            Text("What is right, only people know: take them out by extract --where, and load them again.", "dim")
        )


def _commonest(column: ColumnProfile) -> str:
    """The commonest values with their counts, all of a category's; where all differ, just a few of them."""
    if column.unique:
        return ", ".join(cut(text, _SHORT) for text, _ in column.commonest[:3]) + ", …"
    category = column.kind == "text" and column.distinct <= _CATEGORY
    shown = _CATEGORY if category else _VALUES_SHOWN
    return ", ".join(f"{cut(text, _SHORT)} ({count:,})" for text, count in column.commonest[:shown])


def _keys(shown: View) -> str:
    declared = [" + ".join(names) for names in (shown.primary_key, *shown.unique) if names]
    if declared:
        return f"Declared unique: {'; '.join(declared)}. Rows are matched by the first, unless --key says otherwise."
    candidates = shown.profile.keys
    exact = [" + ".join(candidate.columns) for candidate in candidates if candidate.exact]
    nearly = [_but_for(candidate) for candidate in candidates if not candidate.exact]
    lines = []
    if exact:
        lines.append(f"Could serve as key (never blank, never twice): {'; '.join(exact[:_KEYS_SHOWN])}.")
    if nearly:
        lines.append(f"Could serve as key, but for a few rows: {'; '.join(nearly[:_KEYS_SHOWN])}.")
    return "\n".join(lines) or "No column or pair of columns is nearly unique, so none can serve as key by itself."


def _but_for(candidate: KeyCandidate) -> str:
    found = (("blank", candidate.blank), ("repeated", candidate.repeated))
    return f"{' + '.join(candidate.columns)} ({', '.join(f'{count} {word}' for word, count in found if count)})"
