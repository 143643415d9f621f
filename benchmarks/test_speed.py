"""Speed as ratios in one run. Run with: pytest benchmarks [--rows 1000000]."""

from __future__ import annotations

import math
import subprocess
import sys
from urllib.parse import quote

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


@pytest.fixture(scope="module")
def parquet(tmp_path_factory, rows):
    """A Parquet file of travellers, written by DuckDB, and the connection that reads it by hand."""
    import duckdb

    path = tmp_path_factory.mktemp("tables") / "travellers.parquet"
    duckdb.sql("select setseed(0.5)")
    duckdb.sql(
        "select (random() * 3)::int % 3 as form, random() * 40 as fare, random() as prior, random() * 5 as searches,"  # noqa: S608
        f" (random() * {rows} / 20)::bigint as traveller, (random() * 4)::int = 0 as booked from range({rows})"
    ).write_parquet(str(path))
    return path


@pytest.mark.benchmark(group="moments of 3 columns by variant, Parquet, against the same aggregates in SQL")
def test_moments_of_parquet(benchmark, parquet, rows):
    found = slow(benchmark, lambda: ar.table(parquet).moments(["fare", "prior", "searches"], by="form"))
    assert sum(m.n for m in found.values()) == rows


@pytest.mark.benchmark(group="moments of 3 columns by variant, Parquet, against the same aggregates in SQL")
def test_moments_of_parquet_baseline_sql(benchmark, parquet):
    import duckdb

    columns = ("fare", "prior", "searches")
    pairs = [(a, b) for k, a in enumerate(columns) for b in columns[k:]]
    sums = ", ".join(
        [f"covar_pop({a}, {b}), avg({a})" for a, b in pairs]
        + [f"skewness({c}), kurtosis_pop({c}), min({c}), max({c})" for c in columns]
    )
    query = f"select form, count(*), {sums} from read_parquet('{parquet}') group by form"  # noqa: S608 - our own file
    slow(benchmark, lambda: duckdb.sql(query).fetchall())


METRICS = [f"m{k}" for k in range(10)]
SHARES = ["s0", "s1"]
FROM_FILE = "an experiment of 12 metrics, Parquet, against one query of the same sums"
FROM_ROWS = "an experiment of 12 metrics, pandas rows, against groupby with mean and variance"


@pytest.fixture(scope="module")
def trial(tmp_path_factory, rows):
    """A Parquet file with 12 metrics, 3 variants, 2 covariates and 4 strata."""
    import duckdb

    path = tmp_path_factory.mktemp("tables") / "trial.parquet"
    metrics = ", ".join(f"20 * random() + k % 7 as {m}" for m in METRICS)
    duckdb.sql(
        f"select k as who, hash(k) % 3 as form, (hash(k + 1) % 4)::varchar as port, random() as p0, random() as p1,"  # noqa: S608
        f" (random() < 0.3)::int as s0, (random() < 0.02)::int as s1, {metrics} from range({rows}) t(k)"
    ).write_parquet(str(path))
    return path


def analysed(data, each=None, **keys):
    """All metrics of an experiment, from the rows to the comparisons."""
    metrics = {m: {"role": "primary" if m == "m0" else "secondary", **(each or {})} for m in METRICS}
    metrics |= {s: {"kind": "share"} for s in SHARES}
    assigned = {"column": "form", "control": 0}
    return ar.Experiment(data, name="trial", unit="who", metrics=metrics, assignment=assigned, **keys).analysis


@pytest.mark.benchmark(group=FROM_FILE)
def test_experiment_of_parquet(benchmark, trial):
    found = slow(benchmark, lambda: analysed(trial, strata="port", each={"covariates": ["p0", "p1"]}))
    assert len(found.primary) == 2


@pytest.mark.benchmark(group=FROM_FILE)
def test_experiment_of_parquet_baseline_sql(benchmark, trial):
    import duckdb

    both = [*METRICS, *SHARES, "p0", "p1"]
    sums = [f"sum({c}), sum({c} * {c}), sum({c} * {c} * {c}), sum({c} * {c} * {c} * {c})" for c in both]
    sums += [f"min({c}), max({c})" for c in both]
    sums += [f"sum({c} * p0), sum({c} * p1)" for c in both]
    query = f"select form, port, count(*), {', '.join(sums)} from read_parquet('{trial}') group by all"  # noqa: S608
    slow(benchmark, lambda: duckdb.sql(query).fetchall())


