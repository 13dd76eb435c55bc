"""Pictures of receipts and of runs, as PNG. Colours can be told apart by everybody and in print; words stand beside."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure

from tidymerge.core.explain.wording import counted_as, heading, statement, wording
from tidymerge.core.infer.spellings import Values
from tidymerge.core.infer.unusual import unusual
from tidymerge.errors import BadOption
from tidymerge.model.receipt import Receipt, State
from tidymerge.model.run import Run
from tidymerge.on_disk import replacing
from tidymerge.reports.bars import LONGEST_NAME, columns_of, cut
from tidymerge.reports.ours import SIGN

INK, PAPER = "#20242b", "#ffffff"
COLOURS = {
    "inserted": "#1f8a70",
    "updated": "#2b62b8",
    "removed": "#7d4aa8",
    "unchanged": "#8d949e",
    "skipped": "#c5cad1",
    "rejected": "#c9481c",
}
_HATCHES = {"rejected": "////", "skipped": "--", "removed": "\\\\\\\\"}  # told apart without colour too
_MOST_PANELS = 6
_MOST_VALUES = 30
_LOW = 8  # so many columns or fewer need no taller picture
_SIGNED = {"png": "Software", "svg": "Creator"}
STYLE: dict[Any, Any] = {
    "font.family": "DejaVu Sans",
    "font.size": 10,
    "text.color": INK,
    "axes.labelcolor": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "axes.edgecolor": INK,
    "hatch.color": PAPER,
    "hatch.linewidth": 0.8,
    "text.parse_math": False,  # a dollar sign is one
}


def receipt_chart(receipt: Receipt, path: Path) -> None:
    """Both as one PNG, for a mail. Raises BadOption if it can't be written."""
    columns = columns_of(receipt)
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(11, 3.4 if len(columns) <= _LOW else 0.9 + 0.32 * len(columns)), layout="constrained")
        figure.suptitle(_title(receipt), x=0.01, ha="left", fontsize=12, fontweight="bold")
        left, right = figure.subplots(1, 2, width_ratios=(1.15, 1))
        _tally(left, receipt)
        if columns:
            _columns(right, columns)
        else:
            right.set_axis_off()
            right.text(0, 0.5, "No field of an existing record changes.", va="center")
        save(figure, path)


def runs_chart(runs: Sequence[Run], path: Path) -> int:
    """The rows that loads changed over time, a panel for each target, as PNG; how many loads stand out.

    Raises BadOption if there is nothing to draw, or the file can't be written.
    """
    by_target: dict[str, list[Run]] = {}
    for run in sorted(runs, key=lambda run: run.started):
        if run.state is State.LOADED and run.receipt is not None:
            by_target.setdefault(run.target, []).append(run)
    if not by_target:
        raise BadOption("There are no loads to draw: none of the runs asked for was loaded.")
    shown = sorted(by_target.items(), key=lambda item: -len(item[1]))[:_MOST_PANELS]
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(11, 0.6 + 2.9 * len(shown)), layout="constrained")
        figure.suptitle("Rows changed by each load", x=0.01, ha="left", fontsize=12, fontweight="bold")
        panels = figure.subplots(len(shown), 1, squeeze=False)[:, 0]
        odd = sum(_loads(panel, target, loads) for panel, (target, loads) in zip(panels, shown, strict=True))
        save(figure, path)
    return odd


def values_chart(values: Values, address: str, path: Path) -> None:
    """The commonest values of a column as bars, as PNG. Raises BadOption if it can't be written."""
    shown = values.values[:_MOST_VALUES]
    rest = sum(one.rows for one in values.values[_MOST_VALUES:])
    names = (
        [cut(one.value) for one in shown] + (["all others"] if rest else []) + (["(blank)"] if values.blanks else [])
    )
    counts = [one.rows for one in shown] + ([rest] if rest else []) + ([values.blanks] if values.blanks else [])
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(11, max(2.2, 1.0 + 0.3 * len(names))), layout="constrained")
        title = f"{_short(address)}, {values.column}: {len(values.values):,} different values in {values.rows:,} rows"
        figure.suptitle(cut(title), x=0.01, ha="left", fontsize=12, fontweight="bold")
        axes = figure.subplots()
        colours = [COLOURS["updated"]] * len(shown) + [COLOURS["unchanged"]] * (len(names) - len(shown))
        places = range(len(names))  # a name may stand there twice
        bars = axes.barh(places, counts, color=colours, height=0.7)
        axes.set_yticks(places, names)
        axes.bar_label(bars, [f" {count:,} ({count / max(values.rows, 1):.0%})" for count in counts], padding=2)
        _bare(axes, max(counts, default=0))
        save(figure, path)


