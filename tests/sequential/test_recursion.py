"""The recursion against other ways to the same numbers: Simpson's rule on a fine grid, mpmath, simulation, laws."""

import numpy as np
import pytest
from scipy import integrate, special

from amber_ruler.sequential import boundaries, peeking, recursion
from truth import mp


def by_simpson(fractions, high, low, drift=0.0, points=4_001):
    """Chances of first crossing above and below at each look, by Simpson's rule over each region of going on."""
    gaps = np.sqrt(np.diff(fractions, prepend=0.0))
    up, down = [], []
    places, mass = np.zeros(1), np.ones(1)
    for k, gap in enumerate(gaps):
        root, shift = np.sqrt(fractions[k]), drift * gap**2
        top = min(high[k] * root, places.max() + shift + 38 * gap)
        bottom = max(low[k] * root, places.min() + shift - 38 * gap)
        up.append(float(special.ndtr(-(high[k] * root - shift - places) / gap) @ mass))
        down.append(float(special.ndtr((low[k] * root - shift - places) / gap) @ mass))
        grid = np.linspace(bottom, top, points)
        weights = np.ones(points)
        weights[1:-1:2], weights[2:-1:2] = 4, 2
        z = (grid[:, None] - shift - places) / gap
        density = np.exp(-0.5 * z * z) @ mass / (gap * np.sqrt(2 * np.pi))
        places, mass = grid, density * weights * (grid[1] - grid[0]) / 3
    return np.array(up), np.array(down), float(mass.sum())


CASES = {
    "five equal": (np.arange(1, 6) / 5, {}),
    "unequal": (np.array([0.07, 0.31, 0.33, 0.9, 1.0]), {"spending": "pocock"}),
    "one side": (np.array([0.25, 0.5, 0.75, 1.0]), {"sides": 1, "spending": "hwang-shih-decani", "parameter": 1.0}),
    "harm": (np.array([0.2, 0.6, 1.0]), {"sides": 1, "harm": 0.1}),
    "skipped": (np.array([0.2, 0.4, 0.6, 1.0]), {"skip": [2], "alpha": 0.2}),
    "flat": (np.array([0.5, 0.8, 1.0]), {"shape": "pocock", "alpha": 0.3}),
}


@pytest.mark.parametrize("drift", [0.0, -2.0, 4.5])
@pytest.mark.parametrize("name", CASES)
def test_chances_of_crossing_agree_with_simpsons_rule(name, drift):
    """Above, below and never, under no effect and under effects either way."""
    fractions, how = CASES[name]
    b = boundaries(fractions, **how)
    found = recursion.crossing(fractions, b.z, b.lower, drift)
    up, down, never = by_simpson(fractions, b.z, b.lower, drift)
    assert found.above == pytest.approx(up, abs=1e-9)
    assert found.below == pytest.approx(down, abs=1e-9)
    assert found.never == pytest.approx(never, abs=3e-9)
    assert found.above.sum() + found.below.sum() + found.never == pytest.approx(1, abs=1e-12)


@pytest.mark.parametrize("drift", [0.0, 2.0])
def test_three_looks_agree_with_a_double_integral(drift):
    """The chance of no crossing in three looks, as an integral over the first two."""
    t, z = np.array([0.3, 0.6, 1.0]), np.array([2.4, 2.2, 2.1])
    gaps, limits = np.sqrt(np.diff(t, prepend=0.0)), z * np.sqrt(t)

    def density(x, gap):
        return np.exp(-0.5 * (x / gap - drift * gap) ** 2) / (gap * np.sqrt(2 * np.pi))

    def path(second, first):
        mean = second + drift * gaps[2] ** 2
        inside = special.ndtr((limits[2] - mean) / gaps[2]) - special.ndtr((-limits[2] - mean) / gaps[2])
        return density(first, gaps[0]) * density(second - first, gaps[1]) * inside

    ends = (-limits[0], limits[0], -limits[1], limits[1])
    whole, _ = integrate.dblquad(path, *ends, epsabs=1e-12, epsrel=1e-12)
    found = recursion.crossing(t, z, -z, drift)
    assert found.never == pytest.approx(whole, abs=1e-10)


def test_crossing_under_an_effect_by_simulation():
    """A million paths with a drift of 2.5, within 4 Monte-Carlo errors at every look."""
    rng = np.random.default_rng(9)
    fractions = np.array([0.2, 0.5, 1.0])
    b = boundaries(fractions)
    gaps = np.diff(fractions, prepend=0.0)
    paths = np.cumsum(rng.normal(2.5 * gaps, np.sqrt(gaps), size=(1_000_000, 3)), axis=1) / np.sqrt(fractions)
    stopped = np.abs(paths) > b.z
    first = np.where(stopped.any(axis=1), stopped.argmax(axis=1), 3)
    found = recursion.crossing(fractions, b.z, b.lower, 2.5)
    expected = [*(found.above + found.below), found.never]
    for k, chance in enumerate(expected):
        assert abs(np.mean(first == k) - chance) < 4 * np.sqrt(chance * (1 - chance) / 1e6)


def test_laws_of_looking():
    """More looks cost more; a look that nobody acts on costs nothing; the mirror image crosses the other way."""
    errors = [peeking(k).error[-1] for k in (1, 2, 5, 10, 40)]
    assert np.all(np.diff(errors) > 0)
    high = np.array([2.0, np.inf, 2.2])
    with_idle = recursion.crossing(np.array([0.3, 0.6, 1.0]), high, -high)
    without = recursion.crossing(np.array([0.3, 1.0]), high[[0, 2]], -high[[0, 2]])
    assert with_idle.above[[0, 2]] == pytest.approx(without.above, rel=1e-10)
    one = recursion.crossing(np.array([0.4, 1.0]), np.array([2.5, 2.0]), np.array([-1.0, -1.5]), 1.0)
    other = recursion.crossing(np.array([0.4, 1.0]), np.array([1.0, 1.5]), np.array([-2.5, -2.0]), -1.0)
    assert one.above == pytest.approx(other.below, rel=1e-11)
    assert one.below == pytest.approx(other.above, rel=1e-11)
    # Spending all at the end is the fixed test; boundaries do not know in how many steps they were found.
    late = boundaries([0.5, 1.0], spending=lambda t: np.where(t < 1, 0.0, 1.0))
    assert np.isinf(late.z[0])
    assert late.z[1] == pytest.approx(boundaries(1).z[0], rel=1e-12)
    whole, first = boundaries([0.2, 0.5, 1.0], spending="pocock"), boundaries([0.2, 0.5], spending="pocock")
    assert whole.z[:2] == pytest.approx(first.z, rel=1e-12)


@pytest.mark.parametrize("alpha", [1e-8, 1e-3, 0.05, 0.3])
def test_far_shares_keep_their_digits(alpha):
    """Of 100 looks the second: its chance of first crossing, from a single integral in mpmath."""
    b = boundaries(100, alpha=alpha)
    share = np.diff(b.spent)[0] / 2
    if share < 1e-250:
        pytest.skip("below what is told apart")
    z1, z2 = mp.mpf(float(b.z[0])), mp.mpf(float(b.z[1]))

    def beyond(x):  # z at the first look; the second is normal around x √½ with variance ½
        return mp.npdf(x) * mp.ncdf(-(z2 - x / mp.sqrt(2)) * mp.sqrt(2))

    peak = z2 / mp.sqrt(2)
    pieces = [peak + k for k in range(-14, 40) if peak + k < z1]
    with mp.workdps(30):
        found = mp.quad(beyond, [*pieces, z1])
    assert float(found / mp.mpf(float(share))) == pytest.approx(1, rel=1e-7)
