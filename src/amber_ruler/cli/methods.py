"""amber-ruler measure, bayes, adjust: one command for each registered method, from a table or from published numbers.

Options, their help and the examples are what the register and the method's own signature and docstring say.
"""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Mapping, Sequence
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal, get_args, get_origin

import typer

from amber_ruler.cli.build import HELP, command, labelled_numbers, lazy_group, maybe, numbers
from amber_ruler.cli.output import save_figure, write_results
from amber_ruler.cli.reading import (
    SPLIT,
    asked_of_file,
    file_argument,
    names_table,
    open_table,
    planned_shares,
    reading_options,
)
from amber_ruler.errors import InputError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from amber_ruler.register import Method
    from amber_ruler.results import Check, Measurement
    from amber_ruler.samples import Pairs
    from amber_ruler.tables import Table

ROOMS = {
    "measure": "Measure: means, shares, rates, ranks, spreads, quantiles, correlations, groups, counts.",
    "bayes": "Weigh: evidence for a difference, and the chance that it is real.",
    "adjust": "Sharpen: the same difference with less noise.",
}
_PUBLISHED = {
    "n": "Published: units of treatment, control (of one group its own).",
    "mean": "Published: means of treatment, control.",
    "sd": "Published: standard deviations of treatment, control.",
    "successes": "Published: successes of treatment, control.",
    "trials": "Published: trials of treatment, control.",
    "events": "Published: events of treatment, control.",
    "exposure": "Published: what they are counted over.",
    "counts": "Published: units with success on both sides, in treatment only, in control only, on neither.",
}
_COUNTS_OF = {
    "table": "Published: rows of counts, such as '30,10; 20,40'.",
    "kinds": "Published: the count of each kind, such as 120,80,100.",
}
_FROM_THE_TABLE = ("metric", "labels", "names", "others")  # settings that the table or other options say

Json = Annotated[bool, typer.Option("--json", help="Write JSON instead of text.")]


def room_app(room: str, said: str) -> typer.Typer:
    """A group with a command for each method of a room; nothing is loaded before one is asked for."""
    app = typer.Typer(
        cls=lazy_group(lambda: _names(room), lambda name: _command(room, name)),
        no_args_is_help=True,
        context_settings=HELP,
        rich_markup_mode=None,
        help=said,
    )
    app.callback()(lambda: None)
    return app


def _names(room: str) -> list[str]:
    import_module(f"amber_ruler.{room}")
    from amber_ruler.register import METHODS

    return sorted(name.replace("_", "-") for r, name in METHODS if r == room)


def _command(room: str, name: str) -> Any:
    from amber_ruler.register import registered

    method = registered(room, name.replace("-", "_"))
    call = getattr(import_module(f"amber_ruler.{room}"), method.name)
    said = (inspect.getdoc(method.bare) or "").splitlines()[0]

    def run(**given: Any) -> None:
        _run(method, call, given)

    examples = "\n".join(f"  amber-ruler {room} {name} {example}" for example in method.examples)
    return command(name, run, {**_sources(method), **_settings(method)}, said, f"\b\nExamples:\n{examples}\n")


