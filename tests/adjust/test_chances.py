"""Weights, exposure, uptake, segments, changes and novelty by their formulas."""

import numpy as np
import pytest

import amber_ruler as ar
from adjust.rows import arms
from amber_ruler import DataError, InputError, Records
from amber_ruler.adjust import before_after, compliers, novelty, segments, triggered, weights
from amber_ruler.measure import means


def test_weights_by_their_formulas():
    """Normalised and over a known population; equal weights are none; Kish's effective number."""
    both = arms((60, 80))
    total = 0.0
    r = weights(*both, value="fare", weight="weight")
    for a, g in zip(both, r.groups, strict=True):
        y, w, n = a.columns["fare"], a.columns["weight"], len(a)
        mean = np.sum(w * y) / w.sum()
        se = np.sqrt(n / (n - 1) * np.sum(w**2 * (y - mean) ** 2)) / w.sum()
        assert (g.mean, g.se) == pytest.approx((mean, se), rel=1e-10)
        assert g.more["effective n"] == pytest.approx(w.sum() ** 2 / np.sum(w**2), rel=1e-10)
        total += se**2
    assert r.se == pytest.approx(np.sqrt(total), rel=1e-10)
    r = weights(*both, value="fare", weight="weight", form="total", population=(70.0, 90.0))
    for a, g, size in zip(both, r.groups, (70, 90), strict=True):
        wy, n = a.columns["fare"] * a.columns["weight"], len(a)
        se = np.sqrt(n / (n - 1) * np.sum((wy - wy.mean()) ** 2)) / size
        assert (g.mean, g.se) == pytest.approx((wy.sum() / size, se), rel=1e-10)
    alike = [Records({**a.columns, "weight": np.full(len(a), 3.0)}, a.label) for a in both]
    plain = means(*(a.columns["fare"] for a in both))
    r = weights(*alike, value="fare", weight="weight")
    assert (r.estimate, r.se, r.df) == pytest.approx((plain.estimate, plain.se, plain.df), rel=1e-10)
    with pytest.raises(DataError, match="weights of variant 'short' in 'seen' are 0 or less"):
        weights(*both, value="fare", weight="seen")
    with pytest.raises(InputError, match="needs the population"):
        weights(*both, value="fare", weight="weight", form="total")


def test_the_effect_on_exposed_units_is_diluted_by_their_share():
    """Welch over exposed units times the pooled share; all exposed is Welch itself."""
    both = arms((80, 90))
    exposed = means(*(a.columns["fare"][a.columns["seen"] == 1] for a in both))
    share = np.concatenate([a.columns["seen"] for a in both]).mean()
    r = triggered(*both, value="fare", exposed="seen")
    assert (r.estimate, r.se, r.df) == pytest.approx(
        (share * exposed.estimate, share * exposed.se, exposed.df), rel=1e-9
    )
    assert r.p_value == pytest.approx(exposed.p_value, rel=1e-9)
    everyone = [Records({**a.columns, "seen": np.ones(len(a))}, a.label) for a in both]
    plain = means(*(a.columns["fare"] for a in both))
    assert triggered(*everyone, value="fare", exposed="seen").p_value == pytest.approx(plain.p_value, rel=1e-9)
    uneven = [
        Records({**a.columns, "seen": np.arange(len(a)) < k}, a.label) for a, k in zip(both, (70, 30), strict=True)
    ]
    assert triggered(*uneven, value="fare", exposed="seen").checks[0].severity == "serious"
    with pytest.raises(DataError, match="other values than 0 and 1"):
        triggered(*both, value="fare", exposed="searches")


def test_the_effect_of_uptake_is_walds_and_its_set_is_solved():
    """SE from y - LATE d; the Anderson-Rubin set is an interval, two rays or the line, as a grid of tests says."""
    kinds = set()
    for seed in range(40):
        both = arms((30, 36), seed=seed)
        y, d = ([a.columns[c] for a in both] for c in ("fare", "used"))
        if seed % 2:
            d = [np.random.default_rng(seed + k).random(len(v)) < 0.5 for k, v in enumerate(y)]
            d = [v.astype(float) for v in d]
            both = [Records({**a.columns, "used": v}, a.label) for a, v in zip(both, d, strict=True)]
        up = d[0].mean() - d[1].mean()
        if up == 0:
            continue
        late = (y[0].mean() - y[1].mean()) / up
        se = np.sqrt(sum((v - late * t).var(ddof=1) / v.size for v, t in zip(y, d, strict=True))) / abs(up)
        r = compliers(*both, value="fare", taken="used")
        assert (r.estimate, r.se) == pytest.approx((late, se), rel=1e-8)
        interval = r.effects["anderson_rubin"].interval
        kinds.add("rays" if interval.excludes else "line" if np.isinf(interval.low) else "interval")
        for b in np.linspace(-300, 300, 301):
            z = (y[0] - b * d[0]).mean() - (y[1] - b * d[1]).mean()
            spread = np.sqrt(sum((v - b * t).var(ddof=1) / v.size for v, t in zip(y, d, strict=True)))
            assert interval.contains(float(b)) == (abs(z / spread) <= abs(r.critical)), (seed, b)
    assert kinds == {"rays", "line", "interval"}


