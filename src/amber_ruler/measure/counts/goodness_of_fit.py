"""Counts of several kinds: do they follow the shares expected?"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, Unpack

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import shared
from amber_ruler.measure.counts.common import (
    NAMES,
    POWERS,
    SOURCES,
    Statistic,
    any_test,
    drawn,
    draws_of,
    expected_check,
    residual_p,
    small,
    whole,
)
from amber_ruler.measure.proportion import wilson
from amber_ruler.numeric import chisquare, divergence, gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import EffectSize, Result, Test
from amber_ruler.results.pieces import Tested
from amber_ruler.settings import Named

_MOST_WAYS = 300_000  # outcomes that are counted one by one


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class GoodnessOfFit(Result, Tested):
    """Counts of several kinds, and whether they follow the shares expected.

    Attributes
    ----------
    labels : tuple of str
        The kinds.
    counts, planned, expected, contributions : ndarray, shape (k,)
        Counts, shares and counts expected, and what each adds to the statistic.
    low, high : ndarray, shape (k,)
        Limits of each kind's share; all of them hold together at 1 - alpha.
    residuals, residual_p : ndarray, shape (k,)
        How many standard errors each count lies from what was expected, and its p-value corrected by Holm.
    test, effects
        As for `Independence`.
    """

    labels: tuple[str, ...]
    counts: Floats
    planned: Floats
    expected: Floats
    contributions: Floats
    low: Floats
    high: Floats
    residuals: Floats
    residual_p: Floats
    test: Test
    effects: Mapping[str, EffectSize] = field(default_factory=dict)

    @property
    def alpha(self) -> float:
        """Error rate of the test; the intervals hold together at level 1 - alpha."""
        return self.test.alpha


@method(
    takes="kinds",
    published=("counts",),
    examples=(
        "travellers.csv --value form",
        "--counts 120,80,100 --labels foot,bicycle,car --expected 50,20,30",
    ),
)
def goodness_of_fit(
    counts: Mapping[str, float] | ArrayLike,
    *,
    expected: Mapping[str, float] | ArrayLike | None = None,
    test: Literal["asymptotic", "exact"] | None = None,
    statistic: Statistic | None = None,
    correction: Literal["none", "williams"] | None = None,
    draws: int | None = None,
    seed: int | None = None,
    **asked: Unpack[Named],
) -> GoodnessOfFit:
    """Do counts of several kinds follow the shares expected, and which kinds don't?

    Parameters
    ----------
    counts : mapping of label to count, or array_like of shape (k,)
        Units of each kind.
    expected : mapping of label to share, or array_like of shape (k,), optional
        In proportion; equal shares if not given.
    test : "asymptotic" or "exact", optional
        If not given, asymptotic, and exact (multinomial) where expected counts are small; with too many outcomes to
        count it is drawn.
    statistic : "chi-square", "g", "freeman-tukey" or "cressie-read"
        Of the asymptotic test; chi-square if not given.
    correction : "none" or "williams"
        Whether G is divided by 1 + (sum of the inverse shares - 1) / (6 n (k - 1)).
    draws : int, optional
        Of an exact test that is drawn; 100,000 if not given, and fewer for large tables.
    alpha : float, between 0 and 0.5
        Error rate of the test; the intervals hold together at level 1 - alpha.
    metric : str, optional
        What was counted, for the heading.
    seed : int, optional
        What replays the draws; 0 if not given.

    Returns
    -------
    GoodnessOfFit

    References
    ----------
    .. [1] Pearson (1900), Philosophical Magazine 50, 157-175.
    .. [2] Williams (1976), Biometrika 63, 33-37, for the correction.
    .. [3] Goodman (1965), Technometrics 7, 247-254, for the intervals.

    Examples
    --------
    >>> r = goodness_of_fit({"foot": 120, "bicycle": 80, "car": 100})
    >>> round(r.statistic, 2), round(r.p_value, 4)
    (8.0, 0.0183)
    """
    ask = shared.question(asked)
    if test is not None:
        gate.choice("test", test, ("asymptotic", "exact"))
    labels, o = _counted(counts)
    planned, n = _planned(expected, labels), float(o.sum())
    goal = n * planned
    few = small(goal)
    how = test or ("exact" if few and statistic is None else "asymptotic")
    exact = how == "exact"
    by_chance = exact and divergence.ways(int(n), o.size) > _MOST_WAYS
    shared.unused(how, {"statistic": (statistic, not exact), "draws": (draws, by_chance), "seed": (seed, by_chance)})
    kind = gate.choice("statistic", statistic or "chi-square", POWERS)
    shared.unused(how, {"correction": (correction, not exact)})
    fix = gate.choice("correction", correction or "none", ("none", "williams"))
    if fix == "williams" and kind != "g":
        raise InputError("correction='williams' is for statistic='g'.")
    each = divergence.power_divergence(o, goal, POWERS[kind])
    if fix == "williams":
        each = each / (1 + (float(np.sum(1 / planned)) - 1) / (6 * n * (o.size - 1)))
    if not exact:
        value, df = float(each.sum()), o.size - 1.0
        tested = any_test(float(chisquare.sf(value, df)), ask.alpha, value, NAMES[kind], df)
    elif not by_chance:
        tested = any_test(divergence.exact_shares(o, planned), ask.alpha)
    else:
        rng = np.random.default_rng(seed or 0)
        p, error = drawn(draws_of(draws, o.size), lambda times: divergence.drawn_shares(o, planned, times, rng))
        tested = any_test(p, ask.alpha, error=error)
    residuals = (o - goal) / np.sqrt(goal * (1 - planned))
    critical = float(normal.upper_quantile(ask.alpha / 2 / o.size))
    low, high = wilson(o, np.full(o.size, n), (critical, critical))
    chi_square = float(divergence.power_divergence(o, goal, 1.0).sum())
    said = f"{'exact multinomial' if exact else NAMES[kind]} test{', drawn' if by_chance else ''}"
    said += ", williams correction" if fix == "williams" else ""
    return GoodnessOfFit(
        title=f"{ask.metric or 'counts'} of {o.size} kinds",
        method=f"goodness of fit, {said}",
        source=SOURCES["exact" if exact else kind],
        labels=labels,
        counts=o,
        planned=planned,
        expected=goal,
        contributions=each,
        low=low,
        high=high,
        residuals=residuals,
        residual_p=residual_p(residuals),
        test=tested,
        effects={"cohen_w": effects.from_chi_square(chi_square, n, o.size - 1.0, alpha=ask.alpha)},
        checks=expected_check(few, how),
        seed=(seed or 0) if by_chance else None,
    )


def _counted(counts: Mapping[str, float] | ArrayLike) -> tuple[tuple[str, ...], Floats]:
    o = whole(list(counts.values()) if isinstance(counts, Mapping) else counts)
    if o.ndim != 1 or o.size < 2:
        raise InputError(f"counts must be of at least 2 kinds in one row, got shape {o.shape}.")
    if o.sum() == 0:
        raise DataError("All counts are 0: there is nothing to compare.")
    return tuple(map(str, counts if isinstance(counts, Mapping) else range(1, o.size + 1))), o


def _planned(expected: Mapping[str, float] | ArrayLike | None, labels: tuple[str, ...]) -> Floats:
    if expected is None:
        return np.full(len(labels), 1 / len(labels))
    if isinstance(expected, Mapping):
        by = {str(k): v for k, v in expected.items()}
        if set(by) != set(labels):
            raise InputError(f"expected names {', '.join(by)}; the counts are of {', '.join(labels)}.")
        expected = [by[label] for label in labels]
    found = gate.positive("expected", expected, "Leave a kind out that can't occur.")
    if found.shape != (len(labels),):
        raise InputError(f"expected needs {len(labels)} shares, one for each kind, got shape {found.shape}.")
    return np.asarray(found / found.sum())
