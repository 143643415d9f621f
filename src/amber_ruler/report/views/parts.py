"""How each part of a measurement is said: lines, the end of a sentence, columns of a frame, rows of the ruler."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Lines, Ruler, RulerRow
from amber_ruler.report.views.measured import amounts, ruler_row
from amber_ruler.results import (
    Adjustment,
    Anytime,
    Comparison,
    Correction,
    Draws,
    Evidence,
    Family,
    Influence,
    Interval,
    Looks,
    Measurement,
    Part,
    Pooling,
    Strata,
    Survival,
    Trace,
    evidence_band,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes


class PartView(Protocol):
    """What a part needs to be seen."""

    def blocks(self, part: Any, result: Measurement) -> list[Block]:
        """Lines in text and HTML."""

    def clause(self, part: Any, result: Measurement) -> str:
        """What it adds to the sentence; may be empty."""

    def columns(self, part: Any) -> dict[str, Any]:
        """Columns of a frame."""


class _Evidence:
    def blocks(self, part: Evidence, result: Measurement) -> list[Block]:
        if np.ndim(result.estimate):
            return []
        facts = [*_chances(part, result), *_losses(part, result), *_factors(part, result)]
        return [
            *([Grid(("", ""), tuple(facts))] if facts else []),
            *_posteriors(part, result),
            *_scales_said(part),
        ]

    def clause(self, part: Evidence, result: Measurement) -> str:
        said = ""
        if part.chance_best is not None:
            said = f"; the best of all with a probability of {chance(float(part.chance_best))}"
        elif part.chance_better is not None:
            better = chance(float(part.chance_better))
            if isinstance(result, Comparison):
                given = "" if part.log_bayes_factor is None else f"if there is {_what(result)}, "
                said = f"; {given}{result.treatment} is better with a probability of {better}"
            else:
                side = "above" if result.good == "higher" else "below"
                at = float(part.null)
                null = numbers.percent(at) if result.percent else numbers.number(at)
                said = f"; {side} {null} with a probability of {better}"
        if part.log_bayes_factor is None:
            return said
        turn = "but " if said and float(part.log_bayes_factor) < 0 else ""
        return f"{said}; {turn}the data are {evidence_words(float(part.log_bayes_factor), _what(result))}"

    def columns(self, part: Evidence) -> dict[str, Any]:
        names = ("chance_better", "chance_best", "expected_loss", "bayes_factor", "log_bayes_factor")
        found = {name: getattr(part, name) for name in names}
        always = ("chance_better", "expected_loss", "bayes_factor")
        return {name: np.nan if v is None else v for name, v in found.items() if v is not None or name in always}


def _what(result: Measurement) -> str:
    if result.quantity in ("correlation", "association"):
        return f"{'a' if result.quantity == 'correlation' else 'an'} {result.quantity}"
    return "a difference" if isinstance(result, Comparison) else "an effect"


def _chances(part: Evidence, result: Measurement) -> list[tuple[str, str]]:
    """Probabilities, a line each."""
    given = "" if part.log_bayes_factor is None else ", if it differs"
    better = (
        f"chance that treatment is better{given}" if isinstance(result, Comparison) else f"chance to be better{given}"
    )
    said = {
        "chance_best": "chance to be the best",
        "chance_lowest": "chance to be the lowest",
        "chance_better": better,
        "chance_within": "chance to lie within the margin",
        "chance_worse": "chance to be worse",
    }
    found = [(words, getattr(part, name)) for name, words in said.items() if getattr(part, name) is not None]
    if part.overall is not None:
        overall, given = part.overall, f"with prior odds of {numbers.number(part.odds or 1.0)}"
        found += [(f"{given}: no {_what(result).split()[1]}", overall.none)]
        found += [(f"{given}: better", overall.better), (f"{given}: worse", overall.worse)]
        if overall.within is not None:
            found.append((f"{given}: within the margin", overall.within))
    return [(words, chance(float(value))) for words, value in found]


def _losses(part: Evidence, result: Measurement) -> list[tuple[str, str]]:
    many = part.chance_best is not None
    said = {
        "expected_loss": "expected loss if this is chosen" if many else "expected loss if treatment is chosen",
        "control_loss": "expected loss if control is kept",
    }
    if not isinstance(result, Comparison) and not many:
        return []
    return [
        (words, _size(float(getattr(part, name)), percent=result.percent)) for name, words in said.items()
        if getattr(part, name) is not None
    ]  # fmt: skip


def _factors(part: Evidence, result: Measurement) -> list[tuple[str, str]]:
    """The Bayes factor both ways, how strong that is, and of either direction alone."""
    if part.log_bayes_factor is None:
        return []
    log_factor, what = float(part.log_bayes_factor), _what(result)
    none = f"no {what.split()[1]}"
    found = [
        (f"Bayes factor for {what}", f"{numbers.factor(log_factor)}, for none {numbers.factor(-log_factor)}"),
        ("its natural log", numbers.number(log_factor)),
        ("evidence", f"{evidence_band(log_factor)}, for {what if log_factor >= 0 else none}"),
    ]
    for side, log_side in (("above", part.log_factor_above), ("below", part.log_factor_below)):
        if log_side is not None:
            start = numbers.number(float(part.null))
            found.append((f"Bayes factor for {what} {side} {start} only", numbers.factor(float(log_side))))
    return found


def _posteriors(part: Evidence, result: Measurement) -> list[Block]:
    """Mean, spread, median and both intervals of each quantity."""
    if not part.posterior:
        return []
    rows = []
    for one in part.posterior.values():
        percent = one.unit in ("share", "relative")
        factor, unit = (100.0, "%" if one.unit == "relative" or not isinstance(result, Comparison) else " pp")
        factor, unit = (factor, unit) if percent else (1.0, "")
        ends = [one.interval.low, one.interval.high]
        ends += [] if one.densest is None else [one.densest.low, one.densest.high]
        width = (float(one.interval.high) - float(one.interval.low)) / 2 * factor
        values = [float(v) * factor for v in (one.median, *ends)]
        median, low, high, *densest = numbers.together(*values, width=width if np.isfinite(width) else None)
        mean, sd = (
            "none" if v is None else numbers.number(float(v) * factor) for v in (one.mean, one.sd)
        )  # fmt: skip
        shortest = f"{densest[0]} to {densest[1]}{unit}" if densest else ""
        rows.append((one.label, mean, sd, median, f"{low} to {high}{unit}", shortest))
    level = f"{100 * next(iter(part.posterior.values())).interval.level:g}%"
    return [Grid(("posterior", "mean", "sd", "median", f"{level} central", f"{level} densest"), tuple(rows))]


def _size(value: float, *, percent: bool) -> str:
    return f"{numbers.number(100 * value)} pp" if percent else numbers.number(value)


def _scales_said(part: Evidence) -> list[Block]:
    """How far the evidence hangs on the prior's scale."""
    if part.best_scale is None or part.best_log_factor is None or part.threshold is None:
        return []
    most = f"At most it is {numbers.factor(part.best_log_factor)}, with a scale of {numbers.number(part.best_scale)}."
    if part.scales_beyond is None:
        return [Lines((f"The evidence reaches {part.threshold:g} neither way with this prior. {most}",))]
    low, high = part.scales_beyond
    span = f"from {numbers.number(low)} up" if high is None else f"{numbers.number(low)} to {numbers.number(high)}"
    way = f"above {part.threshold:g}" if float(part.log_bayes_factor or 0) > 0 else f"below 1/{part.threshold:g}"
    return [Lines((f"The factor stays {way} for prior scales {span}. {most}",))]


