"""Which variant to choose, and whether more data would pay for themselves."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from scipy import special

from amber_ruler.bayes.priors import Beta
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Comparison, Family, Result

__all__ = ["Decision", "decide"]

_SOURCE = "Raiffa & Schlaifer (1961), Applied Statistical Decision Theory, chapter 5"
_MOST_COUNTED = 20_000  # further units in each group for which counts are summed up one by one
_SIZES = np.unique(np.round(np.geomspace(1, 1e8, 97)))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Decision(Result):
    """The choice with the least expected loss, and what more data would be worth.

    Values and losses are per unit that the decision holds for, in the metric's unit; times `horizon` where they are
    worth something in all.

    Attributes
    ----------
    metric : str
        What was measured.
    chosen : str
        The variant with the least expected loss.
    losses : mapping of str to float
        What choosing each would cost per unit, on average.
    horizon : float
        Units that the decision will hold for.
    cost : float
        Cost of one more unit of data, in the metric's unit.
    perfect_information : float
        What knowing the truth would be worth per unit: the loss of the best choice.
    sizes, sample_values, net_values : ndarray
        Further units in each group; what so many would be worth per unit; and in all, less what they cost.
    best_n : int
        Further units in each group that pay best; 0 where none do.
    stops_paying_at : int or None
        Further units in each group from which on they cost more than they are worth; 0 where none pay, None where all
        that were looked at do.
    percent : bool
        Whether losses are shares.
    """

    metric: str
    chosen: str
    losses: dict[str, float]
    horizon: float
    cost: float
    perfect_information: float
    sizes: Floats
    sample_values: Floats
    net_values: Floats
    best_n: int
    stops_paying_at: int | None
    percent: bool = False


def decide(
    result: Comparison | Family,
    *,
    horizon: float = 1.0,
    cost: float = 0.0,
    loss: Literal["linear"] | Callable[[Floats], Floats] = "linear",
) -> Decision:
    """Which variant to choose now, and how many more units would be worth their cost?

    Parameters
    ----------
    result : Comparison or Family
        Of `bayes.means` under the reference prior, `bayes.proportions`, `bayes.rates`, `bayes.best_proportion` or
        `bayes.best_rate`.
    horizon : float above 0
        Units that the decision will hold for, such as the travellers of a year: what is lost, and what more data are
        worth, counts for each of them.
    cost : float, at least 0
        Cost of one more unit of data, in the metric's unit (of shares: in successes).
    loss : "linear", or callable
        What a choice costs whose difference from the best is d: d itself, or a rising function of differences that is 0
        at 0. With a function the value of more data is not computed.

    Returns
    -------
    Decision

    Raises
    ------
    InputError
        If the result was not weighed in such a way, or a number is out of its range.

    Notes
    -----
    More data are worth the mean of the best choice after them, less that of the best choice now [1]_. Of two shares the
    sum runs over all counts that may be seen, with equally many further units in both groups, and from 20,000 on their
    means are taken to be normal; of two means the posteriors are, with the spread that was seen.

    References
    ----------
    .. [1] Raiffa & Schlaifer (1961), Applied Statistical Decision Theory, chapter 5.

    Examples
    --------
    >>> from amber_ruler import Counts, bayes
    >>> r = bayes.proportions(Counts(60, 400, "short"), Counts(52, 400, "current"))
    >>> d = decide(r, horizon=100_000, cost=0.05)
    >>> d.chosen, d.best_n > 0
    ('short', True)
    """
    horizon = float(gate.positive("horizon", gate.single("horizon", horizon)))
    cost = float(gate.at_least("cost", gate.single("cost", cost), 0))
    losses, metric, percent = _losses(result, loss)
    chosen = min(losses, key=lambda label: losses[label])
    values = None
    if loss == "linear" and isinstance(result, Comparison):
        values = _values(result)
    sizes, worth = (np.array([]), np.array([])) if values is None else values
    net = horizon * worth - cost * 2 * sizes
    best = int(np.argmax(net)) if net.size else 0
    pays = bool(net.size and net[best] > 0)
    stops: int | None = 0
    if pays:
        after = np.flatnonzero((net <= 0) & (sizes > sizes[best]))
        stops = int(sizes[after[0]]) if after.size else None
    notes = []
    if values is None:
        notes.append("The value of more data is told of two variants with a linear loss, of shares or means.")
    elif stops is None:
        notes.append("As far as was looked, up to 100 million units in each group, more data go on to pay.")
    return Decision(
        title=f"{metric}: which to choose",
        method=f"least expected loss, for {horizon:,.6g} units",
        source=_SOURCE,
        metric=metric,
        chosen=chosen,
        losses=losses,
        horizon=horizon,
        cost=cost,
        perfect_information=losses[chosen],
        sizes=sizes,
        sample_values=worth,
        net_values=net,
        best_n=int(sizes[best]) if pays else 0,
        stops_paying_at=stops if values is not None else None,
        percent=percent,
        notes=tuple(notes),
    )


def _losses(result: Any, loss: Any) -> tuple[dict[str, float], str, bool]:
    """Expected loss of each choice."""
    if isinstance(result, Family):
        each = {label: r.evidence for label, r in zip(result.labels, result.results, strict=True)}
        if any(e is None or e.chance_best is None for e in each.values()):
            raise InputError("A family is decided where its variants were weighed: bayes.best_proportion, best_rate.")
        if loss != "linear":
            raise InputError("A loss of one's own is for two variants.")
        first = result.results[0]
        return {k: float(e.expected_loss) for k, e in each.items()}, first.metric, first.percent  # type: ignore[union-attr, arg-type]
    evidence = result.evidence if isinstance(result, Comparison) else None
    if evidence is None:
        raise InputError(f"A decision needs a comparison weighed by bayes, or a family; got {type(result).__name__}.")
    if np.ndim(result.estimate):
        raise InputError("One comparison is decided at a time: this one is an array.")
    if evidence.expected_loss is None or evidence.control_loss is None:
        raise InputError("This posterior has no mean, and so no expected loss.")
    if loss == "linear":
        found = float(evidence.expected_loss), float(evidence.control_loss)
    else:
        found = _own_losses(result, loss)
    return dict(zip((result.treatment, result.control), found, strict=True)), result.metric, result.percent


def _own_losses(result: Comparison, loss: Any) -> tuple[float, float]:
    """Mean of a loss of one's own, over quantiles of the posterior."""
    if not callable(loss):
        raise InputError.rule("loss", loss, '"linear" or a function of differences')
    curves = None if result.evidence is None else result.evidence.curves
    if curves is None:
        raise InputError("This result was read back, and holds no data: weigh anew to decide with a loss of one's own.")
    nodes, weights = np.polynomial.legendre.leggauss(64)
    below = tuple((nodes + 1) / 2)
    differences = curves.quantiles(below)[0]
    side = 1.0 if result.good == "higher" else -1.0
    found = []
    for way in (-side, side):  # what treatment costs where it is worse, and control where treatment is better
        cost = np.asarray(loss(np.maximum(way * differences, 0.0)), dtype=float)
        if cost.shape != differences.shape or np.any(cost < 0) or not np.all(np.isfinite(cost)):
            raise InputError("The loss is a function of an array of differences that is never below 0.")
        found.append(float(cost @ weights / 2))
    return found[0], found[1]


