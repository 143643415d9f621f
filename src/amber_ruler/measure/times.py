"""Time to an event, where some have not had it by the end of what was seen."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, EffectSize, Estimate, Group, Survival
from amber_ruler.samples import Records
from amber_ruler.settings import Named, Tested, WithMargin

_WHY = {
    "broadcast": "rows of one metric are needed",
    "shift": "a time added to all is no shift of a mean up to an end, and a ratio of hazards knows none",
}
_RATIO = {
    "rescale": "a ratio of hazards does not change with the unit of time",
    "null": "the tested value is a ratio",
}
_PETO = "Mantel (1966), Cancer Chemotherapy Reports 50, 163-170; Peto et al. (1977), British J. Cancer 35, 1-39"
_IRWIN = "Irwin (1949), Journal of Hygiene 47, 188-189; Royston & Parmar (2013), BMC Med. Res. Methodology 13, 152"


class _Curve(NamedTuple):
    """Kaplan and Meier's estimate at every time with an event."""

    times: Floats
    kept: Floats  # the share that had no event by then, and at it
    low: Floats
    high: Floats
    at_risk: Floats
    events: Floats
    last: float  # the largest time seen
    units: int


@method(
    takes="one",
    needs="values",
    columns=("value", "event"),
    examples=("travellers.csv --value minutes_to_book --event booked --until 20",),
    exempt=_WHY,
)
def time(
    group: Records,
    *,
    value: str,
    event: str,
    until: float | None = None,
    **asked: Unpack[Named],
) -> Estimate:
    """How long does it take until something happens, when some have not had it yet?

    Parameters
    ----------
    group : Records
        The units: how long each was seen, and whether it happened then.
    value : str
        Column with the time.
    event : str
        Column with 1 where the event came at that time, and 0 where the unit was seen no longer.
    until : float, optional
        The mean is that of the time up to here; the largest time seen unless given.

    Returns
    -------
    Estimate
        The restricted mean: the mean time without the event up to `until`, with its interval. Its group holds the
        events and the median; `survival` the share without the event by each time, with log-log limits.

    Raises
    ------
    DataError
        If nothing happened, a time is below 0, or nobody was seen until then.

    References
    ----------
    .. [1] Kaplan & Meier (1958), Journal of the American Statistical Association 53, 457-481.
    .. [2] Greenwood (1926), Reports on Public Health and Medical Subjects 33, for the variance.

    Examples
    --------
    >>> r = time(Records({"days": [6.0, 6, 6, 7, 10], "left": [1.0, 1, 0, 1, 0]}, "all"), value="days", event="left")
    >>> round(r.estimate, 3), r.groups[0].more["median"]
    (7.5, 7.0)
    """
    ask = shared.question(asked)
    rows = _rows([group], value, event)
    (curve,) = (_curve(t, e, ask.alpha) for t, e in _seen(rows, value, event))
    end = _until(until, [curve], [rows.labels[0]])
    mean, variance = _restricted(curve, end)
    se = float(np.sqrt(variance))
    below, above = effects.critical_z(ask.tail)
    name = ask.metric or value
    return Estimate(
        title=f"{name}: time to {event}, {rows.labels[0]}",
        method=f"restricted mean up to {end:g}, Kaplan–Meier",
        source="Kaplan & Meier (1958), JASA 53, 457-481; Irwin (1949), Journal of Hygiene 47, 188-189",
        metric=name,
        label=rows.labels[0],
        estimate=mean,
        se=se,
        interval=ask.interval(mean - below * se, mean + above * se),
        groups=(_group(rows.labels[0], curve, mean, se),),
        quantity="restricted mean",
        checks=checks.missing_rows(rows),
        facts={"until": end},
        parts=(_part([rows.labels[0]], [curve]),),
    )


class _Two(NamedTuple):
    """Both variants, as both comparisons need them."""

    rows: Any
    curves: list[_Curve]
    until: float
    means: list[tuple[float, float]]  # restricted, with variances
    observed: float
    expected: float
    variance: float

    @property
    def groups(self) -> tuple[Group, ...]:
        """Each with its restricted mean, events and median."""
        each = zip(self.rows.labels, self.curves, self.means, strict=True)
        return tuple(_group(label, c, m, float(np.sqrt(v))) for label, c, (m, v) in each)

    @property
    def gap(self) -> tuple[float, float]:
        """The difference of restricted means, and its standard error."""
        (one, v1), (two, v0) = self.means
        return one - two, float(np.sqrt(v1 + v0))

    @property
    def log_ratio(self) -> tuple[float, float]:
        """The logarithm of the ratio of hazards, and its standard error."""
        if not self.variance > 0:
            return 0.0, float("inf")
        return (self.observed - self.expected) / self.variance, float(1 / np.sqrt(self.variance))


