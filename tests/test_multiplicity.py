"""Corrections for many comparisons."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler import InputError
from amber_ruler.multiplicity import adjust, benjamini_hochberg, holm

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
    for method in (holm, benjamini_hochberg):
        q = method(p)
        assert np.all(q >= np.asarray(p) * (1 - 1e-15))
        assert method(p[::-1])[::-1].tolist() == q.tolist()
        assert np.all(np.diff(q[np.argsort(p)]) >= 0)


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
