"""A design from the data at hand, so that nobody types standard deviations."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler.digest import Rows
from amber_ruler.errors import DataError
from amber_ruler.moments import Moments, merge
from amber_ruler.numeric.gate import Floats
from amber_ruler.numeric.least_squares import inverse
from amber_ruler.plan.designs.means import TwoMeans
from amber_ruler.plan.designs.proportions import TwoProportions


def design_from(
    table: Rows,
    metric: str,
    *,
    by: str | None = None,
    control: str | None = None,
    covariate: str | Sequence[str] | None = None,
    cluster: str | None = None,
    cap: float | None = None,
    **settings: Any,
) -> TwoMeans | TwoProportions:
    """Read what a plan assumes of a metric from a table of its history.

    Parameters
    ----------
    table : Table
        Past observations, one row a unit.
    metric : str
        The column to be tested: numbers, or 0/1 for shares.
    by : str, optional
        Column with the variant labels of an earlier test: spread and correlation are then taken within variants.
    control : str, optional
        Label of the variant that gives the baseline; without it all rows do.
    covariate : str or sequence of str, optional
        Columns known before the test: their (multiple) correlation with the metric becomes `with_covariate`.
    cluster : str, optional
        Column with the clusters to be randomised: their sizes and intraclass correlation become `with_clusters`.
    cap : float, between 0.5 and 1, optional
        Quantile at which the metric will be capped: spread, skewness and correlation are those of capped values.
    **settings
        Anything else that the design takes, such as alpha or ratio.

    Returns
    -------
    TwoMeans or TwoProportions
        With baseline, standard deviation and skewness; of a 0/1 column with the share of 1s.

    Raises
    ------
    DataError
        If a column is absent or holds no numbers, or the metric never varies.

    Notes
    -----
    The intraclass correlation is the estimate from the analysis of variance, at least 0. The coefficient of variation
    of the cluster sizes is that of the clusters in hand (their number below), so that the design effect is
    1 + (Σm²/Σm − 1) icc for clusters of m units.

    References
    ----------
    .. [1] Donner (1986), International Statistical Review 54, 67-82, for the intraclass correlation.

    Examples
    --------
    >>> import amber_ruler as ar
    >>> trips = ar.table(ar.demo.path("travellers"))
    >>> design = design_from(trips, "fare", covariate="prior_spend")
    >>> round(design.sd, 2), round(design.baseline, 2), round(design.modifiers[0].correlation, 2)
    (20.63, 14.48, 0.6)
    """
    known = [] if covariate is None else [covariate] if isinstance(covariate, str) else list(covariate)
    columns = [metric, *known]
    table = table if cap is None else table.capped(metric, cap)
    groups = [table.overall(columns)] if by is None else list((arms := table.moments(columns, by=by)).values())
    base = merge(g.relabel("") for g in groups) if by is None or control is None else arms[control]
    # Around the mean of each variant: what the variants differ by is no spread.
    alone = [g.select(metric) for g in groups]
    squares = sum(float(m.comoments[0, 0]) for m in alone)
    if squares == 0:
        raise DataError(f"Column {metric!r} never varies: there is nothing to plan for.")
    design: TwoMeans | TwoProportions
    if all(m.zero_one().all() for m in alone):
        design = TwoProportions(baseline=base.mean(metric), **settings)
    else:
        sd = float(np.sqrt(squares / (sum(m.n for m in alone) - len(groups))))
        design = TwoMeans(
            sd=sd, baseline=base.mean(metric), skewness=_around_own_means(alone).skewness(metric), **settings
        )
    if known:
        design = design.with_covariate(_correlation(np.sum([g.comoments for g in groups], axis=0), known))
    if cluster is not None:
        found = table.clusters(metric, by=cluster)
        design = design.with_clusters(found.size, found.icc, found.cv)
    return design


def _around_own_means(groups: list[Moments]) -> Moments:
    return merge(replace(m, means=np.zeros(1), mean_tails=None, label="") for m in groups)


def _correlation(spread: Floats, covariates: Sequence[str]) -> float:
    """Of the metric with one covariate, with its sign; with several the multiple correlation."""
    if len(covariates) == 1 and spread[1, 1] == 0:
        raise DataError(f"Column {covariates[0]!r} never varies: it can't take anything out of the variance.")
    inverted, _ = inverse(spread[1:, 1:], covariates)
    slope = inverted @ spread[1:, 0]
    if len(covariates) == 1:
        return float(spread[0, 1] / np.sqrt(spread[0, 0] * spread[1, 1]))
    return float(np.sqrt(slope @ spread[1:, 0] / spread[0, 0]))
