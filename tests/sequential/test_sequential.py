"""Boundaries against published values, exact special cases and simulation; monitoring."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from amber_ruler import InputError, Summary
from amber_ruler.measure import means
from amber_ruler.sequential import boundaries, monitor, peeking
from amber_ruler.sequential.recursion import LEAST, crossing
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


SPENDINGS = [
    ({"spending": "power", "parameter": 3}, lambda t, a: a * t**3),
    ({"spending": "power"}, lambda t, a: a * t),
    ({"spending": "hwang-shih-decani"}, lambda t, a: a * (1 - mp.exp(4 * t)) / (1 - mp.exp(4))),
    ({"spending": "hwang-shih-decani", "parameter": 0}, lambda t, a: a * t),
    ({"spending": "hwang-shih-decani", "parameter": 2.5}, lambda t, a: a * (1 - mp.exp(-2.5 * t)) / (1 - mp.exp(-2.5))),
    ({"spending": "obrien-fleming-total"}, lambda t, a: mp.erfc(mp.erfinv(1 - mp.mpf(a)) / mp.sqrt(t))),
    ({"spending": lambda t: t**2}, lambda t, a: a * t**2),
]


@pytest.mark.parametrize(("how", "spent"), SPENDINGS)
@pytest.mark.parametrize("sides", [1, 2])
def test_every_spending_function_spends_what_its_formula_says(how, spent, sides):
    """At each look, and in all; the process really crosses with that chance."""
    b = boundaries([0.2, 0.35, 0.8, 1.0], sides=sides, **how)
    expected = [float(spent(mp.mpf(t), 0.05)) for t in b.fractions.tolist()]
    assert b.spent == pytest.approx(expected, rel=1e-10)
    found = crossing(b.fractions, b.z, b.lower)
    assert np.cumsum(found.above + found.below) == pytest.approx(expected, rel=1e-9)
    assert found.never + expected[-1] == pytest.approx(1, abs=1e-12)


def test_the_classical_shapes_have_their_published_constants():
    """Two-sided 0.05, five equal looks (Jennison & Turnbull 2000, tables 2.1 and 2.3; Haybittle-Peto solved)."""
    assert boundaries(5, shape="pocock").z == pytest.approx(np.full(5, 2.413), abs=5e-4)
    flat = boundaries(5, shape="obrien-fleming")
    assert flat.z == pytest.approx(2.040 / np.sqrt(flat.fractions), rel=2e-4)
    for delta, same in ((0.0, "obrien-fleming"), (0.5, "pocock")):
        wang = boundaries([0.3, 0.7, 1.0], shape="wang-tsiatis", parameter=delta)
        assert wang.z == pytest.approx(boundaries([0.3, 0.7, 1.0], shape=same).z, rel=1e-9)
    for shape in ("pocock", "obrien-fleming", "wang-tsiatis", "haybittle-peto"):
        for sides in (1, 2):
            b = boundaries([0.1, 0.45, 1.0], shape=shape, sides=sides, alpha=0.02)
            assert b.spent[-1] == pytest.approx(0.02, rel=1e-9)
    peto = boundaries(4, shape="haybittle-peto", interim=3.29)
    assert peto.z[:3].tolist() == [3.29] * 3
    assert 1.96 < peto.z[3] < 1.97


@pytest.mark.parametrize("looks", [1, 5, 40, 200])
@pytest.mark.parametrize("alpha", [1e-8, 0.05, 0.49])
def test_error_is_spent_to_the_last_digit_over_any_number_of_looks(looks, alpha):
    """Shares down to 1e-300 keep their digits: each look's chance of crossing is what it was given."""
    b = boundaries(looks, alpha=alpha)
    given = np.maximum(np.diff(b.spent, prepend=0.0) / 2, LEAST)
    found = crossing(b.fractions, b.z, b.lower)
    seen = given > 1e-290
    assert found.above[seen] == pytest.approx(given[seen], rel=1e-7)
    assert found.above.sum() + found.below.sum() == pytest.approx(alpha, rel=1e-10)


def test_looks_that_may_not_stop_spend_nothing_and_harm_has_its_own_error():
    """The next look spends what is due; the lower side is a test by itself."""
    b, plain = boundaries(5, skip=[1, 3]), boundaries(5)
    assert np.isinf(b.z[[0, 2]]).all()
    assert np.diff(b.spent, prepend=0)[[0, 2]] == pytest.approx([0, 0], abs=1e-15)
    assert b.spent[[1, 3, 4]] == pytest.approx(plain.spent[[1, 3, 4]], rel=1e-12)
    apart = boundaries([0.4, 1.0], sides=1, alpha=0.025, harm=0.01, spending="pocock")
    found = crossing(apart.fractions, apart.z, apart.lower)
    assert found.above.sum() == pytest.approx(0.025, rel=1e-9)
    assert found.below.sum() == pytest.approx(0.01, rel=1e-9)
    assert monitor(apart, [-3.5]).crossed_at == 1
    assert "harm below" in str(apart)
    assert monitor(boundaries(1, sides=1), [-9.0]).crossed_at is None


def test_what_uncorrected_looks_cost():
    """Five looks at 5 % are a 14 % test (Armitage, McPherson & Rowe 1969); more are worse; one costs nothing."""
    assert peeking(5).error == pytest.approx([0.05, 0.083, 0.107, 0.126, 0.142], abs=5e-4)
    assert peeking(50).error[-1] == pytest.approx(0.320, abs=1e-3)
    assert peeking(1, sides=1, alpha=0.1).error[0] == pytest.approx(0.1, rel=1e-12)
    two = peeking([0.3, 1.0], sides=1)
    z = mp.sqrt(2) * mp.erfinv(mp.mpf("0.9"))
    inner = mp.quad(lambda x: mp.npdf(x) * mp.ncdf((z - x * mp.sqrt(0.3)) / mp.sqrt(0.7)), [-mp.inf, -3, 0, z])
    assert two.error[1] == pytest.approx(float(1 - inner), rel=1e-9)
    assert "14.2%" in peeking(5).sentence()


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
        (lambda: boundaries(3, sides=3), "1 or 2"),
        (lambda: boundaries(3, harm=0.01), "say sides=1"),
        (lambda: boundaries(3, spending="pocock", parameter=2), "has no parameter"),
        (lambda: boundaries(3, spending="power", parameter=-1), "above 0"),
        (lambda: boundaries(3, spending=lambda t: 1 - t), "as many shares"),
        (lambda: boundaries(3, spending=lambda t: t * (3 - 2 * t)), "must rise"),
        (lambda: boundaries(3, shape="haybittle-peto", interim=1.0), "use up more than alpha"),
        (lambda: boundaries(3, shape="pocock", interim=3.0), "leave it out"),
        (lambda: boundaries(3, interim=3.0), "leave it out"),
        (lambda: boundaries(3, shape="pocock", skip=[1]), "takes no spending"),
        (lambda: boundaries(3, skip=[1, 2, 3]), "not all of them"),
        (lambda: peeking(3, sides=0), "1 or 2"),
        (lambda: monitor(boundaries(2), []), "1 to 200 looks"),
        (lambda: monitor(boundaries(2), [1, 1, 1]), "got 3"),
        (lambda: monitor(boundaries(2), [np.nan]), "observed must be a finite"),
        (lambda: monitor(boundaries(2), [means([1, 2], [1, 3], alternative="less")]), "two-sided comparison"),
    ],
)
def test_bad_input_is_named(call, says):
    """Each mistake has a message that says what and where."""
    with pytest.raises(InputError, match=says):
        call()