@pytest.mark.benchmark(group=FROM_ROWS)
def test_experiment_of_rows(benchmark, trial):
    held = pd.read_parquet(trial, columns=["who", "form", *METRICS, *SHARES])
    assert len(slow(benchmark, lambda: analysed(held)).primary) == 2


@pytest.mark.benchmark(group=FROM_ROWS)
def test_experiment_of_rows_baseline_groupby(benchmark, trial):
    held = pd.read_parquet(trial, columns=["form", *METRICS, *SHARES])
    slow(benchmark, lambda: held.groupby("form")[[*METRICS, *SHARES]].agg(["mean", "var"]))


COVARIATES = [f"x{k}" for k in range(5)]
ADJUSTED = "covariate adjustment by 5 covariates, Parquet, against the moments alone"
STREAMED = "least squares by 5 covariates with HC2 errors, Parquet, against the moments alone"
MANY = "1,000 metrics by 3 covariates from a digest, against one"


@pytest.fixture(scope="module")
def warehouse(tmp_path_factory, rows):
    """A server of our own with the table in it, as Ibis has it."""
    ibis, pgserver = pytest.importorskip("ibis"), pytest.importorskip("pgserver")
    server = pgserver.get_server(tmp_path_factory.mktemp("postgres"), cleanup_mode="delete")
    connection = ibis.connect(f"postgresql://postgres:@/postgres?host={quote(str(server.pgdata))}")
    made = "case k % 2 when 0 then 'current' else 'short' end as form, 20 * exp(random()) as fare, random() as prior"
    connection.raw_sql(f"create table trips as select {made} from generate_series(1, {rows}) k")  # noqa: S608 - a number
    connection.raw_sql("vacuum analyze trips")
    yield connection
    connection.disconnect()
    server.cleanup()


@pytest.mark.benchmark(group="moments of 2 columns by variant, PostgreSQL", min_rounds=3)
def test_moments_in_postgres(benchmark, warehouse, rows):
    found = benchmark(lambda: ar.table(warehouse.table("trips")).moments(["fare", "prior"], by="form"))
    assert sum(m.n for m in found.values()) == rows


@pytest.mark.benchmark(group="moments of 2 columns by variant, PostgreSQL", min_rounds=3)
def test_moments_in_postgres_baseline_two_passes(benchmark, warehouse):
    """The same sums by hand: means, then powers of the deviations from them."""
    query = """
        with m as (select form, avg(fare) as a, avg(prior) as b from trips group by form),
        d as (select form, fare, prior, fare - a as x, prior - b as y, a, b from trips join m using (form)),
        q as (select *, x * x as xx, y * y as yy, x * y as xy from d)
        select form, count(*), max(a), max(b), sum(x), sum(y), sum(xx), sum(xy), sum(yy), sum(xx * x), sum(yy * y),
        sum(xx * xx), sum(yy * yy), min(fare), min(prior), max(fare), max(prior) from q group by form
    """
    assert len(benchmark(lambda: warehouse.raw_sql(query).fetchall())) == 2


@pytest.fixture(scope="module")
def wide(tmp_path_factory, rows):
    """A Parquet file with a metric and five covariates."""
    import duckdb

    path = tmp_path_factory.mktemp("tables") / "wide.parquet"
    duckdb.sql("select setseed(0.5)")
    made = ", ".join(f"random() as {name}" for name in COVARIATES)
    duckdb.sql(
        f"select *, x0 + x1 + random() as fare from (select (random() * 2)::int % 2 as form, {made} from range({rows}))"  # noqa: S608
    ).write_parquet(str(path))
    return path


@pytest.mark.benchmark(group=ADJUSTED)
def test_cuped_of_parquet(benchmark, wide):
    def adjusted():
        arms = ar.table(wide).moments(["fare", *COVARIATES], by="form")
        return ar.adjust.cuped(arms["1"], arms["0"], value="fare", covariate=COVARIATES)

    assert slow(benchmark, adjusted).adjustment.variance_removed > 0.5


@pytest.mark.benchmark(group=ADJUSTED)
def test_cuped_of_parquet_baseline_moments(benchmark, wide):
    slow(benchmark, lambda: ar.table(wide).moments(["fare", *COVARIATES], by="form"))


@pytest.mark.benchmark(group=STREAMED)
def test_regression_of_parquet(benchmark, wide):
    def fitted():
        arms = ar.table(wide).records(["fare", *COVARIATES], by="form")
        return ar.adjust.regression(arms["1"], arms["0"], value="fare", covariate=COVARIATES)

    assert slow(benchmark, fitted).adjustment.variance_removed > 0.5


