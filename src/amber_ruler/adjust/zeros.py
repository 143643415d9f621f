"""Skewed amounts with many zeros: geometric means, and the two parts of an amount."""

from __future__ import annotations

from typing import Literal, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.adjust import pair
from amber_ruler.errors import DataError
from amber_ruler.measure import checks, means, shared
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Adjustment, Comparison, EffectSize, Group, Interval
from amber_ruler.samples import Sample, ValueGroup
from amber_ruler.samples import gate as groups
from amber_ruler.settings import Tested


@method(
    takes="two",
    needs="values",
    examples=("travellers.csv --value fare --by form --control current --zeros apart",),
    exempt={"shift": "a ratio changes with what is added to both", "null": "the tested value is a ratio"},
    defaults={"null": 1.0},
    single=True,
)
def geometric(
    treatment: ValueGroup,
    control: ValueGroup,
    *,
    zeros: Literal["refuse", "apart"] = "refuse",
    **asked: Unpack[Tested],
) -> Comparison:
    """How many times as large is a typical value of treatment, by the geometric mean?

    Parameters
    ----------
    treatment, control : array_like or Sample
        Values above 0.
    zeros : "refuse" or "apart"
        What to do with zeros, which have no logarithm: refuse, or leave them out, count them and say so. Nothing is
        added to them: the answer would be that of the number added.
    null : float
        Tested ratio.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Returns
    -------
    Comparison
        Ratio of the geometric means, treatment over control, with Welch's test of the logarithms.

    Raises
    ------
    DataError
        If a value is below 0, or is 0 where zeros are refused.

    References
    ----------
    .. [1] Bland & Altman (1996), BMJ 312, 1079, for comparing means of logarithms.

    Examples
    --------
    >>> r = geometric([2.0, 4, 8, 16], [1.0, 2, 4, 8])
    >>> round(r.estimate, 4), round(r.p_value, 4)
    (2.0, 0.3153)
    """
    ask = shared.question(asked)
    gate.choice("zeros", zeros, ("refuse", "apart"))
    one, two = groups.two(treatment, control, "values")
    name = groups.named(ask.metric, "value", one, two)
    at = float(gate.positive("null", gate.single("null", ask.null)))
    count = [_zeros(s) for s in (one, two)]
    if any(count) and zeros == "refuse":
        listed = ", ".join(f"{s.label} {c:,} of {len(s):,}" for s, c in zip((one, two), count, strict=True))
        raise DataError(
            f"Zeros have no logarithm ({listed}). Compare the two parts with adjust.two_part: who has a value above 0,"
            " and how large it is; or leave them out with zeros='apart'."
        )
    logs = [Sample(np.log(s.values[s.values > 0]), s.label) for s in (one, two)]
    welch = means(*logs, alpha=ask.alpha, alternative=ask.alternative)
    each = [
        Group(
            g.label,
            g.n,
            float(np.exp(g.mean)),
            se=float(np.exp(g.mean)) * float(g.se),
            more={"zeros": float(c)} if any(count) else {},
        )
        for g, c in zip(welch.groups, count, strict=True)
    ]
    notes = []
    if any(count):
        shares = ", ".join(f"{s.label} {c:,} of {len(s):,}" for s, c in zip((one, two), count, strict=True))
        notes.append(f"Zeros are left out ({shares}): the values above 0 are compared, not how many there are.")
    difference = np.asarray(logs[0].values.mean() - logs[1].values.mean())
    df = float(np.asarray(welch.df))
    return pair.ratio_of(
        ask, (one.label, two.label), float(difference), float(np.asarray(welch.se)), df, at, each,
        metric=f"geometric mean of {name}", method="two means of logarithms, unequal variances",
        source="Bland & Altman (1996), BMJ 312, 1079", quantity="adjusted mean",
        checks_=checks.missing(one, two), notes=notes,
    )  # fmt: skip


def _zeros(sample: Sample) -> int:
    below = int(np.sum(sample.values < 0))
    if below:
        raise DataError(f"{below:,} values of {sample.label!r} are below 0: they have no logarithm.")
    zeros = int(np.sum(sample.values == 0))
    if len(sample) - zeros < 2:
        raise DataError(f"{sample.label!r} has {len(sample) - zeros} values above 0: at least 2 are needed.")
    return zeros