def _sources(method: Method) -> dict[str, tuple[Any, Any]]:
    """Where the numbers come from."""
    if method.takes == "numbers":
        said = method.texts
        listed = "Several numbers, separated by commas, ask many at once."
        numbers_of = {name: maybe(str, f"{said.get(name, '')} {listed}") for name in method.data}
        if "labels" in method.settings:
            numbers_of["labels"] = maybe(str, "What each is called, separated by commas.")
        return {"file": (Annotated[Path | None, typer.Argument(hidden=True)], None), **numbers_of}
    options = {"file": file_argument()}
    takes = method.takes
    if takes == "table":
        options["row"] = maybe(
            str, "Column whose values make the rows; without it the file itself is a table of counts."
        )
        options["column"] = maybe(str, "Column whose values make the columns.")
    elif "value" not in method.columns:
        options["value"] = maybe(str, "Column with the kinds." if takes == "kinds" else "Column with the metric.")
    if takes in ("table", "kinds"):
        options["count"] = maybe(str, "Column that holds how many units a row stands for.")
    elif takes == "columns":
        options["second"] = maybe(str, "The other column.")
    else:
        several = "The two or three columns that hold the factors, such as route,season."
        options["by"] = maybe(str, several if takes == "factors" else "Column with the variant labels.")
    if takes in ("two", "pairs", "several"):
        options["control"] = maybe(str, "Label of the control; of a wide table its column.")
    if takes in ("pairs", "several"):
        options["unit"] = maybe(
            str, "Column that names the unit, measured under every condition: rows are aligned by it."
        )
    if takes == "pairs":
        options["treatment"] = maybe(
            str, "Column with the treatment side of a wide table, instead of --value and --by."
        )
    for name in method.published:
        options[name] = maybe(str, _COUNTS_OF.get(takes, _PUBLISHED[name]), f"--{name}")
    if method.published and takes != "table":
        options["labels"] = maybe(str, "What the published groups are called, such as short,current.")
    if takes == "several" and method.room == "measure":
        options["pairs"] = maybe(str, "How pairs are corrected, such as tukey-kramer, dunnett or holm.", "--pairs")
        options["contrast"] = maybe(
            str,
            "In the place of pairs: weights of the groups that add up to 0, such as Amble=1,Brae=-0.5,Cairn=-0.5; "
            "several separated by ';'. --pairs corrects them: scheffe unless given.",
        )
    if takes == "two":
        options["treatment"] = maybe(str, "Label of the treatment; every other variant unless given.")
        options["split"] = maybe(str, f"{SPLIT} The split is checked first.")
        options["family"] = maybe(
            str, "How several treatments are corrected: holm (unless given), none, ...", "--correct"
        )
    return options


def _settings(method: Method) -> dict[str, tuple[Any, Any]]:
    """The keyword settings of the library's function."""
    options: dict[str, tuple[Any, Any]] = {}
    for name, item in method.settings.items():
        if name in _FROM_THE_TABLE:
            continue
        of = _kind(name, item.annotation)
        help_ = method.texts.get(name, "")
        unsaid = dataclasses.is_dataclass(item.default) or item.default in (item.empty, ())
        plain = None if unsaid else item.default
        if _is_prior(item.annotation):
            from amber_ruler.bayes.priors import written_as

            help_ += f" Written: {written_as(_priors(item.annotation))}."
        option = typer.Option(f"--{name.replace('_', '-')}", help=help_, show_default=plain is not None)
        options[name] = (Annotated[of if plain is not None else of | None, option], plain)
    if "alpha" in method.settings:
        options["level"] = maybe(float, "Level of the interval, such as 0.9, instead of --alpha.")
    if method.room == "bayes":
        options |= _laid_open(method)
    figure = typer.Option(help="Draw the result into this PNG or SVG file.", show_default=False)
    options["figure"] = (Annotated[Path | None, figure], None)
    options["as_json"] = (Json, False)
    return options if method.takes == "numbers" else options | reading_options()


def _laid_open(method: Method) -> dict[str, tuple[Any, Any]]:
    """What else a weighed result may be asked."""
    options = {}
    if "prior" in method.settings:
        options["across"] = maybe(
            str, "Ask again under these scales of the prior, such as 0.1,0.3,1, or under the usual ones."
        )
    if method.name in _DECIDED:
        options["horizon"] = maybe(float, "Decide for so many units: what to choose, and what more data are worth.")
        options["cost"] = maybe(float, "Cost of one more unit of data, in the metric's unit; with --horizon.")
    return options


_DECIDED = ("means", "proportions", "rates", "best_proportion", "best_rate")


