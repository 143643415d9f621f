"""amber-ruler plan: units, power, detectable effect, alpha or precision, before a test.

Every design is a command, whose options are the numbers that the design takes: its fields, said as in its docstring.
"""

from __future__ import annotations

import dataclasses
import inspect
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from amber_ruler.cli.build import HELP, command, lazy_group, maybe, numbers, parameters, written
from amber_ruler.cli.looking import looking, looks_of
from amber_ruler.cli.output import tell
from amber_ruler.errors import DesignError, InputError

if TYPE_CHECKING:
    from amber_ruler.plan.questions import Design
    from amber_ruler.results import Result

_RATIO = """--numerator-mean 0.6 --numerator-variance 0.8 \\
      --denominator-mean 3 --denominator-variance 5 --covariance 1.1 --lift 0.05"""
# The design behind each command, and an example of its own.
KINDS = {
    "two-means": ("TwoMeans", "--sd 20 --effect 1.3 --power 0.9"),
    "two-proportions": ("TwoProportions", "--baseline 0.46 --lift 0.05"),
    "one-mean": ("OneMean", "--sd 20 --baseline 14 --treatment 15"),
    "paired-means": ("PairedMeans", "--sd 10 --correlation 0.6 --effect 3"),
    "one-proportion": ("OneProportion", "--half-width 0.03"),
    "paired-proportions": ("PairedProportions", "--discordant 0.3 --effect 0.1"),
    "many-means": ("ManyMeans", "--groups 3 --sd 2 --means 10,11,12"),
    "contrast": ("Contrast", "--weights 1,-0.5,-0.5 --sd 10 --effect 4"),
    "all-pairs": ("AllPairs", "--groups 4 --sd 10 --effect 5"),
    "factorial": ("Factorial", "--levels 2,3 --tested 1,2 --effect 0.25"),
    "repeated-means": ("RepeatedMeans", "--sd 10 --before 3 --after 2 --correlation 0.6 --effect 4"),
    "crossover": ("Crossover", "--sd 10 --correlation 0.6 --effect 3"),
    "two-ranks": ("TwoRanks", "--treatment 0.65"),
    "one-rate": ("OneRate", "--baseline 0.5 --exposure 28 --lift 0.3"),
    "two-rates": ("TwoRates", "--baseline 0.5 --exposure 28 --lift 0.1"),
    "two-times": ("TwoTimes", "--baseline 0.4 --lift -0.3"),
    "one-spread": ("OneSpread", "--baseline 10 --treatment 13"),
    "two-spreads": ("TwoSpreads", "--baseline 10 --treatment 13"),
    "ratio": ("RatioMetric", _RATIO),
    "correlation": ("Correlation", "--effect 0.3"),
    "two-correlations": ("TwoCorrelations", "--baseline 0.3 --treatment 0.5"),
    "slope": ("Slope", "--sd-predictor 3 --sd-error 10 --effect 1"),
    "regression": ("Regression", "--predictors 3 --explained 0.2 --effect 0.05"),
    "association": ("Association", "--rows 2 --columns 3 --effect 0.3"),
    "evidence": ("Evidence", '--prior "halfnormal 2" --se 1.9 --n 40 --threshold 6'),
}
_ASSURED = ("TwoMeans", "OneMean", "PairedMeans", "TwoProportions", "OneProportion", "PairedProportions", "TwoRates")

_WAYS = {
    "effect": "How large the effect is, in the design's unit; treatment minus control where there are two groups.",
    "standardised": "The effect in standard deviations instead (shares: h; regression: f squared).",
    "lift": "The effect relative to the baseline instead: 0.05 is 5%.",
    "treatment": "The value that would replace the baseline, instead.",
    "means": "The means of all groups instead, separated by commas.",
    "shares": "The table of expected shares instead: rows separated by semicolons, cells by commas.",
}
_OF_FILE = "experiment"
_FINDS = ("size", "power", "effect", "alpha", "precision")


def _experiment(**given: Any) -> None:
    from amber_ruler.cli.experiments import experiment_of

    tell(experiment_of(given["file"]).plan(), given)


