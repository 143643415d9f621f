"""Planning by evidence: how strong will it be with so many units?"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import special

from amber_ruler.bayes.evidence import Likelihood
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.priors import Cauchy, Prior, StudentT
from amber_ruler.errors import DesignError, InputError
from amber_ruler.numeric import gate, student
from amber_ruler.numeric.gate import Floats, scalar_or_array
from amber_ruler.numeric.roots import bracketed_root
from amber_ruler.plan.answers import EvidenceForecast

_MOST_UNITS = 1e12

_REACH = 9.0  # standard errors around what may be seen
_TAIL = 1e-13  # of the prior beyond what is looked at


@dataclass(frozen=True, kw_only=True)
class Evidence:
    """A test that is to be read by its Bayes factor: asked how strong the evidence will be, or how many units it takes.

    Parameters
    ----------
    prior : Prior
        Of the effect if there is one, in its own unit; not flat.
    se : float
        Standard error of an earlier study, or one that is planned.
    n : int
        Its units, in each group: with m units the standard error is se * sqrt(n / m).
    likelihood : "normal" or "t"
        Of the estimate: t has 2m - 2 degrees of freedom, for two groups of m units each.
    null : float
        The effect if there is none.

    References
    ----------
    .. [1] Dienes (2014), Frontiers in Psychology 5, 781.
    .. [2] Good (1979), Biometrika 66, 393-396, for the expected log factor.

    Examples
    --------
    >>> from amber_ruler.bayes import HalfNormal
    >>> design = Evidence(prior=HalfNormal(2.0), se=1.9, n=40)
    >>> answer = design.sample_size(threshold=3)
    >>> answer.n, round(answer.chance_for_effect, 3)
    (289, 0.531)
    """

    prior: Prior
    se: float
    n: int
    likelihood: Literal["normal", "t"] = "normal"
    null: float = 0.0

    def __post_init__(self) -> None:
        gate.positive("se", gate.single("se", self.se))
        gate.whole("n", gate.single("n", self.n), 2)
        gate.finite("null", gate.single("null", self.null))
        gate.choice("likelihood", self.likelihood, ("normal", "t"))
        if not isinstance(self.prior, Prior) or not self.prior.proper or self.prior.shape:
            raise InputError.rule("prior", str(self.prior), "one prior with a mass of 1, such as HalfNormal(2)")

    def power(self, *, n: ArrayLike, threshold: float = 3.0) -> EvidenceForecast:
        """How strong is the evidence to be expected with so many units, and how likely does it reach the threshold?

        Parameters
        ----------
        n : int or array_like
            Units in each group; several make a curve.
        threshold : float, above 1
            Factor from which on evidence counts, either way.

        Returns
        -------
        EvidenceForecast
        """
        _check_threshold(threshold)
        units = gate.whole("n", n, 2)
        rows = [self._at(float(m), float(np.log(threshold))) for m in np.ravel(units)]
        told = [scalar_or_array(np.reshape([row[k] for row in rows], units.shape)) for k in range(len(rows[0]))]
        size = int(units) if units.ndim == 0 else units
        return self._forecast(size, told, threshold, "evidence with so many units")

    def sample_size(self, *, threshold: float = 3.0, chance: float | None = None) -> EvidenceForecast:
        """How many units make the evidence decisive?

        Parameters
        ----------
        threshold : float, above 1
            Such as 3, 6 or 10.
        chance : float, between 0 and 1, optional
            The smallest n with which the factor passes the threshold with so much probability: above it if there is an
            effect, drawn from the prior, and below its inverse if there is none. If not given: the smallest n with
            which it does if just the prior's mean is seen, and just no effect.

        Returns
        -------
        EvidenceForecast
            With `n` units in each group.

        Raises
        ------
        DesignError
            If no number of units up to 1e12 is enough.
        """
        _check_threshold(threshold)
        size = float(np.log(threshold))
        if chance is not None:
            gate.between("chance", gate.single("chance", chance), 0, 1)

        def enough(m: float) -> bool:
            found = self._at(m, size) if chance is not None else self._seen(m)
            if chance is None:
                return found[0] < -size and found[1] > size
            return min(found[4], found[5]) >= chance

        least, most = 2.0, 4.0
        while not enough(most):
            least, most = most, most * 2
            if most > _MOST_UNITS:
                said = "" if chance is None else f" with a chance of {chance:g}"
                way_out = " Its mean is no effect: give a chance instead." if self._mean() == self.null else ""
                raise DesignError(f"No number of units makes a factor of {threshold:g} either way{said}.{way_out}")
        while most - least > 1:
            middle = float(np.floor((least + most) / 2))
            least, most = (least, middle) if enough(middle) else (middle, most)
        told = [float(v) for v in self._at(most, size)]
        return self._forecast(int(most), told, threshold, "units for decisive evidence", chance)

    def _forecast(
        self,
        n: int | Floats,
        told: Sequence[float | Floats],
        threshold: float,
        question: str,
        chance: float | None = None,
    ) -> EvidenceForecast:
        at_null, at_mean, expected_null, expected_effect, for_none, for_effect, wrong_effect, wrong_none = told
        notes = [] if self._has_mean() else ["The prior has no mean: its median stands for it."]
        if self._endless():
            notes.append("With so heavy tails the mean log factor of an effect is beyond all numbers.")
        return EvidenceForecast(
            title="planning by evidence",
            method=f"{self.likelihood} likelihood, se {self.se:g} with {self.n:,} units in each group",
            source="Dienes (2014), Frontiers in Psychology 5, 781",
            question=question,
            prior=str(self.prior),
            n=n,
            se=scalar_or_array(self.se * np.sqrt(self.n / np.asarray(n, dtype=float))),
            threshold=threshold,
            chance=chance,
            mean_effect=self._mean(),
            null=self.null,
            log_factor_at_null=at_null,
            log_factor_at_mean=at_mean,
            expected_log_under_null=expected_null,
            expected_log_under_effect=None if self._endless() else expected_effect,
            chance_for_none=for_none,
            chance_for_effect=for_effect,
            chance_misled_to_effect=wrong_effect,
            chance_misled_to_none=wrong_none,
            notes=tuple(notes),
        )

    def _likelihood(self, estimates: Floats, m: float) -> Likelihood:
        se = np.full(estimates.shape, self.se * np.sqrt(self.n / m))
        return Likelihood(estimates, se, np.full(estimates.shape, 2 * m - 2) if self.likelihood == "t" else None)

    def _log_factors(self, estimates: Floats, m: float) -> tuple[Floats, Floats]:
        """Logs of the factor and of the data's chance under the prior."""
        data = self._likelihood(estimates, m)
        total = data.posterior(self.prior).log_total
        return total - data.log_likelihood(np.full(estimates.shape, self.null)), total

    def _seen(self, m: float) -> tuple[float, float]:
        """Log factors where just no effect, and just the prior's mean, is seen."""
        found, _ = self._log_factors(np.array([self.null, self._mean()]), m)
        return float(found[0]), float(found[1])

    def _at(self, m: float, size: float) -> tuple[float, ...]:
        """All that is told of n = m: see `EvidenceForecast`."""
        se = self.se * float(np.sqrt(self.n / m))
        at_null, at_mean = self._seen(m)
        x, weight = self._estimates(m, se)
        log_factor, log_chance = self._log_factors(x, m)
        z = (x - self.null) / se
        null_density = np.exp(-0.5 * z * z) / se / np.sqrt(2 * np.pi)
        if self.likelihood == "t":
            null_density = np.exp(self._likelihood(x, m).log_likelihood(np.full(x.shape, self.null)))
        under_null, under_effect = weight * null_density, weight * np.exp(log_chance)
        above, below = log_factor > size, log_factor < -size
        ends = [self._crossings(x, log_factor, level, m) for level in (size, -size)]
        for_effect = self._chance(ends[0], x, above, m, se)
        for_none = self._chance(ends[1], x, below, m, se)
        return (
            at_null,
            at_mean,
            float(under_null @ log_factor / under_null.sum()),
            float(under_effect @ log_factor / under_effect.sum()),
            for_none[0],
            for_effect[1],
            for_effect[0],
            for_none[1],
        )

    def _estimates(self, m: float, se: float) -> tuple[Floats, Floats]:
        """Estimates that may be seen, and what each stands for in a sum."""
        about = Posterior.of(
            lambda x: self.prior.reshaped((1,), 1, 1, 1).log_density(x),
            [tuple(np.array([float(v)]) for v in self.prior.about)],  # type: ignore[list-item]
            ends=self.prior.ends,
        )
        low, high = about.quantiles((_TAIL,), (_TAIL,))[0]
        reach = _REACH * se if self.likelihood == "normal" else se * float(student.upper_quantile(_TAIL, 2 * m - 2))
        near = self.null + se * np.linspace(-_REACH, _REACH, 25)
        centre = float(np.median([low, high, self.null]))
        wide = np.concatenate([[low - reach, high + reach], centre + (high - low + reach) * _GEOMETRIC])
        edges = np.unique(np.concatenate([near, wide, self.null + reach * np.array([-1.0, 1.0])]))
        edges = edges[(edges >= min(low - reach, near[0])) & (edges <= max(high + reach, near[-1]))]
        nodes, weights = np.polynomial.legendre.leggauss(6)
        half = np.diff(edges)[:, None] / 2
        x = (edges[1:] + edges[:-1])[:, None] / 2 + half * nodes
        return x.ravel(), (half * weights).ravel()

    def _crossings(self, x: Floats, log_factor: Floats, size: float, m: float) -> Floats:
        """The estimates at which the log factor passes a size."""
        gap = log_factor - size
        k = np.flatnonzero(np.sign(gap[1:]) != np.sign(gap[:-1]))
        if k.size == 0:
            return np.array([])
        return bracketed_root(lambda at: self._log_factors(at, m)[0] - size, x[k], x[k + 1], rtol=1e-11)

    def _chance(self, ends: Floats, x: Floats, inside: NDArray[np.bool_], m: float, se: float) -> tuple[float, float]:
        """Probability of the estimates inside, under the null and under the prior."""
        marks = np.concatenate([[-np.inf], ends, [np.inf]])
        which = np.interp(ends, x, np.arange(x.size)) if ends.size else np.array([])
        middles = np.concatenate([[0], (which[1:] + which[:-1]) / 2 if which.size > 1 else [], [x.size - 1]])
        if not ends.size:
            return (1.0, 1.0) if inside[x.size // 2] else (0.0, 0.0)
        told = inside[np.round(middles).astype(int)]
        totals = []
        for below in (self._below_null, self._below_prior):
            at = below(marks, m, se)
            totals.append(float(np.sum(np.diff(at)[told])))
        return totals[0], totals[1]

    def _below_null(self, x: Floats, m: float, se: float) -> Floats:
        z = (x - self.null) / se
        return np.asarray(special.ndtr(z) if self.likelihood == "normal" else student.cdf(z, 2 * m - 2))

    def _below_prior(self, x: Floats, m: float, se: float) -> Floats:
        centre, spread = (np.array([float(v)]) for v in self.prior.about)
        finite = x[np.isfinite(x)]
        belief = self.prior.reshaped((1,), 1, 1, 1)
        about = [(centre, spread), *((np.array([v]), np.array([se])) for v in finite)]
        row = Posterior.of(belief.log_density, about, ends=self.prior.ends)
        effect, mass = row.x.ravel(), row.mass.ravel()
        z = (x[:, None] - effect) / se
        below = special.ndtr(z) if self.likelihood == "normal" else student.cdf(z, 2 * m - 2)
        return np.asarray(below @ mass)

    def _has_mean(self) -> bool:
        return self._tail_df() > 1

    def _endless(self) -> bool:
        """Whether the squares of estimates, which a normal likelihood's log factor grows with, have no mean."""
        return self.likelihood == "normal" and self._tail_df() <= 2

    def _tail_df(self) -> float:
        """Degrees of freedom of the prior's tail: infinite where it ends, or falls like a normal one."""
        inner = getattr(self.prior, "prior", self.prior)
        if all(np.isfinite(end) for end in self.prior.ends):
            return np.inf
        return 1.0 if isinstance(inner, Cauchy) else float(inner.df) if isinstance(inner, StudentT) else np.inf

    def _mean(self) -> float:
        """Mean of the prior, or its median where it has none."""
        centre, spread = (np.array([float(v)]) for v in self.prior.about)
        row = Posterior.of(self.prior.reshaped((1,), 1, 1, 1).log_density, [(centre, spread)], ends=self.prior.ends)
        found = row.mean()[0] if self._has_mean() else row.quantiles((0.5,))[0, 0]
        return float(np.round(found, 12)) if abs(found) < 1e-12 * float(spread[0]) else float(found)


_GEOMETRIC = np.concatenate([-(2.0 ** -np.arange(0, 16)), 2.0 ** -np.arange(15, -1, -1.0), np.linspace(-1, 1, 33)])


def _check_threshold(threshold: float) -> None:
    if gate.single("threshold", threshold) <= 1:
        raise InputError.rule("threshold", threshold, "above 1")