@pytest.mark.benchmark(group=STREAMED)
def test_regression_of_parquet_baseline_moments(benchmark, wide):
    slow(benchmark, lambda: ar.table(wide).moments(["fare", *COVARIATES], by="form"))


@pytest.fixture(scope="module")
def thousand():
    """A digest of 1,000 metrics with 3 covariates."""
    rng = np.random.default_rng(4)
    known = {f"x{k}": rng.normal(size=2_000) for k in range(3)}
    made = {f"m{k}": known["x0"] + rng.normal(size=2_000) for k in range(1_000)}
    frame = pd.DataFrame(known | made | {"form": rng.choice(["short", "current"], 2_000)})
    return ar.table(frame).digest(list(made), by="form", covariates=list(known))


def adjusted_from(digest, arms, value):
    covariates = list(digest.covariates)
    return ar.adjust.cuped(arms["short"], arms["current"], value=value, covariate=covariates)


@pytest.mark.benchmark(group=MANY)
def test_a_thousand_metrics(benchmark, thousand):
    assert benchmark(lambda: adjusted_from(thousand, thousand.every_metric(), "value")).estimate.size == 1_000


@pytest.mark.benchmark(group=MANY)
def test_a_thousand_metrics_baseline_one(benchmark, thousand):
    benchmark(lambda: adjusted_from(thousand, thousand.moments("m7"), "m7"))


@pytest.mark.benchmark(group="a log of events to units, Parquet, against a bare group by")
def test_units_of_parquet(benchmark, parquet):
    wanted = {"searches": ar.tables.count(), "spent": ar.tables.total("fare"), "booked": ar.tables.any_of(booked=True)}

    def units():
        shaped = ar.table(parquet).units(unit="traveller", by="form", measures=wanted)
        return shaped.frame.to_native().aggregate("count(*), sum(spent)").fetchall()

    slow(benchmark, units)


@pytest.mark.benchmark(group="a log of events to units, Parquet, against a bare group by")
def test_units_of_parquet_baseline_sql(benchmark, parquet):
    import duckdb

    query = (
        "select count(*), sum(spent) from (select traveller, min(form) as low, max(form) as high, count(*) as searches,"  # noqa: S608
        f" sum(fare) as spent, max(booked) from read_parquet('{parquet}') group by traveller) where low = high"
    )
    slow(benchmark, lambda: duckdb.sql(query).fetchall())


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


@pytest.mark.benchmark(group="100,000 comparisons of rates, against 1,000 scalar calls")
def test_many_rates(benchmark):
    rng = np.random.default_rng(4)
    one, two = (ar.Events(rng.poisson(60, 100_000), rng.uniform(90, 200, 100_000), v) for v in ("short", "current"))
    benchmark.pedantic(lambda: ar.measure.rates(one, two), rounds=2)


@pytest.mark.benchmark(group="100,000 comparisons of rates, against 1,000 scalar calls")
def test_many_rates_baseline_scalar_calls(benchmark):
    one, two = ar.Events(40, 120.0, "short"), ar.Events(60, 130.0, "current")
    benchmark.pedantic(lambda: [ar.measure.rates(one, two) for _ in range(1_000)], rounds=1)


NONCENTRAL = "with all effects, against 10 scalar nct.cdf"
BRIEF = (ar.Summary(900, 14.1, 4.0, "short"), ar.Summary(870, 14.0, 4.1, "current"))
SHORT_CALLS = {
    f"one comparison of means {NONCENTRAL}": (10, lambda: ar.measure.means(*BRIEF)),
    f"one comparison of proportions {NONCENTRAL}": (
        10,
        lambda: ar.measure.proportions(ar.Counts(60, 400, "short"), ar.Counts(40, 400, "current")),
    ),
    "evidence about two means with posteriors, against 40 scalar nct.cdf": (40, lambda: ar.bayes.means(*BRIEF)),
    "boundaries of 200 looks, against 10,000 scalar nct.cdf": (10_000, lambda: ar.sequential.boundaries(200)),
}


