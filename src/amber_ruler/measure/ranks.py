"""Differences that rest on order alone: two samples, and the signed ranks of pairs or of one sample."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any, Literal, NamedTuple, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric import ranks as order
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, EffectSize, Estimate, Group, Test
from amber_ruler.samples import Pairs, ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import WithMargin

_MOST_EXACT = 2_500  # pairs of values, or of ranks, whose orders are counted one by one
_SOURCE = "Mann & Whitney (1947), Annals of Mathematical Statistics 18, 50-60; Hodges & Lehmann (1963)"
_SIGNED_SOURCE = "Wilcoxon (1945), Biometrics Bulletin 1, 80-83; Hodges & Lehmann (1963)"


class _Law(NamedTuple):
    """How a sum of ranks is distributed when nothing differs."""

    mean: float
    sd: float
    chances: Floats | None  # of 0, 1, 2, ... steps, where it is exact
    step: float = 1.0

    def below(self, value: float) -> float:
        """Chance of at most a value."""
        if self.chances is not None:
            return float(min(self.chances[: math.floor(value / self.step) + 1].sum(), 1.0)) if value >= 0 else 0.0
        return float(normal.cdf((value - self.mean + 0.5) / self.sd))

    def above(self, value: float) -> float:
        """Chance of at least a value; without ties the law is symmetric."""
        if self.chances is not None and self.step != 1:
            return float(min(self.chances[max(math.ceil(value / self.step), 0) :].sum(), 1.0))
        return self.below(2 * self.mean - value)

    def p(self, value: float, alternative: str) -> float:
        """P-value of a sum."""
        under, over = self.below(value), self.above(value)
        if alternative != "two-sided":
            return over if alternative == "greater" else under
        return min(1.0, 2 * min(under, over))

    def outside(self, tail: float) -> int:
        """The most that can lie below a limit so that the chance of so few is less than the tail; -1 for none."""
        if self.chances is not None:
            most = int(np.searchsorted(np.cumsum(self.chances), tail, side="left")) - 1
            return math.floor(most * self.step)
        return math.ceil(self.mean - 0.5 + self.sd * float(normal.quantile(tail))) - 1


@method(
    takes="two",
    examples=("travellers.csv --value minutes_to_book --by form --control current --good lower",),
    single=True,
)
def ranks(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    test: Literal["exact", "asymptotic"] | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """Are the values of treatment shifted against those of control, and how often is one above the other?

    Parameters
    ----------
    treatment, control : array_like or Sample
        The values of the two groups.
    test : "exact" or "asymptotic", optional
        If not given, exact for small samples without ties. Exact with ties it counts all ways to deal out the ranks
        as they are tied (n1 n0 up to 2,500); the smaller tail is doubled.
    null : float
        Tested shift, in the metric's unit.

    Returns
    -------
    Comparison
        The shift (the median of all differences between a value of treatment and one of control) with its interval;
        the test; in `effects` the superiority: the chance that a unit of treatment has more than one of control, ties
        half, with its interval, and the same as Cliff's delta, the chance to have more less the chance to have less.

    Raises
    ------
    DataError
        If all values are equal.

    Notes
    -----
    Small samples without ties (n1 n0 up to 2,500) are tested exactly, and with ties where that is asked; others by the
    normal approximation with the correction for ties and for continuity. The limits of the shift are those differences
    at which that test turns (with ties, the test of the shift tested). The
    superiority's interval is on the logit scale, with the spread of the placements.

    References
    ----------
    .. [1] Mann & Whitney (1947), Annals of Mathematical Statistics 18, 50-60.
    .. [2] Hodges & Lehmann (1963), Annals of Mathematical Statistics 34, 598-611.
    .. [3] DeLong, DeLong & Clarke-Pearson (1988), Biometrics 44, 837-845, for the spread of placements.

    Examples
    --------
    >>> r = ranks([3.1, 4.4, 5.2, 6.0, 7.3], [1.2, 2.5, 2.9, 3.6, 4.1])
    >>> round(r.estimate, 2), r.effects["superiority"].value, round(r.p_value, 4)
    (2.3, 0.92, 0.0317)
    """
    ask = shared.question(asked)
    one, two = groups.two(treatment, control, "values")
    at = float(gate.finite("null", ask.null))
    x, y = order.ordered(one.values), order.ordered(two.values)
    n1, n0 = len(one), len(two)
    pairs_in_all = n1 * n0
    kind = _exactness(test, pairs_in_all, f"{pairs_in_all:,} pairs of values")

    def at_shift(shift: float) -> tuple[order.Wins, _Law]:
        found = order.wins(x if shift == 0 else x._replace(at=x.at - shift), y)
        n = n1 + n0
        if kind != "asymptotic" and found.ties == 0 and pairs_in_all <= _MOST_EXACT:
            return found, _Law(pairs_in_all / 2, 0.0, order.exact_chances(n1, n0))
        if kind == "exact":
            sizes = order.ordered(np.concatenate([one.values - shift, two.values])).times
            return found, _Law(pairs_in_all / 2, 0.0, order.tied_chances(sizes.astype(int).tolist(), n1), 0.5)
        variance = pairs_in_all / 12 * (n + 1 - found.ties / (n * (n - 1)))
        if variance <= 0:
            raise DataError(f"All {n:,} values are equal: there is no order to compare.")
        return found, _Law(pairs_in_all / 2, math.sqrt(variance), None)

    found, law = at_shift(at)
    p = law.p(found.above, ask.alternative)
    low_at, high_at = (law.outside(t) if t > 0 else -1 for t in ask.tail)
    estimate, low, high = _places(pairs_in_all, low_at, high_at, lambda sought: order.ordered_differences(x, y, sought))

    def one_sided(shift: Floats, direction: str) -> Floats:
        moved, its = at_shift(float(shift))
        return np.asarray(its.p(moved.above, direction))

    plain = found if at == 0 else at_shift(0.0)[0]
    superiority, notes = _superiority(ask, plain, x, y)
    return Comparison(
        **shared.between(ask, one, two, ask.metric, "value", said=", by ranks"),
        method=f"rank test of two samples, {'exact' if law.chances is not None else 'normal approximation'}",
        source=_SOURCE,
        estimate=estimate,
        interval=shared.agreeing(ask, *map(np.asarray, (low, high, p, at, found.above - law.mean + at))),
        test=_record(ask, law, found.above, "U", p, at, one_sided),
        effects={"superiority": superiority, "cliff_delta": as_difference(superiority)},
        groups=(quartered(one.label, x), quartered(two.label, y)),
        facts={"U": found.above},
        quantity="rank",
        checks=(*_tied(found.ties, n1 + n0), *checks.missing(one, two)),
        notes=notes,
    )


@method(
    takes="pairs",
    examples=("turnarounds.csv --value minutes --by when --unit vessel --control before --good lower",),
    single=True,
)
def signed_ranks(
    both: Pairs | ValueGroup,
    *,
    test: Literal["exact", "asymptotic"] | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison | Estimate:
    """Do the differences of pairs (or the values of one sample) lie to one side, and where is their middle?

    Parameters
    ----------
    both : Pairs, array_like or Sample
        Pairs of values of each unit; or one sample, whose middle is then estimated.
    test : "exact" or "asymptotic", optional
        If not given, exact for up to 50 values without ties. Exact with ties it counts all signs of the mean ranks.
    null : float
        Tested difference (or middle), in the metric's unit.

    Returns
    -------
    Comparison or Estimate
        The median of all means of two differences with its interval, and the test. In `effects` the rank-biserial
        correlation of matched pairs: the sum of the ranks above the null less that below, over both.

    Raises
    ------
    DataError
        If all differences equal the null.

    Notes
    -----
    Differences equal to the null are left out of the test and counted. Up to 50 others without ties are tested exactly,
    more by the normal approximation with the corrections for ties and for continuity. The rank-biserial correlation is
    2 W / (n (n + 1) / 2) - 1; its interval is that of Fisher's z, whose standard error without any difference,
    sqrt((4 n + 2) / (3 n (n + 1))), is taken over to the scale of z: an approximation for n of 10 or more.

    References
    ----------
    .. [1] Wilcoxon (1945), Biometrics Bulletin 1, 80-83.
    .. [2] Hodges & Lehmann (1963), Annals of Mathematical Statistics 34, 598-611.
    .. [3] Kerby (2014), Comprehensive Psychology 3, 11.IT.3.1, for the rank-biserial correlation.

    Examples
    --------
    >>> from amber_ruler import Pairs
    >>> r = signed_ranks(Pairs([39.0, 41.5, 40.2, 38.0, 37.1], [42.0, 44.1, 43.5, 40.0, 36.9], ("after", "before")))
    >>> round(r.estimate, 3), r.p_value
    (-2.5, 0.125)
    """
    ask = shared.question(asked)
    at = float(gate.finite("null", ask.null))
    if isinstance(both, Pairs):
        values, label, missing = both.differences, "differences", checks.without_pair(both.left_out)
        counted = label
    else:
        one = groups.one(both, "values")
        values, label, missing = one.values, one.label, checks.missing(one)
        counted = f"values of {label}"

    kind = _exactness(test, values.size**2, f"{values.size:,} values")

    def at_shift(middle: float) -> tuple[float, _Law, float]:
        all_of_them = f"All {values.size:,} {counted} equal {middle:g}"
        return _signed_sum(values - middle, f"{all_of_them}: there is nothing to rank.", kind)

    positive, law, ties = at_shift(at)
    p = law.p(positive, ask.alternative)
    ordered = order.ordered(values)
    estimate, low, high = _walsh(values.size, ordered, law, ask.tail)

    def one_sided(shift: Floats, direction: str) -> Floats:
        moved, its, _ = at_shift(float(shift))
        return np.asarray(its.p(moved, direction))

    name = ask.metric or getattr(both, "metric", "") or "value"
    fields: dict[str, Any] = {
        "method": f"signed ranks, {'exact' if law.chances is not None else 'normal approximation'}",
        "source": _SIGNED_SOURCE,
        "metric": name,
        "estimate": estimate,
        "interval": shared.agreeing(ask, *map(np.asarray, (low, high, p, at, positive - law.mean + at))),
        "test": _record(ask, law, positive, "W", p, at, one_sided),
        "facts": {"W": positive},
        "effects": {"rank_biserial": _rank_biserial(ask, positive, law.mean)},
        "quantity": "rank",
        "margin": ask.margin,
        "good": ask.good,
        "checks": (*_tied(ties, values.size), *missing),
        "notes": _unranked(values, at, counted),
    }
    return of_middle(both, fields, label, ordered, ("middle", "signed ranks"))


def of_middle(
    both: Pairs | ValueGroup, fields: dict[str, Any], label: str, ordered: order.Values, said: tuple[str, str]
) -> Comparison | Estimate:
    """What is told of the middle of differences of pairs, or of one sample: what it is, and by what."""
    name, (middle, by) = fields["metric"], said
    if not isinstance(both, Pairs):
        return Estimate(
            title=f"{name}: {middle} of {label}", label=label, groups=(quartered(label, ordered),), **fields
        )
    one, two = both.labels
    sides = ((one, order.ordered(both.treatment)), (two, order.ordered(both.control)), ("difference", ordered))
    return Comparison(
        title=f"{name}: {one} − {two}, by {by} of pairs",
        treatment=one,
        control=two,
        paired=True,
        groups=tuple(quartered(side, placed) for side, placed in sides),
        **fields,
    )


def _exactness(test: str | None, size: float, said: str) -> str | None:
    """What is asked of the test's law; an exact one of too many is refused."""
    if test is not None:
        gate.choice("test", test, ("exact", "asymptotic"))
    if test == "exact" and size > _MOST_EXACT:
        raise InputError(f"{said} are too many for the exact test: take test='asymptotic', which is as good there.")
    return test


