"""Corrections for many comparisons."""

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.special import ndtr, ndtri

from amber_ruler import Counts, InputError, Interval, Result, Summary
from amber_ruler.measure import means, proportions
from amber_ruler.multiplicity import (
    benjamini_hochberg,
    benjamini_yekutieli,
    bonferroni,
    correct,
    fixed_sequence,
    gatekeeping,
    hochberg,
    holm,
    holm_sidak,
    hommel,
    sidak,
)
from amber_ruler.multiplicity.correct import cut_at_null

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
    independent = closed(p, lambda c: 1 - (1 - min(p[i] for i in c)) ** len(c))
    assert holm_sidak(p) == pytest.approx(independent, rel=1e-9, abs=1e-15)
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
    r = correct(p, families={"booked": "primary", "fare": "secondary", "complaint": "secondary"})
    assert r.adjusted.tolist() == [0.01, 0.06, 0.06]
    assert r.interval_alpha.tolist() == [0.05, 0.025, 0.025]
    assert "secondary" in str(r)
    with pytest.raises(InputError, match="'complaint'"):
        correct(p, families={"booked": "primary", "fare": "secondary"})


def test_intervals_of_claims_err_in_the_share_promised():
    """Benjamini and Yekutieli (2005): of the intervals of claims, at most alpha miss, on average over families."""
    rng = np.random.default_rng(3)
    missing = []
    for _ in range(300):
        truth = np.where(rng.random(20) < 0.5, 0.0, 3.0)
        seen = truth + rng.normal(size=20)
        every = means(Summary(2, seen, 1, "a"), Summary(2, 0, 1, "b"), known_sd=(1, 1))
        r = correct(every, method="benjamini-hochberg", alpha=0.1)
        missed = ~r.interval.contains(truth)[r.correction.stands]
        missing.append(np.mean(missed) if missed.size else 0.0)
    assert np.mean(missing) < 0.1 + 3 * np.std(missing) / np.sqrt(300)
    assert np.mean(missing) > 0.02
    assert r.to_frame()["low"].notna().all()


METHODS = [
    "bonferroni",
    "sidak",
    "holm",
    "holm-sidak",
    "hochberg",
    "hommel",
    "benjamini-hochberg",
    "benjamini-yekutieli",
]


@settings(deadline=None)
@given(
    st.lists(st.floats(-4.5, 4.5), min_size=1, max_size=7),
    st.sampled_from(METHODS),
    st.floats(0.002, 0.3),
    st.sampled_from(["two-sided", "greater", "less"]),
)
def test_adjusted_p_verdict_and_interval_decide_the_same(effects, method, alpha, alternative):
    """For every correction: along an axis, and of results side by side, whose numbers agree."""
    arms = Summary(50, np.array(effects), 3.0, "a"), Summary(60, 0.0, 3.5, "b")
    many = correct(means(*arms, alternative=alternative), method=method, alpha=alpha)
    each = {str(k): means(Summary(50, e, 3.0, "a"), arms[1], alternative=alternative) for k, e in enumerate(effects)}
    family = correct(each, method=method, alpha=alpha)
    stands = np.atleast_1d(many.correction.stands)
    assert (stands == ~np.atleast_1d(many.interval.contains(0.0))).all()
    assert (stands == (np.atleast_1d(many.verdict) != "undecided")).all()
    for k, one in enumerate(family.results):
        assert one.correction.stands == stands[k] == (not one.interval.contains(0.0))
        assert one.correction.adjusted == pytest.approx(many.correction.adjusted[k], rel=1e-9)
        assert (one.interval.low, one.interval.high) == pytest.approx(
            (many.interval.low[k], many.interval.high[k]), rel=1e-9
        )
        assert one.alpha == alpha
        assert one.p_value == each[str(k)].p_value