def _title(receipt: Receipt) -> str:
    head, rows, between = heading(receipt)
    words = " ".join(filter(None, (head, _short(rows), between, _short(receipt.tables[0].target))))
    asked = statement(receipt.request)
    return cut(f"{words}, {receipt.started:%Y-%m-%d %H:%M} UTC{f': {asked}' if asked else ''}")


def _short(address: str) -> str:
    return address if "://" in address else address.rpartition("/")[2]


def _tally(axes: Axes, receipt: Receipt) -> None:
    counts = {name: getattr(receipt.rows, name) for name in COLOURS}
    words = wording(receipt)
    names = [name for name, count in counts.items() if count or name in words.counts_always]
    values = [counts[name] for name in names]
    bars = axes.barh(names, values, color=[COLOURS[name] for name in names], height=0.7)
    for bar, name in zip(bars, names, strict=True):
        bar.set_hatch(_HATCHES.get(name, ""))
    whole = receipt.rows.read
    labels = [f" {count:,}" + (f" ({count / whole:.0%})" if whole and count else "") for count in values]
    axes.bar_label(bars, labels, padding=2)
    axes.set_title(counted_as(receipt), loc="left", fontsize=10)
    _bare(axes, max(values, default=0))


def _columns(axes: Axes, columns: dict[str, int]) -> None:
    names = [cut(name, LONGEST_NAME) for name in columns]
    bars = axes.barh(range(len(names)), list(columns.values()), color=COLOURS["updated"], height=0.7)
    axes.set_yticks(range(len(names)), names)
    axes.bar_label(bars, [f" {count:,}" for count in columns.values()], padding=2)
    total = sum(columns.values())
    axes.set_title(f"{total:,} {'field' if total == 1 else 'fields'} changed, by column", loc="left", fontsize=10)
    _bare(axes, max(columns.values()))


def _bare(axes: Axes, longest: int) -> None:
    """Nothing but the bars and their labels, the first at the top."""
    axes.invert_yaxis()
    axes.set_xlim(0, max(longest, 1) * 1.28)
    axes.xaxis.set_visible(False)
    axes.spines[["top", "right", "bottom"]].set_visible(False)
    axes.tick_params(length=0)


def _loads(axes: Axes, target: str, loads: Sequence[Run]) -> int:
    """One target's loads over time, inserted on updated; those that stand out are marked and named."""
    receipts = [run.receipt.rows for run in loads if run.receipt is not None]
    at = [date2num(run.started) for run in loads]  # type: ignore[no-untyped-call]
    width = _width(at)
    inserted, updated = [rows.inserted for rows in receipts], [rows.updated for rows in receipts]
    axes.bar(at, updated, width, color=COLOURS["updated"], label="updated")
    axes.bar(at, inserted, width, bottom=updated, color=COLOURS["inserted"], label="inserted")
    totals = [one + other for one, other in zip(inserted, updated, strict=True)]
    odd = unusual(totals)
    usual = max((total for total, is_odd in zip(totals, odd.tolist(), strict=True) if not is_odd), default=0)
    for x, y, is_odd, run in zip(at, totals, odd.tolist(), loads, strict=True):
        if is_odd:
            axes.plot([x], [y], marker="v", markersize=9, color=COLOURS["rejected"], clip_on=False)
            label = max(y, usual) + 0.06 * max(totals)  # above the bars beside it
            axes.vlines(x, y, label, color=COLOURS["rejected"], linewidth=0.8, linestyle=":")
            axes.text(x, label, f"{y:,}\n{run.name}", ha="center", va="bottom", fontsize=8)
    axes.set_title(
        cut(f"{_short(target)}: {len(loads):,} {'load' if len(loads) == 1 else 'loads'}"), loc="left", fontsize=10
    )
    locator = AutoDateLocator()  # type: ignore[no-untyped-call]
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(ConciseDateFormatter(locator))  # type: ignore[no-untyped-call]
    axes.set_xlim(min(at) - width * 2, max(at) + width * 2)
    axes.margins(y=0.35)
    axes.spines[["top", "right"]].set_visible(False)
    axes.legend(loc="upper left", bbox_to_anchor=(1.0, 1.0), frameon=False)
    return int(odd.sum())


def _width(at: Sequence[float]) -> float:
    """How wide bars can be without hiding each other, in days."""
    span = max(at) - min(at)
    return max(span / max(len(at), 8) * 0.6, 1 / 1440) if span else 1 / 24


def save(figure: Figure, path: Path) -> None:
    """Write a picture, with our sign in it. Raises BadOption."""
    kind = path.suffix.lower().lstrip(".")
    if kind not in _SIGNED:
        raise BadOption(f"Charts are written as .png; {path} has another ending.")
    try:
        with replacing(path) as draft:
            figure.savefig(draft, format=kind, dpi=110, facecolor=PAPER, metadata={_SIGNED[kind]: SIGN})
    except OSError as error:
        raise BadOption(f"The chart can't be written to {path}: {error.strerror or error}.") from None
