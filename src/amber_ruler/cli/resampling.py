"""amber-ruler bootstrap, permutation, replay: drawing and dealing out again."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import command, maybe, needed, written
from amber_ruler.cli.experiments import experiment_of
from amber_ruler.cli.output import progress, tell
from amber_ruler.cli.reading import asked_of_file, file_argument, open_table, reading_options
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from amber_ruler.tables import Table

_SAID = {
    "bootstrap": "How far would a statistic vary for which there is no formula, and where does it lie?",
    "permutation": "Is there a difference, by no more than how the units were dealt out?",
    "replay": (
        "Does an analysis keep its error rate on my own units, and what would it find?\n\n"
        "From a table with no difference in it, such as one from before the test; or from an experiment file, whose own"
        " units are dealt out again. With a covariate or a cap each way is replayed, and the sharpest is marked."
    ),
}
EXAMPLES = {
    "bootstrap": """  amber-ruler bootstrap travellers.csv --value fare --by form --control current --treatment short \\
      --statistic lift
  amber-ruler bootstrap travellers.csv --value fare --statistic regression --covariate prior_spend,prior_trips""",
    "permutation": """  amber-ruler permutation travellers.csv --value booked --by form --control current \\
      --treatment short --seed 1
  amber-ruler permutation travellers.csv --value fare --by form --control current --treatment short \\
      --statistic studentised --strata home_port""",
    "replay": """  amber-ruler replay travellers.csv --value fare --where "form = current" --cap 0.99 \\
      --covariate prior_spend
  amber-ruler replay experiment.toml --runs 500""",
}
NAMES = tuple(_SAID)


def _drawn() -> dict[str, tuple[Any, Any]]:
    """What all of them take."""
    return {
        "alpha": (Annotated[float, typer.Option(help="Error rate; the interval has level 1 - alpha.")], 0.05),
        "seed": maybe(int, "What replays the draws; one is made, and told, unless given."),
        "workers": maybe(int, "Threads or processes; as many as there are cores unless given."),
    }


def _compared() -> dict[str, tuple[Any, Any]]:
    return {
        "by": maybe(str, "Column with the variant labels; all rows are one sample unless given."),
        "control": maybe(str, "Label of the control."),
        "treatment": maybe(str, "Label of the treatment; the other variant unless given."),
        "cluster": maybe(str, "Column with units that are drawn, or were dealt out, whole."),
        "strata": maybe(str, "Column with strata that are drawn within."),
        "alternative": (Annotated[str, typer.Option(help="two-sided, greater or less.")], "two-sided"),
        "margin": maybe(float, "Smallest difference that matters."),
        "good": (
            Annotated[str, typer.Option(help="Direction that is good: higher or lower.")],
            "higher",
        ),
        "replicates": maybe(str, "How many are drawn; or all."),
        **_drawn(),
    }


def _options(name: str) -> dict[str, tuple[Any, Any]]:
    value = needed(str, "Column with the metric.")
    if name == "bootstrap":
        return {
            "value": value,
            "statistic": (
                Annotated[
                    str,
                    typer.Option(
                        help="mean, lift, ratio, ratio lift, quantile, regression, adjusted, adjusted lift, split."
                    ),
                ],
                "mean",
            ),
            "per": maybe(str, "Second column, of a ratio or a split."),
            "covariate": maybe(str, "Columns of a regression, or known before the test, separated by commas."),
            "at": (Annotated[float, typer.Option(help="Which quantile.")], 0.5),
            "interval": (
                Annotated[str, typer.Option(help="bca, percentile, basic, normal or studentised.")],
                "bca",
            ),
            "weights": (Annotated[str, typer.Option(help="resampled, or poisson: faster.")], "resampled"),
            "tolerance": maybe(float, "Draw until the ends' Monte-Carlo error is below this share of the width."),
            **_compared(),
        }
    if name == "permutation":
        return {
            "value": value,
            "statistic": (Annotated[str, typer.Option(help="mean, or studentised.")], "mean"),
            "two_sided": (Annotated[str, typer.Option(help="distance, or doubled.")], "distance"),
            **_compared(),
        }
    return {
        "value": maybe(str, "Columns with the metrics, separated by commas; of an experiment file it says so itself."),
        "covariate": maybe(str, "Columns known before the test, separated by commas."),
        "cap": maybe(float, "Quantile at which the metric is capped."),
        "per": maybe(str, "Column that the metric is counted by."),
        "strata": maybe(str, "Column with the strata."),
        "cluster": maybe(str, "Column with units that have several rows."),
        "share": maybe(float, "Share that is treated; a half unless given."),
        "runs": maybe(int, "How often; 2,000 where sums are enough, else 200, unless given."),
        "effect": maybe(float, "A difference to plant, in the metric's unit."),
        "lift": maybe(float, "Or instead: as a share of the mean."),
        **_drawn(),
    }


def made(name: str) -> Any:
    """One of these commands."""
    options = {"file": file_argument(), **_options(name), **written(), **reading_options()}
    run: Any = {"bootstrap": _bootstrap, "permutation": _permutation, "replay": _replay}[name]
    return command(name, run, options, _SAID[name], f"\b\nExamples:\n{EXAMPLES[name]}\n")


def _bootstrap(**given: Any) -> None:
    from amber_ruler.resample import bootstrap

    covariates = _listed(given["covariate"])
    columns = [given["value"], *([given["per"]] if given["per"] else []), *covariates]
    names = ("statistic", "per", "at", "interval", "weights", "tolerance")
    one, *two = _samples(given, columns)
    own: dict[str, Any] = {name: given[name] for name in names}
    with progress("resamples") as bar:
        found = bootstrap(
            one,
            two[0] if two else None,
            value=given["value"],
            covariate=covariates,
            progress=bar,
            **own,
            **_settings(given),
        )
    tell(found, given)


def _permutation(**given: Any) -> None:
    from amber_ruler.resample import permutation

    with progress("assignments") as bar:
        found = permutation(
            *_samples(given, [given["value"]]), value=given["value"], statistic=given["statistic"],
            two_sided=given["two_sided"], progress=bar, **_settings(given),
        )  # fmt: skip
    tell(found, given)


def _replay(**given: Any) -> None:
    file = given["file"]
    asked = {name: given[name] for name in ("runs", "effect", "lift", "seed", "workers")}
    if file is not None and file.suffix.lower() == ".toml":
        of_table = ("value", "covariate", "cap", "per", "strata", "cluster", "share", "effect")
        beside = [*(f"--{name}" for name in of_table if given[name] is not None), *asked_of_file(given)]
        if beside or given["alpha"] != 0.05:
            raise InputError(f"An experiment file says itself how it is analysed: leave {[*beside, '--alpha'][0]} out.")
        del asked["effect"]
        with progress("runs") as bar:
            found: Any = experiment_of(file).replay(progress=bar, **asked)
        tell(found, given)
        return
    metrics = _listed(given["value"])
    if not metrics:
        raise InputError("Name the metric: --value fare.")
    source = open_table(given, values=tuple(metrics))
    ways = {label: own for metric in metrics for label, own in _ways(metric, given).items()}
    more = {"share": 0.5 if given["share"] is None else given["share"], "alpha": given["alpha"]}
    with progress("runs") as bar:
        several: Any = source.replay(ways, progress=bar, **asked, **more)
    tell(several if len(ways) > 1 else several[next(iter(ways))], given)


def _ways(metric: str, given: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """The metric as it is, with each of the steps by itself, and with all of them."""
    base = {name: given[name] for name in ("per", "cluster", "strata") if given[name] is not None}
    if base:
        base["value"] = metric
    steps = {"capped": {"cap": given["cap"]}} if given["cap"] is not None else {}
    covariates = _listed(given["covariate"])
    if covariates:
        steps[f"with {' and '.join(covariates)}"] = {"covariate": covariates}
    found = {metric: dict(base)}
    for said, step in steps.items():
        found[f"{metric}, {said}"] = {**base, "value": metric, **step}
    if len(steps) > 1:
        every = {name: value for step in steps.values() for name, value in step.items()}
        found[f"{metric}, {' and '.join(steps)}"] = {**base, "value": metric, **every}
    return found


def _settings(given: dict[str, Any]) -> dict[str, Any]:
    replicates = given["replicates"]
    if replicates is not None and replicates != "all":
        if not str(replicates).replace(",", "").isdigit():
            raise InputError.rule("--replicates", replicates, "a number, or all")
        replicates = int(str(replicates).replace(",", ""))
    names = ("cluster", "strata", "alternative", "margin", "good", "alpha", "seed", "workers")
    return {name: given[name] for name in names} | {"replicates": replicates}


def _samples(given: dict[str, Any], columns: list[str]) -> tuple[Any, ...]:
    """One sample, or treatment and control."""
    source = open_table(given, values=tuple(columns))
    wanted = list(dict.fromkeys([*columns, *(given[n] for n in ("cluster", "strata") if given[n])]))
    by = given["by"]
    if by is None:
        if given["control"] or given["treatment"]:
            raise InputError("Say which column holds the variants: --by form.")
        return (_all_rows(source, wanted),)
    arms = source.records(wanted, by=by)
    control = given["control"]
    if control is None:
        raise InputError("Say which variant is the control: --control current.")
    others = [label for label in arms if label != control]
    treatment = given["treatment"]
    if control not in arms:
        raise InputError.unknown("--control", control, arms)
    if treatment is None and len(others) != 1:
        raise InputError(f"Column {by!r} holds several treatments: --treatment says which, of {', '.join(others)}.")
    treatment = treatment or others[0]
    if treatment not in arms:
        raise InputError.unknown("--treatment", treatment, others)
    return arms[treatment], arms[control]


def _all_rows(source: Table, wanted: list[str]) -> Any:
    """All rows as one sample."""
    from amber_ruler.samples import Records

    native = source.fetched(*wanted)
    return Records({name: native[name].tolist() for name in wanted}, "all rows")


def _listed(text: str | None) -> list[str]:
    return [part.strip() for part in (text or "").split(",") if part.strip()]
