"""Drawing the log on the terminal, and its published JSON form."""

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from tidymerge.cli.screen.draw import cut, grid, value
from tidymerge.core.explain.wording import statement
from tidymerge.model.receipt import State, Touch
from tidymerge.model.request_form import request_to_dict
from tidymerge.model.run import Run
from tidymerge.model.runs_form import FORMAT, RunForm, RunsForm, StepForm, StoryForm
from tidymerge.run.past import Past, PastRun

_STYLES = {
    State.LOADED: "green",
    State.UNDONE: "cyan",
    State.CHANGED: "green",
    State.REMOVED: "magenta",
    State.STOPPED: "yellow",
    State.FAILED: "red",
    State.PARTLY: "bold red",
}
_LONGEST = 400


def listing(out: Console, past: Past, *, most: int | None) -> None:
    """Print the runs, a line each."""
    if not past.runs:
        out.print("No such run is in the log.")
        return
    listed = grid(
        "Runs, the latest first", ("run", "by", "what", "state", "inserted", "updated", "removed", "rejected")
    )
    for one in past.runs[:most]:
        # What a stopped run would have done is in its receipt; here it would look like done.
        rows = one.run.receipt.rows if one.run.receipt and one.run.state.wrote else None
        counts = [f"{getattr(rows, name):,}" if rows else "" for name in ("inserted", "updated", "removed", "rejected")]
        listed.add_row(one.run.name, cut(one.run.user), cut(_what(one.run), _LONGEST), _state(one), *counts)
    out.print(listed)
    if most is not None and len(past.runs) > most:
        out.print(Text(f"\nand {len(past.runs) - most:,} earlier; --all lists them too.", "dim"))
    out.print(Text("\nOne in full: tidymerge receipt RUN. To take one back: tidymerge undo RUN.", "dim"))


def _what(run: Run) -> str:
    if run.undoes:
        return f"undo of {run.undoes}, {_short(run.target)}"
    if run.state is State.EXTRACTED:
        return f"{_short(run.target)}: {run.message}, {statement(run.request)}"
    if run.request:
        return f"{_short(run.target)}: {statement(run.request)}"
    if run.receipt is not None and run.receipt.is_family:
        tables = ", ".join(table.called for table in run.receipt.tables)
        return f"{_short(run.receipt.incoming)} into {_short(run.receipt.place)}: {tables}"
    incoming = ", ".join(_short(name) for name in run.files) or "?"
    return f"{incoming} into {_short(run.target)}"


def _short(address: str) -> str:
    """An address without its folders."""
    return address if "://" in address else address.rpartition("/")[2]


def _state(one: PastRun) -> Text:
    if not one.run.settled:
        return Text("not known yet", "bold yellow")
    words = Text(one.run.state.value, _STYLES.get(one.run.state, ""))
    return words.append(", undone", "cyan") if one.undone_by else words


def about(out: Console, one: PastRun) -> None:
    """Print who ran it, when, and with what."""
    run = one.run
    out.print()
    lines: list[tuple[str, str | Text]] = [("Run", run.name), ("State", _state(one))]
    if run.message:
        lines.append(("Because", run.message))
    lines += [("Started", f"{run.started.astimezone():%Y-%m-%d %H:%M:%S %z}"), ("By", run.user)]
    if run.undoes:
        lines.append(("Undoes", run.undoes))
    if one.undone_by:
        lines.append(("Undone by", one.undone_by))
    if run.job:
        lines.append(("Job", run.job))
    for name, checksum in run.files.items():
        lines.append(("Incoming", f"{name}{f', SHA-256 {checksum}' if checksum else ''}"))
    if run.request:
        lines.append((run.request.action.value.capitalize(), statement(run.request)))
    lines += [("Target", own.target) for own in run.each]
    for name, words in lines:
        shown = words if isinstance(words, Text) else Text(cut(words, _LONGEST))
        out.print(Text.assemble((f"{name:<11}", "dim"), shown))


def notes(out: Console, past: Past) -> None:
    """Print what was found out on the way."""
    for words in past.told:
        out.print(Text.assemble(("\nNote: ", "yellow"), words))


def story(out: Console, key: Sequence[str], told: Sequence[tuple[PastRun, Touch]], *, most: int | None) -> None:
    """Print what became of one record, the earliest first; of more than `most` changes the latest."""
    name = " / ".join(key)
    if not told:
        out.print(f"No run in the log changed a record {cut(name)}.")
        return
    listed = grid(
        f"The record {cut(name)}, the earliest first", ("run", "by", "from", "row", "", "column", "before", "after")
    )
    for one, touch in told if most is None else told[-most:]:
        files = [touch.file] if touch.file else one.run.files
        source = f"undo of {one.run.undoes}" if one.run.undoes else ", ".join(map(_short, files))
        source = statement(one.run.request) or source
        undone = " (undone later)" if one.undone_by else ""
        first = [one.run.name, cut(one.run.user), cut(source, _LONGEST), str(touch.row or ""), touch.outcome + undone]
        for at, (column, before, after) in enumerate(touch.fields or (("", "", ""),)):
            listed.add_row(*(first if not at else [""] * 5), cut(column), value(before, "dim"), value(after, "cyan"))
    out.print(listed)
    if most is not None and len(told) > most:
        out.print(Text("\nand earlier changes; --all shows them too.", "dim"))


def as_data(past: Past, key: Sequence[str] | None, told: Sequence[tuple[PastRun, Touch]]) -> RunsForm | StoryForm:
    """The runs, or the story of a record, as plain data."""
    if not key:
        return {"format": FORMAT, "notes": list(past.told), "runs": [entry(one) for one in past.runs]}
    changes: list[StepForm] = [
        {
            "run": one.run.name,
            "started": one.run.started.isoformat(timespec="seconds"),
            "user": one.run.user,
            "incoming": [touch.file] if touch.file else list(one.run.files),
            "undoes": one.run.undoes,
            "undone_by": one.undone_by,
            "row": touch.row,
            "outcome": touch.outcome,
            "fields": [{"column": name, "before": old, "after": new} for name, old, new in touch.fields],
        }
        for one, touch in told
    ]
    return {"format": FORMAT, "notes": list(past.told), "record": list(key), "changes": changes}


def entry(one: PastRun) -> RunForm:
    """What the log has about a run, without its receipt, as plain data."""
    run, receipt = one.run, one.run.receipt
    return {
        "run": run.name,
        "state": run.state.value,
        "settled": run.settled,
        "started": run.started.isoformat(timespec="seconds"),
        "user": run.user,
        "job": run.job,
        "incoming": [{"address": name, "sha256": checksum} for name, checksum in run.files.items()],
        "target": run.target,
        "undoes": run.undoes,
        "undone_by": one.undone_by,
        "request": request_to_dict(run.request),
        "message": run.message,
        "rows": None
        if receipt is None
        else {
            "inserted": receipt.rows.inserted,
            "updated": receipt.rows.updated,
            "unchanged": receipt.rows.unchanged,
            "skipped": receipt.rows.skipped,
            "rejected": receipt.rows.rejected,
            "removed": receipt.rows.removed,
        },
        "fields_updated": None if receipt is None else receipt.fields_updated,
        "fingerprint": None if receipt is None else receipt.fingerprint,
    }