class _Trace:
    def blocks(self, part: Trace, result: Measurement) -> list[Block]:
        marks = [(name, numbers.number(at), numbers.factor(v)) for name, (at, v) in part.marks.items()]
        at, top = part.largest
        where = result.axis.labels[int(at) - 1] if part.along == "prior" and result.axis else numbers.number(at)
        marks.append(("largest", where, numbers.factor(top)))
        passes = ", ".join(numbers.number(v) for v in part.changes)
        said = f"The factor passes {part.threshold:g} or 1/{part.threshold:g} at {passes}." if passes else ""
        return [
            Grid(("", part.along, "Bayes factor"), tuple(marks)),
            *([Lines((said,))] if said else []),
        ]

    def clause(self, part: Trace, result: Measurement) -> str:
        return ""

    def columns(self, part: Trace) -> dict[str, Any]:
        return {part.along.replace(" ", "_") + "_at": part.at}


class _Pooling:
    def blocks(self, part: Pooling, result: Measurement) -> list[Block]:
        mean, low, high = numbers.together(part.mean, float(part.interval.low), float(part.interval.high))
        first, last = numbers.together(float(part.prediction.low), float(part.prediction.high))
        p = numbers.p_value(part.q_p_value)
        level = f"{100 * part.interval.level:g}%"
        facts = [
            ("mean of the true effects", f"{mean}, {level} interval {low} to {high}"),
            ("their spread, tau", numbers.number(part.tau)),
            (
                "scatter beyond chance",
                f"{numbers.percent(part.excess)} of it; Q {numbers.number(part.q)}, p {p}",
            ),
            ("a next one", f"{level} interval {first} to {last}"),
        ]
        names = result.axis.labels if result.axis else [str(k + 1) for k in range(part.estimates.size)]
        table = tuple(
            (
                name,
                numbers.number(float(y)),
                numbers.number(float(se)),
                numbers.number(float(x)),
                numbers.percent(float(w)),
            )
            for name, y, se, x, w in zip(
                names, part.estimates, part.ses, np.ravel(result.estimate), part.shares, strict=True
            )
        )
        return [Grid(("", "as seen", "se", "shrunken", "share of the mean"), table), Grid(("", ""), tuple(facts))]

    def clause(self, part: Pooling, result: Measurement) -> str:
        return ""

    def columns(self, part: Pooling) -> dict[str, Any]:
        return {"as_seen": part.estimates, "se_as_seen": part.ses, "share_of_mean": part.shares}


