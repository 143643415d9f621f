"""Can the data be believed? What was looked at, what was found, and what to do."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

from amber_ruler.measure.checks import HELP_AGAINST_SKEWNESS, tails_of
from amber_ruler.moments import Moments, merge
from amber_ruler.numeric import chisquare, fisher
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Check, Result
from amber_ruler.samples import gate
from amber_ruler.tables.split_check import ALARM

MOST_SPOILT = 0.001  # share of units under two variants, or of impossible values, that can be lived with
TOP = 0.999  # the values above this quantile are the top of a metric
TOP_SHARE = 0.05  # of the total, from which on the top carries the mean; fares and times hold 1% to 2%
ALPHA = 0.05  # of the test that a metric is looked at for
FEW = 10  # units below which a variant may be none
_TOTALS = {
    "total",
    "totals",
    "in total",
    "grand total",
    "sum",
    "all",
    "overall",
    "gesamt",
    "summe",
    "somme",
    "totale",
    "totaal",
}
FAR = 6.0  # robust deviations from which on a day's count is odd

Bounds: TypeAlias = (
    "tuple[float | None, float | None]"  # smallest and largest possible value, None where there is no end
)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Findings(Result):
    """What a table holds and whether it can be believed.

    Attributes
    ----------
    rows : int
        Rows of the table.
    units : int or None
        Distinct units, where their column was named.
    counts : mapping of label to int
        Units (or rows) of each variant.
    planned : mapping of label to float
        Planned shares, adding up to 1.
    by : str
        The column with the variant labels.
    """

    rows: int
    units: int | None
    counts: Mapping[str, int]
    planned: Mapping[str, float]
    by: str = ""

    @property
    def believable(self) -> bool:
        """Whether nothing serious was found."""
        return not any(c.severity == "serious" for c in self.checks)


def unit_of_analysis(rows: int, units: int, repeated: int, unit: str) -> Check:
    """Are the rows units, or events of units?"""
    if rows == units:
        return Check("unit of analysis", f"{rows:,} rows, each a {unit} of its own")
    twice = f"{repeated:,} of them repeat another row in every column"
    seen = f"{rows:,} rows of {units:,} different values of {unit!r}"
    if rows - units == repeated:
        return Check(
            "unit of analysis",
            f"{seen}; {twice}, and the others are a {unit} each: duplicates, not events",
            "A test would count some units twice. Find out where they come from, and leave the duplicates out.",
            "serious",
        )
    return Check(
        "unit of analysis",
        f"{seen}{', ' + twice if repeated else ''}: these rows are events, not units",
        f"A test would count one {unit} many times. Aggregate first: table.units(unit={unit!r}, by=…, measures=…).",
        "serious",
    )


def unnamed_unit(rows: int, likely: tuple[str, int] | None) -> Check:
    """What can't be seen without a unit, and which column may name it."""
    finding = "not looked at, nor whether a unit is seen under two variants: no unit was named"
    if likely is None:
        return Check("unit of analysis", finding, "Name the column of what was randomised (unit=…).", "note")
    column, different = likely
    of = "each row has its own" if different == rows else f"{different:,} different values in {rows:,} rows"
    advice = f"{column!r} may be it ({of}): name what was randomised (unit={column!r})."
    return Check("unit of analysis", finding, advice, "note" if different == rows else "warning")


def arms(counts: Mapping[str, int], by: str) -> list[Check]:
    """Is there something to compare with, and is every variant one?"""
    found = []
    if len(counts) == 1:
        (only,) = counts
        advice = "A comparison needs two: is it the right column, and are all rows there?"
        found.append(Check("variants", f"{by!r} holds only one, {only!r}", advice, "serious"))
    for label, n in counts.items():
        if label.strip().casefold() in _TOTALS:
            finding = f"{label!r} ({n:,} rows) looks like a total of the others"
            found.append(Check("variants", finding, "It is no variant: leave it out (where(…, among=…)).", "serious"))
        elif n < FEW:
            finding = f"{label!r} has {n:,} units only"
            found.append(Check("variants", finding, "Is it a variant at all? If not, leave it out.", "warning"))
    return found


