"""Two variants compared by a description of steps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

import numpy as np

from amber_ruler.adjust import pair
from amber_ruler.adjust.cells import Adjusted, Cells, adjusted, slopes
from amber_ruler.adjust.description import Steps
from amber_ruler.adjust.prepared import Prepared, linearised, lost, prepare
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import means, shared
from amber_ruler.numeric import chisquare, normal
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.least_squares import is_mark
from amber_ruler.results import Adjustment, Axis, Check, Comparison, Strata, Test
from amber_ruler.samples import Summary

_DOUBTED, _REFUSED = 4.0, 6.0  # standard errors by which a covariate may differ before it is doubted, and refused
_SUSPECT = "What was known before the test should not differ so: did treatment change it, or is the split broken?"
_SIZES = (
    "The standard error is that for these sizes of the strata, as where the split was made within them; over all sizes"
    " that a split across strata can give it is .facts['se_over_sizes']."
)
_SOURCES = {
    "cap": "Dixon & Tukey (1968), Technometrics 10, 83-98",
    "strata": "Cochran (1977), Sampling Techniques, 3rd ed., 5A.9; Holt & Smith (1979), JRSS A 142, 33-46",
    "covariate": "Deng, Xu, Kohavi & Walker (2013), WSDM, 123-132",
    "ratio": "Deng, Knoblich & Lu (2018), KDD, 233-242",
}


class _Sum(NamedTuple):
    """A variant's mean over strata."""

    mean: Floats
    tail: Floats
    variance: Floats
    df: Floats


def answer(
    given: Sequence[Any], value: str, steps: Steps, ask: shared.Question, null: Floats, metric: str | None = None
) -> Comparison:
    """Compare the first two of the variants given, with these steps."""
    found = prepare(given, value, steps)
    name = metric or (value if steps.per is None else f"{value} per {steps.per}")
    shares = _shares(found.cells, steps)
    cells = linearised(found, shares)
    if len(cells.columns) > 1 and np.any(cells.n < 3):
        few = cells.labels[int(np.argwhere(cells.n < 3)[0][0])]
        raise DataError(f"Variant {few!r} has 2 units{' in a stratum' if steps.strata else ''}: covariates need 3.")
    fitted = slopes(cells, steps.theta, shares if steps.strata else None)
    after = adjusted(cells, fitted.slopes)
    weights = _by_precision(cells, after) if steps.shares == "precision" else shares
    both = [_summed(cells, after, weights, k) for k in (0, 1)]
    if np.any(both[0].variance + both[1].variance <= 0):
        raise DataError("After adjustment neither variant has any spread: there is nothing to test a difference by.")
    plain = not steps.strata and not found.ratio
    result = (
        _as_means(found, cells, after, ask, null, name) if plain else _as_ratio(found, cells, both, ask, null, name)
    )
    raw = _raw(found, steps, ask, null, name)
    part = _part(found, steps, cells, fitted.slopes, result, raw)
    notes = [
        f"{c} is the same in every row: left out."
        for c, still in zip(cells.columns[1:], fitted.constant, strict=True)
        if still and not is_mark(c)
    ]
    if plain and cells.columns[1:]:
        notes.append("Effect sizes are in units of the adjusted spread; those of the raw one stand in .adjustment.raw.")
    if found.ratio:
        unit = "A row was randomised" if steps.cluster is None else f"A {steps.cluster} was randomised as a whole"
        notes.append(f"{unit}, and is the unit of the standard error; the ratio speaks of {steps.per or 'rows'}.")
    strata, said = _by_stratum(found, steps, fitted.slopes, weights, ask, name)
    facts = dict(result.facts) | dict(found.facts)
    notes += capped_said(dict(found.facts), cells.labels)
    if steps.strata:
        facts["normal_p"] = _normal_p(ask, result)
        facts["se_over_sizes"] = _over_sizes(cells, after, weights)
    result = replace(
        result,
        title=result.title + "".join(f", {short}" for short in _short(steps)),
        method=_method(steps),
        source="; ".join(_source(steps, found)) or result.source,
        checks=(*found.checks, *balances(cells, weights), *result.checks, *_skewness(raw, result)),
        notes=(*result.notes, *notes, *said),
        facts=facts,
        parts=(part, *strata),
    )
    return pair.in_points(result, found.raw[:2])


