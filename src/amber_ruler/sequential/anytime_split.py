"""Whether the split of units is as planned, at every moment: a daily check is peeking too."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Result
from amber_ruler.sequential import mixtures


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class SplitWatch(Result):
    """The split of units, watched.

    Attributes
    ----------
    counts : mapping of label to ndarray
        Units in each variant by each moment.
    planned : mapping of label to float
        The share that each should have.
    log_e : ndarray
        Log of the e-value against the planned split at each moment.
    p_value : ndarray
        The smallest p-value so far: it may be held against alpha at every moment.
    alpha : float
        Chance of ever raising a false alarm.
    sound : bool
        Whether the split has not been found wrong.
    moment : int or None
        The first moment (from 1) at which it was.
    """

    counts: Mapping[str, Floats]
    planned: Mapping[str, float]
    log_e: Floats
    p_value: Floats
    alpha: float
    sound: bool
    moment: int | None


def anytime_split(
    counts: Mapping[str, ArrayLike],
    *,
    planned: Mapping[str, float] | None = None,
    weight: float | None = None,
    alpha: float = 0.001,
) -> SplitWatch:
    """Are units split as planned, asked every day?

    Parameters
    ----------
    counts : mapping of label to array_like
        Units in each variant by each moment, all so far.
    planned : mapping of label to float, optional
        Planned shares, or numbers in that proportion; equal unless given.
    weight : float, optional
        How closely other splits than the planned one are thought to lie around it: the sum of the parameters of the
        Dirichlet distribution over them. The number of variants unless given: with equal shares all splits alike.
    alpha : float
        Chance of ever raising a false alarm.

    Returns
    -------
    SplitWatch

    Notes
    -----
    The e-value is the likelihood of the counts under the mixture over that of the plan.

    References
    ----------
    .. [1] Lindon & Malek (2022), Advances in Neural Information Processing Systems 35, for multinomial counts.

    Examples
    --------
    >>> watch = anytime_split({"short": [480, 1050, 2300], "current": [520, 950, 1900]})
    >>> watch.sound, watch.moment, watch.p_value.round(4).tolist()
    (False, 3, [1.0, 1.0, 0.0])
    """
    alpha = float(gate.between("alpha", gate.single("alpha", alpha), 0, 0.5))
    labels = [str(label) for label in counts]
    if len(labels) < 2:
        raise InputError("A split needs two variants or more.", name="counts")
    seen = np.stack(np.broadcast_arrays(*(np.atleast_1d(gate.whole("counts", c, 0)) for c in counts.values())))
    if seen.ndim != 2:
        raise InputError("counts must have one number a moment for each variant.", name="counts")
    if np.any(np.diff(seen, axis=1) < 0):
        raise InputError("Counts shrink from one moment to the next: give all units so far.", name="counts")
    wanted = dict.fromkeys(labels, 1.0) if planned is None else {str(k): v for k, v in planned.items()}
    if set(wanted) != set(labels):
        raise InputError(
            f"planned must name the variants {', '.join(labels)}, got {', '.join(wanted)}.", name="planned"
        )
    share = gate.positive("planned", [wanted[label] for label in labels])
    share = share / share.sum()
    total = float(len(labels)) if weight is None else float(gate.positive("weight", gate.single("weight", weight)))
    mixed = (share * total)[:, None]
    log_e = mixtures.log_counts_ratio(mixed, seen, share[:, None])
    p = np.minimum.accumulate(np.minimum(1.0, np.exp(np.minimum(-log_e, 0.0))))
    wrong = np.flatnonzero(p < alpha)
    return SplitWatch(
        title="Split of units, watched",
        method=f"Dirichlet-multinomial mixture, weight {total:g}, every moment · alpha {alpha:g}",
        source="Lindon & Malek (2022), Advances in Neural Information Processing Systems 35",
        counts=dict(zip(labels, seen, strict=True)),
        planned=dict(zip(labels, share.tolist(), strict=True)),
        log_e=log_e,
        p_value=p,
        alpha=alpha,
        sound=not wrong.size,
        moment=int(wrong[0]) + 1 if wrong.size else None,
    )