def _command(kind: str) -> Any:
    """A command whose options are the fields of a design, and what goes with every question."""
    from amber_ruler import plan

    if kind == _OF_FILE:
        argument = typer.Argument(help="The experiment file (TOML).", show_default=False)
        options = {"file": (Annotated[Path, argument], inspect.Parameter.empty), **written()}
        said = "How many units does an experiment file take, by metric, and which metric drives?"
        return command(kind, _experiment, options, said, f"\b\nExample:\n  amber-ruler plan {kind} experiment.toml\n")
    name, example = KINDS[kind]
    design = getattr(plan, name)
    by_evidence = name == "Evidence"
    options = {**_own_options(design), **(_asking_evidence() if by_evidence else _asking(design))}

    def run(**given: Any) -> None:
        (_run_evidence if by_evidence else _run)(design, given)

    doc = inspect.getdoc(design) or ""
    other = "--units asks how strong the evidence will be" if by_evidence else "--find asks for another"
    said = f"{doc.splitlines()[0]}\n\nBy default it says how many units are needed; {other}."
    return command(kind, run, options, said, f"\b\nExample:\n  amber-ruler plan {kind} {example}\n")


def _own_options(design: type[Design]) -> dict[str, tuple[Any, Any]]:
    """An option for every number of the design."""
    said = parameters(design)
    options: dict[str, tuple[Any, Any]] = {}
    # What the design measures first, then what every test has.
    for item in sorted(dataclasses.fields(design), key=lambda f: f.name in ("ratio", "alpha", "alternative")):
        if not item.init or item.name == "modifiers":
            continue
        # Of an optional number the number; a choice is text.
        kind: Any = {"float": float, "int": int, "bool": bool}.get(str(item.type).partition(" ")[0], str)
        required = item.default is dataclasses.MISSING
        flag = [f"--{item.name.replace('_', '-')}" + (f"/--no-{item.name}" if kind is bool else "")]
        help_ = said.get(item.name, "")
        if item.name == "prior":
            from amber_ruler.bayes.priors import Prior, written_as

            help_ += f" Written: {written_as((Prior,))}."
        option = typer.Option(*flag, help=help_, show_default=not (required or item.default in (None, False)))
        hint = kind if required or item.default is not None else kind | None
        options[item.name] = (Annotated[hint, option], inspect.Parameter.empty if required else item.default)
    return options


def _asking_evidence() -> dict[str, tuple[Any, Any]]:
    """The questions of a plan by evidence."""
    return {
        "units": maybe(str, "Units in each group: how strong will the evidence be? Several make a curve."),
        "threshold": (
            Annotated[float, typer.Option(help="Factor from which on evidence counts, either way.")],
            3.0,
        ),
        "chance": maybe(float, "Chance to pass the threshold; without it just the mean and just no effect are seen."),
        **written("the factors against units"),
    }


def _run_evidence(kind: Any, given: dict[str, Any]) -> None:
    from amber_ruler.bayes import prior_of

    design = kind(
        prior=prior_of(given["prior"]),
        **{name: given[name] for name in ("se", "n", "likelihood", "null")},
    )
    units = _one_or_more("--units", given["units"])
    if units is None:
        answer = design.sample_size(threshold=given["threshold"], chance=given["chance"])
    else:
        _refuse(given["chance"] is not None, "--chance looks for units: leave --units out.")
        answer = design.power(n=units, threshold=given["threshold"])
    tell(answer, given)


def _asking(design: type[Design]) -> dict[str, tuple[Any, Any]]:
    """The options of the questions, and of the modifiers that the design allows."""
    from amber_ruler.plan import modifiers as change

    options: dict[str, tuple[Any, Any]] = {}
    for way, help_ in _WAYS.items():
        if way in design.ways:
            options[way] = maybe(str if way in ("means", "shares") else float, help_)
    options["power"] = maybe(float, "Chance to find the effect; 0.8 unless given.")
    pair = "; treatment,control for unequal groups" if "ratio" in {f.name for f in dataclasses.fields(design)} else ""
    options["n"] = maybe(str, f"Units in control, in each group, or in all, as the design has them{pair}.", "--n")
    if pair:
        options["n_control"] = maybe(int, "Units of control that are given: how many must treatment have?")
        options["n_treatment"] = maybe(int, "Units of treatment that are given: how many must control have?")
        options["costs"] = maybe(
            str, "Cost of a unit of treatment,control: the split that costs least; 1,1 for the fewest."
        )
        options["odd_total"] = (
            Annotated[bool, typer.Option("--odd-total", help="The fewest units in total, split as nearly as can be.")],
            False,
        )
    said = "size, power, effect, alpha, precision, or a number of the design to solve for, such as sd or margin."
    options["find"] = (Annotated[str, typer.Option(help=said)], "size")
    options["half_width"] = maybe(
        float, "Find the units for an interval that reaches no further to each side; with --n the alpha."
    )
    options["width"] = (
        Annotated[str, typer.Option(help="Of --half-width and --find precision: planned or expected.")],
        "planned",
    )
    options["assurance"] = maybe(
        float, "Chance that the interval is no wider; with --prior the averaged power that is looked for."
    )
    options |= _modifying(design)
    options["grid"] = (
        Annotated[
            list[str] | None,
            typer.Option(
                help="Several values of a number, such as effect=1,1.3,2; may be repeated.", show_default=False
            ),
        ],
        None,
    )
    if design.__name__ in _ASSURED:
        options["prior"] = maybe(
            str, "Prior of the effect, such as 'normal 2 3': asks for the power averaged over it; as for plan evidence."
        )
        options["direction"] = maybe(str, "With --prior: right (unless given) counts effects found in their direction.")
    if change.LookSchedule in design.allowed:
        ways = typer.Option("--ways", help="Compare one look, several, and any moment.")
        options["ways"] = (Annotated[bool, ways], False)
    return options | written("the curve")