@pytest.mark.parametrize("role", ["subject", "baseline"])
@pytest.mark.parametrize("group", SHORT_CALLS)
def test_short_calls(benchmark, group, role):
    from scipy.stats import nct

    times, call = SHORT_CALLS[group]
    benchmark.group = group
    if role == "baseline":
        call = lambda: [nct.cdf(2.1, 57.3, 1.2) for _ in range(times)]  # noqa: E731
    benchmark.pedantic(call, rounds=200 if times <= 40 else 3, warmup_rounds=20 if times <= 40 else 1)


MANY = 10_000
T_VALUES = np.linspace(-6, 6, MANY)
WEIGHED = {
    "10,000 Bayes factors, against 1,000 single calls": (
        lambda: ar.bayes.log_bayes_factor(T_VALUES, 80, 80),
        lambda: [ar.bayes.log_bayes_factor(t, 80, 80) for t in T_VALUES[:1_000]],
    ),
    "10,000 Bayes factors with posteriors, against 100 single calls": (
        lambda: ar.bayes.means(ar.Summary(80, T_VALUES / 3, 2.0, "a"), ar.Summary(80, 0.0, 2.0, "b")),
        lambda: [
            ar.bayes.means(ar.Summary(80, t, 2.0, "a"), ar.Summary(80, 0.0, 2.0, "b")) for t in T_VALUES[:100] / 3
        ],
    ),
    "a curve of 200 priors, against 10 single calls": (
        lambda: ar.bayes.means(*BRIEF).across_priors(),
        lambda: [ar.bayes.means(*BRIEF) for _ in range(10)],
    ),
    "a curve of 200 priors of an estimate, against 10 single calls": (
        lambda: ar.bayes.evidence(4.1, 1.9, prior=ar.bayes.Uniform(0, 9)).across_priors(),
        lambda: [ar.bayes.evidence(4.1, 1.9, prior=ar.bayes.Uniform(0, 9)) for _ in range(10)],
    ),
    "two shares of a million trials, against a hundred trials": (
        lambda: ar.bayes.proportions(ar.Counts(100_400, 10**6, "a"), ar.Counts(100_000, 10**6, "b")),
        lambda: ar.bayes.proportions(ar.Counts(12, 100, "a"), ar.Counts(10, 100, "b")),
    ),
}


@pytest.mark.parametrize("role", ["subject", "baseline"])
@pytest.mark.parametrize("group", WEIGHED)
def test_evidence_at_scale(benchmark, group, role):
    benchmark.group = group
    benchmark.pedantic(WEIGHED[group][role == "baseline"], rounds=3, warmup_rounds=1)


@pytest.fixture(scope="module")
def fares():
    rng = np.random.default_rng(5)
    return rng.lognormal(size=1_000_000), 1.001 * rng.lognormal(size=1_000_000)


@pytest.mark.benchmark(group="ranks of 1 million each with the shift's interval, against one sort of all")
def test_ranks(benchmark, fares):
    slow(benchmark, lambda: ar.measure.ranks(*fares))


@pytest.mark.benchmark(group="ranks of 1 million each with the shift's interval, against one sort of all")
def test_ranks_baseline_sort(benchmark, fares):
    together = np.concatenate(fares)
    slow(benchmark, lambda: np.sort(together))


PLANS = {
    "two means": lambda: ar.plan.TwoMeans(sd=20).sample_size(effect=1.3),
    "one mean": lambda: ar.plan.OneMean().sample_size(effect=0.5),
    "paired means": lambda: ar.plan.PairedMeans(sd=10, correlation=0.6).sample_size(effect=3),
    "two proportions": lambda: ar.plan.TwoProportions(baseline=0.1).sample_size(effect=0.02),
    "paired proportions": lambda: ar.plan.PairedProportions(discordant=0.3).sample_size(effect=0.1),
    "many means": lambda: ar.plan.ManyMeans(groups=4).sample_size(effect=0.25),
    "association": lambda: ar.plan.Association(rows=2, columns=3).sample_size(effect=0.3),
    "correlation": lambda: ar.plan.Correlation().sample_size(effect=0.3),
    "regression": lambda: ar.plan.Regression(predictors=3).sample_size(effect=0.05),
    "two rates": lambda: ar.plan.TwoRates(baseline=0.5).sample_size(effect=0.1),
}


def thirty_noncentral_t():
    from scipy.stats import nct

    return [nct.cdf(2.1, 57.3, 1.2) for _ in range(30)]


@pytest.mark.parametrize("role", ["subject", "baseline"])
@pytest.mark.parametrize("design", PLANS)
def test_sample_size(benchmark, design, role):
    benchmark.group = f"sample size of {design}, against 30 scalar noncentral t"
    benchmark.pedantic(PLANS[design] if role == "subject" else thirty_noncentral_t, rounds=30, warmup_rounds=2)


