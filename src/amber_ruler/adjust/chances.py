"""Units that count unequally: by their chance of being in, or because only some could be reached by the treatment."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal, Unpack

import numpy as np

from amber_ruler.adjust import pair
from amber_ruler.adjust.prepared import cells_of, left_out, rows_of, unused
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means, shared
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Adjustment, Check, Comparison, EffectSize, Group
from amber_ruler.samples import Records
from amber_ruler.samples.records import Rows
from amber_ruler.settings import WithMargin

_UPTAKE = "Imbens & Angrist (1994), Econometrica 62, 467-475"
_APART = 0.001  # chance of so different shares of exposed units in a sound test


@method(
    takes="two",
    needs="values",
    columns=("value", "weight"),
    examples=("survey.csv --value spent --weight weight --by form --control current",),
    exempt={"broadcast": "rows of one metric are needed"},
    single=True,
)
def weights(
    treatment: Records,
    control: Records,
    *,
    value: str,
    weight: str,
    form: Literal["normalised", "total"] = "normalised",
    population: float | tuple[float, float] | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """What is the difference of means when units were taken with unequal chances?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant.
    value : str
        Column with the metric.
    weight : str
        Column with the weight, 1 over the sampling probability (or a multiple of it).
    form : "normalised" or "total"
        Weighted mean Σ w y / Σ w; or Horvitz and Thompson's Σ w y / N over a known population.
    population : float, or pair of float for treatment and control
        N of "total": how many units each variant stands for.

    Returns
    -------
    Comparison
        Difference of the weighted means; beside each the effective number of units by Kish, (Σ w)² / Σ w².

    Raises
    ------
    DataError
        If a weight is 0 or less.
    InputError
        If "total" has no population, or "normalised" has one.

    Notes
    -----
    Normalised, the standard error is √(n / (n - 1) Σ w² (y - μ)²) / Σ w; of the total it is
    √(n / (n - 1) Σ (w y - mean of w y)²) / N, as for units drawn with replacement. The degrees of freedom are
    Satterthwaite's with n - 1 of each variant.

    References
    ----------
    .. [1] Horvitz & Thompson (1952), Journal of the American Statistical Association 47, 663-685.
    .. [2] Hájek (1971), in Foundations of Statistical Inference, 236, for the normalised form.
    .. [3] Kish (1965), Survey Sampling, 11.7, for the effective number of units.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"fare": [3.0, 5, 8, 9], "w": [1.0, 1, 2, 2]}, "short")
    >>> current = Records({"fare": [2.0, 4, 5, 7], "w": [2.0, 2, 1, 1]}, "current")
    >>> r = weights(short, current, value="fare", weight="w")
    >>> round(r.estimate, 4), round(r.se, 4), round(r.groups[0].more["effective n"], 2)
    (3.0, 1.5635, 3.6)
    """
    ask = shared.question(asked)
    gate.choice("form", form, ("normalised", "total"))
    rows = rows_of((treatment, control), [value, weight])
    _above_zero(rows, weight)
    raw_moments = [m[""] for m in rows.moments([value])]
    raw = means(*raw_moments, **ask.settings(null=ask.null, metric=ask.metric or value))
    product = unused("weighted", (value, weight))
    # Around a value of theirs, so that weights times values far from 0 keep their digits.
    origin = float(raw_moments[0].means[0]) if form == "normalised" else 0.0
    found = [m[""] for m in rows.derived(product, lambda c: (c[value] - origin) * c[weight]).moments([product, weight])]
    known = _population(form, population)
    arms = []
    for k, m in enumerate(found):
        n, (top, below), s = float(m.n), m.means + m.tails, m.comoments
        if form == "normalised":
            mean = top / below
            squares = s[0, 0] - 2 * mean * s[0, 1] + mean**2 * s[1, 1]
            variance = squares / (n - 1) / n / below**2 if n > 1 else 0.0
        else:
            mean = n * top / known[k]
            variance = n / (n - 1) * s[0, 0] / known[k] ** 2 if n > 1 else 0.0
        effective = (n * below) ** 2 / (s[1, 1] + n * below**2)
        if n < 2:
            raise DataError(f"Variant {m.label!r} has 1 row: a spread needs at least 2.")
        arms.append(
            pair.Arm(
                m.label, np.asarray(n), *_placed(origin, mean, max(variance, 0.0), n - 1),
                more={"effective n": float(effective)},
            )
        )  # fmt: skip
    if arms[0].variance + arms[1].variance <= 0:
        raise DataError("The weighted values have no spread: there is nothing to test a difference by.")
    how = "normalised" if form == "normalised" else "over a known population"
    se = np.sqrt(arms[0].variance + arms[1].variance)
    part = pair.gained([f"weighted by {weight}, {how}"], raw, se, float(arms[0].n + arms[1].n))
    source = (
        "Hájek (1971), in Foundations of Statistical Inference, 236"
        if form == "normalised"
        else "Horvitz & Thompson (1952), JASA 47, 663-685"
    )
    return pair.compare(
        ask, arms, gate.finite("null", ask.null), metric=ask.metric or value, method=f"two weighted means, {how}",
        source=source, said=f", weighted by {weight}", parts=(part,),
        checks_=left_out(rows),
    )  # fmt: skip


def _placed(origin: float, mean: float, variance: float, df: float) -> tuple[Floats, Floats, Floats, Floats]:
    """Mean, variance, df and what the mean rounds away, as an arm has them."""
    at, tail = pair.split(origin, mean)
    return at, np.asarray(variance), np.asarray(df), tail


def _above_zero(rows: Rows, weight: str) -> None:
    counts = rows.sums([{"bad": lambda c: c[weight] <= 0}] * len(rows.labels))
    for label, count in zip(rows.labels, counts, strict=True):
        if count["bad"]:
            raise DataError(
                f"{count['bad']:,.0f} weights of variant {label!r} in {weight!r} are 0 or less: leave those rows out."
            )


def _population(form: str, given: Any) -> tuple[float, float]:
    if form == "normalised":
        if given is not None:
            raise InputError("population goes with form='total': normalised weights need none.", name="population")
        return 1.0, 1.0
    if given is None:
        raise InputError(
            "form='total' needs the population: how many units each variant stands for.", name="population"
        )
    both = gate.positive("population", given)
    if both.ndim > 1 or both.size not in (1, 2):
        raise InputError.rule("population", given, "one number, or one for treatment and one for control")
    one, two = np.broadcast_to(both, 2)
    return float(one), float(two)


@method(
    takes="two",
    needs="values",
    columns=("value", "exposed"),
    examples=("survey.csv --value spent --exposed reached --by form --control current",),
    exempt={"broadcast": "rows of one metric are needed"},
    single=True,
)
def triggered(
    treatment: Records,
    control: Records,
    *,
    value: str,
    exposed: str,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """What is the effect on all units, when only those who were exposed could be changed?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant, exposed or not; of control those who would have been exposed are marked too.
    value : str
        Column with the metric.
    exposed : str
        Column with 1 for exposed units, 0 for others.

    Returns
    -------
    Comparison
        The effect on exposed units times their share: the effect on all, without the noise of those who couldn't
        change. In `effects` the one on exposed units; `adjustment` holds the comparison of all units.

    Raises
    ------
    DataError
        If the marks are other than 0 and 1, or a variant has fewer than two exposed units.

    Notes
    -----
    With the share p of exposed units in both variants together, taken as fixed, the effect is p (m1 - m0) over exposed
    units with standard error p times Welch's. It holds where exposure itself is not changed by the treatment: whether
    the variants' shares differ is checked.

    References
    ----------
    .. [1] Deng & Hu (2015), WSDM, 349-358.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"fare": [3.0, 5, 8, 9, 0, 1], "seen": [1, 1, 1, 1, 0, 0]}, "short")
    >>> current = Records({"fare": [2.0, 4, 5, 7, 1, 0], "seen": [1, 1, 1, 1, 0, 0]}, "current")
    >>> r = triggered(short, current, value="fare", exposed="seen")
    >>> round(r.estimate, 4), r.effects["exposed"].value
    (1.1667, 1.75)
    """
    ask = shared.question(asked)
    rows = rows_of((treatment, control), [value, exposed])
    marks = [m[""] for m in rows.moments([exposed])]
    for m in marks:
        if not m.zero_one().all():
            raise DataError(
                f"{exposed!r} of variant {m.label!r} holds other values than 0 and 1: mark exposed units by 1."
            )
    seen = [round(float(m.n) * float(m.means[0])) for m in marks]
    for m, count in zip(marks, seen, strict=True):
        if count < 2:
            raise DataError(f"Variant {m.label!r} has {count} exposed units: at least 2 are needed.")
    total = [int(m.n) for m in marks]
    share = sum(seen) / sum(total)
    name = ask.metric or value
    raw = means(*(m[""] for m in rows.moments([value])), **ask.settings(null=ask.null, metric=name))
    inner = means(*(m[""] for m in rows.only(exposed).moments([value])), **ask.settings(margin=None, metric=name))
    at = gate.finite("null", ask.null)
    difference, se, df = (np.asarray(v) for v in (inner.estimate, inner.se, inner.df))
    arms = [
        pair.Arm(
            str(g.label), np.asarray(float(g.n)), mean, (share * np.asarray(g.se)) ** 2, np.asarray(float(g.n) - 1)
        )
        for g, mean in zip(inner.groups, (share * difference, np.zeros_like(difference)), strict=True)
    ]
    result = pair.compare(
        ask, arms, at, metric=name, method="exposed units only, diluted to all",
        source="Deng & Hu (2015), WSDM, 349-358", said=f", exposed by {exposed}", se=share * se, df=df, lifts=False,
        checks_=(*_alike(marks, seen, exposed), *(c for c in inner.checks if c.name == "skewness"), *left_out(rows)),
    )  # fmt: skip
    told = f"units exposed by {exposed} only, {100 * share:.4g}% of all, diluted to all"
    part = pair.gained([told], raw, share * se, sum(total))
    groups = tuple(
        Group(g.label, n, g.mean, se=g.se, more={"exposed": float(count)})
        for g, n, count in zip(inner.groups, total, seen, strict=True)
    )
    exposed_effect = EffectSize(inner.estimate, inner.interval, "difference of exposed units", "")
    note = f"The means beside the groups are those of exposed units; the difference is theirs times {share:.4g}."
    return replace(
        result, groups=groups, parts=(part,), effects={"exposed": exposed_effect}, facts={"share exposed": share},
        notes=(*result.notes, note),
    )  # fmt: skip


def _alike(marks: Sequence[Any], seen: Sequence[int], exposed: str) -> tuple[Check, ...]:
    """Were as many units exposed in both variants?"""
    n = [int(m.n) for m in marks]
    share = sum(seen) / sum(n)
    spread = np.sqrt(share * (1 - share) * (1 / n[0] + 1 / n[1]))
    if spread == 0:
        return ()
    p = 2 * float(normal.sf(abs(seen[0] / n[0] - seen[1] / n[1]) / spread))
    listed = " and ".join(f"{100 * c / k:.4g}% of {m.label}" for c, k, m in zip(seen, n, marks, strict=True))
    finding = f"{exposed}: {listed}, p {p:.2g}"
    if p < _APART:
        advice = "The variants expose different units: what they differ by is not the effect. Compare all units."
        return (Check("exposure", finding, advice, "serious"),)
    return (Check("exposure", finding),)


@method(
    takes="two",
    needs="mean",
    columns=("value", "taken"),
    examples=("travellers.csv --value fare --taken booked --by form --control current",),
    exempt={
        "broadcast": "published numbers say nothing of who took it up",
        "swap": "the effect of taking it up is the same whichever variant is called treatment",
    },
    single=True,
)
def compliers(
    treatment: Any,
    control: Any,
    *,
    value: str,
    taken: str,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """What is the effect of taking it up, when not all of treatment do, and some of control may?

    Parameters
    ----------
    treatment, control : Moments or Records
        Moments that hold both columns, or the rows.
    value : str
        Column with the metric.
    taken : str
        Column with the uptake: 1 for yes, 0 for no, or a dose.

    Returns
    -------
    Comparison
        The complier average effect, the difference of means over the difference in uptake, with t. In `effects` the
        effect of being assigned, and the Anderson-Rubin set, which holds its level also where uptake hardly differs: an
        interval, two rays (all but the values between two limits), or the whole line.

    Raises
    ------
    DataError
        If the variants do not differ in uptake at all.

    Notes
    -----
    It is Wald's ratio L = (y1 - y0) / (d1 - d0), the effect on those who take it up because of their variant, if the
    variant changes the metric by the uptake alone and makes nobody do the opposite. Its standard error is that of the
    difference in y - L d, with n - 1 and each variant's own variance, over the size of d1 - d0, with Satterthwaite's
    degrees of freedom. The Anderson-Rubin set holds the values b at which the difference in y - b d is not significant
    at the same critical value.

    References
    ----------
    .. [1] Imbens & Angrist (1994), Econometrica 62, 467-475.
    .. [2] Anderson & Rubin (1949), Annals of Mathematical Statistics 20, 46-63.

    Examples
    --------
    >>> from amber_ruler import Records
    >>> short = Records({"fare": [3.0, 5, 8, 9, 4, 6], "used": [1, 1, 1, 1, 0, 0]}, "short")
    >>> current = Records({"fare": [2.0, 4, 5, 7, 3, 4], "used": [0, 0, 0, 1, 0, 0]}, "current")
    >>> r = compliers(short, current, value="fare", taken="used")
    >>> round(r.estimate, 4), round(r.se, 4)
    (3.3333, 2.183)
    """
    ask = shared.question(asked)
    cells, missing = cells_of((treatment, control), [value, taken])
    n, s = cells.n[:2, 0], cells.squares[:2, 0]
    away = (cells.means[0, 0] - cells.means[1, 0]) + (cells.tails[0, 0] - cells.tails[1, 0])
    gap, uptake = away[..., 0], away[..., 1]
    if np.any(uptake == 0):
        raise DataError(f"The variants do not differ in {taken!r}: there is no effect of taking it up to be seen.")
    effect = gap / uptake
    each = s / ((n - 1) * n)[..., None, None]  # of the means
    total = each.sum(axis=0)

    def variance(of: Any, b: Any) -> Any:
        return of[..., 0, 0] - 2 * b * of[..., 0, 1] + b * b * of[..., 1, 1]

    parts = variance(each, effect)
    if np.any(parts.sum(axis=0) <= 0):
        raise DataError("The values have no spread beside the uptake: there is nothing to test by.")
    df = pair.satterthwaite(parts[0], parts[1], n[0] - 1, n[1] - 1)
    se = np.sqrt(parts.sum(axis=0)) / np.abs(uptake)
    arms = [
        pair.Arm(
            cells.labels[k], n[k], cells.means[k, 0, ..., 0], each[k, ..., 0, 0], n[k] - 1,
            more={f"mean of {taken}": float(np.ravel(cells.means[k, 0, ..., 1])[0])},
        )
        for k in (0, 1)
    ]  # fmt: skip
    at = gate.finite("null", ask.null)
    name = ask.metric or value
    raw = means(*(m.complete(value) for m in cells.whole[:2]), **ask.settings(margin=None, metric=name))
    nothing = np.zeros_like(np.asarray(effect))
    apart = arms[0]._replace(mean=np.asarray(effect)), arms[1]._replace(mean=nothing)
    result = pair.compare(
        ask, apart, at, metric=name,
        method="difference of means over difference in uptake", source=_UPTAKE, se=se, df=df, lifts=False,
        said=f", of taking up {taken}",
        checks_=missing,
    )  # fmt: skip
    critical = abs(float(np.asarray(result.critical)))
    robust, said = _anderson_rubin(float(gap), float(uptake), total, critical, ask)
    part = Adjustment(steps=(f"per unit of uptake, {float(uptake):.4g} more in {cells.labels[0]}",))
    all_units = EffectSize(raw.estimate, raw.interval, "difference of all units", "")
    groups = tuple(replace(g, mean=scalar_or_array(a.mean)) for g, a in zip(result.groups, arms, strict=True))
    strength = abs(float(uptake)) / float(np.sqrt(total[..., 1, 1])) if total[..., 1, 1] > 0 else np.inf
    weak = (
        Check(
            "uptake", f"{taken} differs by {strength:.2g} standard errors",
            "With so weak a difference in uptake the interval misleads: read the Anderson-Rubin set.", "warning",
        )
        if strength < 3.2
        else Check("uptake", f"{taken} differs by {strength:.3g} standard errors")
    )  # fmt: skip
    return replace(
        result, groups=groups, parts=(part,), effects={"anderson_rubin": robust, "assigned": all_units},
        notes=(*result.notes, said), checks=(weak, *result.checks), facts={"uptake": float(uptake), "uptake_steps":
        float(strength)},
    )  # fmt: skip


def _anderson_rubin(
    gap: float, uptake: float, total: Any, critical: float, ask: shared.Question
) -> tuple[EffectSize, str]:
    """All b with (gap − b uptake)² ≤ c² variance of the difference in y − b d."""
    square = critical**2
    a = uptake**2 - square * float(total[1, 1])
    b = uptake * gap - square * float(total[0, 1])
    c = gap**2 - square * float(total[0, 0])
    under = b * b - a * c
    label = "Anderson-Rubin set"
    value = gap / uptake
    if ask.alternative != "two-sided":
        critical_said = "The Anderson-Rubin set is two-sided, at the critical value of the one-sided test."
    else:
        critical_said = ""
    if a > 0:
        far = b + np.copysign(np.sqrt(max(under, 0.0)), b)
        one, two = (far / a, c / far) if far else (0.0, 0.0)
        low, high = min(one, two), max(one, two)
        return EffectSize(
            value, ask.interval(low, high), label
        ), critical_said or "The Anderson-Rubin set is an interval."
    whole = ask.interval(-np.inf, np.inf)
    if under <= 0:
        return EffectSize(
            value, whole, label
        ), "The Anderson-Rubin set is the whole line: the data say nothing of the effect."
    ends = sorted((float((b - np.sqrt(under)) / a), float((b + np.sqrt(under)) / a)))
    rays = replace(whole, excludes=(ends[0], ends[1]))
    said = f"The Anderson-Rubin set is two rays: every value but those between {ends[0]:.4g} and {ends[1]:.4g}."
    return EffectSize(value, rays, label), said