def _two(treatment: Records, control: Records, value: str, event: str, until: float | None, alpha: float) -> _Two:
    rows = _rows([treatment, control], value, event)
    seen = _seen(rows, value, event)
    curves = [_curve(t, e, alpha) for t, e in seen]
    if not sum(float(c.events.sum()) for c in curves):
        raise DataError(f"Nothing happened: {event!r} is 0 in all rows.")
    end = _until(until, curves, list(rows.labels))
    return _Two(rows, curves, end, [_restricted(c, end) for c in curves], *_log_rank(*seen[0], *seen[1]))


@method(
    takes="two",
    needs="values",
    columns=("value", "event"),
    examples=("travellers.csv --value minutes_to_book --event booked --by form --control current",),
    exempt=_WHY | _RATIO,
    defaults={"null": 1.0},
    single=True,
)
def times(
    treatment: Records,
    control: Records,
    *,
    value: str,
    event: str,
    until: float | None = None,
    **asked: Unpack[Tested],
) -> Comparison:
    """Does an event come sooner in treatment, when some units have not had it yet?

    Parameters
    ----------
    treatment, control : Records
        The units of each variant: how long each was seen, and whether it happened then.
    value : str
        Column with the time.
    event : str
        Column with 1 where the event came at that time, and 0 where the unit was seen no longer.
    until : float, optional
        Where the restricted means beside it end; the smaller of both variants' largest times unless given.
    null : float
        Tested ratio of hazards.
    good : "higher" or "lower"
        Whether it is good that the event comes sooner, or later.

    Returns
    -------
    Comparison
        The ratio of hazards, treatment over control, with the log-rank test's z and p and the interval that inverts it:
        above 1 it comes sooner. The difference of restricted means stands in `effects`; each group holds its restricted
        mean, events and median; `survival` both curves.

    Raises
    ------
    DataError
        If nothing happened, a time is below 0, or nobody of a variant was seen until then.

    Notes
    -----
    The ratio is Peto's one step, exp((O − E)/V), with V the hypergeometric variance, ties included: its z is that of
    the log-rank test, so that test and interval agree. It is pulled towards 1 where it is far from it.

    References
    ----------
    .. [1] Mantel (1966), Cancer Chemotherapy Reports 50, 163-170.
    .. [2] Peto et al. (1977), British Journal of Cancer 35, 1-39.

    Examples
    --------
    >>> one = Records({"days": [3.0, 5, 8, 9], "left": [1.0, 1, 1, 0]}, "short")
    >>> two = Records({"days": [1.0, 2, 4, 6], "left": [1.0, 1, 1, 1]}, "current")
    >>> r = times(one, two, value="days", event="left")
    >>> round(r.estimate, 3), round(r.p_value, 3)
    (0.277, 0.133)
    """
    ask = shared.question(asked)
    at = float(gate.positive("null", gate.single("null", ask.null)))
    two = _two(treatment, control, value, event, until, ask.alpha)
    log, log_se = two.log_ratio
    gap, gap_se = two.gap
    below, above = effects.critical_z(ask.tail)
    z = (log - np.log(at)) / log_se
    p = shared.p_value(np.asarray(z), normal.sf, ask.alternative)
    name, (one, other) = ask.metric or value, two.rows.labels
    aside = EffectSize(
        gap, ask.interval(gap - below * gap_se, gap + above * gap_se), f"restricted mean to {two.until:g}"
    )
    return Comparison(
        title=f"{name}: time to {event}, {one} / {other}",
        method="ratio of hazards by the log-rank test",
        source=_PETO,
        metric=name,
        treatment=one,
        control=other,
        estimate=float(np.exp(log)),
        interval=ask.interval(*np.exp([log - below * log_se, log + above * log_se])),
        test=ask.test(np.asarray(p), np.asarray(at), statistic=np.asarray(z), name="z", critical=min(below, above)),
        scale="ratio",
        effects={"restricted_mean": aside},
        groups=two.groups,
        facts={"observed": two.observed, "expected": two.expected, "variance": two.variance, "until": two.until},
        quantity="hazard",
        good=ask.good,
        checks=(*checks.missing_rows(two.rows), *_crossing(two.curves)),
        parts=(_part(list(two.rows.labels), two.curves),),
    )


