"""The rules of the house, checked: who imports whom, what is public, what the documents promise."""

import ast
import json
import re
import shlex
import subprocess
import sys
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import tidymerge
from tidymerge import errors
from tidymerge.core.expressions.compiler import FUNCTIONS
from tidymerge.job import file as job
from tidymerge.job.reading import parse_job

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "tidymerge"
# The rooms from the ground up: none imports one above it. Source: docs/architecture.md.
LAYERS = (
    "errors", "settings", "on_disk", "address", "model", "ports",
    "core.words", "core.naming", "core.tidy", "core.match", "core.expressions", "core.decide", "core.account",
    "core.undo", "core.infer", "core.warn", "core.explain",
    "formats", "databases", "services", "sources", "targets", "job", "history", "reports", "run", "api", "demo", "cli", "__init__",
    "__main__",
)  # fmt: skip
CORE_MAY_USE = {"msgspec", "numpy", "pyarrow", "sqlglot"}
MODULES = {".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__"): path for path in SOURCE.rglob("*.py")}  # fmt: skip


@cache
def nodes(path):
    """All nodes of a module: it is parsed once for all tests."""
    return tuple(ast.walk(ast.parse(path.read_text("utf-8"))))


@cache
def imports(path):
    """The modules that a file imports, at the top or inside functions; not those for types only."""
    return tuple(imported(path))


def imported(path):
    for_types = {
        id(inner) for node in nodes(path)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test) for inner in ast.walk(node)
    }  # fmt: skip
    for node in nodes(path):
        if id(node) in for_types:
            continue
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            for alias in node.names:
                whole = f"{node.module}.{alias.name}"
                yield whole if whole.removeprefix("tidymerge.") in MODULES else node.module


def own_imports():
    """Pairs of modules of ours: one, and one that it imports."""
    for module, path in MODULES.items():
        for name in imports(path):
            if name.startswith("tidymerge."):
                yield module, name.removeprefix("tidymerge.")


def layer(module):
    """The room that a module is in; `core` has several."""
    return ".".join(module.split(".")[: 2 if module.startswith("core.") else 1])


def no_room_imports_one_above_it():
    for module, imported in own_imports():
        if module != "core":  # which is only a name
            one, other = LAYERS.index(layer(module)), LAYERS.index(layer(imported))
            assert other <= one, f"{module} imports {imported}, which is above it"
    assert {layer(module) for module in MODULES} - {"core"} == set(LAYERS)


def packages_import_each_other_in_no_circle():
    graph = {}
    for module, imported in own_imports():
        one, other = (
            name if MODULES[name].name == "__init__.py" else name.rpartition(".")[0] for name in (module, imported)
        )
        if one != other and module != "__main__":  # the program itself, which is no part of the package's root
            graph.setdefault(one, set()).add(other)
    assert len(graph) > 20
    TopologicalSorter(graph).prepare()  # CycleError shows the circle


def the_core_is_pure():
    for path in (SOURCE / "core").rglob("*.py"):
        others = {name.partition(".")[0] for name in imports(path)} - {"tidymerge"}
        assert others <= CORE_MAY_USE | set(sys.stdlib_module_names), path
        assert not others & {"os", "socket", "subprocess", "pathlib", "io", "logging", "time"}, path


def rooms_are_small_enough_to_be_read():
    assert len({*SOURCE.glob("*.py")} - {SOURCE / "__main__.py"}) <= 5
    for path in SOURCE.rglob("*.py"):
        text = path.read_text("utf-8")
        assert text.count("\n") < 400, path
        for node in nodes(path):
            if isinstance(node, ast.FunctionDef):
                assert node.end_lineno - node.lineno < 50, f"{path} {node.name}"


def only_the_command_line_prints():
    for path in SOURCE.rglob("*.py"):
        if "cli" not in path.parts:
            calls = [node for node in nodes(path) if isinstance(node, ast.Call)]
            assert not [call for call in calls if getattr(call.func, "id", "") == "print"], path


