"""Bayes factors of going together: of rows and columns of a table, and of two quantities."""

from __future__ import annotations

from typing import Literal, Unpack

import numpy as np
from numpy.typing import ArrayLike
from scipy import special

from amber_ruler.bayes.gap import Point, Quantity
from amber_ruler.bayes.posterior import Posterior
from amber_ruler.bayes.summary import exp, figures, summary
from amber_ruler.effects import Alternative
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.correlation import correlation_of
from amber_ruler.measure.counts.independence import counted
from amber_ruler.moments import Moments
from amber_ruler.numeric import gate
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.stirling import log_divergence, stirling_error
from amber_ruler.register import method
from amber_ruler.results import Draws, Estimate, Evidence, Interval, PosteriorSummary
from amber_ruler.results.parts import Curves
from amber_ruler.samples import CountTable, Pairs
from amber_ruler.settings import AtLevel

_NO_TEST = {"p and interval": "there is no test"}
_QUANTILES = (0.01, 0.025, 0.05, 0.25, 0.5, 0.75, 0.95, 0.975, 0.99)
Fixed = Literal["nothing", "total", "rows", "columns"]


@method(
    takes="table",
    published=("counts",),
    examples=(
        "tickets.csv --row port --column ticket --count count",
        "--counts '30,10; 20,40' --fixed rows",
    ),
    exempt=_NO_TEST,
)
def independence(
    counts: CountTable | ArrayLike,
    *,
    fixed: Fixed = "total",
    concentration: float = 1.0,
    gamma_rate: float | None = None,
    odds: float | None = None,
    draws: int = 20_000,
    seed: int = 0,
    **asked: Unpack[AtLevel],
) -> Estimate:
    """How strong is the evidence that the rows and columns of a table go together, or that they don't?

    Parameters
    ----------
    counts : CountTable or array_like, shape (r, c)
        Such as `table.counts(row=, column=)` gives.
    fixed : "nothing", "total", "rows" or "columns"
        What was settled before the units were counted: nothing (all counts are Poisson), their total (one multinomial),
        or how many there are in each row, or column, such as the units of each variant.
    concentration : float
        Prior concentration a of each cell; 1 lets any shares be alike likely. The margins under independence then have
        c a - (c - 1) and r a - (r - 1) [1]_, so that a lies above 1 - 1/max(r, c).
    gamma_rate : float, optional
        With nothing fixed: inverse scale of the gamma prior of each cell's mean count, on which the factor depends;
        r c a / total if not given.
    odds : float, optional
        Prior odds of an association against none: the chance that there is none then follows.
    draws : int
        How many tables of proportions are drawn from the posterior for Cramér's V; the factor is exact and does not
        depend on them.
    seed : int
        What replays the draws.
    alpha : float, between 0 and 0.5
        The posterior interval has level 1 - alpha.

    Returns
    -------
    Estimate
        Without a test: posterior median and interval of Cramér's V, drawn; in `evidence` the Bayes factor of an
        association against independence.

    Raises
    ------
    InputError
        If counts are not whole numbers, or the concentration is too small for the table.

    Notes
    -----
    V is never below 0, so its posterior lies above 0 whatever the data: the factor alone says if they go together.

    References
    ----------
    .. [1] Gunel & Dickey (1974), Biometrika 61, 545-557.

    Examples
    --------
    >>> r = independence([[30, 10], [20, 40]], fixed="rows")
    >>> round(r.evidence.bayes_factor, 1)
    1146.7
    """
    ask = shared.question(asked)
    table = counted(counts)
    y = table.counts
    rows, columns = y.shape
    a = float(gate.positive("concentration", concentration))
    least = 1 - 1 / max(rows, columns)
    if a <= least:
        way_out = "The margins under independence have no prior else."
        raise InputError.rule("concentration", a, f"above {least:.4g} for a table of {rows} by {columns}", way_out)
    if gamma_rate is not None and fixed != "nothing":
        raise InputError(f"gamma_rate is for a table of which nothing is fixed: with {fixed} fixed it says nothing.")
    if odds is not None:
        gate.positive("odds", odds)
    total = float(y.sum())
    if total == 0:
        raise DataError("The table holds no unit: there is nothing to weigh.")
    rate = rows * columns * a / total if gamma_rate is None else float(gate.positive("gamma_rate", gamma_rate))
    log_factor = _log_factor(y, a, fixed, rate)
    strength = _drawn_strength(y + a, fixed, int(gate.whole("draws", draws, 100)), np.random.default_rng(seed))
    low, median, high = np.quantile(strength, [ask.alpha / 2, 0.5, 1 - ask.alpha / 2])
    sd = float(strength.std(ddof=1))
    limits = Interval(float(low), float(high), ask.level)
    own = PosteriorSummary("Cramér V", "", float(median), limits, None, float(strength.mean()), sd)
    names = f"{table.row_name or 'rows'} by {table.column_name or 'columns'}"
    said = {"nothing": f"nothing fixed, gamma rate {rate:.3g}", "total": "total fixed"}.get(fixed, f"{fixed} fixed")
    return Estimate(
        title=names,
        method=f"independence, {said}",
        source="Gunel & Dickey (1974), Biometrika 61, 545-557",
        metric=names,
        label="Cramér V",
        estimate=float(median),
        interval=limits,
        quantity="association",
        facts={"n": total},
        seed=seed,
        parts=(
            Evidence(
                prior=f"concentration {a:g} in each cell",
                posterior={"cramers_v": own},
                bayes_factor=exp(log_factor),
                log_bayes_factor=log_factor,
                odds=odds,
            ),
            Draws(
                replicates=draws,
                error=sd / float(np.sqrt(2 * draws)),
                seed=seed,
                quantiles=np.quantile(strength, _QUANTILES),
            ),
        ),
    )


