"""The front door: what it hands on, and what it costs."""

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