def _kind(name: str, hint: Any) -> Any:
    """What the command line reads: a number where one number will do, else text."""
    options = set(get_args(hint)) - {type(None)} or {hint}
    if name == "null" or options == {float}:
        return float
    return int if options == {int} else str


def _given(method: Method, given: Mapping[str, Any]) -> dict[str, Any]:
    """The settings as the function takes them."""
    found = {}
    given = _with_level(method, given)
    for name, item in method.settings.items():
        value = given.get(name)
        if value is None and item.default is item.empty and name not in _FROM_THE_TABLE:
            raise InputError(f"--{name.replace('_', '-')} is needed: it has no usual value.")
        if name in _FROM_THE_TABLE or (value is None and item.default is not None):
            continue
        if (name in method.columns or _is_names(item.annotation)) and value is not None:
            found[name] = _column_names(value) if _is_list(item.annotation) else value
            continue
        words = [w for option in (item.annotation, *get_args(item.annotation)) for w in get_args(option)]
        if isinstance(value, str) and value in words:
            found[name] = value
            continue
        if isinstance(value, str) and not _is_word(item.annotation) and not _is_prior(item.annotation):
            value = _several(f"--{name.replace('_', '-')}", value)
        if isinstance(value, str) and _is_prior(item.annotation):
            from amber_ruler.bayes import prior_of

            value = prior_of(value, _priors(item.annotation))
        elif dataclasses.is_dataclass(item.annotation) and value is not None:
            value = item.annotation(*(value if isinstance(value, tuple) else (value,)))  # type: ignore[operator]
        found[name] = value
    return found


def _with_level(method: Method, given: Mapping[str, Any]) -> Mapping[str, Any]:
    """With alpha from the level of the interval, where that was said instead."""
    level = given.get("level")
    if level is None:
        return given
    if given["alpha"] != method.settings["alpha"].default:
        raise InputError("--level and --alpha say the same thing: give one of them.")
    if not 0 < level < 1:
        raise InputError.rule("--level", level, "between 0 and 1")
    return {**given, "alpha": round(1 - level, 12)}


def _column_names(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in text.split(","))


def _is_list(hint: Any) -> bool:
    return any(get_origin(option) is Sequence for option in get_args(hint))


def _is_names(hint: Any) -> bool:
    return any(get_origin(option) is Sequence and get_args(option) == (str,) for option in get_args(hint))


def _priors(hint: Any) -> tuple[type, ...]:
    """The kinds of priors that a setting takes."""
    options = get_args(hint) or (hint,)
    return tuple(o for o in options if isinstance(o, type) and o.__module__.endswith("bayes.priors"))


def _is_prior(hint: Any) -> bool:
    return bool(_priors(hint))


def _is_word(hint: Any) -> bool:
    """Whether a setting is one word, as against numbers in a text."""
    options = {hint} if get_origin(hint) is Literal else set(get_args(hint)) - {type(None)} or {hint}
    return all(option is str or get_origin(option) is Literal for option in options)


def _several(flag: str, text: str) -> Any:
    """One number, several, or several with labels."""
    if "=" in text:
        return labelled_numbers(flag, text)
    known = numbers(flag, text)
    return known[0] if len(known) == 1 else tuple(known)


