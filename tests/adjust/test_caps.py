"""Caps, trims, two parts and geometric means by their formulas."""

import numpy as np
import pytest

from amber_ruler import DataError, InputError, Pairs, Records
from amber_ruler.adjust import cap, geometric, trim, trimmed_pairs, two_part
from amber_ruler.measure import means, pairs


def skewed(seed=2, n=(40, 53)):
    rng = np.random.default_rng(seed)
    return [np.round(rng.lognormal(1 + 0.1 * k, 1, m), 2) for k, m in enumerate(n)]


def welch(parts):
    """Difference, standard error and degrees of freedom of (mean, squared standard error, df)."""
    (m1, v1, d1), (m0, v0, d0) = parts
    return m1 - m0, np.sqrt(v1 + v0), (v1 + v0) ** 2 / (v1**2 / d1 + v0**2 / d0)


def winsorised(values, low, high):
    ordered = np.sort(values)
    return np.clip(values, ordered[low], ordered[len(values) - high - 1])


@pytest.mark.parametrize("share", [0.0, 0.1, 0.2, 0.25])
def test_trimmed_means_are_yuens(share):
    """H values stay, (n - 1) s_w² / (h (h - 1)); without a trim it is Welch."""
    parts = []
    for v in skewed():
        g = int(share * len(v))
        h = len(v) - 2 * g
        parts.append(
            (np.sort(v)[g : len(v) - g].mean(), (len(v) - 1) * winsorised(v, g, g).var(ddof=1) / (h * (h - 1)), h - 1)
        )
    r = trim(*skewed(), share=share)
    assert (r.estimate, r.se, r.df) == pytest.approx(welch(parts), rel=1e-10)
    if share == 0:
        assert r.p_value == pytest.approx(means(*skewed()).p_value, rel=1e-10)


@pytest.mark.parametrize(("ends", "cut"), [("upper", 0.9), ("both", 0.9), ("both", 0.99), ("upper", 0.95)])
def test_caps_at_own_order_statistics_are_the_winsorised_t(ends, cut):
    """√(SSD / (n (n - 1))) (n - 1) / (h - 1), with h - 1 degrees of freedom."""
    parts = []
    for v in skewed():
        n = len(v)
        g = int((1 - cut) * n + 1e-9)
        w, h = winsorised(v, g if ends == "both" else 0, g), n - g * (2 if ends == "both" else 1)
        se = np.sqrt(np.sum((w - w.mean()) ** 2) / (n * (n - 1))) * (n - 1) / (h - 1)
        parts.append((w.mean(), se**2, h - 1))
    r = cap(*skewed(), cap=cut, ends=ends, of="own")
    assert (r.estimate, r.se, r.df) == pytest.approx(welch(parts), rel=1e-10)


def test_one_cap_for_all_is_welch_on_capped_values():
    """At a quantile of all, of values before the test, or at a value; what it changed is counted."""
    one, two = skewed()
    top = np.quantile(np.concatenate([one, two]), 0.95)
    expected = means(np.minimum(one, top), np.minimum(two, top))
    r = cap(one, two, cap=0.95)
    assert (r.estimate, r.se, r.p_value) == pytest.approx((expected.estimate, expected.se, expected.p_value), rel=1e-10)
    assert r.facts["capped treatment"] == np.sum(one > top)
    assert r.facts["mean taken off control"] == pytest.approx(two.mean() - np.minimum(two, top).mean())
    low = np.quantile(np.concatenate([one, two]), 0.05)
    both = cap(one, two, cap=0.95, ends="both")
    assert both.estimate == pytest.approx(means(np.clip(one, low, top), np.clip(two, low, top)).estimate, rel=1e-10)
    rows = [Records({"fare": v, "prior": v[::-1] / 2}, label) for v, label in zip((one, two), "ab", strict=True)]
    before = np.quantile(np.concatenate([one, two]) / 2, 0.95)
    r = cap(*rows, value="fare", cap=0.95, before="prior")
    assert r.estimate == pytest.approx(np.minimum(one, before).mean() - np.minimum(two, before).mean(), rel=1e-10)


