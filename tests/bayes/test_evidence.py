"""Evidence from an estimate and its standard error: against mpmath, closed forms and laws."""

import math

import numpy as np
import pytest
from scipy import stats

import amber_ruler as ar
from amber_ruler.bayes import (
    Beta,
    Cauchy,
    Flat,
    HalfNormal,
    Normal,
    StudentT,
    Truncated,
    Uniform,
    evidence,
    prior_of,
)
from truth import mp


def student(x, df):
    df = mp.mpf(df)
    constant = mp.gamma((df + 1) / 2) / (mp.sqrt(df * mp.pi) * mp.gamma(df / 2))
    return constant * (1 + x * x / df) ** (-(df + 1) / 2)


PRIORS = {
    "uniform": (Uniform(0, 9), lambda x: mp.mpf(1) / 9, 0, 9),
    "normal": (Normal(1, 2), lambda x: mp.npdf((x - 1) / 2) / 2, -mp.inf, mp.inf),
    "half-normal": (HalfNormal(2), lambda x: mp.npdf(x / 2), 0, mp.inf),
    "half-normal below": (HalfNormal(2, "below", 1), lambda x: mp.npdf((x - 1) / 2), -mp.inf, 1),
    "cauchy": (Cauchy(0.7), lambda x: student(x / mp.mpf("0.7"), 1) / mp.mpf("0.7"), -mp.inf, mp.inf),
    "t": (StudentT(3, 2, 1), lambda x: student((x - 1) / 2, 3) / 2, -mp.inf, mp.inf),
    "normal cut": (Truncated(Normal(0, 2), 0), lambda x: mp.npdf(x / 2), 0, mp.inf),
    "cauchy cut": (
        Truncated(Cauchy(1), -1, 4),
        lambda x: student(x, 1) / (mp.atan(4) / mp.pi + mp.mpf(1) / 4),
        -1,
        4,
    ),
}


SEEN = [(4.1, 1.9, None), (-0.4, 0.9, 5), (1.3, 0.05, None), (6.0, 1.0, 3)]
CASES = [(name, *SEEN[(k + turn) % 4]) for k, name in enumerate(PRIORS) for turn in ((0, 1) if k < 2 else (0,))]


@pytest.mark.parametrize(("name", "estimate", "se", "df"), CASES)
def test_factors_and_posteriors_by_quadrature(name, estimate, se, df):
    """Bayes factor to 1e-10, mean, quantiles and chances to 1e-9 of high-precision integrals."""
    prior, density, low, high = PRIORS[name]
    found = evidence(estimate, se, prior=prior, df=df, margin=0.5)

    def likelihood(x):
        z = (mp.mpf(estimate) - x) / mp.mpf(se)
        return (mp.npdf(z) if df is None else student(z, df)) / mp.mpf(se)

    # Marks lie close around every place from which a tail falls off.
    marks = [at + side * se * 2.0**k for at in (estimate, -0.5, 0, 0.5, 1) for side in (-1, 1) for k in range(-6, 8)]
    marks += [estimate, -200, -30, -4, -0.5, 0, 0.5, 1, 4, 30, 200]

    def area(of, start, end):
        inside = sorted({mp.mpf(m) for m in marks if start < m < end})
        return mp.quad(of, [start, *inside, end], method="gauss-legendre", maxdegree=3)

    whole = area(lambda x: likelihood(x) * density(x), low, high)
    seen = found.evidence
    assert seen.log_bayes_factor == pytest.approx(float(mp.log(whole / likelihood(mp.mpf(0)))), rel=1e-10, abs=1e-10)
    assert seen.bayes_factor == pytest.approx(math.exp(seen.log_bayes_factor), rel=1e-12)
    assert seen.factor_error < 1e-8

    def chance(start, end):
        start, end = max(start, low), min(end, high)
        return float(area(lambda x: likelihood(x) * density(x), start, end) / whole) if start < end else 0.0

    assert seen.chance_better == pytest.approx(chance(0, mp.inf), rel=1e-9, abs=1e-300)
    assert seen.chance_worse == pytest.approx(chance(-mp.inf, 0), rel=1e-8, abs=1e-300)
    assert seen.chance_within == pytest.approx(chance(-0.5, 0.5), rel=1e-8, abs=1e-300)
    assert chance(low, found.interval.low) == pytest.approx(0.025, rel=1e-8)
    assert chance(low, found.estimate) == pytest.approx(0.5, rel=1e-9)
    densest = seen.posterior["effect"].densest
    assert chance(densest.low, densest.high) == pytest.approx(0.95, rel=1e-8)
    assert densest.high - densest.low <= (found.interval.high - found.interval.low) * (1 + 1e-9)
    if low < densest.low and densest.high < high:  # as dense at one end as at the other
        ends = [float(mp.log(likelihood(mp.mpf(v)) * density(mp.mpf(v)))) for v in (densest.low, densest.high)]
        assert ends[0] == pytest.approx(ends[1], abs=1e-5)
    loss = -area(lambda x: x * likelihood(x) * density(x), low, min(mp.mpf(0), high)) / whole if low < 0 else 0
    assert seen.expected_loss == pytest.approx(float(loss), rel=1e-8, abs=1e-300)
    if df is None or not name.startswith(("cauchy", "t")):
        mean = float(area(lambda x: x * likelihood(x) * density(x), low, high) / whole)
        assert seen.posterior["effect"].mean == pytest.approx(mean, rel=1e-8, abs=1e-10)


