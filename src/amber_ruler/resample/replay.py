"""Replaying: does the analysis hold its promises on one's own units, at one's own size?"""

from __future__ import annotations

import inspect
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy import special

from amber_ruler.errors import AmberRulerError, DataError, InputError
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import MARK
from amber_ruler.resample.drawing import Progress, blocks, seed_of
from amber_ruler.resample.units import VALUE, Units, read
from amber_ruler.results import Axis, Check, Result
from amber_ruler.samples import Counts, Records, Sample

USUAL = 2_000  # runs of an analysis that adds up; a tenth of it of one that is called each time
BINS = 20
_POWER = 0.8  # that the detectable effect has
_OF_MEANS = ("mean", "adjusted mean", "share", "adjusted share")  # whose intervals are of what is planted
_CLOSE = 1e-7  # within which both ways to an answer agree


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Replay(Result):
    """An analysis of units that were dealt out again and again, where there is no difference, and one that was planted.

    Attributes
    ----------
    metric : str
        What was compared.
    units : int
        How many were dealt out.
    share : float
        The share that was treated.
    runs : int
        How often.
    alpha : float
        Error rate of the analysis.
    mean : float
        Of the metric over all units.
    false_alarms, false_error : float
        Share of runs with p below alpha though there is no difference, and its Monte-Carlo error.
    coverage : float
        Share of intervals that hold the tested value then.
    uniform : float or None
        P of Kolmogorov's test that p is uniform; None where p takes few values.
    half_width : float
        Median half-width of the interval.
    detectable : float or None
        The difference that is found in 80 % of the runs, by their own estimates and errors.
    effect : float or None
        The difference that was planted.
    power, power_error, effect_coverage : float or None
        Share of runs that found it, its Monte-Carlo error, and share of intervals that hold it, of those of means.
    counts : tuple of int
        P-values in each twentieth.
    """

    metric: str
    units: int
    share: float
    runs: int
    alpha: float
    mean: float
    false_alarms: float
    false_error: float
    coverage: float
    uniform: float | None
    half_width: float
    detectable: float | None
    effect: float | None = None
    power: float | None = None
    power_error: float | None = None
    effect_coverage: float | None = None
    counts: tuple[int, ...] = ()

    @property
    def sound(self) -> str:
        """Whether the error rate is "kept", "exceeded" or "not used up", beyond two Monte-Carlo errors."""
        away = (self.false_alarms - self.alpha) / math.sqrt(self.alpha * (1 - self.alpha) / self.runs)
        return "exceeded" if away > 2 else "not used up" if away < -2 else "kept"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Replays(Result):
    """Several ways to analyse the same units, side by side.

    Attributes
    ----------
    labels : tuple of str
    results : tuple of Replay
    together, together_error : float or None
        Of an experiment: the share of runs in which any comparison claims a difference that is not there, by the
        correction or the looks, and its Monte-Carlo error.
    rule : str
        By which correction or looks.
    power : mapping of str to float
        The share of runs in which each comparison finds what was planted, by the same rule.
    """

    labels: tuple[str, ...]
    results: tuple[Replay, ...]
    together: float | None = None
    together_error: float | None = None
    rule: str = ""
    power: Mapping[str, float] = field(default_factory=dict)

    def __getitem__(self, label: str) -> Replay:
        """The replay of one label."""
        return dict(zip(self.labels, self.results, strict=True))[label]

    @property
    def sharpest(self) -> str | None:
        """The way that finds the smallest difference in 80 % of the runs, as a share of the mean; of the sound ones."""
        sized = {
            label: one.detectable / abs(one.mean)
            for label, one in zip(self.labels, self.results, strict=True)
            if one.detectable is not None and one.mean and one.sound != "exceeded"
        }
        return min(sized, key=lambda label: sized[label]) if sized else None


