"""Speed as ratios in one run. Run with: pytest benchmarks [--rows 1000000]."""

from __future__ import annotations

import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler.multiplicity import benjamini_hochberg, holm


@pytest.fixture(scope="module")
def trips(rows):
    rng = np.random.default_rng(1)
    return pd.DataFrame(
        {
            "form": rng.choice(["current", "short", "guided"], rows),
            "fare": rng.gamma(2, 10, rows),
            "prior_spend": rng.gamma(2, 10, rows),
        }
    )


def slow(benchmark, call):
    return benchmark.pedantic(call, rounds=5, warmup_rounds=1)


@pytest.mark.benchmark(group="moments of 2 columns by variant, pandas rows")
def test_moments(benchmark, trips):
    found = slow(benchmark, lambda: ar.table(trips).moments(["fare", "prior_spend"], by="form"))
    assert sum(m.n for m in found.values()) == len(trips)


@pytest.mark.benchmark(group="moments of 2 columns by variant, pandas rows")
def test_moments_baseline_groupby_mean_and_variance(benchmark, trips):
    slow(benchmark, lambda: trips.groupby("form")[["fare", "prior_spend"]].agg(["mean", "var"]))


def summaries(size):
    rng = np.random.default_rng(2)

    def arm(label):
        return ar.Summary(rng.integers(50, 5_000, size), rng.normal(14, 1, size), rng.uniform(3, 5, size), label)

    return arm("short"), arm("current")


@pytest.mark.benchmark(group="100,000 comparisons of means, against 1,000 scalar calls")
def test_many_means(benchmark):
    pair = summaries(100_000)
    assert slow(benchmark, lambda: ar.measure.means(*pair)).p_value.shape == (100_000,)


@pytest.mark.benchmark(group="100,000 comparisons of means, against 1,000 scalar calls")
def test_many_means_baseline_scalar_calls(benchmark):
    one, two = ar.Summary(900, 14.1, 4.0, "short"), ar.Summary(870, 14.0, 4.1, "current")
    slow(benchmark, lambda: [ar.measure.means(one, two) for _ in range(1_000)])


@pytest.mark.benchmark(group="100,000 comparisons of proportions, against 1,000 scalar calls")
def test_many_proportions(benchmark):
    rng = np.random.default_rng(3)
    n1, n0 = rng.integers(50, 5_000, (2, 100_000))
    one, two = ar.Counts(rng.binomial(n1, 0.1), n1, "short"), ar.Counts(rng.binomial(n0, 0.1), n0, "current")
    benchmark.pedantic(lambda: ar.measure.proportions(one, two), rounds=2)


@pytest.mark.benchmark(group="100,000 comparisons of proportions, against 1,000 scalar calls")
def test_many_proportions_baseline_scalar_calls(benchmark):
    one, two = ar.Counts(90, 900, "short"), ar.Counts(70, 880, "current")
    benchmark.pedantic(lambda: [ar.measure.proportions(one, two) for _ in range(1_000)], rounds=1)


@pytest.mark.benchmark(group="sample size of two means, against 30 scalar noncentral t")
def test_sample_size(benchmark):
    design = ar.plan.TwoMeans(sd=20)
    slow(benchmark, lambda: design.sample_size(effect=1.3))


@pytest.mark.benchmark(group="sample size of two means, against 30 scalar noncentral t")
def test_sample_size_baseline_noncentral_t(benchmark):
    from scipy.stats import nct

    slow(benchmark, lambda: [nct.cdf(2.1, 57.3, 1.2) for _ in range(30)])


P_VALUES = np.random.default_rng(4).random(100_000)


@pytest.mark.benchmark(group="Holm over 100,000 p-values, against one argsort")
def test_holm(benchmark):
    benchmark(holm, P_VALUES)


@pytest.mark.benchmark(group="Holm over 100,000 p-values, against one argsort")
def test_holm_baseline_argsort(benchmark):
    benchmark(np.argsort, P_VALUES)


@pytest.mark.benchmark(group="Benjamini-Hochberg over 100,000 p-values, against one argsort")
def test_benjamini_hochberg(benchmark):
    benchmark(benjamini_hochberg, P_VALUES)


@pytest.mark.benchmark(group="Benjamini-Hochberg over 100,000 p-values, against one argsort")
def test_benjamini_hochberg_baseline_argsort(benchmark):
    benchmark(np.argsort, P_VALUES)


def process(benchmark, *args):
    command = [sys.executable, *args]
    benchmark.pedantic(
        lambda: subprocess.run(command, check=True, stdout=subprocess.DEVNULL), rounds=9, warmup_rounds=2
    )


@pytest.mark.benchmark(group="import amber_ruler")
def test_import(benchmark):
    process(benchmark, "-c", "import amber_ruler")


@pytest.mark.benchmark(group="import amber_ruler")
def test_import_baseline_numpy_and_special(benchmark):
    process(benchmark, "-c", "import numpy, scipy.special")


@pytest.mark.benchmark(group="amber-ruler --help")
def test_help(benchmark):
    process(
        benchmark, "-c", "import sys; sys.argv = ['amber-ruler', '--help']; from amber_ruler.cli import main; main()"
    )


@pytest.mark.benchmark(group="amber-ruler --help")
def test_help_baseline_typer_and_rich(benchmark):
    process(benchmark, "-c", "import typer, rich")
