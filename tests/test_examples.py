"""The examples run, and the README shows what the program really prints."""

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def python(*args):
    environment = {**os.environ, "COLUMNS": "80", "PYTHONIOENCODING": "utf-8"}
    done = subprocess.run(
        [sys.executable, *args], capture_output=True, encoding="utf-8", check=False, env=environment, cwd=ROOT
    )
    assert done.returncode == 0, done.stderr
    return done.stdout


@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.stem)
def test_every_example_runs(example):
    """Each prints its answers and no warning."""
    out = python("-W", "error", str(example))
    assert any(word in out for word in ("against", "comparisons", "in total"))


def test_the_readme_shows_the_real_output_of_the_demo():
    """Every line of the README's output block is a line of the demo, in that order."""
    readme = (ROOT / "README.md").read_text("utf-8")
    (block,) = re.findall(r"```text\n(3 · Measure.*?)```", readme, re.DOTALL)
    out = python("-c", "import sys; sys.argv = ['amber-ruler', 'demo']; from amber_ruler.cli import main; main()")
    assert block.strip() in out


def test_the_python_of_the_readme_runs_and_prints_what_it_says():
    """The README's Python block is run; its commented outputs are what comes back."""
    readme = (ROOT / "README.md").read_text("utf-8")
    (block,) = re.findall(r"```python\n(.*?)```", readme, re.DOTALL)
    names = {}
    for line in block.splitlines():
        code, _, expected = line.partition("  # ")
        if expected:
            assert repr(eval(code, names)) == expected  # noqa: S307 - our own README
        else:
            exec(line, names)  # noqa: S102 - our own README


def test_the_python_of_the_guide_runs_from_first_to_last():
    """All blocks of the guide in their order, as a reader would type them."""
    guide = (ROOT / "docs" / "guide.md").read_text("utf-8")
    code = "\n".join(re.findall(r"```python\n(.*?)```", guide, re.DOTALL))
    assert "in total" in python("-c", "import matplotlib; matplotlib.use('Agg')\n" + code)


def test_every_screenshot_is_linked():
    """Pictures in the documentation can be reached."""
    text = "".join(p.read_text("utf-8") for p in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert picture.name in text
