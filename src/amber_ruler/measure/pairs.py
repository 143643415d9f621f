"""Two values of each unit: the mean difference."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, NamedTuple, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.proportion import wilson
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate, normal, student
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.register import method
from amber_ruler.results import Comparison, EffectSize
from amber_ruler.samples import Pairs, Sample, Summary
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithLift


def _p_alone(given: tuple[Any, ...], settings: Mapping[str, Any]) -> float:
    """P of the differences, and nothing else."""
    both = both_sides(given[0], None, None)
    df, sd = np.asarray(both.n - 1.0), np.asarray(both.sd)
    if sd == 0:
        raise DataError("All differences are equal: without any variance there is no test of their mean.")
    t = (np.asarray(both.difference) - settings.get("null", 0.0)) / (sd / np.sqrt(both.n))
    return float(shared.p_value(t, lambda x: student.sf(x, df), settings.get("alternative", "two-sided")))


@method(
    takes="pairs",
    needs="mean",
    published=True,
    examples=(
        "turnarounds.csv --value minutes --by when --unit vessel --control before --good lower",
        "wide.csv --treatment after --control before",
    ),
    after=checks.one_value_decides(_p_alone),
)
def pairs(
    treatment: Pairs | Summary | ArrayLike,
    control: Summary | ArrayLike | None = None,
    *,
    correlation: float | None = None,
    **asked: Unpack[WithLift],
) -> Comparison:
    """Is the mean of treatment different from that of control on the same units, and by how much?

    Parameters
    ----------
    treatment : Pairs, Summary or array_like
        Both sides of each unit, as `table.pairs` aligns them; or the published numbers, or the values, of the treatment
        side.
    control : Summary or array_like, optional
        Those of the control side, with as many units; values in the same order of units.
    correlation : float, optional
        Correlation of the two sides; needed with published numbers only.

    Returns
    -------
    Comparison
        Mean difference with interval, t, df, p; in `effects` d_z (by the spread of differences) and the same with
        Hedges's correction (g_z), d_av (by the average spread of the sides), d_rm (d_z times sqrt(2 (1 - r)): by the
        spread of the sides, if both had the same), lift, superiority (the chance that the difference of a unit is above
        0, of normal differences), and `wins`, the share of pairs in which it was, with Wilson's interval; in `facts`
        the correlation of the sides and the gain of pairing.

    Raises
    ------
    DataError
        If there are fewer than two pairs, or all differences are equal.
    InputError
        If published numbers come without a correlation, or with different sizes.

    Notes
    -----
    The two standardised differences answer different questions: d_z grows with the correlation of the sides and says
    how easily the difference is seen; d_av is on the scale of a comparison of separate groups. The interval of d_z
    inverts the noncentral t; those of d_av and d_rm are the same one rescaled. Equal pairs count half as wins. The
    gain is the number of units in each of two separate groups that would be as sharp as one pair.

    References
    ----------
    .. [1] Student (1908), Biometrika 6, 1-25.
    .. [2] Algina & Keselman (2003), Educational and Psychological Measurement 63, 537-553, for d_av.
    .. [3] Morris & DeShon (2002), Psychological Methods 7, 105-125, for d_rm.
    .. [4] McGraw & Wong (1992), Psychological Bulletin 111, 361-365, for superiority.

    Examples
    --------
    >>> from amber_ruler import Pairs
    >>> r = pairs(Pairs([39.0, 41.5, 40.0, 38.0], [42.0, 44.0, 43.5, 40.0], ("after", "before")))
    >>> round(r.estimate, 3), round(r.statistic, 3), round(r.p_value, 4)
    (-2.75, -8.521, 0.0034)
    """
    ask = shared.question(asked)
    if isinstance(treatment, Sample) and isinstance(control, Sample):
        treatment, control = _aligned(treatment, control), None
    both = both_sides(treatment, control, correlation)
    one, two = both.one, both.two
    raw = (both.n, one.mean, one.sd, two.mean, two.sd, both.correlation, both.difference, both.sd)
    n, mean1, sd1, mean0, sd0, r, difference, sd, at = gate.aligned(*raw, gate.finite("null", ask.null))
    if np.any(sd == 0):
        raise DataError(
            f"All {int(np.max(n)):,} differences are equal: without any spread there is no test of their mean."
        )
    se = sd / np.sqrt(n)
    lifted = shared.Lifted(mean0, (sd1**2 / n, sd0**2 / n), r * sd1 * sd0 / n)
    result = shared.symmetric_test(ask, difference, se, n - 1, at, lifted)
    with np.errstate(divide="ignore"):
        gain = (sd1**2 + sd0**2) / sd**2
    differences = (
        [groups.one(treatment.differences, "mean", label="differences")] if isinstance(treatment, Pairs) else []
    )
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value", said=", in pairs"),
        method="two values of each unit",
        source="Student (1908), Biometrika 6, 1-25",
        estimate=scalar_or_array(difference),
        se=scalar_or_array(se),
        interval=result.interval,
        test=result.test,
        paired=True,
        effects=_effects(ask, (mean1, mean0, sd1, sd0, r), (difference, sd, n), result.critical)
        | (_wins(ask, treatment) if isinstance(treatment, Pairs) else {}),
        groups=(
            shared.mean_group(one.label, n, mean1, sd1),
            shared.mean_group(two.label, n, mean0, sd0),
            shared.mean_group("difference", n, difference, sd),
        ),
        facts={"correlation": scalar_or_array(r), "gain": scalar_or_array(gain)},
        checks=(
            *checks.few(n),
            *checks.skewed(ask.alpha, ask.alternative, *differences),
            *checks.without_pair(both.left_out),
        ),
        notes=_gain_said(r, n, gain) if np.ndim(difference) == 0 else (),
    )


def _wins(ask: shared.Question, both: Pairs) -> dict[str, EffectSize]:
    """Share of pairs whose treatment side is above, equal ones by half."""
    won, n = float(np.sum(both.differences > 0) + np.sum(both.differences == 0) / 2), float(len(both))
    low, high = wilson(np.asarray(won), np.asarray(n), effects.critical_z(ask.tail))
    limits = ask.interval(0.0 if ask.tail[0] == 0 else low, 1.0 if ask.tail[1] == 0 else high)
    return {"wins": EffectSize(won / n, limits, "pairs won", "share", aside=True)}


def _gain_said(r: Floats, n: Floats, gain: Floats) -> tuple[str, ...]:
    sharper = f"as sharp as two separate groups of {float(gain * n):,.0f} units each"
    return (f"The sides correlate {float(r):.3f}: these {int(n):,} pairs are {sharper}.",)


class BothSides(NamedTuple):
    """Both sides of pairs, how they go together, and their differences."""

    one: Summary
    two: Summary
    correlation: Number
    difference: ArrayLike
    sd: ArrayLike
    left_out: int = 0

    @property
    def n(self) -> Number:
        """Pairs."""
        return self.one.n


def _aligned(treatment: Sample, control: Sample) -> Pairs:
    """Plain values of both sides, in the same order of units."""
    one, two = treatment.values, control.values
    if one.size != two.size:
        found = f"there are {one.size:,} and {two.size:,}"
        raise InputError(f"Pairs have a value on both sides: {found}. Align units with table.pairs(…).")
    named = (treatment.label, control.label)
    return Pairs(one, two, named) if len(set(named)) == 2 else Pairs(one, two)


def both_sides(treatment: Any, control: Any, correlation: float | None) -> BothSides:
    """Read pairs, or the published numbers of both sides."""
    if isinstance(treatment, Pairs):
        if control is not None or correlation is not None:
            raise InputError("Pairs hold both sides and their correlation: give nothing else.")
        found = _sides(treatment)
    elif isinstance(treatment, Summary):
        found = _published(treatment, control, correlation)
    else:
        raise InputError(
            f"Pairs, or the published numbers of both sides, are needed; got {type(treatment).__name__}."
            " Align two columns with table.pairs(…), or two arrays with Pairs(treatment, control)."
        )
    groups.check_labels(found.one.label, found.two.label)
    return found


def _sides(both: Pairs) -> BothSides:
    """Both sides, their correlation (0 where one never varies), mean and spread of the differences."""
    if len(both) < 2:
        raise DataError(f"{len(both)} pairs have no spread: at least 2 are needed ({both.left_out:,} units left out).")
    found = Moments.from_arrays({"one": both.treatment, "two": both.control, "difference": both.differences})
    one, two = (
        Summary(found.n, found.mean(side), found.sd(side), label, metric=both.metric)
        for side, label in zip(("one", "two"), both.labels, strict=True)
    )
    still = one.sd == 0 or two.sd == 0
    together = 0.0 if still else found.correlation("one", "two")
    return BothSides(one, two, together, found.mean("difference"), found.sd("difference"), both.left_out)


def _published(one: Summary, two: Summary | None, correlation: float | None) -> BothSides:
    if two is None or correlation is None:
        raise InputError("Published numbers of pairs are two Summary and the correlation of the sides.")
    r = float(gate.between("correlation", correlation, -1, 1))
    n1, n0, sd1, sd0, mean1, mean0 = gate.aligned(one.n, two.n, one.sd, two.sd, one.mean, two.mean)
    if np.any(n1 != n0):
        raise InputError("Pairs have as many units on either side: the sizes differ.")
    if np.any(n1 < 2):
        raise DataError("One pair has no spread: at least 2 are needed.")
    spread = np.sqrt(np.maximum(sd1**2 + sd0**2 - 2 * r * sd1 * sd0, 0))
    return BothSides(one, two, r, mean1 - mean0, spread)


def _effects(
    ask: shared.Question, sides: tuple[Floats, ...], differences: tuple[Floats, Floats, Floats], critical: Floats
) -> dict[str, EffectSize]:
    mean1, mean0, sd1, sd0, r = sides
    difference, sd, n = differences
    t = difference / sd * np.sqrt(n)
    bounds = student.shift_bounds(t, n - 1, *ask.tail)
    z = np.stack([t, bounds.low, bounds.high]) / np.sqrt(n)

    def effect(scaled: Floats, label: str, unit: str = "", *, aside: bool = False) -> EffectSize:
        return EffectSize(scalar_or_array(scaled[0]), ask.interval(scaled[1], scaled[2]), label, unit, aside)

    found = {"d_z": effect(z, "d_z, by the spread of differences")}
    if np.all(n > 2):
        corrected = z[0] * np.asarray(effects.small_sample_factor(scalar_or_array(n - 1)))
        found["g_z"] = effect(np.stack([corrected, *z[1:]]), "corrected d_z (g_z)", aside=True)
    average = np.sqrt((sd1**2 + sd0**2) / 2)
    if np.all(average > 0):
        found["d_av"] = effect(z * sd / average, "d_av, by the average spread")
    if np.all(r < 1):
        found["d_rm"] = effect(z * np.sqrt(2 * (1 - r)), "d_rm (repeated measures)", aside=True)
    found["superiority"] = effect(normal.cdf(z), "superiority", "share", aside=True)
    lifts = effects.lift(
        (mean1, mean0),
        (sd1**2 / n, sd0**2 / n),
        critical,
        covariance=r * sd1 * sd0 / n,
        alpha=ask.alpha,
        alternative=ask.alternative,
    )
    return found | {name: e for name, e in lifts.items() if effects.known(e)}