def crossed_units(crossed: int, units: int, unit: str) -> Check:
    """Is every unit in one variant only?"""
    if not crossed:
        return Check("one variant each", f"no {unit} is seen under two variants")
    share = crossed / units
    return Check(
        "one variant each",
        f"{crossed:,} of {units:,} ({100 * share:.3g}%) are seen under more than one variant",
        "They belong to neither. Find out how they were assigned twice; .units() leaves them out.",
        "serious" if share > MOST_SPOILT else "warning",
    )


def whole_clusters(crossed: int, clusters: int, column: str) -> Check:
    """Was every cluster assigned as a whole? What else is left to the comparison, which allows for clusters."""
    if crossed:
        finding = f"{crossed:,} of {clusters:,} values of {column!r} are seen under more than one variant"
        return Check(
            "whole clusters", finding, "Then they were not assigned as a whole: leave clusters out.", "serious"
        )
    finding = (
        f"each of {clusters:,} values of {column!r} is in one variant; the sample ratio is that of clusters, and days,"
        " strata, missing values and covariates are not tested, for units of a cluster come together"
    )
    return Check("whole clusters", finding)


def split_in_parts(
    counts: NDArray[np.float64], names: Sequence[str], labels: Sequence[str], shares: Floats, part: str
) -> Check:
    """Is the split sound on every day, or in every stratum? Counts are part by variant; one alarm over all parts."""
    expected = counts.sum(axis=1)[:, None] * shares
    with np.errstate(invalid="ignore", divide="ignore"):
        statistic = np.where(expected > 0, (counts - expected) ** 2 / expected, 0.0).sum(axis=1)
    p = chisquare.sf(statistic, len(labels) - 1)
    worst = int(np.argmin(p))
    # Bonferroni.
    if p[worst] * len(names) >= ALARM:
        return Check(f"split by {part}", f"sound in each of {len(names)}")
    seen = " : ".join(f"{c:,.0f}" for c in counts[worst])
    finding = f"{part} {names[worst]} has {seen} for {' : '.join(labels)}, p {p[worst]:.3g} ({len(names)} looked at)"
    advice = f"Units are lost or doubled there: find out why, and leave out each {part} that it touched."
    return Check(f"split by {part}", finding, advice, "serious")


def days(counts: NDArray[np.float64], names: Sequence[str]) -> list[Check]:
    """Is the split the same over days, are days written alike, and is no day out of line? Counts are day by variant."""
    found = []
    totals = counts.sum(axis=1)
    drift = independence(counts)
    if drift < ALARM:
        finding = f"the shares of the variants change over days, p {drift:.3g}"
        advice = "If the ramp was planned, analyse the days of equal shares only; else find out what moved the split."
        found.append(Check("drift", finding, advice, "warning"))
    middle = float(np.median(totals))
    spread = max(1.4826 * float(np.median(np.abs(totals - middle))), np.sqrt(middle))
    odd = [f"{names[k]} ({totals[k]:,.0f})" for k in np.flatnonzero(np.abs(totals - middle) > FAR * spread).tolist()]
    if odd:
        finding = f"usually about {middle:,.0f} a day, but {', '.join(odd[:5])}"
        advice = "Look at those days: an outage, a holiday, a change of the counting?"
        found.append(Check("odd days", finding, advice, "note"))
    formats: dict[str, str] = {}
    for name in names:
        formats.setdefault(re.sub(r"[^\W\d_]+", "a", re.sub(r"\d+", _digits, name)), name)
    if len(formats) > 1:
        finding = f"days are written in {len(formats)} ways: {', '.join(map(repr, list(formats.values())[:5]))}"
        found.append(Check("day formats", finding, "One day may count as several: write all alike.", "warning"))
    return found