def _rank_biserial(ask: shared.Question, positive: float, mean: float) -> EffectSize:
    """The ranks above less those below, over both."""
    value, n = positive / mean - 1, (math.sqrt(1 + 16 * mean) - 1) / 2
    below, above = effects.critical_z(ask.tail)
    se = math.sqrt((4 * n + 2) / (3 * n * (n + 1)))
    # Where all ranks are on one side, the inner limit is that of half a rank on the other.
    inner = math.copysign(min(abs(value), 1 - 0.5 / mean), value)
    low, high = (math.tanh(math.atanh(inner) + side * c * se) for side, c in ((-1, below), (1, above)))
    low, high = (-1.0 if value == -1 else low), (1.0 if value == 1 else high)
    return EffectSize(value, ask.interval(low, high), "rank-biserial", aside=True)


def _unranked(values: Floats, at: float, counted: str) -> tuple[str, ...]:
    """Say how many values the test leaves out."""
    left = int(np.sum(values == at))
    return (f"{left:,} {counted} equal {at:g} and are left out of the test.",) if left else ()


def _signed_sum(away: Floats, nothing: str, kind: str | None) -> tuple[float, _Law, float]:
    """The sum of the positive ranks, its law when nothing differs, and what ties take from its variance."""
    away = away[away != 0]
    if away.size == 0:
        raise DataError(nothing)
    placed, sizes = order.mean_ranks(np.abs(away))
    positive = float(placed[away > 0].sum())
    n, ties = away.size, float(np.sum(sizes.times**3 - sizes.times))
    if kind != "asymptotic" and ties == 0 and n <= math.isqrt(_MOST_EXACT):
        return positive, _Law(n * (n + 1) / 4, 0.0, order.exact_signed_chances(n)), ties
    if kind == "exact":
        return positive, _Law(n * (n + 1) / 4, 0.0, order.tied_signed_chances(placed), 0.5), ties
    return positive, _Law(n * (n + 1) / 4, math.sqrt(n * (n + 1) * (2 * n + 1) / 24 - ties / 48), None), ties


