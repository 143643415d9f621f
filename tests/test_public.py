"""The front door: what it hands on, and what it costs."""

import ast
import json
import re
import subprocess
import sys
from functools import reduce
from importlib import import_module
from pathlib import Path

import pytest
from typer.testing import CliRunner

import amber_ruler as ar
from amber_ruler.cli.main import app

FORBIDDEN = ("pandas", "matplotlib", "duckdb", "typer", "scipy.stats", "rich", "polars", "pyarrow", "pyspark")


def loaded_after(code):
    """Modules in a fresh interpreter after running some code."""
    script = f"{code}\nimport sys, json; print(json.dumps(sorted(sys.modules)))"
    run = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    return set(json.loads(run.stdout))


def test_every_listed_name_resolves_and_the_list_is_sorted():
    """`__all__` is what there is."""
    assert ar.__all__ == sorted(ar.__all__)
    assert all(getattr(ar, name) is not None for name in ar.__all__)
    assert dir(ar) == ar.__all__
    with pytest.raises(AttributeError, match="nothing_of_the_kind"):
        _ = ar.nothing_of_the_kind


@pytest.mark.parametrize("module", ["measure", "plan", "adjust", "bayes", "sequential", "multiplicity", "effects"])
def test_each_part_lists_what_it_has(module):
    """The parts' own lists resolve, too."""
    part = getattr(ar, module)
    assert all(getattr(part, name) is not None for name in part.__all__)


@pytest.mark.parametrize(
    "code",
    [
        "import amber_ruler",
        "import amber_ruler as ar; ar.measure.means(ar.Summary(9, 1, 1, 'a'), ar.Summary(9, 2, 1, 'b')).to_dict()",
        "import amber_ruler as ar; ar.plan.TwoMeans().sample_size(effect=1); ar.sequential.boundaries(3)",
    ],
)
def test_the_core_loads_nothing_heavy(code):
    """Importing, measuring and planning load no dataframe, plotting, engine or command-line package."""
    assert not loaded_after(code) & set(FORBIDDEN)


def test_the_command_line_starts_without_the_engines():
    """Help needs neither dataframes nor an engine nor plots."""
    assert not loaded_after("import amber_ruler.cli") & {"pandas", "matplotlib", "duckdb", "scipy", "numpy"}


def test_errors_are_one_family_and_also_the_built_in_kind():
    """They can be caught as ours or as ValueError."""
    for name in ("InputError", "DataError", "DesignError", "ExperimentFileError"):
        assert issubclass(getattr(ar, name), (ar.AmberRulerError, ValueError))
        assert issubclass(getattr(ar, name), ValueError)
    with pytest.raises(ar.InputError) as caught:
        ar.measure.means([1, 2], [1, 3], alpha=2)
    assert (caught.value.name, caught.value.value) == ("alpha", 2.0)


def test_the_reference_lists_every_public_name():
    """A name that is not in the reference is not public, or the reference is behind."""
    reference = (Path(__file__).parents[1] / "docs" / "reference.md").read_text("utf-8")
    for module in ("", ".plan", ".measure", ".adjust", ".sequential", ".bayes", ".multiplicity", ".effects", ".tables"):
        part = import_module(f"amber_ruler{module}")
        missing = [n for n in part.__all__ if not n.startswith("_") and f"`{n}" not in reference]
        assert not missing, (module, missing)


def test_every_call_in_which_question_which_call_is_there():
    """The page names functions, methods and commands as they are."""
    page = (Path(__file__).parents[1] / "docs" / "questions.md").read_text("utf-8")
    rooms = {"ar": ar, "table": ar.table(ar.demo.path("travellers"))}
    calls = re.findall(r"`(ar|table)((?:\.\w+)+)\(", page)
    assert len(calls) > 40
    for room, dotted in calls:
        reduce(getattr, dotted[1:].split("."), rooms[room])
    commands = {line.split(" --")[0] for line in re.findall(r"\| `([a-z][^`(]*)` \|$", page, re.MULTILINE)}
    assert len(commands) > 25
    for line in commands:
        words = [word for word in line.split() if re.fullmatch(r"[a-z-]+", word)]
        assert CliRunner().invoke(app, [*words, "--help"]).exit_code == 0, line


def imports_of(path, modules):
    """Modules of the package that a file imports, late and type-only ones too."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("amber_ruler"):
            named = {f"{node.module}.{name.name}" for name in node.names}
            found |= (named & modules) or {node.module}
    return found


def reached(graph, start):
    """All that is imported, by whatever way."""
    found, open_ = set(), list(graph[start])
    while open_:
        name = open_.pop()
        if name not in found:
            found.add(name)
            open_ += graph[name]
    return found


def test_no_module_imports_itself_by_way_of_others():
    """Late and type-only imports counted: but results and their parts, and for now the designs of plans."""
    package = Path(ar.__file__).parent
    paths = {
        ".".join(("amber_ruler", *p.relative_to(package).with_suffix("").parts)).removesuffix(".__init__"): p
        for p in package.rglob("*.py")
    }
    graph = {name: imports_of(path, set(paths)) & set(paths) for name, path in paths.items()}
    circles = {name for name in graph if name in reached(graph, name)}
    unplanned = {name for name in circles if not name.startswith("amber_ruler.plan.")}
    assert unplanned == {"amber_ruler.results.measurement", "amber_ruler.results.parts"}