def capped_said(facts: Mapping[str, float], labels: Sequence[str]) -> list[str]:
    """What a cap took off each mean."""
    if f"mean taken off {labels[0]}" not in facts:
        return []
    off = [facts[f"mean taken off {label}"] for label in labels[:2]]
    if not any(off):
        return ["No value lies beyond the cap: it changes nothing."]
    listed = " and ".join(f"{o:.4g} off the mean of {label}" for o, label in zip(off, labels, strict=False))
    return [f"The cap takes {listed}: what treatment does to the largest values is not in this difference."]


def _shares(cells: Cells, steps: Steps) -> Floats:
    """What each stratum counts: its share of all units, or as stated."""
    if len(cells.levels) == 1 and not isinstance(steps.shares, Mapping):
        return np.ones(1)
    if not isinstance(steps.shares, Mapping):
        n = cells.n.sum(axis=0)
        shares: Floats = n / n.sum()
        return shares
    named = {str(level): float(share) for level, share in steps.shares.items()}
    for level in named:
        if level not in cells.levels:
            raise DataError.unknown(f"stratum of {steps.strata!r}", level, cells.levels)
    for level in cells.levels:
        if level not in named:
            raise InputError(f"shares says nothing of the stratum {level!r}, which has rows.", name="shares")
    stated = np.array([named[level] for level in cells.levels])
    return np.asarray(stated / stated.sum())


def _by_precision(cells: Cells, after: Adjusted) -> Floats:
    variance = (after.variance / cells.n)[:2].sum(axis=0)
    if np.any(variance == 0):
        raise DataError("A stratum has no spread: it can't be weighted by its precision.")
    found: Floats = (1 / variance) / (1 / variance).sum()
    return found


def _summed(cells: Cells, after: Adjusted, weights: Floats, k: int) -> _Sum:
    w = weights.reshape(-1, *[1] * (after.mean.ndim - 2))
    part = w**2 * after.variance[k] / cells.n[k]
    variance = part.sum(axis=0)
    # Shares of the variance rather than squares, which overflow.
    with np.errstate(divide="ignore", invalid="ignore"):
        df = 1 / ((part / variance) ** 2 / (cells.n[k] - 1)).sum(axis=0)
    df = np.where(variance > 0, df, 1.0)
    if len(weights) == 1:
        return _Sum(after.mean[k, 0], after.tail[k, 0], variance, df)
    base = after.mean[0, 0]  # of all alike, so that means far from 0 keep their difference
    return _Sum(*pair.split(base, (w * ((after.mean[k] - base) + after.tail[k])).sum(axis=0)), variance, df)


def _as_means(
    found: Prepared, cells: Cells, after: Adjusted, ask: shared.Question, null: Floats, name: str
) -> Comparison:
    """Two means with unequal variances, of the adjusted values."""
    settings = ask.settings(null=null, metric=name)
    whole = cells.whole[:2]
    metric = found.cells.columns[0]
    if len(cells.columns) == 1:
        return means(*(m.complete(metric) for m in whole), **settings)
    adjusted_groups = [
        Summary(
            scalar_or_array(cells.n[k, 0]),
            scalar_or_array(after.mean[k, 0]),
            scalar_or_array(np.sqrt(after.variance[k, 0])),
            whole[k].label,
            whole[k].missing,
            metric,
            cells.axis,
            scalar_or_array(after.tail[k, 0]),
        )
        for k in (0, 1)
    ]
    return means(*adjusted_groups, **settings)


def _as_ratio(
    found: Prepared, cells: Cells, both: Sequence[_Sum], ask: shared.Question, null: Floats, name: str
) -> Comparison:
    arms = []
    for k, one in enumerate(both):
        base, rest = (found.origin, one.mean + one.tail) if found.origin else (one.mean, one.tail)
        mean, tail = pair.split(base, rest)
        arms.append(pair.Arm(cells.labels[k], cells.n[k].sum(axis=0), mean, one.variance, one.df, tail))
    return pair.compare(
        ask, arms, null, metric=name, method="", source="", axis=cells.axis,
        quantity="ratio" if found.ratio else "adjusted mean",
        checks_=lost(cells.labels, [m.missing for m in cells.whole[:2]], [m.n for m in found.raw]),
        few=[cells.n[:2].min(axis=1)],
    )  # fmt: skip


