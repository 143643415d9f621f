"""Effects that may differ: by segment, from before to after, by time since first exposure."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, Literal, Unpack

import numpy as np

from amber_ruler.adjust import pair
from amber_ruler.adjust.answer import interaction
from amber_ruler.adjust.cells import Cells
from amber_ruler.adjust.description import Covariate, Steps
from amber_ruler.adjust.prepared import cells_of, from_rows, left_out, own_column, rows_of
from amber_ruler.adjust.sharpen import sharpen
from amber_ruler.bayes import shrink
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means, shared
from amber_ruler.moments import Moments
from amber_ruler.multiplicity import correct
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Axis, Check, Comparison, EffectSize, Interval, Strata, Test
from amber_ruler.samples import Records, Summary
from amber_ruler.settings import Directed, WithLift, WithMargin

Corrections = Literal[
    "none",
    "holm",
    "holm-sidak",
    "bonferroni",
    "sidak",
    "hochberg",
    "hommel",
    "benjamini-hochberg",
    "benjamini-yekutieli",
]


@method(
    takes="two",
    needs="mean",
    columns=("value", "segment", "covariate", "per"),
    examples=(
        "travellers.csv --value fare --segment device --by form --control current",
        "travellers.csv --value fare --segment device --covariate prior_spend --cap 0.99 --by form --control current",
    ),
    exempt={
        "broadcast": "the numbers of one metric are of many segments",
        "p and interval": "limits of several segments are cut by the correction",
    },
    single=True,
)
def segments(
    treatment: Records | Moments,
    control: Records | Moments,
    *,
    value: str,
    segment: str,
    correction: Corrections = "holm",
    cap: float | None = None,
    covariate: Covariate = (),
    per: str | None = None,
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """Does the effect differ from segment to segment, and where does it stand?

    Parameters
    ----------
    treatment, control : Records or Moments
        The rows of each variant; or moments of each segment that are stacked. The metric may be a share, as 0 and 1.
    value : str
        Column with the metric.
    segment : str
        Column with the segment, which the treatment can't have changed.
    correction : "holm", "none", or another of `multiplicity.correct`
        How the segments' own effects are corrected for their number.
    cap : float, between 0.5 and 1, optional
        Quantile of all variants and segments together above which values are set to it; it needs rows.
    covariate : str or sequence of str, optional
        Columns known before the test; slopes are pooled over the variants of a segment. "a per b" is a ratio.
    per : str, optional
        Column that the metric is counted by: in each segment it is then the total of one over the total of the other.
    others : sequence of Records or Moments
        Further variants of the test, which count in caps and slopes.

    Returns
    -------
    Comparison
        A difference for each segment, along an axis, with intervals that go with the correction. `strata` holds the
        test of interaction; in `effects` "shrunken" what is left of each effect when all are seen together.

    Raises
    ------
    DataError
        If a segment has fewer than two units of a variant, or there is one segment only.

    Notes
    -----
    Without a cap, covariate or denominator each segment is compared by Welch's test, else as by `sharpen`.

    The interaction is Σ (d - d̄)² / v over segments, v the squared standard error and d̄ weighted by 1 / v, on
    one degree of freedom less than segments: read it before any segment. Shrunken effects come from the spread of the
    true effects by restricted maximum likelihood, as in `bayes.shrink`; there must be at least 3 segments.

    References
    ----------
    .. [1] Cochran (1954), Biometrics 10, 101-129, for the interaction.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> port = ["Amble"] * 3 + ["Tern Quay"] * 3
    >>> short = Records({"fare": [3.0, 4, 5, 13, 14, 16], "port": port}, "short")
    >>> current = Records({"fare": [2.0, 3, 5, 11, 13, 14], "port": port}, "current")
    >>> r = segments(short, current, value="fare", segment="port")
    >>> r.estimate.round(2).tolist(), round(r.strata.interaction.p_value, 3)
    ([0.67, 1.67], 0.54)
    """
    ask = shared.question(asked)
    listed: Any = covariate
    steps = Steps(cap=cap, covariate=listed, per=per)
    own_column("segment", segment, (value, *steps.numbers))
    settings = ask.settings(
        null=gate.finite("null", ask.null), metric=ask.metric or (f"{value} per {per}" if per else value)
    )
    given = (treatment, control, *others)
    if steps.to_dict():
        each, missing, raw = _adjusted(given, value, segment, steps, settings)
    else:
        each, missing, raw = _plain(given[:2], value, segment, settings)
    test = interaction(each, ask.alpha)
    found = each if correction == "none" else correct(each, method=correction, alpha=ask.alpha)
    bare = replace(each, effects={})
    part = Strata(column=segment, effects=bare, interaction=test)
    shrunken = _shrunken(each, ask)
    result = replace(
        found,
        title=f"{each.metric} by {segment}: {each.treatment} − {each.control}",
        effects={**found.effects, **shrunken},
        checks=(*missing, *found.checks),
        notes=(*found.notes, "Each segment was looked at by itself: believe the interaction before any one of them."),
        parts=(*found.parts, part),
    )
    return pair.in_points(result, raw)


def _plain(
    arms: Sequence[Any], value: str, segment: str, settings: Mapping[str, Any]
) -> tuple[Comparison, tuple[Check, ...], list[Moments]]:
    """The means of each segment, along an axis; how many rows were left out; and the moments of all."""
    cells, missing = cells_of(arms, [value], strata=segment)
    _several(cells.levels, segment)
    axis = Axis(segment, cells.levels)
    summaries = [
        Summary(
            cells.n[k], cells.means[k, :, 0], np.sqrt(cells.squares[k, :, 0, 0] / (cells.n[k] - 1)), cells.labels[k],
            0, value, axis, cells.tails[k, :, 0],
        )
        for k in (0, 1)
    ]  # fmt: skip
    return means(*summaries, **settings), missing, [m.select(value) for m in cells.whole[:2]]


def _adjusted(
    arms: Sequence[Any], value: str, segment: str, steps: Steps, settings: Mapping[str, Any]
) -> tuple[Comparison, tuple[Check, ...], list[Moments]]:
    """The same after the steps: a cap of all rows, then each segment by itself."""
    stacks, told, missing = list(arms), list[str](), tuple[Check, ...]()
    if hasattr(arms[0], "together"):
        found, rows = from_rows(arms, value, replace(steps, strata=segment))
        _several(found.cells.levels, segment)
        levels = rows.moments(found.cells.columns, by=segment)
        stacks = [
            Moments.stack({level: each[level] for level in found.cells.levels}, axis=segment).relabel(label)
            for label, each in zip(rows.labels, levels, strict=True)
        ]
        told, missing = list(found.said), (*left_out(rows), *found.checks)
    each = sharpen(
        *stacks[:2], value=value, covariate=list(steps.covariate), per=steps.per, others=tuple(stacks[2:]), **settings
    )
    part = each.adjustment
    if part is not None:
        each = each.with_part(replace(part, steps=(*told, *part.steps)))
    return each, missing, [m.select(value) for m in stacks[:2]]


def _several(levels: Sequence[str], segment: str) -> None:
    if len(levels) < 2:
        raise DataError(f"There is one segment of {segment!r} only: nothing can differ.")


def _shrunken(each: Comparison, ask: shared.Question) -> dict[str, EffectSize]:
    """Each effect drawn towards the mean of all, as far as their true spread allows."""
    d, se = (np.asarray(v, dtype=float) for v in (each.estimate, each.se))
    if d.size < 3 or ask.alternative != "two-sided":
        return {}
    labels = each.axis.labels if each.axis is not None else None
    found = shrink(d, se, labels=labels, alpha=ask.alpha)
    limits = Interval(found.interval.low, found.interval.high, ask.level)
    return {"shrunken": EffectSize(found.estimate, limits, "shrunken towards the mean of all", "")}


@method(
    takes="two",
    needs="mean",
    columns=("value", "before"),
    examples=("travellers.csv --value fare --before prior_spend --by form --control current",),
    exempt={
        "broadcast": "published numbers say nothing of before",
        "rescale": "the values before are in the same unit",
    },
)
def before_after(
    treatment: Records | Moments,
    control: Records | Moments,
    *,
    value: str,
    before: str,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Did treatment change more than control: the difference of two differences?

    Parameters
    ----------
    treatment, control : Moments or Records
        Moments that hold both columns over the same units, or the rows.
    value : str
        Column with the metric after the change.
    before : str
        Column with the metric before it.

    Returns
    -------
    Comparison
        Difference of the mean changes, with Welch's test; `adjustment` holds the comparison of the values after.

    Raises
    ------
    DataError
        If a variant has fewer than two units with both values, or no change varies.

    Notes
    -----
    Each unit's change has the variance s_y² - 2 s_yx + s_x². Where variants were randomised, `cuped` asks the same
    question more sharply: it takes off as much of the value before as helps, and this the whole of it.

    References
    ----------
    .. [1] Ashenfelter & Card (1985), Review of Economics and Statistics 67, 648-660.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"after": [5.0, 7, 9, 12], "before": [3.0, 4, 7, 8]}, "short")
    >>> current = Records({"after": [4.0, 6, 7, 9], "before": [3.0, 5, 6, 8]}, "current")
    >>> r = before_after(short, current, value="after", before="before")
    >>> round(r.estimate, 4), round(r.se, 4)
    (1.75, 0.4787)
    """
    ask = shared.question(asked)
    own_column("before", before, (value,))
    cells, _ = cells_of((treatment, control), [value, before])
    name = ask.metric or value
    settings = ask.settings(null=gate.finite("null", ask.null), metric=name)
    raw = means(*(m.complete(value) for m in cells.whole[:2]), **settings)
    shape = cells.means.shape[:1] + cells.means.shape[2:-1]
    table = np.zeros((*shape, 1, 2))
    table[..., 0, 0], table[..., 0, 1] = 1.0, -1.0
    changes = cells.turned([name], table, np.zeros((*shape, 1)))
    summaries = []
    for k in (0, 1):
        n = changes.n[k, 0]
        after, then = cells.means[k, 0, ..., 0], cells.means[k, 0, ..., 1]
        mean = after - then
        tail = ((after - mean) - then) + changes.tails[k, 0, ..., 0]
        sd = np.sqrt(np.maximum(changes.squares[k, 0, ..., 0, 0], 0.0) / (n - 1))
        m = cells.whole[k]
        flat = [v[()] if np.ndim(v) == 0 else v for v in (n, mean, sd, tail)]
        summaries.append(Summary(flat[0], flat[1], flat[2], m.label, m.missing, name, cells.axis, flat[3]))
    result = means(*summaries, **settings)
    part = pair.gained([f"each unit's change since {before}"], raw, result.se, cells.total[:2].sum(axis=0))
    return replace(
        result,
        title=f"{name} since {before}: {cells.labels[0]} − {cells.labels[1]}",
        method="two means of changes, unequal variances",
        source="Ashenfelter & Card (1985), Review of Economics and Statistics 67, 648-660",
        effects={name: effect for name, effect in result.effects.items() if effect.unit != "relative"},
        notes=tuple(note for note in result.notes if "lift" not in note),
        parts=(part,),
    )