def _run(method: Method, call: Any, given: dict[str, Any]) -> None:
    from amber_ruler.results import Family
    from amber_ruler.tables.comparing import together

    settings = _given(method, given)
    if method.takes == "numbers":
        missing = [f"--{name}" for name in method.data if given[name] is None]
        if missing or given["file"] is not None:
            raise InputError(f"This takes {', '.join(f'--{name}' for name in method.data)} and no file.")
        if given.get("labels") is not None:
            settings["labels"] = tuple(part.strip() for part in given["labels"].split(","))
        data = [_several(f"--{name}", given[name]) for name in method.data]
        results: list[Any] = [call(*data, **settings)]
    elif not names_table(given):
        if asked_of_file(given):
            raise InputError(f"{', '.join(asked_of_file(given))} say how a table is read, and none is named.")
        results = [_published(method, call, given, settings)]
    else:
        beside = [f"--{name}" for name in (*method.published, "labels") if given.get(name) is not None]
        if beside:
            raise InputError(f"{' and '.join(beside)} say published numbers: leave them out beside a file.")
        results = list(_from_table(method, call, given, settings))
    if method.takes == "several" and method.room == "measure":
        results = _with_pairs(results, given)
    elif method.takes == "two":
        results = _together(results, given)
    family = method.takes == "two" and isinstance(results[0], Family)  # with each treatment behind it
    each = results[1:] if family else results
    more = [found for one in each for found in _more(one, given)]
    results += more
    if given["figure"] is not None:
        compared = method.takes == "several" and method.room == "measure"
        drawn = results[:1] if family else results
        if method.takes == "one" and len(drawn) > 1:  # groups of one column, on one scale
            drawn = [together({r.label: r for r in drawn}, correct="none", title=drawn[0].metric)]
        save_figure(given["figure"], *(results[-1:] if compared or more else drawn))
    alone = given["as_json"] and family and not more
    status = write_results(results[:1] if alone else results, as_json=given["as_json"])
    if status:
        raise typer.Exit(status)


def _more(result: Any, given: dict[str, Any]) -> list[Any]:
    """The same under other priors, and the decision, if they were asked."""
    found = []
    if given.get("across") is not None:
        usual = given["across"].strip() == "usual"
        found.append(result.across_priors(None if usual else numbers("--across", given["across"])))
    if given.get("cost") is not None and given.get("horizon") is None:
        raise InputError("--cost goes with --horizon, which is not given.")
    if given.get("horizon") is not None:
        from amber_ruler.bayes import decide

        more = {} if given["cost"] is None else {"cost": given["cost"]}
        found.append(decide(result, horizon=given["horizon"], **more))
    return found


def _written(weights: Mapping[str, float]) -> str:
    """A contrast in signs, such as "Amble − 0.5 Brae − 0.5 Cairn"."""
    terms = [
        f"{'−' if weight < 0 else '+'} {'' if abs(weight) == 1 else f'{abs(weight):.6g} '}{label}"
        for label, weight in weights.items()
    ]
    return " ".join(terms).removeprefix("+ ")


def _with_pairs(results: list[Any], given: dict[str, Any]) -> list[Any]:
    """The overall test, then all pairs, each group against the control, or contrasts."""
    more = {} if given["pairs"] is None else {"method": given["pairs"]}
    control, contrasts = given["control"], given["contrast"]
    if contrasts is not None:
        if control is not None:
            raise InputError("Take --control or --contrast, not both.")
        each = [labelled_numbers("--contrast", part) for part in contrasts.split(";")]
        return [*results, results[0].contrasts({_written(weights): weights for weights in each}, **more)]
    return [*results, results[0].pairwise(**more) if control is None else results[0].against(control, **more)]


def _together(results: list[Measurement], given: dict[str, Any]) -> list[Any]:
    """Several treatments as one family, corrected where they were tested; then each by itself."""
    how = given.get("family")
    if len(results) == 1:
        if how not in (None, "none"):
            raise InputError("--correct is for several treatments: this is one comparison.")
        return results
    if any(result.axis is not None for result in results):  # each holds several comparisons of its own
        if how not in (None, "none"):
            raise InputError(f"--correct {how}: each treatment has several comparisons of its own.")
        return list(results)
    from amber_ruler.tables.comparing import together

    first: Any = results[0]
    metrics = tuple(dict.fromkeys(r.metric for r in results))
    treatments = tuple(dict.fromkeys(r.treatment for r in results))  # type: ignore[attr-defined]
    named = {
        r.metric if len(treatments) == 1 else r.treatment if len(metrics) == 1 else f"{r.metric}: {r.treatment}": r  # type: ignore[attr-defined]
        for r in results
    }
    who = treatments[0] if len(treatments) == 1 else f"{len(treatments)} variants"
    family = together(named, correct=how or "holm", title=f"{', '.join(metrics)}: {who} against {first.control}")  # type: ignore[arg-type]
    return [family, *family.results]


