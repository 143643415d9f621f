"""Futility and what looks do, against Simpson's rule, simulation and laws."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import InputError
from amber_ruler.sequential import boundaries
from simpson import Path, pieces_of
from truth import mp

EQUAL = np.arange(1, 5) / 4
CASES = {
    "one side": (EQUAL, {"sides": 1, "alpha": 0.025, "futility": "obrien-fleming"}),
    "one side, binding": (EQUAL, {"sides": 1, "alpha": 0.025, "futility": "obrien-fleming", "binding": True}),
    "two sides": (EQUAL, {"futility": "hwang-shih-decani", "power": 0.9}),
    "two sides, binding": (np.array([0.2, 0.45, 0.8, 1.0]), {"futility": "pocock", "binding": True, "alpha": 0.1}),
    "skipped": (EQUAL, {"sides": 1, "futility": "power", "futility_parameter": 2.0, "futility_skip": [1, 3]}),
    "with harm": (EQUAL, {"sides": 1, "harm": 0.05, "futility": "pocock", "spending": "pocock"}),
    "own": (EQUAL, {"sides": 1, "futility": lambda t: t**3, "spending": "power", "parameter": 2.0}),
    "shape": (EQUAL, {"sides": 1, "shape": "obrien-fleming", "futility": "hwang-shih-decani"}),
}


@pytest.mark.parametrize("name", CASES)
def test_futility_uses_up_beta_and_efficacy_alpha(name):
    """By Simpson's rule: each look's share of beta under the drift, of alpha under none; they meet at the end."""
    fractions, how = CASES[name]
    b = boundaries(fractions, **how)
    at_drift = Path(fractions, pieces_of(b), b.drift)
    lost = []
    for k in range(fractions.size):
        if b.sides == 2:
            lost.append(at_drift.between(k, -b.futility[k], b.futility[k]))
        else:
            reached = float(at_drift.before[k][1].sum())
            lost.append(reached - at_drift.above(k, max(b.futility[k], b.lower[k])))
    assert np.cumsum(lost)[-1] == pytest.approx(1 - b.power, abs=1e-8)
    given = b.beta_spent if name != "with harm" else b.beta_spent[-1:]
    assert np.cumsum(lost)[-given.size :] == pytest.approx(given, abs=1e-8)
    assert b.futility[-1] == b.z[-1]
    assert np.all(b.futility[:-1] < b.z[:-1])
    # Alpha counts on futility only where that is binding.
    counted = pieces_of(b) if how.get("binding") else [[(low, high)] for low, high in zip(b.lower, b.z, strict=True)]
    none = Path(fractions, counted)
    up = [none.above(k, b.z[k]) for k in range(fractions.size)]
    assert sum(up) * b.sides == pytest.approx(b.alpha, abs=1e-9)
    free = Path(fractions, [[(low, high)] for low, high in zip(b.lower, b.z, strict=True)])
    ignored = sum(free.above(k, b.z[k]) for k in range(fractions.size)) * b.sides
    harm = (
        0.0
        if name != "with harm"
        else sum(float(free.before[k][1].sum()) - free.above(k, b.lower[k]) for k in range(fractions.size))
    )
    assert b.alpha_if_ignored == pytest.approx(ignored + harm, abs=1e-9)
    assert (b.alpha_if_ignored > b.alpha * (1 + 1e-6)) == (bool(how.get("binding")) or name == "with harm")
    if "own" not in name:
        assert ar.Result.from_json(b.to_json()) == b
    assert b.plot() is not None
    assert "give up" in str(b)


def test_what_looks_do_by_simulation():
    """Ends, power and average information under three effects: 400,000 paths, 4 Monte-Carlo errors."""
    fractions = np.array([0.2, 0.5, 1.0])
    b = boundaries(fractions, sides=1, alpha=0.025, futility="pocock", power=0.85)
    rng, runs = np.random.default_rng(3), 400_000
    for o in (*b.operating, b.under(1.3)):
        gaps = np.diff(fractions, prepend=0.0)
        z = np.cumsum(rng.normal(o.drift * gaps, np.sqrt(gaps), (runs, 3)), axis=1) / np.sqrt(fractions)
        stop = (z > b.z) | (z <= b.futility)
        first = stop.argmax(axis=1)
        crossed = np.take_along_axis(z, first[:, None], 1)[:, 0] > b.z[first]
        assert abs(crossed.mean() - o.power) < 4 * np.sqrt(0.25 / runs)
        for k in range(3):
            assert abs(np.mean(first == k) - o.ending[k]) < 4 * np.sqrt(0.25 / runs)
        assert abs(fractions[first].mean() - o.expected_fraction) < 4 * 0.4 / np.sqrt(runs)
        assert o.ending.sum() == pytest.approx(1, abs=1e-10)
        assert o.above + o.below + o.futile == pytest.approx(o.ending, abs=1e-10)  # they meet at the end
    assert b.operating[2].power == pytest.approx(0.85, abs=1e-10)


@pytest.mark.parametrize("sides", [1, 2])
@pytest.mark.parametrize("power", [0.5, 0.8, 0.999])
def test_drift_and_inflation_of_one_and_two_looks(sides, power):
    """One look is the fixed test; two looks solve their equation in mpmath."""
    one = boundaries(1, sides=sides, power=power)
    if sides == 1:
        assert one.inflation == pytest.approx(1, abs=1e-9)
    two = boundaries(2, sides=sides, spending="pocock", power=power)
    d, (z1, z2) = mp.mpf(two.drift), map(mp.mpf, two.z.tolist())
    root = mp.sqrt(mp.mpf(1) / 2)

    def stays(x):  # the first look at x, and the second within its boundary
        high = mp.ncdf((z2 - x * root - d / 2) / root)
        low = mp.ncdf((-z2 - x * root - d / 2) / root) if sides == 2 else 0
        return mp.npdf(x - d * root) * (high - low)

    ends = [
        -z1 if sides == 2 else d * root - 12,
        *[d * root + k for k in range(-10, 10) if -z1 < d * root + k < z1],
        z1,
    ]
    missed = mp.quad(stays, sorted(e for e in ends if e <= z1))
    assert float(1 - missed) == pytest.approx(power, abs=1e-9)
    fixed = mp.sqrt(2) * (mp.erfinv(1 - 2 * mp.mpf("0.05") / sides) + mp.erfinv(2 * mp.mpf(power) - 1))
    assert two.inflation == pytest.approx(float((d / fixed) ** 2), rel=1e-9)


def test_laws_of_futility():
    """Binding lowers the boundary, futility costs power or units, and doing without brings both back."""
    plain = boundaries(5, sides=1)
    free, bound = (boundaries(5, sides=1, futility="obrien-fleming", binding=b) for b in (False, True))
    assert free.z == pytest.approx(plain.z, rel=1e-12)
    assert np.all(bound.z[1:] < plain.z[1:])
    assert plain.inflation < bound.inflation < free.inflation
    assert free.operating[0].expected_fraction < plain.operating[0].expected_fraction
    late = boundaries(5, sides=1, futility=lambda t: np.where(t < 1, 1e-9 * t, 1.0))
    assert late.drift == pytest.approx(plain.drift, rel=1e-6)
    # However far away the effect: exact again where the density without a drift can't answer.
    assert plain.under(40).power == pytest.approx(1, abs=1e-12)
    assert plain.under(-40).power < 1e-300 or plain.under(-40).power == 0


def test_days_become_information():
    """Even and uneven arrivals; what is planned beyond the last look is kept."""
    even = boundaries([7, 14, 28], per_day=900)
    assert even.z == pytest.approx(boundaries([0.25, 0.5, 1.0]).z, rel=1e-12)
    assert even.days.tolist() == [7, 14, 28]
    assert even.units.tolist() == [6300, 12600, 25200]
    week = boundaries([1, 3], per_day=[100, 50, 50], planned=400)
    assert week.fractions.tolist() == [0.25, 0.5]
    assert week.spent[-1] < 0.05
    assert "day" in str(even)


@pytest.mark.parametrize(
    ("call", "says"),
    [
        (lambda: boundaries(3, futility="pocock", power=0.03), "above alpha"),
        (lambda: boundaries(3, futility_parameter=2.0), "goes with futility"),
        (lambda: boundaries(3, binding=True), "goes with futility"),
        (lambda: boundaries(3, futility_skip=[1]), "goes with futility"),
        (lambda: boundaries(3, futility="pocock", futility_parameter=1.0), "has no parameter"),
        (lambda: boundaries(3, futility="pocock", futility_skip=[1, 2]), "skipped at every look"),
        (lambda: boundaries(3, futility="pocock", futility_skip=[3]), "can't be skipped there"),
        (lambda: boundaries([0.3, 0.6], futility="pocock"), "last look be at 1"),
        (lambda: boundaries(3, shape="pocock", futility="pocock", binding=True), "binding=True needs spending"),
        (lambda: boundaries([3, 2], per_day=100), "days that rise"),
        (lambda: boundaries([3, 5], per_day=[100, 100]), "each day up to day 5"),
        (lambda: boundaries([3, 5], per_day=100, planned=400), "more than the 400 planned"),
        (lambda: boundaries(3, planned=400), "goes with per_day"),
    ],
)
def test_bad_plans_are_named(call, says):
    """What can't be planned is said."""
    with pytest.raises(InputError, match=says):
        call()
