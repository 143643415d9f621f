"""Can the data be believed? What was looked at, what was found, and what to do."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from amber_ruler import effects
from amber_ruler.numeric import chisquare, fisher
from amber_ruler.results import Check, Result
from amber_ruler.tables.split_check import ALARM

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from amber_ruler.moments import Moments
    from amber_ruler.numeric.gate import Floats

MOST_CROSSED = 0.001  # share of units under two variants from which on nothing can be believed
FAR = 6.0  # robust deviations from which on a day's count is odd


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
    """

    kind: ClassVar[str] = "findings"

    rows: int
    units: int | None
    counts: Mapping[str, int]
    planned: Mapping[str, float]

    @property
    def believable(self) -> bool:
        """Whether nothing serious was found."""
        return not any(c.severity == "serious" for c in self.checks)


def unit_of_analysis(rows: int, units: int, repeated: int, unit: str) -> Check:
    """Are the rows units, or events of units?"""
    if rows == units:
        return Check("unit of analysis", f"{rows:,} rows, each a {unit} of its own")
    twice = f", {repeated:,} of them repeat another row in every column" if repeated else ""
    return Check(
        "unit of analysis",
        f"{rows:,} rows of {units:,} different values of {unit!r}{twice}: these rows are events, not units",
        f"A test would count one {unit} many times. Aggregate first: table.units(unit={unit!r}, by=…, measures=…).",
        "serious",
    )


def crossed_units(crossed: int, units: int, unit: str) -> Check:
    """Is every unit in one variant only?"""
    if not crossed:
        return Check("one variant each", f"no {unit} is seen under two variants")
    share = crossed / units
    return Check(
        "one variant each",
        f"{crossed:,} of {units:,} ({100 * share:.3g}%) are seen under more than one variant",
        "They belong to neither. Find out how they were assigned twice; .units() leaves them out.",
        "serious" if share > MOST_CROSSED else "warning",
    )


def days(counts: NDArray[np.float64], names: Sequence[str], labels: Sequence[str], shares: Floats) -> list[Check]:
    """Is the split sound on every day, the same over days, and no day out of line? Counts are day by variant."""
    found = []
    totals = counts.sum(axis=1)
    expected = totals[:, None] * shares
    with np.errstate(invalid="ignore", divide="ignore"):
        statistic = np.where(expected > 0, (counts - expected) ** 2 / expected, 0.0).sum(axis=1)
    p = chisquare.sf(statistic, len(labels) - 1)
    worst = int(np.argmin(p))
    # One alarm over all days: Bonferroni.
    if p[worst] * len(names) < ALARM:
        seen = " : ".join(f"{c:,.0f}" for c in counts[worst])
        finding = f"on day {names[worst]} {seen} for {' : '.join(labels)}, p {p[worst]:.3g} ({len(names)} days)"
        advice = "Something went wrong on that day: leave the test's days out that it touched, or repeat the test."
        found.append(Check("split by day", finding, advice, "serious"))
    else:
        found.append(Check("split by day", f"sound on each of {len(names)} days"))
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
        advice = "Look at those days: an outage, a feast, a change of the counting?"
        found.append(Check("odd days", finding, advice, "note"))
    return found


def missing(lost: Mapping[str, int], kept: Mapping[str, int], column: str, tests: int, *, before: bool) -> Check:
    """Are as many values missing in each variant? Before the test they must be; a metric only some may have."""
    name = f"missing {column}"
    if not any(lost.values()):
        return Check(name, "none")
    table = np.array([[lost[v], kept[v]] for v in lost], dtype=np.float64)
    share = ", ".join(f"{v} {100 * lost[v] / (lost[v] + kept[v]):.3g}%" for v in lost)
    p = independence(table) * tests
    if p >= ALARM:
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
    """Was a covariate alike in the variants before the test?"""
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
    finding = f"largest standardised difference {largest:.3f}, p {p:.3g} for {tests} covariates"
    if p >= ALARM:
        return Check(name, finding)
    advice = "The variants were not alike before the test began: the assignment is not random, or units are lost."
    return Check(name, finding, advice, "serious")


def shape(smallest: int, skewness: float, column: str) -> Check:
    """Are there enough units for a test of means?"""
    needed = effects.units_for_skewness(skewness)
    finding = f"skewness {skewness:.3g} wants about {needed:,.0f} units in a variant, the smallest has {smallest:,}"
    if smallest >= needed:
        return Check(f"enough {column}", finding)
    advice = "The normal approximation can't be trusted (Kohavi et al. 2014): cap the metric, or take more units."
    return Check(f"enough {column}", finding, advice, "warning")


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