@method(
    takes="two",
    needs="values",
    columns=("value", "event"),
    examples=("travellers.csv --value minutes_to_book --event booked --by form --control current --until 20",),
    exempt=_WHY,
    single=True,
)
def restricted_means(
    treatment: Records,
    control: Records,
    *,
    value: str,
    event: str,
    until: float | None = None,
    **asked: Unpack[WithMargin],
) -> Comparison:
    """How much longer do units of treatment go without an event, up to some time, when some have not had it yet?

    Parameters
    ----------
    treatment, control, value, event
        As for `times`.
    until : float, optional
        Where the means end; the smaller of both variants' largest times unless given. Fix it before you look.

    Returns
    -------
    Comparison
        The difference of the mean times without the event up to `until`, with z, p and interval: the area between the
        curves, whether or not hazards are in proportion. The ratio of hazards stands in `effects`.

    Raises
    ------
    DataError
        As for `times`.

    References
    ----------
    .. [1] Irwin (1949), Journal of Hygiene 47, 188-189.
    .. [2] Royston & Parmar (2013), BMC Medical Research Methodology 13, 152.

    Examples
    --------
    >>> one = Records({"days": [3.0, 5, 8, 9], "left": [1.0, 1, 1, 0]}, "short")
    >>> two = Records({"days": [1.0, 2, 4, 6], "left": [1.0, 1, 1, 1]}, "current")
    >>> r = restricted_means(one, two, value="days", event="left", until=6)
    >>> round(r.estimate, 3), round(r.p_value, 3)
    (1.75, 0.124)
    """
    ask = shared.question(asked)
    at = float(gate.finite("null", gate.single("null", ask.null)))
    two = _two(treatment, control, value, event, until, ask.alpha)
    gap, gap_se = two.gap
    log, log_se = two.log_ratio
    below, above = effects.critical_z(ask.tail)
    if not gap_se > 0:
        raise DataError(
            f"Nothing happened until {two.until:g} (until) that tells the variants apart: there is no spread."
        )
    z = (gap - at) / gap_se
    p = shared.p_value(np.asarray(z), normal.sf, ask.alternative)

    def one_sided(shift: Floats, way: str) -> Floats:
        return shared.p_value((gap - np.asarray(shift)) / gap_se, normal.sf, way)

    name, (one, other) = ask.metric or value, two.rows.labels
    ratio = ask.interval(*np.exp([log - below * log_se, log + above * log_se]))
    return Comparison(
        title=f"{name}: time to {event}, {one} − {other}",
        method=f"restricted mean up to {two.until:g}, Kaplan–Meier",
        source=_IRWIN,
        metric=name,
        treatment=one,
        control=other,
        estimate=gap,
        se=gap_se,
        interval=ask.interval(gap - below * gap_se, gap + above * gap_se),
        test=ask.test(
            np.asarray(p), np.asarray(at), statistic=np.asarray(z), name="z", critical=min(below, above),
            margin_tests=shared.margin_tests(ask, one_sided, np.asarray(at)),
        ),
        effects={"hazards": EffectSize(float(np.exp(log)), ratio, "ratio of hazards", "ratio")},
        groups=two.groups,
        facts={"until": two.until},
        quantity="restricted mean",
        good=ask.good,
        margin=ask.margin,
        checks=checks.missing_rows(two.rows),
        parts=(_part(list(two.rows.labels), two.curves),),
    )  # fmt: skip


def _rows(arms: Sequence[Any], value: str, event: str) -> Any:
    """Rows of all variants with a time and an event, or the reason why there are none."""
    for arm in arms:
        if not hasattr(arm, "together"):
            kind = type(arm).__name__
            raise InputError(f"Times and events are two columns: give Records, or table.records(…), not {kind}.")
    return arms[0].together(list(arms[1:]), [value, event]).known([value, event])


def _seen(rows: Any, value: str, event: str) -> list[tuple[Floats, Floats]]:
    """Times and events of each variant."""
    found = list(zip(rows.values(value), rows.values(event), strict=True))
    for times_, events in found:
        if np.any(times_ < 0):
            raise DataError(f"Column {value!r} holds times below 0, first {times_[times_ < 0][0]:g}.")
        if np.any((events != 0) & (events != 1)):
            odd = events[(events != 0) & (events != 1)][0]
            raise DataError(f"Column {event!r} holds {odd:g}: 1 says that it happened, 0 that one was seen no longer.")
    return found


