"""How far skewed values shift the tails of a t statistic: the first two terms of its expansion."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats


def studentised_tails(
    tail: float,
    signs: ArrayLike,
    n: ArrayLike,
    sd: ArrayLike,
    skewness: ArrayLike,
    excess_kurtosis: ArrayLike,
) -> tuple[Floats, Floats]:
    """Chances of a t statistic below and above limits that cut off `tail` on each side where values are normal.

    An approximation: it can go below 0 where it no longer serves.

    Parameters
    ----------
    tail : float
        Chance beyond each limit for normal values.
    signs, n, sd, skewness, excess_kurtosis : array_like, last axis (groups)
        For each mean that enters the statistic its sign (1 or −1), and the size and moments of its group.

    Notes
    -----
    For T = (Σ ± x̄) / sqrt(V), V = Σ s²/n, with κ = Σ ± γ σ³/n² / V^1.5, λ = Σ k σ⁴/n³ / V² and x the normal limit:
    P(T < −x) = tail + κ(2x² + 1)φ(x)/6 + xφ(x)(κ²(x⁴ + 2x² − 3)/18 − λ(x² − 3)/12), and with κ negative above. What
    the second term has besides, degrees of freedom account for.

    References
    ----------
    .. [1] Hall (1987), Annals of Probability 15, 920-931, for one sample.
    .. [2] Hall (1992), The Bootstrap and Edgeworth Expansion, section 2.6; here with the cumulants of two samples.
    """
    n, sd = np.asarray(n, dtype=np.float64), np.asarray(sd, dtype=np.float64)
    se = sd / np.sqrt(n)
    share = se / np.sqrt(np.sum(se**2, axis=-1, keepdims=True))
    kappa = np.sum(signs * np.asarray(skewness) * share**3 / np.sqrt(n), axis=-1)
    lam = np.sum(excess_kurtosis * share**4 / n, axis=-1)
    x = normal.upper_quantile(tail)
    density = normal.pdf(x)
    first = kappa * (2 * x**2 + 1) * density / 6
    second = x * density * (kappa**2 * (x**4 + 2 * x**2 - 3) / 18 - lam * (x**2 - 3) / 12)
    return tail + first + second, tail - first + second