@method(
    takes="two",
    needs="values",
    columns=("value", "age", "unit"),
    examples=("visits.csv --value amount --age days_since_first --unit traveller --by form --control current",),
    exempt={"broadcast": "rows of one metric are needed", "rescale": "an effect for each day"},
)
def novelty(
    treatment: Records,
    control: Records,
    *,
    value: str,
    age: str,
    unit: str,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    **asked: Unpack[Directed],
) -> Comparison:
    """Does the effect wear off, or grow, with the time since a unit was first exposed?

    Parameters
    ----------
    treatment, control : Records
        One row a unit and day.
    value : str
        Column with the metric.
    age : str
        Column with the days since the unit's first (`table.days_since_first` makes it).
    unit : str
        Column with the unit, which has rows on several days.
    alternative, margin
        As for `measure.means`.

    Returns
    -------
    Comparison
        A difference for each age, along an axis; `strata` holds the test of its trend.

    Raises
    ------
    DataError
        If there is one age only, or an age has fewer than two units of a variant.

    Notes
    -----
    Each age is compared by Welch's test. The trend is the slope of the differences on age, each age weighted by
    n1 n0 / (n1 + n0). A unit returns on several days, so its standard error is taken over units, with G / (G - 1) a
    variant; t has the degrees of freedom of the smaller number of units, less 1.

    References
    ----------
    .. [1] Kohavi, Tang & Xu (2020), Trustworthy Online Controlled Experiments, chapter 3, for primacy and novelty.
    .. [2] Liang & Zeger (1986), Biometrika 73, 13-22, for the standard error.

    Examples
    --------
    >>> import numpy as np
    >>> from amber_ruler import Records
    >>> who, day = np.repeat(np.arange(20), 3), np.tile([0, 1, 2], 20)
    >>> fare = 5 + (who * 7 % 5) + np.sqrt(day + 1) * (who % 3)
    >>> short = Records({"fare": fare + 2 - day * 0.5, "day": day, "who": who}, "short")
    >>> current = Records({"fare": fare, "day": day, "who": who + 50}, "current")
    >>> r = novelty(short, current, value="fare", age="day", unit="who")
    >>> r.estimate.round(2).tolist()
    [2.0, 1.5, 1.0]
    """
    ask = shared.question(asked, alternative=alternative, margin=margin)
    if len({value, age, unit}) < 3:
        raise InputError("value, age and unit are three columns.", name="age")
    rows = rows_of((treatment, control), [value, age], [unit])
    spans = rows.spanning(unit)
    if spans:
        raise DataError(f"{spans:,} of {unit!r} have rows in both variants: leave them out.")
    cells = Cells.of(rows.moments([value], by=age), strata=age)
    ages = np.array([float(level) for level in cells.levels])
    order = np.argsort(ages)
    if ages.size < 2:
        raise DataError(f"There is one age in {age!r} only: nothing can change.")
    axis = Axis(age, tuple(cells.levels[k] for k in order))
    arms = [
        pair.Arm(
            cells.labels[k], cells.n[k, order], cells.means[k, order, 0],
            cells.squares[k, order, 0, 0] / (cells.n[k, order] - 1) / cells.n[k, order], cells.n[k, order] - 1,
            cells.tails[k, order, 0],
        )
        for k in (0, 1)
    ]  # fmt: skip
    if np.any(arms[0].variance + arms[1].variance == 0):
        raise DataError(f"At one age in {age!r} no value varies: there is no test of its difference.")
    result = pair.compare(
        ask, arms, 0.0, metric=ask.metric or value, method="a difference for each age, unequal variances",
        source="Kohavi, Tang & Xu (2020), Trustworthy Online Controlled Experiments, chapter 3", axis=axis,
        said=f", by {age}", lifts=False, checks_=left_out(rows),
    )  # fmt: skip
    trend, slope = _trend(rows, (value, age, unit), arms, ages[order], ask.alpha)
    part = Strata(column=age, effects=replace(result, parts=()), interaction=trend)
    return replace(
        result, facts={"slope": slope}, parts=(part,),
        notes=(f"The same units return, which the trend counts. Its slope is {slope:.4g} a day.",),
    )  # fmt: skip