def _modifying(design: type[Design]) -> dict[str, tuple[Any, Any]]:
    """The options of the modifiers that the design allows."""
    from amber_ruler.plan import modifiers as change

    allowed = design.allowed
    options: dict[str, tuple[Any, Any]] = {}
    if change.Covariate in allowed:
        options["covariate"] = maybe(float, "Correlation with a covariate known before the test.")
        options["covariates"] = maybe(int, "How many covariates that is the multiple correlation with.")
    if change.Clusters in allowed:
        options["cluster_size"] = maybe(float, "Units in each cluster, where whole clusters are randomised.")
        options["clusters"] = maybe(str, "Clusters in each group, instead of --n; 6,8 of treatment and control.")
        options["icc"] = maybe(float, "Intraclass correlation of the clusters.")
        options["between_cv"] = maybe(float, "Instead of --icc: coefficient of variation of the clusters' means.")
        options["cluster_cv"] = maybe(float, "Coefficient of variation of the cluster sizes.")
    if change.Variants in allowed:
        options["variants"] = maybe(int, "Number of treatments, each compared with the control.")
        options["correction"] = maybe(str, "For several treatments: dunnett (unless given), sidak, bonferroni, none.")
    if change.Margin in allowed:
        options["margin"] = maybe(float, "Show that treatment is not worse, or not different, by this much.")
        options["margin_lift"] = maybe(float, "Or instead: by this share of control, such as 1%; with --baseline.")
        options["margin_kind"] = maybe(str, "non-inferiority (unless given), equivalence or superiority.")
        options["margin_above"] = maybe(float, "Of equivalence: how far above control, where not as far as below.")
        options["good"] = maybe(str, "Direction in which the metric is good: higher or lower.")
    if change.LookSchedule in allowed:
        options |= looking()
    options["per_day"] = maybe(float, "Units that arrive each day: the answer says how long it takes.")
    options["traffic_share"] = maybe(float, "Share of them that enters the test.")
    options["weeks"] = maybe(int, "Weeks of that traffic, instead of --n.")
    options["attrition"] = maybe(float, "Share of units that will have no value at the end.")
    if change.Population in allowed:
        options["population"] = maybe(int, "Units in the population that is drawn from.")
    return options


def _run(kind: type[Design], given: dict[str, Any]) -> None:
    own = {f.name for f in dataclasses.fields(kind) if f.init and f.name != "modifiers"}
    fields = {name: given.pop(name) for name in own & given.keys()}
    for name in kind.lists:
        if fields[name] is not None:
            fields[name] = tuple(numbers(_flag(name), fields[name]))
    if kind.__name__ == "TwoRanks" and given["shares"] is not None:  # they say what is tied
        _refuse(fields.pop("ties") != 0, "--shares say what is tied: leave --ties out.")
        design = kind.of_categories(_effect("shares", given["shares"]), **fields)  # type: ignore[attr-defined]
    else:
        design = kind(**fields)
    design = _modified(design, given)
    if given.get("ways"):
        answer = _ways(design, given)
    elif given.get("prior") is not None:
        answer = _assured(design, given)
    else:
        by_width = given["half_width"] is not None or given["find"] == "precision"
        for name in ("direction", *(() if by_width else ("assurance",))):
            _refuse(given.get(name) is not None, f"--{name} goes with --prior, which is not given.")
        answer = _grid(design, given) if given["grid"] else _answer(design, given)
    tell(answer, given)