class _Adjustment:
    def blocks(self, part: Adjustment, result: Measurement) -> list[Block]:
        steps = Lines(tuple(f"{k}. {step}" for k, step in enumerate(part.steps, start=1)))
        if part.raw is None or np.ndim(result.estimate):
            return [steps] if part.steps else []
        table = []
        for name, one in (("raw", part.raw), ("adjusted", result)):
            value, low, high = amounts(one)
            se = "" if one.se is None else numbers.number(float(one.se))
            p = "" if one.p_value is None else numbers.p_value(float(one.p_value), one.alpha)
            table.append((name, value, low, high, se, p))
        compared = Grid(("", "difference", "low", "high", "se", "p"), tuple(table))
        return [*([steps] if part.steps else []), compared, *([Lines((worth,))] if (worth := _worth(part)) else [])]

    def clause(self, part: Adjustment, result: Measurement) -> str:
        return "".join(f"; {step.split(' (')[0]}" for step in part.steps)

    def columns(self, part: Adjustment) -> dict[str, Any]:
        found: dict[str, Any] = {"adjustment": ", ".join(part.steps)}
        if part.raw is not None:
            found |= {f"raw_{name}": getattr(part.raw, name) for name in ("estimate", "se")}
            found |= {"raw_low": part.raw.interval.low, "raw_high": part.raw.interval.high}
        return found | {"variance_removed": np.nan if part.variance_removed is None else part.variance_removed}


