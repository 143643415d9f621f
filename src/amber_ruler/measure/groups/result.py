"""Several groups: whether any differs, and from there to pairs and to each against a control."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from amber_ruler.effects import Alternative
from amber_ruler.measure.groups import contrasts as contrasting
from amber_ruler.measure.groups import simultaneous
from amber_ruler.measure.groups.contrasts import ContrastMethod, Weights
from amber_ruler.measure.groups.simultaneous import Against, PairwiseMethod, Spreads
from amber_ruler.numeric import gate
from amber_ruler.results import Comparison, EffectSize, Group, Result, SquaresRow, Test
from amber_ruler.results.pieces import Tested


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Groups(Result, Tested):
    """Several groups and the test of whether any differs.

    Attributes
    ----------
    metric : str
        What was measured.
    test : Test
        F with both its degrees of freedom, or H (by ranks) with one; `p_value`, `statistic`, `df` and so on read it.
    groups : tuple of Group
        In the order given; `more` holds the limits of each mean.
    effects : mapping of str to EffectSize
        Share of the variance that lies between the groups, in several estimates, and Cohen f.
    squares : tuple of SquaresRow
        The table of sums of squares; empty for ranks.
    compared : "unequal", "equal", "ranks", "same-units" or "adjusted"
        What the test assumes; means that are adjusted for covariates share one variance.
    facts : mapping of str to float
        Further numbers, such as the pooled spread.
    good : "higher", "lower" or "neither"
        The direction in which the metric is good.
    spreads : Spreads
        What pairs are compared by: see `pairwise` and `against`.
    """

    metric: str
    test: Test
    groups: tuple[Group, ...]
    effects: Mapping[str, EffectSize]
    squares: tuple[SquaresRow, ...] = ()
    compared: str = "unequal"
    facts: Mapping[str, float] = field(default_factory=dict)
    good: str = "neither"
    spreads: Spreads

    @property
    def overall_p(self) -> float:
        """P-value of the test, as one number."""
        return float(self.test.p_value)

    @property
    def alpha(self) -> float:
        """Error rate of the test; intervals have level 1 - alpha."""
        return self.test.alpha

    @property
    def quantity(self) -> str:
        """What the groups are compared by: "mean" or "rank"."""
        return "rank" if self.compared == "ranks" else "mean"

    def pairwise(self, method: PairwiseMethod | None = None) -> Comparison:
        """Which pairs differ, and by how much?

        Parameters
        ----------
        method : str, optional
            "games-howell" (the default with unequal variances), "tukey-kramer" (with equal ones), "scheffe", any
            correction of `multiplicity.correct` ("holm" is the default for ranks and for the same units), or "none".

        Returns
        -------
        Comparison
            Along an axis of pairs: each difference with its simultaneous interval, Hedges g, and in `correction` the
            adjusted p, and letters that groups share which do not differ significantly. A difference is always the
            earlier group minus the later one, in the order in which they were given: of a table that of their labels.

        References
        ----------
        .. [1] Tukey (1953); Kramer (1956), Biometrics 12, 307-310.
        .. [2] Games & Howell (1976), Journal of Educational Statistics 1, 113-125.
        .. [3] Scheffé (1953), Biometrika 40, 87-104.
        .. [4] Dunn (1964), Technometrics 6, 241-252, for ranks.
        """
        usual = {"unequal": "games-howell", "equal": "tukey-kramer"}.get(self.compared, "holm")
        return simultaneous.pairwise(self, method or usual)  # type: ignore[arg-type]

    def against(
        self, control: str, method: Against | None = None, *, alternative: Alternative = "two-sided"
    ) -> Comparison:
        """Which groups differ from the control, and by how much?

        Parameters
        ----------
        control : str
            Label of the control.
        method : str, optional
            "dunnett" (the default for means), "step-down dunnett" (claims more, with the same intervals), any
            correction of `multiplicity.correct` ("holm" is the default for ranks and for the same units), or "none".
        alternative : "two-sided", "greater" or "less"
            Direction of the tests. One-sided tests carry one-sided intervals.

        Returns
        -------
        Comparison
            Along an axis of variants, with a `correction`.

        References
        ----------
        .. [1] Dunnett (1955), Journal of the American Statistical Association 50, 1096-1121.
        .. [2] Dunnett & Tamhane (1991), Statistics in Medicine 10, 939-947, for the steps.
        .. [3] Hasler & Hothorn (2008), Biometrical Journal 50, 793-800, for unequal variances.
        """
        gate.choice("control", control, [g.label for g in self.groups])
        usual: Against = "dunnett" if self.compared in ("equal", "unequal") else "holm"
        return simultaneous.against(self, control, method or usual, alternative)

    def contrasts(
        self,
        weights: Mapping[str, Weights],
        method: ContrastMethod | None = None,
        *,
        alternative: Alternative = "two-sided",
    ) -> Comparison:
        """How far apart are these groups together from those?

        Parameters
        ----------
        weights : mapping of name to weights
            For each contrast the weights of the groups, which add up to 0: a sequence in the order of the groups, or a
            mapping by label, where a group that is not named has 0. They are taken as they are given: for the mean of
            some groups less that of others, those above 0 add up to 1.
        method : str, optional
            "scheffe" (the default for means of independent groups: any number of contrasts, those thought of after a
            look at the data among them), any correction of `multiplicity.correct` ("holm" is the default for ranks and
            for the same units; "bonferroni" has the shorter intervals for a few contrasts written down before), or
            "none".
        alternative : "two-sided", "greater" or "less"
            Direction of the tests, not for "scheffe".

        Returns
        -------
        Comparison
            Along an axis of contrasts, with a `correction`. Of unequal variances each contrast has its own degrees of
            freedom, of Satterthwaite.

        Raises
        ------
        InputError
            If weights do not add up to 0, or name a group that is not there.

        References
        ----------
        .. [1] Scheffé (1953), Biometrika 40, 87-104.
        .. [2] Satterthwaite (1946), Biometrics Bulletin 2, 110-114.
        .. [3] Brown & Forsythe (1974), Technometrics 16, 129-132, for Scheffé's method with unequal variances.

        Examples
        --------
        >>> from amber_ruler.measure import groups
        >>> delay = groups({"Amble": [3.0, 5, 4, 6], "Tern Quay": [1.0, 9, 4, 14], "Gullhaven": [2.0, 2, 3, 3]})
        >>> found = delay.contrasts({"quay or not": {"Tern Quay": 1, "Amble": -0.5, "Gullhaven": -0.5}})
        >>> float(found.estimate[0]), round(float(found.se[0]), 4)
        (3.5, 2.8795)
        """
        usual: ContrastMethod = "scheffe" if self.compared in ("equal", "unequal") else "holm"
        return contrasting.contrasts(self, weights, method or usual, alternative)