def test_segments_are_comparisons_corrected_together():
    """Each is Welch within the segment, with Holm's intervals; a share is a mean of 0 and 1."""
    both = arms((80, 90))
    r = segments(*both, value="fare", segment="port")
    for k, port in enumerate(r.axis.labels):
        own = means(*(a.columns["fare"][a.columns["port"] == port] for a in both))
        assert (r.estimate[k], r.se[k], r.p_value[k]) == pytest.approx((own.estimate, own.se, own.p_value), rel=1e-9)
    assert list(r.correction.adjusted) == pytest.approx(ar.multiplicity.correct(list(r.p_value)).adjusted.tolist())
    shrunken = ar.bayes.shrink(r.estimate, r.se)
    assert r.effects["shrunken"].value == pytest.approx(shrunken.estimate, rel=1e-9)
    alone = segments(*both, value="seen", segment="port", correction="none")
    assert alone.correction is None
    assert alone.strata.interaction.df == 2
    with pytest.raises(DataError, match="one segment of 'same' only"):
        segments(*(Records({**a.columns, "same": ["x"] * len(a)}, a.label) for a in both), value="fare", segment="same")


def test_the_difference_of_differences_is_welch_on_changes():
    """From rows and from moments."""
    both = arms((80, 90))
    expected = means(*(a.columns["fare"] - a.columns["prior"] for a in both))
    moments = [ar.Moments.from_arrays({c: a.columns[c] for c in ("fare", "prior")}, label=a.label) for a in both]
    for given in (both, moments):
        r = before_after(*given, value="fare", before="prior")
        assert (r.estimate, r.se, r.df) == pytest.approx((expected.estimate, expected.se, expected.df), rel=1e-10)


def test_novelty_counts_that_the_same_units_return():
    """The slope is a weighted sum of differences, its variance one over units."""
    rng = np.random.default_rng(5)
    both = []
    for k, label in enumerate(("short", "current")):
        who, day = np.repeat(np.arange(40), 4), np.tile(np.arange(4), 40)
        keep = rng.random(160) < 0.8
        fare = rng.normal(size=40)[who] + rng.normal(size=160) + (1 - 0.3 * day) * (1 - k)
        both.append(Records({"fare": fare[keep], "day": day[keep], "who": who[keep] + 100 * k}, label))
    r = novelty(*both, value="fare", age="day", unit="who")
    n = np.array([[np.sum(a.columns["day"] == t) for t in range(4)] for a in both], dtype=float)
    m = np.array([[a.columns["fare"][a.columns["day"] == t].mean() for t in range(4)] for a in both])
    w = n[0] * n[1] / n.sum(axis=0)
    c = np.arange(4) - (w @ np.arange(4)) / w.sum()
    c = w * c / (w @ c**2)
    variance = 0.0
    for k, a in enumerate(both):
        t = a.columns["day"].astype(int)
        scores = np.bincount(a.columns["who"].astype(int), weights=c[t] * (a.columns["fare"] - m[k][t]) / n[k][t])
        units = len(np.unique(a.columns["who"]))
        variance += np.sum(scores**2) * units / (units - 1)
    assert r.estimate == pytest.approx(m[0] - m[1], rel=1e-10)
    assert r.facts["slope"] == pytest.approx(c @ (m[0] - m[1]), rel=1e-10)
    assert r.strata.interaction.statistic == pytest.approx(c @ (m[0] - m[1]) / np.sqrt(variance), rel=1e-10)


def test_days_since_the_first_by_unit():
    """Of numbers and of dates, from any engine."""
    log = ar.table(ar.demo.path("events")).days_since_first("age", unit="traveller", day="day")
    assert log.overall("age").ends("age")[0] == 0
    import pandas as pd

    days = pd.DataFrame({"who": ["a", "a", "b"], "day": pd.to_datetime(["2026-10-01", "2026-10-04", "2026-10-02"])})
    aged = ar.table(days).days_since_first("age", unit="who", day="day")
    assert aged.overall("age").mean("age") == 1.0
