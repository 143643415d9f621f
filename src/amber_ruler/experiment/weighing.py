"""What the data make of a prior, for a primary comparison as it was analysed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from amber_ruler import bayes
from amber_ruler.errors import DataError, InputError
from amber_ruler.experiment.resolve import Request
from amber_ruler.register import registered
from amber_ruler.results import Comparison, Group
from amber_ruler.samples import Summary
from amber_ruler.tables.shared import Shared

_TESTS_ONLY = ("skewness", "group sizes", "one value")  # checks of a test's own error rate


def weighed(source: Any, asked: Request, tested: Comparison, shared: Shared) -> tuple[Comparison, tuple[str, ...]]:
    """The posterior of a comparison, of the plain data or of the adjusted means; and what is to be said of it.

    An adjusted mean m with standard error s of n units is weighed as the mean of n units with the standard deviation
    s √n: the prior's standardised effect is then in units of the adjusted standard deviation.
    """
    notes: list[str] = []
    settings = {key: value for key, value in asked.settings.items() if key != "margin_lift"}
    settings["metric"] = asked.name
    if "margin_lift" in asked.settings:
        settings["margin"], said = _as_margin(asked, tested)
        notes.append(said)
    adjusted = bool(asked.steps) and asked.kind.adjusted
    if adjusted:
        name, arms = "means", tuple(_as_summary(group) for group in tested.groups[:2])
        notes.append(
            f"The posterior of {asked.name} is that of the adjusted means; its standardised effect is in adjusted"
            " standard deviations."
        )
    elif asked.kind.weighed:
        name = asked.kind.weighed.partition(".")[2]
        both = asked.arms(source, shared)
        arms = both[tested.treatment], both[tested.control]
    else:
        raise InputError(
            f"metrics.{asked.name}.kind: {asked.kind.plural} are not weighed by a prior yet. Take method ="
            " 'frequentist', or another primary metric."
        )
    if asked.prior is not None and name == "means":
        settings["prior"] = bayes.prior_of(asked.prior, (bayes.Cauchy,))
    for key in settings:
        if key not in registered("bayes", name).settings:
            raise InputError(
                f"metrics.{asked.name}.{key} can't go with method = 'bayesian' or 'both' yet: leave it out."
            )
    found: Comparison = getattr(bayes, name)(*arms, **settings)
    if adjusted:
        seen = tuple(check for check in tested.checks if check.name not in _TESTS_ONLY)
        found = replace(found, quantity=tested.quantity, checks=(*found.checks, *seen))
    return replace(found, notes=(*found.notes, *notes)), tuple(notes)


def _as_summary(group: Group) -> Summary:
    return Summary(group.n, group.mean, float(group.se) * float(np.sqrt(group.n)), group.label)


def _as_margin(asked: Request, tested: Comparison) -> tuple[float, str]:
    """A margin that is a lift, in the metric's unit: that share of the control's mean as it was observed."""
    lift, control = float(asked.settings["margin_lift"]), float(tested.groups[1].mean)
    if control <= 0:
        raise DataError(
            f"metrics.{asked.name}.margin_lift is a share of the control's mean, which is {control:.4g}: give margin."
        )
    margin = lift * control
    return margin, (
        f"margin_lift of {asked.name}: the posterior is read against {margin:.4g}, {100 * lift:g} % of the control's"
        f" observed mean {control:.4g}."
    )
