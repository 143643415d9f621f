"""Corrections for many comparisons."""

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler import InputError, Summary
from amber_ruler.measure import means
from amber_ruler.multiplicity import (
    adjust,
    benjamini_hochberg,
    benjamini_yekutieli,
    bonferroni,
    fixed_sequence,
    gatekeeping,
    hochberg,
    holm,
    hommel,
    measure_family,
    sidak,
)

families = st.lists(st.floats(0, 1), min_size=1, max_size=12)


def holm_claims(p, alpha):
    """Holm's procedure as it is told: go up from the smallest, stop at the first that fails."""
    claims, order = [False] * len(p), sorted(range(len(p)), key=lambda i: p[i])
    for rank, i in enumerate(order):
        if not p[i] * (len(p) - rank) < alpha:
            break
        claims[i] = True
    return claims


def bh_claims(p, alpha):
    """Benjamini and Hochberg's: the largest k with p(k) <= k alpha / m, and all below it."""
    order = sorted(range(len(p)), key=lambda i: p[i])
    k = max((r + 1 for r, i in enumerate(order) if p[i] * (len(p) / (r + 1)) <= alpha), default=0)
    return [i in order[:k] or (k > 0 and p[i] <= p[order[k - 1]]) for i in range(len(p))]


@given(families, st.floats(0.001, 0.5))
def test_adjusted_values_decide_as_the_procedures_do(p, alpha):
    """An adjusted p below alpha is the same as a claim of the step-wise procedure."""
    assert (holm(p) < alpha).tolist() == holm_claims(p, alpha)
    assert (benjamini_hochberg(p) <= alpha).tolist() == bh_claims(p, alpha)


@given(families)
def test_order_does_not_matter_and_adjusting_never_lowers(p):
    """Adjusted values belong to their p-values, are no smaller, and keep their order."""
    for method in (bonferroni, sidak, holm, hochberg, hommel, benjamini_hochberg, benjamini_yekutieli):
        q = method(p)
        assert np.all(q >= np.asarray(p) * (1 - 1e-15))
        assert method(p[::-1])[::-1].tolist() == q.tolist()
        assert np.all(np.diff(q[np.argsort(p)]) >= 0)


def closed(p, test):
    """Closed testing: the largest p-value of any set of hypotheses that holds the one asked for."""
    sets = [c for size in range(1, len(p) + 1) for c in combinations(range(len(p)), size)]
    return [max(test(c) for c in sets if i in c) for i in range(len(p))]


@given(st.lists(st.floats(0, 1), min_size=1, max_size=6))
def test_step_wise_values_are_those_of_closed_testing(p):
    """Hommel closes the Simes test, Holm Bonferroni's; the step-up twin of Holm lies in between."""

    def simes(c):
        return min(len(c) * v / (k + 1) for k, v in enumerate(sorted(p[i] for i in c)))

    assert hommel(p) == pytest.approx(closed(p, simes), rel=1e-12)
    assert holm(p) == pytest.approx(closed(p, lambda c: min(1, len(c) * min(p[i] for i in c))), rel=1e-12)
    assert np.all(hommel(p) <= hochberg(p) * (1 + 1e-12))
    assert np.all(hochberg(p) <= holm(p) * (1 + 1e-12))


@given(st.lists(st.floats(1e-6, 1), min_size=2, max_size=6))
def test_gatekeeping_has_holm_and_the_fixed_sequence_as_special_cases(p):
    """Equal weights that pass to all others are Holm's; all weight on the first, handed on in turn, is the sequence."""
    named = {str(k): v for k, v in enumerate(p)}
    m = len(p)
    to_all = {a: {b: 1 / (m - 1) for b in named if b != a} for a in named}
    equal = gatekeeping(named, weights=dict.fromkeys(named, 1 / m), passes=to_all)
    assert equal.adjusted == pytest.approx(holm(p), rel=1e-9)
    in_turn = {str(k): {str(k + 1): 1.0} for k in range(m - 1)}
    chain = gatekeeping(named, weights={"0": 1.0}, passes=in_turn)
    assert chain.adjusted == pytest.approx(fixed_sequence(named).adjusted, rel=1e-12)
    assert chain.adjusted == pytest.approx(np.maximum.accumulate(p))