GRIDS = {
    "two means": (ar.plan.TwoMeans(sd=20), (0.8, 3.0)),
    "two proportions": (ar.plan.TwoProportions(baseline=0.1), (0.01, 0.1)),
    "many means": (ar.plan.ManyMeans(groups=4), (0.1, 0.5)),
    "correlation": (ar.plan.Correlation(), (0.1, 0.6)),
}


@pytest.mark.parametrize("role", ["subject", "baseline"])
@pytest.mark.parametrize("design", GRIDS)
def test_a_thousand_scenarios(benchmark, design, role):
    benchmark.group = f"1,000 scenarios of {design} in a grid, against 1,000 single calls"
    plan, ends = GRIDS[design]
    effects = np.linspace(*ends, 1_000)
    if role == "subject":
        benchmark.pedantic(lambda: plan.grid(effect=effects), rounds=5, warmup_rounds=1)
    else:
        benchmark.pedantic(lambda: [plan.sample_size(effect=e) for e in effects], rounds=1)


@pytest.fixture(scope="module")
def crossings():
    rng = np.random.default_rng(6)
    return pd.DataFrame({"route": rng.integers(0, 20, 100_000).astype(str), "delay": rng.gamma(2, 10, 100_000)})


@pytest.mark.parametrize("variances", ["equal", "unequal"])
@pytest.mark.parametrize("role", ["subject", "baseline"])
def test_groups(benchmark, crossings, variances, role):
    from amber_ruler.numeric import studentized

    benchmark.group = (
        f"20 groups of 100,000 rows with all pairs, {variances} variances, against 3 passes and 190 ranges"
    )

    def passes():
        for _ in range(3):
            ar.table(crossings).moments("delay", by="route")
        return [float(studentized.sf(3.1, 20, 9_000.0)) for _ in range(190)]

    def pairs():
        return ar.measure.groups(ar.table(crossings).moments("delay", by="route"), variances=variances).pairwise()

    slow(benchmark, pairs if role == "subject" else passes)


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


def simulated_trials(trials=20_000, n=100, looks=5):
    """20,000 trials of a design with looks, unit by unit: how the same numbers are had by drawing."""
    rng = np.random.default_rng(1)
    bounds = np.full(looks, 2.413)
    first = np.full(trials, looks)
    one, two = (rng.normal(mean, 1.0, (trials, n)) for mean in (0.4, 0.0))
    for k in range(looks, 0, -1):
        m = n * k // looks
        a, b = one[:, :m], two[:, :m]
        z = (a.mean(axis=1) - b.mean(axis=1)) / np.sqrt((a.var(axis=1, ddof=1) + b.var(axis=1, ddof=1)) / m)
        first[np.abs(z) > bounds[k - 1]] = k
    return np.mean(first < looks), np.bincount(first, minlength=looks + 1)


DAYS = np.arange(1, 366) * 100.0
YEAR = np.random.default_rng(2).normal(1, 0.1, (1_000, 365))
LOOKS = {
    "a design of 5 looks: boundaries, units, what it does, against 20,000 trials drawn": (
        lambda: (ar.sequential.boundaries(5), 2 * (ar.sequential.boundaries(5).drift / 0.4) ** 2),
        simulated_trials,
    ),
    "a plan of 5 looks by t tests, against 20,000 trials drawn": (
        lambda: ar.plan.TwoMeans(sd=1).with_looks(5).sample_size(effect=0.4),
        simulated_trials,
    ),
    "20 looks, against 5": (lambda: ar.sequential.boundaries(20), lambda: ar.sequential.boundaries(5)),
    "a year of daily intervals for 1,000 metrics, against 10,000 scalar nct.cdf": (
        lambda: ar.sequential.anytime(
            ar.Summary(DAYS, YEAR, 2.0, "a"), ar.Summary(DAYS, 1.0, 2.0, "b"), tuned_for=50_000
        ),
        None,
    ),
}


@pytest.mark.parametrize("role", ["subject", "baseline"])
@pytest.mark.parametrize("group", LOOKS)
def test_looks(benchmark, group, role):
    from scipy.stats import nct

    subject, drawn = LOOKS[group]
    baseline = drawn or (lambda: [nct.cdf(2.1, 57.3, 1.2) for _ in range(10_000)])
    benchmark.group = group
    benchmark.pedantic(subject if role == "subject" else baseline, rounds=7, warmup_rounds=1)


