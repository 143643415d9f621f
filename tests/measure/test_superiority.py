"""The chance to have more, against its definition over all pairs and the ranks of its source."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_ruler import DataError, InputError
from amber_ruler.measure import ranks, superiority
from truth import mp

# Brunner & Munzel (2000), section 5: pain scores on the third day after laparoscopic surgery.
ACTIVE = [1, 2, 1, 1, 1, 1, 1, 1, 1, 1, 2, 4, 1, 1]
OTHERS = [3, 3, 4, 3, 1, 2, 3, 1, 1, 5, 4]


def by_ranks(x, y):
    """The source's equations: overall and internal ranks, their variances, t and df."""
    both = np.concatenate([x, y])

    def rank(values):
        return np.array([np.sum(values < v) + (np.sum(values == v) + 1) / 2 for v in values])

    overall, n1, n0 = rank(both), len(x), len(y)
    parts = ((overall[:n1], rank(x), n1), (overall[n1:], rank(y), n0))
    squares = [np.sum((r - own - r.mean() + (n + 1) / 2) ** 2) / (n - 1) for r, own, n in parts]
    p = (overall[:n1].mean() - (n1 + 1) / 2) / n0
    s1, s0 = squares[0] / n0**2 / n1, squares[1] / n1**2 / n0
    if s1 + s0 == 0:
        return p, 0.0, np.inf
    return p, np.sqrt(s1 + s0), (s1 + s0) ** 2 / (s1**2 / (n1 - 1) + s0**2 / (n0 - 1))


values = st.lists(st.integers(-4, 4).map(float), min_size=2, max_size=12)


@settings(deadline=None)
@given(values, values)
def test_it_is_the_share_of_pairs_and_the_ranks_of_its_source(x, y):
    """Ties half; the standard error and degrees of freedom from placements are those from ranks."""
    x, y = np.array(x), np.array(y)
    p, se, df = by_ranks(x, y)
    if se < 1e-12:
        with pytest.raises(DataError, match=r"measure\.ranks"):
            superiority(x, y)
        return
    r = superiority(x, y)
    assert r.estimate == pytest.approx(np.mean(x[:, None] > y) + np.mean(x[:, None] == y) / 2)
    assert (r.estimate, r.se, r.df) == pytest.approx((p, se, df), rel=1e-9)
    assert r.statistic == pytest.approx((p - 0.5) / se, rel=1e-9, abs=1e-9)
    assert 0 <= r.interval.low <= r.estimate <= r.interval.high <= 1
    for delta in (r.effects["cliff_delta"], ranks(x, y).effects["cliff_delta"]):
        assert delta.value == pytest.approx(np.mean(np.sign(x[:, None] - y)), abs=1e-12)
        assert -1 <= delta.interval.low <= delta.value <= delta.interval.high <= 1


def test_a_published_example():
    """The source's data: its estimate, t and df to their printed digits, p by an integral of the t density."""
    r = superiority(OTHERS, ACTIVE)
    assert r.estimate == pytest.approx(0.788961, abs=1e-6)
    assert (r.statistic, r.df) == pytest.approx((3.1375, 17.6828), abs=5e-5)
    tail = mp.betainc(r.df / 2, 0.5, 0, r.df / (r.df + r.statistic**2), regularized=True)
    assert r.p_value == pytest.approx(float(tail), rel=1e-10)
    assert r.estimate == ranks(OTHERS, ACTIVE).effects["superiority"].value


@pytest.mark.parametrize("scale", ["t", "logit"])
def test_the_scale_of_the_interval_has_its_own_test(scale):
    """Each agrees with its own p; the logit never leaves 0 and 1; what is cut is said; margins lie on the scale too."""
    x, y = np.arange(6.0) + 4.5, np.arange(7.0)
    r = superiority(x, y, interval=scale, alpha=0.001)
    assert (scale == "t") == any("cut there" in note for note in r.notes)
    assert r.interval.high == 1 if scale == "t" else r.interval.high < 1
    for null in np.linspace(0.02, 0.98, 25):
        one = superiority(x, y, interval=scale, null=null)
        assert (one.p_value < 0.05) == (not one.interval.contains(null))
    near = superiority(ACTIVE, OTHERS, interval=scale, margin=0.4)
    logit = (lambda v: np.log(v / (1 - v))) if scale == "logit" else (lambda v: v)
    error = near.se / (near.estimate * (1 - near.estimate)) if scale == "logit" else near.se
    shift = (logit(near.estimate) - logit(0.1)) / error
    tail = mp.betainc(near.df / 2, 0.5, 0, near.df / (near.df + shift**2), regularized=True) / 2
    assert near.margin_tests["not_worse"].p_value == pytest.approx(float(tail), rel=1e-9)
    with pytest.raises(InputError, match="margin"):
        superiority(x, y, margin=0.5)


def test_it_keeps_its_error_rate_where_spreads_differ():
    """Of 2,000 tests without a tendency, 5 % reject within 4 Monte-Carlo errors; ranks too many, the logit fewer."""
    rng = np.random.default_rng(4)
    drawn = [(rng.normal(0, 4, 15), rng.normal(0, 1, 40)) for _ in range(2_000)]
    plain, logit = (
        np.mean([superiority(x, y, interval=scale).p_value < 0.05 for x, y in drawn]) for scale in ("t", "logit")
    )
    assert abs(plain - 0.05) < 4 * np.sqrt(0.05 * 0.95 / 2_000)
    assert 0.005 < logit < plain
    assert np.mean([ranks(x, y).p_value < 0.05 for x, y in drawn[:400]]) > 0.07


def test_what_cannot_be_compared_is_said():
    """One value; groups that don't overlap; a null that is no chance."""
    with pytest.raises(DataError, match="at least 2"):
        superiority([1.0], [2.0, 3.0])
    with pytest.raises(DataError, match="don't overlap at all"):
        superiority([5.0, 6.0], [2.0, 3.0])
    with pytest.raises(InputError, match="null"):
        superiority([5.0, 6.0], [2.0, 7.0], null=1.0)
