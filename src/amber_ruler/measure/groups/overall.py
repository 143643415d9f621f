"""Several groups: does anything differ?"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal, Unpack

from amber_ruler.measure import shared
from amber_ruler.measure.groups.covariance import by_covariance
from amber_ruler.measure.groups.means import by_means
from amber_ruler.measure.groups.ranks import by_ranks, by_ranks_of_units
from amber_ruler.measure.groups.result import Groups
from amber_ruler.measure.groups.units import by_units
from amber_ruler.numeric import gate
from amber_ruler.register import method
from amber_ruler.results import Check
from amber_ruler.samples import MeanGroup
from amber_ruler.settings import Named

_MANY = 200  # groups whose pairs nobody reads


@method(
    takes="several",
    needs="mean",
    published=True,
    rows=True,
    examples=(
        "crossings.csv --value delay --by route",
        "crossings.csv --value delay --by route --control Amble",
        "crossings.csv --value delay --by route --contrast Amble=1,Brae=-0.5,Cairn=-0.5",
        "turnarounds.csv --value minutes --by when --unit vessel",
        "--n 20,20,25 --mean 10.2,12.9,10.8 --sd 3.0,3.4,2.9 --labels Amble,Brae,Cairn",
    ),
)
def groups(
    samples: Mapping[str, MeanGroup] | Sequence[MeanGroup],
    *,
    compare: Literal["means", "ranks", "same-units", "same-units-ranks"] = "means",
    variances: Literal["unequal", "equal"] | None = None,
    test: Literal["exact", "asymptotic"] | None = None,
    covariates: str | Sequence[str] | None = None,
    good: Literal["higher", "lower", "neither"] = "neither",
    **asked: Unpack[Named],
) -> Groups:
    """Do several groups differ at all? Ask the result for pairs, or for each against a control.

    Parameters
    ----------
    samples : mapping of label to group, or sequence of groups
        Each array_like, Sample, Summary or Moments, such as `table.samples(…)` or `table.moments(…)` gives.
    compare : "means", "ranks", "same-units" or "same-units-ranks"
        What is compared: means of independent groups; their ranks; means of the same units in the same order, measured
        under each condition, with degrees of freedom corrected for correlations that differ (Greenhouse and Geisser;
        Huynh and Feldt's stand in `facts`); or the ranks that conditions have within each unit (Friedman's test; in
        `facts` Kendall's W, and the F of Iman and Davenport). All but the first need the values.
    variances : "unequal" or "equal"
        Of means: whether each group keeps its own variance (the default) or all share one.
    test : "exact" or "asymptotic", optional
        Of ranks of independent groups: the chi-square of H unless said, or all ways to deal the ranks out, as they are
        tied, counted (for a few dozen values).
    covariates : str or sequence of str, optional
        Columns to adjust means for (analysis of covariance, one variance and one slope a covariate for all groups): the
        groups are then Moments of the metric and of them. In `facts` the slopes, the F of the covariates, and that of
        whether the groups share their slopes.
    alpha : float, between 0 and 0.5
        Error rate of the test; intervals have level 1 - alpha.
    good : "higher", "lower" or "neither"
        The direction in which the metric is good; of pairs it is then said which group is better.

    Returns
    -------
    Groups
        The test, the groups with intervals, the table of sums of squares, and effect sizes with intervals.

    Raises
    ------
    DataError
        If a group is too small for what is asked, or nothing varies within the groups.
    InputError
        If there are fewer than two groups, or two under one label.

    Notes
    -----
    The effect sizes and their intervals come from the classical F (noncentral F at alpha / 2 on each side), also where
    the test keeps the variances apart. A small overall p says that some difference is there, not which. Of means,
    `facts` hold Brown and Forsythe's F* too, which keeps the variances apart and weighs groups by their size.

    References
    ----------
    .. [1] Welch (1951), Biometrika 38, 330-336.
    .. [2] Kruskal & Wallis (1952), Journal of the American Statistical Association 47, 583-621.
    .. [3] Greenhouse & Geisser (1959), Psychometrika 24, 95-112.
    .. [4] Huynh & Feldt (1976), Journal of Educational Statistics 1, 69-82.
    .. [5] Friedman (1937), Journal of the American Statistical Association 32, 675-701.
    .. [6] Iman & Davenport (1980), Communications in Statistics A 9, 571-595.
    .. [7] Brown & Forsythe (1974), Technometrics 16, 129-132, for F*.
    .. [8] Fisher (1932), Statistical Methods for Research Workers, 4th ed., section 49.1, for covariates.
    .. [9] Kelley (1935), Proceedings of the National Academy of Sciences 21, 554-559, for ε².

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = groups([Summary(20, 10.2, 3.0, "Amble"), Summary(20, 12.9, 3.4, "Brae"), Summary(25, 10.8, 2.9, "Cairn")])
    >>> round(r.statistic, 3), round(r.df[1], 1), round(r.p_value, 4)
    (3.769, 39.5, 0.0317)
    """
    ask = shared.question(asked)
    gate.choice("compare", compare, ("means", "ranks", "same-units", "same-units-ranks"))
    gate.choice("good", good, ("higher", "lower", "neither"))
    shared.unused(compare, {"variances": (variances, compare == "means")})
    shared.unused(compare, {"test": (test, compare == "ranks")})
    shared.unused(compare, {"covariates": (covariates, compare == "means")})
    if covariates is not None and variances is not None:
        shared.unused("analysis of covariance", {"variances": (variances, False)})
    kind = gate.choice("variances", variances or "unequal", ("unequal", "equal"))
    if compare == "ranks":
        result = by_ranks(samples, ask.alpha, ask.metric, test)
    elif compare == "same-units-ranks":
        result = by_ranks_of_units(samples, ask.alpha, ask.metric)
    elif compare == "same-units":
        result = by_units(samples, ask.alpha, ask.metric)
    elif covariates is not None:
        result = by_covariance(samples, covariates, ask.alpha, ask.metric)
    else:
        result = by_means(samples, ask.alpha, kind, ask.metric)
    size = len(result.groups)
    many: tuple[Check, ...] = ()
    if size > _MANY:
        finding = f"{size:,} groups make {size * (size - 1) // 2:,} pairs"
        advice = "Nobody reads so many: compare each with one control, or ask for fewer."
        many = (Check("groups", finding, advice, "warning"),)
    return replace(result, good=good, checks=(*many, *result.checks))
