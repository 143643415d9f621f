"""Values that are capped or trimmed, so that a few of them don't decide."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal, NamedTuple, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.adjust import pair
from amber_ruler.adjust.answer import answer, capped_said
from amber_ruler.adjust.description import Ends, Steps
from amber_ruler.adjust.prepared import rows_of
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, means, pairs, shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Comparison, Group
from amber_ruler.samples import Pairs, Records, Sample, ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithLift, WithMargin

_WINSORISED = "Dixon & Tukey (1968), Technometrics 10, 83-98"
_TRIMMED = "Yuen (1974), Biometrika 61, 165-170"
_SLACK = 1e-9  # what rounding may take off a whole number of rows


class _Cut(NamedTuple):
    """A group whose ends are set to an order statistic, or left out."""

    n: int
    kept: int  # rows between the ends
    mean: float
    tail: float  # what the mean rounds away
    variance: float  # squared standard error
    moved: int


@method(
    takes="two",
    needs="values",
    columns=("value", "before"),
    examples=("travellers.csv --value fare --cap 0.999 --by form --control current --margin 0.30",),
    exempt={"broadcast": "the values of one metric are needed"},
    single=True,
)
def cap(
    treatment: Records | ValueGroup,
    control: Records | ValueGroup,
    *,
    value: str | None = None,
    cap: float | None = None,
    cap_at: float | None = None,
    ends: Ends = "upper",
    of: Literal["all", "own"] = "all",
    before: str | None = None,
    others: Sequence[Any] = (),
    **asked: Unpack[WithLift],
) -> Comparison:
    """What is the difference of means when the largest values count as no more than a cap?

    Parameters
    ----------
    treatment, control : Records, Sample or array_like
        The values, or rows that hold them.
    value : str, optional
        Column with the metric, of Records.
    cap : float, between 0.5 and 1, optional
        Quantile at which values are capped; 0.99 unless cap_at is given.
    cap_at : float
        Value at which they are capped, instead.
    ends : "upper" or "both"
        Which ends are capped; of both, the lower one at the quantile 1 - cap, or at -cap_at.
    of : "all" or "own"
        Whether the quantile is that of all variants together, so that one cap serves all; or each variant is capped at
        order statistics of its own, ⌊(1 - cap) n⌋ values at an end, with the winsorised t.
    before : str, optional
        Column of the same metric before the test, whose quantile is the cap: it can't depend on the treatment.
    others : sequence of Records or arrays
        Further variants, whose values count in the quantile of all.

    Returns
    -------
    Comparison
        Difference of the capped means. In `facts` how many values were capped in each variant, and what that took off
        its mean; `adjustment` holds the comparison without a cap.

    Raises
    ------
    DataError
        If the cap lies below every value, or nothing is left between two caps.

    Notes
    -----
    Quantiles are of type 7. With one cap for all Welch's test is made on the capped values, the cap taken as known. At
    order statistics of its own a group's standard error is √(SSD / (n (n - 1))) (n - 1) / (h - 1), SSD being the sum of
    squares of its capped values and h the number of those between the caps, and it has h - 1 degrees of freedom. A
    capped mean is biased towards the middle: what treatment does to the largest values is not in the difference.

    References
    ----------
    .. [1] Dixon & Tukey (1968), Technometrics 10, 83-98.
    .. [2] Hyndman & Fan (1996), The American Statistician 50, 361-365, for the quantile.

    Examples
    --------
    >>> r = cap([3.0, 4, 5, 6, 90], [2.0, 3, 4, 4, 5], cap_at=10)
    >>> round(r.estimate, 4), r.facts["capped treatment"], r.facts["mean taken off treatment"]
    (2.0, 1.0, 16.0)
    """
    ask = shared.question(asked)
    gate.choice("of", of, ("all", "own"))
    cap = 0.99 if cap is None and cap_at is None else cap
    steps = Steps(cap=cap, cap_at=cap_at, ends=ends)
    name, arms = _as_records((treatment, control, *others), value)
    at = gate.finite("null", ask.null)
    if of == "own":
        if cap is None or before is not None:
            raise InputError(
                "Caps at each variant's own order statistics take a quantile, cap, and no before.", name="of"
            )
        rows = rows_of(arms[:2], [name])
        samples = [Sample(v, label, metric=name) for v, label in zip(rows.values(name), rows.labels, strict=True)]
        return _own_caps(samples, 1 - cap, ends, ask, at, ask.metric or name, rows.left_out)
    if before is not None:
        steps = _from_before(arms, before, steps)
    result = answer(arms, name, steps, ask, at, ask.metric)
    told = f"the {100 * cap:g}% quantile of {before}, before the test" if before is not None and cap is not None else ""
    return replace(result, notes=(*result.notes, *([f"The cap is {told}."] if told else [])))


def _as_records(given: Sequence[Any], value: str | None) -> tuple[str, list[Any]]:
    """Rows as they are; values as rows of one column."""
    if hasattr(given[0], "together"):
        if value is None:
            raise InputError("Records hold several columns: name the metric in value.", name="value")
        return value, list(given)
    if value is not None:
        raise InputError(f"value={value!r} names a column of Records, and values are given.", name="value")
    roles = ("treatment", "control")
    samples = [groups.one(g, "values", label=roles[min(k, 1)]) for k, g in enumerate(given)]
    name = groups.named(None, "value", *samples)
    return name, [Records({name: s.values}, s.label) for s in samples]


def _from_before(arms: Sequence[Any], before: str, steps: Steps) -> Steps:
    if steps.cap is None or steps.ends == "both":
        raise InputError("before takes the quantile of one end: give cap, and ends='upper'.", name="before")
    earlier = np.concatenate(rows_of(arms, [before]).values(before))
    return Steps(cap_at=float(np.quantile(earlier, steps.cap)))


def _own_caps(
    samples: Sequence[Sample], share: float, ends: str, ask: shared.Question, null: Floats, name: str,
    lost: Sequence[int],
) -> Comparison:  # fmt: skip
    raw = means(*samples, **ask.settings(null=null, metric=name))
    cuts = [_winsorised(s, share, both=ends == "both") for s in samples]
    facts: dict[str, float] = {}
    for s, c in zip(samples, cuts, strict=True):
        facts[f"capped {s.label}"] = float(c.moved)
    for s, c in zip(samples, cuts, strict=True):
        facts[f"mean taken off {s.label}"] = float(np.mean(s.values)) - c.mean
    listed = ", ".join(f"{s.label} {c.moved:,} of {c.n:,}" for s, c in zip(samples, cuts, strict=True))
    told = f"each variant capped at order statistics of its own ({listed})"
    notes = capped_said(facts, [s.label for s in samples])
    return _cut_result(
        samples,
        cuts,
        ask,
        null,
        name,
        raw,
        told,
        "two winsorised means",
        _WINSORISED,
        facts,
        lost,
        said=", capped",
        notes=notes,
    )


def _cut_result(
    samples: Sequence[Sample], cuts: Sequence[_Cut], ask: shared.Question, null: Floats, name: str, raw: Comparison,
    told: str, method_: str, source: str, facts: dict[str, float], lost: Sequence[int], *, said: str, notes:
    Sequence[str],
) -> Comparison:  # fmt: skip
    arms = [
        pair.Arm(
            s.label, np.asarray(float(c.n)), np.asarray(c.mean), np.asarray(c.variance), np.asarray(c.kept - 1.0),
            np.asarray(c.tail), more={"kept": float(c.kept)},
        )
        for s, c in zip(samples, cuts, strict=True)
    ]  # fmt: skip
    if cuts[0].variance + cuts[1].variance <= 0:
        raise DataError("Between the ends every value is the same in both variants: there is no spread to test by.")
    part = pair.gained([told], raw, np.sqrt(cuts[0].variance + cuts[1].variance), sum(c.n for c in cuts))
    groups_lost = checks.missing(*(replace(s, missing=int(k)) for s, k in zip(samples, lost, strict=True)))
    return pair.compare(
        ask, arms, null, metric=name, method=method_, source=source, said=said, facts=facts, parts=(part,),
        checks_=groups_lost, notes=notes, few=[np.asarray(float(c.kept)) for c in cuts],
    )  # fmt: skip


def _ends_of(n: int, share: float) -> int:
    """How many values lie at an end: ⌊share n⌋."""
    return int(np.floor(share * n + _SLACK))


def _winsorised(sample: Sample, share: float, *, both: bool) -> _Cut:
    """Ends set to the nearest value that stays, and the winsorised standard error of the mean."""
    values = np.sort(sample.values)
    n, g = values.size, _ends_of(values.size, share)
    kept = n - g * (2 if both else 1)
    if kept < 2:
        raise DataError(
            f"{sample.label!r} has {n:,} values: between the caps {max(kept, 0)} would be left, and 2 are needed."
        )
    if g:
        values[n - g :] = values[n - g - 1]
        if both:
            values[:g] = values[g]
    squares = _spread_of(values, values) * (n - 1)
    variance = squares / (n * (n - 1)) * ((n - 1) / (kept - 1)) ** 2
    moved = int(np.sum(values != np.sort(sample.values)))
    return _Cut(n, kept, *_mean(values), variance, moved)


@method(
    takes="two",
    needs="values",
    examples=("travellers.csv --value minutes_to_book --by form --control current --share 0.1 --good lower",),
    single=True,
)
def trim(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    share: float = 0.2,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Is the trimmed mean different: the mean without the smallest and the largest values?

    Parameters
    ----------
    treatment, control : array_like or Sample
        The values of the two groups.
    share : float, at least 0 and below 0.5
        Share of the values that is left out at each end.

    Returns
    -------
    Comparison
        Difference of the trimmed means, with Yuen's t; `adjustment` holds the comparison of the means.

    Raises
    ------
    DataError
        If fewer than two values are left of a group, or those are all the same.

    Notes
    -----
    g = ⌊share n⌋ values are left out at each end, h = n - 2g stay. With s_w² the winsorised variance (n - 1 below) a
    group's squared standard error is (n - 1) s_w² / (h (h - 1)), with h - 1 degrees of freedom, put together as Welch
    and Satterthwaite do. The trimmed mean is a parameter of its own: of skewed values it lies below the mean.

    References
    ----------
    .. [1] Yuen (1974), Biometrika 61, 165-170.

    Examples
    --------
    >>> r = trim([2.0, 3, 4, 5, 6, 7, 90], [1.0, 2, 3, 3, 4, 5, 6], share=0.2)
    >>> r.estimate, round(r.se, 4), round(r.df, 2)
    (1.6, 1.1772, 7.34)
    """
    ask = shared.question(asked)
    cut = _share(share)
    one, two = groups.two(treatment, control, "values")
    name = groups.named(ask.metric, "value", one, two)
    at = gate.finite("null", ask.null)
    raw = means(one, two, **ask.settings(null=ask.null, metric=name))
    cuts = [_trimmed(s, cut) for s in (one, two)]
    listed = ", ".join(f"{s.label} {c.moved:,} of {c.n:,}" for s, c in zip((one, two), cuts, strict=True))
    told = f"{100 * cut:g}% trimmed at each end ({listed} left out)"
    return _cut_result(
        (one, two), cuts, ask, at, name, raw, told, "two trimmed means, unequal variances", _TRIMMED, {},
        (int(one.missing), int(two.missing)), said=", trimmed",
        notes=["This is the difference of the trimmed means: of skewed values they lie below the means."],
    )  # fmt: skip