def only_the_command_line_knows_its_options():
    for path in SOURCE.rglob("*.py"):
        if "cli" not in path.relative_to(SOURCE).parts[:1] and "demo" not in path.parts:
            texts = (n.value for n in nodes(path) if isinstance(n, ast.Constant))
            said = [text for text in texts if isinstance(text, str) and re.search(r"(?<![\w-])--[a-z]{2,}", text)]
            assert not said, f"{path}: {said}"


def test_the_source_keeps_its_rules():
    """One test, so that one worker parses the source."""
    for rule in (
        no_room_imports_one_above_it, packages_import_each_other_in_no_circle, the_core_is_pure,
        rooms_are_small_enough_to_be_read, only_the_command_line_prints, only_the_command_line_knows_its_options,
    ):  # fmt: skip
        rule()


def test_the_public_names():
    assert sorted(tidymerge.__all__) == [
        "ArrowTable", "Blanks", "Change", "ColumnRule", "CompareOptions", "Find", "Job", "Limits", "LoadOptions", "Most", "ProofFailed", "Receipt", "Removal", "Rules",
        "SourceError", "Stopped", "TablesJob", "TargetError", "TidyMergeError", "UsageError", "__version__", "change", "changes",
        "compare", "draft", "extract", "load", "look", "preview", "read_job", "receipt", "remove", "runs", "undo",
    ]  # fmt: skip
    assert all(getattr(tidymerge, name) for name in tidymerge.__all__)
    assert tidymerge.__version__ in (ROOT / "CHANGELOG.md").read_text("utf-8")
    assert f'version = "{tidymerge.__version__}"' in (ROOT / "pyproject.toml").read_text("utf-8")


def every_error(kind=errors.TidyMergeError):
    return [kind, *(found for sub in kind.__subclasses__() for found in every_error(sub))]


def test_every_error_is_in_the_tree_and_in_the_documents():
    page = (ROOT / "docs" / "errors.md").read_text("utf-8")
    families = {"TidyMergeError", "UsageError", "SourceError", "TargetError", "LogError"}
    public = [kind for kind in every_error() if kind.__module__ == errors.__name__]
    for kind in public:
        assert re.search(rf"\b{kind.__name__}\b", errors.__doc__), kind
        if kind.__name__ not in families:
            code = kind.code.fget(kind.__new__(kind))
            assert f"\n## {code}\n" in page, code
            assert f"Exit status {kind.exit_status}." in page.partition(f"\n## {code}\n")[2].partition("\n## ")[0], code
    assert len(re.findall(r"^## ", page, re.MULTILINE)) == len(public) - len(families)


def test_drivers_errors_have_a_place_and_an_unknown_one_is_still_a_sentence():
    from tidymerge.databases.contract.database import ConstraintBroken
    from tidymerge.databases.sqlite.session import translated

    for said, kind in {
        "IO: Failed to step query: database is locked": errors.TargetLocked,
        "IO: attempt to write a readonly database": errors.TargetReadOnly,
        "IO: database or disk is full": errors.TargetFull,
        "IO: file is not a database": errors.TargetUnreadable,
        "INTERNAL: something never seen": errors.WriteRefused,
        "INVALID_ARGUMENT: [SQLite] Failed to prepare query: no such column: disk full\nquery: is locked": errors.WriteRefused,
        "IO: Failed to step query: UNIQUE constraint failed: full.database is locked": ConstraintBroken,
    }.items():
        error = translated(RuntimeError(said), Path("coop.db"))
        assert type(error) is kind
        assert "coop.db" in str(error) or kind is ConstraintBroken


def test_help_imports_nothing_heavy():
    """What it costs in time is measured in benchmarks/startup.py."""
    listed = "import sys; from tidymerge.cli import app; print(*sys.modules)"
    loaded = subprocess.run([sys.executable, "-c", listed], check=True, capture_output=True, text=True).stdout.split()
    assert not {"pyarrow", "numpy", "sqlglot", "openpyxl", "rich.console", "adbc_driver_manager", "pandas"} & set(
        loaded
    )


