"""Evidence as the data come in."""

from __future__ import annotations

from typing import Any

import numpy as np

from amber_ruler.bayes.means import mean
from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Axis, Measurement, Trace
from amber_ruler.samples import Counts, Pairs, Sample, Summary

__all__ = ["unfolding"]

_FEWEST = 5  # values in a group from which on evidence is looked at


def unfolding(result: Measurement, *, points: int = 60) -> Measurement:
    """How did the evidence develop as the data came in?

    Parameters
    ----------
    result : Measurement
        Of `mean`, `means`, `pairs`, `proportion` or `proportions`, asked of the values themselves, in the order in
        which they came.
    points : int, at least 2
        How many looks, evenly spaced over the values of each group.

    Returns
    -------
    Measurement
        An array along an axis of units; in `trace` the Bayes factor at each.

    Raises
    ------
    InputError
        If the values are not known one by one, or there is no Bayes factor.

    Notes
    -----
    The factor may be looked at as often as one likes and keeps its meaning; stopping when it pleases makes estimates
    and chances look better than they are, all the same.

    Examples
    --------
    >>> import numpy as np
    >>> from amber_ruler import bayes
    >>> values = np.random.default_rng(1).normal(0.5, 1, 80)
    >>> unfolding(bayes.mean(values), points=3).axis.labels
    ('5', '42', '80')
    """
    looks = int(gate.whole("points", gate.single("points", points), 2))
    asked = result.asked
    if asked is None or result.evidence is None or result.evidence.log_bayes_factor is None:
        raise InputError("Evidence unfolds from one result with a Bayes factor that remembers its data.")
    groups = [g for g in asked.groups if g is not None]
    if not all(isinstance(g, (Sample, Pairs)) for g in groups):
        raise InputError("Evidence unfolds from values in the order in which they came, not from numbers made of them.")
    counted = asked.method.needs == "share"
    arms = [_so_far(g, looks, counted=counted) for g in groups]
    total = np.sum([n for n, _ in arms], axis=0)
    axis = Axis("units", tuple(f"{int(v)}" for v in total))
    told = tuple(_with_axis(g, axis) for _, g in arms)
    if isinstance(groups[0], Pairs):  # one mean, of their differences
        found: Measurement = mean(told[0], **{k: v for k, v in asked.settings.items() if k != "correlation"})
    else:
        found = asked.method.ask(told, asked.settings)
    part = found.evidence
    log_factors = np.ravel(np.nan if part is None or part.log_bayes_factor is None else part.log_bayes_factor)
    return found.with_part(Trace.of("units", total, log_factors, result.evidence.threshold or 3.0))


def _so_far(group: Sample | Pairs, looks: int, *, counted: bool) -> tuple[Floats, Any]:
    """A group after so many of its values, as arrays."""
    values = group.differences if isinstance(group, Pairs) else group.values
    if values.size < _FEWEST + looks - 1:
        raise DataError(f"{values.size} values are too few for {looks} looks at how the evidence develops.")
    n = np.round(np.linspace(_FEWEST, values.size, looks)).astype(int)
    label = group.labels[0] if isinstance(group, Pairs) else group.label
    if counted:
        return n.astype(float), Counts(np.cumsum(values)[n - 1], n, label, metric=group.metric)
    away = values - values.mean()
    sums, squares = np.cumsum(away)[n - 1], np.cumsum(away**2)[n - 1]
    sd = np.sqrt(np.maximum(squares - sums**2 / n, 0.0) / (n - 1))
    return n.astype(float), Summary(n, values.mean() + sums / n, sd, label, metric=group.metric)


def _with_axis(group: Any, axis: Axis) -> Any:
    from amber_ruler.samples.held import changed

    return changed(group, axis=axis)