def _modified(design: Design, given: dict[str, Any]) -> Design:
    def together(first: str, *others: str) -> bool:
        if given.get(first) is None:
            for other in others:
                if given.get(other) is not None:
                    raise DesignError(f"{_flag(other)} goes with {_flag(first)}, which is not given.")
            return False
        return True

    def some(**names: str) -> dict[str, Any]:
        return {name: given[option] for name, option in names.items() if given.get(option) is not None}

    if together("covariate", "covariates"):
        design = design.with_covariate(given["covariate"], **some(count="covariates"))
    if together("cluster_size", "icc", "between_cv", "cluster_cv"):
        if given["icc"] is None and given["between_cv"] is None:
            raise DesignError("--cluster-size goes with --icc or --between-cv, and neither is given.")
        alike = some(icc="icc", cv="cluster_cv", between_cv="between_cv")
        design = design.with_clusters(given["cluster_size"], **alike)
    if together("population"):
        design = design.with_population(given["population"])
    by_lift = given.get("margin_lift") is not None
    if together("margin_lift" if by_lift else "margin", "margin_kind", "margin_above", "good"):
        wanted = some(margin="margin", lift="margin_lift", kind="margin_kind", above="margin_above", good="good")
        design = design.with_margin(**wanted)
    if together("variants", "correction"):
        design = design.with_variants(given["variants"], **some(correction="correction"))
    if together("attrition"):
        design = design.with_attrition(given["attrition"])
    if together("looks", *(name for name in looking() if name != "looks")):
        design = design.with_looks(**looks_of(given))
    if together("per_day", "traffic_share", "weeks"):
        design = design.with_traffic(given["per_day"], **some(share="traffic_share"))
    return design


def _ways(design: Any, given: dict[str, Any]) -> Result:
    """One look, several and any moment, side by side."""
    other = [_flag(n) for n in ("n", "clusters", "weeks", "half_width", "grid", "prior", "assurance") if given.get(n)]
    _refuse(
        given["find"] != "size" or bool(other), f"--ways looks for units: leave {', '.join(other) or '--find'} out."
    )
    effect = {way: _effect(way, given[way]) for way in _WAYS if given.get(way) is not None}
    power = {} if given["power"] is None else {"power": given["power"]}
    answer: Result = design.ways_to_look(**power, **effect)
    return answer


def _assured(design: Design, given: dict[str, Any]) -> Result:
    """Power averaged over a prior of the effect."""
    from amber_ruler.bayes import prior_of

    beside = [_flag(name) for name in (*_WAYS, "power", "half_width", "grid") if given.get(name)]
    _refuse(given["find"] != "size", "--prior asks for the power averaged over it: leave --find out.")
    _refuse(bool(beside), f"--prior says what is believed of the effect: leave {', '.join(beside)} out.")
    more = {} if given["direction"] is None else {"direction": given["direction"]}
    prior, n, weeks = prior_of(given["prior"]), _size(given), given["weeks"]
    if n is None and weeks is None:
        target = {} if given["assurance"] is None else {"assurance": given["assurance"]}
        return design.sample_size_for_assurance(prior=prior, **target, **more)
    _refuse(given["assurance"] is not None, "--assurance looks for units: leave --n and --weeks out.")
    return design.assurance(prior=prior, n=n, weeks=weeks, **more)