def test_the_tour_of_the_readme_is_true(run, folder):
    """Its commands run one after the other as they stand there, and what they count is what the text says."""
    page = (ROOT / "README.md").read_text("utf-8")
    tour = page[page.index("## Five minutes") :]
    steps = [(shlex.split(line), tour[at:]) for at, line in _commands(tour)]
    assert len(steps) >= 7
    counts = {}
    for words, _ in steps:
        ended = run(*words)
        assert ended.status in (0, 3), f"{words}: {ended.err}"
        if words[0] in ("preview", "load"):
            counts.setdefault(words[0], []).append(_tally(ended.out))
    said = " ".join(tour.split())
    rows, first, again = counts["preview"][0], *counts["load"]
    assert (
        f"of {rows['read']} rows read, {rows['inserted']} would be inserted, {rows['updated']} updated in 12 fields, "
        f"{rows['unchanged']} are unchanged, {rows['skipped']} are totals and skipped, and {rows['rejected']} are rejected"
    ) in said
    assert first == rows
    assert f"all {first['inserted'] + first['updated']} written records" in said
    assert (
        f"{again['inserted']} rows are inserted, {again['updated']} updated and {again['unchanged']} unchanged" in said
    )
    undone = run("undo", json.loads(run("runs", "--json").out)["runs"][1]["run"], "--yes")
    assert f"{first['updated']} records have their earlier values again and {first['inserted']} are gone" in said
    assert f"{first['inserted']} removed records are gone" in undone.out
    assert run("demo", "--fresh", "tour").status == 2  # others' files are in it by now


def _commands(text):
    return [(found.start(), found[1]) for found in re.finditer(r"^\$ tidymerge (.*)$", text, re.MULTILINE)]


def _tally(shown):
    words = ("read", "inserted", "updated", "unchanged", "skipped", "rejected")
    return {word: int(re.search(rf"^ +(\d+)  (?:rows )?{word}\b", shown, re.MULTILINE)[1]) for word in words}


def test_the_examples_of_the_guide_run_as_written(run, folder):
    """Its Python, and each command that can stand alone with the demo's files."""
    run("demo", "--fresh", ".")
    guide = (ROOT / "docs" / "guide.md").read_text("utf-8")
    code = guide[guide.index("```python") + 10 :].partition("```")[0]
    ended = run(script=code)
    assert ended.status == 0, ended.err + ended.out
    text = guide.replace("\\\n", " ")
    for wanted in ("--add-column Weather --most", "--expect "):
        (line,) = [
            line
            for line in text.splitlines()
            if line.startswith("    tidymerge load") and wanted in line.replace("  ", "")
        ]
        ended = run(*shlex.split(line)[1:])
        assert ended.status == 3, ended.err


def test_the_receipt_in_the_documents_has_the_keys_of_a_real_one(run, folder):
    run("demo", "--fresh", "here")
    receipt = json.loads(run("preview", "here/week32.xlsx", "--into", "here/coop.db#hives", "--json").out)
    page = (ROOT / "docs" / "receipt.md").read_text("utf-8")
    keys = {*receipt, *receipt["incoming"], *receipt["rows"], *receipt["tables"][0], *receipt["rejects"]}
    assert [key for key in sorted(keys) if f"`{key}`" not in page] == []


def test_the_example_job_runs_and_the_references_have_every_word(run, folder):
    run("demo", "here")
    (folder / "here" / "week.toml").write_text((ROOT / "docs" / "examples" / "week.toml").read_text("utf-8"), "utf-8")
    ended = run("preview", "--job", "here/week.toml", "--json")
    assert ended.status == 3, ended.err
    assert ended.receipt["rows"]["inserted"] == 0  # the demo loaded them already
    page = (ROOT / "docs" / "job-file.md").read_text("utf-8")
    for part in (job.IncomingPart, job.TargetPart, job.TablePart, job.ColumnPart, job.RulesPart, job.LimitsPart):
        for name, field in part.model_fields.items():
            assert f"`{field.alias or name}`" in page, name
    expressions = (ROOT / "docs" / "expressions.md").read_text("utf-8")
    assert [name for name in FUNCTIONS if f"`{name}" not in expressions] == []