def _record(
    ask: shared.Question,
    law: _Law,
    value: float,
    name: str,
    p: float,
    null: float,
    one_sided: Callable[[Floats, str], Floats],
) -> Test:
    """The test's record: the sum itself where it is exact, its z where it is approximated."""
    against = shared.margin_tests(ask, one_sided, np.asarray(null))
    if law.chances is not None:
        return ask.test(p, null, statistic=value, name=name, margin_tests=against)
    return ask.test(p, null, statistic=_z(value, law), name="z", margin_tests=against)


def _places(
    total: int, low_at: int, high_at: int, ordered: Callable[[list[int]], list[tuple[float, float]]]
) -> tuple[float, float, float]:
    """The median of so many ordered values, and those that leave out as many below and above as the limits say."""
    middle, *ends = ordered([(total + 1) // 2, max(low_at + 1, 1), min(total - high_at, total)])
    estimate = middle[0] if total % 2 else (middle[0] + middle[1]) / 2
    return estimate, ends[0][0] if low_at >= 0 else -math.inf, ends[1][0] if high_at >= 0 else math.inf


def _walsh(n: int, ordered: order.Values, law: _Law, tail: tuple[float, float]) -> tuple[float, ...]:
    """The median of all means of two of the values, and its limits."""
    low_at, high_at = (law.outside(t) if t > 0 else -1 for t in tail)
    sums = n * (n + 1) // 2
    return tuple(p / 2 for p in _places(sums, low_at, high_at, lambda sought: order.ordered_sums(ordered, sought)))


def _z(value: float, law: _Law) -> float:
    away = value - law.mean
    return math.copysign(max(abs(away) - 0.5, 0.0), away) / law.sd


def _superiority(
    ask: shared.Question, found: order.Wins, x: order.Values, y: order.Values
) -> tuple[EffectSize, tuple[str, ...]]:
    share, tail = found.above / (x.total * y.total), ask.tail
    spread = sum(
        float(side.times @ (placed - mean) ** 2) / max(side.total - 1, 1) / side.total
        for side, placed, mean in ((x, found.of_x, share), (y, found.of_y, share))
    )
    notes: tuple[str, ...] = ()
    if share in (0.0, 1.0) or spread == 0:
        fewest = min(x.total, y.total)
        # As if every unit of the smaller group had won against its own opponent.
        low = tail[0] ** (1 / fewest) if share == 1 else 0.0
        high = 1 - tail[1] ** (1 / fewest) if share == 0 and tail[1] > 0 else 1.0
        if share in (0.0, 1.0):
            notes = ("The groups don't overlap: the interval of the superiority counts the smaller group's units.",)
    else:
        logit = math.log(share / (1 - share))
        reach = math.sqrt(spread) / (share * (1 - share))
        below, above = effects.critical_z(tail)
        low, high = (
            1 / (1 + math.exp(-end)) if math.isfinite(end) else float(end > 0)
            for end in (logit - below * reach, logit + above * reach)
        )
    return EffectSize(share, ask.interval(low, high), "superiority", "share"), notes


def as_difference(superiority: EffectSize) -> EffectSize:
    """The chance to have more less the chance to have less, of a superiority with its limits: Cliff's delta.

    References
    ----------
    .. [1] Cliff (1993), Psychological Bulletin 114, 494-509. Without ties it is also the rank-biserial correlation.
    """
    limits = superiority.interval
    apart = replace(limits, low=2 * limits.low - 1, high=2 * limits.high - 1)
    return EffectSize(2 * superiority.value - 1, apart, "Cliff δ", aside=True)


def _tied(ties: float, n: int) -> tuple[Check, ...]:
    lost = ties / (n**3 - n) if n > 1 else 0.0
    if lost < 0.1:
        return ()
    finding = f"ties take {100 * lost:.3g}% from the variance of the ranks"
    advice = "The shift moves in steps, and may be 0 though the groups differ: read the superiority."
    return (Check("ties", finding, advice, "note"),)


def quartered(label: str, values: order.Values) -> Group:
    """A group by its median and quartiles."""
    return Group(
        label,
        int(values.total),
        values.quantile(0.5),
        more={"25%": values.quantile(0.25), "75%": values.quantile(0.75)},
    )