@method(
    takes="two",
    needs="values",
    examples=("travellers.csv --value fare --by form --control current",),
    exempt={"shift": "a zero is a value of its own", "null": "the tested value is a ratio"},
    defaults={"null": 1.0},
    single=True,
)
def two_part(
    treatment: ValueGroup,
    control: ValueGroup,
    **asked: Unpack[Tested],
) -> Comparison:
    """Where does a difference come from: from how many have a value at all, or from how large it is?

    Parameters
    ----------
    treatment, control : array_like or Sample
        Values of at least 0, such as fares that are 0 of who didn't book.
    alpha : float, between 0 and 0.5
        Error rate of the test; each interval has level 1 - alpha.
    null : float
        Tested ratio of the means.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.

    Returns
    -------
    Comparison
        Ratio of the means over all units, treatment over control, tested on the log scale. In `effects` its two
        factors: `share`, the ratio of the shares above 0, and `amount`, the ratio of the means of the values above 0.

    Raises
    ------
    DataError
        If a value is below 0, or a group has fewer than two values above 0.

    Notes
    -----
    The mean is the share above 0 times the mean of those, so the logarithms of the two ratios add up, and so do their
    variances, the two parts being independent: (1 - p) / (n p) of a share and s² / (m x̄²) of an amount, m values with
    m - 1 in s². z is normal.

    References
    ----------
    .. [1] Duan, Manning, Morris & Newhouse (1983), Journal of Business & Economic Statistics 1, 115-126.
    .. [2] Lachenbruch (2002), Statistical Methods in Medical Research 11, 297-302.

    Examples
    --------
    >>> r = two_part([0.0, 0, 3, 4, 5, 6], [0.0, 0, 0, 2, 3, 4])
    >>> round(r.estimate, 3), round(r.effects["share"].value, 3), round(r.effects["amount"].value, 3)
    (2.0, 1.333, 1.5)
    """
    ask = shared.question(asked)
    one, two = groups.two(treatment, control, "values")
    name = groups.named(ask.metric, "value", one, two)
    at = float(gate.positive("null", gate.single("null", ask.null)))
    parts = [_parts(s) for s in (one, two)]
    share, amount = (parts[0][k] - parts[1][k] for k in (0, 1))
    variances = [parts[0][k] + parts[1][k] for k in (2, 3)]
    if sum(variances) <= 0:
        raise DataError("Neither part has any spread: there is nothing to test a ratio by.")
    found = {
        "share": _factor(ask, share, variances[0], "ratio of shares above 0"),
        "amount": _factor(ask, amount, variances[1], "ratio of means of values above 0"),
    }
    each = []
    for s in (one, two):
        above = s.values[s.values > 0]
        mean = float(s.values.mean())
        se = mean * float(np.sqrt(_parts(s)[2] + _parts(s)[3]))
        each.append(
            Group(
                s.label,
                len(s),
                mean,
                se=se,
                more={"share above 0": above.size / len(s), "mean of those": float(above.mean())},
            )
        )
    told = "in two parts: how many have a value above 0, and how large it is"
    return pair.ratio_of(
        ask, (one.label, two.label), share + amount, float(np.sqrt(sum(variances))), None, at, each, metric=name,
        method="share above 0 times mean above 0, on the log scale",
        source="Duan, Manning, Morris & Newhouse (1983), JBES 1, 115-126", quantity="adjusted mean", found=found,
        checks_=checks.missing(one, two), parts=(Adjustment(steps=(told,)),),
    )  # fmt: skip


def _parts(sample: Sample) -> tuple[float, float, float, float]:
    """Logarithms of the share above 0 and of the mean of those, and the variances of these."""
    n, m = len(sample), len(sample) - _zeros(sample)
    above = sample.values[sample.values > 0]
    mean = float(above.mean())
    p = m / n
    spread = float(np.sum((above - mean) ** 2)) / (m - 1)
    return float(np.log(p)), float(np.log(mean)), (1 - p) / (n * p), spread / (m * mean**2)


def _factor(ask: shared.Question, log: float, variance: float, label: str) -> EffectSize:
    below, above = (
        critical * float(np.sqrt(variance)) if variance > 0 else 0.0 for critical in effects.critical_z(ask.tail)
    )
    low, high = np.exp(np.array([log - below, log + above]))
    if ask.alternative == "less":
        low = 0.0
    ends: tuple[Floats, Floats] = (np.asarray(low), np.asarray(high))
    return EffectSize(float(np.exp(log)), Interval(float(ends[0]), float(ends[1]), ask.level), label, "ratio")