def test_what_stands_for_sql_is_what_a_job_takes():
    """Each setting in the table of docs/from-sql.md, in its place in a job file."""
    page = (ROOT / "docs" / "from-sql.md").read_text("utf-8")
    table = page.partition("| by hand | in a job |")[2].partition("\n\n")[0]
    said = [
        span for line in table.splitlines() for span in re.findall(r"`([a-z_]+ = [^`]+)`", line.rpartition(" | ")[2])
    ]
    assert len(said) >= 15
    for span in said:
        name = span.partition(" ")[0]
        places = {"incoming": job.IncomingPart, "rules": job.RulesPart, "columns.stock": job.ColumnPart}
        place = next(
            place
            for place, part in places.items()
            if name in {field.alias or own for own, field in part.model_fields.items()}
        )
        source = "" if name in ("compute", "stamp") or place != "columns.stock" else 'from = "Notes"\n'
        parse_job(f"[{place}]\n{source}{span}\n[target]\nat = 'coop.db#hives'\n", "job.toml").to_job()


def test_every_setting_is_in_the_documents_and_read_in_one_place():
    page = (ROOT / "docs" / "settings.md").read_text("utf-8")
    names = set(re.findall(r"TIDYMERGE_\w+", (SOURCE / "settings.py").read_text("utf-8")))
    assert names == set(re.findall(r"^\| `(TIDYMERGE_\w+)`", page, re.MULTILINE))
    for path in set(SOURCE.rglob("*.py")) - {SOURCE / "settings.py"}:
        assert not re.search(r"environ(\.get\(|\[)\W*TIDYMERGE_", path.read_text("utf-8")), path


def test_the_source_distribution_holds_what_the_tests_need():
    """`src` and the files that say what the package is are packed anyway."""
    held = (ROOT / "MANIFEST.in").read_text("utf-8").split()
    ours = {"CHANGELOG.md", "CONTRIBUTING.md", "docs", "tests", "benchmarks", "scripts", ".ci"}
    assert ours <= set(held)
    assert all((ROOT / name).exists() for name in ours)


def test_the_screenshots_that_the_readme_shows_are_there():
    shown = re.findall(r"docs/screenshots/[\w-]+\.png", (ROOT / "README.md").read_text("utf-8"))
    assert len(shown) >= 5
    assert all((ROOT / path).is_file() for path in shown)


def test_documents_have_short_lines_and_short_paragraphs():
    for path in [*(ROOT / "docs").glob("*.md"), ROOT / "README.md", ROOT / "CONTRIBUTING.md", ROOT / "CHANGELOG.md"]:
        outside = re.sub(r"^( *)```.*?^\1```", "", path.read_text("utf-8"), flags=re.DOTALL | re.MULTILINE)
        for block in re.split(r"\n\s*\n|\n(?=\s*(?:[*-]|\d+\.)\s)", outside):
            lines = block.strip("\n").splitlines()
            assert all(len(line) <= 120 for line in lines), f"{path.name}: {lines}"
            is_text = not re.match(r"\||#|    ", lines[0]) if lines else False
            assert not is_text or len(lines) <= 5, f"{path.name}: {lines}"


def test_words_that_a_second_language_reader_would_look_up_are_not_used():
    strange = r"\b(mend(s|ed|ing)?|heed(s|ed|ing)?|lest|hence|thereby|wherein|therein|whilst|amid|ere)\b|can't be had"
    paths = [*SOURCE.rglob("*.py"), *SOURCE.rglob("*.html"), *(ROOT / "docs").glob("*.md"), ROOT / "README.md"]
    for path in paths:
        found = re.search(strange, path.read_text("utf-8"), re.IGNORECASE)
        assert not found, f"{path}: {found}"