def _share(share: float) -> float:
    cut = float(gate.at_least("share", gate.single("share", share), 0))
    if cut >= 0.5:
        raise InputError.rule("share", share, "below 0.5: it is left out at each end")
    return cut


def _trimmed(sample: Sample, share: float) -> _Cut:
    values = np.sort(sample.values)
    n, g = values.size, _ends_of(values.size, share)
    h = n - 2 * g
    if h < 2:
        raise DataError(f"{sample.label!r} has {n:,} values: trimmed, {max(h, 0)} would be left, and 2 are needed.")
    inner = values[g : n - g]
    held = np.clip(values, inner[0], inner[-1])
    return _Cut(n, h, *_mean(inner), _spread_of(held, held) * (n - 1) / (h * (h - 1)), n - h)


def _mean(values: Floats) -> tuple[float, float]:
    """The mean, and what its float rounds away."""
    mean, tail = pair.split(values[0], (values - values[0]).mean())
    return float(mean), float(tail)


def _spread_of(one: Floats, two: Floats) -> float:
    """Covariance with n - 1 below."""
    a, b = one - one[0], two - two[0]
    return float((a - a.mean()) @ (b - b.mean())) / (one.size - 1)


@method(
    takes="pairs",
    needs="values",
    examples=("turnarounds.csv --value minutes --by when --unit vessel --control before --share 0.1 --good lower",),
    single=True,
)
def trimmed_pairs(
    both: Pairs,
    *,
    share: float = 0.2,
    of: Literal["sides", "differences"] = "sides",
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Is the trimmed mean of the same units different on both sides?

    Parameters
    ----------
    both : Pairs
        Both sides of each unit.
    share : float, at least 0 and below 0.5
        Share of the values that is left out at each end.
    of : "sides" or "differences"
        The difference of the two sides' trimmed means, or the trimmed mean of the differences: two parameters.

    Returns
    -------
    Comparison
        The difference with t and p; `adjustment` holds the comparison in pairs without trimming.

    Raises
    ------
    DataError
        If fewer than two pairs are left, or those never differ.

    Notes
    -----
    Of the sides, each is trimmed and winsorised by itself, and the squared standard error is
    (n - 1) (s_w1² + s_w0² - 2 s_w10) / (h (h - 1)), s_w10 being the covariance of the winsorised sides. Of the
    differences it is (n - 1) s_wd² / (h (h - 1)). Both have h - 1 degrees of freedom.

    References
    ----------
    .. [1] Yuen (1974), Biometrika 61, 165-170.
    .. [2] Wilcox (2017), Introduction to Robust Estimation and Hypothesis Testing, 4th ed., 5.9.

    Examples
    --------
    >>> from amber_ruler import Pairs
    >>> r = trimmed_pairs(Pairs([39.0, 41, 40, 38, 44], [42.0, 44, 45, 40, 60], ("after", "before")), share=0.2)
    >>> round(r.estimate, 4), round(r.se, 4), r.df
    (-3.6667, 0.7303, 2.0)
    """
    ask = shared.question(asked)
    gate.choice("of", of, ("sides", "differences"))
    cut = _share(share)
    if not isinstance(both, Pairs):
        raise InputError(f"Trimmed pairs take Pairs, not {type(both).__name__}.")
    raw = pairs(both, **ask.settings(null=ask.null, metric=ask.metric))
    one, two = (Sample(v, label) for v, label in zip((both.treatment, both.control), both.labels, strict=True))
    sides = [_trimmed(s, cut) for s in (one, two)]
    n, h = sides[0].n, sides[0].kept
    if of == "sides":
        held = [np.clip(s.values, *_inner(s.values, cut)) for s in (one, two)]
        spread = _spread_of(held[0], held[0]) + _spread_of(held[1], held[1]) - 2 * _spread_of(held[0], held[1])
        difference = (sides[0].mean - sides[1].mean) + (sides[0].tail - sides[1].tail)
        variance = spread * (n - 1) / (h * (h - 1))
    else:
        differences = _trimmed(Sample(both.differences, "differences"), cut)
        difference, variance = differences.mean, differences.variance
    if variance <= 0:
        raise DataError("Between the ends every difference is the same: there is no spread to test by.")
    at = gate.finite("null", ask.null)
    result = shared.symmetric_test(ask, np.asarray(difference), np.sqrt(variance), np.asarray(h - 1.0), at)
    what = "each side trimmed" if of == "sides" else "differences trimmed"
    told = f"{what}, {100 * cut:g}% at each end ({n - h:,} of {n:,} left out)"
    part = pair.gained([told], raw, np.sqrt(variance), n)
    found = [
        Group(s.label, c.n, c.mean, se=float(np.sqrt(c.variance)), more={"kept": float(c.kept)})
        for s, c in zip((one, two), sides, strict=True)
    ]
    lifts = {}
    if of == "sides":
        covariance = _spread_of(held[0], held[1]) * (n - 1) / (h * (h - 1))
        lifts = effects.lift(
            (np.asarray(sides[0].mean), np.asarray(sides[1].mean)),
            (np.asarray(sides[0].variance), np.asarray(sides[1].variance)),
            result.critical, covariance=covariance, alpha=ask.alpha, alternative=ask.alternative,
        )  # fmt: skip
    name = ask.metric or both.metric or "value"
    return Comparison(
        title=f"{name}: {both.labels[0]} − {both.labels[1]}, in pairs, trimmed",
        metric=name,
        treatment=both.labels[0],
        control=both.labels[1],
        method="difference of trimmed means of pairs" if of == "sides" else "trimmed mean of differences",
        source=_TRIMMED,
        estimate=scalar_or_array(np.asarray(difference)),
        se=float(np.sqrt(variance)),
        interval=result.interval,
        test=result.test,
        paired=True,
        effects={name_: e for name_, e in lifts.items() if effects.known(e)},
        groups=tuple(found),
        quantity="adjusted mean",
        good=ask.good,
        margin=ask.margin,
        checks=(*checks.few(np.asarray(float(h))), *checks.without_pair(both.left_out)),
        parts=(part,),
    )


def _inner(values: Floats, share: float) -> tuple[float, float]:
    """The smallest and the largest value that stay."""
    g, ordered = _ends_of(values.size, share), np.sort(values)
    return float(ordered[g]), float(ordered[values.size - g - 1])