def _trend(
    rows: Any, columns: Sequence[str], arms: Sequence[pair.Arm], ages: Floats, alpha: float
) -> tuple[Test, float]:
    value, age, unit = columns
    n1, n0 = arms[0].n, arms[1].n
    weight = n1 * n0 / (n1 + n0)
    centred = ages - (weight * ages).sum() / weight.sum()
    contrast = weight * centred / (weight * centred**2).sum()
    slope = float((contrast * ((arms[0].mean - arms[1].mean) + (arms[0].tail - arms[1].tail))).sum())
    variance, least = 0.0, np.inf
    for k, (values, seen, ids) in enumerate(zip(rows.values(value), rows.values(age), rows.column(unit), strict=True)):
        at = np.searchsorted(ages, seen)
        score = contrast[at] * (values - arms[k].mean[at]) / arms[k].n[at]
        _, codes = np.unique(np.array([str(v) for v in ids]), return_inverse=True)
        each = np.bincount(codes, weights=score)
        if each.size < 2:
            raise DataError(f"Variant {arms[k].label!r} has one of {unit!r}: a spread of units needs at least 2.")
        variance += float(each @ each) * each.size / (each.size - 1)
        least = min(least, each.size)
    if variance <= 0:
        raise DataError("The values have no spread over units: there is nothing to test a trend by.")
    t, df = slope / np.sqrt(variance), float(least - 1)
    p = min(1.0, 2 * float(student.sf(np.asarray(abs(t)), np.asarray(df))))
    return Test(p_value=p, alpha=alpha, statistic=float(t), name="t", df=df, null=0.0), slope
