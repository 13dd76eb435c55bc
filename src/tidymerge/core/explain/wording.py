"""What a receipt calls things, by what was asked for: a load, a change of records, or an undo.

The terminal, the page and the chart take their words from here.
"""

from collections.abc import Callable, Mapping

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.words import counted, nothing_to_write, plural
from tidymerge.model.receipt import Action, Receipt, Request, State


class Wording(Struct, frozen=True):
    """The words for one kind of run.

    `heads` begin the heading by state, `not_done` where nothing was written; `between` stands between the rows and the
    target; `condition` ends a sentence of a preview; `one`, `many` and `which` say what was counted; `meanings` what
    each outcome means, in the order in which they are shown; `counts_always` are those shown in pictures also at zero;
    `names` are what outcomes are called, where that is another word.
    """

    heads: Mapping[State, str]
    not_done: str
    between: str
    condition: str
    one: str
    many: str
    which: str
    meanings: Mapping[str, str]
    counts_always: tuple[str, ...] = ()
    names: Mapping[str, str] = {}

    def called(self, outcome: str) -> str:
        """The word for an outcome."""
        return self.names.get(outcome, outcome)


_LOAD = Wording(
    {State.LOADED: "Loaded", State.PREVIEWED: "Preview of"},
    "Not loaded:",
    "into",
    "if loaded",
    "row read",
    "rows read",
    "blank rows not counted",
    {
        "inserted": "no record had the key: a new one",
        "updated": "a record had the key and other values",
        "removed": "a row says that its record goes, or no row has it",
        "unchanged": "a record had the key and the same values",
        "skipped": "left out on purpose: the notes say why",
        "rejected": "something is wrong with the row",
    },
    ("inserted", "updated", "unchanged", "skipped", "rejected"),
)
_UNDO = Wording(
    {State.UNDONE: "Undone:", State.PREVIEWED: "Preview of undoing"},
    "Not undone:",
    "in",
    "if undone",
    "record",
    "records",
    "that the run had changed",
    {
        "updated": "the earlier values again",
        "removed": "the run had inserted the record",
        "inserted": "the run had removed the record",
        "unchanged": "is as it was before the run already",
        "rejected": "can't be put back: see above",
    },
)
_CHANGE = Wording(
    {State.CHANGED: "Changed", State.PREVIEWED: "Preview of a change of"},
    "Not changed:",
    "",
    "if changed",
    "record meets the condition",
    "records meet the condition",
    "",
    {
        "updated": "gets other values",
        "unchanged": "holds already what it would get",
        "rejected": "can't take its new value",
    },
    ("updated", "unchanged", "rejected"),
)
_DROP = replace(
    _CHANGE,
    one="record",
    many="records",
    which="all that there are",
    meanings={
        "updated": "loses a value, which is kept in the log",
        "unchanged": "has no value there",
        "rejected": "has no key by which an undo finds it",
    },
)
_REMOVE = Wording(
    {State.REMOVED: "Removed from", State.PREVIEWED: "Preview of removing from"},
    "Not removed from",
    "",
    "if removed",
    "record meets the condition",
    "records meet the condition",
    "",
    {
        "removed": "goes, with all its values kept in the log",
        "skipped": "left out on purpose: the notes say why",
        "rejected": "can't go",
    },
    ("removed", "rejected"),
)
SIDE_WORDS = {
    "inserted": "only in second",
    "updated": "different",
    "removed": "only in first",
    "unchanged": "same",
    "skipped": "repeated",
    "rejected": "not compared",
}
_COMPARISON = Wording(
    {State.PREVIEWED: "Compared"},
    "",
    "with",
    "",
    "row",
    "rows",
    "",
    {
        "unchanged": "both have the key, with the same values",
        "updated": "both have the key, with other values",
        "removed": "the second has no row with the key",
        "inserted": "the first has no row with the key",
        "skipped": "says the same as an earlier row of the second",
        "rejected": "something is wrong with the row of the second: see above",
    },
    ("unchanged", "updated", "removed", "inserted"),
    SIDE_WORDS,
)
_ARCHIVED = {"inserted": "copied to the archive", "unchanged": "a copy is in the archive already, with the same values"}
_WORDINGS = {
    Action.LOAD: _LOAD,
    Action.UNDO: _UNDO,
    Action.CHANGE: _CHANGE,
    Action.REMOVE: _REMOVE,
    Action.COMPARE: _COMPARISON,
}


