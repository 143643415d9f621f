"""Permutation tests: how far would the difference go if the variants had been dealt out otherwise?"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import combinations, islice, product
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy import special

from amber_ruler.effects import Alternative
from amber_ruler.effects import tails as tails_of
from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.resample.drawing import Progress, blocks, seed_of
from amber_ruler.resample.engines import few_kinds
from amber_ruler.resample.units import VALUE, Units, read
from amber_ruler.results import Check, Comparison, Draws, Estimate, Group, Interval, Test
from amber_ruler.samples import Pairs
from amber_ruler.samples.gate import check_labels

USUAL = 10_000  # assignments that are drawn
_ENUMERATED = 20_000  # assignments up to which all are taken unless a number is asked for
_ALL = 2_000_000  # that can be taken
_AT_ONCE = 1 << 22  # marks of units that are held
_TIED = 1e-12  # of the largest difference, within which two are tied

Statistic = Literal["mean", "studentised"]


@dataclass(frozen=True, slots=True)
class _Dealt:
    """Sums over the treated of every assignment, (m, k), the first being the one that was seen if all are there."""

    sums: Floats
    every: bool
    stopped: bool


def permutation(
    treatment: Any,
    control: Any = None,
    *,
    statistic: Statistic | Callable[..., Any] = "mean",
    value: str | None = None,
    cluster: str | None = None,
    strata: str | None = None,
    two_sided: Literal["distance", "doubled"] = "distance",
    replicates: int | Literal["all"] | None = None,
    workers: int | None = None,
    progress: Progress | None = None,
    alpha: float = 0.05,
    null: float = 0.0,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
    seed: int | np.random.Generator | None = None,
) -> Estimate | Comparison:
    """Is there a difference, by no more than how the units were dealt out?

    Parameters
    ----------
    treatment, control : array_like, Sample, Records, mapping or DataFrame
        The two samples, whose units are dealt out again. Pairs, or one sample alone, have the signs of their
        differences (or of their values less `null`) flipped.
    statistic : "mean", "studentised" or callable
        The difference of means; the same over its standard error with unequal variances, which also holds where
        spreads differ; or a function of treatment's and control's rows, 0 where there is no difference.
    value : str, optional
        The column, of rows with several.
    cluster, strata : str, optional
        Columns with units that were dealt out whole, and strata that they were dealt out within.
    two_sided : "distance" or "doubled"
        Whether as far from no difference, or twice the smaller tail; of a function always the latter.
    replicates : int or "all", optional
        How many assignments are drawn; all, if there are at most 2 million. Unless given all where these are at most
        20,000, else 10,000.
    workers, progress, seed
        As for `bootstrap`.
    alpha, null, alternative, margin, good, metric
        As for `measure.means`; `null` is a shift of all of treatment.

    Returns
    -------
    Estimate or Comparison
        The difference with its p and the interval of all shifts that are not rejected. A drawn p is (b + 1)/(m + 1),
        and in `facts` stand the limits of p (95 %, of b of m). A function of one's own has no interval but the side.

    Raises
    ------
    DataError
        If there are too few units, or a variant lacks a stratum.

    Notes
    -----
    The assignment that was seen counts among all, and ties count as being as far; differences are tied within 1e-12 of
    the largest. Under a shift of δ an assignment's difference D becomes D − c δ, where c is by how much more of the
    treated it has in treatment than in control: each has two shifts at which it is as far as what was seen, and the
    limits are order statistics of these. Of the studentised statistic they are found by bisection, with the same
    assignments.

    References
    ----------
    .. [1] Fisher (1935), The Design of Experiments, section 21.
    .. [2] Janssen (1997), Statistics & Probability Letters 36, 9-21, for the studentised one.
    .. [3] Phipson & Smyth (2010), Statistical Applications in Genetics and Molecular Biology 9, 39, for the drawn p.

    Examples
    --------
    >>> r = permutation([12.0, 15.5, 19.0, 11.0], [9.0, 8.5, 10.0])
    >>> round(r.p_value, 4), r.draws.way
    (0.0857, 'every assignment')
    """
    tails = tails_of(alpha, alternative)
    gate.choice("two_sided", two_sided, ("distance", "doubled"))
    at = gate.single("null", null)
    room = None if margin is None else float(gate.at_least("margin", margin, 0))
    own = callable(statistic)
    if not callable(statistic):
        gate.choice("statistic", statistic, ("mean", "studentised"))
    paired = control is None
    column = value or VALUE
    needed = [] if own else [column]
    one = read(treatment, "group" if paired else "treatment", needed=needed, cluster=cluster, strata=strata)
    arms: tuple[Units, ...] = (
        (one,) if paired else (one, read(control, "control", needed=needed, cluster=cluster, strata=strata))
    )
    if not paired:
        check_labels(arms[0].label, arms[1].label)
    if own and paired:
        raise InputError("A function is of two samples: one sample, or pairs, have the signs of 'mean' flipped.")
    if cluster is not None and statistic != "mean":
        raise InputError("Clusters are dealt out for 'mean' alone: leave cluster out, or take 'mean'.")
    seeded = seed_of(seed)
    pool = Pool.of(arms, column, own=own, paired=paired)
    dealt = deal(pool, statistic, replicates, seeded, workers, progress)
    found = _answer(pool, statistic, dealt, tails, at, alpha, alternative, "doubled" if own else two_sided)
    estimate, p, limits, opened, facts = found
    checks = []
    if dealt.stopped:
        finding = f"interrupted after {len(dealt.sums):,} assignments: these are the answer"
        checks.append(Check("interrupted", finding, "Ask again for all of them.", "warning"))
    p_error = None if dealt.every else float(np.sqrt(p * (1 - p) / len(dealt.sums)))
    way = "every assignment" if dealt.every else "assignments"
    if paired:
        way = way.replace("assignment", "set of signs") if dealt.every else "sets of signs"
    said = "difference of means" if statistic == "mean" else "studentised difference" if not own else "function"
    what = "signs flipped" if paired else "variants dealt out again"
    name = metric or (getattr(treatment, "metric", "") if not own else "") or (column if column != VALUE else "value")
    shown: dict[str, Any] = {
        "method": f"permutation, {said}, {what}" + (f" within {strata}" if strata else ""),
        "source": "Fisher (1935), The Design of Experiments" if statistic == "mean" else "Janssen (1997), SPL 36, 9-21",
        "metric": name,
        "estimate": estimate,
        "interval": Interval(float(limits[0]), float(limits[1]), 1 - alpha, *opened),
        "test": Test(p_value=p, alpha=alpha, null=at, alternative=alternative, p_error=p_error),
        "facts": facts,
        "good": good,
        "margin": room,
        "checks": tuple(checks),
        "quantity": "statistic" if own else "mean",
        "seed": None if dealt.every else seeded,
        "parts": (
            Draws(replicates=len(dealt.sums), error=p_error or 0.0, seed=None if dealt.every else seeded, way=way),
        ),
    }
    if paired and not isinstance(treatment, Pairs):
        group = _group(one, column, own=own)
        return Estimate(title=f"{name}: {said} of {one.label}", label=one.label, groups=(group,), **shown)
    if paired:
        sides = [_side(treatment, k) for k in (0, 1)]
        return Comparison(
            title=f"{name}: {treatment.labels[0]} − {treatment.labels[1]}", treatment=treatment.labels[0],
            control=treatment.labels[1], paired=True, groups=(*sides, _group(one, VALUE, own=False)), **shown,
        )  # fmt: skip
    groups = tuple(_group(arm, column, own=own) for arm in arms)
    labels = arms[0].label, arms[1].label
    return Comparison(
        title=f"{name}: {labels[0]} − {labels[1]}", treatment=labels[0], control=labels[1], groups=groups, **shown
    )


@dataclass(frozen=True, slots=True, eq=False)
class Pool:
    """All units, those of treatment first, with what is added up of each; and the strata that they are dealt within.

    The columns: rows; values, their squares; rows of those that were treated, and their values.
    """

    arms: tuple[Units, ...]
    totals: Floats
    strata: tuple[tuple[NDArray[np.intp], int], ...]  # places, and how many are treated
    treated: NDArray[np.bool_]
    middle: float
    paired: bool

    @classmethod
    def of(cls, arms: tuple[Units, ...], column: str, *, own: bool, paired: bool) -> Pool:
        """All units of one metric."""
        counts = [u.count for u in arms]
        treated = np.arange(sum(counts)) < counts[0]
        if paired:
            values = arms[0].numbers(column)
            rows = np.column_stack([np.ones(len(values)), values])
            totals = arms[0].totals(rows)
            return cls(arms, totals, ((np.arange(counts[0]), counts[0]),), treated, 0.0, paired=True)
        middle = 0.0
        features = [np.ones((len(u), 1)) for u in arms]
        if not own:
            middle = float(np.mean(np.concatenate([u.numbers(column) for u in arms])))
            features = []
            for u, mark in zip(arms, (1.0, 0.0), strict=True):
                x = u.numbers(column) - middle
                one = np.ones(len(x))
                features.append(np.column_stack([one, x, x * x, mark * one, mark * x]))
        totals = np.concatenate([u.totals(f) for u, f in zip(arms, features, strict=True)])
        return cls(arms, totals, cls.strata_of(arms, counts), treated, middle, paired=False)

    @staticmethod
    def strata_of(arms: tuple[Units, ...], counts: Sequence[int]) -> tuple[tuple[NDArray[np.intp], int], ...]:
        """The places of each stratum, and how many are treated there."""
        one, two = arms
        if len(one.strata) != len(two.strata):
            raise DataError("Both variants need units in every stratum: they have different ones.")
        found = []
        for a, b in zip(one.strata, two.strata, strict=True):
            if not len(a) or not len(b):
                raise DataError("Both variants need units in every stratum.")
            found.append((np.concatenate([a, b + counts[0]]), len(a)))
        return tuple(found)

    @property
    def ways(self) -> int:
        """How many assignments there are."""
        if self.paired:
            return 1 << len(self.totals)
        return math.prod(math.comb(len(at), n) for at, n in self.strata)


def deal(
    pool: Pool,
    statistic: Any,
    replicates: int | str | None,
    seed: int,
    workers: int | None,
    progress: Progress | None,
) -> _Dealt:
    """The sums of the treated under every assignment, or under as many as are drawn."""
    ways = pool.ways
    if ways < 2:
        raise DataError("There is a single way to deal the units out: nothing can be told from it.")
    if replicates == "all" and ways > _ALL:
        raise InputError(f"There are {ways:.3g} assignments: at most {_ALL:,} are all taken. Give a number.")
    own = callable(statistic)
    step = max(1, _AT_ONCE // len(pool.totals))

    def found_of(picked: Any) -> Floats:
        return _called(pool, statistic, picked) if own else picked.astype(np.float64) @ pool.totals

    if replicates == "all" or (replicates is None and ways <= _ENUMERATED):
        every = _every(pool)
        taken = iter(lambda: list(islice(every, step)), [])
        return _Dealt(np.concatenate([found_of(np.array(some)) for some in taken]), every=True, stopped=False)
    count = USUAL if replicates is None else int(gate.whole("replicates", replicates, 1))
    kinds = None if own or pool.paired else [few_kinds(pool.totals[at]) for at, _ in pool.strata]

    def draw(rng: np.random.Generator, size: int) -> Floats:
        if pool.paired:
            n = len(pool.totals)
            parts = (min(step, size - b) for b in range(0, size, step))
            return np.concatenate([found_of(rng.integers(0, 2, (some, n), dtype=np.int8)) for some in parts])
        if kinds is not None and all(k is not None for k in kinds):
            found = np.zeros((size, pool.totals.shape[1]))
            for (_, n), kind in zip(pool.strata, kinds, strict=True):
                assert kind is not None  # noqa: S101 - as just seen
                found += rng.multivariate_hypergeometric(kind[1], n, size, method="marginals") @ kind[0]
            return found
        drawn = []
        for first in range(0, size, step):
            picked = np.zeros((min(step, size - first), len(pool.totals)), dtype=np.bool_)
            for row in picked:
                for at, n in pool.strata:
                    row[at[rng.choice(len(at), n, replace=False, shuffle=False)]] = True
            drawn.append(found_of(picked))
        return np.concatenate(drawn)

    parts: list[Floats] = []
    stopped = False
    try:
        parts.extend(blocks(draw, count, seed, workers=workers, processes=own, progress=progress))
    except KeyboardInterrupt:
        if sum(map(len, parts)) < 100:
            raise
        stopped = True
    return _Dealt(np.concatenate(parts), every=False, stopped=stopped)


def _every(pool: Pool) -> Any:
    """Every assignment, as which units are treated; of one sample, whose signs stay."""
    n = len(pool.totals)
    if pool.paired:
        yield from product((True, False), repeat=n)
        return
    for chosen in product(*(combinations(range(len(at)), k) for at, k in pool.strata)):
        picked = np.zeros(n, dtype=np.bool_)
        for (at, _), places in zip(pool.strata, chosen, strict=True):
            picked[at[list(places)]] = True
        yield picked


def _called(pool: Pool, statistic: Callable[..., Any], picked: NDArray[np.bool_]) -> Floats:
    """A function of one's own, of the rows of every assignment."""
    found = np.empty((len(picked), 1))
    for k, which in enumerate(picked):
        value = statistic(_rows(pool, which), _rows(pool, ~which))
        number = np.asarray(value, dtype=np.float64)
        if number.ndim or not np.isfinite(number):
            raise DataError(f"The statistic of an assignment is {value!r}: a finite number is needed.")
        found[k] = number
    return found


