"""amber-ruler plan: units, power and detectable effect before a test."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer

from amber_ruler.cli.output import write_results
from amber_ruler.errors import DesignError

if TYPE_CHECKING:
    from amber_ruler.plan.design import TwoGroups

app = typer.Typer(
    no_args_is_help=True,
    rich_markup_mode=None,
    help="Find units, power or detectable effect.",
)

Effect = Annotated[float | None, typer.Option(help="Treatment minus control.", show_default=False)]
Units = Annotated[int | None, typer.Option("--n", help="Units in control.", show_default=False)]
Power = Annotated[float, typer.Option(help="Chance to find the effect.")]
Ratio = Annotated[float, typer.Option(help="Treatment units for each control unit.")]
Alpha = Annotated[float, typer.Option(help="Error rate of the test.")]
Alternative = Annotated[str, typer.Option(help="two-sided, greater or less.")]
Json = Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")]

_MEANS_EXAMPLES = """\b
Examples:
  amber-ruler plan two-means --sd 20 --effect 1.3            how many units?
  amber-ruler plan two-means --sd 20 --effect 1.3 --n 3000   what power?
  amber-ruler plan two-means --sd 20 --n 3000 --power 0.9    what effect?
"""
_SHARES_EXAMPLES = """\b
Examples:
  how many units?
      amber-ruler plan two-proportions --baseline 0.46 --effect 0.03
  what effect?
      amber-ruler plan two-proportions --baseline 0.46 --n 4000 --power 0.9
"""


@app.command("two-means", epilog=_MEANS_EXAMPLES)
def two_means(
    effect: Effect = None,
    n: Units = None,
    power: Power = 0.8,
    sd: Annotated[float, typer.Option(help="Standard deviation within groups; 1 for standardised effects.")] = 1.0,
    ratio: Ratio = 1.0,
    alpha: Alpha = 0.05,
    alternative: Alternative = "two-sided",
    as_json: Json = False,
) -> None:
    """Plan a comparison of two means.

    With --effect: how many units. With --n: the smallest detectable effect. With both: the power.
    """
    from amber_ruler.plan import TwoMeans

    design = TwoMeans(sd=sd, ratio=ratio, alpha=alpha, alternative=alternative)  # type: ignore[arg-type]
    _ask(design, effect, n, power, as_json)


@app.command("two-proportions", epilog=_SHARES_EXAMPLES)
def two_proportions(
    baseline: Annotated[float, typer.Option(help="Share of successes in control.", show_default=False)],
    effect: Effect = None,
    n: Units = None,
    power: Power = 0.8,
    ratio: Ratio = 1.0,
    alpha: Alpha = 0.05,
    alternative: Alternative = "two-sided",
    as_json: Json = False,
) -> None:
    """Plan a comparison of two proportions; an effect of 0.01 is one percentage point.

    With --effect: how many units. With --n: the smallest detectable effect. With both: the power.
    """
    from amber_ruler.plan import TwoProportions

    design = TwoProportions(baseline=baseline, ratio=ratio, alpha=alpha, alternative=alternative)  # type: ignore[arg-type]
    _ask(design, effect, n, power, as_json)


def _ask(design: TwoGroups, effect: float | None, n: int | None, power: float, as_json: bool) -> None:
    if effect is not None and n is not None:
        answer = design.power(effect=effect, n=n)
    elif effect is not None:
        answer = design.sample_size(effect=effect, power=power)
    elif n is not None:
        answer = design.detectable_effect(n=n, power=power)
    else:
        raise DesignError("Give --effect for the units, --n for the detectable effect, or both for the power.")
    write_results([answer], as_json=as_json)