class Runs(NamedTuple):
    """What each run of an analysis gave."""

    p: Floats
    low: Floats
    high: Floats
    estimate: Floats
    se: Floats | None
    critical: Floats | None
    quantity: str
    null: float  # what says that there is no difference

    @classmethod
    def of(cls, result: Any, size: int) -> Runs:
        """From one answer to all runs along an axis, or to one run."""
        if result.p_value is None:
            raise InputError("This analysis has no p-value: there is no error rate to look at.")
        se, critical = (None if v is None else _wide(v, size) for v in (result.se, result.critical))
        p, low, high, estimate = (
            _wide(v, size) for v in (result.p_value, result.interval.low, result.interval.high, result.estimate)
        )
        return cls(p, low, high, estimate, se, critical, result.quantity, _null(result))

    @classmethod
    def together(cls, each: Sequence[Runs]) -> Runs:
        """Runs that were asked one by one."""
        p, low, high, estimate = (np.concatenate([getattr(one, name) for one in each]) for name in cls._fields[:4])
        se, critical = ([getattr(one, name) for one in each] for name in ("se", "critical"))
        known = not any(v is None for v in (*se, *critical))
        wide, beyond = (np.concatenate(v) if known else None for v in (se, critical))
        return cls(p, low, high, estimate, wide, beyond, each[0].quantity, each[0].null)


def replay(
    units: Any,
    analysis: Callable[..., Any],
    *,
    share: float = 0.5,
    runs: int | None = None,
    effect: float | None = None,
    lift: float | None = None,
    alpha: float = 0.05,
    workers: int | None = None,
    progress: Progress | None = None,
    metric: str | None = None,
    seed: int | np.random.Generator | None = None,
    **settings: Any,
) -> Replay:
    """Does this analysis keep its error rate on my own units, and what would it find?

    Parameters
    ----------
    units : array_like, Sample, Records, mapping or DataFrame
        Units of one's own, one a row, with no difference among them: a table from before the test, or one variant.
    analysis : callable
        What compares two variants, such as `measure.means` or `adjust.sharpen`: it gets treatment, control and the
        settings.
    share : float
        The share that is treated; each unit is dealt out by itself.
    runs : int, optional
        How often; 2,000 where sums are enough, else 200, unless given.
    effect, lift : float, optional
        A difference to plant in the treated: added to each value, or each value times 1 + lift (of 0 and 1 the share
        itself is raised). What is found of it is told too.
    alpha
        Error rate of the analysis.
    workers, progress, seed
        As for `bootstrap`.
    metric : str, optional
        What was compared, for the heading.
    **settings
        Of the analysis, such as `value`, `covariate` and `cap`.

    Returns
    -------
    Replay
        Realised error rate, coverage, power and detectable difference, each with its Monte-Carlo error.

    Raises
    ------
    DataError
        If a run leaves too few units to compare.
    InputError
        If the analysis has no p-value.

    Notes
    -----
    Where moments are enough for the analysis, each run is one product of a row of zeros and ones with the units' values
    and their products, and all runs are one call; a run is checked against the analysis of its rows. Else it is called
    each time. The detectable difference shifts each run's estimate until 80 % are beyond their critical values.

    Examples
    --------
    >>> import numpy as np
    >>> from amber_ruler import measure
    >>> fares = np.random.default_rng(1).gamma(0.5, 20, 4_000)
    >>> r = replay(fares, measure.means, runs=500, seed=1)
    >>> r.sound, r.runs
    ('kept', 500)
    """
    gate.between("share", share, 0, 1)
    gate.between("alpha", alpha, 0, 0.5)
    if effect is not None and lift is not None:
        raise InputError("effect and lift say the same thing in two units: give one of them.")
    if not callable(analysis):
        raise InputError.rule("analysis", analysis, "a function that compares two variants, such as measure.means")
    column = str(settings.get("value", VALUE))
    needed = [] if "value" not in settings else [column]
    held = read(units, "units", needed=needed)
    if needed and not _takes(analysis, "value"):  # it is of plain values
        held = read(Sample(held.numbers(column), metric=column), "units")
        del settings["value"]
        metric, column = metric or column, VALUE
    seeded = seed_of(seed)
    ask = partial(analysis, **{**settings, "alpha": alpha})
    planted = plant(held.numbers(column), effect, lift)
    # What was planted is capped too: then each run has a cap of its own.
    shared = None if planted.asked and settings.get("cap") is not None else _Sums.of(held, settings, column)
    count = USUAL if runs is None else int(gate.whole("runs", runs, 10))
    if shared is not None and not shared.agrees(ask, share, seeded):
        shared = None
    if shared is None and runs is None:
        count = USUAL // 10
    if shared is not None:
        found, with_effect = shared.runs(ask, share, count, seeded, planted, workers, progress)
    else:
        found, with_effect = _one_by_one(held, ask, share, count, seeded, planted, workers, progress)
    name = metric or (column if column != VALUE else str(getattr(units, "metric", "") or "value"))
    return told(
        name, _named(analysis), held.numbers(column), share, alpha, found,
        with_effect, planted, seeded,
    )  # fmt: skip


