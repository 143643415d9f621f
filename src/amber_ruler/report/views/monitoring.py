"""The looks so far against their boundaries."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.measured import amounts, limits_in_words
from amber_ruler.report.views.shared import alarms, checks_and_notes

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.sequential import Monitoring

_WHERE = {"design": "as planned", "trend": "as it looks now", "none": "none"}


def layout(result: Monitoring) -> list[Block]:
    """One line a look, what they say in the metric's unit, what is still to come, and what may be done."""
    latest = result.latest
    blocks: list[Block] = [Heading(result.title, f"{result.method} · alpha {result.alpha:g} over all looks")]
    if latest is not None:
        blocks += alarms(latest.checks)
    blocks.append(_table(result))
    if latest is not None:
        value, low, high = amounts(latest)
        name = f"{latest.treatment} − {latest.control}"
        blocks += [Lines((f"{name}  {value}   {limits_in_words(latest, low, high)}",), strong=True), ruler(result)]
    blocks += _said_at_the_end(result) or _ahead(result)
    return [*blocks, *checks_and_notes(result), Lines((sentence(result),), strong=True)]


def _table(result: Monitoring) -> Grid:
    sign = "± " if result.sides == 2 else ""

    def bound(z: float, sign: str = "") -> str:
        return f"{sign}{numbers.fixed(z, 3)}" if np.isfinite(z) else "skipped"

    columns: dict[str, list[str]] = {"look": [str(k + 1) for k in range(result.z.size)]}
    columns["information"] = [numbers.percent(t) for t in result.fractions]
    columns["z"] = [numbers.fixed(z, 3) for z in result.z]
    columns["stop at z"] = [bound(z, sign) for z in result.bounds]
    if result.lower is not None and result.sides == 1:
        columns["harm below"] = [bound(z) for z in result.lower]
    if result.futility is not None:
        columns["give up at"] = [bound(z, sign) for z in result.futility]
    columns["p alone"] = [numbers.p_value(p) for p in result.nominal_p]
    columns["repeated p"] = [numbers.p_value(p) for p in result.repeated_p]
    columns[""] = ["crossed" if c else "within" for c in _crossed(result)]
    return Grid(tuple(columns), tuple(zip(*columns.values(), strict=True)), left=(0, len(columns) - 1))


def _crossed(result: Monitoring) -> list[bool]:
    lower = np.full(result.z.size, -np.inf) if result.lower is None else result.lower
    return [bool(c) for c in (result.z > result.bounds) | (result.z < lower)]


def _said_at_the_end(result: Monitoring) -> list[Block]:
    latest = result.latest
    if result.stagewise_p is None:
        return []
    facts = [("stage-wise p", numbers.p_value(result.stagewise_p))]
    part = None if latest is None else latest.looks
    if latest is not None and part is not None and part.median_unbiased is not None:
        unit = 100.0 if latest.percent else 1.0
        end = " pp" if latest.percent else ""
        for name, value in (
            ("seen", float(latest.estimate)),
            ("median-unbiased", part.median_unbiased),
            ("bias-adjusted", part.bias_adjusted or 0.0),
        ):
            facts.append((f"estimate, {name}", f"{numbers.number(unit * value)}{end}"))
    elif result.drift is not None and result.drift_adjusted is not None:
        facts.append(("drift, median-unbiased", numbers.number(result.drift)))
        facts.append(("drift, bias-adjusted", numbers.number(result.drift_adjusted)))
    return [Grid(("now that it has ended", ""), tuple(facts))]


def _ahead(result: Monitoring) -> list[Block]:
    if not result.conditional_power:
        return []
    rows_ = [
        (_WHERE[name], numbers.percent(chance), numbers.percent(result.conditional_last[name]))
        for name, chance in result.conditional_power.items()
    ]
    if result.predictive_power is not None and result.predictive_last is not None:
        both = numbers.percent(result.predictive_power), numbers.percent(result.predictive_last)
        rows_.append(("averaged over what is believed", *both))
    return [Grid(("if the effect is", "crosses later", "is beyond at the last look"), tuple(rows_))]


def ruler(result: Monitoring) -> Ruler:
    """The repeated intervals in the metric's unit, or z within its boundaries, look by look."""
    many = result.comparisons
    if many is None or result.latest is None:
        each = enumerate(zip(result.z.tolist(), result.bounds.tolist(), strict=True))
        low = -1.0 if result.sides == 2 else -np.inf
        return Ruler(tuple(RulerRow(f"look {k + 1}", z, low * b, b) for k, (z, b) in each), unit="z")
    ends = zip(np.ravel(many.estimate), np.ravel(many.interval.low), np.ravel(many.interval.high), strict=True)
    rows_ = [RulerRow(f"look {k + 1}", float(e), float(a), float(b)) for k, (e, a, b) in enumerate(ends)]
    if result.stopped_at is not None:
        last = result.latest
        ends_ = float(last.interval.low), float(last.interval.high)
        rows_.append(RulerRow("at the end", float(last.estimate), *ends_, str(last.verdict)))
    return Ruler(tuple(rows_[-12:]), float(np.min(many.null)), many.margin, many.percent, "pp" if many.percent else "")


def draw(result: Monitoring, ax: Axes | None = None) -> Axes:
    """The path on its boundaries."""
    from amber_ruler.report.looks import draw_path

    return draw_path(result, ax)


def sentence(result: Monitoring) -> str:
    """What the looks allow, in one sentence."""
    look, k = result.z.size, result.stopped_at
    if k is not None and result.decision.startswith(("stop: a", "stop: harm")):
        what = "a difference" if result.decision.endswith("difference") else "harm"
        bound = result.bounds[k - 1] if result.z[k - 1] > 0 or result.lower is None else result.lower[k - 1]
        stage = "" if result.stagewise_p is None else f" (stage-wise p = {numbers.p_value(result.stagewise_p)})"
        stage = stage.replace("= <", "<")
        return (
            f"At look {k} of {result.planned}, z = {numbers.fixed(result.z[k - 1], 3)} is beyond the boundary of"
            f" {numbers.fixed(bound, 3)}: the test may stop, {what} is shown at alpha {result.alpha:g}{stage}."
        )
    if result.decision.startswith("end"):
        return f"All {result.planned} looks are done and no boundary was crossed: no difference is shown."
    if k is not None:
        return f"At look {k} of {result.planned} the boundary of futility is met: the test may be given up."
    return f"After look {look} of {result.planned} no boundary is crossed: the test goes on."


def rows(result: Monitoring) -> dict[str, Any]:
    """Columns of a tidy frame."""
    columns: dict[str, Any] = {
        "look": range(1, result.z.size + 1),
        "fraction": result.fractions,
        "z": result.z,
        "boundary": result.bounds,
        "nominal_p": result.nominal_p,
        "repeated_p": result.repeated_p,
        "running_p": result.running_p,
    }
    many = result.comparisons
    if many is not None:
        columns |= {"estimate": many.estimate, "low": many.interval.low, "high": many.interval.high}
    return columns