@pytest.mark.parametrize(("estimate", "se"), [(3.0, 1.0), (100.0, 1.0), (1e3, 1e-3), (1e-9, 1e-10)])
def test_two_normals_have_a_closed_form(estimate, se):
    """However far apart, on the log scale."""
    sd = 2 * se
    found = evidence(estimate, se, prior=Normal(0, sd))
    gain = sd * sd / (sd * sd + se * se)
    expected = -0.5 * math.log1p((sd / se) ** 2) + 0.5 * gain * (estimate / se) ** 2
    assert found.evidence.log_bayes_factor == pytest.approx(expected, rel=1e-12)
    assert found.evidence.posterior["effect"].mean == pytest.approx(gain * estimate, rel=1e-10)
    # A million standard errors off, the log density itself has but so many digits.
    assert found.evidence.posterior["effect"].sd == pytest.approx(
        math.sqrt(gain) * se, rel=1e-9 if estimate < 1e3 else 1e-6
    )


def test_laws_of_evidence():
    """Factors cut to either side average to the whole; odds give the chance of none; a flat prior leaves the data."""
    whole = evidence(1.3, 0.6, prior=Cauchy(1)).evidence.bayes_factor
    halves = [evidence(1.3, 0.6, prior=Truncated(Cauchy(1), *ends)) for ends in ((0, np.inf), (-np.inf, 0))]
    assert np.mean([h.evidence.bayes_factor for h in halves]) == pytest.approx(whole, rel=1e-12)
    mirrored = evidence(-1.3, 0.6, prior=HalfNormal(1, "below"), good="lower")
    plain = evidence(1.3, 0.6, prior=HalfNormal(1))
    assert mirrored.evidence.log_bayes_factor == pytest.approx(plain.evidence.log_bayes_factor, rel=1e-12)
    assert mirrored.evidence.chance_better == pytest.approx(plain.evidence.chance_better, rel=1e-12)
    odd = evidence(1.3, 0.6, prior=Cauchy(1), odds=0.5).evidence
    assert odd.chance_none == pytest.approx(1 / (1 + 0.5 * whole), rel=1e-12)
    flat = evidence(1.3, 0.6, prior=Flat())
    assert (flat.interval.low, flat.interval.high) == pytest.approx(
        1.3 + 0.6 * stats.norm.ppf([0.025, 0.975]), rel=1e-9
    )
    assert flat.evidence.log_bayes_factor is None
    assert "no factor" in flat.notes[0]
    moved = evidence(11.3, 0.6, prior=Cauchy(1, 10), null=10)
    assert moved.evidence.bayes_factor == pytest.approx(whole, rel=1e-10)


