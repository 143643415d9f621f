"""Is the split of units between variants the one that was planned?"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from amber_ruler.errors import DataError, InputError
from amber_ruler.numeric import chisquare, gate
from amber_ruler.results import Check, Result
from amber_ruler.samples.variants import printed

ALARM = 0.001
DOUBT = 0.01


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class SplitCheck(Result):
    """Counts by variant against the planned split.

    Attributes
    ----------
    counts, expected, planned : mapping of label to number
        Rows seen, rows expected, and planned shares.
    statistic, df, p_value : float
        Chi-square test of the planned split.
    sound : bool
        False when p is below 0.001: then no difference between variants can be believed.
    by : str
        The column with the labels, where they come from a table.
    """

    counts: Mapping[str, int]
    planned: Mapping[str, float]
    expected: Mapping[str, float]
    statistic: float
    df: int
    p_value: float
    sound: bool
    by: str = ""

    @property
    def as_check(self) -> Check:
        """The finding as a check to print with a result."""
        seen = " : ".join(f"{c:,}" for c in self.counts.values())
        labels = " : ".join(printed(self.counts, self.by).values())
        finding = f"{seen} for {labels}, p {self.p_value:.3g} against the planned split"
        if self.sound and self.p_value >= DOUBT:
            return Check("sample ratio", finding)
        if self.sound:
            advice = "Less likely than 1 in 100 by chance: keep an eye on it, and look at the split by day."
            return Check("sample ratio", finding, advice, "warning")
        return Check(
            "sample ratio",
            finding,
            "The variants did not get the units they should have: units are lost or doubled somewhere."
            " Do not believe any difference below until the cause is found.",
            "serious",
        )


def check_split(counts: Mapping[str, int], planned: Mapping[str, float] | None = None) -> SplitCheck:
    """Is the split sound, or is there a sample ratio mismatch?

    Parameters
    ----------
    counts : mapping of label to int
        Units seen in each variant.
    planned : mapping of label to float, optional
        Planned shares, in any unit (50 and 50, or 1 and 1); equal shares if not given.

    Returns
    -------
    SplitCheck

    References
    ----------
    .. [1] Pearson (1900), Philosophical Magazine 50, 157-175.

    Examples
    --------
    >>> check_split({"current": 5000, "short": 5300}).sound
    True
    >>> check_split({"current": 5000, "short": 5400}).sound
    False
    """
    seen = {label: int(gate.whole(f"count of {label!r}", c)) for label, c in counts.items()}
    if len(seen) < 2:
        raise DataError(f"A split needs at least two variants, got {', '.join(map(repr, seen)) or 'none'}.")
    shares = dict.fromkeys(seen, 1.0) if planned is None else dict(planned)
    for label in shares:
        if label not in seen:
            # A planned variant without a single unit is the worst mismatch, not a typing error to pass over.
            raise DataError.unknown("planned variant", label, seen)
    if set(seen) - set(shares):
        raise InputError(f"The planned split says nothing of {', '.join(map(repr, sorted(set(seen) - set(shares))))}.")
    weights = gate.positive("planned", list(shares.values()))
    planned_shares = {label: float(w / weights.sum()) for label, w in zip(shares, weights, strict=True)}
    total = sum(seen.values())
    if total == 0:
        raise DataError("No units were counted in any variant.")
    expected = {label: total * planned_shares[label] for label in seen}
    observed = np.array([seen[label] for label in seen], dtype=np.float64)
    model = np.array([expected[label] for label in seen])
    statistic = float(np.sum((observed - model) ** 2 / model))
    df = len(seen) - 1
    p = float(chisquare.sf(statistic, df))
    return SplitCheck(
        title="Split of units between variants",
        method="chi-square test of the planned split",
        source="Pearson (1900), Philosophical Magazine 50, 157-175",
        counts=seen,
        planned={label: planned_shares[label] for label in seen},
        expected=expected,
        statistic=statistic,
        df=df,
        p_value=p,
        sound=p >= ALARM,
        by=getattr(counts, "column", ""),
    )
