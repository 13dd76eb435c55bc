"""The rules of the house, checked: who imports whom, what is public, what the documents promise."""

import ast
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest

import tidymerge
from tidymerge import errors
from tidymerge.core.expressions import FUNCTIONS
from tidymerge.job import file as job

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "tidymerge"
# What each part may import of our own and, for the core, of others'. Source: section 7 of the design.
OWN = {
    "core": {"model", "changes", "errors", "core", "receipt", "rules", "run"},
    "history": {"on_disk", "model", "changes", "errors", "core", "receipt", "run", "history"},
    # The database sources share their connections with the targets.
    "sources": {"ports", "model", "changes", "errors", "address", "core", "sources", "targets"},
    "targets": {"on_disk", "ports", "model", "changes", "errors", "address", "core", "sources", "targets"},
    "job": {"sources", "model", "changes", "errors", "core", "job", "rules"},
    "reports": {"model", "changes", "errors", "receipt", "reports", "address", "core", "run"},
}
CORE_MAY_USE = {"numpy", "pyarrow", "sqlglot"}


def imports(path):
    """The modules that a file imports, at the top or inside functions; not those for types only."""
    tree = ast.parse(path.read_text("utf-8"))
    for_types = {
        id(inner) for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test) for inner in ast.walk(node)
    }  # fmt: skip
    for node in ast.walk(tree):
        if id(node) in for_types:
            continue
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom):
            yield node.module if node.module != "tidymerge" else f"tidymerge.{node.names[0].name}"


@pytest.mark.parametrize("part", sorted(OWN))
def test_each_part_imports_only_what_it_may(part):
    for path in (SOURCE / part).rglob("*.py"):
        for name in imports(path):
            top, _, rest = name.partition(".")
            if top == "tidymerge":
                assert rest.partition(".")[0] in OWN[part], f"{path} imports {name}"
            elif part == "core":
                assert top in CORE_MAY_USE | set(sys.stdlib_module_names), f"{path} imports {name}"


def test_only_the_command_line_prints():
    for path in SOURCE.rglob("*.py"):
        if "cli" not in path.parts:
            calls = [node for node in ast.walk(ast.parse(path.read_text("utf-8"))) if isinstance(node, ast.Call)]
            assert not [call for call in calls if getattr(call.func, "id", "") == "print"], path


def test_the_public_names():
    assert sorted(tidymerge.__all__) == [
        "Job", "Limits", "Most", "ProofFailed", "Receipt", "SourceError", "Stopped", "TargetError", "TidyMergeError",
        "UsageError", "__version__", "load", "preview", "undo",
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
    from tidymerge.targets.sqlite.session import translated

    for said, kind in {
        "IO: Failed to step query: database is locked": errors.TargetLocked,
        "IO: attempt to write a readonly database": errors.TargetReadOnly,
        "IO: database or disk is full": errors.TargetFull,
        "IO: file is not a database": errors.TargetUnreadable,
        "INTERNAL: something never seen": errors.WriteRefused,
    }.items():
        error = translated(RuntimeError(said), Path("coop.db"))
        assert type(error) is kind
        assert "coop.db" in str(error)


def test_help_imports_nothing_heavy():
    """What it costs in time is measured in benchmarks/startup.py."""
    listed = "import sys; from tidymerge.cli import app; print(*sys.modules)"
    loaded = subprocess.run([sys.executable, "-c", listed], check=True, capture_output=True, text=True).stdout.split()
    assert not {"pyarrow", "numpy", "sqlglot", "openpyxl", "rich.console", "adbc_driver_manager", "pandas"} & set(
        loaded
    )


def test_the_documents_show_real_files_and_commands(run, folder):
    """The receipt in the documents has the keys of a real one; the commands of the README's tour run."""
    run("demo")
    receipt = json.loads(
        run("preview", "tidymerge-demo/week32.xlsx", "--into", "tidymerge-demo/coop.db#hives", "--json").out
    )
    page = (ROOT / "docs" / "receipt.md").read_text("utf-8")
    keys = {*receipt, *receipt["incoming"], *receipt["rows"], *receipt["tables"][0], *receipt["rejects"]}
    assert [key for key in sorted(keys) if f"`{key}`" not in page] == []
    tour = re.findall(r"^\$ tidymerge (.*)$", (ROOT / "README.md").read_text("utf-8"), re.MULTILINE)
    assert len(tour) >= 5
    for line in tour:
        ended = run(*line.replace("'", "").split())
        assert ended.status in (0, 3), f"{line}: {ended.err}"


def test_the_example_job_runs_and_the_references_have_every_word(run, folder):
    run("demo", "here")
    (folder / "here" / "week.toml").write_text((ROOT / "docs" / "examples" / "week.toml").read_text("utf-8"), "utf-8")
    ended = run("preview", "--job", "here/week.toml", "--json")
    assert ended.status == 3, ended.err
    assert ended.receipt["rows"]["inserted"] == 0  # the demo loaded them already
    page = (ROOT / "docs" / "job-file.md").read_text("utf-8")
    for part in (job.IncomingPart, job.TargetPart, job.ColumnPart, job.RulesPart, job.LimitsPart):
        for name, field in part.model_fields.items():
            assert f"`{field.alias or name}`" in page, name
    expressions = (ROOT / "docs" / "expressions.md").read_text("utf-8")
    assert [name for name in FUNCTIONS if f"`{name}" not in expressions] == []


def test_the_screenshots_that_the_readme_shows_are_there():
    shown = re.findall(r"docs/screenshots/[\w-]+\.png", (ROOT / "README.md").read_text("utf-8"))
    assert len(shown) >= 5
    assert all((ROOT / path).is_file() for path in shown)