def _log_factor(y: Floats, a: float, fixed: Fixed, rate: float) -> float:
    """Log of the factor of an association, gathered around what independence expects so that large counts cancel."""
    if fixed == "columns":
        return _log_factor(y.T, a, "rows", rate)
    r, c = y.shape
    x, total = y + a, float(y.sum())
    by_row, by_column = y.sum(axis=1) + c * a - (c - 1), y.sum(axis=0) + r * a - (r - 1)
    n, n_row, n_column = total + r * c * a, float(by_row.sum()), float(by_column.sum())
    shares_row, shares_column = by_row / n_row, by_column / n_column
    # Prior: the same terms without the counts.
    prior_row, prior_column = np.full(r, c * a - (c - 1)), np.full(c, r * a - (r - 1))
    log_prior = _log_dirichlet(prior_column) - (
        r * _log_dirichlet(np.full(c, a)) if fixed == "rows" else _log_dirichlet(np.full((r, c), a))
    )
    sides = [(r - 1, by_column, shares_column, n_column)]  # what the cells' prior has more there than the margin's
    if fixed == "rows":
        expected = x.sum(axis=1, keepdims=True) * shares_column
        cells = _rest(x).sum() - _rest(x.sum(axis=1)).sum()
    else:
        expected = n * np.outer(shares_row, shares_column)
        cells = _rest(x).sum() - float(_rest(np.array(n)))
        sides.append((c - 1, by_row, shares_row, n_row))
        log_prior += _log_dirichlet(prior_row)
    fit = sum(log_divergence(float(o), float(e)) for o, e in zip(x.ravel(), expected.ravel(), strict=True))
    log = fit + cells + log_prior
    for more, margin, shares, whole in sides:
        log += float(more * np.log(shares).sum()) - _rest(margin).sum() + float(_rest(np.array(whole)))
    if fixed == "nothing":
        lower = np.arange(1, (r - 1) * (c - 1) + 1)
        log += float((np.log(n - lower) - np.log(r * c * a - lower) - np.log1p(1 / rate)).sum())
    return float(log)


def _rest(x: Floats) -> Floats:
    """Log Gamma(x) less x log x - x."""
    return np.asarray(stirling_error(x) - 0.5 * np.log(x) + 0.5 * np.log(2 * np.pi))


def _log_dirichlet(a: Floats) -> float:
    """Log of the integral of a Dirichlet distribution's powers."""
    return float(special.gammaln(a).sum() - special.gammaln(a.sum()))


def _drawn_strength(a: Floats, fixed: Fixed, draws: int, rng: np.random.Generator) -> Floats:
    """Cramér's V of tables of shares drawn from the posterior, margins that were fixed kept as they are."""
    shares = rng.standard_gamma(a, size=(draws, *a.shape))
    if fixed in ("rows", "columns"):
        axis = 2 if fixed == "rows" else 1
        weight = a.sum(axis=axis - 1, keepdims=True) / a.sum()
        shares *= weight / shares.sum(axis=axis, keepdims=True)
    else:
        shares /= shares.sum(axis=(1, 2), keepdims=True)
    expected = shares.sum(axis=2, keepdims=True) * shares.sum(axis=1, keepdims=True)
    return np.asarray(np.sqrt(((shares - expected) ** 2 / expected).sum(axis=(1, 2)) / (min(a.shape) - 1)))