def _published(method: Method, call: Any, given: dict[str, Any], settings: dict[str, Any]) -> Any:
    """From numbers, a group each."""
    listed = {name: given[name] for name in method.published if given[name] is not None}
    missing = [f"--{name}" for name in method.published if name not in listed]
    if not method.published or missing:
        flags = ", ".join(f"--{name}" for name in method.published)
        instead = f", or published numbers: {flags}" if method.published else ""
        raise InputError(f"Give a file{instead}. Missing: {', '.join(missing) or 'the file'}.")
    if method.takes == "table":
        return call([numbers("--counts", row) for row in listed["counts"].split(";")], **settings)
    values = {name: numbers(f"--{name}", text) for name, text in listed.items()}
    if method.takes == "kinds":
        counts = values["counts"]
        named = dict(zip(_labels(given["labels"], len(counts)), counts, strict=True)) if given["labels"] else counts
        return call(named, **settings)
    if "counts" in values:
        more = {} if given["labels"] is None else {"labels": _labels(given["labels"], 2)}
        return call(tuple(values["counts"]), **more, **settings)
    groups = _groups(method, given, values)
    return call(groups, **settings) if method.takes == "several" else call(*groups, **settings)


def _groups(method: Method, given: dict[str, Any], values: dict[str, list[float]]) -> list[Any]:
    from amber_ruler.samples import Counts, Events, Summary

    size = {"one": 1, "two": 2}.get(method.takes, len(next(iter(values.values()))))
    for name, each in values.items():
        if len(each) != size:
            raise InputError(f"--{name} takes {size} {'number' if size == 1 else 'numbers'} here, got {len(each)}.")
    usual = {"one": "group", "several": ",".join(str(k + 1) for k in range(size))}.get(
        method.takes, "treatment,control"
    )
    labels = _labels(given["labels"] or usual, size)
    make: Any = {"mean": Summary, "share": Counts, "rate": Events}[method.needs]
    return [make(*row, label) for row, label in zip(zip(*values.values(), strict=True), labels, strict=True)]


def _labels(text: str, size: int) -> tuple[str, ...]:
    labels = tuple(part.strip() for part in text.split(","))
    if len(labels) != size:
        raise InputError(f"--labels takes {size} {'name' if size == 1 else 'names'}, got {len(labels)}.")
    return labels


def _from_table(method: Method, call: Any, given: dict[str, Any], settings: dict[str, Any]) -> Iterator[Any]:
    value = given.get("value")
    source = open_table(given, values=() if value is None else tuple(part.strip() for part in value.split(",")))
    takes = method.takes
    if takes == "pairs":
        yield call(_pairs(source, given), **{k: v for k, v in settings.items() if k != "correlation"})
    elif takes == "table":
        yield call(source.counts(row=given["row"], column=given["column"], count=given["count"]), **settings)
    elif takes == "kinds":
        value = _needed(given, "value")
        yield call(source.sizes(by=value, count=given["count"]), metric=value, **settings)
    elif takes == "columns":
        yield _columns(source, call, given, settings)
    elif takes == "factors":
        columns = [name.strip() for name in _needed(given, "by").split(",")]
        yield call(source.samples(_needed(given, "value"), by=columns), **settings)
    elif takes == "several" and settings.get("covariates") is not None:
        columns = [_needed(given, "value"), *settings["covariates"]]
        yield call(source.moments(columns, by=_needed(given, "by")), **settings)
    elif takes == "several":
        samples = source.samples(_needed(given, "value"), by=_needed(given, "by"), unit=given["unit"])
        if given["unit"] is not None:
            compared = settings.get("compare")
            if compared is None:
                raise InputError("--unit is for the means or ranks of the same units: measure groups compares these.")
            if compared == "ranks":
                raise InputError("--unit compares the same units: take --compare same-units-ranks with it.")
            settings = {**settings, "compare": "same-units" if compared == "means" else compared}
        yield call(samples, **settings)
    elif takes == "one":
        yield from _each(source, method, call, given, settings)
    else:
        yield from _two(source, method, call, given, settings)