def _skewness(raw: Comparison | None, result: Comparison) -> tuple[Check, ...]:
    """What was seen of the raw values, where the adjusted ones aren't known one by one."""
    named = {check.name for check in result.checks}
    return () if raw is None or "skewness" in named else tuple(c for c in raw.checks if c.name == "skewness")


def _raw(found: Prepared, steps: Steps, ask: shared.Question, null: Floats, name: str) -> Comparison | None:
    """The same metric with nothing done to it."""
    if steps.per is None:
        raw = [m.relabel(label) for m, label in zip(found.raw[:2], found.cells.labels, strict=False)]
        if any(np.any(np.asarray(m.comoments) > 0) for m in raw):
            return means(*raw, **ask.settings(null=null, metric=name))
        return None
    if not (steps.strata or steps.covariate or steps.cluster or steps.cap or steps.cap_at is not None):
        return None
    bare = Prepared(Cells.of([{"": m} for m in found.raw]), found.raw, (), ratio=True)
    cells = linearised(bare, np.ones(1))
    after = adjusted(cells, np.zeros((*cells.means.shape[2:-1], 0)))
    both = [_summed(cells, after, np.ones(1), k) for k in (0, 1)]
    result = _as_ratio(bare, cells, both, ask, null, name)
    return replace(result, method=_method(Steps(per=steps.per)), source=_SOURCES["ratio"])


def _part(
    found: Prepared, steps: Steps, cells: Cells, slope: Floats, result: Comparison, raw: Comparison | None
) -> Adjustment:
    told = list(found.said)
    if steps.per is not None:
        told.append(f"as a ratio of totals, per {steps.per}")
    if steps.strata is not None:
        how = {"sample": "shares of the sample", "precision": "precision"}
        weights = how[steps.shares] if isinstance(steps.shares, str) else "stated shares"
        told.append(f"in {len(cells.levels)} strata of {steps.strata}, weighted by {weights}")
    known = cells.columns[1:]
    if known:
        told.append(covariates_told(known))
    return pair.gained(
        told,
        raw,
        result.se,
        cells.total[:2].sum(axis=0),
        slopes={name: scalar_or_array(slope[..., k]) for k, name in enumerate(known)},
        correlation=_correlation(cells, slope) if known else None,
    )


def covariates_told(names: Sequence[str]) -> str:
    """Which covariates took part, and whether they had gaps."""
    known = [name for name in names if not is_mark(name)]
    *first, last = known
    listed = f"{', '.join(first)} and {last}" if first else last
    return f"adjusted for {listed}" + (" (gaps filled and marked)" if len(known) < len(names) else "")