def _takes(analysis: Callable[..., Any], setting: str) -> bool:
    """Whether a function has a setting, or takes any."""
    known = inspect.signature(analysis).parameters.values()
    return any(p.name == setting or p.kind is inspect.Parameter.VAR_KEYWORD for p in known)


def _null(result: Any) -> float:
    return float(np.ravel(result.null)[0])


def _wide(value: Any, size: int) -> Floats:
    return np.broadcast_to(np.asarray(value, dtype=np.float64), (size,))


def _named(analysis: Any) -> str:
    """What a function is called, also inside a partial one."""
    name = str(getattr(getattr(analysis, "func", analysis), "__name__", "an analysis"))
    return "an analysis" if name.startswith("<") else name.replace("_", " ")


def told(
    metric: str,
    analysis: str,
    values: Floats,
    share: float,
    alpha: float,
    found: Runs,
    with_effect: Runs | None,
    planted: Planted,
    seed: int,
) -> Replay:
    """What all runs say together."""
    runs, n = len(found.p), len(values)
    false = float(np.mean(found.p < alpha))
    few = len(np.unique(np.round(found.p, 12))) < runs / 2
    uniform = None if few else _uniform(found.p)
    detectable = _detectable(found)
    power = None if with_effect is None else float(np.mean(with_effect.p < alpha))
    checks = []
    z = (false - alpha) / math.sqrt(alpha * (1 - alpha) / runs)
    if z > 2:
        finding = f"{100 * false:.3g}% of {runs:,} runs claim a difference that is not there, at alpha {100 * alpha:g}%"
        advice = "On these units this analysis claims too much: cap the metric, take ranks, or a larger sample."
        checks.append(Check("error rate", finding, advice, "serious" if z > 4 else "warning"))
    held = None
    if with_effect is not None and found.quantity in _OF_MEANS:
        held = (with_effect.low <= planted.shift) & (planted.shift <= with_effect.high)
    return Replay(
        title=f"{metric}: {analysis}, replayed",
        method=f"{runs:,} times {n:,} units dealt out again, {100 * share:g}% of them treated · alpha {alpha:g}",
        source="",
        metric=metric,
        units=n,
        share=share,
        runs=runs,
        alpha=alpha,
        mean=float(np.mean(values)),
        false_alarms=false,
        false_error=math.sqrt(max(false * (1 - false), 1 / runs) / runs),
        coverage=float(np.mean((found.low <= found.null) & (found.null <= found.high))),
        uniform=uniform,
        half_width=float(np.median((found.high - found.low) / 2)),
        detectable=detectable,
        effect=planted.shift if planted.asked else None,
        power=power,
        power_error=None if power is None else math.sqrt(max(power * (1 - power), 1 / runs) / runs),
        effect_coverage=None if held is None else float(np.mean(held)),
        counts=tuple(np.histogram(found.p, bins=BINS, range=(0, 1))[0].tolist()),
        checks=tuple(checks),
        seed=seed,
    )


def _uniform(p: Floats) -> float:
    """P of Kolmogorov's test against the uniform distribution."""
    ordered, n = np.sort(p), len(p)
    steps = np.arange(n + 1) / n
    gap = max(float(np.max(steps[1:] - ordered)), float(np.max(ordered - steps[:-1])))
    return float(special.kolmogorov(math.sqrt(n) * gap))


