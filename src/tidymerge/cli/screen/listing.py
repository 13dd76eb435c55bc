"""Tables on the terminal that never break a word: where the columns don't fit, each row becomes a block."""

from collections.abc import Iterator, Sequence

from rich.console import Console, ConsoleOptions, RenderableType
from rich.measure import Measurement
from rich.table import Column, Table
from rich.text import Text

_GAP = 2  # spaces between columns
_NARROWEST = 16  # what a column of sentences needs to be read


class Listing(Table):
    """An open table with a title. Columns of numbers stand to the right; `sentences` may take several lines."""

    def __init__(self, title: str, names: Sequence[str], numbers: Sequence[str], sentences: Sequence[str] = ()) -> None:
        super().__init__(
            title=title,
            min_width=len(title),
            title_justify="left",
            title_style="bold",
            box=None,
            padding=(0, _GAP, 0, 0),
            header_style="dim underline",
        )
        for name in names:
            wraps = name in sentences
            self.add_column(name, justify="right" if name in numbers else "left", no_wrap=not wraps, overflow="fold")

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> Iterator[RenderableType]:
        """The table if it fits, else its blocks."""
        needs = [self._needs(console, options, column) for column in self.columns]
        spare = options.max_width - sum(need.minimum + _GAP for need in needs)
        if spare < 0:
            yield from self._blocks()
            return
        # What is left is shared by those that want more, in proportion to what they want.
        wants = [need.maximum - need.minimum for need in needs]
        for column, need, want in zip(self.columns, needs, wants, strict=True):
            column.width = need.minimum + (min(want, spare * want // sum(wants)) if want else 0)
        yield from super().__rich_console__(console, options)  # type: ignore[misc]  # Rich says it gives segments

    @staticmethod
    def _needs(console: Console, options: ConsoleOptions, column: Column) -> Measurement:
        sizes = [Measurement.get(console, options, _as_text(cell)) for cell in (column.header, *column.cells)]
        widest = max(size.maximum for size in sizes)
        if column.no_wrap:
            return Measurement(widest, widest)
        return Measurement(max(*(size.minimum for size in sizes), min(_NARROWEST, widest)), widest)

    def _blocks(self) -> Iterator[RenderableType]:
        """Each row with one line a column."""
        blocks = Table(box=None, show_header=False, padding=(0, _GAP, 0, 0))
        blocks.title, blocks.title_justify, blocks.title_style = self.title, "left", "bold"
        blocks.add_column(style="dim", no_wrap=True)
        blocks.add_column(overflow="fold")
        for index in range(self.row_count):
            if index:
                blocks.add_row()
            for column in self.columns:
                cell = list(column.cells)[index]
                if _as_text(cell).plain or not index:
                    blocks.add_row(column.header, cell)
        yield blocks


def _as_text(cell: RenderableType) -> Text:
    return cell if isinstance(cell, Text) else Text(str(cell))
