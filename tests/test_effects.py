"""Effect sizes on their own: exactness over many sizes, and arrays."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler import InputError
from amber_ruler.effects import convert, from_chi_square, from_f, from_p, lift, small_sample_factor, standardised
from amber_ruler.numeric import chisquare, fisher, student
from truth import mp


@pytest.mark.parametrize("df", [1.5, 2, 7, 60, 1e4, 1e9])
def test_the_correction_is_the_ratio_of_gamma_functions(df):
    """Exact at any number of degrees of freedom."""
    half = mp.mpf(df) / 2
    with mp.workdps(40):
        expected = mp.exp(mp.loggamma(half) - mp.loggamma(half - mp.mpf("0.5"))) / mp.sqrt(half)
    assert small_sample_factor(df) == pytest.approx(float(expected), rel=1e-13)


@given(st.floats(-60, 60), st.integers(2, 10**7), st.integers(2, 10**7))
def test_g_lies_in_its_interval_which_mirrors(t, n1, n0):
    """The interval holds d, and turning the sign turns it round."""
    g, mirrored = standardised(t, n1, n0)["hedges_g"], standardised(-t, n1, n0)["hedges_g"]
    d = t * np.sqrt(1 / n1 + 1 / n0)
    assert g.interval.low <= d <= g.interval.high
    assert (mirrored.interval.low, mirrored.interval.high) == pytest.approx(
        (-g.interval.high, -g.interval.low), rel=1e-9, abs=1e-13
    )


@given(st.floats(-8, 8), st.integers(2, 500), st.integers(2, 500), st.floats(1e-6, 0.4))
def test_the_interval_of_g_excludes_0_when_the_pooled_test_rejects(t, n1, n0, alpha):
    """Noncentral t at a shift of 0 is the t test."""
    p = float(2 * student.sf(abs(t), n1 + n0 - 2))
    if abs(p - alpha) > 1e-9:
        assert (p < alpha) == (not standardised(t, n1, n0, alpha=alpha)["hedges_g"].interval.contains(0.0))


def test_arrays_broadcast():
    """One call for many, equal to the single ones."""
    t, n = np.array([-2.0, 0.0, 3.0]), np.array([[5.0], [800.0]])
    many = standardised(t, n, 40)["hedges_g"]
    assert many.value.shape == (2, 3)
    one = standardised(3.0, 800, 40)["hedges_g"]
    assert many.value[1, 2] == pytest.approx(one.value, rel=1e-14)
    assert many.interval.high[1, 2] == pytest.approx(one.interval.high, rel=1e-10)


@given(st.floats(-5, 50), st.floats(0.1, 50), st.floats(1e-4, 9), st.floats(1e-4, 9), st.floats(0.5, 4))
def test_lift_limits_enclose_the_lift(m1, m0, v1, v0, critical):
    """Bounded or not, the estimate is inside; bounded limits are where the ratio's own t is critical."""
    pair = (np.asarray(m1), np.asarray(m0)), (np.asarray(v1), np.asarray(v0))
    effect = lift(*pair, np.asarray(critical), alpha=0.05)["lift"]
    assert effect.interval.low <= effect.value <= effect.interval.high
    if np.isfinite(effect.interval.low) and m0 * m0 > 1.01 * critical**2 * v0:
        for limit in (effect.interval.low, effect.interval.high):
            ratio = 1 + limit
            assert abs(m1 - ratio * m0) / np.sqrt(v1 + ratio**2 * v0) == pytest.approx(critical, rel=1e-7)


@given(st.floats(-2, 2), st.floats(0.2, 5), st.floats(0.05, 0.95))
def test_conversions_lead_back(d, ratio, share):
    """From d to each other scale and back; f has no sign; closed forms for equal groups."""
    settings = {"ratio": ratio, "share": share}
    for scale in ("r", "odds ratio", "log odds ratio", "superiority", "h"):
        there = convert(d, "d", scale, **settings)
        assert convert(there, scale, "d", **settings) == pytest.approx(d, rel=1e-6, abs=1e-9)
    for scale in ("f", "f²", "η²"):
        there = convert(d, "d", scale, **settings)
        assert convert(there, scale, "d", **settings) == pytest.approx(abs(d), rel=1e-12, abs=1e-150)
    assert convert(d, "d", "η²", **settings) == pytest.approx(convert(d, "d", "r", **settings) ** 2)
    assert convert(d, "d", "f") == pytest.approx(abs(d) / 2)
    odds = convert(d, "d", "odds ratio") * share / (1 - share)
    assert convert(d, "d", "h", **settings) == pytest.approx(
        2 * np.arcsin(np.sqrt(odds / (1 + odds))) - 2 * np.arcsin(np.sqrt(share)), rel=1e-9, abs=1e-12
    )


