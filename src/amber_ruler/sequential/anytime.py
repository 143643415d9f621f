"""Intervals and p-values that hold at every moment, however often one looks and whatever makes one stop."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats, Number, scalar_or_array
from amber_ruler.results import Anytime, Axis, Comparison, Group, Interval, Test
from amber_ruler.samples import Counts, MeanGroup
from amber_ruler.samples import gate as groups
from amber_ruler.sequential import mixtures

_SOURCE = "Robbins (1970), Annals of Mathematical Statistics 41, 1397-1409"
_ASYMPTOTIC = "Waudby-Smith, Arbour, Sinha, Kennedy & Ramdas (2024), Annals of Statistics 52, 2613-2640"


def anytime(
    treatment: MeanGroup | Counts | Comparison | Sequence[Comparison] | tuple[ArrayLike, ArrayLike],
    control: MeanGroup | Counts | None = None,
    *,
    tau: ArrayLike | None = None,
    tuned_for: float | None = None,
    sequence: Literal["mixture", "asymptotic"] = "mixture",
    units: ArrayLike | None = None,
    alpha: float = 0.05,
    null: float = 0.0,
    alternative: Literal["two-sided", "greater", "less"] = "two-sided",
    metric: str = "",
) -> Comparison:
    """What is the difference, at every moment, for a test that may be looked at and stopped at any time?

    Parameters
    ----------
    treatment, control : group, Comparison, sequence of Comparison, or pair
        Two groups with all that had come in by each moment: Summary, Moments, values or Counts, whose arrays run over
        the moments along their last axis (and over metrics along the others). Or, without control, a Comparison of any
        method with a standard error (sharpened, of ratios), one a moment; or a pair of estimates and standard errors.
    tau : float or array, optional
        Standard deviation of the mixture, in the unit of the effect: about the size of effect that is looked for.
    tuned_for : float, optional
        Instead of tau: the number of units, in all groups, at which the interval is to be narrowest. τ² is then that
        many times the variance per unit as it is seen at each moment. The narrowest interval is that of one alpha, so
        that p depends on alpha here, as it does nowhere else; with tau it does not.
    sequence : "mixture" or "asymptotic"
        One-sided, "mixture" takes the exact root of the mixture above the null, "asymptotic" the closed form of
        Waudby-Smith et al. (2024), which is a little wider. Two-sided they are the same.
    units : array_like, optional
        Units in all at each moment, for a pair with `tuned_for`.
    alpha : float, between 0 and 0.5
        Chance that any of all intervals, at any moment, leaves out the true difference.
    null : float
        The value tested.
    alternative : "two-sided", "greater" or "less"
        Direction of the test.
    metric : str
        What was measured.

    Returns
    -------
    Comparison
        Along the moments. `p_value` is the smallest so far, and `interval` what all intervals so far have in common:
        p < alpha exactly where it leaves out the null. Those of each moment by itself, e-values and the price are in
        `anytime`.

    Raises
    ------
    InputError
        If neither tau nor tuned_for is given, or both.

    Notes
    -----
    The radius is √(V (V + τ²)/τ² · ln((V + τ²)/(V α²))), V being the square of the standard error. Variances are taken
    as they are seen (unpooled), so it holds as the number of units grows, and not for the first few. e-values of
    independent tests multiply. If intervals have no point in common, their limits are the wrong way round, and a note
    says so: the effect changed, or the data did.

    References
    ----------
    .. [1] Robbins (1970), Annals of Mathematical Statistics 41, 1397-1409.
    .. [2] Johari, Koomen, Pekelis & Walsh (2022), Operations Research 70, 1806-1821.
    .. [3] Waudby-Smith, Arbour, Sinha, Kennedy & Ramdas (2024), Annals of Statistics 52, 2613-2640.

    Examples
    --------
    >>> import numpy as np
    >>> from amber_ruler import Summary
    >>> n = np.array([1000, 2000, 4000])
    >>> r = anytime(Summary(n, 14.9, 21.0, "short"), Summary(n, 13.1, 20.0, "current"), tuned_for=8000)
    >>> r.p_value.round(4).tolist(), r.anytime.wider.round(2).tolist()
    ([0.4784, 0.102, 0.0032], [1.66, 1.57, 1.55])
    """
    alpha = float(gate.between("alpha", gate.single("alpha", alpha), 0, 0.5))
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    gate.choice("sequence", sequence, ("mixture", "asymptotic"))
    if (tau is None) == (tuned_for is None):
        raise InputError("Say how large an effect is looked for (tau=), or for how many units to tune (tuned_for=).")
    held = _held(treatment, control, metric)
    estimate, se = held["estimate"], held["se"]
    null = float(gate.finite("null", gate.single("null", null)))
    variance = se * se
    if tau is not None:
        if units is not None:
            raise InputError("units goes with tuned_for, which is not given.", name="units")
        spread = gate.positive("tau", tau)
        ratio, said = spread**2 / variance, "tau as given"
    else:
        seen = held["units"] if units is None else gate.positive("units", units)
        if seen is None:
            raise InputError("tuned_for needs the number of units at each moment: give units=.", name="units")
        target = float(gate.positive("tuned_for", gate.single("tuned_for", tuned_for)))
        best = mixtures.best_ratio(alpha, sides=2 if alternative == "two-sided" else 1)
        ratio, said = best * np.asarray(seen, dtype=np.float64) / target, f"tuned for {target:,.0f} units"
    estimate, se, ratio = np.broadcast_arrays(estimate, se, ratio)
    z = (estimate - null) / se
    parts = _sequence(z, ratio, alpha, alternative, closed=sequence == "asymptotic")
    low, high = estimate - parts["below"] * se, estimate + parts["above"] * se
    found: Comparison = result_of(
        Comparison,
        held["about"]
        | {
            "title": f"{held['about']['metric'] or 'difference'}: at any moment",
            "method": f"normal mixture, {said}, every moment" + (", closed form" if sequence == "asymptotic" else ""),
            "source": _ASYMPTOTIC if sequence == "asymptotic" else _SOURCE,
            "se": scalar_or_array(np.asarray(se)),
        },
        estimate=estimate,
        now=(low, high),
        p=parts["p"],
        log_e=parts["log_e"],
        wider=parts["critical"] / mixtures.fixed_critical(alpha, 2 if alternative == "two-sided" else 1),
        alpha=alpha,
        null=null,
        alternative=alternative,
        statistic=z,
    )
    return found


def _sequence(z: Floats, ratio: Floats, alpha: float, alternative: str, *, closed: bool) -> dict[str, Floats]:
    """p, e-value and how far the interval reaches, in standard errors, at each moment."""
    if alternative == "two-sided":
        log_e = mixtures.log_e(z, ratio, sides=2)
        reach = mixtures.critical(ratio, alpha, sides=2)
        return {"p": _p(log_e), "log_e": log_e, "below": reach, "above": reach, "critical": reach}
    towards = z if alternative == "greater" else -z
    log_e = mixtures.log_e(towards, ratio, sides=1)
    if closed:
        p, reach = mixtures.bounded_p(towards, ratio), mixtures.bounded_critical(ratio, alpha)
        log_e = -np.log(np.maximum(p, 1e-320))
    else:
        p, reach = _p(log_e), mixtures.critical(ratio, alpha, sides=1)
    far = np.full(z.shape, np.inf)
    ends = {"below": reach, "above": far} if alternative == "greater" else {"below": far, "above": reach}
    return {"p": p, "log_e": log_e, "critical": reach, **ends}


def _p(log_e: Floats) -> Floats:
    return np.asarray(np.minimum(1.0, np.exp(np.minimum(-log_e, 0.0))))


def _held(treatment: Any, control: Any, metric: str) -> dict[str, Any]:
    """Estimate, standard error and units at each moment, and what a comparison says of itself."""
    if control is not None:
        return _of_groups(treatment, control, metric)
    if isinstance(treatment, Comparison):
        return _of_comparisons([treatment], metric)
    if isinstance(treatment, (list, tuple)) and treatment and all(isinstance(c, Comparison) for c in treatment):
        return _of_comparisons(list(treatment), metric)
    if isinstance(treatment, tuple) and len(treatment) == 2:
        estimate, se = gate.finite("estimate", treatment[0]), gate.positive("standard error", treatment[1])
        about = {"metric": metric, "treatment": "treatment", "control": "control"}
        return {"estimate": estimate, "se": se, "units": None, "about": about}
    raise InputError(
        "Give two groups, a Comparison (or one a moment), or a pair of estimates and standard errors.",
        name="treatment",
    )


def _of_groups(treatment: Any, control: Any, metric: str) -> dict[str, Any]:
    if isinstance(treatment, Counts) or isinstance(control, Counts):
        one, two = groups.two(treatment, control, "share")
        (n1, p1), (n0, p0) = (
            (np.asarray(c.trials, float), np.asarray(c.successes, float) / np.asarray(c.trials, float))
            for c in (one, two)
        )
        v1, v0, quantity = p1 * (1 - p1) / n1, p0 * (1 - p0) / n0, "share"
        m1, m0 = p1, p0
    else:
        first, second = groups.two(treatment, control, "mean")
        one, two = first, second  # type: ignore[assignment]
        (n1, m1, s1), (n0, m0, s0) = ((np.asarray(g.n), np.asarray(g.mean), np.asarray(g.sd)) for g in (first, second))
        v1, v0, quantity = s1 * s1 / n1, s0 * s0 / n0, "mean"
    groups.check_labels(one.label, two.label)
    se = np.sqrt(v1 + v0)
    gate.positive("standard error", se, "A moment without any spread says nothing: begin later.")
    each = []
    for group, n, mean, v in ((one, n1, m1, v1), (two, n0, m0, v0)):
        spread = np.sqrt(v)
        size, centre, sd, error = (scalar_or_array(np.asarray(x)) for x in (n, mean, spread * np.sqrt(n), spread))
        each.append(Group(group.label, size, centre, sd, error))
    about = {
        "metric": groups.named(metric or None, "", one, two),
        "treatment": one.label,
        "control": two.label,
        "groups": tuple(each) if np.ndim(se) == 0 else (),
        "quantity": quantity,
        "axis": groups.axis_of(one, two),
    }
    return {"estimate": m1 - m0, "se": se, "units": n1 + n0, "about": about}


def _of_comparisons(each: list[Comparison], metric: str) -> dict[str, Any]:
    first = each[0]
    for one in each:
        if one.se is None or one.scale == "ratio":
            raise InputError("A moment needs a difference with a standard error.", name="treatment")
        if (one.treatment, one.control) != (first.treatment, first.control):
            raise InputError("All moments must compare the same two groups.", name="treatment")
    many = len(each) > 1
    if many and any(np.ndim(one.estimate) for one in each):
        raise InputError("Give one array comparison, or one single comparison a moment.", name="treatment")

    def together(values: list[Any]) -> Floats:
        return np.array([float(v) for v in values]) if many else np.asarray(values[0], dtype=np.float64)

    seen: Floats | None = None
    if all(one.groups for one in each):
        seen = together([sum(np.asarray(g.n, float) for g in one.groups[: 1 if one.paired else 2]) for one in each])
    about = {
        "metric": metric or first.metric,
        "treatment": first.treatment,
        "control": first.control,
        "quantity": first.quantity,
        "axis": None if many else first.axis,
        "groups": () if many else first.groups,
        "good": first.good,
        "margin": first.margin,
        "paired": first.paired and not many,
        "checks": () if many else first.checks,
    }
    return {
        "estimate": together([one.estimate for one in each]),
        "se": together([one.se for one in each]),
        "units": seen,
        "about": about,
    }


def result_of(
    kind: Any,
    about: dict[str, Any],
    *,
    estimate: Floats,
    now: tuple[Floats, Floats],
    p: Floats,
    log_e: Floats,
    wider: Floats | None,
    alpha: float,
    null: float,
    alternative: str,
    statistic: Floats | None = None,
) -> Any:
    """An answer along the moments: the smallest p so far, and what all intervals so far have in common."""
    low, high = (np.asarray(end, dtype=np.float64) for end in now)
    p = np.asarray(p, dtype=np.float64)
    running = (low, high, p)
    if p.ndim:
        running = (
            np.maximum.accumulate(low, axis=-1),
            np.minimum.accumulate(high, axis=-1),
            np.minimum.accumulate(p, axis=-1),
        )
    # Rounding at the limit itself: the interval decides as the p-value does.
    outside = (running[0] > null) | (running[1] < null)
    settled = np.where(outside & (running[2] >= alpha), np.nextafter(alpha, 0), running[2])
    settled = np.where(~outside & (settled < alpha), alpha, settled)
    near = np.abs(settled - running[2]) <= 1e-9 * alpha
    settled = np.where(near, settled, running[2])
    empty = running[0] > running[1]
    notes = list(about.pop("notes", ()))
    if np.any(empty):
        where = int(np.argmax(empty.reshape(-1, empty.shape[-1]).any(axis=0))) + 1
        notes.append(
            f"From moment {where} on the intervals have no point in common: the effect changed, or the data did."
        )
    if about.get("axis") is None and p.ndim:
        about["axis"] = Axis("moment", tuple(str(k + 1) for k in range(p.shape[-1]))) if p.ndim == 1 else None

    def told(value: Any) -> Number:
        return scalar_or_array(np.asarray(value))

    return kind(
        **about,
        notes=tuple(notes),
        estimate=told(estimate),
        interval=Interval(told(running[0]), told(running[1]), 1 - alpha),
        test=Test(
            p_value=told(settled),
            alpha=alpha,
            statistic=None if statistic is None else told(statistic),
            name="" if statistic is None else "z",
            null=null,
            alternative=alternative,
        ),
        parts=(
            Anytime(
                log_e=told(log_e),
                p_now=told(p),
                now=Interval(told(low), told(high), 1 - alpha),
                wider=None if wider is None else told(wider),
                empty=bool(empty) if empty.ndim == 0 else empty,
            ),
        ),
    )
