"""What every database must do with several related tables in one run."""

from pathlib import Path

import pytest

import tidymerge
from conftest import NO_LIMITS, text_file

KEEPERS = [
    ["Name", "Email", "Mentor"],
    ["Zoe", "zoe@x", "yan@x"],  # both are new, and refer to each other
    ["Yan", "yan@x", "ZOE@x"],
    ["Alma B.", "alma@x", ""],
    ["Bad", "bad@x", "nobody@x"],
    ["Child", "child@x", "bad@x"],
]
HIVES = [
    ["Code", "Keeper", "Kg"],
    ["L1", "zoe@x", "2.5"],  # given to another keeper, who is new
    ["L3", "yan@x", "3"],
    ["L4", "alma@x", "4"],
    ["L5", "bad@x", "5"],
    ["L6", "child@x", "6"],
    ["L7", "yan@x", "much"],
]
SEEN = [["Hive", "On", "By"], ["L3", "1", "zoe@x"], ["L1", "1", ""], ["L7", "1", "alma@x"], ["L3", "2", "child@x"]]


class RelatedContract:
    """A family of keepers, hives and visits: ids that the database gives, keys of texts, a table within itself."""

    numbered: str  # the declaration of a column "id" that the database numbers
    folding = "VARCHAR(20) COLLATE NOCASE"  # a type of texts that are equal in any letter case

    def family(self, folder: Path) -> str:
        """Tables with some records, three sheets, and the job that loads them; its path."""
        self.make(folder, f"CREATE TABLE keeper ({self.numbered}, name VARCHAR(20) NOT NULL, email {self.folding} NOT NULL UNIQUE, mentor INTEGER REFERENCES keeper (id)); "
            "CREATE TABLE hive (code VARCHAR(9) PRIMARY KEY, keeper INTEGER NOT NULL REFERENCES keeper (id), kg DECIMAL(6, 2)); "
            f"CREATE TABLE seen ({self.numbered}, hive VARCHAR(9) NOT NULL REFERENCES hive (code), day INTEGER NOT NULL, by_keeper INTEGER REFERENCES keeper (id), UNIQUE (hive, day)); "
            "INSERT INTO keeper (name, email) VALUES ('Alma', 'alma@x'), ('Old', 'old@x'); "
            "INSERT INTO hive VALUES ('L1', 1, 1), ('L2', 2, 2); INSERT INTO seen (hive, day, by_keeper) VALUES ('L2', 1, 2)")  # fmt: skip
        for name, sheet in (("keepers", KEEPERS), ("hives", HIVES), ("seen", SEEN)):
            text_file(folder / f"{name}.csv", sheet)

        def find(source: str) -> str:
            return f'{{ from = "{source}", find = {{ in = "keeper", where = "email", take = "id" }} }}'

        (folder / "family.toml").write_text(f"""
[[table]]
rows = "seen.csv"
at = "{self.address(folder, "seen")}"
key = ["hive", "day"]
[table.columns]
hive = "Hive"
day = "On"
by_keeper = {find("By")}
[[table]]
rows = "hives.csv"
at = "{self.address(folder, "hive")}"
[table.columns]
code = "Code"
keeper = {find("Keeper")}
kg = "Kg"
[[table]]
rows = "keepers.csv"
at = "{self.address(folder, "keeper")}"
key = "email"
[table.columns]
name = "Name"
email = "Email"
mentor = {find("Mentor")}
""")
        return str(folder / "family.toml")

    def held(self, folder: Path) -> dict[str, list[tuple]]:
        return {
            name: [tuple(map(str, row)) for row in self.rows(folder, f"SELECT * FROM {name} ORDER BY 1")]
            for name in ("keeper", "hive", "seen")
        }

    def told(self, folder: Path) -> tuple[list[tuple], list[tuple], list[tuple]]:
        """The same by names: who mentors whom, whose hives, who saw them."""
        return (
            self.rows(folder, "SELECT k.name, m.name FROM keeper k LEFT JOIN keeper m ON m.id = k.mentor ORDER BY k.name"),
            self.rows(folder, "SELECT h.code, k.name FROM hive h JOIN keeper k ON k.id = h.keeper ORDER BY h.code"),
            self.rows(folder, "SELECT s.hive, s.day, k.name FROM seen s LEFT JOIN keeper k ON k.id = s.by_keeper ORDER BY s.hive, s.day"),
        )  # fmt: skip

    def test_related_tables_are_loaded_in_one_run_with_ids_that_the_database_gives(self, folder):
        job = self.family(folder)
        start = self.held(folder)
        preview = tidymerge.preview(job=job)
        assert self.held(folder) == start
        done = tidymerge.load(
            job=job, limits=NO_LIMITS, expect=preview.fingerprint, accept_warnings=True, rejects=False
        )
        counts = {table.called: table.rows for table in done.tables}
        assert [table.rows for table in preview.tables] == [table.rows for table in done.tables]
        assert list(counts) == ["keeper", "hive", "seen"], done.rejects
        found = [(one.inserted, one.updated, one.rejected) for one in counts.values()]
        assert found == [(2, 1, 2), (2, 1, 3), (2, 0, 2)], done.rejects
        reasons = {(cell.origin, cell.row): cell.reason for cell in done.rejects.first}
        assert self.told(folder) == (
            [("Alma B.", None), ("Old", None), ("Yan", "Zoe"), ("Zoe", "Yan")],
            [("L1", "Zoe"), ("L2", "Old"), ("L3", "Yan"), ("L4", "Alma B.")],
            [("L1", 1, None), ("L2", 1, "Old"), ("L3", 1, "Zoe")],
        )
        assert sorted(reasons.values()) == ["its parent was rejected"] * 5 + ["no such record"] + ["not a number"]
        loaded = self.held(folder)
        again = tidymerge.load(job=job, limits=NO_LIMITS, rejects=False)
        assert (again.changed, self.held(folder)) == (0, loaded)
        back = tidymerge.undo(done.run)
        assert self.held(folder) == start
        tidymerge.undo(back.run)
        assert self.held(folder) == loaded

    @pytest.mark.core
    def test_who_is_refused_late_takes_the_children_along(self, folder):
        job = self.family(folder)
        self.make(folder, self.refusing_trigger("keeper", "NEW.name = 'Zoe'"))
        start = self.held(folder)
        done = tidymerge.load(job=job, limits=NO_LIMITS, accept_warnings=True, rejects=False)
        assert self.told(folder)[1] == [("L1", "Alma B."), ("L2", "Old"), ("L4", "Alma B.")]
        assert {name for name, _ in self.told(folder)[0]} == {"Alma B.", "Old"}
        assert done.verified
        tidymerge.undo(done.run)
        assert self.held(folder) == start

    @pytest.mark.core
    def test_one_stop_stops_all_tables(self, folder):
        job = self.family(folder)
        start = self.held(folder)
        with pytest.raises(tidymerge.Stopped, match="rejected and the load is strict"):
            tidymerge.load(job=job, limits=NO_LIMITS, strict=True, accept_warnings=True)
        with pytest.raises(tidymerge.Stopped, match="fingerprint"):
            tidymerge.load(job=job, limits=NO_LIMITS, expect="0" * 16, accept_warnings=True)
        assert self.held(folder) == start

    @pytest.mark.core
    def test_records_of_all_tables_go_after_what_refers_to_them(self, folder):
        job = Path(self.family(folder))
        text_file(
            folder / "keepers.csv",
            [["Name", "Email", "Mentor", "Do"], ["Zoe", "zoe@x", "", "come"], ["", "old@x", "", "go"]],
        )
        text_file(
            folder / "hives.csv",
            [
                ["Code", "Keeper", "Kg", "Do"],
                ["L9", "zoe@x", "1", "come"],
                ["L2", "", "", "go"],
                ["L1", "zoe@x", "4", "stay"],
            ],
        )
        text_file(
            folder / "seen.csv", [["Hive", "On", "By", "Do"], ["L2", "1", "", "go"], ["L9", "1", "zoe@x", "come"]]
        )
        rules = '[table.rules]\ninstruction = { column = "Do", values = { come = "insert", go = "remove", stay = "update" } }\n[table.columns]'
        job.write_text(job.read_text().replace("[table.columns]", rules))
        start = self.held(folder)
        preview = tidymerge.preview(job=job)
        done = tidymerge.load(job=job, limits=NO_LIMITS, accept_warnings=True, expect=preview.fingerprint)
        assert [(one.rows.inserted, one.rows.removed, one.rows.rejected) for one in done.tables] == [(1, 1, 0)] * 3
        assert self.told(folder) == (
            [("Alma", None), ("Zoe", None)], [("L1", "Zoe"), ("L9", "Zoe")], [("L9", 1, "Zoe")],
        )  # fmt: skip
        back = tidymerge.undo(done.run)
        assert self.held(folder) == start
        # A parent table of which records only go, beside a child that looks up in it.
        text_file(folder / "keepers.csv", [["Name", "Email", "Mentor", "Do"], ["", "old@x", "", "go"]])
        text_file(
            folder / "hives.csv", [["Code", "Keeper", "Kg", "Do"], ["L9", "alma@x", "1", "come"], ["L2", "", "", "go"]]
        )
        text_file(folder / "seen.csv", [["Hive", "On", "By", "Do"], ["L2", "1", "", "go"]])
        only = tidymerge.load(job=job, limits=NO_LIMITS, accept_warnings=True)
        assert self.told(folder)[1] == [("L1", "Alma"), ("L9", "Alma")]
        tidymerge.undo(only.run)
        assert self.held(folder) == start
        tidymerge.undo(back.run)
        assert [name for name, _ in self.told(folder)[0]] == ["Alma", "Zoe"]

    @pytest.mark.core
    def test_one_wide_sheet_feeds_several_tables(self, folder):
        self.family(folder)
        text_file(folder / "wide.csv", [
            ["Keeper", "Email", "Hive", "Kg"], ["Zoe", "zoe@x", "L3", "3"], ["Zoe", "ZOE@x", "L4", "4"], ["Yan", "yan@x", "L5", "5"],
            ["Yan B.", "yan@x", "L6", "6"], ["Old", "old@x", "", ""], ["", "", "L1", "9"], ["", "alma@x", "", "7"], ["Kim", "", "L8", "8"],
        ])  # fmt: skip
        (folder / "wide.toml").write_text(f"""
[incoming]
at = "wide.csv"
[[table]]
at = "{self.address(folder, "keeper")}"
key = "email"
columns = {{ name = "Keeper", email = "Email" }}
[[table]]
at = "{self.address(folder, "hive")}"
columns = {{ code = "Hive", kg = "Kg", keeper = {{ from = "Email", find = {{ in = "keeper", where = "email", take = "id" }} }} }}
""")
        done = tidymerge.load(
            job=folder / "wide.toml", limits=NO_LIMITS, accept_warnings=True, rejects=folder / "r.csv"
        )
        assert self.told(folder)[:2] == (
            [("Alma", None), ("Old", None), ("Zoe", None)],
            [("L1", "Alma"), ("L2", "Old"), ("L3", "Zoe"), ("L4", "Zoe")],
        )
        said = {(cell.origin.partition(":")[0], cell.row): (cell.reason, cell.value) for cell in done.rejects.first}
        assert said == {
            ("keeper", 4): ("same key twice", "yan@x (row 5 says otherwise)"), ("keeper", 5): ("same key twice", "yan@x (row 4 says otherwise)"),
            ("keeper", 9): ("blank key", None), ("hive", 4): ("its parent was rejected", "row 4"), ("hive", 5): ("its parent was rejected", "row 4"),
            ("hive", 8): ("blank key", None), ("hive", 9): ("blank not allowed", None),
        }, said  # fmt: skip
        # Corrected in their file, they come back by the same job, each to its table.
        lines = (folder / "r.csv").read_text("utf-8-sig").replace("Yan B.", "Yan").replace("Kim,,", "Kim,kim@x,")
        (folder / "r.csv").write_text(lines, "utf-8")
        back = tidymerge.load("r.csv", job=folder / "wide.toml", limits=NO_LIMITS, accept_warnings=True, rejects=False)
        assert [(table.called, table.rows.inserted, table.rows.rejected) for table in back.tables] == [
            ("keeper", 2, 0),
            ("hive", 3, 1),
        ]
        assert self.told(folder)[1][-3:] == [("L5", "Yan"), ("L6", "Yan"), ("L8", "Kim")]
