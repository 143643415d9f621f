"""The examples run, and the README shows what the program really prints."""

import re
import runpy
from pathlib import Path

import pytest
from typer.testing import CliRunner

from amber_ruler.cli.main import app

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("example", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.stem)
def test_every_example_runs(example, capsys, monkeypatch, tmp_path):
    """Each prints its answers and no warning."""
    monkeypatch.chdir(tmp_path)
    runpy.run_path(str(example), run_name="__main__")
    out = capsys.readouterr().out
    assert any(word in out for word in ("against", "comparisons", "in total", "drives the test"))


def test_the_readme_shows_the_real_output_of_the_demo(monkeypatch):
    """Every line of the README's output block is a line of the demo, in that order."""
    readme = (ROOT / "README.md").read_text("utf-8")
    (block,) = re.findall(r"```text\n(3 · Measure.*?)```", readme, re.DOTALL)
    monkeypatch.setenv("COLUMNS", "80")
    out = CliRunner().invoke(app, ["demo"], catch_exceptions=False).output
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


def test_the_python_of_the_guide_runs_from_first_to_last(capsys, monkeypatch, tmp_path):
    """All blocks of the guide in their order, as a reader would type them."""
    guide = (ROOT / "docs" / "guide.md").read_text("utf-8")
    code = "\n".join(re.findall(r"```python\n(.*?)```", guide, re.DOTALL))
    monkeypatch.chdir(tmp_path)  # it writes files
    exec(compile(code, "guide.md", "exec"), {})  # noqa: S102 - our own guide
    assert "in total" in capsys.readouterr().out


def test_every_screenshot_is_linked():
    """Pictures in the documentation can be reached."""
    text = "".join(p.read_text("utf-8") for p in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
    for picture in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert picture.name in text