def _detectable(found: Runs) -> float | None:
    """The shift at which 80 % of the runs are beyond their critical values."""
    if found.se is None or found.critical is None or not np.all(found.se > 0) or not np.isfinite(found.estimate).all():
        return None
    reach = np.abs(found.critical) * found.se

    def power(shift: float) -> float:
        return float(np.mean(np.abs(found.estimate - found.null + shift) > reach))

    if not power(0.0) < 0.5:  # it claims differences that are not there: no size says anything
        return None
    low, high = 0.0, float(np.median(found.se))
    while power(high) < _POWER:
        low, high = high, 2 * high
    for _ in range(60):
        middle = (low + high) / 2
        low, high = (low, middle) if power(middle) >= _POWER else (middle, high)
    return high


class Planted(NamedTuple):
    """What the treated get: a shift, or a factor, or a share of zeros that become ones."""

    asked: bool
    shift: float  # the difference of means that it makes
    added: float = 0.0
    factor: float = 1.0
    raised: float = 0.0

    def on_moments(self, found: Moments) -> Moments:
        """Moments of the treated; a share of 0 and 1 as if its values were raised a little each."""
        means, tails, comoments = (np.array(getattr(found, name)) for name in ("means", "tails", "comoments"))
        added = self.raised * (1 - means[..., 0]) if self.raised else self.added
        means[..., 0], tails[..., 0] = means[..., 0] * self.factor + added, tails[..., 0] * self.factor
        comoments[..., 0, :] *= self.factor
        comoments[..., :, 0] *= self.factor
        return Moments(found.columns, found.n, means, comoments, found.label, 0, tails, found.axis)

    def on(self, values: Floats, rng: np.random.Generator) -> Floats:
        """Values of the treated."""
        if self.raised:
            return np.where((values == 0) & (rng.random(len(values)) < self.raised), 1.0, values)
        return values * self.factor + self.added


def plant(values: Floats, effect: float | None, lift: float | None) -> Planted:
    """What is asked to be planted in some values."""
    if effect is None and lift is None:
        return Planted(asked=False, shift=0.0)
    mean = float(values.mean())
    size = gate.single("effect", effect) if effect is not None else gate.single("lift", lift) * mean
    if np.all((values == 0) | (values == 1)):
        if size < 0 or mean + size > 1:
            raise InputError("The share of 0 and 1 can be raised up to 1: plant an effect or a lift above 0.")
        return Planted(asked=True, shift=size, raised=size / (1 - mean) if mean < 1 else 0.0)
    if effect is not None:
        return Planted(asked=True, shift=size, added=size)
    return Planted(asked=True, shift=size, factor=1 + float(lift or 0.0))


def _dealt(rng: np.random.Generator, n: int, share: float) -> NDArray[np.bool_]:
    """Who is treated, each unit by itself."""
    return rng.random(n, dtype=np.float32) < share


def _arms(held: Units, treated: NDArray[np.bool_], column: str, values: Floats) -> tuple[Any, Any]:
    """Both variants of a run, the metric's values being as they are after what was planted."""
    found: list[Any] = []
    for which, label in ((treated, "treatment"), (~treated, "control")):
        if which.sum() < 2:
            raise DataError(f"A run leaves {which.sum()} units in {label}: there are too few, or share is too uneven.")
        if held.form == "values":
            found.append(Sample(values[which], label))
        else:
            columns: Mapping[str, Any] = {**held.columns, column: values} if column in held.columns else held.columns
            found.append(Records({name: each[which] for name, each in columns.items()}, label))
    return found[0], found[1]


def _numbers_of(result: Any) -> tuple[float, ...]:
    """P, limits, estimate, error and critical value of one run."""
    if result.p_value is None:
        raise InputError("This analysis has no p-value: there is no error rate to look at.")
    each = (result.p_value, result.interval.low, result.interval.high, result.estimate, result.se, result.critical)
    return tuple(math.nan if v is None or np.ndim(v) else float(v) for v in each)


def _of_numbers(found: Floats, like: Any) -> Runs:
    p, low, high, estimate, se, critical = found.T
    known = np.isfinite(se).all() and np.isfinite(critical).all()
    return Runs(p, low, high, estimate, se if known else None, critical if known else None, like.quantity, _null(like))


