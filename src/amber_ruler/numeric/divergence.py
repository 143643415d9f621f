"""Counts against what was expected: statistics, and exact or simulated chances of what is no likelier."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy import special

if TYPE_CHECKING:
    from numpy.random import Generator
    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats

_TIE = 1e-9  # logs of chances this close are equal but for rounding
MOST_DRAWN = 1e9  # units of a table that can be drawn
MOST_TABLES = 1_000_000  # tables that are gone through one by one
_BLOCK = 20_000  # tables drawn at a time


def power_divergence(counts: Floats, expected: Floats, power: float) -> Floats:
    """What each cell adds to the statistic: power 1 is chi-square, 0 the likelihood ratio.

    Written with the differences taken out, so that every cell adds something that is not negative.

    References
    ----------
    .. [1] Cressie & Read (1984), Journal of the Royal Statistical Society B 46, 440-464.
    """
    away = counts - expected
    if power == 1:
        return np.asarray(away**2 / expected)
    if power == 0:
        return np.asarray(2 * (special.xlogy(counts, counts / expected) - away))
    ratio = counts / expected
    known = np.where(counts > 0, ratio, 1.0)  # an empty cell adds by what was expected alone
    return np.asarray(2 / (power * (power + 1)) * (counts * (known**power - 1) - power * away))


def log_chance(counts: Floats, shares: Floats) -> Floats:
    """Log of the multinomial chance of counts along the last axis."""
    n = counts.sum(axis=-1)
    ways = special.gammaln(n + 1) - special.gammaln(counts + 1).sum(axis=-1)
    return np.asarray(ways + special.xlogy(counts, shares).sum(axis=-1))


def compositions(n: int, k: int) -> Floats:
    """All ways to put n units into k cells, a row each."""
    if k == 1:
        return np.array([[n]], dtype=np.float64)
    parts = []
    for first in range(n + 1):
        rest = compositions(n - first, k - 1)
        parts.append(np.column_stack([np.full(len(rest), float(first)), rest]))
    return np.concatenate(parts)


def ways(n: int, k: int) -> int:
    """How many ways there are to put n units into k cells."""
    return math.comb(n + k - 1, k - 1)


def exact_shares(counts: Floats, shares: Floats) -> float:
    """Chance of all outcomes no likelier than the counts."""
    chances = log_chance(compositions(int(counts.sum()), counts.size), shares)
    return min(float(np.exp(chances[chances <= float(log_chance(counts, shares)) + _TIE]).sum()), 1.0)


def drawn_shares(counts: Floats, shares: Floats, draws: int, rng: Generator) -> float:
    """The same chance, from so many draws; the counts themselves stand for one of them."""
    own, unlikely = float(log_chance(counts, shares)), 0
    for start in range(0, draws, _BLOCK):
        drawn = rng.multinomial(int(counts.sum()), shares, size=min(_BLOCK, draws - start)).astype(np.float64)
        unlikely += int(np.sum(log_chance(drawn, shares) <= own + _TIE))
    return (unlikely + 1) / (draws + 1)


def drawn_tables(counts: Floats, draws: int, rng: Generator, order: str = "likelihood") -> float:
    """Chance of all tables with these margins that are no likelier, or have as large a chi-square, from so many draws.

    References
    ----------
    .. [1] Freeman & Halton (1951), Biometrika 38, 141-149.
    .. [2] Patefield (1981), Applied Statistics 30, 91-97, for drawing cell by cell.
    """
    rows, columns = counts.sum(axis=1).astype(int), counts.sum(axis=0).astype(int)
    by_chance, expected = order == "likelihood", np.outer(rows, columns) / counts.sum()
    if by_chance:
        own = float(special.gammaln(counts + 1).sum())
    else:
        own = float(power_divergence(counts, expected, 1.0).sum())
    slack, unlikely = _TIE * max(1.0, own if not by_chance else 1.0), 0

    def added(cell: NDArray[Any], i: int, j: int) -> Floats:
        part = special.gammaln(cell + 1) if by_chance else (cell - expected[i, j]) ** 2 / expected[i, j]
        return np.asarray(part)

    for start in range(0, draws, _BLOCK):
        size = min(_BLOCK, draws - start)
        left = np.tile(columns, (size, 1))
        seen = np.zeros(size)
        for i, total in enumerate(rows[:-1]):
            needed, behind = np.full(size, total), left.sum(axis=1)
            for j in range(columns.size - 1):
                behind = behind - left[:, j]
                cell = rng.hypergeometric(left[:, j], behind, needed)
                left[:, j] -= cell
                needed = needed - cell
                seen += added(cell, i, j)
            left[:, -1] -= needed
            seen += added(needed, i, columns.size - 1)
        for j in range(columns.size):
            seen += added(left[:, j], rows.size - 1, j)
        unlikely += int(np.sum(seen >= own - slack))
    return (unlikely + 1) / (draws + 1)


def exact_tables(counts: Floats, order: str) -> float | None:
    """Chance of all tables with these margins that are no likelier, or have as large a chi-square; None for too many.

    Columns are filled one after the other, all tables at once.
    """
    rows, columns = counts.sum(axis=1), counts.sum(axis=0)
    expected = np.outer(rows, columns) / counts.sum()
    left, log_chance, value = rows[None, :], np.zeros(1), np.zeros(1)
    for j, total in enumerate(columns[:-1]):
        found = filled(left, int(total))
        if found is None:
            return None
        cells, of = found
        left, log_chance = left[of] - cells, log_chance[of] - special.gammaln(cells + 1).sum(axis=1)
        value = value[of] + ((cells - expected[:, j]) ** 2 / expected[:, j]).sum(axis=1)
    log_chance = log_chance - special.gammaln(left + 1).sum(axis=1)
    value = value + ((left - expected[:, -1]) ** 2 / expected[:, -1]).sum(axis=1)
    chance = np.exp(log_chance - log_chance.max())
    if order == "chi-square":
        own = float(power_divergence(counts, expected, 1.0).sum())
        extreme = value >= own * (1 - _TIE) - _TIE
    else:
        extreme = log_chance <= -float(special.gammaln(counts + 1).sum()) + _TIE
    return min(float(chance[extreme].sum() / chance.sum()), 1.0)


def filled(left: NDArray[Any], total: int) -> tuple[Floats, NDArray[np.intp]] | None:
    """All ways to fill a total from what is left of each place (columns of a state), and of which state each is.

    None for more than are gone through.
    """
    count, k = left.shape
    behind = np.cumsum(left[:, ::-1], axis=1)[:, ::-1]  # what this row and those after it have left
    cells, of, needed = np.zeros((count, 0)), np.arange(count), np.full(count, float(total))
    for i in range(k):
        after = behind[of, i + 1] if i + 1 < k else np.zeros(of.size)
        least, most = np.maximum(needed - after, 0.0), np.minimum(needed, left[of, i])
        ways = (most - least + 1).astype(int)
        if ways.sum() > MOST_TABLES:
            return None
        again = np.repeat(np.arange(of.size), ways)
        put = least[again] + (np.arange(again.size) - np.repeat(np.cumsum(ways) - ways, ways))
        cells, of, needed = np.column_stack([cells[again], put]), of[again], needed[again] - put
    return cells, of
