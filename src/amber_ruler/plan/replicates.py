"""P-values of the real tests on data drawn under a design, for tests that are asked one data set at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import combinations
from typing import TYPE_CHECKING, Any

import numpy as np

from amber_ruler import effects, measure
from amber_ruler.errors import DesignError
from amber_ruler.measure.oneway import OneWay
from amber_ruler.numeric import fisher, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.plan import draws
from amber_ruler.samples import Events, Records, Summary

if TYPE_CHECKING:
    from amber_ruler.plan.designs.contrasts import AllPairs, Contrast
    from amber_ruler.plan.designs.correlation import Correlation, TwoCorrelations
    from amber_ruler.plan.designs.factorial import Factorial
    from amber_ruler.plan.designs.omnibus import Association, ManyMeans, Regression
    from amber_ruler.plan.designs.ranks import TwoRanks
    from amber_ruler.plan.designs.rates import RatioMetric
    from amber_ruler.plan.designs.slope import Slope
    from amber_ruler.plan.designs.times import TwoTimes

Rng = np.random.Generator
Sizes = tuple[int, ...]


def _each(runs: int, one: Callable[[int], Any]) -> Floats:
    return np.array([float(one(k)) for k in range(runs)])


def _summaries(rng: Rng, means: Sequence[float] | Floats, sd: float, sizes: Sequence[int], runs: int) -> list[Summary]:
    """Means and spreads of normal groups, an array of runs each."""
    return [
        draws.summaries(rng, float(m), sd, int(n), runs, f"group {k + 1}")
        for k, (m, n) in enumerate(zip(means, sizes, strict=True))
    ]


def _run(groups: Sequence[Summary], k: int) -> list[Summary]:
    return [Summary(float(g.n[k]), float(g.mean[k]), float(g.sd[k]), g.label) for g in groups]  # type: ignore[index]


def _pattern(shares: Floats) -> Floats:
    """Means with an average of 0 and a standard deviation of 1 over so shared groups, in equal steps."""
    steps = np.arange(shares.size, dtype=np.float64)
    steps -= steps @ shares
    return np.asarray(steps / np.sqrt(shares @ steps**2))


def many_means(design: ManyMeans, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Groups whose means stand in equal steps; the F is the one that `measure.groups` has of equal variances."""
    sizes = units if design.split is not None else units * design.groups
    shares = np.asarray(sizes, dtype=np.float64) / sum(sizes)
    drawn = _summaries(rng, _pattern(shares) * effect * design.sd, design.sd, sizes, runs)
    n = np.asarray(sizes, dtype=np.float64)
    means, sds = (np.stack([np.asarray(getattr(g, name)) for g in drawn]) for name in ("mean", "sd"))
    return _each(runs, lambda k: OneWay.of(n, means[:, k], sds[:, k]).p)