def _one_by_one(
    held: Units,
    ask: Callable[..., Any],
    share: float,
    count: int,
    seed: int,
    planted: Planted,
    workers: int | None,
    progress: Progress | None,
) -> tuple[Runs, Runs | None]:
    """The analysis called for every run, and once more with what was planted."""
    column = str(ask.keywords.get("value", VALUE)) if isinstance(ask, partial) else VALUE
    values = held.numbers(column)

    def draw(rng: np.random.Generator, size: int) -> Floats:
        found = np.empty((size, 2, 6))
        for b in range(size):
            treated = _dealt(rng, len(values), share)
            found[b, 0] = _numbers_of(ask(*_arms(held, treated, column, values)))
            if planted.asked:
                raised = values.copy()
                raised[treated] = planted.on(values[treated], rng)
                found[b, 1] = _numbers_of(ask(*_arms(held, treated, column, raised)))
        return found

    first = ask(*_arms(held, _dealt(np.random.default_rng(seed), len(values), share), column, values))
    parts = list(blocks(draw, count, seed, workers=workers, processes=True, progress=progress))
    every = np.concatenate(parts)
    found = _of_numbers(every[:, 0], first)
    return found, _of_numbers(every[:, 1], first) if planted.asked else None


def with_products(values: Sequence[Floats], origin: Floats) -> Floats:
    """Rows of 1, values less an origin, and all their products, (n, 1 + k + k (k + 1) / 2): what is added up."""
    away = [v - o for v, o in zip(values, origin, strict=True)]
    products = [one * other for i, one in enumerate(away) for other in away[i:]]
    return np.column_stack([np.ones(len(away[0])), *away, *products])


def of_products(sums: Floats, columns: tuple[str, ...], origin: Floats, label: str, axis: Axis) -> Moments:
    """Moments along an axis, of the sums of such rows, (b, m)."""
    n, k = np.round(sums[:, 0]).astype(np.int64), len(columns)
    shift = sums[:, 1 : 1 + k] / n[:, None]
    comoments = np.zeros((len(n), k, k))
    place = 1 + k
    for i in range(k):
        for j in range(i, k):
            each = sums[:, place] - n * shift[:, i] * shift[:, j]
            comoments[:, i, j] = comoments[:, j, i] = np.maximum(each, 0) if i == j else each
            place += 1
    means = origin + shift
    return Moments(columns, n, means, comoments, label, 0, shift - (means - origin), axis)


