"""What a plan answers."""

from __future__ import annotations

import dataclasses
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler.plan.modifiers import Clusters, Margin, Variants
from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.views.shared import checks_and_notes, level, test_terms

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.plan import PlanAnswer
    from amber_ruler.plan.answers import LookPlan
    from amber_ruler.plan.questions import Design

_SHARES = {"treatment share", "share", "lift", "discordant pairs", "eta squared", "partial eta squared"}
_NOT_SHOWN = {"alpha", "alternative", "modifiers", "discordant", "exact", "known", "test"}
_COST_HEADER = {
    "sample size": "units in total",
    "sample size for width": "units in total",
    "precision": "half-width",
    "power": "power",
    "detectable effect": "effect",
    "alpha": "alpha",
}


def layout(result: PlanAnswer) -> list[Block]:
    """Units by group and in total, the effect on the ruler, power, assumptions, what each modifier cost."""
    units = [(name, numbers.whole(n)) for name, n in result.units.items()]
    if len(units) > 1 or result.n_total != result.n:
        units.append(("in total", numbers.whole(result.n_total)))
    if result.n_exact is not None and result.n_total_exact is not None:
        units.append(("in total, before rounding", numbers.number(result.n_total_exact)))
    blocks: list[Block] = [
        Heading(result.title, f"{result.method} · {_terms(result)}"),
        Grid(("", "units"), tuple(units)),
    ]
    if result.half_width is not None:
        blocks.append(ruler(result))
    blocks.append(Grid(("", ""), tuple(_facts(result))))
    if result.looks is not None:
        blocks += _looks(result, result.looks)
    if result.costs:
        blocks.append(Grid(("what the modifiers do", _COST_HEADER[result.question], "change"), _costs(result)))
    return [*blocks, *checks_and_notes(result), Lines((sentence(result),), strong=True)]


def ruler(result: PlanAnswer) -> Ruler:
    """The effect, with the interval to be expected around it if it is real."""
    reach, margin = result.half_width or 0.0, margin_of(result)
    row = RulerRow("effect", result.effect, result.effect - reach, result.effect + reach)
    size = None if margin is None else margin.size
    return Ruler((row,), margin=size, percent=result.percent, unit="pp" if result.percent else "")


def sentence(result: PlanAnswer) -> str:
    """The plan in one sentence."""
    who = _units_said(result)
    if result.power is None:
        return f"{who} give an interval of ± {_amount(result, result.half_width or 0)} at {level(1 - result.alpha)}."
    power, margin = numbers.percent(result.power or 0.0), margin_of(result)
    if margin is not None:
        effect = _amount(result, result.effect)
        goal = f"show that treatment is {_claim(result, margin)}, if the true difference is {effect}, "
    elif result.effect_name == "difference":
        goal = f"find a difference of {_amount(result, result.effect)} "
    else:
        goal = f"find an effect of {_amount(result, result.effect)} ({result.effect_name}) "
    several = len(result.units) == 2 and next(iter(result.units)).startswith("each")
    each = " for each comparison" if several else ""
    days = "" if result.days is None else f" With this traffic that takes {_time_said(result)}."
    return f"{who} {goal}with a power of {power}{each} ({_terms(result)}).{days}{_looks_said(result)}"


def _claim(result: PlanAnswer, margin: Margin) -> str:
    """What is shown about the difference."""
    size, higher = _margin_said(result, margin), margin.good == "higher"
    if margin.kind == "superiority":
        return f"{margin.good} than control by more than {size}"
    if margin.kind == "non-inferiority":
        return f"not {'lower' if higher else 'higher'} than control by {size} or more"
    if margin.above is None:
        return f"not away from control by {size} or more"
    return f"less than {size} below control and less than {_amount(result, margin.above)} above"


def _margin_said(result: PlanAnswer, margin: Margin) -> str:
    size = _amount(result, float(margin.size))
    return size if margin.lift is None else f"{100 * margin.lift:g}% ({size})"