def _worth(part: Adjustment) -> str:
    """What the steps were worth, or what they cost."""
    if part.variance_removed is None or part.units_saved is None:
        return ""
    removed = float(part.variance_removed)
    together = ""
    if part.correlation is not None:
        kind = "correlation" if len(part.slopes) == 1 else "multiple correlation"
        together = f"{kind} {numbers.number(float(part.correlation))} within variants: "
    if removed < 0:
        grown = numbers.number(math.sqrt(1 - removed))
        return f"{together}the standard error is {grown} times the raw one"
    times, more = numbers.number(float(np.asarray(part.as_if))), numbers.whole(float(part.units_saved))
    gone = f"{numbers.percent(removed)} of the variance is taken away"
    return f"{together}{gone}, as if there were {times} times as many units ({more} more)"


class _Strata:
    def blocks(self, part: Strata, result: Measurement) -> list[Block]:
        effects = part.effects
        alone = np.ndim(result.estimate) == 0  # of several effects the result itself tells all but how many units
        estimate, low, high, p = (
            np.ravel(np.asarray(v))
            for v in (effects.estimate, effects.interval.low, effects.interval.high, effects.p_value)
        )
        sizes = [np.ravel(g.n) for g in effects.groups]
        table = []
        for k, label in enumerate(_named(effects)[:_MOST_STRATA]):
            row = [label, *(() if part.weights is None else (numbers.percent(float(part.weights[k])),))]
            row += [numbers.whole(float(n[k])) for n in sizes]
            if alone:
                ends = (float(v[k]) for v in (estimate, low, high))
                row += numbers.together(*ends, width=float(high[k] - low[k]) / 2)
                row.append(numbers.p_value(float(p[k]), effects.alpha))
            table.append(tuple(row))
        counted = () if part.weights is None else ("counts",)
        header = [part.column, *counted, *(f"n {g.label}" for g in effects.groups)]
        header += ["difference", "low", "high", "p"] if alone else []
        said = [f"{estimate.size - _MOST_STRATA:,} more in .strata.effects"] if estimate.size > _MOST_STRATA else []
        if part.interaction is not None:
            said.append(f"{_apart(part)}: {_interaction(part)}")
        return [Grid(tuple(header), tuple(table)), *([Lines(tuple(said))] if said else [])]

    def clause(self, part: Strata, result: Measurement) -> str:
        return "" if part.interaction is None else f"; {_apart(part)} ({_interaction(part)})"

    def columns(self, part: Strata) -> dict[str, Any]:
        return {"interaction_p": np.nan if part.interaction is None else part.interaction.p_value}


_MOST_STRATA = 12


def _named(effects: Comparison) -> list[str]:
    size = np.size(effects.estimate)
    return list(effects.axis.labels) if effects.axis is not None else [str(k + 1) for k in range(size)]


def _apart(part: Strata) -> str:
    test = part.interaction
    shown = test is not None and float(test.p_value) < test.alpha
    if test is not None and test.name == "t":
        return f"the effect {'changes' if shown else 'is not shown to change'} with {part.column}"
    return f"the effects differ by {part.column}" if shown else f"no difference of effects by {part.column} is shown"


def _interaction(part: Strata) -> str:
    test = part.interaction
    if test is None or test.statistic is None or not isinstance(test.df, float):
        return ""
    name = "trend t" if test.name == "t" else "χ²"
    p = numbers.p_value(float(test.p_value), test.alpha)
    return (
        f"{name} {numbers.number(float(test.statistic))} on {test.df:,.0f} df, p {p if p.startswith('<') else f'= {p}'}"
    )


