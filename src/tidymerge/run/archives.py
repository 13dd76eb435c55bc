"""Where copies of records that go are put: tables of the same database, and new files."""

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Self

from msgspec import Struct
from msgspec.structs import replace

from tidymerge.core.words import counted
from tidymerge.job.model import Removal, is_archive_file
from tidymerge.model import TableShape
from tidymerge.ports.target import Target
from tidymerge.run.archive import Archive, check_apart, decide_archive, opened_archives
from tidymerge.run.archive_file import check_files, copy_of
from tidymerge.run.decided import Decided


class Archives(Struct, frozen=True):
    """The archives of a removal by the tables whose records they take; their columns `stamps` get the time."""

    tables: Mapping[str, Archive]
    files: Mapping[str, str]
    stamps: tuple[str, ...]

    @classmethod
    def opened(cls, asked: Removal, target: Target, shape: TableShape, key: Sequence[str]) -> Self:
        """Those that are asked for, opened or made, before anything is read. Raises BadOption."""
        files = {table or shape.name: name for table, name in asked.archive.items() if is_archive_file(name)}
        check_files(list(files.values()))
        named = {table: name for table, name in asked.archive.items() if not is_archive_file(name)}
        tables = opened_archives(named, target, shape, key, asked.stamps, create=asked.create)
        return cls(tables, files, asked.stamps)

    def filled(self, decided: Decided, now: datetime) -> Decided:
        """The removal with copies of what goes."""
        removed = [one for one in decided.all if one.tally.removed]
        check_apart(decided.all, self.tables)
        unused = {*self.tables, *self.files} - {one.shape.name for one in removed}
        for name in unused & set(self.tables):
            if self.tables[name].made:
                self.tables[name].target.abolish()
        to_files = tuple(
            copy_of(one, self.files[one.shape.name], self.stamps, now)
            for one in removed
            if one.shape.name in self.files
        )
        copies = [
            decide_archive(one, self.tables[one.shape.name], now) for one in removed if one.shape.name in self.tables
        ]
        notes = [archive.note for name, archive in self.tables.items() if archive.made and name not in unused]
        notes += [f"No record of {name} goes, so none is copied." for name in sorted(unused)]
        notes += [f"{counted(copy.records.num_rows, 'record')} in the new file {copy.file}." for copy in to_files]
        full = replace(decided, beside=(*decided.beside, *copies), copies=to_files)
        return full.noting(*notes, last=True)