def test_intervals_under_the_null():
    """Cut: posterior odds over prior odds; uniform inside: the ratio of two marginals; a tiny one is a point."""
    norm = stats.norm
    estimate, se, sd, low, high = 1.3, 0.6, 2.0, -0.5, 0.5
    gain = sd * sd / (sd * sd + se * se)
    seen = np.diff(norm.cdf([low, high], gain * estimate, math.sqrt(gain) * se))[0]
    believed = np.diff(norm.cdf([low, high], 0, sd))[0]
    cut = evidence(estimate, se, prior=Normal(0, sd), null_interval=(low, high)).evidence
    assert cut.bayes_factor == pytest.approx((1 - seen) / seen / ((1 - believed) / believed), rel=1e-10)
    uniform = evidence(estimate, se, prior=Normal(0, sd), null_interval=(low, high), interval_kind="uniform").evidence
    inside = np.diff(norm.cdf([low, high], estimate, se))[0] / (high - low)
    assert uniform.bayes_factor == pytest.approx(norm.pdf(estimate, 0, math.hypot(se, sd)) / inside, rel=1e-10)
    point = evidence(estimate, se, prior=Normal(0, sd)).evidence
    small = evidence(estimate, se, prior=Normal(0, sd), null_interval=(-1e-6, 1e-6), interval_kind="uniform").evidence
    assert small.bayes_factor == pytest.approx(point.bayes_factor, rel=1e-9)


@pytest.mark.parametrize("prior", [Uniform(0, 9), HalfNormal(2), Normal(0, 2), Cauchy(1)])
def test_scales_over_which_the_evidence_stays(prior):
    """At the ends the factor is the threshold; the best scale beats its neighbours."""
    found = evidence(4.1, 1.6, prior=prior).evidence

    def at(scale):
        return evidence(4.1, 1.6, prior=prior.scaled(scale)).evidence.log_bayes_factor

    assert at(found.best_scale) == pytest.approx(found.best_log_factor, abs=1e-9)
    assert max(at(found.best_scale * 1.02), at(found.best_scale / 1.02)) < found.best_log_factor
    assert found.scales_beyond is not None
    for end in found.scales_beyond:
        if end:
            assert at(end) == pytest.approx(math.log(3), abs=1e-8)


def test_priors_as_text():
    """What the command line takes; what it can't read teaches the form."""
    assert prior_of("uniform 0 9") == Uniform(0, 9)
    assert prior_of("halfnormal 2 below") == HalfNormal(2, "below")
    assert prior_of("t 3 2 1") == StudentT(3, 2, 1)
    assert prior_of("cauchy 0.7 from 0") == Truncated(Cauchy(0.7), 0)
    for text in ("", "gauss 1", "normal x", "normal 1 2 3", "uniform 0", "normal 0 1 from"):
        with pytest.raises(ar.InputError, match="Write one of"):
            prior_of(text)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: evidence(1, 0, prior=Normal()), "se must be above 0"),
        (lambda: evidence(1, 1, prior=Beta()), "a Prior"),
        (lambda: evidence(1, 1, prior=None), "a Prior"),
        (lambda: evidence(1, 1, prior=Normal(), threshold=1), "above 1"),
        (lambda: evidence(1, 1, prior=Normal(), df=-2), "df must be above 0"),
        (lambda: evidence(1, 1, prior=Normal(), null_interval=(1, 0)), "the lower one first"),
        (lambda: evidence(1, 1, prior=Uniform(0, 1), null_interval=(-1, 2)), "nothing to weigh"),
        (lambda: Uniform(3, 3), "above low"),
        (lambda: Normal(0, -1), "sd must be above 0"),
        (lambda: Truncated(Normal(0, 1), 3, 2), "above low"),
        (lambda: Truncated(Uniform(0, 1), 2, 3), "no mass"),
        (lambda: evidence([], 1, prior=Normal()), "the list is empty"),
        (lambda: evidence(1, 1, prior=Normal(), interval_kind="cut"), "give null_interval too"),
        (lambda: evidence(1, 1, prior=Flat(), odds=1), "gives no Bayes factor"),
        (lambda: evidence(1, 1, prior=Flat(), null_interval=(-1, 1)), "gives none"),
        (lambda: evidence(1, 1, prior=Normal(), odds=0), "odds must be above 0"),
        (lambda: evidence("1", 1, prior=Normal()), "a number"),
    ],
)
def test_what_can_not_be_is_said(call, says):
    """Impossible priors and numbers, with what is allowed."""
    with pytest.raises(ar.AmberRulerError, match=says):
        call()


