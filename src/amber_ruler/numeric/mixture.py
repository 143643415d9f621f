"""Poisson mixtures: the noncentral chi-square and F distributions."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.numeric.gate import aligned
from amber_ruler.numeric.stirling import poisson_weight

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import ArrayLike

    from amber_ruler.numeric.gate import Floats

_BLOCK = 256  # mixtures at a time


def poisson_mixture(kernel: Callable[..., Floats], noncentrality: ArrayLike, *args: ArrayLike) -> Floats:
    """Return the sum over j of Poisson(j; noncentrality / 2) times kernel(j, *args).

    All terms are positive, so tails keep their relative digits as long as the terms around the largest are
    summed. Where the weights are wide the sum over whole j equals a sum with a longer step, since both are
    trapezoid rules of the same smooth function (Poisson's summation formula): the work does not grow with
    the noncentrality.
    """
    nc, *rest = aligned(noncentrality, *args)
    shape = nc.shape
    mean = nc.ravel() / 2
    flat = [v.ravel() for v in rest]
    result = np.empty(mean.shape)
    for start in range(0, mean.size, _BLOCK):
        part = slice(start, start + _BLOCK)
        result[part] = _around(kernel, mean[part], mean[part], [v[part] for v in flat])
    # Far in a tail the terms that count lie off the weights' own centre: find it, and sum there.
    far = (result < 1e-9) & (mean > 0)
    if np.any(far):
        there = [v[far] for v in flat]
        result[far] = _around(kernel, mean[far], _largest_term(kernel, mean[far], there), there)
    return np.asarray(result.reshape(shape))


def _around(kernel: Callable[..., Floats], mean: Floats, centre: Floats, args: list[Floats]) -> Floats:
    reach = 9 * np.sqrt(centre) + 14
    step = np.where(centre > 300, np.maximum(1.0, np.floor(0.25 * np.sqrt(centre))), 1.0)
    first = np.maximum(0.0, np.floor(centre - reach))
    # The number of terms differs from one mixture to the next: all of them stand in one row.
    terms = np.where(mean > 0, np.ceil((centre + reach - first) / step) + 4, 1).astype(np.intp)
    starts = np.cumsum(terms) - terms
    owner = np.repeat(np.arange(mean.size), terms)
    j = first[owner] + step[owner] * (np.arange(owner.size) - starts[owner])
    with np.errstate(divide="ignore", invalid="ignore"):
        weights = np.where(mean[owner] > 0, poisson_weight(j, mean[owner]), 1.0)
    values = kernel(j, *(v[owner] for v in args))
    return step * np.add.reduceat(weights * values, starts)


def _largest_term(kernel: Callable[..., Floats], mean: Floats, args: list[Floats]) -> Floats:
    reach = 40 * np.sqrt(mean) + 800
    low, high = np.maximum(0.0, mean - reach), mean + reach
    for _ in range(7):
        j = low[:, None] + (high - low)[:, None] * np.linspace(0, 1, 41)
        with np.errstate(divide="ignore", under="ignore"):
            term = np.log(poisson_weight(j, mean[:, None])) + np.log(kernel(j, *(v[:, None] for v in args)))
        best = np.argmax(term, axis=1)
        spacing = (high - low) / 40
        middle = low + best * spacing
        low, high = np.maximum(0.0, middle - spacing), middle + spacing
    return np.asarray(middle)