@dataclass(frozen=True, slots=True, eq=False)
class _Sums:
    """Units as rows of values and their products, so that a run is a product of matrices."""

    held: Units
    columns: tuple[str, ...]  # of covariates with gaps also their marks
    features: Floats  # (n, 1 + k + k (k + 1) / 2)
    origin: Floats
    share: bool

    @classmethod
    def of(cls, held: Units, settings: Mapping[str, Any], column: str) -> _Sums | None:
        """None where the settings ask for more than moments hold."""
        if any(settings.get(name) for name in ("strata", "cluster", "cap_at", "known_on", "assigned_on")):
            return None
        covariate = settings.get("covariate", ())
        covariates = [covariate] if isinstance(covariate, str) else list(covariate)
        parts = [part.strip() for name in covariates for part in str(name).split(" per ")]
        named = [column, *([settings["per"]] if settings.get("per") else []), *parts]
        columns = tuple(dict.fromkeys(map(str, named)))
        if any(c not in held.columns or held.columns[c].dtype.kind not in "fiub" for c in columns):
            return None
        values = [held.numbers(c) for c in columns]
        if settings.get("cap") is not None:
            if settings.get("ends", "upper") != "upper":
                return None
            # All variants together have one quantile, whoever is treated.
            values[0] = np.minimum(values[0], np.quantile(values[0], float(settings["cap"])))
        holed = [c for c, v in zip(columns, values, strict=True) if np.isnan(v).any()]
        if set(holed) & set(map(str, named[: len(named) - len(parts)])) or (holed and len(parts) > len(covariates)):
            return None
        for k, name in enumerate(columns):
            lacks = np.isnan(values[k])
            if lacks.any():  # filled and marked, as the rows are
                values[k] = np.where(lacks, np.nanmean(values[k]), values[k])
                values.append(lacks.astype(np.float64))
                columns = (*columns, name + MARK)
        origin = np.array([v.mean() for v in values])
        k = len(columns)
        zero_one = bool(np.all((values[0] == 0) | (values[0] == 1)))
        return cls(held, columns, with_products(values, origin), origin, zero_one and k == 1)

    def moments(self, sums: Floats, label: str) -> Any:
        """Both kinds of what an analysis takes, of every run along an axis."""
        n = np.round(sums[:, 0]).astype(np.int64)
        if n.min() < 2:
            raise DataError(f"A run leaves {n.min()} units in {label}: there are too few, or share is too uneven.")
        axis = Axis("run", tuple(map(str, range(1, len(n) + 1))))
        if self.share:
            return Counts(np.round(sums[:, 1] + n * self.origin[0]), n.astype(float), label, axis=axis)
        return of_products(sums, self.columns, self.origin, label, axis)

    def agrees(self, ask: Callable[..., Any], share: float, seed: int) -> bool:
        """Whether the analysis says of a run's sums what it says of its rows."""
        rng = np.random.default_rng(seed)
        treated = np.array([_dealt(rng, len(self.held), share) for _ in range(2)])
        column = self.columns[0]
        direct = [_numbers_of(ask(*_arms(self.held, which, column, self.held.numbers(column)))) for which in treated]
        try:
            found = self._asked(ask, *self._both(treated.astype(np.float64)))
        except (AmberRulerError, TypeError, AttributeError):
            return False
        told = np.column_stack([found.p, found.low, found.high, found.estimate])
        return bool(np.allclose(told, np.array(direct)[:, :4], rtol=_CLOSE, atol=1e-300))

    def _both(self, treated: Floats) -> tuple[Any, Any]:
        sums = treated @ self.features
        return self.moments(sums, "treatment"), self.moments(self.features.sum(axis=0) - sums, "control")

    def _asked(self, ask: Callable[..., Any], one: Any, two: Any) -> Runs:
        if isinstance(ask, partial):  # the cap is in the values already
            ask = partial(ask.func, **{k: v for k, v in ask.keywords.items() if k not in ("cap", "ends")})
        return Runs.of(ask(one, two), len(np.atleast_1d(one.trials if isinstance(one, Counts) else one.n)))

    def runs(
        self,
        ask: Callable[..., Any],
        share: float,
        count: int,
        seed: int,
        planted: Planted,
        workers: int | None,
        progress: Progress | None,
    ) -> tuple[Runs, Runs | None]:
        """All runs in one call, and once more with what was planted."""
        n, step = len(self.held), max(1, min(32, (1 << 22) // len(self.held)))

        def draw(rng: np.random.Generator, size: int) -> Floats:
            parts = []
            for at in range(0, size, step):
                some = min(step, size - at)
                parts.append((rng.random((some, n), dtype=np.float32) < share).astype(np.float64) @ self.features)
            return np.concatenate(parts)

        sums = np.concatenate(list(blocks(draw, count, seed, workers=workers, progress=progress)))
        one = self.moments(sums, "treatment")
        two = self.moments(self.features.sum(axis=0) - sums, "control")
        found = self._asked(ask, one, two)
        if not planted.asked:
            return found, None
        return found, self._asked(ask, _raised(one, planted, np.random.default_rng(seed)), two)


def _raised(found: Any, what: Planted, rng: np.random.Generator) -> Any:
    """The treated of every run, after what was planted."""
    if not isinstance(found, Counts):
        return what.on_moments(found)
    had, trials = (np.asarray(n, dtype=np.float64) for n in (found.successes, found.trials))
    more = rng.binomial((trials - had).astype(np.int64), what.raised)
    return Counts(had + more, trials, found.label, axis=found.axis)


def side_by_side(found: Mapping[str, Replay], title: str) -> Replays:
    """Several ways to analyse, with the sharpest of them."""
    return Replays(
        title=title, method="each way by itself, of the same units", source="", labels=tuple(found),
        results=tuple(found.values()),
    )  # fmt: skip
