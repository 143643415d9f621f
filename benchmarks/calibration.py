"""Calibration of what is believed, simulated from the prior: python benchmarks/calibration.py > docs/calibration.md.

Effects are drawn from the prior, data from the effects: then 95 of 100 intervals must hold the effect, and of the data
sets with a certain posterior probability of an effect just so many must have come from one.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from itertools import pairwise
from typing import Any

import numpy as np

import amber_ruler as ar
from amber_ruler import bayes

RUNS, SINGLE = 20_000, 1_500
BINS = (0.0, 0.1, 0.25, 0.5, 0.75, 0.9, 0.99, 1.0)
HEAD = """# Calibration of posteriors and Bayes factors

Effects are drawn from the prior and data from the effects, in {runs:,} runs ({single:,} of shares, rates and
correlations). A 95 % interval must then hold the effect in 95 % of the runs. Made by
`python benchmarks/calibration.py`, in about ten minutes.

| posterior | interval | holds the truth, % | Monte-Carlo error, % |
| --- | --- | --- | --- |"""
FACTORS = """
Half of the data come from no effect, half from one drawn from the prior. Where the Bayes factor makes the probability
of an effect so much, that share of the data must have come from one.

| Bayes factor | chance of an effect | runs | on average, % | came from an effect, % | Monte-Carlo error, % |
| --- | --- | --- | --- | --- | --- |"""


def held(truth: Any, interval: Any) -> Any:
    return (np.asarray(interval.low) <= truth) & (truth <= np.asarray(interval.high))


def coverage(name: str, truth: Any, posterior: bayes.Prior | Any) -> list[str]:
    """A row for the central interval, and one for the densest."""
    rows = []
    for kind in ("interval", "densest"):
        inside = held(truth, getattr(posterior, kind))
        error = 100 * np.sqrt(0.95 * 0.05 / inside.size)
        said = "central" if kind == "interval" else "densest"
        rows.append(f"| {name} | {said} | {100 * inside.mean():.1f} | {error:.2f} |")
    return rows


def factors(name: str, log_factor: Any, effect: Any) -> list[str]:
    """Rows of how often there was an effect, by what the factor makes of even odds."""
    p = 1 / (1 + np.exp(-np.asarray(log_factor)))
    rows = []
    for low, high in pairwise(BINS):
        mine = (p >= low) & (p < high)
        if mine.sum() >= 30:
            said, seen = p[mine].mean(), effect[mine].mean()
            error = 100 * np.sqrt(said * (1 - said) / mine.sum())
            between = f"{100 * low:g} % to {100 * high:g} %"
            rows.append(f"| {name} | {between} | {mine.sum():,} | {100 * said:.1f} | {100 * seen:.1f} | {error:.1f} |")
    return rows


def two_means(rng: np.random.Generator, effect: Any, sizes: tuple[int, int]) -> tuple[Any, Any]:
    """Groups with a spread of 1 whose means differ by an effect each."""
    n1, n0 = sizes
    draws = [rng.normal(size=(effect.size, n)) for n in (n1, n0)]
    draws[0] += effect[:, None]
    one, two = (
        ar.Summary(np.full(effect.size, n), x.mean(axis=1), x.std(axis=1, ddof=1), label)
        for x, n, label in zip(draws, (n1, n0), ("a", "b"), strict=True)
    )
    return one, two


def of_means(rng: np.random.Generator) -> tuple[list[str], list[str]]:
    scale, sizes = 0.5, (30, 20)
    prior = bayes.Cauchy(scale)
    effect = scale * rng.standard_cauchy(RUNS)
    told = bayes.means(*two_means(rng, effect, sizes), prior=prior).evidence.posterior["standardised"]
    rows = coverage("standardised effect of two means, Cauchy 0.5, 30 and 20", effect, told)
    there = rng.random(RUNS) < 0.5
    weighed = bayes.means(*two_means(rng, np.where(there, scale * rng.standard_cauchy(RUNS), 0.0), sizes), prior=prior)
    return rows, factors("two means, Cauchy 0.5, 30 and 20", weighed.evidence.log_bayes_factor, there)


def of_estimates(rng: np.random.Generator) -> tuple[list[str], list[str]]:
    rows, found = [], []
    priors: dict[str, tuple[bayes.Prior, Callable[[], Any], float | None]] = {
        "half-normal 2, se 1": (bayes.HalfNormal(2), lambda: np.abs(rng.normal(0, 2, RUNS)), None),
        "uniform 0 to 4, t of 6 df": (bayes.Uniform(0, 4), lambda: rng.uniform(0, 4, RUNS), 6.0),
    }
    for name, (prior, drawn, df) in priors.items():
        noise = rng.normal(size=(2, RUNS)) if df is None else rng.standard_t(df, (2, RUNS))
        effect = drawn()
        told = bayes.evidence(effect + noise[0], 1.0, prior=prior, df=df).evidence.posterior["effect"]
        rows += coverage(f"effect from an estimate, {name}", effect, told)
        there = rng.random(RUNS) < 0.5
        seen = np.where(there, drawn(), 0.0) + noise[1]
        weighed = bayes.evidence(seen, 1.0, prior=prior, df=df).evidence.log_bayes_factor
        found += factors(f"an estimate, {name}", weighed, there)
    return rows, found


def of_counts(rng: np.random.Generator) -> tuple[list[str], list[str]]:
    prior, n = bayes.Beta(2, 8), (60, 40)
    apart = rng.beta(2, 8, (2, SINGLE))
    there = rng.random(SINGLE) < 0.5
    shares = [apart[0], np.where(there, apart[1], apart[0])]
    seen = [rng.binomial(k, p) for k, p in zip(n, shares, strict=True)]
    every = [ar.Counts(x, k, v) for x, k, v in zip(seen, n, ("a", "b"), strict=True)]
    part = bayes.proportions(*every, prior=prior).evidence
    truth = (shares[0] - shares[1])[there]
    own = part.posterior["difference"]
    rows = coverage(
        "difference of two shares, Beta(2, 8), 60 and 40",
        truth,
        ar.results.PosteriorSummary("", "", 0.0, *(only(getattr(own, k), there) for k in ("interval", "densest"))),
    )
    means = rng.gamma(3, 1 / 2, SINGLE)
    told = bayes.rate(ar.Events(rng.poisson(5 * means), 5.0, "a"), prior=bayes.Gamma(3, 2)).evidence.posterior["rate"]
    rows += coverage("rate, Gamma(3, 2), exposure 5", means, told)
    return rows, factors("two shares, Beta(2, 8), 60 and 40", part.log_bayes_factor, there)


def only(interval: ar.results.Interval, mine: Any) -> ar.results.Interval:
    return ar.results.Interval(np.asarray(interval.low)[mine], np.asarray(interval.high)[mine], interval.level)


def of_correlations(rng: np.random.Generator) -> tuple[list[str], list[str]]:
    rows, logs, truths, ends = [], [], [], []
    there = rng.random(SINGLE) < 0.5
    for some in there:
        rho = rng.uniform(-1, 1) if some else 0.0
        x = rng.normal(size=25)
        r = bayes.correlation(x, rho * x + np.sqrt(1 - rho * rho) * rng.normal(size=25))
        logs.append(r.evidence.log_bayes_factor)
        if some:
            own = r.evidence.posterior["correlation"]
            truths.append(rho)
            ends.append((own.interval.low, own.interval.high, own.densest.low, own.densest.high))
    low, high, first, last = np.array(ends).T
    known = ar.results.PosteriorSummary(
        "", "", 0.0, ar.results.Interval(low, high, 0.95), ar.results.Interval(first, last, 0.95)
    )
    rows = coverage("correlation, width 1, 25 units", np.array(truths), known)
    return rows, factors("correlation, width 1, 25 units", np.array(logs), there)


def main() -> None:
    rng = np.random.default_rng(20_261_128)
    parts = [part(rng) for part in (of_means, of_estimates, of_counts, of_correlations)]
    lines = [HEAD.format(runs=RUNS, single=SINGLE), *(row for rows, _ in parts for row in rows)]
    lines += [FACTORS, *(row for _, rows in parts for row in rows)]
    sys.stdout.write("\n".join(lines) + "\n")


if __name__ == "__main__":
    main()
