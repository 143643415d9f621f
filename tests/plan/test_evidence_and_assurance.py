"""Planning by evidence and by assurance: against simulation, closed forms and quadrature by another road."""

import math

import numpy as np
import pytest
from scipy import stats

import amber_ruler as ar
from amber_ruler import plan
from amber_ruler.bayes import Cauchy, Flat, HalfNormal, Normal, Truncated, Uniform, evidence

DESIGN = plan.Evidence(prior=HalfNormal(2.0), se=1.9, n=40)


def closed_factor(estimate, se, sd):
    """Log of the factor under a half-normal prior: a normal marginal times twice a normal tail."""
    gain = sd * sd / (sd * sd + se * se)
    whole = -0.5 * np.log1p((sd / se) ** 2) + 0.5 * gain * (estimate / se) ** 2
    return whole + np.log(2) + stats.norm.logcdf(gain * estimate / (math.sqrt(gain) * se))


def test_smallest_n_that_is_sensitive_both_ways():
    """Below 1/k if just nothing is seen, above k if just the prior's mean is; one unit less is not enough."""
    for k in (3, 6, 10):
        r = DESIGN.sample_size(threshold=k)
        mean = 2 * math.sqrt(2 / math.pi)
        assert r.mean_effect == pytest.approx(mean, rel=1e-9)
        for n, enough in ((r.n, True), (r.n - 1, False)):
            se = 1.9 * math.sqrt(40 / n)
            found = closed_factor(0.0, se, 2) < -math.log(k) and closed_factor(mean, se, 2) > math.log(k)
            assert found == enough
        assert r.log_factor_at_null == pytest.approx(closed_factor(0.0, r.se, 2), rel=1e-9)
        assert r.log_factor_at_mean == pytest.approx(closed_factor(mean, r.se, 2), rel=1e-9)


@pytest.mark.parametrize("likelihood", ["normal", "t"])
def test_chances_and_typical_factors_by_simulation(likelihood):
    """A hundred thousand estimates under either model, their factors interpolated from a fine grid of `evidence`."""
    n, k = 60, 3.0
    design = plan.Evidence(prior=HalfNormal(2.0), se=1.9, n=40, likelihood=likelihood)
    r = design.power(n=n, threshold=k)
    se, runs = 1.9 * math.sqrt(40 / n), 10**5
    rng = np.random.default_rng(3)
    noise = rng.normal(size=(2, runs)) if likelihood == "normal" else rng.standard_t(2 * n - 2, (2, runs))
    grid = np.linspace(-14, 26, 801)
    df = None if likelihood == "normal" else 2 * n - 2.0
    factors = evidence(grid, se, prior=HalfNormal(2.0), df=df).evidence.log_bayes_factor
    none = np.interp(se * noise[0], grid, factors)
    some = np.interp(np.abs(rng.normal(0, 2, runs)) + se * noise[1], grid, factors)
    size = math.log(k)
    chances = {
        "chance_for_none": none < -size,
        "chance_misled_to_effect": none > size,
        "chance_for_effect": some > size,
        "chance_misled_to_none": some < -size,
    }
    for name, seen in chances.items():
        p = getattr(r, name)
        assert abs(seen.mean() - p) < 5 * math.sqrt(p * (1 - p) / runs), name
    assert r.expected_log_under_null == pytest.approx(none.mean(), abs=5 * none.std() / math.sqrt(runs))
    assert r.expected_log_under_effect == pytest.approx(some.mean(), abs=5 * some.std() / math.sqrt(runs))


def test_chances_have_a_closed_form_for_a_normal_prior():
    """The factor passes k where the estimate's square does; under the prior estimates are normal."""
    sd, se0, k = 1.5, 1.0, 6.0
    design = plan.Evidence(prior=Normal(0, sd), se=se0, n=30)
    r = design.power(n=[30, 120, 1000], threshold=k)
    for j, n in enumerate((30, 120, 1000)):
        se = se0 * math.sqrt(30 / n)
        gain = sd**2 / (sd**2 + se**2)
        rest = math.log(k) + 0.5 * math.log1p((sd / se) ** 2)
        edge = se * math.sqrt(2 * rest / gain)
        assert r.chance_for_effect[j] == pytest.approx(2 * stats.norm.sf(edge, scale=math.hypot(sd, se)), rel=1e-8)
        assert r.chance_misled_to_effect[j] == pytest.approx(2 * stats.norm.sf(edge / se), rel=1e-8)
        expected = -0.5 * math.log1p((sd / se) ** 2) + 0.5 * gain * np.array([1, 1 + (sd / se) ** 2])
        assert r.expected_log_under_null[j] == pytest.approx(expected[0], rel=1e-7)
        assert r.expected_log_under_effect[j] == pytest.approx(expected[1], rel=1e-7)
    found = design.sample_size(threshold=3, chance=0.7)
    both = [design.power(n=found.n - d, threshold=3) for d in (0, 1)]
    assert min(both[0].chance_for_none, both[0].chance_for_effect) >= 0.7
    assert min(both[1].chance_for_none, both[1].chance_for_effect) < 0.7


