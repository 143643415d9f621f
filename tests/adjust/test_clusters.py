"""Clustered errors against matrices written out cluster by cluster."""

import numpy as np
import pytest

from adjust.rows import arms, design, least_squares
from amber_ruler import DataError, Records
from amber_ruler.adjust import clusters, quantiles, ratio, regression
from amber_ruler.measure import means


def written_out(both, covariates, errors):
    """Difference, standard error and Bell and McCaffrey's degrees of freedom."""
    y, x = design(both, covariates, interacted=False)
    b, e, inverse, hat = least_squares(y, x)
    n, k = x.shape
    ids = np.concatenate([a.columns["who"] for a in both])
    each = [ids == c for c in np.unique(ids)]
    g, meat, columns = len(each), 0.0, []
    for rows in each:
        root = np.eye(rows.sum())
        if errors == "cr2":
            values, vectors = np.linalg.eigh(np.eye(rows.sum()) - hat[np.ix_(rows, rows)])
            root = vectors @ np.diag(values**-0.5) @ vectors.T
        weights = root @ x[rows] @ inverse[1]
        meat += (weights @ e[rows]) ** 2
        columns.append((np.eye(n) - hat)[:, rows] @ weights)
    factor = {"cr0": 1, "cr2": 1, "cr1": g / (g - 1), "cr1-rows": g / (g - 1) * (n - 1) / (n - k)}[errors]
    crossed = np.array(columns) @ np.array(columns).T
    return b[1], np.sqrt(meat * factor), np.trace(crossed) ** 2 / np.sum(crossed**2), g


@pytest.mark.parametrize("errors", ["cr0", "cr1", "cr1-rows", "cr2"])
@pytest.mark.parametrize("covariates", [[], ["prior", "trips"]])
@pytest.mark.parametrize("spanning", ["refuse", "allowed"])
def test_it_is_the_sandwich_written_out(errors, covariates, spanning):
    """With and without covariates, whole clusters or ones that span variants."""
    both = arms((45, 52), clusters=11, spanning=spanning == "allowed")
    estimate, se, df, g = written_out(both, covariates, errors)
    r = clusters(*both, value="fare", cluster="who", covariate=covariates, errors=errors, spanning=spanning)
    assert (r.estimate, r.se) == pytest.approx((estimate, se), rel=1e-10)
    expected = df if errors == "cr2" else g - (1 if spanning == "allowed" else 2)
    assert r.df == pytest.approx(expected, rel=1e-10)


@pytest.mark.parametrize("unit", [1e-9, 1e6])
def test_the_unit_of_a_covariate_does_not_matter(unit):
    """In millionths or in millions: the same corrected errors and degrees of freedom."""
    both = arms((45, 52), clusters=11)
    other = [Records({**a.columns, "prior": a.columns["prior"] * unit}, a.label) for a in both]
    one, two = (clusters(*g, value="fare", cluster="who", covariate=["prior", "trips"]) for g in (both, other))
    assert (two.estimate, two.se, two.df) == pytest.approx((one.estimate, one.se, one.df), rel=1e-9)


def test_clusters_of_one_are_rows():
    """CR0 is HC0, CR2 is HC2, CR1 is HC0 n / (n - 1), the form with (N - 1)/(N - k) is HC1."""
    both = [Records({**a.columns, "who": [f"{a.label}{k}" for k in range(len(a))]}, a.label) for a in arms()]
    n = sum(map(len, both))
    how = {"value": "fare", "covariate": "prior"}
    rows = {e: regression(*both, **how, slopes="common", errors=e).se for e in ("hc0", "hc1", "hc2")}
    found = {e: clusters(*both, **how, cluster="who", errors=e).se for e in ("cr0", "cr1", "cr1-rows", "cr2")}
    assert found["cr0"] == pytest.approx(rows["hc0"], rel=1e-10)
    assert found["cr2"] == pytest.approx(rows["hc2"], rel=1e-10)
    assert found["cr1-rows"] == pytest.approx(rows["hc1"], rel=1e-10)
    assert found["cr1"] == pytest.approx(rows["hc0"] * np.sqrt(n / (n - 1)), rel=1e-10)
    assert clusters(*both, value="fare", cluster="who", errors="means").se == pytest.approx(
        means(*(a.columns["fare"] for a in both)).se, rel=1e-12
    )


