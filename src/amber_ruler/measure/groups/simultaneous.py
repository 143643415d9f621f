"""Pairs of several groups: simultaneous intervals, adjusted p-values, and letters for what does not differ."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple, Protocol, TypeAlias

import numpy as np
from numpy.typing import NDArray

from amber_ruler import effects
from amber_ruler.effects import Alternative
from amber_ruler.errors import InputError
from amber_ruler.multiplicity.correct import cut_at_null
from amber_ruler.multiplicity.corrected import corrected
from amber_ruler.multiplicity.p_values import METHODS, Method
from amber_ruler.numeric import dunnett, fisher, gate, student, studentized
from amber_ruler.numeric.gate import Floats
from amber_ruler.results import Axis, Check, Comparison, Correction, EffectSize, Group, Interval, Test

Places: TypeAlias = NDArray[np.intp]
Step: TypeAlias = Method | Literal["none"]
PairwiseMethod: TypeAlias = Literal["games-howell", "tukey-kramer", "scheffe"] | Step
Against: TypeAlias = Literal["dunnett", "step-down dunnett"] | Step

CORRECTIONS = {key: (way.name, way.source) for key, way in METHODS.items()}
CORRECTIONS["none"] = ("no correction", "Student (1908), Biometrika 6, 1-25")
SCHEFFE = ("Scheffé", "Scheffé (1953), Biometrika 40, 87-104")
_PAIRWISE = {
    "games-howell": ("Games–Howell", "Games & Howell (1976), Journal of Educational Statistics 1, 113-125"),
    "tukey-kramer": ("Tukey–Kramer", "Kramer (1956), Biometrics 12, 307-310"),
    "scheffe": SCHEFFE,
    **CORRECTIONS,
}
_AGAINST = {
    "dunnett": ("Dunnett", "Dunnett (1955), JASA 50, 1096-1121"),
    "step-down dunnett": ("step-down Dunnett", "Dunnett & Tamhane (1991), Statistics in Medicine 10, 939-947"),
    **CORRECTIONS,
}
_BY_STEPS = ("step-down dunnett", *(key for key, way in METHODS.items() if way.by_steps))


@dataclass(frozen=True, slots=True, eq=False)
class Spreads:
    """What pairs of groups are compared by.

    Attributes
    ----------
    away : ndarray, shape (k,)
        Each mean less the first one.
    variance, df : ndarray, shape (k,)
        Squared standard error of each mean, and its degrees of freedom.
    n, sd : ndarray, shape (k,)
        Units, and each group's own standard deviation.
    shared : bool
        Whether all groups share one variance, and so its degrees of freedom.
    covariance : ndarray of shape (k, k), optional
        Of the means, where all groups are of the same units.
    """

    away: Floats
    variance: Floats
    df: Floats
    n: Floats
    sd: Floats
    shared: bool
    covariance: Floats | None = None


class Several(Protocol):
    """What is asked of several groups, to compare their pairs."""

    @property
    def metric(self) -> str:
        """What was measured."""

    @property
    def alpha(self) -> float:
        """Error rate."""

    @property
    def overall_p(self) -> float:
        """P-value of the test that any differs."""

    @property
    def groups(self) -> tuple[Group, ...]:
        """The groups."""

    @property
    def compared(self) -> str:
        """What the test assumes."""

    @property
    def quantity(self) -> str:
        """By what they are compared."""

    @property
    def good(self) -> str:
        """The direction in which the metric is good."""

    @property
    def spreads(self) -> Spreads:
        """What pairs are compared by."""

    @property
    def checks(self) -> tuple[Check, ...]:
        """Assumptions looked at."""


class Differences(NamedTuple):
    """Differences of means, each with its standard error and degrees of freedom."""

    difference: Floats
    se: Floats
    df: Floats

    @property
    def t(self) -> Floats:
        """Each over its standard error."""
        return self.difference / self.se


class Asked(NamedTuple):
    """How a comparison along pairs, variants or contrasts is told."""

    title: str
    words: str
    axis: Axis
    treatment: str
    control: str
    groups: tuple[Group, ...]
    effects: Mapping[str, EffectSize]
    letters: Mapping[str, str]


def _pairs(by: Spreads, i: Places, j: Places, *, pooled: bool) -> Differences:
    difference = by.away[i] - by.away[j]
    if by.covariance is not None:
        variance = by.variance[i] + by.variance[j] - 2 * by.covariance[i, j]
        if np.any(variance <= 1e-14 * (by.variance[i] + by.variance[j])):
            raise InputError("Two conditions differ by the same amount in every unit: there is no spread to test by.")
        return Differences(difference, np.sqrt(variance), by.df[i])
    if by.shared or not pooled:
        variance = by.variance
    else:  # asked for one variance of all
        within = float((by.n - 1) @ by.sd**2 / (by.n.sum() - by.n.size))
        variance = within / by.n
    se = np.sqrt(variance[i] + variance[j])
    if by.shared:
        return Differences(difference, se, by.df[i])
    if pooled:
        return Differences(difference, se, np.full(i.size, by.n.sum() - by.n.size))
    df = se**4 / (variance[i] ** 2 / (by.n[i] - 1) + variance[j] ** 2 / (by.n[j] - 1))
    return Differences(difference, se, df)


def pairwise(asked: Several, method: PairwiseMethod) -> Comparison:
    """Every pair of groups: see `Groups.pairwise`."""
    gate.choice("method", method, _PAIRWISE)
    by, k, alpha = asked.spreads, len(asked.groups), asked.alpha
    special = method in ("games-howell", "tukey-kramer", "scheffe")
    if special and (
        asked.compared in ("ranks", "same-units") or (asked.compared == "adjusted" and method != "scheffe")
    ):
        raise InputError(
            f"{_PAIRWISE[method][0]} is for independent groups and their means: take a correction such as 'holm'."
        )
    if method == "games-howell" and by.shared and np.any(by.n < 2):
        raise InputError("Games–Howell needs at least 2 units in each group.")
    i, j = (np.asarray(part) for part in np.triu_indices(k, 1))
    own = Spreads(by.away, by.sd**2 / by.n, by.n - 1, by.n, by.sd, shared=False) if method == "games-howell" else by
    pairs = _pairs(own, i, j, pooled=method in ("tukey-kramer", "scheffe"))
    raw = 2 * student.sf(np.abs(pairs.t), pairs.df)
    if method == "scheffe":
        adjusted = fisher.sf(pairs.t**2 / (k - 1), k - 1, pairs.df)
        critical = np.sqrt((k - 1) * fisher.upper_quantile(alpha, k - 1, pairs.df[:1]))
    elif special:
        root = np.sqrt(2)
        adjusted = studentized.sf(np.abs(pairs.t) * root, k, pairs.df)
        df = pairs.df[:1] if method == "tukey-kramer" else pairs.df
        critical = studentized.upper_quantile(alpha, k, df) / root
    else:
        adjusted, critical = by_correction(raw, pairs.df, method, alpha, "two-sided")
    labels = tuple(g.label for g in asked.groups)
    shown = Asked(
        title=f"{asked.metric}: pairs of {k} groups",
        words="all pairs",
        axis=Axis("pair", _labels(labels, i, j)),
        treatment="each group",
        control="every other",
        groups=_sides(asked, i, j),
        effects=_sizes(asked, i, j),
        letters=_letters(labels, asked, i, j, adjusted),
    )
    return result(asked, shown, pairs, raw, adjusted, critical, method, _PAIRWISE[method])


def against(asked: Several, control: str, method: Against, alternative: Alternative) -> Comparison:
    """Every other group against one: see `Groups.against`."""
    gate.choice("method", method, _AGAINST)
    by, alpha = asked.spreads, asked.alpha
    labels = [g.label for g in asked.groups]
    base = labels.index(control)
    i = np.array([k for k in range(len(labels)) if k != base])
    j = np.full(i.size, base)
    pairs = _pairs(by, i, j, pooled=False)
    sided = {"greater": pairs.t, "less": -pairs.t}.get(alternative, np.abs(pairs.t))
    two = alternative == "two-sided"
    effects.tails(alpha, alternative)
    raw = np.minimum((2 if two else 1) * student.sf(sided, pairs.df), 1.0)
    if "dunnett" not in method:
        adjusted, critical = by_correction(raw, pairs.df, method, alpha, alternative)
    elif by.covariance is not None or asked.compared == "ranks":
        raise InputError(
            "Dunnett's method is for independent groups and their means: take a correction such as 'holm'."
        )
    else:
        loadings = np.sqrt(by.variance[base] / (by.variance[base] + by.variance[i]))
        critical = _by_df(pairs.df, lambda df: dunnett.critical(alpha, df, loadings, two_sided=two))
        steps = np.argsort(-sided) if method == "step-down dunnett" else None
        adjusted = np.empty(i.size)
        for place, at in enumerate(steps if steps is not None else range(i.size)):
            left = loadings if steps is None else loadings[steps[place:]]
            adjusted[at] = dunnett.sf(float(sided[at]), float(pairs.df[at]), left, two_sided=two)
        if steps is not None:
            adjusted[steps] = np.maximum.accumulate(adjusted[steps])
    shown = Asked(
        title=f"{asked.metric}: {len(labels)} groups",
        words=f"each against {control}",
        axis=Axis("variant", _labels(labels, i, j)),
        treatment="each other group",
        control=control,
        groups=_sides(asked, i, j),
        effects=_sizes(asked, i, j),
        letters={},
    )
    return result(asked, shown, pairs, raw, adjusted, critical, method, _AGAINST[method], alternative=alternative)


def _by_df(df: Floats, critical: Callable[[float], float]) -> Floats:
    known = {value: critical(value) for value in set(df.tolist())}
    return np.array([known[value] for value in df.tolist()])


def by_correction(raw: Floats, df: Floats, method: str, alpha: float, alternative: str) -> tuple[Floats, Floats]:
    """Adjusted p-values and the critical values of intervals to go with them."""
    if method == "none":
        adjusted, each = raw, np.full(raw.size, alpha)
    else:
        family = corrected(tuple(map(str, range(raw.size))), raw, method, alpha, ())
        adjusted, each = family.adjusted, np.asarray(family.interval_alpha)
    return adjusted, student.upper_quantile(each / (2 if alternative == "two-sided" else 1), df)


def result(
    asked: Several,
    shown: Asked,
    found: Differences,
    raw: Floats,
    adjusted: Floats,
    critical: Floats,
    method: str,
    named: tuple[str, str],
    *,
    alternative: str = "two-sided",
) -> Comparison:
    """Compose the comparison from p-values and the critical values of intervals that go with them."""
    alpha, adjusted = asked.alpha, np.minimum(adjusted, 1.0)
    reach = critical * found.se
    low = np.full(reach.shape, -np.inf) if alternative == "less" else found.difference - reach
    high = np.full(reach.shape, np.inf) if alternative == "greater" else found.difference + reach
    limits, cut = cut_at_null(Interval(low, high, 1 - alpha), found.difference, np.zeros(low.shape), adjusted < alpha)
    name, source = named
    part = Correction(
        method=name,
        source=source,
        adjusted=adjusted,
        alpha=alpha,
        keeps=METHODS[method].keeps if method in METHODS else "the chance of any false claim",
        size=raw.size,
        letters=shown.letters,
    )
    return Comparison(
        title=shown.title,
        method=f"{shown.words}, {name}",
        source=source,
        metric=asked.metric,
        treatment=shown.treatment,
        control=shown.control,
        estimate=found.difference,
        se=found.se,
        interval=limits,
        test=Test(
            p_value=raw,
            alpha=alpha,
            statistic=found.t,
            name="z" if asked.compared == "ranks" else "t",
            df=found.df,
            critical=np.broadcast_to(critical, raw.shape),
            null=np.zeros(raw.shape),
            alternative=alternative,
        ),
        effects=shown.effects,
        groups=shown.groups,
        facts={"overall_p": asked.overall_p},
        quantity=asked.quantity,
        good=asked.good,
        axis=shown.axis,
        parts=(part,),
        checks=tuple(c for c in asked.checks if c.severity in ("warning", "serious")),
        notes=_notes(asked, adjusted, int(cut.sum()) if method in _BY_STEPS else 0, name),
    )


def _labels(labels: Sequence[str], i: Places, j: Places) -> tuple[str, ...]:
    return tuple(f"{labels[a]} − {labels[b]}" for a, b in zip(i.tolist(), j.tolist(), strict=True))


def _sides(asked: Several, i: Places, j: Places) -> tuple[Group, ...]:
    """The first and the second group of each pair."""
    by, mean = asked.spreads, np.array([float(g.mean) for g in asked.groups])
    sides = (("treatment", i), ("control", j))
    return tuple(Group(role, by.n[k], mean[k], by.sd[k]) for role, k in sides)


def _notes(asked: Several, adjusted: Floats, cut: int, name: str) -> tuple[str, ...]:
    notes: list[str] = []
    if cut:
        notes.append(f"{cut} of the intervals end at 0, which {name} rejects by its steps.")
    if asked.overall_p >= asked.alpha and np.any(adjusted < asked.alpha):
        notes.append(f"The overall test finds nothing (p = {asked.overall_p:.3g}): take a pair that differs with care.")
    return tuple(notes)


def _sizes(asked: Several, i: Places, j: Places) -> dict[str, EffectSize]:
    """Hedges g of each pair by itself, where independent groups are compared by their means."""
    by = asked.spreads
    if asked.compared not in ("equal", "unequal") or np.any(by.n[i] + by.n[j] <= 3):
        return {}
    within = ((by.n[i] - 1) * by.sd[i] ** 2 + (by.n[j] - 1) * by.sd[j] ** 2) / (by.n[i] + by.n[j] - 2)
    if np.any(within <= 0):
        return {}
    t = (by.away[i] - by.away[j]) / np.sqrt(within * (1 / by.n[i] + 1 / by.n[j]))
    return {"hedges_g": effects.standardised(t, by.n[i], by.n[j], alpha=asked.alpha)["hedges_g"]}


def _letters(labels: tuple[str, ...], asked: Several, i: Places, j: Places, adjusted: Floats) -> dict[str, str]:
    """Letters that groups share which do not differ significantly, from the highest group on.

    References
    ----------
    .. [1] Piepho (2004), Journal of Computational and Graphical Statistics 13, 456-466.
    """
    sets = [set(range(len(labels)))]
    differ = adjusted < asked.alpha
    for a, b in zip(i[differ].tolist(), j[differ].tolist(), strict=True):
        apart = [s - {k} for s in sets if {a, b} <= s for k in (a, b)]
        sets = [s for s in sets if not {a, b} <= s]
        for s in apart:
            if not any(s <= other for other in sets):
                sets = [other for other in sets if not other <= s] + [s]
    height = asked.spreads.away
    sets.sort(key=lambda s: sorted(-height[k] for k in s))
    return {label: "".join(_letter(place) for place, s in enumerate(sets) if k in s) for k, label in enumerate(labels)}


def _letter(place: int) -> str:
    turn, at = divmod(place, 26)
    return chr(ord("a") + at) + (str(turn) if turn else "")
