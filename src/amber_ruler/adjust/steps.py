"""One description of steps, to be used of many metrics."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from amber_ruler.adjust import description
from amber_ruler.adjust.description import Covariate, Ends, Shares, Theta
from amber_ruler.adjust.sharpen import sharpen
from amber_ruler.results import Comparison

__all__ = ["Steps", "steps"]


class Steps(description.Steps):
    """How a difference is sharpened, made by `steps`; its attributes are the settings of `sharpen`."""

    __slots__ = ()

    def compare(self, treatment: Any, control: Any, *, value: str, **settings: Any) -> Comparison:
        """Compare two variants so: `adjust.sharpen` with these steps."""
        return sharpen(treatment, control, value=value, **asdict(self), **settings)


def steps(
    *,
    cap: float | None = None,
    cap_at: float | None = None,
    ends: Ends = "upper",
    strata: str | None = None,
    shares: Shares | Mapping[str, float] = "sample",
    covariate: Covariate = (),
    theta: Theta = "within",
    per: str | None = None,
    cluster: str | None = None,
    known_on: str | None = None,
    assigned_on: str | None = None,
) -> Steps:
    """Describe once how metrics are sharpened, to be used of many, saved and printed.

    Parameters
    ----------
    cap, cap_at, ends, strata, shares, covariate, theta, per, cluster, known_on, assigned_on
        As for `sharpen`.

    Returns
    -------
    Steps
        Its `compare(treatment, control, value=…)` is `sharpen`; `to_dict()` is what differs from the usual.

    Raises
    ------
    InputError
        If the steps do not go together, with the reason.

    Examples
    --------
    >>> sharper = steps(cap=0.99, covariate=["prior_spend", "prior_trips"], strata="home_port")
    >>> sharper.to_dict()
    {'cap': 0.99, 'strata': 'home_port', 'covariate': ['prior_spend', 'prior_trips']}
    """
    listed: Any = covariate
    return Steps(cap, cap_at, ends, strata, shares, listed, theta, per, cluster, known_on, assigned_on)