def _correlation(cells: Cells, slope: Floats) -> Any:
    """Of metric and covariates, within variants and strata: of one with its sign."""
    s = cells.squares.sum(axis=(0, 1))
    explained = 2 * np.einsum("...k,...k->...", slope, s[..., 0, 1:]) - np.einsum(
        "...j,...jk,...k->...", slope, s[..., 1:, 1:], slope
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        share = np.where(s[..., 0, 0] > 0, np.clip(explained / s[..., 0, 0], 0, 1), 0.0)
    sign = np.where(slope[..., 0] < 0, -1.0, 1.0) if slope.shape[-1] == 1 else 1.0
    return scalar_or_array(sign * np.sqrt(share))


def balances(cells: Cells, weights: Floats) -> tuple[Check, ...]:
    """Do the variants differ in what was known before the test?"""
    found = []
    w = weights.reshape(-1, *[1] * (cells.n.ndim - 2))
    for k, name in enumerate(cells.columns[1:], start=1):
        if is_mark(name):
            continue
        gaps = (cells.means[0, ..., k] - cells.means[1, ..., k]) + (cells.tails[0, ..., k] - cells.tails[1, ..., k])
        variance = (w**2 * (cells.squares[:2, ..., k, k] / (cells.n[:2] - 1) / cells.n[:2])).sum(axis=(0, 1))
        spread = np.sqrt(variance)
        steps = float(np.max(np.where(spread > 0, np.abs((w * gaps).sum(axis=0)) / np.where(spread > 0, spread, 1), 0)))
        finding = f"the variants' means of {name} differ by {steps:.2g} standard errors"
        if steps > _REFUSED:
            raise DataError(
                f"The covariate {name!r} can't be used: {finding}. What was known before the test does not differ so:"
                " it was measured after the assignment, or the split is broken."
            )
        if steps > _DOUBTED:
            found.append(Check("covariate", finding, _SUSPECT, "serious"))
        else:
            found.append(Check("covariate", finding))
    return tuple(found)


def _by_stratum(
    found: Prepared, steps: Steps, slope: Floats, weights: Floats, ask: shared.Question, name: str
) -> tuple[tuple[Strata, ...], tuple[str, ...]]:
    """The effect in each stratum, and whether they differ."""
    if steps.strata is None:
        return (), ()
    each = []
    for level in range(len(found.cells.levels)):
        one = replace(found, cells=found.cells.level(level))
        cells = linearised(one, np.ones(1))
        after = adjusted(cells, slope)
        each.append([_summed(cells, after, np.ones(1), k) for k in (0, 1)])
    levels = found.cells.levels
    arms = [
        pair.Arm(
            found.cells.labels[k],
            found.cells.n[k],
            np.array([float(e[k].mean) + found.origin for e in each]),
            np.array([float(e[k].variance) for e in each]),
            np.array([float(e[k].df) for e in each]),
            np.array([float(e[k].tail) for e in each]),
        )
        for k in (0, 1)
    ]
    spread = arms[0].variance + arms[1].variance
    if np.any(spread == 0):
        still = levels[int(np.argmin(spread))]
        return (), (f"In stratum {still} no variant has any spread: effects by stratum are not compared.",)
    effects = pair.compare(
        ask._replace(margin_lift=None), arms, 0.0, metric=name, method="by stratum", source="",
        axis=Axis(steps.strata, levels), lifts=False,
    )  # fmt: skip
    part = Strata(column=steps.strata, effects=effects, weights=weights, interaction=interaction(effects, ask.alpha))
    return (part,), (_SIZES if steps.shares == "sample" else "A stratum counts as it is weighted, not as it occurs.",)


def interaction(effects: Comparison, alpha: float) -> Test | None:
    """Do effects differ between levels? The sum of (d − d̄)² / v, d̄ weighted by 1 / v, on one df less than levels."""
    d, se = np.asarray(effects.estimate, dtype=float), np.asarray(effects.se, dtype=float)
    if d.size < 2:
        return None
    w = 1 / se**2
    away = d - (w * d).sum() / w.sum()
    statistic = float((w * away**2).sum())
    df = d.size - 1
    p = float(chisquare.sf(np.asarray(statistic), np.asarray(float(df))))
    return Test(
        p_value=p, alpha=alpha, statistic=statistic, name="chi-square", df=float(df), null=0.0, alternative="any"
    )


def _normal_p(ask: shared.Question, result: Comparison) -> float:
    statistic = np.asarray(0.0 if result.test is None else result.test.statistic)
    return float(shared.p_value(statistic, normal.sf, ask.alternative))


def _over_sizes(cells: Cells, after: Adjusted, weights: Floats) -> float:
    """The standard error over all sizes that strata can have: a further 1/n² Σ (1 − w) s² a variant."""
    total = 0.0
    for k in (0, 1):
        n = float(cells.n[k].sum())
        total += (
            float((weights * after.variance[k]).sum()) / n + float(((1 - weights) * after.variance[k]).sum()) / n**2
        )
    return float(np.sqrt(total))


def _short(steps: Steps) -> list[str]:
    found = ["capped"] if steps.cap is not None or steps.cap_at is not None else []
    found += [f"by {steps.cluster}"] if steps.cluster else []
    found += [f"in strata of {steps.strata}"] if steps.strata else []
    return found + ([f"adjusted for {' and '.join(steps.covariate)}"] if steps.covariate else [])


def _method(steps: Steps) -> str:
    what = "two ratios of totals" if steps.per or steps.cluster else "two means, unequal variances"
    found = [what, *(["by strata"] if steps.strata else [])]
    if steps.covariate:
        many = "one covariate" if len(steps.covariate) == 1 else f"{len(steps.covariate)} covariates"
        found.append(f"adjusted for {many}")
    return ", ".join([*found, *(["capped"] if steps.cap is not None or steps.cap_at is not None else [])])


def _source(steps: Steps, found: Prepared) -> list[str]:
    used = {
        "cap": steps.cap is not None or steps.cap_at is not None,
        "strata": steps.strata is not None,
        "covariate": bool(steps.covariate),
        "ratio": found.ratio,
    }
    return [_SOURCES[name] for name, applies in used.items() if applies]