def test_what_a_plan_by_evidence_says_and_refuses():
    """A heavy tail has no typical factor; a prior around nothing has no mean to be sensitive to; views and JSON."""
    heavy = plan.Evidence(prior=Cauchy(0.7), se=1.9, n=40).power(n=100)
    assert heavy.expected_log_under_effect is None
    assert "its median stands for it" in heavy.notes[0]
    cut = plan.Evidence(prior=Truncated(Cauchy(1), 0, 5), se=1.0, n=40).power(n=40)
    assert cut.expected_log_under_effect > 0
    for r in (DESIGN.sample_size(), DESIGN.power(n=[20, 40, 80]), heavy):
        assert ar.Result.from_json(r.to_json()) == r
        assert r.plot() is not None
        assert "half-normal" in str(r) or "Cauchy" in str(r)
    assert len(DESIGN.power(n=[20, 40]).to_frame()) == 2
    for wrong, says in (
        (lambda: plan.Evidence(prior=Normal(0, 1), se=1, n=40).sample_size(), "give a chance instead"),
        (lambda: plan.Evidence(prior=Flat(), se=1, n=40), "mass of 1"),
        (lambda: plan.Evidence(prior=Normal(0, 1), se=0, n=40), "se must be above 0"),
        (lambda: plan.Evidence(prior=Normal(0, 1), se=1, n=1), "n must be at least 2"),
        (lambda: DESIGN.power(n=40, threshold=1), "above 1"),
        (lambda: DESIGN.power(n=1), "at least 2"),
        (lambda: DESIGN.sample_size(chance=1), "between 0 and 1"),
    ):
        with pytest.raises(ar.AmberRulerError, match=says):
            wrong()


def test_assurance_of_means_by_another_quadrature():
    """Z and t, the right direction and either; the ceiling of a one-sided test is the prior's own side."""
    prior = Normal(2, 3)
    for kind, n in (("normal", 200), ("t", 30)):
        design = plan.TwoMeans(sd=10, distribution=kind)
        se, df = 10 * math.sqrt(2 / n), 2 * n - 2

        def tails(x, se=se, df=df, kind=kind):
            if kind == "normal":
                c = stats.norm.ppf(0.975)
                return stats.norm.sf(c - x / se), stats.norm.sf(c + x / se)
            c = stats.t.ppf(0.975, df)
            return (np.nan_to_num(tail) for tail in (stats.nct.sf(c, df, x / se), stats.nct.cdf(-c, df, x / se)))

        above, below = tails(np.linspace(-20, 24, 2001))
        x = np.linspace(-20, 24, 2001)
        weight = np.exp(prior.log_density(x)) / np.exp(prior.log_density(x)).sum()
        right = weight @ np.where(x > 0, above, below)
        assert design.assurance(prior=prior, n=n).assurance == pytest.approx(right, abs=2e-5)
        assert design.assurance(prior=prior, n=n, direction="either").assurance == pytest.approx(
            weight @ (above + below), abs=2e-5
        )
    one_sided = plan.TwoMeans(sd=10, alternative="greater")
    found = one_sided.assurance(prior=prior, n=100)
    assert found.ceiling == pytest.approx(stats.norm.sf(-2 / 3), rel=1e-9)
    with pytest.raises(ar.DesignError, match="beyond reach"):
        one_sided.sample_size_for_assurance(prior=prior, assurance=0.8)
    answer = plan.TwoMeans(sd=10).sample_size_for_assurance(prior=prior, assurance=0.6)
    assert answer.assurance >= 0.6
    assert plan.TwoMeans(sd=10).assurance(prior=prior, n=answer.n - 1).assurance < 0.6
    assert ar.Result.from_json(answer.to_json()) == answer
    assert "assurance" in str(answer)
    assert answer.plot() is not None
    assert len(answer.to_frame()) == answer.curve_n.size


def test_assurance_of_shares_is_cut_to_what_can_be():
    """A prior that reaches below no successes is cut there, and said; a narrow one is the plain power."""
    design = plan.TwoProportions(baseline=0.1)
    wide = design.assurance(prior=Normal(0.02, 0.08), n=1000)
    assert "cut to the effects" in wide.notes[0]
    narrow = design.assurance(prior=Uniform(0.0299, 0.0301), n=1000)
    assert narrow.assurance == pytest.approx(design.power(n=1000, effect=0.03).power, abs=1e-3)
    for wrong, says in (
        (lambda: plan.ManyMeans(groups=3).assurance(prior=Normal(0, 1), n=20), "without a direction"),
        (lambda: design.with_margin(0.02).assurance(prior=Normal(0, 1), n=20), "margin"),
        (lambda: design.assurance(prior=Flat(), n=20), "mass of 1"),
        (lambda: design.assurance(prior=Normal(0, 1), n=20, direction="up"), "direction"),
    ):
        with pytest.raises(ar.AmberRulerError, match=says):
            wrong()