@pytest.mark.parametrize("share", [0.0, 0.2])
def test_trimmed_pairs_both_ways(share):
    """Marginal trimmed means with the winsorised covariance, or the trimmed mean of differences."""
    one = skewed(n=(30, 30))[0]
    two = one * 0.8 + skewed(5, (30, 30))[1]
    n, g = 30, int(share * 30)
    h = n - 2 * g
    wins = [winsorised(v, g, g) for v in (one, two, one - two)]
    c = np.cov(wins[0], wins[1])
    inner = [np.sort(v)[g : n - g].mean() for v in (one, two, one - two)]
    factor = (n - 1) / (h * (h - 1))
    r = trimmed_pairs(Pairs(one, two), share=share)
    expected = inner[0] - inner[1], np.sqrt((c[0, 0] + c[1, 1] - 2 * c[0, 1]) * factor), h - 1
    assert (r.estimate, r.se, r.df) == pytest.approx(expected, rel=1e-10)
    r = trimmed_pairs(Pairs(one, two), share=share, of="differences")
    assert (r.estimate, r.se, r.df) == pytest.approx(
        (inner[2], np.sqrt(wins[2].var(ddof=1) * factor), h - 1), rel=1e-10
    )
    if share == 0:
        assert r.p_value == pytest.approx(pairs(Pairs(one, two)).p_value, rel=1e-9)


def test_two_parts_multiply_and_their_variances_add():
    """The mean is share times amount; logs add; the interval of the whole inverts its z."""
    rng = np.random.default_rng(6)
    both = [v * (rng.random(v.size) < p) for v, p in zip(skewed(n=(400, 500)), (0.5, 0.4), strict=True)]
    r = two_part(*both)
    assert r.estimate == pytest.approx(both[0].mean() / both[1].mean(), rel=1e-12)
    share, amount = r.effects["share"], r.effects["amount"]
    assert share.value * amount.value == pytest.approx(r.estimate, rel=1e-12)
    variance = 0.0
    for v in both:
        above = v[v > 0]
        variance += (1 - above.size / v.size) / above.size + above.var(ddof=1) / above.size / above.mean() ** 2
    assert r.facts["log_se"] == pytest.approx(np.sqrt(variance), rel=1e-12)
    widths = [np.log(e.interval.high / e.interval.low) for e in (share, amount, r)]
    assert widths[0] ** 2 + widths[1] ** 2 == pytest.approx(widths[2] ** 2, rel=1e-9)


def test_geometric_means_and_their_zeros():
    """Welch on logarithms; zeros are refused, or left out and said."""
    one, two = skewed()
    r, logs = geometric(one, two), means(np.log(one), np.log(two))
    assert (np.log(r.estimate), r.p_value) == pytest.approx((logs.estimate, logs.p_value), rel=1e-9)
    assert np.log([r.interval.low, r.interval.high]) == pytest.approx([logs.interval.low, logs.interval.high], rel=1e-9)
    with pytest.raises(DataError, match="treatment 2 of 42"):
        geometric(np.r_[one, 0, 0], two)
    again = geometric(np.r_[one, 0, 0], two, zeros="apart")
    assert again.p_value == r.p_value
    assert "Zeros are left out (treatment 2 of 42" in " ".join(again.notes)


def test_what_cant_be_is_refused():
    """Trims that leave nothing, shares that are none, values below 0."""
    with pytest.raises(DataError, match="1 would be left"):
        trim([1.0, 2, 3], [1.0, 2, 4], share=0.4)
    with pytest.raises(InputError, match=r"below 0\.5"):
        trim(*skewed(), share=0.5)
    with pytest.raises(DataError, match="are below 0"):
        two_part([1.0, -2, 3], [1.0, 2, 3])
    with pytest.raises(InputError, match="name the metric in value"):
        cap(Records({"a": [1.0, 2]}, "x"), Records({"a": [1.0, 2]}, "y"))
    with pytest.raises(InputError, match="take a quantile"):
        cap(*skewed(), cap_at=3, of="own")