def found_by(receipt: Receipt, shown: Callable[[str], str] = str) -> str:
    """How the records are found, as a sentence; `shown` makes a name fit to be shown."""
    key = " + ".join(map(shown, receipt.tables[0].key)).rstrip(".")
    if key:
        asked = receipt.request
        named = asked is not None and asked.action is not Action.COMPARE and asked.keys is None
        return f"Records {'named' if named else 'matched'} by {key}."
    return "Every row is a new record." if receipt.action is Action.LOAD else "Records are known by all that they hold."


def wording(receipt: Receipt) -> Wording:
    """The words for a receipt."""
    words = _WORDINGS[receipt.action]
    if receipt.action is Action.COMPARE:
        return words
    if receipt.is_family:
        return replace(words, which="each counted for each of its tables; blank rows not counted")
    if receipt.request is not None and receipt.request.drops:
        return _DROP
    if receipt.request is not None and receipt.request.keys is not None:
        if len(receipt.tables) > 1:
            meanings = {**_ARCHIVED, **words.meanings} if receipt.request.archive else words.meanings
            return replace(words, many="rows and records", which="of all tables", meanings=meanings)
        return replace(words, one="row read", many="rows read", which="blank rows not counted")
    request = receipt.request
    if request is not None and (request.with_referring or request.archive):
        meant = "that are meant, or refer to such" if request.with_referring else "that are meant"
        copies = receipt.rows.inserted + receipt.rows.unchanged
        which = f"{meant}, and their copies" if copies else meant
        meanings = {**_ARCHIVED, **words.meanings} if request.archive else words.meanings
        return replace(words, one="record", many="records", which=which, meanings=meanings)
    if receipt.request is not None and receipt.request.where is None:
        return replace(words, one="record", many="records", which="all that there are")
    return words


def counted_as(receipt: Receipt) -> str:
    """What was counted, for the title of a picture: 124 rows read, 3 records of the run."""
    words = wording(receipt)
    if receipt.action is Action.COMPARE:
        first, second = receipt.tables[0].rows_before, receipt.rows.read
        return f"{counted(first, 'row')} in the first, {second:,} in the second"
    return (
        f"{receipt.rows.read:,} "
        + plural(receipt.rows.read, words.one, words.many)
        + (" of the run" if receipt.undoes else "")
    )


def heading(receipt: Receipt) -> tuple[str, str, str]:
    """How a heading goes on before the target: what was done, the rows, and the word between; empty where none is."""
    words = wording(receipt)
    head = words.heads.get(receipt.state, words.not_done)
    if receipt.state is State.PARTLY:
        head = f"Partly {next(iter(words.heads.values())).lower()}"
    if receipt.action is Action.COMPARE:
        return head, receipt.tables[0].target, words.between
    return (head, receipt.incoming, words.between) if words.between else (head, "", "")


def by_rows(receipt: Receipt) -> bool:
    """Whether the run had incoming rows, whose numbers mean something."""
    return receipt.request is None or receipt.request.keys is not None or receipt.action is Action.COMPARE