def _answer(design: Design, given: dict[str, Any]) -> Result:
    find = given["find"]
    known = (*_FINDS, *_solvable(design))
    if find.replace("-", "_") not in known:
        raise InputError.unknown("--find", find, known)
    effect = {way: _effect(way, given[way]) for way in _WAYS if given.get(way) is not None}
    units = {"n": _size(given), "weeks": given["weeks"]}
    units = {name: value for name, value in units.items() if value is not None}
    power = {} if given["power"] is None else {"power": given["power"]}
    width = {"width": given["width"], "assurance": given["assurance"]}
    if given["half_width"] is not None:
        _refuse(find != "size", "--half-width asks for units, or with --n for the level: leave --find out.")
        _refuse(bool(power), "--half-width asks for a width: leave --power out.")
        if units:
            _refuse(width != {"width": "planned", "assurance": None}, "The level is that of the planned width.")
            return design.alpha_for_width(half_width=given["half_width"], **units, **effect)
        return design.sample_size_for_width(half_width=given["half_width"], **width, **effect)
    if find == "precision":
        _refuse(bool(power), "The width is what is looked for: leave --power out.")
        return design.precision(**units, **width, **effect)
    _refuse(width["width"] != "planned", "--width goes with --half-width or --find precision.")
    split = _split(design, given, power, effect)
    if split is not None:
        return split
    if find == "size":
        _refuse(
            bool(units), "The units are what is looked for: leave out --n and --weeks, or say --find power or effect."
        )
        return design.sample_size(**power, **effect)
    if find == "power":
        _refuse(bool(power), "The power is what is looked for: leave --power out.")
        return design.power(**units, **effect)
    if find == "effect":
        _refuse(bool(effect), "The effect is what is looked for: leave it out.")
        return design.detectable_effect(**units, **power)
    if find == "alpha":
        return design.alpha_for(**units, **power, **effect)
    clusters = None
    if find.replace("-", "_") == "cluster_size" and given.get("clusters") is not None:
        clusters, units = int(given["clusters"]), {}
    return design.needed(find.replace("-", "_"), clusters=clusters, **units, **power, **effect)


def _solvable(design: Design) -> tuple[str, ...]:
    from amber_ruler.plan.needed import numbers_of

    return numbers_of(design)


def _split(design: Any, given: dict[str, Any], power: dict[str, float], effect: dict[str, Any]) -> Result | None:
    """One group given, the fewest in total, or the split that costs least; None where nothing of it is asked."""
    asked = [name for name in ("n_control", "n_treatment", "costs", "odd_total") if given.get(name)]
    if not asked:
        return None
    _refuse(len(asked) > 1, f"{' and '.join(map(_flag, asked))} ask for different splits: give one of them.")
    beside = [_flag(name) for name in ("n", "clusters", "weeks") if given.get(name) is not None]
    _refuse(given["find"] != "size" or bool(beside), f"{_flag(asked[0])} looks for units: leave --find and --n out.")
    answer: Result
    if asked[0] == "odd_total":
        answer = design.smallest_total(**power, **effect)
    elif asked[0] == "costs":
        costs = numbers("--costs", given["costs"])
        _refuse(len(costs) != 2, "--costs takes two numbers: of a unit of treatment, and of control.")
        answer = design.best_split(cost_treatment=costs[0], cost_control=costs[1], **power, **effect)
    else:
        answer = design.sample_size_beside(**{asked[0]: given[asked[0]]}, **power, **effect)
    return answer


def _grid(design: Design, given: dict[str, Any]) -> Result:
    columns: dict[str, Any] = {name: given[name] for name in (*_WAYS, "power", "weeks") if given.get(name) is not None}
    if _size(given) is not None:
        columns["n"] = _size(given)
    for part in given["grid"]:
        name, sign, values = part.partition("=")
        if not sign:
            raise InputError(f"--grid takes name=value,value, such as effect=1,1.3,2; got {part!r}.")
        columns[name.strip().replace("-", "_")] = numbers("--grid", values)
    return design.grid(**columns)


def _refuse(wrong: bool, message: str) -> None:
    if wrong:
        raise DesignError(message)


def _effect(way: str, value: Any) -> Any:
    if way == "means":
        return numbers("--means", value)
    if way == "shares":
        return [numbers("--shares", row) for row in value.split(";")]
    return value


def _size(given: dict[str, Any]) -> Any:
    """Units as they were given, or as clusters of units."""
    clusters, name = given.get("clusters"), "n"
    if clusters is not None:
        _refuse(given["n"] is not None, "--clusters and --n say the same thing: give one of them.")
        _refuse(given["cluster_size"] is None, "--clusters goes with --cluster-size, which is not given.")
        name = "clusters"
    return _one_or_more(f"--{name}", given[name], 1 if clusters is None else given["cluster_size"])


def _one_or_more(flag: str, text: str | None, size: float = 1) -> Any:
    """A number, or several, each times a size."""
    values = [] if text is None else [size * v for v in numbers(flag, text)]
    return None if text is None else values[0] if len(values) == 1 else values


def _flag(name: str) -> str:
    return f"--{name.replace('_', '-')}"


app = typer.Typer(
    cls=lazy_group(lambda: (_OF_FILE, *KINDS), _command),
    no_args_is_help=True,
    context_settings=HELP,
    rich_markup_mode=None,
    help="Find units, power, detectable effect, alpha or precision before a test.",
)


@app.callback()
def _plan() -> None:
    pass
