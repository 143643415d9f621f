"""Related estimates: likelihoods maximised anew, closed forms, and what is made of them."""

import numpy as np
import pytest
from scipy import optimize, stats

import amber_ruler as ar
from amber_ruler.bayes import Normal, StudentT, evidence, prior_from, shrink

Y, SE = np.array([0.31, 0.12, -0.05, 0.22, 0.6]), np.array([0.12, 0.08, 0.10, 0.15, 0.2])
LABELS = ("March", "April", "May", "June", "July")


def log_likelihood(square, *, restricted):
    """Of the spread of effects: the joint normal density of the estimates, the mean profiled or integrated out."""
    v = SE**2 + square
    ones = np.ones(Y.size)
    mean = (Y / v).sum() / (1 / v).sum()
    found = stats.norm.logpdf(Y, mean, np.sqrt(v)).sum()
    return found - 0.5 * np.log((ones / v).sum()) if restricted else found


@pytest.mark.parametrize("kind", ["reml", "ml", "moments"])
def test_spread_of_the_effects(kind):
    """The likelihoods are largest there; the moments' own is DerSimonian and Laird's formula."""
    r = shrink(Y, SE, labels=LABELS, spread=kind)
    part = r.pooling
    if kind == "moments":
        w = 1 / SE**2
        q = (w * (Y - (w * Y).sum() / w.sum()) ** 2).sum()
        expected = (q - 4) / (w.sum() - (w**2).sum() / w.sum())
        assert part.q == pytest.approx(q, rel=1e-13)
        assert part.q_p_value == pytest.approx(stats.chi2.sf(q, 4), rel=1e-12)
        assert part.excess == pytest.approx(1 - 4 / q, rel=1e-12)
    else:
        best = optimize.minimize_scalar(
            lambda s: -log_likelihood(s, restricted=kind == "reml"),
            bounds=(0, 1),
            options={"xatol": 1e-12},
            method="bounded",
        )
        expected = best.x
    assert part.tau**2 == pytest.approx(expected, rel=1e-5)
    w = 1 / (SE**2 + part.tau**2)
    assert part.mean == pytest.approx((w * Y).sum() / w.sum(), rel=1e-13)
    assert part.se == pytest.approx(w.sum() ** -0.5, rel=1e-13)
    # The exact posterior of each effect under a flat mean: the joint normal distribution, solved as linear algebra.
    tau = part.tau
    precision = np.diag(np.append(1 / SE**2 + 1 / tau**2, 5 / tau**2))
    precision[-1, :-1] = precision[:-1, -1] = -1 / tau**2
    cover = np.linalg.inv(precision)
    centre = cover @ np.append(Y / SE**2, 0)
    assert r.estimate == pytest.approx(centre[:-1], rel=1e-10)
    assert r.se == pytest.approx(np.sqrt(np.diag(cover))[:-1], rel=1e-10)
    assert r.evidence.chance_better == pytest.approx(stats.norm.sf(0, r.estimate, r.se), rel=1e-11)


def test_a_next_effect_and_the_prior_that_it_makes():
    """T with k - 2 degrees of freedom, or normal; the prior holds the same interval."""
    r = shrink(Y, SE)
    part = r.pooling
    wide = np.hypot(part.tau, part.se)
    assert part.prediction.high == pytest.approx(part.mean + stats.t.ppf(0.975, 3) * wide, rel=1e-11)
    prior = prior_from(r)
    assert prior == StudentT(3.0, part.prediction_sd, part.mean)
    assert evidence(0.2, 0.1, prior=prior).evidence.log_bayes_factor is not None
    plain = shrink(Y, SE, prediction="normal")
    assert prior_from(plain) == Normal(part.mean, part.prediction_sd)
    assert plain.pooling.prediction.high == pytest.approx(part.mean + stats.norm.ppf(0.975) * wide, rel=1e-11)
    left_out = shrink(Y, SE, of_the_mean="left out")
    assert np.all(left_out.se < r.se)
    assert left_out.estimate == pytest.approx(r.estimate, rel=1e-13)


def test_no_scatter_beyond_chance_pools_everything():
    """Tau is 0 then, every effect is the mean, and its uncertainty the mean's."""
    r = shrink([0.10, 0.11, 0.09], [0.1, 0.12, 0.2], margin=0.3)
    assert r.pooling.tau == 0
    assert np.ptp(r.estimate) == pytest.approx(0, abs=1e-15)
    assert r.se == pytest.approx(r.pooling.se)
    assert np.all(r.evidence.chance_within > 0.9)
    left_out = shrink([0.10, 0.11, 0.09], [0.1, 0.12, 0.2], of_the_mean="left out")
    assert left_out.evidence.chance_better == pytest.approx([1, 1, 1])
    assert shrink([0.5, 0.1], [0.1, 0.1], prediction="normal").pooling.tau > 0


def test_what_it_says():
    """Each estimate as it was seen and shrunken, and what they share, in text, frame and JSON."""
    r = shrink(Y, SE, labels=LABELS, metric="lift")
    text = str(r)
    assert all(label in text for label in LABELS)
    assert "a next one" in text
    assert r.sentence().startswith("lift: 5 effects around")
    assert r.to_frame()["as_seen"].tolist() == Y.tolist()
    assert ar.Result.from_json(r.to_json()) == r


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: shrink([1, 2], [1, 1]), "at least 3"),
        (lambda: shrink([1], [1], prediction="normal"), "at least 2"),
        (lambda: shrink([1, 2, 3], [1, 1]), "one length"),
        (lambda: shrink([1, 2, 3], [1, 0, 1]), "above 0"),
        (lambda: shrink([1, 2, 3], [1, 1, 1], labels=("a",)), "as many as"),
        (lambda: shrink([1e200, 2, 3], [1, 1, 1]), "within reach"),
        (lambda: shrink([1, 2, 3], [1, 1, 1], spread="bayes"), "spread"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what."""
    with pytest.raises(ar.AmberRulerError, match=says):
        call()
