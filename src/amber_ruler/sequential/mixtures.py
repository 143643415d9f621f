"""Normal mixtures: e-values and intervals of an estimate that hold at every moment; all of it broadcasts.

Under the null an estimate with variance V has the likelihood ratio of a normal mixture with variance τ² against the
null, which is a martingale with mean 1: it exceeds 1/α at any moment with a chance of at most α (Ville 1939).
"""

from __future__ import annotations

import numpy as np
from scipy import special

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.numeric.stirling import stirling_error


def log_e(z: Floats, ratio: Floats, *, sides: int) -> Floats:
    """Log of the likelihood ratio; `ratio` is τ²/V. One-sided, the mixture is the half of it above 0."""
    share = ratio / (1 + ratio)
    found = 0.5 * (z * z * share - np.log1p(ratio))
    return found if sides == 2 else found + np.log(2.0) + special.log_ndtr(z * np.sqrt(share))


def critical(ratio: Floats, alpha: float, *, sides: int) -> Floats:
    """The z beyond which the e-value exceeds 1/α: two-sided √((1 + 1/ratio) ln((1 + ratio)/α²))."""
    ratio = np.asarray(ratio, dtype=np.float64)
    two = np.sqrt((1 + 1 / ratio) * (np.log1p(ratio) - 2 * np.log(alpha)))
    if sides == 2:
        return np.asarray(two)
    # The root lies below that of both sides; at 0 and below the ratio is at most 1.
    goal = -np.log(alpha)
    far = np.full(ratio.shape, -40.0)
    return bracketed_root(lambda z: log_e(z, ratio, sides=1) - goal, far, two + 1e-9)


def bounded_critical(ratio: Floats, alpha: float) -> Floats:
    """One-sided, in closed form and a little wider: of Waudby-Smith et al. (2024)."""
    ratio = np.asarray(ratio, dtype=np.float64)
    return np.asarray(np.sqrt((1 + 1 / ratio) * 2 * np.log1p(np.sqrt(1 + ratio) / (2 * alpha))))


def bounded_p(z: Floats, ratio: Floats) -> Floats:
    """The alpha whose closed one-sided boundary is z."""
    power = 0.5 * np.maximum(z, 0.0) ** 2 * ratio / (1 + ratio)
    with np.errstate(divide="ignore", over="ignore"):
        found = np.sqrt(1 + ratio) / (2 * np.expm1(power))
    return np.where(z > 0, np.minimum(found, 1.0), 1.0)


def log_counts_ratio(mixed: Floats, counts: Floats, shares: Floats) -> Floats:
    """Log of a Dirichlet mixture's likelihood of counts over that of shares; kinds come first, the rest broadcasts.

    With ln Γ(a + n) - ln Γ(a) taken as n ln n - n and a rest of the order of ln n, no digits are lost at any count.
    """
    n = counts.sum(axis=0)
    expected = n * shares
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        away = (counts - expected) / expected
        apart = np.where(expected > 0, expected * (special.xlog1py(1 + away, away) - away), counts * np.inf)
    apart = np.where((expected == 0) & (counts == 0), 0.0, apart).sum(axis=0)
    return np.asarray(_rest(mixed, counts).sum(axis=0) - _rest(mixed.sum(axis=0), n) + apart)


def _rest(a: Floats, n: Floats) -> Floats:
    """The logarithm of Γ(a + n)/Γ(a) less n ln n - n."""
    x = a + n
    some = np.where(n > 0, n, 1.0)
    rest = some * np.log1p(a / some) + (a - 0.5) * np.log(x) - a + 0.5 * np.log(2 * np.pi) + stirling_error(x)
    return np.where(n > 0, rest - special.gammaln(a), 0.0)


def best_ratio(alpha: float, *, sides: int) -> float:
    """The τ²/V at which the interval is narrowest: of both sides x - ln(1 + x) = -2 ln α, by Lambert's function."""
    both = float(-special.lambertw(-(alpha**2) / np.e, -1).real - 1) if alpha > 1e-150 else float(-2 * np.log(alpha))
    if sides == 2:
        return both
    from scipy.optimize import minimize_scalar

    found = minimize_scalar(
        lambda x: float(critical(np.exp(np.asarray(x)), alpha, sides=1)),
        bounds=(np.log(both) - 6, np.log(both) + 3),
        method="bounded",
        options={"xatol": 1e-10},
    )
    return float(np.exp(found.x))


def fixed_critical(alpha: float, sides: int) -> float:
    """The z of a test with one look."""
    return float(normal.upper_quantile(alpha / sides))