class _Correction:
    def blocks(self, part: Correction, result: Measurement) -> list[Block]:
        found: list[Block] = []
        if np.ndim(part.adjusted) == 0:
            family = f" in the family {part.family}" if part.family else ""
            p = numbers.p_value(float(part.adjusted), part.alpha)
            found.append(
                Lines((f"adjusted p {p}   {part.method}, {part.size} comparisons{family}, keeps {part.keeps}",))
            )
        if part.letters:
            rows = sorted(((letters, label) for label, letters in part.letters.items()), key=lambda row: row[0])
            header = ("group", "letters: those who share one do not differ significantly")
            found.append(Grid(header, tuple((label, letters) for letters, label in rows), left=(0, 1)))
        return found

    def clause(self, part: Correction, result: Measurement) -> str:
        p = numbers.p_value(float(part.adjusted), part.alpha)
        return f"; adjusted p {p if p.startswith('<') else f'= {p}'} ({part.method}, {part.size} comparisons)"

    def columns(self, part: Correction) -> dict[str, Any]:
        family = {"family": part.family} if part.family else {}
        return {"adjusted": part.adjusted, "stands": part.stands, "correction": part.method, **family}


class _Looks:
    def blocks(self, part: Looks, result: Measurement) -> list[Block]:
        if np.ndim(part.look):
            lines = [
                f"look {k}: p of this look alone {numbers.p_value(float(p))}, running {numbers.p_value(float(q))}"
                for k, p, q in zip(np.ravel(part.look), np.ravel(part.nominal_p), np.ravel(part.running_p), strict=True)
            ]
            return [Lines((*lines, part.decision))]  # fmt: skip
        seen = f"look {part.look} of {part.planned}, {numbers.percent(float(part.fraction))} of the information"
        facts = [
            (seen, part.decision),
            ("boundary, z", numbers.number(float(part.boundary)) if np.isfinite(part.boundary) else "skipped"),
            ("p of this look alone", numbers.p_value(float(part.nominal_p))),
            ("repeated p, whatever made it stop", numbers.p_value(float(part.repeated_p))),
        ]
        if part.repeated is not None:
            facts.append(("repeated interval", _ends(part.repeated, result)))
        if part.stagewise_p is not None:
            facts.append(("stage-wise p", numbers.p_value(part.stagewise_p)))
        if part.stagewise is not None:
            facts.append(("stage-wise interval", _ends(part.stagewise, result)))
        for name, value in (("median-unbiased", part.median_unbiased), ("bias-adjusted", part.bias_adjusted)):
            if value is not None:
                facts.append((f"{name} estimate", _size(value, percent=result.percent)))
        return [Grid(("", ""), tuple(facts))]

    def clause(self, part: Looks, result: Measurement) -> str:
        return f"; at look {part.look} of {part.planned}: {part.decision}" if np.ndim(part.look) == 0 else ""

    def columns(self, part: Looks) -> dict[str, Any]:
        names = ("look", "fraction", "boundary", "decision", "nominal_p", "repeated_p", "running_p")
        return {name: getattr(part, name) for name in names}


def anytime_words(result: Measurement) -> str:
    """Moments in one sentence: the last one."""
    last = replace(
        result,
        estimate=float(np.ravel(result.estimate)[-1]),
        interval=replace(
            result.interval,
            low=float(np.ravel(result.interval.low)[-1]),
            high=float(np.ravel(result.interval.high)[-1]),
        ),
        test=None,
        parts=(),
        axis=None,
    )
    value, low, high = amounts(last)
    who = f"{result.treatment} − {result.control}" if isinstance(result, Comparison) else getattr(result, "label", "")
    p = numbers.p_value(float(np.ravel(np.asarray(result.p_value))[-1]))
    return (
        f"{result.metric or 'Metric'}, {who}: by the last of {np.size(result.estimate):,} moments {value}, interval"
        f" {low} to {high}, p {'' if p.startswith('<') else '= '}{p}; both hold however often one looks."
    )


def looks_words(result: Comparison) -> str:
    """A series of looks in one sentence."""
    part = result.looks
    decision = "" if part is None else part.decision
    return (
        f"{result.metric or 'Difference'}: {np.size(result.estimate):,} looks at {result.treatment} against"
        f" {result.control}; these intervals and p-values hold whatever makes the test stop: {decision}."
    )