@method(takes="columns", examples=("travellers.csv --value fare --second prior_spend",), exempt=_NO_TEST)
def correlation(
    both: Pairs | Moments | ArrayLike,
    other: ArrayLike | None = None,
    *,
    labels: tuple[str, str] | None = None,
    width: float = 1.0,
    odds: float | None = None,
    alternative: Alternative = "two-sided",
    margin: float | None = None,
    good: Literal["higher", "lower"] = "higher",
    **asked: Unpack[AtLevel],
) -> Estimate:
    """How strong is the evidence that two quantities go together, and how closely are they likely to?

    Parameters
    ----------
    both, other, labels
        As for `measure.correlation`.
    width : float above 0, at most 2
        How wide the prior of the correlation is: its density goes like (1 - rho^2)^(1/width - 1) [1]_, so that with a
        width of 1 every correlation is as likely as any other, and with smaller ones those around 0 are likelier.
    odds : float, optional
        Prior odds of a correlation against none: the chance that there is none then follows.
    alpha : float, between 0 and 0.5
        The posterior intervals have level 1 - alpha.
    alternative : "two-sided", "greater" or "less"
        Whether a correlation, if there is one, may have either sign; for one sign the prior is cut there and doubled.
    margin : float, optional
        The smallest correlation that matters.
    good : "higher" or "lower"
        The direction in which a correlation is good.

    Returns
    -------
    Estimate
        Without a test: posterior median and equal-tailed interval, given that there is a correlation; in `evidence` the
        Bayes factor, those of either direction alone, and the chances to lie above and below 0.

    Notes
    -----
    The likelihood is the exact density of r under normal values, by Hotelling's hypergeometric form [2]_; it is
    integrated along Fisher's z.

    References
    ----------
    .. [1] Ly, Verhagen & Wagenmakers (2016), Journal of Mathematical Psychology 72, 19-32.
    .. [2] Hotelling (1953), Journal of the Royal Statistical Society B 15, 193-232.

    Examples
    --------
    >>> r = correlation([1.0, 2.0, 3.0, 4.0, 5.0, 6.0], [1.2, 1.9, 3.4, 3.6, 5.5, 5.8])
    >>> round(r.evidence.bayes_factor, 1), round(r.estimate, 2)
    (38.4, 0.94)
    """
    ask = shared.question(asked, margin=margin, good=good)
    gate.choice("alternative", alternative, gate.ALTERNATIVES)
    if not 0 < width <= 2:
        raise InputError.rule("width", width, "above 0 and at most 2")
    if odds is not None:
        gate.positive("odds", odds)
    if ask.margin is not None and ask.margin >= 1:
        raise InputError.rule("margin", margin, "below 1")
    r, n, names, left_out = correlation_of(both, other, "pearson", labels)
    if n < 3:
        raise DataError(f"{n} units are too few for a correlation: at least 3 are needed.")
    if 1 - abs(r) < 1e-14:
        raise DataError("The two go together exactly: a density of r has nothing to weigh.")
    cuts = () if not ask.margin else (-np.arctanh(ask.margin), np.arctanh(ask.margin))
    whole = _along_z(r, n, width, cuts, (-np.inf, np.inf))
    log_factor = float(whole.log_total[0])
    up, down = (float(whole.log_chance(*ends)[0]) for ends in ((0.0, np.inf), (-np.inf, 0.0)))
    sided = {"log_factor_above": log_factor + np.log(2) + up, "log_factor_below": log_factor + np.log(2) + down}
    told = whole
    if alternative != "two-sided":
        log_factor = sided["log_factor_above" if alternative == "greater" else "log_factor_below"]
        told = _along_z(r, n, width, cuts, (0.0, np.inf) if alternative == "greater" else (-np.inf, 0.0))
        up, down = (float(told.log_chance(*ends)[0]) for ends in ((0.0, np.inf), (-np.inf, 0.0)))
        sided = {}
    better, worse = (up, down) if good == "higher" else (down, up)
    posterior = _Correlation(told, alternative)
    own = summary(ask, figures(ask, posterior), "correlation", "correlation")
    cut = {"greater": ", above 0 only", "less": ", below 0 only"}.get(alternative, "")
    return Estimate(
        title=f"{names[0]} and {names[1]}: correlation",
        method="Pearson's correlation, exact density of r",
        source="Ly, Verhagen & Wagenmakers (2016), Journal of Mathematical Psychology 72, 19-32",
        metric=f"{names[0]} and {names[1]}",
        label="correlation",
        estimate=own.median,
        interval=own.interval,
        quantity="correlation",
        margin=ask.margin,
        good=good,
        facts={"n": float(n), "r": r},
        checks=checks.without_pair(left_out),
        parts=(
            Evidence(
                prior=f"stretched beta, width {width:g}{cut}",
                posterior={"correlation": own},
                curves=Curves(
                    posterior.quantiles,
                    lambda x: posterior.density(np.arctanh(np.clip(x, -1 + 1e-15, 1 - 1e-15))),
                    lambda x: _prior_density(x, width, alternative),
                ),
                chance_better=exp(better),
                chance_worse=exp(worse),
                chance_within=float(told.chance(*cuts)[0]) if cuts else None,
                log_chance_better=better,
                log_chance_worse=worse,
                bayes_factor=exp(log_factor),
                log_bayes_factor=log_factor,
                factor_error=float(whole.error[0]),
                odds=odds,
                **sided,
            ),
        ),
    )


