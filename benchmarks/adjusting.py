"""Error and coverage of adjusted comparisons, simulated: python benchmarks/adjusting.py > docs/adjusting.md.

Data are drawn without an effect, where 5 of 100 tests may reject, and with one, which 95 of 100 intervals must hold.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any

import numpy as np

import amber_ruler as ar
from amber_ruler import adjust

RUNS = 2_000
HEAD = """# Error and coverage of adjusted comparisons

Without an effect 5 % of the tests may reject; with one 95 % of the intervals must hold it. {runs:,} runs a row, so
that a rate of 5 % has a Monte-Carlo error of {error:.1f} %. *Narrower* is the mean standard error of the raw comparison
over that of the adjusted one; *promised* is 1/√(1 − ρ²) with the correlation ρ that was planted. Made by
`python benchmarks/adjusting.py`, in about ten minutes. A row is a traveller unless clusters are named.

Least squares with own slopes speaks of units with the covariates of these rows (Lin's finite population). Where slopes
differ and the rows are themselves drawn, as here, its interval is too narrow for all units like these, which
`facts["se_beyond"]` is for. With few clusters CR1 rejects too often, above all where the variants have unequal numbers
of them; CR2, totals and means of clusters keep near 5 %.

| data | method | rejects without an effect, % | holds the effect, % | narrower | promised |
| --- | --- | --- | --- | --- | --- |"""

Rows = dict[str, Any]
Draw = Callable[[np.random.Generator, float], tuple[Rows, Rows, float]]
Method = Callable[[ar.Records, ar.Records], Any]


def informative(n: int, slopes: tuple[float, float] = (1.0, 1.0)) -> Draw:
    """A covariate that correlates 0.6 with the metric, whose slope may differ between the variants."""

    def draw(rng: np.random.Generator, effect: float) -> tuple[Rows, Rows, float]:
        arms: list[Rows] = []
        for k, slope in enumerate(slopes):
            x = rng.normal(size=n // (1 + k))
            arms.append({"y": slope * 0.75 * x + rng.normal(size=x.size) + effect * (1 - k), "x": x})
        return arms[0], arms[1], effect

    return draw


def skewed(n: int) -> Draw:
    """Fares of who books (lognormal, many zeros), with what was spent before."""

    def draw(rng: np.random.Generator, effect: float) -> tuple[Rows, Rows, float]:
        arms = []
        for k in (0, 1):
            taste = rng.normal(size=n)
            books = rng.random(n) < 0.5
            fare = np.exp(0.6 * taste + 0.6 * rng.normal(size=n)) * books * (1 + effect * (1 - k))
            arms.append({"y": fare, "x": np.exp(0.6 * taste)})
        return arms[0], arms[1], effect * 0.5 * np.exp(0.36)

    return draw


def per_search(n: int) -> Draw:
    """Bookings per search: who searches more books less often."""

    def draw(rng: np.random.Generator, effect: float) -> tuple[Rows, Rows, float]:
        arms = []
        for k in (0, 1):
            taste = rng.beta(2, 5, n)
            d = 1.0 + rng.poisson(1 + 10 * (1 - taste))
            booked = rng.binomial(d.astype(int), taste * (1 + effect * (1 - k))).astype(float)
            before = rng.binomial(d.astype(int), taste).astype(float)
            arms.append({"y": booked, "d": d, "b": before})
        t = np.arange(0.0005, 1, 0.001)
        weight = t * (1 - t) ** 4
        searches = weight @ (2 + 10 * (1 - t))
        return arms[0], arms[1], effect * float(weight @ (t * (2 + 10 * (1 - t))) / searches)

    return draw


def clustered(groups: tuple[int, int], size: int) -> Draw:
    """Clusters of uneven sizes with an intraclass correlation of 0.1."""

    def draw(rng: np.random.Generator, effect: float) -> tuple[Rows, Rows, float]:
        arms = []
        for k, g in enumerate(groups):
            m = 1 + rng.poisson(size - 1, g)
            who = np.repeat(np.arange(g), m)
            y = rng.normal(0, 1, g)[who] / 3 + rng.normal(size=who.size) + effect * (1 - k)
            arms.append({"y": y, "who": who + 10_000 * k})
        return arms[0], arms[1], effect

    return draw


def strata(n: int) -> Draw:
    """Four strata whose means differ by a standard deviation each."""

    def draw(rng: np.random.Generator, effect: float) -> tuple[Rows, Rows, float]:
        arms = []
        for k in (0, 1):
            s = rng.integers(0, 4, n)
            arms.append({"y": s + rng.normal(size=n) + effect * (1 - k), "s": s})
        return arms[0], arms[1], effect

    return draw


def by(name: str, **settings: Any) -> Method:
    return lambda one, two: getattr(adjust, name)(one, two, value="y", **settings)


def rate(draw: Draw, method: Method, effect: float) -> tuple[float, float, float]:
    """Share of tests that reject without an effect, of intervals that hold it, and how much narrower they are."""
    rejected = held = wide = narrow = 0.0
    for run in range(RUNS):
        rng = np.random.default_rng([17, run])
        none, (one, two, truth) = draw(rng, 0.0), draw(rng, effect)
        r = method(ar.Records(none[0], "short"), ar.Records(none[1], "current"))
        rejected += r.p_value < 0.05
        r = method(ar.Records(one, "short"), ar.Records(two, "current"))
        held += bool(r.interval.contains(truth))
        raw = r.adjustment.raw
        wide, narrow = wide + (np.nan if raw is None else raw.se), narrow + r.se
    return 100 * rejected / RUNS, 100 * held / RUNS, wide / narrow


def table() -> list[tuple[str, str, Draw, Method, float, float | None]]:
    """Data, method, and what was promised."""
    promised = 1 / np.sqrt(1 - 0.36)
    rows: list[tuple[str, str, Draw, Method, float, float | None]] = []
    for n in (20, 200):
        data = f"correlation 0.6, {n} and {n // 2}"
        for name, method in (("cuped", by("cuped", covariate="x")), ("regression", by("regression", covariate="x"))):
            rows.append((data, name, informative(n), method, 0.3, promised))
    data = "slopes 1.6 and 0.4, 200 and 100"
    for name, settings in (("cuped, optimal", {"theta": "optimal"}), ("regression, own slopes", {})):
        called = "cuped" if settings else "regression"
        rows.append((data, name, informative(200, (1.6, 0.4)), by(called, covariate="x", **settings), 0.3, None))
    fares, few, searches, many = (
        "fares with zeros, 500 each",
        "fares with zeros, 60 each",
        "bookings per search",
        "1,000",
    )
    cuped, capped = by("cuped", covariate="x"), by("sharpen", covariate="x", cap=0.99)
    before = by("ratio", per="d", covariate="b per d")
    rows += [
        ("4 strata, 60 each", "strata", strata(60), by("strata", strata="s"), 0.3, float(np.sqrt(1 + 1.25))),
        (fares, "cuped", skewed(500), cuped, 0.3, None),
        (fares, "cuped, capped at 99 %: no effect", skewed(500), capped, 0.0, None),
        (few, "cuped", skewed(60), cuped, 0.3, None),
        (f"{searches}, 100 each", "ratio", per_search(100), by("ratio", per="d"), -0.2, None),
        (f"{searches}, {many} each", "ratio", per_search(1_000), by("ratio", per="d"), -0.2, None),
        (f"{searches}, {many} each", "ratio, the same before", per_search(1_000), before, -0.2, None),
    ]
    for g in (4, 8, 20):
        for errors in ("cr2", "cr1", "means", "totals"):
            data = f"{2 * g} clusters of about 15"
            rows.append((data, errors, clustered((g, g), 15), by("clusters", cluster="who", errors=errors), 0.3, None))
    for errors in ("cr2", "cr1"):
        method = by("clusters", cluster="who", errors=errors)
        rows.append(("4 and 16 clusters of about 15", errors, clustered((4, 16), 15), method, 0.3, None))
    return rows


def main() -> None:
    print(HEAD.format(runs=RUNS, error=100 * np.sqrt(0.05 * 0.95 / RUNS)))
    for data, name, draw, method, effect, promised in table():
        rejected, held, gain = rate(draw, method, effect)
        said = "" if promised is None else f"{promised:.2f}"
        narrower = "" if np.isnan(gain) else f"{gain:.2f}"
        print(f"| {data} | {name} | {rejected:.1f} | {held:.1f} | {narrower} | {said} |")
        sys.stdout.flush()


if __name__ == "__main__":
    main()