def _ends(interval: Interval, result: Measurement) -> str:
    """Limits in the metric's unit."""
    low, high = (
        ("−∞" if end < 0 else "∞") if not np.isfinite(end) else _size(end, percent=result.percent)
        for end in (float(interval.low), float(interval.high))
    )
    return f"{low} to {high}"


class _Anytime:
    def blocks(self, part: Anytime, result: Measurement) -> list[Block]:
        if np.ndim(part.p_now):
            return []
        facts = [
            ("holds at every moment, however often one looks", ""),
            ("e-value against the null", numbers.factor(float(part.log_e))),
        ]
        if part.wider is not None:
            facts.append(("times as wide as for a single look", numbers.number(float(part.wider))))
        return [Grid(("", ""), tuple(facts))]

    def clause(self, part: Anytime, result: Measurement) -> str:
        return "; it holds however often one looks"

    def columns(self, part: Anytime) -> dict[str, Any]:
        wider = {} if part.wider is None else {"wider": part.wider}
        return {"p_now": part.p_now, "low_now": part.now.low, "high_now": part.now.high, "log_e": part.log_e, **wider}


class _Survival:
    def blocks(self, part: Survival, result: Measurement) -> list[Block]:
        last = min(part.last)
        found = []
        for time in _steps(last):
            cells = [f"{numbers.percent(k)}  {numbers.percent(a)} to {numbers.percent(b)}" for k, a, b in part.at(time)]
            found.append((numbers.number(time), *cells))
        return [Grid(("without it after", *part.labels), tuple(found))]

    def clause(self, part: Survival, result: Measurement) -> str:
        return ""

    def columns(self, part: Survival) -> dict[str, Any]:
        return {}


def _steps(last: float) -> list[float]:
    """Four round times up to the last."""
    if not last > 0:
        return [last]
    power = 10.0 ** np.floor(np.log10(last / 4))
    step = next(float(m * power) for m in (10, 5, 2, 1) if 4 * m * power <= last * (1 + 1e-12))
    return [step * k for k in range(1, int(last / step * (1 + 1e-12)) + 1)][:9]


class _Influence:
    def blocks(self, part: Influence, result: Measurement) -> list[Block]:
        written = numbers.together(*part.without.tolist(), width=float(result.se or 0.0) or None)
        rows = [
            (name, numbers.number(float(moved)), without)
            for name, moved, without in zip(part.units, part.moved, written, strict=True)
        ]
        return [Grid(("carried by", "moves it by", "without"), tuple(rows))] if rows else []

    def clause(self, part: Influence, result: Measurement) -> str:
        return f"; carried most by {part.units[0]}" if part.units else ""

    def columns(self, part: Influence) -> dict[str, Any]:
        return {"carried_by": part.units[0]} if part.units else {}


class _Draws:
    def blocks(self, part: Draws, result: Measurement) -> list[Block]:
        if part.way.startswith("every "):
            return [Lines((f"{part.way}, {part.replicates:,} different ones: nothing is left to chance",))]
        seed = "" if part.seed is None else f", seed {part.seed}"
        of = "the p" if result.test and part.way else "the standard error" if part.way else ""
        error = f"Monte-Carlo error{f' of {of}' if of else ''} {numbers.number(part.error, digits=2)}"
        lost = f"; {part.left_out:,} gave no value" if part.left_out else ""
        return [Lines((f"{part.replicates:,} {part.way or 'draws'}{seed}, {error}{lost}",))]

    def clause(self, part: Draws, result: Measurement) -> str:
        whole = part.way.startswith("every ")
        return f"; from {part.way}" if whole else f"; from {part.replicates:,} {part.way or 'draws'}"

    def columns(self, part: Draws) -> dict[str, Any]:
        return {"replicates": part.replicates, "monte_carlo_error": part.error}


VIEWS: dict[type[Part], PartView] = {
    Evidence: _Evidence(),
    Trace: _Trace(),
    Pooling: _Pooling(),
    Adjustment: _Adjustment(),
    Strata: _Strata(),
    Correction: _Correction(),
    Looks: _Looks(),
    Anytime: _Anytime(),
    Survival: _Survival(),
    Influence: _Influence(),
    Draws: _Draws(),
}


