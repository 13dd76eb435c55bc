"""Files beside a run: the rejected rows, the sender's copy, what an undo can't put back."""

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from msgspec import Struct

from tidymerge.errors import ServerAway
from tidymerge.job.model import Job
from tidymerge.model.run import Run
from tidymerge.on_disk import Placed
from tidymerge.run.archive_file import save as save_copy
from tidymerge.run.decided import Decided
from tidymerge.run.outputs import Outputs
from tidymerge.run.report import Clock, save_clashes, save_conflicts, save_marked, save_rejects


class Saved(Struct, frozen=True):
    """Files written beside a run: that of the rows that were not loaded, all of them, and what is worth noting."""

    rejects: Path | None = None
    files: tuple[Placed, ...] = ()
    notes: tuple[str, ...] = ()

    def keep(self) -> None:
        """Let them stay, whatever was in their places before."""
        for file in self.files:
            with suppress(OSError):  # the run is done: a file that is left over is no reason to fail
                file.keep()

    @contextmanager
    def with_the_run(self) -> Iterator[None]:
        """Keep the files if what happens inside is done, take them back if not."""
        try:
            yield
        except ServerAway:
            self.keep()  # the commit may have lasted: then its rejects are wanted
            raise
        except BaseException:
            for file in self.files:
                file.back()
            raise
        self.keep()


def save_of_load(decided: Decided, job: Job, clock: Clock, outputs: Outputs) -> Saved:
    """Write the rejects, if there are any or they were asked for, and the sender's copy."""
    files: list[Placed] = []
    notes, rejects = [], None
    try:
        files.extend(save_copy(copy) for copy in decided.copies)
        wanted = decided.total.rejected or not outputs.only_rejected
        asked = outputs.rejects is not None and wanted
        if asked or (decided.total.rejected and outputs.save_rejects and job.save_rejects):
            files.append(save_rejects(decided, outputs.rejects, job.incoming[0]))
            rejects = files[-1].path
        if outputs.conflicts is not None:
            files.append(save_clashes(decided, outputs.conflicts))
        if outputs.marked is not None and wanted:
            file, note = save_marked(decided, outputs.marked, clock, preview=False)
            files.append(file)
            notes += [note] if note else []
    except BaseException:
        for file in files:
            file.back()
        raise
    return Saved(rejects, tuple(files), tuple(notes))


def save_of_records(decided: Decided, outputs: Outputs) -> Saved:
    """Write the records that were rejected, if that was asked for, and copies of those that go to files."""
    files: list[Placed] = []
    try:
        files.extend(save_copy(copy) for copy in decided.copies)
        if outputs.rejects is not None:
            files.append(save_rejects(decided, outputs.rejects, ""))
    except BaseException:
        for file in files:
            file.back()
        raise
    return Saved(outputs.rejects, tuple(files))


def save_of_undo(decided: Decided, undone: Run, outputs: Outputs) -> Saved:
    """Write what can't be put back, if that was asked for."""
    if outputs.conflicts is None:
        return Saved()
    return Saved(outputs.conflicts, (save_conflicts(decided, undone.key, outputs.conflicts),))
