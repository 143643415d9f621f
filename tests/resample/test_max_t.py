"""Several metrics by dealing out again: against every assignment by hand, and what the steps must keep."""

import itertools

import numpy as np
import pytest

import amber_ruler as ar

SIDES = {"two-sided": np.abs, "greater": lambda t: t, "less": lambda t: -t}


def statistics(x, chosen, kind):
    one, two = x[list(chosen)], np.delete(x, list(chosen), axis=0)
    gap = one.mean(axis=0) - two.mean(axis=0)
    if kind == "mean":
        return gap
    return gap / np.sqrt(one.var(axis=0, ddof=1) / len(one) + two.var(axis=0, ddof=1) / len(two))


@pytest.mark.parametrize("side", SIDES)
@pytest.mark.parametrize("kind", ["studentised", "mean"])
def test_steps_by_hand(kind, side):
    """Algorithm 4.1 of Westfall and Young over all assignments of nine units, three metrics."""
    rng = np.random.default_rng(2)
    x = rng.normal(size=(9, 3)) + np.arange(9)[:, None] * [0.5, 0.2, -0.3]
    one, two = ({name: part[:, k] for k, name in enumerate("abc")} for part in (x[:4], x[4:]))
    found = ar.resample.max_t(one, two, values=["a", "b", "c"], statistic=kind, alternative=side)
    size = SIDES[side]
    own = size(statistics(x, range(4), kind))
    every = np.array([size(statistics(x, c, kind)) for c in itertools.combinations(range(9), 4)])
    assert found.p_values == pytest.approx((every >= own - 1e-9).mean(axis=0), rel=1e-12)
    order = np.argsort(-own)
    truth, before = np.empty(3), 0.0
    for place, k in enumerate(order):
        before = truth[k] = max(before, float((every[:, order[place:]].max(axis=1) >= own[k] - 1e-9).mean()))
    assert found.adjusted == pytest.approx(truth, rel=1e-12)
    assert found.seed is None


def test_metrics_that_go_together_lose_less_than_by_holm():
    """Drawn assignments are replayed by their seed; a metric twice is as one; rows without a metric are counted."""
    rng = np.random.default_rng(0)
    shared = rng.normal(size=(120, 1))
    x = shared + 0.4 * rng.normal(size=(120, 3))
    x[:60] += 0.35
    x[5, 1] = np.nan
    one, two = ({name: part[:, k] for k, name in enumerate("abc")} for part in (x[:60], x[60:]))
    ask = {"values": ["a", "b", "c"], "replicates": 2_000}
    found, again = (ar.resample.max_t(one, two, **ask, seed=7) for _ in range(2))
    assert np.array_equal(found.adjusted, again.adjusted)
    assert np.all(found.adjusted >= found.p_values)
    assert np.all(found.adjusted <= ar.multiplicity.holm(found.p_values))
    assert found.adjusted.sum() < ar.multiplicity.holm(found.p_values).sum()
    assert "1 rows lack a metric" in str(found)
    twice = [{**arm, "d": arm["a"]} for arm in (one, two)]
    double = ar.resample.max_t(*twice, values=["a", "d"], replicates=2_000, seed=7)
    assert double.adjusted == pytest.approx(double.p_values)
    for wrong, says in (
        (lambda: ar.resample.max_t(one, two, values=["a", "a"]), "different columns"),
        (lambda: ar.resample.max_t(one, two, values=["a", "z"]), "'z'"),
        (lambda: ar.resample.max_t({"a": [1.0, 1]}, {"a": [1.0, 1]}, values=["a"]), "nothing to deal out"),
    ):
        with pytest.raises(ar.AmberRulerError, match=says):
            wrong()


def test_a_metric_in_a_tiny_unit_keeps_its_p_value() -> None:
    rng = np.random.default_rng(5)
    one, two = ({"fare": rng.normal(size=6), "trips": rng.normal(size=6)} for _ in "12")
    plain = ar.resample.max_t(one, two, values=["fare", "trips"], statistic="mean")
    tiny = ar.resample.max_t(
        {name: x * 1e-15 for name, x in one.items()},
        {name: x * 1e-15 for name, x in two.items()},
        values=["fare", "trips"],
        statistic="mean",
    )
    np.testing.assert_array_equal(tiny.p_values, plain.p_values)
    np.testing.assert_array_equal(tiny.adjusted, plain.adjusted)