def blocks(result: Measurement) -> list[Block]:
    """The lines of all parts."""
    return [block for part in result.parts for block in VIEWS[type(part)].blocks(part, result)]


def clauses(result: Measurement) -> list[str]:
    """What the parts add to the sentence."""
    return [VIEWS[type(part)].clause(part, result) for part in result.parts]


def columns(part: Part) -> dict[str, Any]:
    """The part's columns in a frame."""
    return VIEWS[type(part)].columns(part)


def headers(result: Measurement) -> list[str]:
    """Columns that evidence adds to a table of many."""
    part = result.evidence
    named = {"better": "chance_better", "best": "chance_best", "Bayes factor": "log_bayes_factor"}
    return [] if part is None else [head for head, name in named.items() if getattr(part, name) is not None]


def cells(result: Measurement, k: int) -> list[str]:
    """What stands in those columns."""
    part = result.evidence
    if part is None:
        return []
    chances = [v for v in (part.chance_better, part.chance_best) if v is not None]
    found = [chance(float(np.broadcast_to(v, np.shape(result.estimate)).ravel()[k])) for v in chances]
    if part.log_bayes_factor is not None:
        found.append(
            numbers.factor(float(np.broadcast_to(part.log_bayes_factor, np.shape(result.estimate)).ravel()[k]))
        )
    return found


def evidence_headers(results: Sequence[Measurement]) -> list[str]:
    """Columns that evidence adds to a table of a family."""
    return [
        head for head, name in _IN_A_FAMILY.items() if any(getattr(r.evidence, name, None) is not None for r in results)
    ]


def evidence_cells(one: Measurement, results: Sequence[Measurement]) -> list[str]:
    """What stands in those columns."""
    found = []
    for head in evidence_headers(results):
        value = getattr(one.evidence, _IN_A_FAMILY[head], None)
        number = math.nan if value is None else float(value)
        written = {"expected loss": _size(number, percent=one.percent), "Bayes factor": numbers.factor(number)}
        found.append("" if value is None else written.get(head, chance(number)))
    return found


_IN_A_FAMILY = {
    "best": "chance_best",
    "lowest": "chance_lowest",
    "better": "chance_better",
    "expected loss": "expected_loss",
    "Bayes factor": "log_bayes_factor",
}


def best_words(result: Family) -> str:
    """Which variant is likeliest to be the best, and what choosing it may cost."""
    best = max(result.results, key=lambda r: r.evidence.chance_best)  # type: ignore[union-attr, arg-type, return-value]
    part = best.evidence
    if part is None or part.expected_loss is None:
        return ""
    loss = _size(float(part.expected_loss), percent=best.percent)
    named = getattr(best, "label", "")
    sure = chance(float(part.chance_best or 0.0))
    said = f"{best.metric}: {named} is the best of {len(result)} with a probability of {sure}"
    return f"{said}; choosing it loses {loss} on average."


def weighed(result: Measurement) -> str:
    """The chance and the factor that a figure of beliefs stands for."""
    part, said = result.evidence, []
    if part is not None and part.chance_better is not None:
        named = f"{result.treatment} better" if isinstance(result, Comparison) else "better"
        said.append(f"{named}: {chance(float(part.chance_better))}")
    if part is not None and part.log_bayes_factor is not None:
        log_factor = float(part.log_bayes_factor)
        said.append(f"Bayes factor {numbers.factor(log_factor)} ({evidence_band(log_factor)})")
    return " · ".join(said)


