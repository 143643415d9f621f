"""Drawing results: text, JSON, figures. All of it only reads."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

    from amber_ruler.results import Result

__all__ = ["figure", "frame", "html", "sentence", "text", "view_of"]


def view_of(result: Result) -> Any:
    """Return the module that knows how a result of this kind is laid out."""
    return import_module(f"amber_ruler.report.views.{result.kind}")


def text(result: Result, *, width: int | None = None, colour: bool = False, ascii_only: bool | None = None) -> str:
    """Draw a result as text.

    Parameters
    ----------
    result : Result
    width : int, optional
        Columns; the terminal's if not given, 80 where there is none.
    colour : bool
        Whether to write terminal colours.
    ascii_only : bool, optional
        Whether to keep to ASCII; if not given, as the standard output needs.
    """
    from amber_ruler.report.terminal import draw

    return draw(view_of(result).layout(result), width=width, colour=colour, ascii_only=ascii_only)


def sentence(result: Result) -> str:
    """Say a result in one plain sentence."""
    said: str = view_of(result).sentence(result)
    return said


def frame(result: Result) -> pd.DataFrame:
    """Return a result as a tidy pandas frame."""
    import pandas as pd

    return pd.DataFrame(view_of(result).rows(result))


def html(result: Result) -> str:
    """Return a result for a notebook: the text view, escaped."""
    from html import escape

    return f'<pre style="line-height:1.2">{escape(text(result, width=100, ascii_only=False))}</pre>'


def figure(result: Result, ax: Axes | None = None) -> Axes:
    """Draw a result as a figure and return the Axes."""
    from amber_ruler.report.drawing import draw_rulers

    view = view_of(result)
    if hasattr(view, "draw"):
        axes: Axes = view.draw(result, ax)
        return axes
    return draw_rulers(view.ruler(result), ax=ax, title=result.title)
