"""An experiment replayed: its own units reassigned at random, again and again, and analysed as it says."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler import adjust, measure
from amber_ruler.errors import InputError
from amber_ruler.experiment.resolve import Request, Resolved, no_effect
from amber_ruler.moments import Moments
from amber_ruler.multiplicity import p_values
from amber_ruler.numeric import normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import MARK
from amber_ruler.resample import Replays
from amber_ruler.resample.drawing import Progress, blocks, seed_of
from amber_ruler.resample.replay import Planted, Runs, of_products, plant, told, with_products
from amber_ruler.results import Axis
from amber_ruler.sequential import boundaries
from amber_ruler.tables import Table, profile, reduce
from amber_ruler.tables.pairing import floats

USUAL, WITH_STRATA = 2_000, 300  # runs


@dataclass(frozen=True, slots=True, eq=False)
class _Asked:
    """One primary metric: its units' values, and how two variants are compared."""

    request: Request
    columns: tuple[str, ...]
    values: tuple[Floats, ...]  # without gaps; the metric's first
    origin: Floats  # near the means
    known: NDArray[np.bool_]  # units that have the metric
    compare: Callable[..., Any]
    together: bool  # whether the other variants are asked too
    planted: Planted

    @property
    def name(self) -> str:
        """What the metric is called."""
        return self.request.name

    def features(self, seen: NDArray[np.bool_]) -> Floats:
        """Rows of 1, values and their products, of units that count by then."""
        rows = with_products(self.values, self.origin)
        rows[~(self.known & seen)] = 0.0
        return rows

    def moments(self, sums: Floats, label: str, axis: Axis) -> Moments:
        """Of sums along an axis, (b, m)."""
        n = round(float(sums[:, 0].min()))
        if n < 2:
            raise InputError(f"A run leaves {n} units of {self.name} in {label!r}: there are too few to replay.")
        return of_products(sums, self.columns, self.origin, label, axis)