def figure(result: Measurement, ruler: Callable[[Any], Ruler], ax: Axes | None) -> Axes | None:
    """What the evidence has to show of its own: its course, or both densities of a result that remembers them."""
    from amber_ruler.report import beliefs

    if result.trace is not None:
        return beliefs.evidence_along(result, result.trace, ax)
    if result.anytime is not None and np.ndim(result.estimate) == 1:
        from amber_ruler.report.looks import draw_moments

        return draw_moments(result, ax)
    if result.survival is not None:
        from amber_ruler.report.curves import survival

        return survival(result, result.survival, ax)
    part = result.evidence
    if part is not None and part.curves is not None and np.ndim(result.estimate) == 0:
        return beliefs.prior_and_posterior(result, part.curves, ruler(result), ax)
    return None


def trace_words(result: Measurement) -> str:
    """Between what the evidence stays."""
    part = result.trace
    if part is None:
        return ""
    low, high = (numbers.factor(float(v)) for v in (np.min(part.log_factors), np.max(part.log_factors)))
    over = {"prior": "these priors", "prior scale": "these prior scales"}.get(part.along, "these data")
    named = f", {result.treatment} against {result.control}" if isinstance(result, Comparison) else ""
    return f"{result.metric}{named}: the Bayes factor stays between {low} and {high} over {over}."


def pooling_words(result: Measurement) -> str:
    """What many estimates have in common."""
    part = result.pooling
    if part is None:
        return ""
    low, high = numbers.together(float(part.prediction.low), float(part.prediction.high))
    mean, tau = numbers.number(part.mean), numbers.number(part.tau)
    said = f"{result.metric}: {part.estimates.size} effects around {mean} with a spread of {tau}"
    return f"{said}; a next one lies between {low} and {high}."


def rulers(result: Measurement) -> tuple[RulerRow, ...]:
    """What stands on the ruler beside the result itself: strata, and the raw difference of an adjusted one."""
    found: list[RulerRow] = []
    if result.strata is not None:
        effects = result.strata.effects
        columns = (effects.estimate, effects.interval.low, effects.interval.high, effects.verdict)
        each = zip(_named(effects), *map(np.ravel, columns), strict=True)
        found += [RulerRow(label, float(d), float(low), float(high), str(v)) for label, d, low, high, v in each]
        found = found[:_MOST_STRATA]
    if result.adjustment is not None and result.adjustment.raw is not None:
        found.append(ruler_row(result.adjustment.raw, "raw"))
    return tuple(found)


def standing(result: Comparison, labels: list[str]) -> str:
    """Which of many corrected comparisons stand; of the others nothing is said."""
    part = result.correction
    if part is None:
        return ""
    stands = np.ravel(part.stands)
    what = {"pair": "pairs differ", "variant": f"groups differ from {result.control}"}
    comparisons = f"comparisons {'stands' if stands.sum() == 1 else 'stand'}"
    named = what.get(result.axis.name if result.axis else "", comparisons)
    start = f"{result.metric}: {int(stands.sum())} of {stands.size} {named} after {part.method}"
    found = [label for label, s in zip(labels, stands, strict=True) if s]
    if result.axis is not None and result.axis.name == "variant":
        found = [label.removesuffix(f" − {result.control}") for label in found]
    listed = f": {', '.join(found)}" if 0 < len(found) <= 6 else ""
    alone = [
        g for g, own in part.letters.items() if not any(set(own) & set(o) for k, o in part.letters.items() if k != g)
    ]
    if len(part.letters) > 2 and alone:
        listed += f"; {' and '.join(alone)} from every other group"
    rest = " Of the rest a difference is not shown, nor that there is none." if not stands.all() else ""
    return f"{start}{listed}.{rest}"


def evidence_words(log_factor: float, what: str = "a difference") -> str:
    """Which way the evidence points, and how far."""
    way = f"{what} than under none" if log_factor >= 0 else f"no {what.split()[1]} than under one"
    return f"{numbers.factor(abs(log_factor))} times likelier under {way}"


def chance(value: float) -> str:
    """A probability that is never rounded to certainty."""
    if value > 0.9999:
        return "over 99.99%"
    if value < 0.0001:
        return "under 0.01%"
    return f"{100 * value:.2f}%"