def _rows(pool: Pool, which: NDArray[np.bool_]) -> Any:
    one, two = pool.arms
    split = one.count
    parts = [u.taken(u.rows_of(np.flatnonzero(w))) for u, w in ((one, which[:split]), (two, which[split:]))]
    if one.form == "values":
        return np.concatenate(parts)
    if one.form == "frame":
        from importlib import import_module

        return import_module("pandas").concat(parts, ignore_index=True)
    return {name: np.concatenate([part[name] for part in parts]) for name in parts[0]}


def _answer(
    pool: Pool,
    statistic: Any,
    dealt: _Dealt,
    tails: tuple[float, float],
    null: float,
    alpha: float,
    alternative: str,
    two_sided: str,
) -> tuple[float, float, tuple[float, float], tuple[bool, bool], dict[str, Any]]:
    """Estimate, p, limits and whether they are open, and further numbers."""
    m = len(dealt.sums)
    if callable(statistic):
        seen = float(_called(pool, statistic, pool.treated[None])[0, 0])
        d = dealt.sums[:, 0]
        near = _TIED * max(float(np.max(np.abs(d))), abs(seen))
        above, below = int(np.sum(d >= seen - near)), int(np.sum(d <= seen + near))
        p, facts = _p_of(above, below, m, alternative, every=dealt.every)
        rejects = p < alpha
        low, high = (null if rejects and seen > null else -math.inf), (null if rejects and seen <= null else math.inf)
        return seen, p, (low, high), (rejects and seen > null, rejects and seen <= null), facts
    if statistic == "studentised" and not pool.paired:
        return _studentised(pool, dealt, null, alpha, alternative, two_sided)
    d, c = _shifts(pool, dealt.sums)
    seen_d, _ = _shifts(pool, pool.totals[pool.treated].sum(axis=0)[None])
    seen = float(seen_d[0])
    largest = max(float(np.max(np.abs(d))), abs(seen), abs(null))
    d = np.where(np.abs(d - seen) <= _TIED * largest, seen, d)
    with np.errstate(divide="ignore", invalid="ignore"):
        one, two = (seen - d) / (1 - c), (seen + d) / (1 + c)
    # An assignment like the one seen (or its mirror) is as far under every shift.
    same, mirrored = c >= 1 - 1e-12, c <= -1 + 1e-12
    one, two = (np.where(np.abs(e - null) <= 1e-11 * largest, null, e) for e in (one, two))
    if alternative == "two-sided" and two_sided == "distance":
        always = same | mirrored
        start = np.where(always, -np.inf, np.minimum(one, two))
        end = np.where(always, np.inf, np.maximum(one, two))
        inside = int(np.sum((start <= null) & (null <= end)))
        need = _needed(alpha, m, every=dealt.every)
        limits = _order(start, need), -_order(-end, need)
        p, facts = _p_of(inside, inside, m, "greater", every=dealt.every)
        return seen, p, limits, (False, False), facts
    start = np.where(same, -np.inf, one)  # at least as large from there on
    end = np.where(same, np.inf, one)  # at most as large up to there
    above, below = int(np.sum(start <= null)), int(np.sum(end >= null))
    p, facts = _p_of(above, below, m, alternative, every=dealt.every)
    low = _order(start, _needed(tails[0], m, every=dealt.every)) if tails[0] > 0 else -math.inf
    high = -_order(-end, _needed(tails[1], m, every=dealt.every)) if tails[1] > 0 else math.inf
    return seen, p, (low, high), (False, False), facts


