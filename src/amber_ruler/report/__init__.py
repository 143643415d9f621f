"""Drawing results: text, HTML, JSON, figures. All of it only reads."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from amber_ruler.results import Result
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.axes import Axes

__all__ = ["figure", "fragment", "frame", "from_json", "html", "schema", "sentence", "text"]


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
    from amber_ruler.report.views import view_of

    return draw(view_of(result).layout(result), width=width, colour=colour, ascii_only=ascii_only)


def sentence(result: Result) -> str:
    """Say a result in one plain sentence."""
    from amber_ruler.report.views import view_of

    return safe(view_of(result).sentence(result))


def frame(result: Result) -> pd.DataFrame:
    """Return a result as a tidy pandas frame."""
    import pandas as pd

    from amber_ruler.report.views import view_of

    return pd.DataFrame(view_of(result).rows(result))


def fragment(result: Result) -> str:
    """Return a result as a piece of HTML with its own style, such as a notebook shows."""
    from amber_ruler.report.views import view_of
    from amber_ruler.report.web import fragment as drawn

    return drawn(view_of(result).layout(result))


def display(
    title: str, header: tuple[str, ...], rows: Iterable[tuple[str, ...]], below: str = "", *, html: bool
) -> str:
    """Return a small table as a piece of HTML, or as text: what is shown of data."""
    from amber_ruler.report.blocks import Grid, Heading
    from amber_ruler.report.terminal import draw
    from amber_ruler.report.web import fragment

    return (fragment if html else draw)([Heading(title, below), Grid(header, tuple(rows))])


def html(results: Result | Iterable[Result], *, title: str = "Amber Ruler") -> str:
    """Return results as one self-contained page: real tables, rulers as drawings, nothing fetched, no script.

    Parameters
    ----------
    results : Result, or iterable of Result
        What the page shows, in order.
    title : str
        The page's heading.

    Returns
    -------
    str
        Write it with `Path("report.html").write_text(page, encoding="utf-8")`.

    Examples
    --------
    >>> from amber_ruler import Summary, measure, report
    >>> r = measure.means(Summary(90, 14.2, 4.0, "short"), Summary(90, 13.0, 3.0, "current"))
    >>> "<table" in report.html(r, title="Fares")
    True
    """
    from amber_ruler.report.views import view_of
    from amber_ruler.report.web import page

    several = [results] if isinstance(results, Result) else list(results)
    return page([view_of(r).layout(r) for r in several], title)


def figure(result: Result, ax: Axes | None = None) -> Axes:
    """Draw a result as a figure and return the Axes."""
    from amber_ruler.report.drawing import draw_rulers, headed, inert
    from amber_ruler.report.views import view_of

    view, before = view_of(result), [] if ax is None else list(ax.figure.axes)
    axes: Axes
    if hasattr(view, "draw"):
        axes = view.draw(result, ax)
    else:
        axes = draw_rulers(view.ruler(result), ax=ax, title=result.title)
    mine = [drawn for drawn in axes.figure.axes if drawn is axes or drawn not in before]
    under = view.layout(result)[0].below
    title, counted = view.caption(result) if hasattr(view, "caption") else ("", "")
    for drawn in mine:
        own = drawn.get_title(loc="left")
        if own:
            line = " · ".join(part for part in (under, counted) if part)
            headed(drawn, title if title and own == result.title else own, line)
            break
    for drawn in mine:
        inert(drawn)
    return axes


def from_json(text: str) -> Result:
    """Read back what `Result.to_json` wrote."""
    from amber_ruler.report.reading import read

    return read(text)


def schema() -> dict[str, object]:
    """Return the JSON Schema of every result and its pieces."""
    from amber_ruler.report.schema import published

    return published()