def _values(result: Comparison) -> tuple[Floats, Floats] | None:
    """Further units in each group, and what so many are worth for each unit that the decision holds for."""
    if result.asked is None:
        raise InputError("This result was read back, and holds no data: weigh anew to learn what more would be worth.")
    evidence, difference = result.evidence, next(iter(result.evidence.posterior.values()))  # type: ignore[union-attr]
    if evidence is None or difference.mean is None or difference.sd is None or result.scale != "difference":
        return None
    mean, sd = float(difference.mean), float(difference.sd)
    side = 1.0 if result.good == "higher" else -1.0
    if result.quantity == "share":
        return _SIZES, np.array([_value_of_counts(result, int(m), side) for m in _SIZES])
    if result.quantity == "mean" and not result.paired and len(result.groups) == 2:
        noise = sum(float(g.sd) ** 2 for g in result.groups)
        return _SIZES, _value_of_normal(side * mean, sd, noise / _SIZES)
    return None


def _value_of_normal(mean: float, sd: float, noise: Floats) -> Floats:
    """Of an estimate with such variances, where the difference is normal."""
    spread = sd * sd / np.sqrt(sd * sd + noise)  # of the posterior mean, before the estimate is seen
    z = abs(mean) / spread
    density = np.exp(-0.5 * z * z) / np.sqrt(2 * np.pi)
    return np.asarray(np.maximum(spread * density - abs(mean) * special.ndtr(-z), 0.0))


def _value_of_counts(result: Comparison, m: int, side: float) -> float:
    """Of m further trials in each group: sums over all that may be seen."""
    asked = result.asked
    prior = asked.settings.get("prior", Beta())
    other = asked.settings.get("control_prior") or prior
    shares = []
    for group, belief in zip(result.groups, (prior, other), strict=True):
        x, n = float(group.n) * float(group.mean), float(group.n)
        shares.append((belief.successes + x, belief.failures + n - x))
    means = [a / (a + b) for a, b in shares]
    if m > _MOST_COUNTED:
        mean = side * (means[0] - means[1])
        spread = np.sqrt(
            sum(p * (1 - p) / (a + b + 1) * m / (a + b + m) for p, (a, b) in zip(means, shares, strict=True))
        )
        z = abs(mean) / spread
        return float(max(spread * np.exp(-0.5 * z * z) / np.sqrt(2 * np.pi) - abs(mean) * special.ndtr(-z), 0.0))
    k = np.arange(m + 1.0)
    after, chance = [], []
    for a, b in shares:
        after.append((a + k) / (a + b + m))
        # Each count's chance over that of the one before keeps its digits whatever a and b are.
        steps = np.log((m - k[:-1]) / k[1:]) + np.log((a + k[:-1]) / (b + m - k[1:]))
        log = np.concatenate([[0.0], np.cumsum(steps)])
        likely = np.exp(log - log.max())
        chance.append(likely / likely.sum())
    # The mean gain of changing the choice: how far the other one's mean comes to lie above that of today's best.
    best = 0 if side * (means[0] - means[1]) >= 0 else 1
    own, rest = (side * after[best], chance[best]), (side * after[1 - best], chance[1 - best])
    return max(_mean_excess(rest, own), 0.0)


def _mean_excess(one: tuple[Floats, Floats], two: tuple[Floats, Floats]) -> float:
    """Mean of how far the first lies above the second, 0 where it lies below: of independent lists of values."""
    order = np.argsort(two[0])
    values, chances = two[0][order], two[1][order]
    below, weighed = (np.concatenate([[0.0], np.cumsum(v)]) for v in (chances, chances * values))
    k = np.searchsorted(values, one[0])
    return float(one[1] @ (one[0] * below[k] - weighed[k]))