def _digits(found: re.Match[str]) -> str:
    """A year is not a day or a month."""
    return "year" if len(found[0]) == 4 else "0"


def missing(lost: Mapping[str, int], kept: Mapping[str, int], column: str, tests: int, *, before: bool) -> Check:
    """Are as many values missing in each variant? Before the test they must be; a metric only some may have.

    Of no `tests` what is seen is only told.
    """
    name = f"missing {column}"
    if not any(lost.values()):
        return Check(name, "none")
    table = np.array([[lost[v], kept[v]] for v in lost], dtype=np.float64)
    share = ", ".join(f"{v} {100 * lost[v] / (lost[v] + kept[v]):.3g}%" for v in lost)
    p = independence(table) * tests
    if not tests or p >= ALARM:
        return Check(name, share)
    finding = f"{share}; p {p:.3g} for {tests} columns"
    if before:
        advice = (
            "What was known before the test can't depend on the variant: units are lost, or assignment is not random."
        )
        return Check(name, finding, advice, "serious")
    advice = "Those with a value are not alike in the variants: their difference compares different people."
    return Check(name, finding, advice, "warning")


def balance(arms: Mapping[str, Moments], column: str, tests: int) -> Check:
    """Was a covariate alike in the variants before the test? Of no `tests` what is seen is only told."""
    n = np.array([m.n for m in arms.values()], dtype=np.float64)
    means = np.array([m.mean(column) for m in arms.values()])
    spread = sum(float(m.comoments[m.index(column), m.index(column)]) for m in arms.values())
    df = float(n.sum() - len(n))
    name = f"before the test: {column}"
    if spread == 0 or df < 1:
        return Check(name, "never varies", "Leave it out.", "note")
    sd = np.sqrt(spread / df)
    middle = float(n @ means / n.sum())
    f = float(n @ (means - middle) ** 2 / (len(n) - 1) / sd**2)
    p = min(1.0, float(fisher.sf(f, len(n) - 1, df)) * tests)
    largest = float((means.max() - means.min()) / sd)
    if not tests:
        return Check(name, f"largest standardised difference {largest:.3f}")
    finding = f"largest standardised difference {largest:.3f}, p {p:.3g} for {tests} covariates"
    if p >= ALARM:
        return Check(name, finding)
    advice = "The variants were not alike before the test began: the assignment is not random, or units are lost."
    return Check(name, finding, advice, "serious")


def impossible(
    spoilt: Mapping[str, Mapping[str, tuple[int, int]]], rows: int, possible: Mapping[str, Bounds | None]
) -> list[Check]:
    """Are there values that can't be? For each column and variant, how many are infinite and how many out of bounds."""
    found = []
    for column, variants in spoilt.items():
        endless, outside = (sum(counted[k] for counted in variants.values()) for k in (0, 1))
        where = ", ".join(f"{v} {max(counted):,}" for v, counted in variants.items() if any(counted))
        advice = "Find out where they come from, and fix or leave out those rows."
        if endless:
            finding = f"{endless:,} infinite ({where}): there is no mean"
            found.append(Check(f"possible {column}", finding, advice, "serious"))
        elif outside:
            low, high = possible[column] or (None, None)
            limits = " or ".join(
                f"{word} {end:g}" for word, end in (("below", low), ("above", high)) if end is not None
            )
            level = "serious" if outside > MOST_SPOILT * rows else "warning"
            found.append(Check(f"possible {column}", f"{outside:,} {limits} ({where})", advice, level))
    if found:
        return found
    bounded = [column for column, bounds in possible.items() if bounds]
    more = f", none outside what {' and '.join(bounded)} can be" if bounded else ""
    return [Check("possible values", f"none infinite{more}")]


