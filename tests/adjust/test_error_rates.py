"""How often adjusted tests err, and how often their intervals hold, in a few hundred simulated tests each."""

import numpy as np
import pytest

from amber_ruler import Records, adjust

RUNS = 250


def rate(draw, method):
    """Share of tests that reject where there is nothing, and whether each interval agrees."""
    rejected = 0
    for run in range(RUNS):
        one, two = draw(np.random.default_rng([3, run]))
        r = method(Records(one, "short"), Records(two, "current"))
        assert (r.p_value < 0.05) == (not r.interval.contains(r.null))
        rejected += r.p_value < 0.05
    return rejected / RUNS


def near(found, most=0.05):
    """At alpha within 4 Monte-Carlo errors."""
    return abs(found - most) <= 4 * np.sqrt(most * (1 - most) / RUNS)


def searches(rng):
    """Bookings out of searches: who searches more books less often."""
    arms = []
    for _ in range(2):
        taste = rng.beta(2, 5, 150)
        d = 1 + rng.poisson(8 * (1 - taste))
        arms.append(
            {"y": rng.binomial(d, taste).astype(float), "d": d.astype(float), "x": taste + rng.normal(0, 0.1, 150)}
        )
    return arms


def grouped(groups):
    """Clusters of uneven sizes with an intraclass correlation of 0.2."""

    def draw(rng):
        arms = []
        for k, g in enumerate(groups):
            who = np.repeat(np.arange(g), 1 + rng.poisson(9, g))
            arms.append({"y": rng.normal(0, 0.5, g)[who] + rng.normal(size=who.size), "who": who + 1_000 * k})
        return arms

    return draw


def skewed(rng):
    """Fares with many zeros, and what was spent before."""
    arms = []
    for _ in range(2):
        taste = rng.normal(size=300)
        fare = np.exp(0.6 * taste + 0.5 * rng.normal(size=300)) * (rng.random(300) < 0.6)
        arms.append({"y": fare, "x": np.exp(0.6 * taste), "s": (taste > 0).astype(float), "w": 0.5 + rng.random(300)})
    return arms


def by(name, **settings):
    return lambda one, two: getattr(adjust, name)(one, two, value="y", **settings)


def of_values(name, **settings):
    return lambda one, two: getattr(adjust, name)(one.columns["y"], two.columns["y"], **settings)


CASES = {
    "ratio": (searches, by("ratio", per="d")),
    "8 and 8 clusters": (grouped((8, 8)), by("clusters", cluster="who")),
    "5 and 15 clusters": (grouped((5, 15)), by("clusters", cluster="who")),
    "skewed fares": (skewed, by("cuped", covariate="x")),
    "all steps": (skewed, by("sharpen", covariate="x", strata="s", cap=0.98)),
    "two parts": (skewed, of_values("two_part")),
    "trimmed": (skewed, of_values("trim", share=0.1)),
}


@pytest.mark.parametrize(("draw", "method"), CASES.values(), ids=CASES)
def test_the_error_is_what_was_asked(draw, method):
    """Ratios, few clusters, skewed fares, covariates, strata, trims: 5 % of the tests reject where there is nothing."""
    assert near(rate(draw, method))


def test_rows_taken_as_independent_would_err():
    """What clusters are for: the naive comparison rejects several times as often."""
    from amber_ruler.measure import means

    naive = rate(grouped((20, 20)), lambda a, b: means(a.columns["y"], b.columns["y"]))
    assert naive > 0.15