def replay(
    table: Table,
    asked: Resolved,
    days: Sequence[str],
    *,
    runs: int | None,
    lift: float | None,
    seed: int | np.random.Generator | None,
    workers: int | None,
    progress: Progress | None,
) -> Replays:
    """See `Experiment.replay`."""
    primary = [_asked(table, one, lift) for one in asked.named("primary").values()]
    labels, cumulated = _split(table, asked)
    size = len(primary[0].known)
    strata = _codes(table, asked.strata, size)
    ends = _ends(table, asked, days, size)
    seeded = seed_of(seed)
    count = runs or (USUAL if strata is None else WITH_STRATA)
    levels = 1 if strata is None else int(strata.max()) + 1
    features = np.concatenate([one.features(seen) for one in primary for seen in ends], axis=1)
    step = max(1, (1 << 22) // size)

    def draw(rng: np.random.Generator, wanted: int) -> Floats:
        """Sums of every variant and stratum: (runs, variants, strata, features)."""
        found = np.zeros((wanted, len(labels), levels, features.shape[1]))
        for at in range(0, wanted, step):
            codes = np.searchsorted(cumulated, rng.random((min(step, wanted - at), size)), side="right")
            for variant in range(len(labels)):
                for level in range(levels):
                    mine = codes == variant if strata is None else (codes == variant) & (strata == level)
                    found[at : at + len(codes), variant, level] = mine.astype(np.float64) @ features
        return found

    sums = np.concatenate(list(blocks(draw, count, seeded, workers=workers, progress=progress)))
    return _told(asked, primary, labels, sums, len(ends), seeded, share=float(np.diff([0, *cumulated, 1])[1]))


def _told(
    asked: Resolved,
    primary: Sequence[_Asked],
    labels: Sequence[str],
    sums: Floats,
    looks: int,
    seed: int,
    *,
    share: float,
) -> Replays:
    """Every comparison by itself, and what the whole rule claims."""
    found: dict[str, Runs] = {}
    planted: dict[str, Runs] = {}
    whole: list[list[Runs]] = []
    raised: list[list[Runs]] = []
    about: dict[str, _Asked] = {}
    at = 0
    for one in primary:
        width = 1 + len(one.values) + len(one.values) * (len(one.values) + 1) // 2
        parts = [sums[..., at + k * width : at + (k + 1) * width] for k in range(looks)]
        at += looks * width
        for t, label in enumerate(labels[1:], start=1):
            name = one.name if len(labels) == 2 else f"{one.name}, {label}"
            whole.append([_runs(one, part, t, asked, Planted(asked=False, shift=0.0)) for part in parts])
            found[name], about[name] = whole[-1][-1], one
            if one.planted.asked:
                raised.append([_runs(one, part, t, asked, one.planted) for part in parts])
                planted[name] = raised[-1][-1]
    claimed = _claims(asked, primary, whole, len(labels) - 1)
    power = _claims(asked, primary, raised, len(labels) - 1) if raised else None
    results = tuple(
        told(
            name, "as planned", one.values[0][one.known], share, one.request.alpha, found[name],
            planted.get(name), one.planted, seed,
        )
        for name, one in about.items()
    )  # fmt: skip
    false = float(np.mean(claimed.any(axis=1)))
    runs = len(claimed)
    return Replays(
        title=f"{asked.title}, replayed",
        method=f"all units reassigned {runs:,} times by the planned split, and analysed as the file says",
        source="",
        labels=tuple(found),
        results=results,
        together=false,
        together_error=math.sqrt(max(false * (1 - false), 1 / runs) / runs),
        rule=_rule(asked, len(found)),
        power={} if power is None else {name: float(np.mean(power[:, k])) for k, name in enumerate(found)},
        seed=seed,
        notes=tuple(_notes(asked)),
    )


def _rule(asked: Resolved, size: int) -> str:
    if asked.looks:
        spent = f"{len(asked.looks)} looks, {asked.spending}"
        return (
            f"{spent}, alpha split over {size} comparisons" if size > 1 and asked.correction == "bonferroni" else spent
        )
    return "one comparison" if size == 1 else f"{size} comparisons, {asked.correction}"


def _runs(one: _Asked, part: Floats, treated: int, asked: Resolved, what: Planted) -> Runs:
    """One comparison of all runs: in one call, or, in strata, one by one."""
    settings = {"alpha": one.request.alpha}
    runs, variants, levels, _ = part.shape
    if levels == 1:
        axis = Axis("run", tuple(map(str, range(1, runs + 1))))
        arms = [one.moments(part[:, v, 0], f"v{v}", axis) for v in range(variants)]
        arms[treated] = what.on_moments(arms[treated])
        others = {"others": tuple(a for v, a in enumerate(arms) if v not in (0, treated))} if one.together else {}
        return Runs.of(one.compare(arms[treated], arms[0], **settings, **others), runs)
    axis = Axis(str(asked.strata), tuple(map(str, range(levels))))
    each = []
    for run in range(runs):
        arms = [one.moments(part[run, v], f"v{v}", axis) for v in range(variants)]
        arms[treated] = what.on_moments(arms[treated])
        others = {"others": tuple(a for v, a in enumerate(arms) if v not in (0, treated))} if one.together else {}
        each.append(Runs.of(one.compare(arms[treated], arms[0], **settings, **others), 1))
    return Runs.together(each)


def _claims(
    asked: Resolved, primary: Sequence[_Asked], whole: Sequence[Sequence[Runs]], treatments: int
) -> NDArray[np.bool_]:
    """Which comparison claims a difference in which run, (runs, comparisons), by the correction or the looks."""
    rates = [one.request.alpha for one in primary for _ in range(treatments)]
    p = np.column_stack([looks[-1].p for looks in whole])
    if not asked.looks:
        if asked.correction == "none" or p.shape[1] == 1:
            return p < np.array(rates)
        way = p_values.METHODS[asked.correction]
        return np.array([np.asarray(way.adjusted(row)) < rates[0] for row in p])
    split = p.shape[1] if asked.correction == "bonferroni" else 1
    shares = list(asked.looks[: len(whole[0])])
    claims = np.zeros(p.shape, dtype=np.bool_)
    for k, looks in enumerate(whole):
        until = [*shares, *([] if shares[-1] == 1 else [1.0])]
        rule = boundaries(until, spending=asked.spending, parameter=asked.parameter, alpha=rates[k] / split)
        for z, seen in zip(rule.z, looks, strict=False):
            claims[:, k] |= normal.upper_quantile(np.maximum(seen.p, 1e-300) / 2) > z
    return claims


def _asked(table: Table, one: Request, lift: float | None) -> _Asked:
    """The values of a metric and its covariates, and its comparison."""
    if not one.kind.adjusted or "cluster" in one.steps:
        what = "clusters" if "cluster" in one.steps else f"kind: {one.kind.plural}"
        raise InputError(f"metrics.{one.name}: replay can't be had of {what} yet; it is of means, proportions, ratios.")
    needed, parts = one.set.needed, [part for parts in one.covariates for part in parts]
    columns = one.set.columns
    native = table.fetched(*columns)
    values = {c: floats(native[c]) for c in columns}
    known = ~np.any([np.isnan(values[c]) for c in needed], axis=0)
    if "cap" in one.steps:  # all variants together have one cap, whoever is treated
        values[one.column] = np.minimum(values[one.column], np.quantile(values[one.column][known], one.steps["cap"]))
    for c in dict.fromkeys(parts):
        lacks = np.isnan(values[c]) & known
        if lacks.any() and c not in needed:
            values[c + MARK] = lacks.astype(np.float64)
            usual = 0.0 if c in one.set.parts else np.nanmean(values[c])
            values[c] = np.where(np.isnan(values[c]), usual, values[c])
    filled = {c: np.where(known, v, 0.0) for c, v in values.items()}
    steps = {key: value for key, value in one.steps.items() if key != "cap"}
    compare: Any = one.method()
    if steps:
        compare = partial(adjust.sharpen, value=one.column, **steps)
    elif compare is adjust.sharpen:  # a cap alone, which is taken already
        compare = measure.means
    elif compare is measure.proportions:
        compare = _of_proportions
    ratio = one.per is not None
    planted = plant(filled[one.column], None, None) if ratio else plant(filled[one.column][known], None, lift)
    origin = np.array([v[known].mean() for v in filled.values()])
    return _Asked(one, tuple(filled), tuple(filled.values()), origin, known, compare, bool(steps), planted)


def _of_proportions(one: Moments, two: Moments, **settings: Any) -> Any:
    """Proportions of 0 and 1 by their counts."""
    from amber_ruler.samples import Counts

    arms = [
        Counts(np.round(m.n * m.means[:, 0]), np.asarray(m.n, dtype=float), m.label, axis=m.axis) for m in (one, two)
    ]
    return measure.proportions(*arms, **settings)


def _split(table: Table, asked: Resolved) -> tuple[list[str], Floats]:
    """The control and the treatments, and the planned shares added up."""
    counts = table.sizes(by=asked.by)
    labels = [asked.control, *(label for label in counts if label != asked.control)]
    found: Floats = np.cumsum(asked.shares(labels))[:-1]
    return labels, found


def _codes(table: Table, column: str | None, size: int) -> NDArray[np.intp] | None:
    """The stratum of each unit."""
    if column is None:
        return None
    native = table.fetched(column)[column]
    text = [None if v is None or v != v else reduce.label_text(v) for v in native.tolist()]  # noqa: PLR0124
    if any(v is None for v in text) or len(text) != size:
        raise InputError(f"Some units have no stratum in {column!r}: there is nothing to deal them out within.")
    found: NDArray[np.intp] = np.unique(np.array(text), return_inverse=True)[1]
    return found


def _ends(table: Table, asked: Resolved, days: Sequence[Any], size: int) -> list[NDArray[np.bool_]]:
    """Which units had come by each look so far; without looks all."""
    if not asked.looks or asked.day is None:
        return [np.ones(size, dtype=np.bool_)]
    order = {day: k for k, day in enumerate(days, start=1)}
    with table.reading():
        day = table.frame.lazy().select(profile.calendar_day(asked.day, table.schema[asked.day]).alias("day"))
        came = np.array([order.get(v, 0) for v in reduce.collected(day)["day"].to_list()])
    reached = [after for after in asked.look_days if after <= len(days)]
    if not reached:
        raise InputError(f"The first look is after day {asked.look_days[0]}, and there are {len(days)} days.")
    return [(came > 0) & (came <= after) for after in reached]


def _notes(asked: Resolved) -> list[str]:
    """What of the description has no effect on a replay."""
    listed, why = ", ".join(asked.named("primary")), "what is replayed are the tests"
    notes = [no_effect("method", "replay", listed, why)] if asked.method != "frequentist" else []
    return notes + ([no_effect("prior", "replay", listed, why)] if asked.prior is not None else [])