def constant(arms: Mapping[str, Moments], column: str) -> Check | None:
    """Does a metric vary in every variant?"""
    flat = [v for v, m in arms.items() if m.n > 1 and m.comoments[0, 0] == 0]
    if not flat:
        return None
    values = ", ".join(f"{arms[v].mean(column):g} in {v}" for v in flat)
    if len(flat) == len(arms):
        return Check(f"varying {column}", f"always {values}", "Nothing can be measured by it.", "warning")
    advice = "Is it recorded there at all? A metric that stands still in one variant only is hardly an effect."
    return Check(f"varying {column}", f"always {values}, but not in the others", advice, "warning")


def most_at_the_top(arms: Mapping[str, Moments]) -> float | None:
    """The largest share of the total that the top can hold, by the moments; None where a value may be negative.

    Of values that are not negative any k of n add up to at most k mean + sd √(k (n − k)) (Cauchy and Schwarz), and to
    at most k times the largest.
    """
    whole = merge([m.relabel("") for m in arms.values()])
    n, mean, ends = whole.n, float(whole.means[0]), whole.shape
    if ends is None or not ends.lowest[0] >= 0 or mean == 0:
        return None
    k = (1 - TOP) * (n - 1) + 1
    sd = float(np.sqrt(whole.comoments[0, 0] / n))
    return float(min(k * mean + sd * np.sqrt(k * (n - k)), k * ends.highest[0]) / (n * mean))


def light_top(most: float, column: str) -> Check:
    """Single values can't carry the mean."""
    return Check(f"top of {column}", f"the top 0.1% hold no more than {100 * most:.2g}% of the total")


def top(share: float, level: float, raw: tuple[float, float], capped: tuple[float, float], column: str) -> Check:
    """Do single values carry the mean? Raw and capped are mean and standard deviation."""
    finding = f"the top 0.1% (above {level:.4g}) hold {100 * share:.2g}% of the total"
    if share < TOP_SHARE:
        return Check(f"top of {column}", finding)
    advice = (
        f"Capping there would take the mean from {raw[0]:.4g} to {capped[0]:.4g} and the standard deviation from"
        f" {raw[1]:.4g} to {capped[1]:.4g}: decide before you look at the difference."
    )
    return Check(f"top of {column}", f"{finding}: single values carry the mean", advice, "warning")


def enough(arms: Mapping[str, Moments], column: str) -> list[Check]:
    """Are there enough units for a test of means, given how skewed the values are?"""
    groups = [gate.one(m, "mean", least=1) for m in arms.values()]
    found = tails_of(ALPHA, "two-sided", *groups)
    if found is None:
        smallest = min(groups, key=lambda g: float(g.n))
        finding = f"{smallest.label} has {smallest.n:,} units only"
        return [Check(f"enough {column}", finding, "More units, or ranks: a test of means is for more.", "note")]
    if not found.shifted:
        return [Check(f"enough {column}", found.said)]
    return [Check(f"enough {column}", found.said, HELP_AGAINST_SKEWNESS, "warning")]


def labels(names: Sequence[str]) -> list[Check]:
    """Do labels differ by nothing but spaces or case?"""
    alike: dict[str, list[str]] = {}
    for name in names:
        alike.setdefault("".join(name.split()).casefold(), []).append(name)
    twins = [" and ".join(map(repr, group)) for group in alike.values() if len(group) > 1]
    if not twins:
        return []
    finding = f"{'; '.join(twins)} differ by spaces or case only"
    return [Check("labels", finding, "They count as different variants: relabel them if they are one.", "warning")]


def independence(counts: NDArray[np.float64]) -> float:
    """P of the chi-square test that rows and columns of a table of counts have nothing to do with each other."""
    counts = counts[counts.sum(axis=1) > 0][:, counts.sum(axis=0) > 0]
    if min(counts.shape) < 2:
        return 1.0
    expected = np.outer(counts.sum(axis=1), counts.sum(axis=0)) / counts.sum()
    statistic = float(np.sum((counts - expected) ** 2 / expected))
    return float(chisquare.sf(statistic, (counts.shape[0] - 1) * (counts.shape[1] - 1)))
