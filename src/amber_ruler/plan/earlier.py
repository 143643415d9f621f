"""Effects from an earlier study: its estimate, how uncertain that is, and what to plan for."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from amber_ruler import effects, measure
from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import fisher, gate, normal, student
from amber_ruler.plan.answers import PlanAnswer
from amber_ruler.plan.designs.correlation import Correlation
from amber_ruler.plan.designs.means import OneMean, TwoMeans
from amber_ruler.plan.designs.omnibus import Association, ManyMeans, Regression
from amber_ruler.plan.designs.proportions import TwoProportions
from amber_ruler.plan.questions import Design
from amber_ruler.results import EffectSize, Interval, Result
from amber_ruler.samples import MeanGroup, ShareGroup
from amber_ruler.samples import gate as groups

_SMITHSON = "Smithson (2003), Confidence Intervals"
_STEIGER = "Steiger & Fouladi (1997), Noncentrality interval estimation"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class EarlierStudy(Result):
    """What an earlier study found, with its interval; made by one of the `of_...` methods.

    Attributes
    ----------
    estimate : EffectSize
        The published effect with its interval of level 1 - alpha.
    effect : float
        The published effect in the unit of `design`.
    cautious : float
        The interval's end nearer to no effect, in the unit of `design`; 0 if the interval takes in no effect.
    word : str
        The customary word for the size: a habit, not a reason.
    design : Design
        The design that the study's numbers imply.

    Notes
    -----
    Published effects run large, since those that came out small were published less often: plan for the cautious end,
    or for the smallest effect that matters (Perugini, Gallucci & Costantini 2014).
    """

    estimate: EffectSize
    effect: float
    cautious: float
    word: str
    design: Design
    percent: bool = False

    @classmethod
    def of_means(cls, treatment: MeanGroup, control: MeanGroup, *, alpha: float = 0.05) -> EarlierStudy:
        """From the means and standard deviations of two groups.

        Parameters
        ----------
        treatment, control : Summary, Sample, Moments or array_like
            The groups; `Summary(n=, mean=, sd=)` for published numbers.
        alpha : float
            One minus the level of the interval.

        Examples
        --------
        >>> from amber_ruler import Summary
        >>> study = EarlierStudy.of_means(Summary(40, 16, 5, "new"), Summary(40, 13, 5, "old"))
        >>> round(study.effect, 3), round(study.cautious, 3), study.sample_size(power=0.8).n
        (3.0, 0.75, 700)
        """
        one, two = groups.two(treatment, control, "mean")
        n1, n0 = float(one.n), float(two.n)
        sd = float(np.sqrt(((n1 - 1) * one.sd**2 + (n0 - 1) * two.sd**2) / (n1 + n0 - 2)))
        gap = float(one.mean - two.mean)
        t = gap / (sd * np.sqrt(1 / n1 + 1 / n0))
        found = effects.standardised(t, n1, n0, alpha=alpha)["hedges_g"]
        design = TwoMeans(sd=sd, baseline=float(two.mean))
        return cls._made(found, design, gap, found.interval, sd, "d", _STEIGER)

    @classmethod
    def of_t(cls, t: float, n: int | tuple[int, int], *, alpha: float = 0.05) -> EarlierStudy:
        """From a t statistic and the units of both groups, or of the one group (or the pairs) of a one-sample t.

        Examples
        --------
        >>> study = EarlierStudy.of_t(2.5, (30, 30))
        >>> round(study.estimate.value, 3), round(study.cautious, 3)
        (0.637, 0.123)
        """
        sizes = gate.whole("n", n, 2)
        value = float(gate.finite("t", t))
        if sizes.shape == (2,):
            found = effects.standardised(value, sizes[0], sizes[1], alpha=alpha)["hedges_g"]
            raw = value * float(np.sqrt(np.sum(1 / sizes)))
            return cls._made(found, TwoMeans(sd=1.0), raw, found.interval, 1.0, "d", _STEIGER)
        if sizes.shape != ():
            raise InputError.rule("n", n, "a number of units, or a pair (treatment, control)")
        bounds, root = student.shift_bounds(value, sizes - 1, alpha / 2, alpha / 2), np.sqrt(sizes)
        interval = Interval(float(bounds.low / root), float(bounds.high / root), 1 - alpha)
        found = EffectSize(float(value / root), interval, "standardised mean d")
        return cls._made(found, OneMean(sd=1.0), float(found.value), interval, 1.0, "d", _STEIGER)

    @classmethod
    def of_proportions(cls, treatment: ShareGroup, control: ShareGroup, *, alpha: float = 0.05) -> EarlierStudy:
        """From the counts of two groups: `Counts(successes, trials)`, or 0/1 data.

        Examples
        --------
        >>> from amber_ruler import Counts
        >>> study = EarlierStudy.of_proportions(Counts(60, 400, "new"), Counts(36, 400, "old"))
        >>> round(study.effect, 3), round(study.cautious, 4)
        (0.06, 0.0152)
        """
        r = measure.proportions(treatment, control, alpha=alpha)
        found = EffectSize(r.estimate, r.interval, "difference of shares", "share")
        design = TwoProportions(baseline=float(r.groups[1].mean))
        h = float(r.effects["cohen_h"].value)
        return cls._made(found, design, float(r.estimate), r.interval, 1.0, "h", r.source, size=h, percent=True)

    @classmethod
    def of_odds_ratio(cls, odds_ratio: float, low: float, high: float, *, baseline: float) -> EarlierStudy:
        """From a published odds ratio with its interval, and the share of successes to expect in control.

        Examples
        --------
        >>> study = EarlierStudy.of_odds_ratio(1.8, 1.1, 2.9, baseline=0.10)
        >>> round(study.effect, 4), round(study.cautious, 4)
        (0.0667, 0.0089)
        """
        for name, value in (("odds_ratio", odds_ratio), ("low", low), ("high", high)):
            gate.positive(name, value)
        if not low <= odds_ratio <= high:
            raise InputError.rule("odds_ratio", odds_ratio, f"within its interval, {low:g} to {high:g}")
        p0 = float(gate.between("baseline", baseline, 0, 1))
        ends = [p0 * r / (1 - p0 + p0 * r) - p0 for r in (odds_ratio, low, high)]
        # The level of a published interval is whatever it was published with; 95% is what is customary.
        found = EffectSize(odds_ratio, Interval(low, high, 0.95), "odds ratio")
        h = 2 * (np.arcsin(np.sqrt(p0 + ends[0])) - np.arcsin(np.sqrt(p0)))
        return cls._made(
            found,
            TwoProportions(baseline=p0),
            ends[0],
            Interval(ends[1], ends[2], 0.95),
            1.0,
            "h",
            "odds times odds ratio",
            size=float(h),
            percent=True,
        )

    @classmethod
    def of_correlation(cls, r: float, n: int, *, alpha: float = 0.05) -> EarlierStudy:
        """From a correlation and the number of units; the interval is Fisher's.

        Examples
        --------
        >>> study = EarlierStudy.of_correlation(0.4, 60)
        >>> round(study.cautious, 4), study.sample_size(power=0.8).n
        (0.1626, 294)
        """
        value, size = float(gate.between("r", r, -1, 1)), float(gate.whole("n", n, 4))
        gate.between("alpha", alpha, 0, 0.5)
        reach = float(normal.upper_quantile(alpha / 2)) / np.sqrt(size - 3)
        low, high = (float(np.tanh(np.arctanh(value) + side * reach)) for side in (-1, 1))
        found = EffectSize(value, Interval(low, high, 1 - alpha), "correlation r")
        return cls._made(found, Correlation(), value, found.interval, 1.0, "r", "Fisher (1921), Metron 1, 3-32")

    @classmethod
    def of_r_squared(cls, r_squared: float, n: int, *, predictors: int, alpha: float = 0.05) -> EarlierStudy:
        """From the R² of a regression, its number of units and of predictors; the interval inverts the noncentral F.

        Examples
        --------
        >>> study = EarlierStudy.of_r_squared(0.25, 80, predictors=3)
        >>> round(study.cautious, 4), study.sample_size(power=0.8).n
        (0.0789, 132)
        """
        value = float(gate.between("r_squared", r_squared, 0, 1))
        k = float(gate.whole("predictors", predictors, 1))
        size = float(gate.whole("n", n, k + 2))
        tail = float(gate.between("alpha", alpha, 0, 0.5)) / 2
        f = (value / k) / ((1 - value) / (size - k - 1))
        low, high = (float(nc / (nc + size)) for nc in fisher.noncentrality_bounds(f, k, size - k - 1, tail, tail))
        found = EffectSize(value, Interval(low, high, 1 - alpha), "R²")
        design = Regression(predictors=int(k))
        return cls._made(found, design, value, found.interval, 1.0, "f²", _STEIGER, size=value / (1 - value))

    @classmethod
    def of_f(cls, f: float, df1: float, df2: float, *, alpha: float = 0.05) -> EarlierStudy:
        """From the F of a one-way analysis of variance and its degrees of freedom: Cohen f with its interval.

        Examples
        --------
        >>> study = EarlierStudy.of_f(5.0, 2, 57)
        >>> round(study.effect, 4), round(study.cautious, 4), study.sample_size(power=0.8).n_total
        (0.4189, 0.1, 969)
        """
        groups_ = int(gate.whole("df1", df1, 1)) + 1
        found = effects.from_f(f, df1, float(gate.whole("df2", df2, 1)), alpha=alpha)["cohen_f"]
        design = ManyMeans(groups=groups_)
        return cls._made(found, design, float(found.value), found.interval, 1.0, "f", _STEIGER)

    @classmethod
    def of_chi_square(
        cls, statistic: float, n: int, *, rows: int = 2, columns: int = 2, alpha: float = 0.05
    ) -> EarlierStudy:
        """From the chi-square of a table of so many rows and columns: Cohen w with its interval.

        Examples
        --------
        >>> study = EarlierStudy.of_chi_square(12.0, 150, rows=2, columns=3)
        >>> round(study.effect, 4), round(study.cautious, 4), study.sample_size(power=0.8).n
        (0.2828, 0.1034, 901)
        """
        design = Association(rows=rows, columns=columns)
        df = max(rows - 1, 1) * (columns - 1)
        found = effects.from_chi_square(statistic, float(gate.whole("n", n, 2)), df, alpha=alpha)
        return cls._made(found, design, float(found.value), found.interval, 1.0, "w", _SMITHSON)

    @classmethod
    def of_p(
        cls, p: float, n: int | tuple[int, int], *, alternative: effects.Alternative = "two-sided", alpha: float = 0.05
    ) -> EarlierStudy:
        """From the p of a t test and the units of both groups, or of the one group (or the pairs): as from its t.

        A two-sided p does not say the sign: the effect is taken to be above 0.

        Examples
        --------
        >>> study = EarlierStudy.of_p(0.01, (40, 40))
        >>> round(study.estimate.value, 3), round(study.cautious, 3)
        (0.585, 0.141)
        """
        size = float(gate.between("p", p, 0, 1))
        gate.choice("alternative", alternative, gate.ALTERNATIVES)
        units = gate.whole("n", n, 2)
        if units.shape not in ((), (2,)):
            raise InputError.rule("n", n, "a number of units, or a pair (treatment, control)")
        df = float(units.sum() - 2 if units.ndim else units - 1)
        t = float(student.upper_quantile(size / 2 if alternative == "two-sided" else size, df))
        return cls.of_t(-t if alternative == "less" else t, n, alpha=alpha)

    @classmethod
    def _made(
        cls,
        found: EffectSize,
        design: Design,
        effect: float,
        interval: Interval,
        unit: float,
        scale: str,
        source: str,
        *,
        size: float | None = None,
        percent: bool = False,
    ) -> EarlierStudy:
        low, high = float(interval.low) * unit, float(interval.high) * unit
        cautious = low if low > 0 else high if high < 0 else 0.0
        value = float(found.value) if size is None else size
        return cls(
            title=f"An earlier study: {found.label}",
            method=f"{found.label} with its interval",
            source=source,
            estimate=found,
            effect=float(effect),
            cautious=cautious,
            word=effects.customary_word(scale, value),
            design=design,
            percent=percent,
        )

    def sample_size(self, *, power: float = 0.8) -> PlanAnswer:
        """How many units does it take, if the effect is as small as the study's cautious end?

        Parameters
        ----------
        power : float
            Chance to find it.

        Returns
        -------
        PlanAnswer
            With a note of how many it would take if the published effect were exact.

        Raises
        ------
        DesignError
            If the study does not tell its effect from none.
        """
        if self.cautious == 0:
            raise DesignError(
                "The interval of the earlier study takes in no effect: it can't say how many units are needed. Plan for"
                " the smallest effect that matters."
            )
        answer = self.design.sample_size(effect=self.cautious, power=power)
        hopeful = self.design.sample_size(effect=self.effect, power=power)
        note = (
            f"Planned for the cautious end of the earlier study. Taken at its word, {hopeful.n_total:,} units in total"
            " would do: but published effects run large."
        )
        return replace(answer, notes=(*answer.notes, note))


def sd_from(
    *,
    n: int | tuple[int, int],
    se: float | None = None,
    interval: tuple[float, float] | None = None,
    level: float = 0.95,
    distribution: Literal["t", "normal"] = "t",
) -> float:
    """Which standard deviation is behind a published standard error or interval of a mean, or of a difference?

    Parameters
    ----------
    n : int or pair of int
        Units of the one group; or of treatment and control, where the number is of the difference of their means.
    se : float, optional
        The standard error. Or instead:
    interval : pair of float, optional
        The limits.
    level : float, between 0.5 and 1
        Level of the interval.
    distribution : "t" or "normal"
        What the interval is by: t with n - 1 degrees of freedom (of two groups n1 + n0 - 2), or the normal one.

    Returns
    -------
    float
        The standard deviation of single units; of two groups the one that both share.

    References
    ----------
    .. [1] Higgins & Green (2011), Cochrane Handbook for Systematic Reviews of Interventions, section 7.7.3.

    Examples
    --------
    >>> round(sd_from(n=25, interval=(12.0, 16.0)), 4), sd_from(n=100, se=0.4)
    (4.8452, 4.0)
    """
    sizes = gate.whole("n", n, 2)
    if sizes.shape not in ((), (2,)):
        raise InputError.rule("n", n, "a number of units, or a pair (treatment, control)")
    if (se is None) == (interval is None):
        raise InputError("Give the standard error or the interval: one of se and interval.")
    weight = float(np.sum(1 / sizes))
    if se is not None:
        return float(gate.positive("se", gate.single("se", se))) / float(np.sqrt(weight))
    gate.choice("distribution", distribution, ("t", "normal"))
    tail = (1 - float(gate.between("level", gate.single("level", level), 0.5, 1))) / 2
    ends = gate.finite("interval", interval)  # type: ignore[arg-type]
    if ends.shape != (2,) or not ends[0] < ends[1]:
        raise InputError.rule("interval", interval, "a lower limit and a higher one")
    df = float(sizes.sum() - (2 if sizes.ndim else 1))
    critical = normal.upper_quantile(tail) if distribution == "normal" else student.upper_quantile(tail, df)
    return float((ends[1] - ends[0]) / (2 * critical * np.sqrt(weight)))
