"""What changed since an earlier reading, where a service tells that: delta links (OData Protocol 4.01, 11.3).

What such a link gives of a changed record may be only what changed in it. So it tells which records these are, and they
are read as they stand now.
"""

from collections.abc import Sequence
from urllib.parse import unquote

from msgspec import Struct

from tidymerge.core.words import counted, plural
from tidymerge.model import Existing, TargetColumn
from tidymerge.model.existing import put_together
from tidymerge.services.odata.columns import table_of
from tidymerge.services.odata.reading import WORTH_ALL, Records, Rows, said
from tidymerge.services.odata.session import LinkGone

_TRACKED = "odata.track-changes"


class Tracked(Struct, frozen=True):
    """The records that were read, the link by which the next reading goes on, and what is worth saying."""

    records: Existing
    onward: str | None
    notes: tuple[str, ...]


def tracked(records: Records, columns: Sequence[TargetColumn], link: str | None) -> Tracked:
    """The records that changed since a link was given; all of them without one, or where the service can't tell.

    A link that is '' asks for all. Raises TargetUnreadable.
    """
    if not link:
        return _all(records, columns, "no run before is known" if link is None else "it was asked to start anew")
    host = records.session.host
    try:
        rows, removed, onward = _since(records, link)
    except LinkGone:
        return _all(records, columns, f"{host} no longer knows what changed since the run before")
    shape = records.about.shape
    keys, _ = table_of(rows, [shape.column(name).as_stored() for name in shape.primary_key])
    if any(keys[name].null_count for name in keys.column_names):
        return _all(records, columns, f"{host} does not give the keys of what changed")
    keys = keys.group_by(keys.column_names).aggregate([])  # one that changed again may be there twice
    if keys.num_rows > records.count() * WORTH_ALL:
        return _all(records, columns, f"{counted(keys.num_rows, 'record')} of them changed since the run before")
    found = [records.existing([], columns, complete=False)]
    if keys.num_rows:
        found.append(records.of_keys(columns, shape.primary_key, keys))
    notes = [f"Only what changed since the run before is read: {counted(keys.num_rows, 'record')}."]
    if removed:
        went = plural(removed, "was", "were")
        notes.append(f"{counted(removed, 'record')} {went} removed from the list since then; a load removes nothing.")
    return Tracked(put_together(found), *_kept(records, onward, notes))


def _since(records: Records, link: str) -> tuple[Rows, int, str | None]:
    """What a link tells: the records that changed, how many went, and the next link."""
    rows: Rows = []
    removed, onward = 0, None
    for answer in records.answers(link):
        for row in answer["value"]:
            context = said(row, "context") or ""
            if context.endswith("/$deletedEntity") or "@removed" in row or "@odata.removed" in row:
                removed += 1
            elif not context.endswith(("/$link", "/$deletedLink")):
                rows.append(row)
        onward = said(answer, "deltaLink")
    return rows, removed, onward


def _all(records: Records, columns: Sequence[TargetColumn], why: str) -> Tracked:
    """All records, and the link to go on from."""
    found = [records.existing([], columns, complete=False)]
    onward = None
    for answer in records.answers(records.asked(columns), wish=_TRACKED):
        found.append(records.existing(answer["value"], columns, complete=False))
        onward = said(answer, "deltaLink")
    return Tracked(put_together(found), *_kept(records, onward, [f"All records are read, as {why}."]))


def _kept(records: Records, onward: str | None, notes: list[str]) -> tuple[str | None, tuple[str, ...]]:
    """The link, if it is one that may be kept; and what is said."""
    host = records.session.host
    if onward is None:
        notes.append(f"{host} does not say from where to go on, so the next run reads these records again, too.")
    elif any(records.session.hide(text) != text for text in (onward, unquote(onward))):
        notes.append(
            f"The link that {host} gives to go on from holds a secret. So it is not kept, and the next run reads these "
            "records again, too."
        )
        onward = None
    else:
        records.session.url(onward)
    return onward, tuple(notes)