def rows(result: PlanAnswer) -> dict[str, Any]:
    """Columns of a tidy frame."""
    names = ("question", "n", "n_treatment", "n_control", "n_total", "effect", "power", "alpha", "alternative")
    return {name: [getattr(result, name)] for name in (*names, "half_width", "days")}


def draw(result: PlanAnswer, ax: Axes | None = None) -> Axes:
    """Power against units for this effect and two others, the answer marked."""
    from amber_ruler.report import curves

    if result.power is None:
        return curves.width_by_units(result, ax)
    return curves.power_by_units(result, ax)


def margin_of(result: PlanAnswer) -> Margin | None:
    """The margin that the plan tests against, if it does."""
    return next((m for m in result.design.modifiers if isinstance(m, Margin)), None)


def settings(design: Design) -> dict[str, Any]:
    """The numbers of the design that were given, by name."""
    shown = {}
    for item in dataclasses.fields(design):
        value = getattr(design, item.name)
        if item.name in _NOT_SHOWN or value in (None, 0) or (item.name, value) == ("ratio", 1):
            continue
        if not isinstance(value, str) or value != item.default:
            shown[item.name] = value
    return shown


def _facts(result: PlanAnswer) -> list[tuple[str, str]]:
    facts: list[tuple[str, str]] = []
    if result.power is not None:
        facts.append(("power", numbers.percent(result.power)))
    if result.days is not None:
        facts.append(("duration", _time_said(result)))
    if result.question.startswith("alpha"):
        facts.append(("alpha", numbers.number(result.alpha)))
    if result.solved is not None:
        facts.append((f"{result.question}, solved for", numbers.number(result.solved)))
    if any(isinstance(m, Variants) for m in result.design.modifiers):
        facts.append(("alpha of each comparison", numbers.number(result.single_alpha)))
    if result.power is not None:
        facts.append((result.effect_name, _amount(result, result.effect)))
        facts += [
            (name, numbers.percent(value) if name in _SHARES else numbers.number(value))
            for name, value in result.effects.items()
        ]
    if result.half_width is not None:
        facts.append(("interval to be expected", f"± {_amount(result, result.half_width)}"))
    clusters = next((m for m in result.design.modifiers if isinstance(m, Clusters)), None)
    if clusters is not None:
        facts += [(f"clusters, {name}", numbers.whole(np.ceil(n / clusters.size))) for name, n in result.units.items()]
        facts.append(("effective units in total", numbers.number(result.n_effective or 0.0)))
    for name, value in settings(result.design).items():
        if isinstance(value, str):
            said = value
        elif isinstance(value, tuple):
            said = ", ".join(f"{part:g}" for part in value)
        elif name == "baseline" and result.percent:
            said = numbers.percent(value)
        else:
            said = f"{value:,.4g}" if abs(value) < 1e4 else numbers.number(value)
        facts.append((name.replace("_", " "), said))
    return facts


def _costs(result: PlanAnswer) -> tuple[tuple[str, ...], ...]:
    lines, before = [], None
    for cost in result.costs:
        if not np.isfinite(cost.value):
            shown, change = "out of reach", ""
        elif result.question == "power":
            shown = numbers.percent(cost.value)
            change = "" if before is None else f"{_signed(100 * (cost.value - before))} pp"
        else:
            whole = result.question.startswith("sample size")
            shown = numbers.whole(cost.value) if whole else numbers.number(cost.value)
            if result.question in ("detectable effect", "precision"):
                shown = _amount(result, cost.value)
            change = "" if not before else f"{_signed(100 * (cost.value / before - 1))}%"
        before = cost.value if np.isfinite(cost.value) else None
        lines.append((cost.modifier, shown, change))
    return tuple(lines)