def test_many_questions_and_many_priors_at_once():
    """Arrays of estimates, of standard errors and of prior scales are the single questions side by side."""
    estimates, ses = np.array([1.3, -0.2, 4.0]), np.array([0.6, 0.5, 1.5])
    many = evidence(estimates, ses, prior=Cauchy(1), df=np.array([5.0, 50.0, 9.0]), margin=0.2)
    for k in range(3):
        one = evidence(estimates[k], ses[k], prior=Cauchy(1), df=[5.0, 50.0, 9.0][k], margin=0.2)
        assert many.evidence.log_bayes_factor[k] == pytest.approx(one.evidence.log_bayes_factor, rel=1e-10, abs=1e-12)
        assert many.evidence.chance_within[k] == pytest.approx(one.evidence.chance_within, rel=1e-9)
        assert many.interval.low[k] == pytest.approx(one.interval.low, rel=1e-9)
        assert many.evidence.posterior["effect"].densest.low[k] == pytest.approx(
            one.evidence.posterior["effect"].densest.low, rel=1e-7
        )
    scales = np.array([0.1, 1.0, 7.0])
    for kind in (Normal(0, scales), Truncated(Cauchy(scales), 0), Uniform(0, scales), HalfNormal(scales)):
        found = evidence(1.3, 0.6, prior=kind).evidence.log_bayes_factor
        single = [evidence(1.3, 0.6, prior=kind.scaled(v)).evidence.log_bayes_factor for v in scales]
        assert found == pytest.approx(single, rel=1e-9, abs=1e-12)


def test_priors_laid_open():
    """The curve holds the chosen prior's factor, its largest, and where it passes the threshold; lists work too."""
    one = evidence(4.1, 1.9, prior=Uniform(0, 9))
    curve = one.across_priors()
    part = curve.trace
    assert part.marks["chosen"] == (9.0, pytest.approx(one.evidence.log_bayes_factor, rel=1e-12))
    assert part.marks["wide"][0] == pytest.approx(9 * math.sqrt(2))
    assert part.changes == pytest.approx(one.evidence.scales_beyond, rel=1e-3)
    assert part.largest[1] == pytest.approx(one.evidence.best_log_factor, abs=1e-3)
    assert len(curve.axis.labels) == 200
    assert "stays between" in curve.sentence()
    assert len(str(curve).splitlines()) < 60
    listed = one.across_priors(priors=[Uniform(0, 9), Normal(0, 3)])
    assert listed.evidence.log_bayes_factor[0] == one.evidence.log_bayes_factor
    assert listed.axis.labels == ("uniform from 0 to 9", "Normal, mean 0, sd 3")
    for wrong, says in (
        (lambda: one.across_priors([1, 2], priors=[Normal()]), "not both"),
        (lambda: one.across_priors([0, 1]), "scales must be above 0"),
        (curve.across_priors, "one question"),
        (lambda: ar.Result.from_json(one.to_json()).across_priors(), "read back"),
        (lambda: evidence(1, 1, prior=Flat()).across_priors(), "with a Bayes factor"),
    ):
        with pytest.raises(ar.InputError, match=says):
            wrong()


@pytest.mark.parametrize(
    ("log_factor", "band"), [(0.1, "anecdotal"), (-1.5, "moderate"), (3, "strong"), (-4, "very strong"), (9, "extreme")]
)
def test_bands_of_evidence(log_factor, band):
    """Either way, as the source has them."""
    assert ar.results.evidence_band(log_factor) == band
