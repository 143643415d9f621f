"""Boundaries, futility and power in 30 digits: a recursion of its own on nodes that mpmath made."""

from functools import cache

import numpy as np
import pytest

from amber_ruler.sequential import boundaries, peeking
from truth import mp


@cache
def gauss(count):
    """Nodes and weights of Gauss and Legendre, polished by Newton's method in mpmath."""
    found = []
    with mp.workdps(40):
        for guess in np.polynomial.legendre.leggauss(count)[0]:
            x = mp.findroot(lambda v: mp.legendre(count, v), mp.mpf(float(guess)))
            slope = count * (x * mp.legendre(count, x) - mp.legendre(count - 1, x)) / (x * x - 1)
            found.append((x, 2 / ((1 - x * x) * slope**2)))
    return tuple(found)


class Precise:
    """A path carried in mpmath; the pieces of going on are cut into panels of so many standard deviations."""

    def __init__(self, fractions, drift=0, panel=6, count=30):
        self.t = [mp.mpf(float(f)) for f in fractions]
        self.drift, self.panel, self.count = mp.mpf(float(drift)), panel, count
        self.density = [(mp.mpf(0), mp.mpf(1))]
        self.k = 0

    @property
    def gap(self):
        """Standard deviation of the present increment."""
        before = self.t[self.k - 1] if self.k else mp.mpf(0)
        return mp.sqrt(self.t[self.k] - before)

    def above(self, z):
        """P(not stopped before, Z > z) at the present look."""
        limit, gap = mp.mpf(float(z)) * mp.sqrt(self.t[self.k]), self.gap
        return mp.fsum(m * mp.ncdf((x + self.drift * gap**2 - limit) / gap) for x, m in self.density)

    def go_on(self, *pieces):
        """Carry on between some limits of z."""
        root, gap, found = mp.sqrt(self.t[self.k]), self.gap, []
        following = mp.sqrt(self.t[self.k + 1] - self.t[self.k]) if self.k + 1 < len(self.t) else gap
        reach = 11 * root
        for low, high in pieces:
            a = max(mp.mpf(float(low)) * root, self.drift * self.t[self.k] - reach)
            b = min(mp.mpf(float(high)) * root, self.drift * self.t[self.k] + reach)
            if a >= b:
                continue
            cuts = int(mp.ceil((b - a) / (self.panel * min(gap, following))))
            half = (b - a) / (2 * cuts)
            for cut in range(cuts):
                middle = a + half * (2 * cut + 1)
                for x, w in gauss(self.count):
                    place = middle + half * x
                    here = mp.fsum(m * mp.npdf((place - y - self.drift * gap**2) / gap) for y, m in self.density) / gap
                    found.append((place, here * half * w))
        self.density = found
        self.k += 1

    @property
    def left(self):
        """P(not stopped so far)."""
        return mp.fsum(m for _, m in self.density)


PLANS = {
    "usual": ([0.3, 0.6, 1.0], {}),
    "tiny": ([0.25, 0.7, 1.0], {"alpha": 1e-8, "spending": "pocock"}),
    "half": ([0.4, 0.8, 1.0], {"alpha": 0.5, "power": 0.9, "spending": "power", "parameter": 2.0}),
    "one side": ([0.2, 0.5, 1.0], {"sides": 1, "alpha": 0.025, "spending": "hwang-shih-decani", "parameter": 1.0}),
    "close": ([0.5, 0.53, 1.0], {"spending": "pocock"}),
}


@pytest.mark.parametrize("name", PLANS)
def test_each_look_spends_its_share_to_ten_digits(name):
    """And the power under the drift is the one that was asked for."""
    fractions, how = PLANS[name]
    b = boundaries(fractions, **how)
    none, there = Precise(fractions), Precise(fractions, b.drift)
    shares = np.diff(b.spent, prepend=0.0) / b.sides
    power = mp.mpf(0)
    for k in range(3):
        assert float(none.above(b.z[k]) / mp.mpf(float(shares[k]))) == pytest.approx(1, rel=1e-10)
        power += there.above(b.z[k])
        if b.sides == 2:
            power += there.left - there.above(b.lower[k])
        if k < 2:
            none.go_on((b.lower[k], b.z[k]))
            there.go_on((b.lower[k], b.z[k]))
    assert float(power) == pytest.approx(b.power, abs=1e-11)


@pytest.mark.parametrize(
    "how",
    [
        {"sides": 1, "alpha": 0.025, "futility": "obrien-fleming"},
        {"sides": 1, "alpha": 0.025, "futility": "pocock", "binding": True},
        {"futility": "hwang-shih-decani"},
        {"futility": "power", "futility_parameter": 2.0, "binding": True},
    ],
)
def test_futility_to_ten_digits(how):
    """Beta under the drift, and alpha where it counts on futility."""
    fractions = [0.35, 0.7, 1.0]
    b = boundaries(fractions, **how)
    there, none, lost, up = Precise(fractions, b.drift), Precise(fractions), mp.mpf(0), mp.mpf(0)
    for k in range(3):
        if b.sides == 2:
            pieces = [(b.lower[k], -b.futility[k]), (b.futility[k], b.z[k])]
            lost += there.above(-b.futility[k]) - there.above(b.futility[k])
        else:
            pieces = [(b.futility[k], b.z[k])]
            lost += there.left - there.above(b.futility[k])
        assert float(lost / mp.mpf(float(b.beta_spent[k]))) == pytest.approx(1, rel=1e-10)
        up += none.above(b.z[k])
        if k < 2:
            there.go_on(*pieces)
            none.go_on(*(pieces if b.rule.binding else [(b.lower[k], b.z[k])]))
    assert float(up) * b.sides == pytest.approx(b.alpha, rel=1e-10)


def test_shapes_and_uncorrected_looks_to_ten_digits():
    """Alpha of a classical shape at unequal times, and the error of looks that are each held against it."""
    fractions = [0.3, 0.75, 1.0]
    for shape, parameter in (("pocock", None), ("wang-tsiatis", 0.1), ("haybittle-peto", None)):
        b = boundaries(fractions, shape=shape, parameter=parameter, alpha=0.01)
        path, up = Precise(fractions), mp.mpf(0)
        for k in range(3):
            up += path.above(b.z[k])
            if k < 2:
                path.go_on((b.lower[k], b.z[k]))
        assert float(2 * up) == pytest.approx(0.01, rel=1e-10)
    p, path, up = peeking(fractions, alpha=0.01), Precise(fractions), mp.mpf(0)
    z = mp.sqrt(2) * mp.erfinv(1 - mp.mpf("0.01"))
    for k in range(3):
        up += path.above(z)
        assert p.error[k] == pytest.approx(float(2 * up), rel=1e-10)
        if k < 2:
            path.go_on((-z, z))