def _shifts(pool: Pool, sums: Floats) -> tuple[Floats, Floats]:
    """Differences of means, and by how much more of the treated each has in treatment than in control."""
    whole = pool.totals.sum(axis=0)
    if pool.paired:
        return (2 * sums[:, 1] - whole[1]) / whole[0], (2 * sums[:, 0] - whole[0]) / whole[0]
    rest = whole - sums
    d = sums[:, 1] / sums[:, 0] - rest[:, 1] / rest[:, 0]
    return d, sums[:, 3] / sums[:, 0] - rest[:, 3] / rest[:, 0]


def _p_of(above: int, below: int, m: int, alternative: str, *, every: bool) -> tuple[float, dict[str, Any]]:
    """P of both tails, and its limits where it was drawn."""
    more = 0 if every else 1
    tail = {"greater": above, "less": below}.get(alternative, min(above, below))
    p = (tail + more) / (m + more)
    twice = 2 if alternative == "two-sided" else 1
    facts: dict[str, Any] = {"assignments": float(m)}
    if not every:
        low = float(special.betaincinv(tail, m - tail + 1, 0.025)) if tail else 0.0
        high = float(special.betaincinv(tail + 1, m - tail, 0.975)) if tail < m else 1.0
        facts |= {"p at least": min(1.0, twice * low), "p at most": min(1.0, twice * high)}
    return min(1.0, twice * p), facts


