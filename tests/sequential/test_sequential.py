"""Boundaries against published values, exact special cases and simulation; monitoring."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_ruler import InputError, Summary
from amber_ruler.measure import means
from amber_ruler.sequential import boundaries, monitor
from truth import mp


def test_five_equal_looks_give_the_published_boundaries():
    """O'Brien–Fleming-like spending, two-sided 0.05."""
    assert boundaries(5).z == pytest.approx([4.876885, 3.357012, 2.680280, 2.289817, 2.031032], abs=1e-6)


@pytest.mark.parametrize(("spending", "alpha"), [("obrien-fleming", 0.05), ("pocock", 0.05), ("pocock", 0.01)])
@pytest.mark.parametrize("fraction", [0.1, 0.5, 0.9])
def test_two_looks_agree_with_a_double_integral(spending, alpha, fraction):
    """The second boundary solves its equation when the two-dimensional integral is done in mpmath."""
    b = boundaries([fraction, 1.0], spending=spending, alpha=alpha)
    t, z1, z2 = mp.mpf(fraction), mp.mpf(b.z[0]), mp.mpf(b.z[1])
    if spending == "pocock":
        first = alpha * mp.log(1 + (mp.e - 1) * t)
    else:
        quarter = mp.sqrt(2) * mp.erfinv(1 - mp.mpf(alpha) / 2)
        first = 2 * mp.erfc(quarter / mp.sqrt(t) / mp.sqrt(2))
    assert b.spent[0] == pytest.approx(float(first), rel=1e-9)
    assert float(mp.erfc(z1 / mp.sqrt(2))) == pytest.approx(float(first), rel=1e-9)

    def crossing(x):  # at the first look z = x; the second is normal around x sqrt(t)
        spread = mp.sqrt(1 - t)
        above = mp.erfc((z2 - x * mp.sqrt(t)) / spread / mp.sqrt(2)) / 2
        below = mp.erfc((z2 + x * mp.sqrt(t)) / spread / mp.sqrt(2)) / 2
        return mp.npdf(x) * (above + below)

    inside = [-z1 + k * z1 / 6 for k in range(13)]
    assert float(first + mp.quad(crossing, inside)) == pytest.approx(alpha, rel=1e-8)


def test_one_look_is_the_fixed_test():
    """With a single look nothing is lost."""
    assert boundaries(1, alpha=0.05).z[0] == pytest.approx(1.959963984540054, rel=1e-10)


@settings(max_examples=25, deadline=None)
@given(
    st.lists(st.integers(1, 999), min_size=1, max_size=8, unique=True), st.sampled_from(["obrien-fleming", "pocock"])
)
def test_any_fractions_spend_alpha_and_no_more(points, spending):
    """Over any looks: spent alpha rises to alpha at the end, boundaries exceed the fixed one."""
    fractions = [*sorted(p / 1000 for p in points), 1.0]
    b = boundaries(fractions, spending=spending)
    assert b.spent[-1] == pytest.approx(0.05, rel=1e-9)
    assert np.all(np.diff(b.spent) >= 0)
    assert np.all(b.z > 1.9599)
    # Each nominal p is at least what is newly spent: stopping earlier only takes paths away.
    assert np.all(b.p >= np.diff(b.spent, prepend=0) * (1 - 1e-9))


def test_error_rate_over_all_looks_by_simulation():
    """400,000 paths without a difference cross with the chance alpha, within 4 Monte-Carlo errors."""
    rng = np.random.default_rng(5)
    runs, fractions = 400_000, np.array([0.15, 0.4, 0.45, 0.8, 1.0])
    steps = rng.normal(size=(runs, 5)) * np.sqrt(np.diff(fractions, prepend=0))
    z = np.cumsum(steps, axis=1) / np.sqrt(fractions)
    for spending in ("obrien-fleming", "pocock"):
        crossed = np.mean(np.any(np.abs(z) >= boundaries(fractions, spending=spending).z, axis=1))
        assert abs(crossed - 0.05) < 4 * np.sqrt(0.05 * 0.95 / runs)


@pytest.mark.parametrize(
    ("observed", "decision", "crossed"),
    [
        ([1.0], "go on", None),
        ([1.0, -3.4], "stop: a difference", 2),
        ([5.0, 1.0], "stop: a difference", 1),
        ([1.0, 1.0, 1.0, 1.0, 1.0], "end: no difference shown", None),
        ([1.0, 1.0, 1.0, 1.0, 2.04], "stop: a difference", 5),
    ],
)
def test_monitoring_decides_at_each_look(observed, decision, crossed):
    """Go on, stop, or end."""
    r = monitor(boundaries(5), observed)
    assert (r.decision, r.crossed_at) == (decision, crossed)
    assert f"look {crossed or len(observed)}" in r.sentence().lower() or crossed is None


def test_a_look_may_be_a_comparison():
    """Its two-sided p is turned into a z with the sign of the difference."""
    r = means(Summary(40, 1.0, 2.0, "a"), Summary(40, 2.0, 2.0, "b"))
    z = monitor(boundaries(3), [r]).z[0]
    assert z < 0
    assert 2 * mp.ncdf(z) == pytest.approx(r.p_value, rel=1e-9)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: boundaries(0), "looks must be at least 1"),
        (lambda: boundaries([0.5, 0.4]), "that rise"),
        (lambda: boundaries([0.5, 1.2]), "up to 1"),
        (lambda: boundaries([0.5, 0.50001]), "apart"),
        (lambda: boundaries(300), "1 to 200"),
        (lambda: boundaries(3, spending="pococks"), "Did you mean 'pocock'"),
        (lambda: boundaries(3, alpha=0.6), "alpha"),
        (lambda: monitor(boundaries(2), []), "1 to 2 looks"),
        (lambda: monitor(boundaries(2), [1, 1, 1]), "got 3"),
        (lambda: monitor(boundaries(2), [np.nan]), "observed must be a finite"),
        (lambda: monitor(boundaries(2), [means([1, 2], [1, 3], alternative="less")]), "two-sided comparison"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises(InputError, match=says):
        call()
