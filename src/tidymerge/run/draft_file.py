"""A job drafted from the rows and the table, and the file that it is written to."""

from pathlib import Path

from tidymerge.errors import BadOption
from tidymerge.job.reading import read_text
from tidymerge.model import ReadOptions
from tidymerge.on_disk import replacing
from tidymerge.run.draft import FORMAT, DraftForm, draft_job
from tidymerge.run.draft_tables import draft_tables
from tidymerge.run.outputs import Outputs
from tidymerge.run.pair_tables import is_whole

_UNWRITTEN = Path("job.toml")  # where a job would be that is only asked for: its addresses count from here


def drafted(incoming: str, into: str, out: Path | None, read: ReadOptions, header_row: int | None) -> DraftForm:
    """The job that was written to `out`, or found there to say all of it; without a file, only its text.

    Raises what opening either side raises, BadJob, and BadOption.
    """
    path = _UNWRITTEN if out is None else out
    if out is not None:
        Outputs(draft=out).check(incoming=[incoming], target=into)
    before = read_text(path) if out is not None and path.exists() else None
    if is_whole(incoming, into, sheets=True):
        if header_row is not None or read.cells is not None:
            raise BadOption("These are several sheets: the row of names, or a range, is said of one. Name it.")
        text, said = draft_tables(incoming, into, path, read)
    else:
        text, said = draft_job(incoming, into, path, before, read, header_row)
    written = out is not None and text != before
    if written:
        try:
            with replacing(path.resolve() if path.exists() else path) as new:
                new.write_text(text, encoding="utf-8")
        except OSError as error:
            raise BadOption(f"{path} can't be written: {error.strerror}.") from None
    return {"format": FORMAT, "file": str(path), "written": written, "job": text, "notes": list(said)}
