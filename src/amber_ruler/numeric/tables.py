"""Two by two tables of counts: exact tests given both margins, and over an unknown common share."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import binomial
from amber_ruler.numeric.roots import bracketed_number
from amber_ruler.numeric.stirling import stirling_error

if TYPE_CHECKING:
    from amber_ruler.numeric.gate import Floats

_TIE = 1e-9  # chances and statistics this close are equal but for rounding
_MOST_OUTCOMES, _MOST_LOPSIDED = 400_000, 20_000_000  # that the unconditional test goes through
_LOPSIDED = 8  # from such a ratio of the groups' sizes on, tails are summed instead of outcomes
_MOST_TABLES = 1_000_000
_LARGEST_LOG_ODDS = 60.0


def log_choose(n: Floats, k: Floats) -> Floats:
    """Logarithm of the number of ways, to the last digits also for large numbers."""
    inside, rest = np.maximum(k, 1.0), np.maximum(n - k, 1.0)
    whole = inside + rest
    # The large parts of the three factorials, put together so that only positive terms are added.
    entropy = -inside * np.log(inside / whole) - rest * np.log1p(-inside / whole)
    roots = 0.5 * (np.log(whole / inside) - np.log(2 * np.pi * rest))
    small = stirling_error(whole) - stirling_error(inside) - stirling_error(rest)
    return np.where((k <= 0) | (k >= n), 0.0, entropy + roots + small)


def given_margins(x1: int, n1: int, x0: int, n0: int, log_odds: float = 0.0) -> tuple[Floats, Floats]:
    """Possible successes of treatment when both margins are given, and their chances under an odds ratio.

    References
    ----------
    .. [1] Fisher (1935), Journal of the Royal Statistical Society 98, 39-82.
    """
    x = x1 + x0
    least, most = max(0, x - n0), min(n1, x)
    if most - least >= _MOST_TABLES:
        raise InputError(
            f"{most - least + 1:,} tables are too many for the exact test: take the score test (of a table the"
            " asymptotic one), which is as good with so many units."
        )
    k = np.arange(least, most + 1, dtype=np.float64)
    log_chance = log_choose(np.asarray(float(n1)), k) + log_choose(np.asarray(float(n0)), x - k) + k * log_odds
    chance = np.exp(log_chance - log_chance.max())
    return k, chance / chance.sum()


def fisher_tails(x1: int, n1: int, x0: int, n0: int, log_odds: float = 0.0) -> tuple[float, float, float, float]:
    """Chances of x1 or more, of x1 or fewer, of all outcomes no likelier, and of x1 itself."""
    k, chance = given_margins(x1, n1, x0, n0, log_odds)
    own = float(chance[k == x1][0])
    unlikely = float(chance[chance <= own * (1 + _TIE)].sum())
    return float(chance[k >= x1].sum()), float(chance[k <= x1].sum()), min(unlikely, 1.0), own


def exact_log_odds(x1: int, n1: int, x0: int, n0: int, tails: tuple[float, float], *, mid: bool) -> tuple[float, float]:
    """Log odds ratios at which the exact (or mid-p) test would just have the chance of each tail.

    References
    ----------
    .. [1] Cornfield (1956), Proceedings of the 3rd Berkeley Symposium 4, 135-148.
    """
    lowest, highest = max(0, x1 + x0 - n0), min(n1, x1 + x0)

    def miss(log_odds: float, side: int) -> float:
        above, below, _, own = fisher_tails(x1, n1, x0, n0, log_odds)
        return (above if side == 0 else below) - (0.5 * own if mid else 0.0) - tails[side]

    ends = []
    for side, (edge, end) in enumerate(((lowest, -np.inf), (highest, np.inf))):
        if tails[side] == 0 or x1 == edge:
            ends.append(end)
        else:
            ends.append(bracketed_number(lambda w, s=side: miss(w, s), -_LARGEST_LOG_ODDS, _LARGEST_LOG_ODDS))  # type: ignore[misc]
    return ends[0], ends[1]


def likeliest_odds(x1: int, n1: int, x0: int, n0: int) -> float:
    """The odds ratio under which the count seen is the mean of all that are possible: its conditional estimate."""
    lowest, highest = max(0, x1 + x0 - n0), min(n1, x1 + x0)
    if lowest == highest:
        return float("nan")
    if x1 in (lowest, highest):
        return 0.0 if x1 == lowest else float("inf")

    def miss(log_odds: float) -> float:
        k, chance = given_margins(x1, n1, x0, n0, log_odds)
        return float(k @ chance) - x1

    return float(np.exp(bracketed_number(miss, -_LARGEST_LOG_ODDS, _LARGEST_LOG_ODDS)))


def _chance_of(extreme: Floats) -> Callable[[Floats], Floats]:
    """The chance of a set of outcomes of two binomial counts, as a function of their common share."""
    one, two = (size - 1 for size in extreme.shape)
    if one < two:
        return _chance_of(extreme.T)
    if _LOPSIDED * two >= one:
        a, b = np.arange(one + 1.0), np.arange(two + 1.0)

        def dense(shares: Floats) -> Floats:
            first, second = (binomial.chance(k, k.size - 1, shares[:, None]) for k in (a, b))
            return np.asarray(np.einsum("gi,ij,gj->g", first, extreme, second, optimize=True))

        return dense
    # For each outcome of the small group those of the large one lie at the ends: two tails.
    out = extreme == 0
    low = np.where(out.any(axis=0), np.argmax(out, axis=0), one + 1)
    high = np.where(out.any(axis=0), np.argmax(out[::-1], axis=0), 0)

    def sparse(shares: Floats) -> Floats:
        s = shares[:, None]
        tails = binomial.at_least(one + 1 - low, np.asarray(one), 1 - s) * (low > 0)
        tails = tails + binomial.at_least(one + 1 - high, np.asarray(one), s) * (high > 0)
        return np.asarray((binomial.chance(np.arange(two + 1.0), two, s) * tails).sum(axis=1))

    return sparse


def unconditional(x1: int, n1: int, x0: int, n0: int, alternative: str, *, by_fisher: bool = False) -> float:
    """Largest chance, over all common shares, of a pooled z (or Fisher's p) at least as extreme as the one seen.

    References
    ----------
    .. [1] Barnard (1947), Biometrika 34, 123-138.
    .. [2] Suissa & Shuster (1985), Journal of the Royal Statistical Society A 148, 317-327, for the pooled z.
    .. [3] Boschloo (1970), Statistica Neerlandica 24, 1-35, for Fisher's p.
    """
    lopsided = _LOPSIDED * min(n1, n0) < max(n1, n0) and not by_fisher
    if (n1 + 1) * (n0 + 1) > (_MOST_LOPSIDED if lopsided else _MOST_OUTCOMES):
        raise InputError(
            f"{(n1 + 1) * (n0 + 1):,} outcomes are too many for the unconditional exact test: take the score test,"
            " which is as good with so many units."
        )
    if by_fisher:
        p = _fisher_of_all(n1, n0, alternative)
        return _largest(np.asarray(p <= p[x1, x0] * (1 + _TIE), dtype=np.float64))
    a, b = np.arange(n1 + 1.0)[:, None], np.arange(n0 + 1.0)[None, :]
    share = (a + b) / (n1 + n0)
    with np.errstate(divide="ignore", invalid="ignore"):
        z = (a / n1 - b / n0) / np.sqrt(share * (1 - share) * (1 / n1 + 1 / n0))
    z = np.where((share == 0) | (share == 1), 0.0, z)
    own = z[x1, x0]
    slack = _TIE * max(1.0, abs(own))
    extreme = {
        "greater": z >= own - slack,
        "less": z <= own + slack,
        "two-sided": np.abs(z) >= abs(own) - slack,
    }[alternative].astype(np.float64)
    return _largest(extreme)


def _fisher_of_all(n1: int, n0: int, alternative: str) -> Floats:
    """Fisher's p of every outcome: by the side, or two-sided by all tables with the same margins no likelier."""
    p = np.empty((n1 + 1, n0 + 1))
    for total in range(n1 + n0 + 1):
        k, chance = given_margins(min(total, n1), n1, total - min(total, n1), n0)
        rows = k.astype(int)
        if alternative == "greater":
            found = np.cumsum(chance[::-1])[::-1]
        elif alternative == "less":
            found = np.cumsum(chance)
        else:
            order = np.argsort(chance, kind="stable")
            upto = np.searchsorted(chance[order], chance * (1 + _TIE), side="right")
            found = np.cumsum(chance[order])[upto - 1]
        p[rows, total - rows] = np.minimum(found, 1.0)
    return p


def _largest(extreme: Floats) -> float:
    """The largest chance of a set of outcomes over all common shares."""
    n1, n0 = (size - 1 for size in extreme.shape)
    chance = _chance_of(extreme)
    # The chance is a polynomial in the share with about as many bends as units: a grid finds its peaks, and finer ones
    # around the highest climb them.
    size = int(min(20 * (n1 + n0) + 101, 4_001))
    grid = (1 - np.cos(np.pi * np.arange(1, size) / size)) / 2
    found = chance(grid)
    best = max(float(extreme[0, 0]), float(extreme[-1, -1]))  # the chances at shares of 0 and 1
    for peak in np.argsort(found)[-8:]:
        low, high = grid[max(peak - 1, 0)], grid[min(peak + 1, grid.size - 1)]
        for _ in range(8):
            fine = np.linspace(low, high, 13)
            heights = chance(fine)
            top = int(np.argmax(heights))
            best = max(best, float(heights[top]))
            low, high = fine[max(top - 1, 0)], fine[min(top + 1, 12)]
    return min(best, 1.0)
