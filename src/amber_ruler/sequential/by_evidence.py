"""Stopping by a Bayes factor or by a posterior probability: what that really does, computed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.polynomial.legendre import leggauss

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Result
from amber_ruler.sequential import recursion
from amber_ruler.sequential.boundaries import fractions_of
from amber_ruler.sequential.recursion import Path, Regions

_POINTS, _WEIGHTS = leggauss(24)
_EDGES = np.array([1.0, 4.0, 10.0, 25.0, 60.0])  # of the drift: what happens changes near none, and not far away


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class StoppedBy:
    """What stopping by evidence does under one truth.

    Attributes
    ----------
    truth : str
        "none", "design" (the effect named), or "prior" (an effect drawn from it).
    for_effect, for_none : ndarray, shape (k,)
        Chance to stop at each look for an effect, and for none.
    wrong_side : float
        Chance to stop for an effect of the other sign.
    undecided : float
        Chance that neither is shown by the end.
    misleading : float
        Chance to be misled: to stop for an effect where there is none; else for none, or for the other sign.
    ending : ndarray, shape (k,)
        Chance of ending at each look.
    expected_fraction : float
        Share of all information that is used on average.
    """

    truth: str
    for_effect: Floats
    for_none: Floats
    wrong_side: float
    undecided: float
    misleading: float
    ending: Floats
    expected_fraction: float


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class StoppingByEvidence(Result):
    """What looks that stop by evidence do.

    Attributes
    ----------
    fractions : ndarray, shape (k,)
        Information fraction at each look.
    high, low : ndarray, shape (k,)
        The z above which, and below which, an effect is shown.
    none_low, none_high : ndarray, shape (k,), or None
        The z between which none is shown; they meet where no z shows that.
    threshold : float
        The factor, or the posterior probability.
    none, design, prior : StoppedBy
        Under no effect, under the one named (None if none was), and averaged over the prior.
    """

    fractions: Floats
    high: Floats
    low: Floats
    none_low: Floats | None
    none_high: Floats | None
    threshold: float
    none: StoppedBy
    design: StoppedBy | None
    prior: StoppedBy


def stopping_by_evidence(
    looks: int | Sequence[float],
    *,
    se: float,
    prior: tuple[float, float],
    rule: Literal["factor", "probability"] = "factor",
    threshold: float | None = None,
    effect: float | None = None,
) -> StoppingByEvidence:
    """How often does a test that stops "once the Bayes factor passes 3" mislead?

    Parameters
    ----------
    looks : int or sequence of float
        A number of equally spaced looks, or information fractions.
    se : float
        Standard error of the estimate with all information, in the metric's unit.
    prior : pair of float
        Mean and standard deviation of a normal prior of the effect, if there is one.
    rule : "factor" or "probability"
        Stop once the Bayes factor of an effect against none is at least the threshold, or at most 1 over it; or once
        the posterior probability of an effect above 0 (given that there is one) is at least the threshold, or that of
        one below 0.
    threshold : float, optional
        3 for a factor, 0.95 for a probability, unless given.
    effect : float, optional
        An effect of interest: what happens under it.

    Returns
    -------
    StoppingByEvidence

    Raises
    ------
    InputError
        If a factor is not above 1, or a probability not between 0.5 and 1.

    Notes
    -----
    Each rule is a boundary of z, so the exact recursion answers: no draws. A test that shows neither ends with all
    information.

    References
    ----------
    .. [1] Rouder (2014), Psychonomic Bulletin & Review 21, 301-308, for stopping by a factor.
    .. [2] Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244.

    Examples
    --------
    >>> r = stopping_by_evidence(20, se=0.2, prior=(0.0, 1.0), effect=0.8)
    >>> round(r.none.misleading, 3), round(r.design.misleading, 3), round(r.none.expected_fraction, 2)
    (0.129, 0.038, 0.49)
    """
    fractions = fractions_of(looks)
    se = float(gate.positive("se", gate.single("se", se)))
    mean, sd = (float(v) for v in gate.finite("prior", list(prior)))
    gate.positive("sd of the prior", sd)
    gate.choice("rule", rule, ("factor", "probability"))
    usual = 3.0 if rule == "factor" else 0.95
    level = usual if threshold is None else float(gate.positive("threshold", gate.single("threshold", threshold)))
    if rule == "factor" and level <= 1:
        raise InputError.rule("threshold", level, "above 1, as a factor")
    if rule == "probability" and not 0.5 < level < 1:
        raise InputError.rule("threshold", level, "between 0.5 and 1, as a probability")
    variance = se * se / fractions
    none_low: Floats | None = None
    none_high: Floats | None = None
    if rule == "factor":
        low, high = _where(variance, mean, sd, np.log(level))
        none_low, none_high = _where(variance, mean, sd, -np.log(level))
        middle = np.where(np.isfinite(none_high), none_high, -np.inf)
        regions = Regions(fractions, high, low, middle, wedge=True, futile_low=none_low)
    else:
        after = 1 / (1 / variance + 1 / sd**2)
        reach = float(normal.quantile(level)) / np.sqrt(after)
        high, low = (np.sqrt(variance) * (sign * reach - mean / sd**2) for sign in (1.0, -1.0))
        regions = Regions(fractions, high, low)
    path = recursion.walk(regions)
    known = None if effect is None else float(gate.finite("effect", gate.single("effect", effect)))
    said = f"factor of {level:g}" if rule == "factor" else f"posterior probability of {level:g}"
    return StoppingByEvidence(
        title=f"Stopping by evidence, {fractions.size} look{'s' if fractions.size > 1 else ''}",
        method=f"{said}, normal prior, mean {mean:g}, sd {sd:g}; se {se:g} at the end",
        source="Armitage, McPherson & Rowe (1969), Journal of the Royal Statistical Society A 132, 235-244",
        fractions=fractions,
        high=high,
        low=low,
        none_low=none_low,
        none_high=none_high,
        threshold=level,
        none=_under(path, "none", np.zeros(1), np.ones(1)),
        design=None if known is None else _under(path, "design", np.array([known / se]), np.ones(1)),
        prior=_under(path, "prior", *_drawn(mean / se, sd / se)),
    )


def _where(variance: Floats, mean: float, sd: float, log_factor: float) -> tuple[Floats, Floats]:
    """The z between which the log Bayes factor lies below a value; infinite the wrong way where it never does."""
    wider = variance + sd * sd
    a = 1 / variance - 1 / wider
    b = mean / wider
    c = -(mean**2) / wider + np.log(variance / wider) - 2 * log_factor
    inside = b * b - a * c
    with np.errstate(invalid="ignore"):
        root = np.sqrt(inside)
    low, high = (
        np.where(inside > 0, (-b + sign * root) / a / np.sqrt(variance), -sign * np.inf) for sign in (-1.0, 1.0)
    )
    return low, high


def _drawn(mean: float, sd: float) -> tuple[Floats, Floats]:
    """Drifts and weights that average over a normal prior; what happens jumps at none, so each side is apart."""
    ends = mean - 10 * sd, mean + 10 * sd
    edges = np.unique(np.clip([*ends, 0.0, *_EDGES, *-_EDGES], *ends))
    half = np.diff(edges)[:, None] / 2
    drifts = (edges[:-1, None] + half * (1 + _POINTS)).ravel()
    weights = (half * _WEIGHTS).ravel() * normal.pdf((drifts - mean) / sd) / sd
    return drifts, weights / weights.sum()


def _under(path: Path, truth: str, drifts: Floats, weights: Floats) -> StoppedBy:
    """Averaged over some drifts."""
    found = path.chances(drifts)
    above, below, none = (weights @ part for part in (found.above, found.below, found.futile))
    undecided = float(weights @ found.never)
    ending = above + below + none
    ending[-1] += undecided
    other = float(weights @ np.where(drifts > 0, found.below.sum(axis=-1), found.above.sum(axis=-1)))
    if truth == "none":
        other = 0.0
    misleading = float((above + below).sum()) if truth == "none" else float(none.sum()) + other
    return StoppedBy(
        truth=truth,
        for_effect=above + below,
        for_none=none,
        wrong_side=other,
        undecided=undecided,
        misleading=misleading,
        ending=ending,
        expected_fraction=float(ending @ path.regions.fractions),
    )
