"""Tables in memory, which tests of the core use: the contract, as far as tables without constraints can keep it."""

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path

from contract import TargetContract, without

import memory


@without(
    {
        "no constraints but a key and required columns": """
            foreign_keys_see_records_of_the_same_load an_old_offence_of_a_record_is_no_fault_of_the_row
            unique_columns_other_than_the_key what_cannot_be_moved_aside_is_said_before
            parents_and_children_move_together a_key_that_others_follow_may_change
            checks_judge_the_record_as_it_would_stand a_flawed_row_does_not_take_good_ones_of_its_key_along
            a_change_of_records a_removal_of_records records_that_are_on_no_row
            an_undo_that_would_leave_others_without_a_parent_names_them rules_that_would_be_broken_are_told_with_the_records
            what_changed_in_the_structure_since_the_last_run_is_said""",
        "nothing that numbers records": "rows_are_appended_and_exactly_those_go_again rows_of_one_key_are_all_kept",
        "no triggers, views or indexes": """
            what_only_the_database_can_say_is_narrowed_down_to_the_rows who_is_refused_late_takes_the_children_along
            a_trigger_that_changes_rows_on_its_own_rolls_the_load_back a_trigger_that_is_trusted_does_not_disturb_the_log
            an_added_column_that_something_needs_by_now_stays_after_the_undo
            a_column_of_which_another_is_computed_does_not_go what_needs_a_column_is_named_and_nothing_is_dropped""",
        "no other tables in one transaction": """
            related_tables_are_loaded_in_one_run_with_ids_that_the_database_gives one_stop_stops_all_tables
            records_of_all_tables_go_after_what_refers_to_them one_wide_sheet_feeds_several_tables
            a_tree_of_records_goes_with_its_root_and_comes_back records_that_go_are_archived_first
            an_archive_is_made_like_the_table_and_goes_with_the_undo""",
        "no SQL": """
            one_update_for_all_sets_of_changed_columns_touches_nothing_else a_table_is_made_and_goes_with_the_undo
            sides_are_compared_as_the_table_compares""",
        "no bytes": "keys_of_bytes_are_undone",
    }
)
class TestMemory(TargetContract):
    """Scripts and queries run on a copy in SQLite."""

    def make(self, folder: Path, script: str) -> None:
        with self.copy(folder) as connection:
            connection.executescript(script)
            memory.DATABASES.pop((folder / "coop.memory").resolve(), None)
            for (name,) in connection.execute("SELECT name FROM sqlite_schema WHERE type = 'table'").fetchall():
                columns = {row[1]: declaration(row) for row in connection.execute(f'PRAGMA table_info("{name}")')}
                memory.make(
                    folder / "coop.memory", name, columns, connection.execute(f'SELECT * FROM "{name}"').fetchall()
                )

    @contextmanager
    def copy(self, folder: Path) -> Iterator[sqlite3.Connection]:
        with closing(sqlite3.connect(":memory:")) as connection:
            for name, table in memory.DATABASES.get((folder / "coop.memory").resolve(), {}).items():
                shape, defaults = table.shape, table.defaults
                columns = [
                    f'"{c.name}" {memory.declaration(c, defaults.get(c.name), key=False)}' for c in shape.columns
                ]
                key = [f"PRIMARY KEY ({', '.join(shape.primary_key)})"] if shape.primary_key else []
                connection.execute(f'CREATE TABLE "{name}" ({", ".join(columns + key)})')
                marks = ", ".join("?" * len(table.shape.columns))
                rows = [[memory.text_of(value) for value in row] for row in table.rows]
                connection.executemany(f'INSERT INTO "{name}" VALUES ({marks})', rows)
            yield connection

    def address(self, folder: Path, table: str) -> str:
        return f"{folder / 'coop.memory'}#{table}"

    def rows(self, folder: Path, query: str) -> list[tuple]:
        with self.copy(folder) as connection:
            return connection.execute(query).fetchall()

    def unchecked(self, schema: str, rows: str) -> str:
        return f"PRAGMA foreign_keys = OFF; PRAGMA ignore_check_constraints = ON; {schema}; {rows};"


def declaration(row: tuple) -> str:
    """A column of SQLite as it was declared."""
    _, _, kind, required, default, key = row
    rest = [" NOT NULL"] * required + [f" DEFAULT {default}"] * bool(default) + [" PRIMARY KEY"] * bool(key)
    return kind + "".join(rest)