def _along_z(r: float, n: int, width: float, cuts: tuple[float, ...], ends: tuple[float, float]) -> Posterior:
    """Prior times likelihood of r against that of no correlation, along Fisher's z: its total is the factor."""
    power = 1 / width
    constant = -float(special.betaln(power, power)) - (2 * power - 1) * np.log(2)
    if ends != (-np.inf, np.inf):
        constant += np.log(2)

    def log_series(rho: Floats) -> Floats:
        return np.asarray(np.log(special.hyp2f1(0.5, 0.5, n - 0.5, (1 + r * rho) / 2)))

    at_zero = float(log_series(np.zeros(1))[0])

    def log_density(z: Floats) -> Floats:
        rho = np.tanh(z)
        log_rest = 2 * (np.log(2) - np.abs(z) - np.log1p(np.exp(-2 * np.abs(z))))  # log(1 - rho^2)
        likelihood = (n - 1) / 2 * log_rest - (n - 1.5) * np.log1p(-r * rho) + log_series(rho) - at_zero
        return np.asarray(constant + power * log_rest + likelihood)

    centre, spread = np.array([np.arctanh(r)]), np.array([1 / np.sqrt(max(n - 2.0, 1.0))])
    about = [(centre, spread), (np.zeros(1), np.ones(1))]
    return Posterior.of(log_density, about, cuts=[np.array([c]) for c in (0.0, *cuts)], ends=ends, far=False)


def _prior_density(rho: Floats, width: float, alternative: str) -> Floats:
    power = 1 / width
    inside = {"greater": rho > 0, "less": rho < 0}.get(alternative, np.abs(rho) < 1) & (np.abs(rho) < 1)
    log_density = (power - 1) * np.log1p(-(np.where(inside, rho, 0.0) ** 2)) - special.betaln(power, power)
    doubled = 1.0 if alternative == "two-sided" else 2.0
    return np.where(inside, doubled * np.exp(log_density - (2 * power - 1) * np.log(2)), 0.0)


class _Correlation(Quantity):
    """A correlation, along Fisher's z."""

    def __init__(self, posterior: Posterior, alternative: str) -> None:
        mean, sd = _moments(posterior)
        super().__init__(mean, sd)
        self.posterior = posterior
        self.ends = {"greater": (0.0, 1.0), "less": (-1.0, 0.0)}.get(alternative, (-1.0, 1.0))

    def point(self, places: Floats) -> Point:
        """What lies on either side of places along z, and the density there."""
        below, above, density = self.posterior.at(places[None, :])
        with np.errstate(divide="ignore"):
            return Point(np.log(below[0]), np.log(above[0]), np.log(density[0]))

    def places(self, below: tuple[float, ...] = (), above: tuple[float, ...] = ()) -> Floats:
        """The places with so much probability below, and then those with so much above."""
        return np.asarray(self.posterior.quantiles(below, above)[0])

    def value(self, places: Floats) -> Floats:
        """The correlation."""
        return np.asarray(np.tanh(places))

    def log_slope(self, places: Floats) -> Floats:
        """Log of 1 - rho^2."""
        return np.asarray(2 * (np.log(2) - np.abs(places) - np.log1p(np.exp(-2 * np.abs(places)))))


def _moments(posterior: Posterior) -> tuple[float, float]:
    mean = float(posterior.mean(np.tanh)[0])
    return mean, float(np.sqrt(posterior.mean(lambda z: (np.tanh(z) - mean) ** 2)[0]))