def test_a_claim_by_steps_ends_at_the_tested_value():
    """Holm's 0.038 beside an interval at alpha/m that holds 0: it is cut there, with an open end, and that is said."""
    arms = [Summary(100, m, 3.6, "short") for m in (14.3, 14.05)]
    base = Summary(100, 13.0, 3.6, "current")
    r = correct({"fare": means(arms[0], base), "tips": means(arms[1], base)})
    tips = r["tips"]
    assert tips.correction.adjusted < 0.05 <= 2 * tips.p_value
    assert (tips.interval.low, tips.interval.low_open) == (0.0, True)
    assert tips.verdict == "better"
    assert "above 0" in tips.sentence()
    assert any("rejects by its steps" in n for n in tips.notes)
    assert "> 0" in str(r)
    again = Result.from_json(r.to_json())
    assert again == r
    assert again["tips"].verdict == "better"


def test_a_family_is_asked_again_and_says_what_cannot_be():
    """Results of several metrics, named sub-families, one figure; what was read back holds no data."""
    shares = proportions(Counts(60, 400, "short"), Counts(40, 400, "current"), margin=0.01)
    fares = means(Summary(100, 14.3, 3.6, "short"), Summary(100, 13, 3.6, "current"))
    r = correct({"fare": fares, "booked": shares}, families={"fare": "primary", "booked": "secondary"})
    assert [one.correction.family for one in r.results] == ["primary", "secondary"]
    assert [one.correction.size for one in r.results] == [1, 1]
    assert r["booked"].interval.low == shares.interval.low
    assert r.to_frame()["family"].tolist() == ["primary", "secondary"]
    assert correct(r, method="bonferroni")["booked"].correction.adjusted == shares.p_value
    with pytest.raises(InputError, match="can't be asked again"):
        correct({"fare": Result.from_json(fares.to_json())})
    with pytest.raises(InputError, match="no single p-value"):
        correct({"fare": means(Summary(9, [1, 2], 1, "a"), Summary(9, 0, 1, "b"))})
    with pytest.raises(InputError, match="bokked"):
        r["bokked"]


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
    assert correct(p, method="benjamini-hochberg").claims.sum() == 4
    assert correct(p).claims.sum() == 3


def test_names_and_output():
    """A mapping keeps its labels; the text shows which comparisons stand."""
    r = correct({"fare": 0.001, "booked": 0.2}, alpha=0.05)
    assert r.labels == ("fare", "booked")
    assert r.sentence() == "1 of 2 comparisons stands after the Holm correction: fare."
    assert r.to_dict()["adjusted"] == [0.002, 0.2]
    assert r.to_frame()["stands"].tolist() == [True, False]


@pytest.mark.parametrize("p", [[], [0.1, 1.2], [-0.1], [np.nan], [[0.1]], "x"])
def test_bad_input_is_named(p):
    """Only lists of probabilities are taken."""
    with pytest.raises(InputError, match="p_values"):
        correct(p)


def test_unknown_method_is_named():
    """The nearest method is offered."""
    with pytest.raises(InputError, match="Did you mean 'holm'"):
        correct([0.1], method="holms")


def test_limits_after_steps_and_limits_at_the_null_each_keep_alpha():
    """Limits at alpha / m, uncut, cover three effects together; those cut at the null err where a claim is false.

    Each keeps 5 %; both together need not, and here don't, as the docstring of `correct` says.
    """
    rng, runs, truths = np.random.default_rng(11), 20_000, np.array([0.0, 2.2, 3.0])
    z = truths + rng.normal(size=(runs, 3))
    claimed = np.array([holm(row) < 0.05 for row in 2 * ndtr(-np.abs(z))])
    reach = -ndtri(0.05 / 6)
    whole = Interval(z - reach, z + reach, 0.95)
    limits, cut = cut_at_null(whole, z, 0.0, claimed)
    true = np.broadcast_to(truths, z.shape)
    error = np.sqrt(0.05 * 0.95 / runs)
    assert cut.mean() > 0.02
    assert np.any(~whole.contains(true), axis=1).mean() < 0.05 + 3 * error
    assert np.any(cut & ~limits.contains(true), axis=1).mean() < 0.05 + 3 * error
    uncut = np.where(z > 0, limits.high, limits.low)
    assert np.array_equal(uncut, np.where(z > 0, whole.high, whole.low))
    assert 0.055 < np.any(~limits.contains(true), axis=1).mean() < 0.1