@given(st.floats(0, 30), st.integers(2, 500), st.integers(2, 500))
def test_a_published_p_gives_back_its_t(t, n1, n0):
    """The tail by mpmath; each alternative gives the t that it came from."""
    df, d = mp.mpf(n1 + n0 - 2), pytest.approx(t * np.sqrt(1 / n1 + 1 / n0), rel=1e-9, abs=1e-12)
    tail = float(mp.betainc(df / 2, 0.5, 0, df / (df + mp.mpf(t) ** 2), regularized=True) / 2)
    assert from_p(tail, n1, n0, alternative="greater")["cohen_d"].value == d
    assert -from_p(tail, n1, n0, alternative="less")["cohen_d"].value == d
    if t > 1e-3:
        assert from_p(2 * tail, n1, n0)["cohen_d"].value == d


def test_standardised_effects_follow_from_d():
    """r, superiority, overlap and Glass Δ by their definitions, each limit from one inversion."""
    found = standardised(2.5, 40, 60, difference_in_control_sd=0.6)
    d = 2.5 * np.sqrt(1 / 40 + 1 / 60)
    assert found["r"].value == pytest.approx(2.5 / np.sqrt(2.5**2 + 98), rel=1e-13)
    assert found["superiority"].value == pytest.approx(float(mp.ncdf(d / mp.sqrt(2))), rel=1e-12)
    assert found["overlap"].value == pytest.approx(float(2 * mp.ncdf(-d / 2)), rel=1e-12)
    low, high = found["cohen_d"].interval.low, found["cohen_d"].interval.high
    assert found["superiority"].interval.high == pytest.approx(float(mp.ncdf(high / mp.sqrt(2))), rel=1e-12)
    assert found["r"].interval.low == pytest.approx(low / np.hypot(low, 100 / np.sqrt(2400)), rel=1e-12)
    unit = np.sqrt(1 / 40 + 1 / 60)
    for end, tail in ((found["glass_delta"].interval.low, student.noncentral_sf), (high, None)):
        if tail:
            assert float(tail(0.6 / unit, 59, end / unit)) == pytest.approx(0.025, rel=1e-9)


def test_effects_of_published_f_and_chi_square():
    """Each limit is the noncentrality under which the statistic has a tail of alpha/2."""
    found = from_f(6.2, 3, 80)
    for end, tail in (("low", fisher.noncentral_sf), ("high", fisher.noncentral_cdf)):
        share = getattr(found["eta_squared"].interval, end)
        assert float(tail(6.2, 3, 80, share / (1 - share) * 84)) == pytest.approx(0.025, rel=1e-9)
    assert found["omega_squared"].value == pytest.approx(3 * 5.2 / (3 * 5.2 + 84))
    assert from_f(0.5, 3, 80)["eta_squared"].interval.low == 0
    factor = from_f(6.2, 3, 80, n=96)  # one of several factors: the noncentrality belongs to all values
    assert factor["omega_squared"].value == pytest.approx(3 * 5.2 / (3 * 5.2 + 96))
    assert factor["cohen_f"].interval.high == pytest.approx(found["cohen_f"].interval.high * np.sqrt(84 / 96))
    w = from_chi_square(12.0, 150, 4)
    assert w.value == pytest.approx(np.sqrt(12 / 150))
    assert float(chisquare.noncentral_sf(12.0, 4, 150 * w.interval.low**2)) == pytest.approx(0.025, rel=1e-9)
    assert float(chisquare.noncentral_cdf(12.0, 4, 150 * w.interval.high**2)) == pytest.approx(0.025, rel=1e-9)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: convert(0.3, "d", "g"), "end"),
        (lambda: convert(0.3, "d", "h"), "give share"),
        (lambda: convert(1.3, "r", "d"), "between -1 and 1"),
        (lambda: from_f(-1, 2, 3), "f must"),
        (lambda: standardised(1.0, 0, 5), "n1"),
        (lambda: small_sample_factor(0), "df"),
    ],
)
def test_bad_input_is_named(call, says):
    """Out of range is said by name."""
    with pytest.raises(InputError, match=says):
        call()


@pytest.mark.parametrize("share", [1e-6, 0.3, 0.999])
@pytest.mark.parametrize("d", [1e-9, -1e-4, 0.7, -3.0])
def test_arcsines_of_small_effects_keep_their_digits(share, d):
    """From d to h and back, with forty digits."""
    with mp.workdps(40):
        odds = mp.log(mp.mpf(share) / (1 - mp.mpf(share)))
        h = 2 * (mp.atan(mp.exp((odds + mp.pi / mp.sqrt(3) * d) / 2)) - mp.asin(mp.sqrt(mp.mpf(share))))
    assert convert(d, "d", "h", share=share) == pytest.approx(float(h), rel=1e-13)
    assert convert(float(h), "h", "d", share=share) == pytest.approx(d, rel=1e-12)