def test_two_primary_metrics_open_the_way_to_their_secondary_ones():
    """Two parallel gates, each step of the graph worked by hand."""
    p = {"booked": 0.02, "fare": 0.03, "tips": 0.022, "again": 0.011}
    passes = {"booked": {"tips": 1.0}, "fare": {"again": 1.0}, "tips": {"fare": 1.0}, "again": {"booked": 1.0}}
    r = gatekeeping(p, weights={"booked": 0.5, "fare": 0.5}, passes=passes, alpha=0.05)
    # booked 0.02/0.5; then tips 0.022/0.5; its alpha goes to fare, which has all: 0.03/1; then again 0.011/1.
    assert r.adjusted == pytest.approx([0.04, 0.044, 0.044, 0.044])
    assert r.claims.all()
    with pytest.raises(InputError, match="at most 1 together"):
        gatekeeping(p, weights={"booked": 0.8, "fare": 0.5}, passes={})
    with pytest.raises(InputError, match="bookd"):
        gatekeeping(p, weights={"bookd": 1.0}, passes={})


def test_families_are_corrected_by_themselves():
    """Each at its own size, named in the table."""
    p = {"booked": 0.01, "fare": 0.03, "complaint": 0.04}
    r = adjust(p, families={"booked": "primary", "fare": "secondary", "complaint": "secondary"})
    assert r.adjusted.tolist() == [0.01, 0.06, 0.06]
    assert r.interval_alpha.tolist() == [0.05, 0.025, 0.025]
    assert "secondary" in str(r)
    with pytest.raises(InputError, match="'complaint'"):
        adjust(p, families={"booked": "primary", "fare": "secondary"})


def test_intervals_of_claims_err_in_the_share_promised():
    """Benjamini and Yekutieli (2005): of the intervals of claims, at most alpha miss, on average over families."""
    rng = np.random.default_rng(3)
    missing = []
    for _ in range(300):
        truth = np.where(rng.random(20) < 0.5, 0.0, 3.0)
        seen = truth + rng.normal(size=20)
        asks = {
            str(k): lambda alpha, v=v: means(Summary(2, v, 1, "a"), Summary(2, 0, 1, "b"), known_sd=(1, 1), alpha=alpha)
            for k, v in enumerate(seen)
        }
        r = measure_family(asks, method="benjamini-hochberg", alpha=0.1)
        missed = [not i.contains(t) for i, t, c in zip(r.intervals, truth, r.claims, strict=True) if c]
        missing.append(np.mean(missed) if missed else 0.0)
    assert np.mean(missing) < 0.1 + 3 * np.std(missing) / np.sqrt(300)
    assert np.mean(missing) > 0.02
    assert r.to_frame()["low"].notna().all()


def test_a_published_example():
    """Benjamini and Hochberg (1995), section 4: four claims among fifteen at 0.05, where Holm makes three."""
    p = [
        0.0001,
        0.0004,
        0.0019,
        0.0095,
        0.0201,
        0.0278,
        0.0298,
        0.0344,
        0.0459,
        0.3240,
        0.4262,
        0.5719,
        0.6528,
        0.7590,
        1.0,
    ]
    assert adjust(p, method="benjamini-hochberg").claims.sum() == 4
    assert adjust(p).claims.sum() == 3


def test_names_and_output():
    """A mapping keeps its labels; the text shows which comparisons stand."""
    r = adjust({"fare": 0.001, "booked": 0.2}, alpha=0.05)
    assert r.labels == ("fare", "booked")
    assert r.sentence() == "1 of 2 comparisons stand after the Holm correction: fare."
    assert r.to_dict()["adjusted"] == [0.002, 0.2]
    assert r.to_frame()["stands"].tolist() == [True, False]


@pytest.mark.parametrize("p", [[], [0.1, 1.2], [-0.1], [np.nan], [[0.1]], "x"])
def test_bad_input_is_named(p):
    """Only lists of probabilities are taken."""
    with pytest.raises(InputError, match="p_values"):
        adjust(p)


def test_unknown_method_is_named():
    """The nearest method is offered."""
    with pytest.raises(InputError, match="Did you mean 'holm'"):
        adjust([0.1], method="holms")
