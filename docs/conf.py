"""The pages as a site, with the reference from the docstrings.

Run with: pip install -e ".[docs]" && sphinx-build -W docs site
"""

from __future__ import annotations

import sys
from importlib import import_module
from importlib.metadata import version as version_of
from pathlib import Path
from types import ModuleType

from amber_ruler import __all__ as front

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))
SECTIONS = import_module("build").SECTIONS

project = "Amber Ruler"
author = copyright = "the Amber Ruler developers"  # noqa: A001 - the site generator's own name
version = release = version_of("amber-ruler")
extensions = [
    "myst_parser",
    "sphinx.ext.autodoc",
    "sphinx.ext.autosummary",
    "numpydoc",
    "matplotlib.sphinxext.plot_directive",
]
exclude_patterns = ["build.py", "run.py", "CONTRIBUTING.md"]
html_theme = "alabaster"
html_theme_options = {
    "description": "Plan a test, check its data, measure the difference, decide.",
    "font_family": "Segoe UI, Helvetica Neue, Arial, DejaVu Sans, sans-serif",
    "head_font_family": "Segoe UI, Helvetica Neue, Arial, DejaVu Sans, sans-serif",
    "link": "#8a5a00",
    "page_width": "74rem",
    "body_max_width": "64rem",
    "sidebar_width": "15rem",
    "code_font_size": "0.85em",
    "fixed_sidebar": True,
}
html_show_sphinx = False
myst_heading_anchors = 3
autodoc_typehints = "none"  # the docstrings say what is taken, in words
numpydoc_show_class_members = False
autosummary_generate = True
suppress_warnings = ["ref.python"]  # a name that is public in two places is found in either
plot_html_show_formats = plot_html_show_source_link = False
plot_formats = [("svg", 100)]
plot_pre_code = 'import amber_ruler as ar\nfrom matplotlib import style\nstyle.use("amber_ruler.report.amber")'


def _reference() -> None:
    """A page for each room, with a page for each of its names."""
    folder = HERE / "api"
    folder.mkdir(exist_ok=True)
    rooms = {"amber_ruler": [n for n in front if n[0].isupper() or n == "table"]}
    rooms |= {f"amber_ruler.{room}": _own(import_module(f"amber_ruler.{room}")) for room in SECTIONS}
    for room, names in rooms.items():
        lines = [
            room,
            "=" * len(room),
            "",
            f".. currentmodule:: {room}",
            "",
            ".. autosummary::",
            "   :toctree: names",
            "",
        ]
        _write(folder / f"{room}.rst", "\n".join([*lines, *(f"   {name}" for name in names), ""]))
    listed = "\n".join(f"   {room}" for room in rooms)
    _write(folder / "index.rst", f"Reference by room\n=================\n\n.. toctree::\n   :maxdepth: 1\n\n{listed}\n")


def _own(room: ModuleType) -> list[str]:
    """The names of a room that are not at the front door too: each has one page."""
    return [name for name in room.__all__ if name not in front]


def _write(path: Path, text: str) -> None:
    """Write a page, unless it stands there already: what is unchanged is not built again."""
    if not path.exists() or path.read_text("utf-8") != text:
        path.write_text(text, encoding="utf-8")


_reference()  # before the generator looks which pages there are