@pytest.fixture(scope="module")
def sides():
    rng = np.random.default_rng(9)
    return rng.gamma(2, 10, 100_000), rng.gamma(2, 10, 100_000)


def loop(one, two, replicates=2_000):
    """What people write: draw places, take them, take the mean."""
    rng = np.random.default_rng(1)
    found = np.empty(replicates)
    for b in range(replicates):
        found[b] = one[rng.integers(0, len(one), len(one))].mean() - two[rng.integers(0, len(two), len(two))].mean()
    return found


def once(benchmark, call):
    return benchmark.pedantic(call, rounds=2, warmup_rounds=0)


ROWS_DRAWN = "2,000 resamples of 100,000 rows a side, against a loop in NumPy"
WEIGHTS_DRAWN = "2,000 draws of Poisson weights for 100,000 rows a side, against a loop in NumPy"
COUNTS_DRAWN = "2,000 resamples of 0 and 1, 100,000 a side, against a loop in NumPy"


@pytest.mark.benchmark(group=ROWS_DRAWN)
def test_resamples(benchmark, sides):
    once(benchmark, lambda: ar.resample.bootstrap(*sides, interval="percentile", seed=1))


@pytest.mark.benchmark(group=ROWS_DRAWN)
def test_resamples_baseline_loop(benchmark, sides):
    once(benchmark, lambda: loop(*sides))


@pytest.mark.benchmark(group=WEIGHTS_DRAWN)
def test_poisson_weights(benchmark, sides):
    once(benchmark, lambda: ar.resample.bootstrap(*sides, weights="poisson", interval="percentile", seed=1))


@pytest.mark.benchmark(group=WEIGHTS_DRAWN)
def test_poisson_weights_baseline_loop(benchmark, sides):
    once(benchmark, lambda: loop(*sides))


@pytest.mark.benchmark(group=COUNTS_DRAWN)
def test_resampled_counts(benchmark, sides):
    shares = [(side > 20).astype(float) for side in sides]
    once(benchmark, lambda: ar.resample.bootstrap(*shares, interval="percentile", seed=1))


@pytest.mark.benchmark(group=COUNTS_DRAWN)
def test_resampled_counts_baseline_loop(benchmark, sides):
    shares = [(side > 20).astype(float) for side in sides]
    once(benchmark, lambda: loop(*shares))


def in_python(values):
    """A statistic of some 5 ms that NumPy can't take over."""
    return sum(math.sqrt(v) for v in values.tolist()) / len(values)


@pytest.mark.benchmark(group="a statistic in Python, 300 resamples on all cores, against a loop")
def test_own_statistic(benchmark, sides):
    values = sides[0][:60_000]
    call = lambda: ar.resample.bootstrap(values, statistic=in_python, replicates=300, interval="percentile", seed=1)  # noqa: E731
    once(benchmark, call)


@pytest.mark.benchmark(group="a statistic in Python, 300 resamples on all cores, against a loop")
def test_own_statistic_baseline_loop(benchmark, sides):
    values, rng = sides[0][:60_000], np.random.default_rng(1)
    once(benchmark, lambda: [in_python(values[rng.integers(0, 60_000, 60_000)]) for _ in range(300)])


REPLAYED = "2,000 replays of a Welch test with a covariate on 200,000 units, against 2,000 calls of it"


@pytest.fixture(scope="module")
def past():
    rng = np.random.default_rng(2)
    return {"fare": rng.gamma(2, 10, 200_000), "prior": rng.gamma(2, 10, 200_000)}


@pytest.mark.benchmark(group=REPLAYED)
def test_replays(benchmark, past):
    call = lambda: ar.resample.replay(past, ar.adjust.cuped, value="fare", covariate="prior", runs=2_000, seed=1)  # noqa: E731
    once(benchmark, call)


@pytest.mark.benchmark(group=REPLAYED)
def test_replays_baseline_calls(benchmark, past):
    rng = np.random.default_rng(3)

    def calls():
        for _ in range(2_000):
            which = rng.random(200_000) < 0.5
            arms = [ar.Records({c: v[w] for c, v in past.items()}, str(k)) for k, w in enumerate((which, ~which))]
            ar.adjust.cuped(*arms, value="fare", covariate="prior")

    benchmark.pedantic(calls, rounds=1, warmup_rounds=0)