def _looks(result: PlanAnswer, looks: LookPlan) -> list[Block]:
    """Boundaries and units at each look, and what the looks do under three effects."""
    plan, two = looks.boundaries, looks.boundaries.sides == 2
    sign = "± " if two else ""

    def told(values: Floats | None, sign: str = "") -> list[str]:
        return [f"{sign}{numbers.fixed(float(v), 3)}" if np.isfinite(v) else "-" for v in np.asarray(values)]

    columns: dict[str, list[str]] = {"look": [str(k + 1) for k in range(plan.z.size)]}
    columns["units"] = [numbers.whole(n) for n in looks.totals]
    if looks.days is not None:
        columns["day"] = [f"{day:,.0f}" for day in looks.days]
    columns["z"] = told(plan.z, sign)
    columns["p below"] = [numbers.number(p) if p > 0 else "-" for p in plan.p]
    columns["effect"] = [f"{sign}{_amount(result, float(e))}" if np.isfinite(e) else "-" for e in looks.effect]
    if plan.futility is not None:
        columns["give up at z"] = told(plan.futility, sign)
    columns["ends here"] = [numbers.percent(e) for e in looks.under_planned.ending]
    words = ("none", "half") if margin_of(result) is None else ("at the margin", "half way")
    effects = (
        (words[0], looks.under_none, looks.expected_none),
        (words[1], looks.under_half, looks.expected_half),
        ("as planned", looks.under_planned, looks.expected_planned),
    )
    lines = tuple((name, numbers.percent(o.power), numbers.whole(mean)) for name, o, mean in effects)
    return [
        Grid(tuple(columns), tuple(zip(*columns.values(), strict=True))),
        Grid(("if the effect is", "crosses", "units on average"), lines),
    ]


def _looks_said(result: PlanAnswer) -> str:
    """What the looks cost and save."""
    single = _without_looks(result)
    if result.looks is None or single is None:
        return ""
    most, mean = result.n_total / single - 1, result.looks.expected_planned / single - 1
    average = f"{numbers.percent(abs(mean))} {'fewer' if mean <= 0 else 'more'}"
    return (
        f" The looks take {numbers.percent(max(most, 0.0))} more units at most, and {average} on average if the effect"
        " is real."
    )


def _without_looks(result: PlanAnswer) -> float | None:
    """Units in total of the same plan with a single look."""
    if result.question != "sample size":
        return None
    found = next((k for k, cost in enumerate(result.costs) if " look" in cost.modifier[:9]), None)
    return None if found is None else result.costs[found - 1].value if found == len(result.costs) - 1 else None


def _signed(value: float) -> str:
    return ("+" if value > 0 else "") + numbers.fixed(value, 1)


def _terms(result: PlanAnswer) -> str:
    if margin_of(result) is not None:
        return f"alpha {result.alpha:.4g} for each one-sided test"
    return test_terms(result.alpha, result.alternative)


def _units_said(result: PlanAnswer) -> str:
    total, names = numbers.whole(result.n_total), tuple(result.units)
    if len(names) == 1:
        (name,) = names
        said = numbers.whole(result.n)
        return f"{said} units in {name} ({total} in total)" if name.startswith("each") else f"{said} {name}"
    if names == ("treatment", "control") and result.n_treatment == result.n_control:
        return f"{numbers.whole(result.n)} units in each group ({total} in total)"
    parts = " and ".join(
        f"{numbers.whole(n)} {'units ' if k == 0 else ''}in {name}" for k, (name, n) in enumerate(result.units.items())
    )
    return f"{parts} ({total} in total)"


def _time_said(result: PlanAnswer) -> str:
    days, weeks = result.days or 0, result.weeks or 0
    return f"{days:,} {'day' if days == 1 else 'days'}, so {weeks:,} whole {'week' if weeks == 1 else 'weeks'}"


def _amount(result: PlanAnswer, value: float) -> str:
    return f"{numbers.number(100 * value)} pp" if result.percent else numbers.number(value)