def statement(request: Request | None) -> str:
    """What was asked of records, in a line: honey_kg = honey_kg * 1.05, where apiary_code = 'L01'; empty of a load."""
    if request is None or request.action is Action.COMPARE:
        return ""
    if request.action is Action.EXTRACT and request.keys is not None:
        return f"by {request.keys}"
    if request.keys is not None:
        return f"named by the rows of {request.keys}"
    if request.action is Action.EXTRACT:
        return f"where {request.where}" if request.where else "every record"
    if request.action is Action.REMOVE:
        said = f"where {request.where}" if request.where else "every record"
        said += ", with all that refers to them" if request.with_referring else ""
        return f"{said}, archived in {' and '.join(request.archive.values())}" if request.archive else said
    if request.drops:
        return f"take away {' and '.join(request.drops)}"
    sets = ", ".join(f"{name} = {text}" for name, text in request.sets.items())
    return f"{sets}, {f'where {request.where}' if request.where else 'in every record'}"


def why_nothing(receipt: Receipt) -> str:
    """Why a run wrote nothing, as far as its counts tell."""
    if receipt.undoes:
        return "Nothing to put back: the records are as they were before the run."
    if receipt.request is None:
        return nothing_to_write(receipt.rows)
    if receipt.request.drops:
        return "No value was lost: the column held none."
    if not receipt.rows.read:
        return "Nothing to write: no record is meant."
    if receipt.action is Action.REMOVE:
        return "Nothing to write: no record that is meant can go."
    if not receipt.rows.rejected:
        return "Nothing to write: the records that meet the condition hold these values already."
    if not receipt.rows.unchanged:
        return "Nothing to write: no record that meets the condition can take its new value."
    return "Nothing to write: the records that meet the condition hold these values already, or can't take them."


def how_they_differ(receipt: Receipt) -> str:
    """Whether the two sides of a comparison are the same, in a sentence."""
    rows, (table,) = receipt.rows, receipt.tables
    if not table.rows_before and not rows.read:
        return "Neither of them has a row."
    if rows.rejected:
        said = f"{counted(rows.rejected, 'row')} of the second can't be compared"
        if not receipt.changed and not rows.unchanged:
            return f"{said[0].upper()}{said[1:]}, and no other has its key in the first."
        return f"They differ, and {said}." if receipt.changed else f"What can be compared is the same, but {said}."
    if not receipt.changed:
        again = f", but for {counted(rows.skipped, 'repeated row')} of the second" if rows.skipped else ""
        return f"They are the same{again}."
    return f"They differ in {counted(receipt.changed, 'record')}."


def closing(receipt: Receipt) -> str:
    """The last word on a run: what was written, or why nothing was."""
    if receipt.action is Action.COMPARE:
        return how_they_differ(receipt)
    if receipt.state is State.PREVIEWED:
        return "Nothing was written: this is a preview."
    if receipt.state is State.PARTLY:
        count = receipt.changed
        were = plural(count, "was", "were")
        return f"Only a part is there, as it was cut off: {counted(count, 'record')} {were} written."
    if not receipt.state.done:
        return "Nothing was written."
    if not receipt.lasts:
        return why_nothing(receipt)
    if not receipt.verified:
        return "Committed, but not verified: the target's own triggers made a difference (see the notes)."
    return f"Committed. {what_was_proved(receipt)}"


def what_was_proved(receipt: Receipt) -> str:
    """That what was written was read again, and that what was removed is gone."""
    rows = receipt.rows
    if receipt.request is not None and receipt.request.drops:
        (table,) = receipt.tables
        names = receipt.request.drops
        columns = f"{plural(len(names), 'column', 'columns')} {' and '.join(names)}"
        return f"The {columns} {plural(len(names), 'is', 'are')} gone, and all {table.rows_after:,} records are there."
    updated = rows.updated if receipt.undoes else sum(table.records_updated for table in receipt.tables)
    written, said = rows.inserted + updated, []
    if written:
        words = "the one written record reads" if written == 1 else f"all {written:,} written records read"
        said.append(f"{words} back equal")
    if rows.removed:
        said.append(f"{counted(rows.removed, 'removed record')} {plural(rows.removed, 'is', 'are')} gone")
    words = ", ".join(said)
    return f"{words[0].upper()}{words[1:]}."