def contrast(design: Contrast, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Groups whose means are in proportion to their weights."""
    weights = np.asarray(design.weights, dtype=np.float64)
    sizes = units if design.split is not None else units * weights.size
    drawn = _summaries(rng, weights / (weights @ weights) * effect, design.sd, sizes, runs)
    return _of_weights(drawn, tuple(weights), design.alternative, runs)


def all_pairs(design: AllPairs, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """The pair of the first two groups."""
    others = [0.0] * (design.groups - 2)
    drawn = _summaries(rng, [effect, 0.0, *others], design.sd, units * design.groups, runs)
    return _of_weights(drawn, (1.0, -1.0, *others), design.alternative, runs)


def _of_weights(drawn: Sequence[Summary], weights: tuple[float, ...], alternative: Any, runs: int) -> Floats:
    def p(k: int) -> float:
        fitted = measure.groups(_run(drawn, k), variances="equal")
        found = fitted.contrasts({"planned": weights}, "none", alternative=alternative)
        return float(np.ravel(np.asarray(found.p_value))[0])

    return _each(runs, p)


def factorial(design: Factorial, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Cells with the tested effect alone, its levels in equal steps."""
    levels, tested = [int(k) for k in design.levels], design._tested()
    if len(levels) not in (2, 3):
        raise DesignError("Tests of two or three factors are simulated.")
    table = np.ones(levels)
    for axis in tested:
        shape = [1] * len(levels)
        shape[axis] = levels[axis]
        table = table * _pattern(np.full(levels[axis], 1 / levels[axis])).reshape(shape)
    drawn = _summaries(rng, np.ravel(table) * effect * design.sd, design.sd, [units[0]] * table.size, runs)
    names = [tuple(map(str, at)) for at in np.ndindex(*levels)]
    terms = [t for size in range(1, len(levels) + 1) for t in combinations(range(len(levels)), size)]
    place = terms.index(tuple(sorted(tested)))

    def p(k: int) -> float:
        found = measure.factors(dict(zip(names, _run(drawn, k), strict=True)))
        return float(found.squares[place].p_value or 0.0)

    return _each(runs, p)


def association(design: Association, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """A table with even margins, whose rows and columns go together in equal steps."""
    r, c = design.rows, design.columns
    if r == 1:
        pattern = _pattern(np.full(c, 1 / c)).reshape(1, c)
    else:
        one, two = (_pattern(np.full(k, 1 / k)) for k in (r, c))
        pattern = np.outer(one, two)
    shares = (1 + effect * pattern) / (r * c)
    if np.any(shares < 0):
        raise DesignError(f"An effect w of {effect:g} is not simulated for such a table: take a smaller one.")
    drawn = rng.multinomial(units[0], shares.ravel(), runs).reshape(runs, r, c)

    def p(k: int) -> float:
        table = drawn[k].astype(float)
        if r == 1:
            return float(np.asarray(measure.goodness_of_fit(table[0], test="asymptotic").p_value))
        if np.any(table.sum(axis=0) == 0) or np.any(table.sum(axis=1) == 0):
            return 1.0  # without one of the rows or columns there is no such test
        return float(np.asarray(measure.independence(table, test="asymptotic").p_value))

    return _each(runs, p)


def regression(design: Regression, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Least squares with and without the predictors, whose values are drawn or, if fixed, spread as planned."""
    n, p, q = units[0], design.predictors, design.others
    own, rest = np.sqrt(effect), np.sqrt(1 - design.explained - effect)

    def one(_: int) -> float:
        x = rng.normal(size=(n, p + q))
        if design.predictors_are == "fixed":
            x, _r = np.linalg.qr(x - x.mean(axis=0))
            x = x * np.sqrt(n)
        y = own * x[:, 0] + rest * rng.normal(size=n)
        if q:
            y = y + np.sqrt(design.explained) * x[:, p]
        ones = np.ones((n, 1))
        left = [
            float(np.sum((y - d @ np.linalg.lstsq(d, y, rcond=None)[0]) ** 2))
            for d in (np.hstack([ones, x]), np.hstack([ones, x[:, p:]]))
        ]
        df2 = n - p - q - 1
        return float(fisher.sf((left[1] - left[0]) / p / (left[0] / df2), float(p), float(df2)))

    return _each(runs, one)


def slope(design: Slope, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """A line through normal predictors, drawn or spread as planned; its test is that of the correlation."""
    if design.others:
        raise DesignError("A slope is simulated without other predictors.")
    n = units[0]

    def one(_: int) -> float:
        x = rng.normal(size=n)
        if design.predictors_are == "fixed":
            x = (x - x.mean()) / x.std()
        y = effect * design.sd_predictor * x + design.sd_error * rng.normal(size=n)
        return float(measure.correlation(x, y, alternative=design.alternative).p_value or 0.0)

    return _each(runs, one)


def correlation(design: Correlation, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Two normal quantities whose coefficient is that of the plan."""
    rho = _normal_rho(design.null + effect, design.coefficient)

    def one(_: int) -> float:
        x, noise = rng.normal(size=(2, units[0]))
        y = rho * x + np.sqrt(1 - rho**2) * noise
        found = measure.correlation(
            x, y, coefficient=design.coefficient, null=design.null, alternative=design.alternative
        )
        return float(found.p_value or 0.0)

    return _each(runs, one)


def _normal_rho(value: float, coefficient: str) -> float:
    """The correlation of normal quantities whose coefficient of ranks is the one asked for (Kendall 1970)."""
    if coefficient == "pearson":
        return value
    return float(np.sin(np.pi / 2 * value) if coefficient == "kendall" else 2 * np.sin(np.pi / 6 * value))


def two_correlations(design: TwoCorrelations, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Two groups of two normal quantities."""
    rhos = (design.baseline + effect, design.baseline)

    def one(_: int) -> float:
        found = []
        for rho, n in zip(rhos, units, strict=True):
            x, noise = rng.normal(size=(2, n))
            found.append((float(np.corrcoef(x, rho * x + np.sqrt(1 - rho**2) * noise)[0, 1]), n))
        return effects.compare_correlations(found[0], found[1], alternative=design.alternative).p_value

    return _each(runs, one)


def two_ranks(design: TwoRanks, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Normal values, shifted so far that treatment is above as often as planned."""
    if design.ties:
        raise DesignError("Ranks are simulated of values that all differ: ties=0.")
    shift = float(np.sqrt(2) * normal.quantile(0.5 + effect))

    def one(_: int) -> float:
        x, y = rng.normal(shift, 1, units[0]), rng.normal(size=units[1])
        return float(measure.ranks(x, y, test="asymptotic", alternative=design.alternative).p_value or 0.0)

    return _each(runs, one)


def two_times(design: TwoTimes, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Exponential times, seen until one unit of time has passed."""
    hazard = -float(np.log1p(-design.baseline))

    def one(_: int) -> float:
        arms = []
        for label, size, rate in zip(
            ("treatment", "control"), units, (hazard * float(np.exp(effect)), hazard), strict=True
        ):
            times = rng.exponential(1 / rate, size)
            arms.append(Records({"time": np.minimum(times, 1.0), "event": (times < 1).astype(float)}, label))
        found = measure.times(arms[0], arms[1], value="time", event="event", alternative=design.alternative)
        return float(found.p_value or 0.0)

    return _each(runs, one)


def ratio_metric(design: RatioMetric, rng: Rng, effect: float, units: Sizes, runs: int) -> Floats:
    """Normal numerators and denominators; treatment's numerators move with their denominators."""
    from amber_ruler import adjust

    covariance = np.array(
        [
            [design.numerator_variance, design.covariance],
            [design.covariance, design.denominator_variance],
        ]
    )
    centre = np.array([design.numerator_mean, design.denominator_mean])

    def one(_: int) -> float:
        arms = []
        for label, size, moved in zip(("treatment", "control"), units, (effect, 0.0), strict=True):
            both = rng.multivariate_normal(centre, covariance, size)
            arms.append(Records({"top": both[:, 0] + moved * centre[1], "below": both[:, 1]}, label))
        found = adjust.ratio(arms[0], arms[1], value="top", per="below", alternative=design.alternative)
        return float(found.p_value or 0.0)

    return _each(runs, one)


def overdispersed(
    rng: Rng, rates: tuple[float, float], exposure: float, k: float, units: Sizes, runs: int, alternative: Any
) -> Floats:
    """Negative binomial counts of units: Poisson's, each with a rate of its own."""

    def one(_: int) -> float:
        arms = []
        for label, rate, size in zip(("treatment", "control"), rates, units, strict=True):
            own = rng.gamma(1 / k, k, size) * rate * exposure
            values = rng.poisson(own).astype(float)
            arms.append(Summary(float(size), float(values.mean()), float(values.std(ddof=1)), label))
        if min(float(a.mean) for a in arms) == 0:
            return 1.0
        found = measure.count_ratio(arms[0], arms[1], spread="negative-binomial", alternative=alternative)
        return float(found.p_value or 0.0)

    return _each(runs, one)


def ratio_of_rates(test: Any, groups: tuple[Events, ...], alternative: Any) -> Floats:
    """Of the logarithms or the square roots of two rates; without any event in a group nothing is rejected."""
    one, two = groups
    some = (np.asarray(one.count) > 0) & (np.asarray(two.count) > 0)
    p = np.ones(some.shape)
    kept = [Events(np.asarray(g.count)[some], np.asarray(g.exposure)[some], g.label) for g in groups]
    p[some] = np.asarray(measure.rate_ratio(kept[0], kept[1], test=test, alternative=alternative).p_value)
    return p