def _curve(times_: Floats, events: Floats, alpha: float) -> _Curve:
    """Kaplan and Meier's estimate, with log-log limits from Greenwood's variance."""
    at, where = np.unique(times_, return_inverse=True)
    happened = np.bincount(where, weights=events, minlength=len(at))
    left = np.bincount(where, minlength=len(at)).astype(float)
    risk = len(times_) - np.concatenate([[0], np.cumsum(left)[:-1]])
    some = happened > 0
    d, n = happened[some].astype(float), risk[some].astype(float)
    kept = np.cumprod(1 - d / n)
    with np.errstate(divide="ignore", invalid="ignore"):
        greenwood = np.cumsum(np.where(n > d, d / (n * (n - d)), np.inf))
        log = np.log(kept)
        reach = normal.upper_quantile(alpha / 2) * np.sqrt(greenwood) / np.abs(log)
        low, high = kept ** np.exp(reach), kept ** np.exp(-reach)
    low, high = (np.where(np.isfinite(e), e, other) for e, other in ((low, 0.0), (high, np.where(kept > 0, 1.0, 0.0))))
    return _Curve(at[some], kept, low, high, n, d, float(times_.max()), len(times_))


def _until(until: float | None, curves: list[_Curve], labels: list[str]) -> float:
    """Where restricted means end."""
    if until is None:
        return min(c.last for c in curves)
    end = float(gate.positive("until", gate.single("until", until)))
    for curve, label in zip(curves, labels, strict=True):
        if end > curve.last and not (len(curve.kept) and curve.kept[-1] == 0):
            raise DataError(f"Nobody of {label!r} was seen until {end:g}: the last time there is {curve.last:g}.")
    return end


def _restricted(curve: _Curve, end: float) -> tuple[float, float]:
    """The area under the curve up to the end, and its variance: Σ (area beyond each event)² d / (n (n − d))."""
    inside = curve.times < end
    edges = np.concatenate([[0.0], curve.times[inside], [end]])
    heights = np.concatenate([[1.0], curve.kept[inside]])
    areas = heights * np.diff(edges)
    beyond = np.cumsum(areas[::-1])[::-1][1:]
    n, d = curve.at_risk[inside], curve.events[inside]
    with np.errstate(divide="ignore", invalid="ignore"):
        parts = np.where(n > d, beyond**2 * d / (n * (n - d)), 0.0)
    return float(areas.sum()), float(parts.sum())


def _log_rank(t1: Floats, e1: Floats, t0: Floats, e0: Floats) -> tuple[float, float, float]:
    """Events of treatment, how many there would be without a difference, and the hypergeometric variance."""
    at = np.unique(np.concatenate([t1[e1 == 1], t0[e0 == 1]]))
    risk1, risk0 = (len(t) - np.searchsorted(np.sort(t), at, side="left") for t in (t1, t0))
    d1, d0 = (
        np.bincount(np.searchsorted(at, t[e == 1]), minlength=len(at)).astype(float) for t, e in ((t1, e1), (t0, e0))
    )
    n, d = (risk1 + risk0).astype(float), d1 + d0
    share = risk1 / n
    variance = np.where(n > 1, d * share * (1 - share) * (n - d) / np.maximum(n - 1, 1), 0.0)
    return float(d1.sum()), float(np.sum(d * share)), float(variance.sum())


def _group(label: str, curve: _Curve, mean: float, se: float) -> Group:
    reached = np.flatnonzero(curve.kept <= 0.5 + 1e-12)
    median = float(curve.times[reached[0]]) if reached.size else float("inf")
    return Group(label, curve.units, mean, se=se, more={"events": float(curve.events.sum()), "median": median})


def _part(labels: list[str], curves: list[_Curve]) -> Survival:
    return Survival(
        labels=tuple(labels),
        times=tuple(c.times for c in curves),
        kept=tuple(c.kept for c in curves),
        low=tuple(c.low for c in curves),
        high=tuple(c.high for c in curves),
        last=tuple(c.last for c in curves),
    )


def _crossing(curves: list[_Curve]) -> tuple[Check, ...]:
    """Whether the curves cross, so that one ratio says little."""
    every = np.unique(np.concatenate([c.times for c in curves]))
    both = [np.concatenate([[1.0], c.kept])[np.searchsorted(c.times, every, side="right")] for c in curves]
    gap = both[0] - both[1]
    far = 0.1 * max(float(np.max(np.abs(gap), initial=0.0)), 0.05)
    if np.any(gap > far) and np.any(gap < -far):
        finding = "the curves cross: it comes sooner in one variant first, and in the other later"
        advice = "Compare restricted means: measure.restricted_means."
        return (Check("hazards in proportion", finding, advice, "warning"),)
    return (Check("hazards in proportion", "the curves do not cross"),)