def test_totals_means_design_effect_and_intraclass_correlation():
    """Each by its formula from sums over clusters."""
    both = arms((60, 70), clusters=12)
    sums, sizes, ys = [], [], []
    for a in both:
        ids, codes = np.unique(a.columns["who"], return_inverse=True)
        sums.append(np.bincount(codes, weights=a.columns["fare"]))
        sizes.append(np.bincount(codes).astype(float))
        ys.append(a.columns["fare"])
        assert len(ids) == len(sums[-1])
    as_ratio = ratio(
        *(Records({"t": s, "m": m}, a.label) for s, m, a in zip(sums, sizes, both, strict=True)), value="t", per="m"
    )
    r = clusters(*both, value="fare", cluster="who", errors="totals")
    assert (r.estimate, r.se, r.df) == pytest.approx((as_ratio.estimate, as_ratio.se, as_ratio.df), rel=1e-10)
    by_means = clusters(*both, value="fare", cluster="who", errors="means")
    expected = means(*(s / m for s, m in zip(sums, sizes, strict=True)))
    assert (by_means.estimate, by_means.se) == pytest.approx((expected.estimate, expected.se), rel=1e-12)
    assert "not for the mean row" in " ".join(by_means.notes)
    cr1 = clusters(*both, value="fare", cluster="who", errors="cr1")
    assert cr1.facts["design_effect"] == pytest.approx((cr1.se / means(*ys).se) ** 2, rel=1e-10)
    g, n = sum(map(len, sums)), sum(map(len, ys))
    between = sum(float(np.sum(m * (s / m - y.mean()) ** 2)) for s, m, y in zip(sums, sizes, ys, strict=True)) / (g - 2)
    total = sum(float(np.sum((y - y.mean()) ** 2)) for y in ys)
    within = (total - between * (g - 2)) / (n - g)
    m0 = (n - sum(float(np.sum(m**2) / m.sum()) for m in sizes)) / (g - 2)
    assert cr1.facts["icc"] == pytest.approx((between - within) / (between + (m0 - 1) * within), rel=1e-10)
    low = Records({"fare": [1.0, 5, 1, 5, 2, 4], "who": list("aabbcc")}, "short")
    high = Records({"fare": [2.0, 5, 1, 6, 2, 4], "who": list("ddeeff")}, "current")
    assert clusters(low, high, value="fare", cluster="who").facts["icc"] < 0


def test_what_cant_be_is_refused_or_said():
    """Clusters that span variants, a single one, one that decides alone; few are warned of."""
    both = arms(spanning=True)
    with pytest.raises(DataError, match="have rows in both variants"):
        clusters(*both, value="fare", cluster="who")
    one = [Records({**a.columns, "who": [f"{a.label}{len(a) * k}" for k in np.zeros(len(a))]}, a.label) for a in both]
    with pytest.raises(DataError, match="'short' has 1 of 'who'"):
        clusters(*one, value="fare", cluster="who")
    whole = arms()
    marked = [Records({**a.columns, "mine": (a.columns["who"] == "t1") * 1.0}, a.label) for a in whole]
    with pytest.raises(DataError, match="One cluster alone decides"):
        clusters(*marked, value="fare", cluster="who", covariate="mine")
    seen = clusters(*whole, value="fare", cluster="who").checks[0]
    assert (seen.severity, "few of who" in seen.finding) == ("warning", True)


def test_a_quantile_of_clustered_rows_by_its_formula():
    """The clustered variance of the share at or below it, over the squared density."""
    both = arms((60, 70), clusters=15)
    r = quantiles(*both, value="fare", cluster="who", at=0.7)
    total = 0.0
    for a, g in zip(both, r.groups, strict=True):
        y = a.columns["fare"]
        at = np.quantile(y, 0.7)
        width = 0.9 * min(y.std(ddof=1), np.subtract(*np.quantile(y, [0.75, 0.25])) / 1.34) * y.size**-0.2
        density = np.mean(np.exp(-(((y - at) / width) ** 2) / 2)) / np.sqrt(2 * np.pi) / width
        ids, codes = np.unique(a.columns["who"], return_inverse=True)
        scores = np.bincount(codes, weights=(y <= at) - np.mean(y <= at))
        se = np.sqrt(np.sum(scores**2) * len(ids) / (len(ids) - 1)) / y.size / density
        assert (g.mean, g.se) == pytest.approx((at, se), rel=1e-10)
        total += se**2
    assert r.se == pytest.approx(np.sqrt(total), rel=1e-10)