def _needed(alpha: float, m: int, *, every: bool) -> int:
    """How many of m assignments make a p of at least alpha."""
    more = 0 if every else 1
    return math.ceil(alpha * (m + more) - 1e-9) - more


def _order(ends: Floats, k: int) -> float:
    """The k-th smallest; below all where none is needed."""
    if k <= 0:
        return -math.inf
    return float(np.partition(ends, k - 1)[k - 1]) if k <= len(ends) else math.inf


def _studentised(
    pool: Pool, dealt: _Dealt, null: float, alpha: float, alternative: str, two_sided: str
) -> tuple[float, float, tuple[float, float], tuple[bool, bool], dict[str, Any]]:
    whole = pool.totals.sum(axis=0)
    seen = pool.totals[pool.treated].sum(axis=0)[None]
    if min(seen[0, 0], whole[0] - seen[0, 0]) < 2:
        raise DataError("A studentised difference needs two units of each variant.")

    def t(sums: Floats, shift: float) -> Floats:
        parts = []
        for s in (sums, whole - sums):
            n, x = s[:, 0], s[:, 1] - shift * s[:, 3]
            squares = s[:, 2] - 2 * shift * s[:, 4] + shift**2 * s[:, 3]
            parts.append((x / n, np.maximum(squares - x * x / n, 0) / (n - 1) / n))
        (m1, v1), (m0, v0) = parts
        spread = np.sqrt(v1 + v0)
        gap = m1 - m0
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(spread > 1e-12 * np.sqrt(whole[2] / whole[0]), gap / spread, np.sign(gap) * np.inf)

    def told(shift: float) -> tuple[float, dict[str, Any]]:
        drawn, one = t(dealt.sums, shift), float(t(seen, shift)[0])
        near = _TIED * 100 * max(1.0, abs(one)) if math.isfinite(one) else 0.0
        if alternative == "two-sided" and two_sided == "distance":
            far = int(np.sum(np.abs(drawn) >= abs(one) - near))
            return _p_of(far, far, len(drawn), "greater", every=dealt.every)
        above, below = int(np.sum(drawn >= one - near)), int(np.sum(drawn <= one + near))
        return _p_of(above, below, len(drawn), alternative, every=dealt.every)

    gap = float(_shifts(pool, seen)[0][0])
    spread = abs(gap / float(t(seen, 0.0)[0])) if math.isfinite(float(t(seen, 0.0)[0])) and gap else 1.0
    p, facts = told(null)
    ends = []
    for sign, wanted in ((-1, alternative != "less"), (1, alternative != "greater")):
        ends.append(sign * math.inf if not wanted else _edge(lambda s: told(s)[0] >= alpha, gap, sign * spread))
    low, high = ends
    opened = [False, False]
    if p < alpha and low <= null <= high:  # bisection ends at the tested value
        low, high, opened = (null, high, [True, False]) if gap > null else (low, null, [False, True])
    return gap, p, (low, high), (opened[0], opened[1]), facts


def _edge(holds: Callable[[float], bool], inside: float, step: float) -> float:
    """The last shift from one that holds, in a direction, that still holds."""
    out = inside + step
    for _ in range(60):
        if not holds(out):
            break
        inside, out, step = out, out + 2 * step, 2 * step
    else:
        return math.copysign(math.inf, step)
    for _ in range(60):
        middle = (inside + out) / 2
        inside, out = (middle, out) if holds(middle) else (inside, middle)
    return inside


def _group(u: Units, column: str, *, own: bool) -> Group:
    if own:
        return Group(u.label, len(u), math.nan)
    values = u.numbers(column)
    sd = float(values.std(ddof=1)) if len(values) > 1 else 0.0
    return Group(u.label, len(values), float(values.mean()), sd, sd / len(values) ** 0.5)


def _side(pairs: Pairs, k: int) -> Group:
    values = np.asarray((pairs.treatment, pairs.control)[k])
    sd = float(values.std(ddof=1)) if len(values) > 1 else 0.0
    return Group(pairs.labels[k], len(values), float(values.mean()), sd, sd / len(values) ** 0.5)