def _two(source: Table, method: Method, call: Any, given: dict[str, Any], settings: dict[str, Any]) -> Iterator[Any]:
    """Each treatment against the control, metric by metric."""
    values, by, control = (_needed(given, name) for name in ("value", "by", "control"))
    listed = [values] if method.columns else [part.strip() for part in values.split(",")]
    for value in listed:
        arms: Any
        if method.columns:
            arms = source.records(_columns_of(method, settings), by=by)
        else:
            arms = source.samples(value, by=by) if _by_rows(method) else source.moments([value], by=by)
        found = _findings(source, arms.unassigned, by, given["split"])
        pairs = arms.against(control)
        if given["treatment"] is not None:
            pairs = [(arms[given["treatment"]], arms[control])]
        for arm, base in pairs:
            more = {"others": tuple(a for a in arms.values() if a is not arm and a is not base)}
            result = call(arm, base, **settings, **(more if "others" in method.settings else {}))
            yield dataclasses.replace(result, checks=(*found, *result.checks))


def _columns_of(method: Method, settings: dict[str, Any]) -> list[str]:
    """The columns that its settings name."""
    from amber_ruler.adjust.description import PER

    given = [settings[name] for name in method.columns if settings.get(name) is not None]
    names = [name for one in given for name in ((one,) if isinstance(one, str) else one)]
    return list(dict.fromkeys(part.strip() for name in names for part in name.split(PER, 1)))


def _each(source: Table, method: Method, call: Any, given: dict[str, Any], settings: dict[str, Any]) -> Iterator[Any]:
    """One group over all rows, or one for each variant."""
    value = _needed(given, "value")
    if given["by"] is None:
        yield call(source.overall(value).relabel("all rows"), metric=value, **settings)
        return
    arms: Any = source.samples(value, by=given["by"]) if _by_rows(method) else source.moments(value, by=given["by"])
    for arm in arms.values():
        yield call(arm, **settings)


def _by_rows(method: Method) -> bool:
    return method.rows or method.needs == "values"


def _columns(source: Table, call: Any, given: dict[str, Any], settings: dict[str, Any]) -> Any:
    columns = (_needed(given, "value"), _needed(given, "second"))
    if settings.get("coefficient") == "spearman":
        return call(source.wide_pairs(*columns), labels=columns, **settings)
    return call(source.overall(columns), **settings)


def _pairs(source: Table, given: dict[str, Any]) -> Pairs:
    """Long pairs when a unit is named, wide ones when two columns are."""
    if given["treatment"] is not None:
        return source.wide_pairs(given["treatment"], _needed(given, "control"))
    value, by, unit, control = (_needed(given, name) for name in ("value", "by", "unit", "control"))
    return source.pairs(value, by=by, unit=unit, control=control)


def _needed(given: dict[str, Any], name: str) -> str:
    if given[name] is None:
        pairs = "unit" in given and "treatment" in given
        wide = ", or --treatment and --control with the columns of a wide table" if pairs else ""
        raise InputError(f"--{name} is needed with a file{wide}.")
    return str(given[name])


def _findings(source: Table, unassigned: int, by: str, split: str | None) -> tuple[Check, ...]:
    from amber_ruler.results import Check

    found: list[Check] = []
    if split is not None:
        found.append(source.check_split(by=by, planned=planned_shares(split, source, by)).as_check)
    if unassigned:
        rows = f"{unassigned:,} rows have no label in {by!r}"
        found.append(Check("variant labels", rows, "They belong to no variant and are left out.", "note"))
    return tuple(found)
