"""The bootstrap: how a statistic would vary if the units were drawn again."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, Literal, NamedTuple

import numpy as np

from amber_ruler.effects import Alternative
from amber_ruler.effects import tails as tails_of
from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.resample import intervals
from amber_ruler.resample.asking import called, engine_of, groups_of, read_both
from amber_ruler.resample.drawing import Progress, blocks, seed_of
from amber_ruler.resample.engines import ByCalls, BySums, Engine, enumerable
from amber_ruler.resample.intervals import Drawn, Kind
from amber_ruler.resample.statistics import Name, Statistic
from amber_ruler.resample.units import Units, one_way
from amber_ruler.results import Axis, Check, Comparison, Draws, Estimate, Interval

USUAL = 2_000  # resamples
_ENUMERATED = 20_000  # different resamples up to which all are taken unless a number is asked for
_MOST = 200_000  # resamples that are drawn for a tolerance
_LOST = 0.05  # share of resamples without a value from which on there is no answer
_FEW = 100  # resamples below which an interval says little
_QUANTILES = (0.01, 0.025, 0.05, 0.25, 0.5, 0.75, 0.95, 0.975, 0.99)


class _Resampled(NamedTuple):
    values: Floats
    errors: Floats | None
    chances: Floats | None  # where every resample was enumerated
    failed: int
    why: str
    asked: int
    stopped: bool


def bootstrap(
    treatment: Any,
    control: Any = None,
    *,
    statistic: Name | Callable[..., Any] = "mean",
    value: str | None = None,
    per: str | None = None,
    covariate: str | Sequence[str] = (),
    at: float = 0.5,
    takes: Literal["rows", "weights"] = "rows",
    names: Sequence[str] = (),
    cluster: str | None = None,
    strata: str | None = None,
    interval: Kind = "bca",
    weights: Literal["resampled", "poisson"] = "resampled",
    replicates: int | Literal["all"] | None = None,
    tolerance: float | None = None,
    workers: int | None = None,
    progress: Progress | None = None,
    alpha: float = 0.05,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    metric: str | None = None,
    seed: int | np.random.Generator | None = None,
) -> Estimate | Comparison:
    """How far would any statistic vary, and where does it lie, for which there is no formula?

    Parameters
    ----------
    treatment : array_like, Sample, Pairs, Records, mapping or DataFrame
        The one sample, or the treatment's. Of pairs the statistic sees "treatment", "control" and their difference
        "value", and units are drawn whole.
    control : the same, optional
        The control's; both are then resampled by themselves.
    statistic : str or callable
        "mean" (of two samples the difference), "lift", "ratio" (value per per), "ratio lift", "quantile" (at),
        "regression" (coefficients of value on covariates), "adjusted" and "adjusted lift" (the difference at equal
        covariates, pooled slopes), "split" (the share of value that makes it and `per` vary least together). Or a
        function of the resampled rows, of treatment and control where there are two: an array, columns by name, or a
        frame, as they were given. It returns a number, an array of one length, or numbers by name.
    value, per, covariate, at
        Columns of the built-in statistics, and which quantile.
    takes : "rows" or "weights"
        Whether a function is called with resampled rows, or with the rows as they are and how often each was drawn.
    names : sequence of str
        What the numbers of an array are called.
    cluster, strata : str, optional
        Columns with units that are drawn whole, and strata that are drawn within, each with its own number of units.
    interval : "bca", "percentile", "basic", "normal" or "studentised"
        Which interval; "normal" is ± z standard errors, "studentised" is for statistics with a formula for theirs.
    weights : "resampled" or "poisson"
        Exact resamples, or a weight for each unit instead that is 0, 1, 2, … with mean and variance 1 (Poisson's to 16
        bits, for means, lifts, ratios and regressions): faster, and the number of units varies.
    replicates : int or "all", optional
        How many resamples; all, where each stratum has at most 7 units. Unless given all where these are at most
        20,000, else 2,000.
    tolerance : float, optional
        Instead: draw until the Monte-Carlo error of both ends is below this share of the interval's width, at most
        200,000.
    workers : int, optional
        Threads, or processes for a function of one's own; as many as there are cores unless given. The answer does not
        depend on it.
    progress : callable, optional
        Told how many resamples are done, of how many.
    alpha, alternative, margin, good, metric
        As for `measure.means`.
    seed : int or Generator, optional
        What replays the draws; one is made and kept in the result unless given.

    Returns
    -------
    Estimate or Comparison
        The statistic, its bootstrap standard error and interval, without a test. In `facts` the bias, the Monte-Carlo
        errors of the ends and, of BCa, z0 and the acceleration; in `draws` how it was drawn.

    Raises
    ------
    DataError
        If the statistic has no value for more than 5 % of the resamples, or units are too few for the interval.
    InputError
        If a statistic lacks its columns, changes its length, or gives two answers for the same rows.

    Notes
    -----
    The quantile of the draws at p is the smallest value with at least p at or below it; ties with the estimate count
    half in z0; the acceleration takes d = (n − 1)/n (mean of the leave-one-outs − leave-one-out) within each sample and
    stratum, of a function of one's own with more than 500 units of as many groups. The standard error has B − 1 below,
    of all resamples none less. Interrupted, what is done so far is the answer, and says so.

    Statistics of sums draw sums: where rows are of at most 128 kinds, such as 0 and 1, counts of each kind. Quantiles
    draw the order statistics of uniform places. Neither approximates anything.

    References
    ----------
    .. [1] Efron & Tibshirani (1993), An Introduction to the Bootstrap.
    .. [2] Davison & Hinkley (1997), Bootstrap Methods and their Application.

    Examples
    --------
    >>> fares = [12.0, 0.0, 9.5, 31.0, 22.5, 14.0, 8.0, 40.0]
    >>> r = bootstrap(fares, statistic=lambda x: x.max() - x.min(), interval="percentile", seed=1)
    >>> r.estimate, r.interval.high
    (40.0, 40.0)
    """
    tails = tails_of(alpha, alternative)
    gate.choice("interval", interval, intervals.SOURCES)
    gate.choice("takes", takes, ("rows", "weights"))
    gate.choice("weights", weights, ("resampled", "poisson"))
    room = None if margin is None else float(gate.at_least("margin", margin, 0))
    gate.choice("good", good, ("higher", "lower"))
    asked, units = read_both(
        treatment, control, statistic, value=value, per=per, covariate=covariate, at=at, cluster=cluster, strata=strata
    )
    for u in units:
        one_way(u, 2)
    engine = engine_of(asked, units, takes, tuple(names), weights, studentised=interval == "studentised")
    seeded = seed_of(seed)
    theta = engine.observed()
    drawn = _resample(engine, units, replicates, tolerance, interval, tails, seeded, workers, progress)
    checks = list(_checks(drawn))
    ok = np.all(np.isfinite(drawn.values), axis=1)
    lost = int(len(ok) - ok.sum())
    if lost > _LOST * len(ok) or ok.sum() < 2:
        why = f" {drawn.why}" if drawn.why else ""
        raise DataError(f"The statistic has no value for {lost:,} of {len(ok):,} resamples.{why}")
    if lost:
        finding = f"{lost:,} of {len(ok):,} resamples have no value and are left out"
        checks.append(Check("resamples", finding + (f": {drawn.why}" if drawn.why else ""), "", "warning"))
    values = drawn.values[ok]
    chances = None if drawn.chances is None else drawn.chances[ok] / drawn.chances[ok].sum()
    se, mean = _spread(values, chances)
    limits, facts = _interval(interval, engine, theta, values, chances, drawn.errors, ok, se, tails, checks)
    facts |= {"bias": mean - theta}
    shape = () if not engine.names and len(theta) == 1 else theta.shape
    axis = Axis("number", engine.names or tuple(str(k + 1) for k in range(len(theta)))) if shape else None
    own = not isinstance(asked, Statistic)
    title = called(statistic) if own else str(asked.title)
    name = metric or ("" if own or asked.needed[0] == "value" else asked.needed[0]) or title
    shown = {
        "title": f"{name}: {title}" if title != name else title,
        "method": f"bootstrap, {interval.replace('bca', 'BCa')} interval, {_way(drawn, weights)}",
        "source": intervals.SOURCES[interval],
        "metric": name,
        "estimate": _as(theta, shape),
        "se": _as(se, shape),
        "interval": Interval(_as(limits[0], shape), _as(limits[1], shape), 1 - alpha),
        "facts": {key: _as(np.asarray(v, dtype=float) * np.ones(len(theta)), shape) for key, v in facts.items()},
        "quantity": "statistic" if own else asked.quantity,
        "good": good,
        "margin": room,
        "axis": axis,
        "checks": tuple(checks),
        "seed": None if drawn.chances is not None else seeded,
        "groups": groups_of(asked, units),
        "parts": (_draws(values, chances, se, seeded, weights, lost),),
    }
    if control is None:
        return Estimate(label=units[0].label, **shown)
    return Comparison(treatment=units[0].label, control=units[1].label, **shown)


def _resample(
    engine: Engine,
    units: tuple[Units, ...],
    replicates: int | str | None,
    tolerance: float | None,
    interval: str,
    tails: tuple[float, float],
    seed: int,
    workers: int | None,
    progress: Progress | None,
) -> _Resampled:
    """All resamples, or as many as are asked for."""
    if replicates is not None and tolerance is not None:
        raise InputError("replicates and tolerance both say when to stop: give one of them.")
    every = enumerable(units)
    poisson = isinstance(engine, BySums) and engine.weights == "poisson"
    whole = replicates == "all"
    if whole and every is None:
        raise InputError("replicates='all' is for strata of at most 7 units.")
    usual = replicates is None and tolerance is None and every is not None and every <= _ENUMERATED
    if (whole or usual) and not poisson and interval != "studentised":
        parts = list(engine.every())
        values = np.concatenate([v for v, _ in parts])
        return _Resampled(values, None, np.concatenate([c for _, c in parts]), 0, "", len(values), stopped=False)
    if whole:
        raise InputError("Every resample is taken as it is: leave weights='poisson' and interval='studentised' out.")
    asked = USUAL if replicates is None else int(gate.whole("replicates", replicates, 2))
    if isinstance(engine, ByCalls):
        engine.spot_check(seed)
    if tolerance is None:
        return _drawn(engine, asked, seed, 0, workers, progress)
    gate.between("tolerance", tolerance, 0, 1)
    found, first = _drawn(engine, asked, seed, 0, workers, progress), -(-asked // 32)
    while len(found.values) < _MOST and not found.stopped and _error_share(found.values, tails) > tolerance:
        more = _drawn(engine, len(found.values), seed, first, workers, progress)
        first += -(-len(found.values) // 32)
        errors = None if found.errors is None or more.errors is None else np.concatenate([found.errors, more.errors])
        found = _Resampled(
            np.concatenate([found.values, more.values]), errors, None, found.failed + more.failed,
            found.why or more.why, found.asked + more.asked, more.stopped,
        )  # fmt: skip
    return found


def _drawn(
    engine: Engine, count: int, seed: int, first: int, workers: int | None, progress: Progress | None
) -> _Resampled:
    values, errors, failed, why, stopped = [], [], 0, "", False
    own = isinstance(engine, ByCalls)
    workers = 1 if workers is None and not own and (not isinstance(engine, BySums) or engine.quick) else workers
    try:
        for v, e, f, said in blocks(
            engine.draw, count, seed, first=first, workers=workers, processes=own, progress=progress
        ):
            values.append(v)
            errors.append(e)
            failed, why = failed + f, why or said
    except KeyboardInterrupt:
        if sum(map(len, values)) < _FEW:
            raise
        stopped = True
    known = None if errors[0] is None else np.concatenate([e for e in errors if e is not None])
    return _Resampled(np.concatenate(values), known, None, failed, why, count, stopped)


def _error_share(values: Floats, tails: tuple[float, float]) -> float:
    """Monte-Carlo error of the ends, as a share of what is between them."""
    kept = values[np.all(np.isfinite(values), axis=1)]
    drawn, count = Drawn.of(kept), len(kept)
    ends = [p for p in (tails[0], 1 - tails[1]) if 0 < p < 1]
    at = [np.full(kept.shape[1], p) for p in ends]
    width = drawn.quantile(np.full(kept.shape[1], 0.975)) - drawn.quantile(np.full(kept.shape[1], 0.025))
    worst = np.max([intervals.ends_error(drawn, p, count) for p in at], axis=0)
    return float(np.max(np.where(width > 0, worst / np.where(width > 0, width, 1), 0.0)))


def _spread(values: Floats, chances: Floats | None) -> tuple[Floats, Floats]:
    if chances is None:
        return values.std(axis=0, ddof=1), values.mean(axis=0)
    mean = chances @ values
    return np.sqrt(chances @ (values - mean) ** 2), mean


def _spread_error(values: Floats, se: Floats) -> Floats:
    """Monte-Carlo standard error of the standard error, by the fourth moment of the draws."""
    away = values - values.mean(axis=0)
    fourth, square = np.mean(away**4, axis=0), np.mean(away**2, axis=0)
    steep = np.where(square > 0, fourth / np.where(square > 0, square, 1.0) ** 2, 1.0)
    return np.asarray(se * np.sqrt(np.maximum(steep - 1, 0) / (4 * len(values))))


def _interval(
    kind: str,
    engine: Engine,
    theta: Floats,
    values: Floats,
    chances: Floats | None,
    errors: Floats | None,
    ok: Any,
    se: Floats,
    tails: tuple[float, float],
    checks: list[Check],
) -> tuple[tuple[Floats, Floats], dict[str, Any]]:
    """Both limits, and what they were found by."""
    k = len(theta)
    low_p, high_p = np.full(k, tails[0]), np.full(k, 1 - tails[1])
    open_low, open_high = tails[0] == 0, tails[1] == 0
    facts: dict[str, Any] = {}
    drawn = Drawn.of(values, chances)
    count = len(values)
    if kind == "normal":
        z_low, z_high = normal.upper_quantile(max(tails[0], 1e-300)), normal.upper_quantile(max(tails[1], 1e-300))
        low, high = theta - z_low * se, theta + z_high * se
    elif kind == "studentised":
        assert isinstance(engine, BySums)  # noqa: S101 - as checked
        assert errors is not None  # noqa: S101
        own, each = engine.observed_error(), errors[ok]
        sound = (each[:, 0] > 0) & np.isfinite(each[:, 0])
        flat = int(len(sound) - sound.sum())
        if flat:
            finding = f"{flat:,} of {len(sound):,} resamples have no spread, and no studentised estimate"
            checks.append(Check("resamples without spread", finding, "", "note"))
        if sound.sum() < 2:
            raise DataError("Hardly a resample has any spread: take another interval than 'studentised'.")
        t = Drawn.of((values[sound] - theta) / each[sound])
        low = theta - own * t.quantile(1 - np.full(k, tails[0]))
        high = theta - own * t.quantile(np.full(k, tails[1]))
        drawn, count = Drawn(own * t.values, t.below), len(t.values)
        facts["formula error"] = own
    else:
        if kind == "bca":
            a = intervals.acceleration(engine.without_one())
            (low_p, high_p), z0 = intervals.levels(drawn, theta, a, tails)
            facts |= {"z0": z0, "acceleration": a}
        if kind == "basic":
            low = 2 * theta - drawn.quantile(1 - np.full(k, tails[0]))
            high = 2 * theta - drawn.quantile(np.full(k, tails[1]))
        else:
            low, high = drawn.quantile(low_p), drawn.quantile(high_p)
    if chances is None:
        if kind in ("basic", "studentised"):  # whose lower end hangs on the upper draws
            low_p, high_p = 1 - np.full(k, tails[0]), np.full(k, tails[1])
        if kind == "normal":
            off = _spread_error(values, se)
            errors_of_ends = z_low * off, z_high * off
        else:
            errors_of_ends = intervals.ends_error(drawn, low_p, count), intervals.ends_error(drawn, high_p, count)
        facts["error of the lower end"] = 0.0 if open_low else errors_of_ends[0]
        facts["error of the upper end"] = 0.0 if open_high else errors_of_ends[1]
    endless = np.full(k, np.inf)
    return (-endless if open_low else low, endless if open_high else high), facts


def _checks(drawn: _Resampled) -> list[Check]:
    found = []
    if drawn.stopped:
        finding = f"interrupted after {len(drawn.values):,} of {drawn.asked:,} resamples: these are the answer"
        found.append(Check("interrupted", finding, "Ask again for all of them.", "warning"))
    if drawn.chances is None and len(drawn.values) < _FEW:
        finding = f"{len(drawn.values):,} resamples tell little of the ends of an interval"
        found.append(Check("few resamples", finding, "Take 2,000 or more.", "warning"))
    return found


def _way(drawn: _Resampled, weights: str) -> str:
    if drawn.chances is not None:
        return f"all {len(drawn.values):,} resamples"
    return f"{len(drawn.values):,} {'resamples' if weights == 'resampled' else 'draws of Poisson weights'}"


def _draws(values: Floats, chances: Floats | None, se: Floats, seed: int, weights: str, lost: int) -> Draws:
    if chances is not None:
        return Draws(replicates=len(values), error=0.0, way="every resample", left_out=lost)
    error = float(np.max(_spread_error(values, se)))
    quantiles = Drawn.of(values[:, :1]) if values.shape[1] == 1 else None
    told = None if quantiles is None else np.array([quantiles.quantile(np.array([p]))[0] for p in _QUANTILES])
    way = "resamples" if weights == "resampled" else "draws of Poisson weights"
    return Draws(replicates=len(values), error=error, seed=seed, quantiles=told, way=way, left_out=lost)


def _as(values: Floats, shape: tuple[int, ...]) -> Any:
    return scalar_or_array(np.asarray(values).reshape(shape)) if shape else float(np.ravel(values)[0])
