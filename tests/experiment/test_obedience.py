"""What an experiment file says is obeyed, refused by name, or said to have no effect: every key, in every question.

A witness of each key is put into drawn experiments, and what each question computes is held against what it computed
without. Echoes of the description are no computed numbers.
"""

import copy
import itertools
import json
import zlib
from functools import cache

import numpy as np
import pandas as pd
import pytest
from pydantic import BaseModel

import amber_ruler as ar
from amber_ruler import AmberRulerError, Experiment
from amber_ruler.experiment import resolve
from amber_ruler.experiment.description import Description
from amber_ruler.experiment.kinds import KINDS

QUESTIONS = ("check", "plan", "analyse", "segments", "monitor", "daily", "decide", "replay")
# What a note calls each question.
CALLED = {"analyse": "analysis", "decide": "analysis", "monitor": "analysis"}
ECHOES = {
    "title", "method", "source", "metric", "label", "labels", "treatment", "control", "alpha", "level", "margin",
    "margin_lift", "good", "prior", "schema", "type", "notes", "name", "axis", "by", "rule", "seed",
    "column", "target_power", "design", "modifier", "days_planned", "note", "planned",
}  # fmt: skip
FACTORS = {
    "kind": tuple(KINDS),
    "role": ("primary", "secondary", "guardrail"),
    "method": ("frequentist", "bayesian", "both"),
    "looks": (False, True),
    "segments": (False, True),
    "strata": (False, True),
    "clusters": (False, True),
    "digest": (False, True),
}
COLUMNS = {"mean": "fare", "share": "booked", "ratio": "fare", "rate": "trips", "quantile": "fare", "two-part": "paid"}


@cache
def rows():
    """Two variants of 150 units; ships are of one variant each."""
    rng, n = np.random.default_rng(7), 150
    late = np.repeat([0, 1], n)
    prior = rng.normal(10, 3, 2 * n)
    fare = np.round(prior + rng.gamma(2, 1.5, 2 * n) + 3 * late, 3)
    return pd.DataFrame(
        {
            "form": np.where(late, "short", "current"),
            "who": np.arange(2 * n),
            "day": np.arange(2 * n) % 4,
            "port": np.array(["Amble", "Brae"])[np.arange(2 * n) // 6 % 2],
            "deck": np.array(["upper", "lower"])[np.arange(2 * n) // 12 % 2],
            "ship": np.arange(2 * n) // 6,
            "prior": prior,
            "fare": fare,
            "booked": (rng.random(2 * n) < 0.4 + 0.15 * late).astype(int),
            "helped": (rng.random(2 * n) < 0.5).astype(int),
            "trips": rng.poisson(2 + 0.7 * late),
            "paid": np.where(rng.random(2 * n) < 0.4 + 0.3 * late, fare, 0.0),
            "searches": rng.integers(1, 6, 2 * n),
        }
    )


@cache
def table():
    return ar.table(rows())


@cache
def digest(strata):
    return table().digest(
        ["fare", "booked", "helped", "trips"], by="form", covariates=["prior", "searches"], day="day", strata=strata
    )


def valid(case):
    """What an experiment file may say together."""
    clustered = case["clusters"] and (
        case["looks"] or case["segments"] or case["method"] != "frequentist" or not KINDS[case["kind"]].clustered
    )
    looked = case["looks"] and (
        case["method"] == "bayesian" or (case["role"] == "primary" and not KINDS[case["kind"]].looks)
    )
    held = case["digest"] and (case["clusters"] or case["segments"] or KINDS[case["kind"]].values)
    weighed = case["method"] != "frequentist" and case["role"] == "primary" and case["kind"] in ("rate", "quantile")
    weighed |= case["method"] != "frequentist" and case["role"] == "primary" and case["kind"] == "two-part"
    return not (clustered or looked or held or weighed or (case["role"] == "guardrail" and case["kind"] == "two-part"))


def pairwise():
    """Cases that hold every pair of levels that may stand together."""
    every = [dict(zip(FACTORS, levels, strict=True)) for levels in itertools.product(*FACTORS.values())]
    every = [case for case in every if valid(case)]
    pairs = [set(itertools.combinations(case.items(), 2)) for case in every]
    open_, chosen = set().union(*pairs), []
    while open_:
        at = max(range(len(every)), key=lambda k: len(pairs[k] & open_))
        chosen.append(every[at])
        open_ -= pairs[at]
    return chosen


CASES = pairwise()


def described(case):
    """The keys of an experiment file."""
    tested = {"kind": case["kind"], "column": COLUMNS[case["kind"]], "role": case["role"]}
    if "effect" in KINDS[case["kind"]].takes:
        tested["effect"] = 0.3
    if case["kind"] == "ratio":
        tested["per"] = "searches"
    if case["role"] == "guardrail":
        tested["margin"], tested["effect"] = 0.3, -0.05
    found = {
        "name": "Forms",
        "unit": "who",
        "assignment": {"column": "form", "control": "current"},
        "days": {"column": "day", "planned": 4},
        "metrics": {"tested": tested, "booked": {"kind": "share", "role": "primary", "effect": 0.1}},
        "method": case["method"],
        "alpha": 0.2,
    }
    if case["looks"]:
        found |= {"looks": {"after": [2, 4]}, "correction": "bonferroni"}
    found |= {"segments": ["port"]} if case["segments"] else {}
    found |= {"strata": "port"} if case["strata"] else {}
    found |= {"clusters": "ship"} if case["clusters"] else {}
    return found


def source_of(case):
    return digest("port" if case["strata"] else None) if case["digest"] else table()


def put(path, value):
    """A witness: the key set to a value; of a metric in the tested one."""

    def changed(keys):
        *above, last = path.split(".")
        found = copy.deepcopy(keys)
        at = found["metrics"]["tested"] if above[:1] == ["metrics"] else found
        for part in above if above[:1] != ["metrics"] else ():
            at = at.setdefault(part, {})
        at[last] = value
        return found

    return changed


def another(path, *values):
    """The first of several values that the key does not have yet."""

    def changed(keys):
        at = keys["metrics"]["tested"] if path.startswith("metrics.") else keys
        value = next(v for v in values if at.get(path.rpartition(".")[2]) != v)
        return put(path, value)(keys)

    return changed


def instead(path, value, of):
    """A witness in the place of another key of the tested metric."""

    def changed(keys):
        found = put(path, value)(keys)
        found["metrics"]["tested"].pop(of, None)
        return found

    return changed


def without(path):
    """The keys without one that a case may have."""
    return lambda keys: {key: value for key, value in keys.items() if key != path}


def wide(keys):
    """A margin that no difference reaches."""
    return put("metrics.margin", {"share": 0.95, "mean": 60.0, "quantile": 60.0}.get(of_tested(keys)["kind"], 20.0))(
        keys
    )


def early(keys):
    return put("looks.spending", "pocock")(keys)


def unplanned(keys):
    found = copy.deepcopy(keys)
    of_tested(found).pop("effect", None)
    return found


def of_tested(keys):
    return keys["metrics"]["tested"]


def uncorrected(keys):
    return {**keys, "correction": "none"}


def weighed(keys):
    return {**keys, "method": "both" if "looks" in keys else "bayesian"}


def by_tests(keys):
    return {**keys, "method": "frequentist"}


WITNESSES = {
    "assignment.split": put("assignment.split", {"current": 3.0, "short": 1.0}),
    "days.column": put("days.column", "port"),
    "days.planned": put("days.planned", 8),
    "looks.after": lambda keys: put("looks.after", [1, 2, 3, 4])(early(keys)),
    "looks.spending": put("looks.spending", "pocock"),
    "looks.parameter": lambda keys: put("looks.parameter", 0.5)(put("looks.spending", "power")(keys)),
    "segments": put("segments", ["deck"]),
    "strata": put("strata", "port"),
    "clusters": put("clusters", "ship"),
    "alpha": put("alpha", 0.05),
    "correction": another("correction", "none", "bonferroni"),
    "method": weighed,
    "prior": lambda keys: {**weighed(keys), "prior": "cauchy 0.1"},
    "plan.power": put("plan.power", 0.95),
    "plan.per_day": put("plan.per_day", 7.0),
    "accepted": lambda keys: put("accepted", [{"check": "sample ratio", "reason": "a ramp"}])(
        put("assignment.split", {"current": 3.0, "short": 1.0})(keys)
    ),
    "metrics.kind": lambda keys: (
        put("metrics.per", "searches")(put("metrics.kind", "ratio")(keys))
        if of_tested(keys)["kind"] in ("mean", "share")
        else put("metrics.kind", "mean")(keys)
    ),
    "metrics.column": lambda keys: put(
        "metrics.column", {"share": "helped", "rate": "searches"}.get(of_tested(keys)["kind"], "prior")
    )(keys),
    "metrics.per": put("metrics.per", "prior"),
    "metrics.at": put("metrics.at", 0.8),
    "metrics.role": another("metrics.role", "primary", "secondary"),
    "metrics.good": put("metrics.good", "lower"),
    "metrics.measured_in": put("metrics.measured_in", "€"),
    "metrics.reference": put("metrics.reference", "https://wiki.example/fares|<b>=1+1"),
    "metrics.margin": wide,
    "metrics.margin_lift": instead("metrics.margin_lift", 0.95, "margin"),
    "metrics.covariates": put("metrics.covariates", ["prior"]),
    "metrics.cap": put("metrics.cap", 0.8),
    "metrics.alpha": lambda keys: put("metrics.alpha", 0.03)(uncorrected(keys)),
    "metrics.effect": put("metrics.effect", 0.2),
    "metrics.lift": instead("metrics.lift", 0.07, "effect"),
}
# Where a case may have the key already, or the witness needs another key beside it, what it is held against.
BESIDE = {
    "looks.after": early,
    "metrics.lift": unplanned,
    "looks.parameter": lambda keys: put("looks.parameter", 3.0)(put("looks.spending", "power")(keys)),
    "segments": without("segments"),
    "strata": without("strata"),
    "clusters": without("clusters"),
    "method": by_tests,
    "prior": weighed,
    "accepted": put("assignment.split", {"current": 3.0, "short": 1.0}),
    "metrics.alpha": uncorrected,
}
NAMED = ("metrics.kind", "metrics.column", "metrics.role")  # whose value a refusal names
# Keys that name things, or say where the rows are: tests of the file, the tables and the report hold these.
ELSEWHERE = {
    "name": "a title",
    "hypothesis": "a text that the report prints",
    "unit": "the column is read by the check of the unit of analysis alone",
    "assignment.column": "without it there is nothing to compare",
    "assignment.control": "without it there is nothing to compare",
    **{f"source.{key}": "how the table is read, before anything is asked of it" for key in Description.model_fields[
        "source"].annotation.model_fields},
}  # fmt: skip
# Pairs of key and question that by nature have nothing to do with each other.
EXEMPT = {
    ("assignment.split", "daily"): "each variant is described by itself",
    (
        "assignment.split",
        "segments",
    ): "a difference of two means knows no planned split; check holds the counts against it",
    ("days.column", "plan"): "days of a plan come from plan.per_day",
    ("days.column", "segments"): "a segment holds all units, of whatever day",
    ("days.planned", "check"): "the checks look at the rows that there are",
    ("days.planned", "segments"): "a segment holds all units, of whatever day",
    ("days.planned", "daily"): "the series has the days that there are",
    ("days.planned", "plan"): "days of a plan come from plan.per_day; with looks the key moves them",
    ("looks.after", "check"): "the checks look at all rows, once",
    ("looks.after", "segments"): "a segment holds all units so far; looks are at the whole test",
    ("looks.after", "daily"): "each day is described by itself",
    ("looks.spending", "check"): "the checks look at all rows, once",
    ("looks.spending", "segments"): "a segment holds all units so far; looks are at the whole test",
    ("looks.spending", "daily"): "each day is described by itself",
    ("looks.parameter", "check"): "the checks look at all rows, once",
    ("looks.parameter", "segments"): "a segment holds all units so far; looks are at the whole test",
    ("looks.parameter", "daily"): "each day is described by itself",
    ("segments", "analyse"): "the analysis is of all units together",
    ("segments", "daily"): "the series is of all units together",
    ("segments", "check"): "the checks are of all units together",
    ("segments", "replay"): "what is replayed is the analysis of all units",
    ("segments", "decide"): "the rules decide by the whole test: no segment decides",
    ("segments", "plan"): "the size is that of the whole test",
    ("segments", "monitor"): "looks are at the whole test",
    ("strata", "daily"): "the series shows each variant's mean as it is; strata adjust differences",
    ("alpha", "check"): "the checks have error rates of their own",
    ("alpha", "daily"): "the series shows 95 % intervals, and says so",
    ("metrics.alpha", "check"): "the checks have error rates of their own",
    ("metrics.alpha", "daily"): "the series shows 95 % intervals, and says so",
    ("correction", "check"): "the checks are corrected by their own number",
    ("correction", "daily"): "the series shows single intervals, and says so",
    ("method", "check"): "the checks are of the data",
    ("method", "daily"): "the series describes the data",
    ("method", "monitor"): "looks spend the alpha of tests; the description refuses them with 'bayesian'",
    ("prior", "check"): "the checks are of the data",
    ("prior", "daily"): "the series describes the data",
    ("prior", "monitor"): "looks spend the alpha of tests; the description refuses them with 'bayesian'",
    ("prior", "segments"): "segments are compared by tests, as a note of method says",
    ("plan.power", "analyse"): "what was planned for changes no number of the data",
    ("plan.power", "check"): "the checks are of the data",
    ("plan.power", "decide"): "what was planned for decides nothing",
    ("plan.power", "daily"): "the series describes the data",
    ("plan.power", "replay"): "a replay plants only the lift that it is given",
    ("plan.power", "segments"): "what was planned for changes no number of the data",
    ("plan.power", "monitor"): "boundaries are by alpha and fractions of the days",
    ("plan.per_day", "analyse"): "what was planned for changes no number of the data",
    ("plan.per_day", "check"): "the checks are of the data",
    ("plan.per_day", "decide"): "what was planned for decides nothing",
    ("plan.per_day", "daily"): "the series describes the data",
    ("plan.per_day", "replay"): "a replay plants only the lift that it is given",
    ("plan.per_day", "segments"): "what was planned for changes no number of the data",
    ("plan.per_day", "monitor"): "boundaries are by alpha and fractions of the days",
    ("metrics.effect", "analyse"): "what was planned for changes no number of the data",
    ("metrics.effect", "check"): "the checks are of the data",
    ("metrics.effect", "decide"): "what was planned for decides nothing",
    ("metrics.effect", "daily"): "the series describes the data",
    ("metrics.effect", "replay"): "a replay plants only the lift that it is given",
    ("metrics.effect", "segments"): "what was planned for changes no number of the data",
    ("metrics.effect", "monitor"): "boundaries are by alpha and fractions of the days",
    ("metrics.lift", "analyse"): "what was planned for changes no number of the data",
    ("metrics.lift", "check"): "the checks are of the data",
    ("metrics.lift", "decide"): "what was planned for decides nothing",
    ("metrics.lift", "daily"): "the series describes the data",
    ("metrics.lift", "replay"): "a replay plants only the lift that it is given",
    ("metrics.lift", "segments"): "what was planned for changes no number of the data",
    ("metrics.lift", "monitor"): "boundaries are by alpha and fractions of the days",
    ("accepted", "daily"): "accepting a check changes what stops the analysis, no number",
    ("accepted", "check"): "the check is still shown as failed",
    ("accepted", "replay"): "accepting a check changes what stops the analysis, no number",
    ("accepted", "segments"): "accepting a check changes what stops the analysis, no number",
    ("accepted", "plan"): "the plan does not ask whether the data can be believed",
    ("metrics.kind", "check"): "the checks look at a column, whatever it is taken for",
    ("metrics.at", "check"): "the checks look at the whole column",
    ("metrics.role", "check"): "the checks look at every metric's column alike",
    ("metrics.good", "check"): "the checks know no good direction",
    ("metrics.good", "daily"): "the series shows means, without a verdict",
    ("metrics.good", "replay"): "replays count two-sided claims",
    ("metrics.measured_in", "check"): "the checks look at the values, in whatever unit",
    ("metrics.measured_in", "plan"): "a size has no unit of measurement",
    ("metrics.measured_in", "daily"): "the series is of the column, in whatever unit",
    ("metrics.measured_in", "replay"): "shares of runs have no unit of measurement",
    ("metrics.reference", "check"): "a text for readers of the analysis",
    ("metrics.reference", "plan"): "a text for readers of the analysis",
    ("metrics.reference", "segments"): "it stands once, with the analysis",
    ("metrics.reference", "monitor"): "it stands once, with the analysis",
    ("metrics.reference", "daily"): "it stands once, with the analysis",
    ("metrics.reference", "decide"): "a text decides nothing",
    ("metrics.reference", "replay"): "a text for readers of the analysis",
    ("metrics.margin", "check"): "the checks are of the data, not of a difference",
    ("metrics.margin", "daily"): "the series shows means, without a verdict",
    ("metrics.margin", "replay"): "replays count claims of a difference by p, which no margin changes",
    ("metrics.margin_lift", "check"): "the checks are of the data, not of a difference",
    ("metrics.margin_lift", "daily"): "the series shows means, without a verdict",
    ("metrics.margin_lift", "replay"): "replays count claims of a difference by p, which no margin changes",
    ("metrics.covariates", "daily"): "the series shows each variant's mean as it is; covariates adjust differences",
    ("metrics.cap", "check"): "the checks look at the values as the table has them",
}


def leaves(model, above=""):
    """Every key of the description, those of a metric under `metrics`."""
    for name, item in model.model_fields.items():
        kinds = [k for k in (item.annotation, *getattr(item.annotation, "__args__", ())) if isinstance(k, type)]
        kinds += [k for arg in getattr(item.annotation, "__args__", ()) for k in getattr(arg, "__args__", ())]
        inner = next((k for k in kinds if isinstance(k, type) and issubclass(k, BaseModel)), None)
        if inner is None or name == "accepted":
            yield above + name
        else:
            yield from leaves(inner, f"{above}{name}.")


def test_every_key_has_a_witness_and_every_row_of_the_resolver_is_a_key():
    """A new key without a witness fails; so does one that is listed and gone."""
    keys = set(leaves(Description))
    assert keys == set(WITNESSES) | set(ELSEWHERE)
    assert not set(WITNESSES) & set(ELSEWHERE)
    rows_ = {key.partition(".")[0] if key in ("days", "looks") else key for key in resolve.KEYS}
    assert rows_ <= keys | {"days", "looks"}


WORDS = ("verdict", "words", "finding", "decision", "kind", "alternative", "severity", "measured_in")


def numbers(value, key="", path=()):
    """What was computed, and where: numbers, verdicts and findings, without echoes of the description."""
    if key in ECHOES:
        return
    if isinstance(value, dict):
        for name, inner in value.items():
            yield from numbers(inner, name, (*path, name))
    elif isinstance(value, list):
        for at, inner in enumerate(value):
            yield from numbers(inner, key, (*path, at))
    elif isinstance(value, (int, float)) or value is None or key in WORDS or {"shown", "words"} & set(path):
        yield path, value if not isinstance(value, float) else float(f"{value:.9g}")


def notes(value):
    """Every note in a result, whole."""
    if isinstance(value, dict):
        yield from value.get("notes", ())
        for inner in value.values():
            yield from notes(inner)
    elif isinstance(value, list):
        for inner in value:
            yield from notes(inner)


class Answers(dict):
    """Each question's answer as plain values, or its refusal, once it is asked."""

    def __init__(self, experiment):
        self.asked = {
            "check": lambda: experiment.findings,
            "plan": experiment.plan,
            "analyse": experiment.analyse,
            "segments": experiment.segments,
            "monitor": experiment.monitor,
            "daily": experiment.daily,
            "decide": experiment.decide,
            "replay": lambda: experiment.replay(runs=100, seed=3),
        }

    def __missing__(self, question):
        self[question] = answered(self.asked[question])
        return self[question]


def answered(ask):
    try:
        found = ask()
    except AmberRulerError as error:
        return error
    if not isinstance(found, dict):
        return found.to_dict()
    flat = {label: one if isinstance(one, dict) else {"": one} for label, one in found.items()}
    return {label: {name: one.to_dict() for name, one in each.items()} for label, each in flat.items()}


@cache
def unchanged(at, key):
    """A case without the witness."""
    keys = described(CASES[at])
    try:
        return Answers(Experiment(source_of(CASES[at]), **BESIDE.get(key, lambda k: k)(keys)))
    except AmberRulerError:
        return None  # such a case has no room for the key


def concerned(key, question, case, keys):
    """Whether a case asks the question of what the key is about."""
    tested, last = of_tested(keys), key.rpartition(".")[2]
    optional = {"segments": case["segments"], "monitor": case["looks"]}
    if not optional.get(question, True) and key != question:
        return False
    if key in ("days.column", "days.planned") and question == "replay":
        return case["looks"]  # all units are replayed otherwise
    if key in ("prior", "method") and question == "decide":
        return not case["looks"]  # with looks the tests decide
    if key == "correction":
        return case["role"] == "primary"  # of one comparison there is nothing to correct
    if key == "metrics.role":
        return question not in ("segments", "daily", "replay") or KINDS[tested["kind"]].adjusted
    if not key.startswith("metrics."):
        return True
    if question == "plan":
        guards = last not in ("good", "margin", "margin_lift") or case["role"] == "guardrail"
        return guards and KINDS[tested["kind"]].design is not None
    if question == "decide":
        return case["role"] != "secondary"
    if question in ("segments", "daily", "replay") and not KINDS[tested["kind"]].adjusted:
        return False
    return question in ("check", "analyse") or case["role"] == "primary"


def breaches(key, at, base_of=unchanged, questions=QUESTIONS):
    """Questions of a case in which the key is lost, and in which it is not."""
    keys, case = described(CASES[at]), CASES[at]
    base = base_of(at, key if key in BESIDE else None)
    asked = [] if base is None else [q for q in questions if concerned(key, q, case, keys)]
    names = {key.rpartition(".")[2], key.partition(".")[0]} - {"metrics", "column"} | {key}
    names |= {str(of_tested(WITNESSES[key](keys)).get(key.rpartition(".")[2]))} if key in NAMED else set()
    try:
        with_key = Answers(Experiment(source_of(case), **WITNESSES[key](keys)))
    except AmberRulerError as error:
        refused = any(name in str(error) for name in names)
        return (set(), set(asked)) if refused else (set(asked), set())
    lost, obeyed = set(), set()
    for question in asked:
        before, after = base[question], with_key[question]
        if isinstance(after, AmberRulerError):
            if isinstance(before, AmberRulerError):
                continue  # there is no answer either way
            (obeyed if any(name in str(after) for name in names) else lost).add(question)
            continue
        changed = isinstance(before, AmberRulerError) or list(numbers(before)) != list(numbers(after))
        (obeyed if changed or said(key, question, before, after) else lost).add(question)
    return lost, obeyed


def said(key, question, before, after):
    """Whether a note names key, metric and question, and is not there without the key."""
    new = set(notes(after)) - (set() if isinstance(before, AmberRulerError) else set(notes(before)))
    words = (key.rpartition(".")[2], CALLED.get(question, question))
    return any(all(word in note for word in words) and ("tested" in note or "booked" in note) for note in new)


@cache
def cases_of(key, most=2):
    """A few cases that ask every question of what the key is about; drawn for each key, so that all are used."""
    last, keep = key.rpartition(".")[2], []
    own = key.startswith("metrics.") and any(last in kind.takes for kind in KINDS.values())
    fits = [
        at
        for at, case in enumerate(CASES)
        if (not key.startswith("looks.") or case["looks"])
        and (key != "segments" or not (case["digest"] or case["clusters"]))
        and (key != "clusters" or case["clusters"])
        and (not own or last in KINDS[case["kind"]].takes)
    ]
    asked = set()
    for at in np.random.default_rng(zlib.crc32(key.encode())).permutation(fits).tolist():
        new = {q for q in QUESTIONS if concerned(key, q, CASES[at], described(CASES[at]))} - asked
        if new or len(keep) < most:
            keep.append(at)
            asked |= new
    return tuple(keep)


@pytest.mark.parametrize("key", WITNESSES)
def test_a_key_is_obeyed_refused_or_said_to_have_no_effect(key):
    """In every question that its cases ask; and no exemption stands that isn't needed."""
    lost = set()
    for at in cases_of(key):
        gone, _ = breaches(key, at)
        assert not {q for q in gone if (key, q) not in EXEMPT}, (gone, CASES[at])
        lost |= gone
    assert {q for k, q in EXEMPT if k == key} == lost


@pytest.mark.parametrize("row", [row for row in resolve.KEYS if row in WITNESSES or row in ("days", "looks")])
def test_the_law_finds_a_key_that_the_resolver_drops(row, monkeypatch):
    """With its row gone, what the file says of it is lost in a question that no exemption covers."""
    key = {"days": "days.planned", "looks": "looks.after"}.get(row, row)
    for at in cases_of(key):
        whole = unchanged(at, key if key in BESIDE else None)
        assert whole is None or whole["plan"]
    monkeypatch.setattr(resolve, "KEYS", {k: v for k, v in resolve.KEYS.items() if k != row})
    assert any(bites(key, at) for at in cases_of(key))


def bites(key, at):
    """Whether the law finds a question in which the key changes nothing any more, or can't be asked without it."""
    try:
        free = [question for question in QUESTIONS if (key, question) not in EXEMPT]
        return any(breaches(key, at, unchanged.__wrapped__, [q])[0] or silenced(key, at, q) for q in free)
    except (IndexError, KeyError):  # no metric is primary any more, or a guardrail has no margin
        return True


def silenced(key, at, question):
    """Whether a question that is answered with the whole resolver is refused without the row."""
    beside = key if key in BESIDE else None
    now, whole = unchanged.__wrapped__(at, beside), unchanged(at, beside)
    if whole is None or isinstance(whole[question], AmberRulerError):
        return False
    return now is None or isinstance(now[question], AmberRulerError)


def asked(metric, **more):
    """An experiment with one metric, called fare."""
    keys = {
        "name": "Forms", "unit": "who", "assignment": {"column": "form", "control": "current"}, "correction": "none",
        "metrics": {"fare": {"role": "primary", **metric}}, **more,
    }  # fmt: skip
    return Experiment(table(), **keys)


def arms(*columns):
    both = table().records(columns, by="form")
    return both["short"], both["current"]


def same(one, other):
    """Estimate, interval, p, verdict and margin tests of two comparisons."""
    for name in ("estimate", "se", "p_value"):
        mine, theirs = getattr(one, name), getattr(other, name)
        assert (mine is None) == (theirs is None)
        assert mine is None or mine == pytest.approx(theirs, rel=1e-9)
    assert one.interval.low == pytest.approx(other.interval.low, rel=1e-9)
    assert one.interval.high == pytest.approx(other.interval.high, rel=1e-9)
    assert np.array_equal(one.verdict, other.verdict)
    assert set(one.margin_tests) == set(other.margin_tests)


LIFTED = {"margin_lift": 0.4, "alpha": 0.1, "good": "lower"}
BY_HAND = {
    "means": ({}, lambda **s: ar.measure.means(*table_moments("fare"), **s)),
    "proportions": (
        {"kind": "share", "column": "booked"},
        lambda **s: ar.measure.proportions(*table_moments("booked"), **s),
    ),
    "rates": ({"kind": "rate", "column": "trips"}, lambda **s: ar.measure.rates(*table_moments("trips"), **s)),
    "covariates": (
        {"covariates": ["prior"]},
        lambda **s: ar.adjust.sharpen(*arms("fare", "prior"), value="fare", covariate=["prior"], **s),
    ),
    "cap": ({"cap": 0.9}, lambda **s: ar.adjust.sharpen(*arms("fare"), value="fare", cap=0.9, **s)),
    "ratio": (
        {"kind": "ratio", "per": "searches"},
        lambda **s: ar.adjust.sharpen(*arms("fare", "searches"), value="fare", per="searches", **s),
    ),
    "strata": (
        {"covariates": ["prior"]},
        lambda **s: ar.adjust.sharpen(
            *arms("fare", "prior", "port"), value="fare", covariate=["prior"], strata="port", **s
        ),
    ),
}


def table_moments(column):
    both = table().moments(column, by="form")
    return both["short"], both["current"]


@pytest.mark.parametrize("what", BY_HAND)
def test_a_comparison_its_posterior_and_its_looks_are_the_methods_called_by_hand(what):
    """With the settings of the file, margin_lift among them; at a look of the units that had come by then."""
    metric, by_hand = BY_HAND[what]
    more = {"strata": "port"} if what == "strata" else {}
    one = asked(metric | LIFTED, **more).analyse().primary.results[0]
    tested = by_hand(metric="fare", **LIFTED)
    same(one, tested)
    if what == "rates":
        return
    weighed_one = asked(metric | LIFTED, method="bayesian", **more).analyse().primary.results[0]
    settings = {"alpha": 0.1, "good": "lower", "margin": 0.4 * tested.groups[1].mean}
    if what in ("means", "proportions"):
        expected = getattr(ar.bayes, what)(*table_moments("booked" if what == "proportions" else "fare"), **settings)
    else:
        both = [ar.Summary(g.n, g.mean, g.se * np.sqrt(g.n), g.label) for g in tested.groups[:2]]
        expected = ar.bayes.means(*both, **settings)
    same(weighed_one, expected)
    assert weighed_one.evidence.chance_within == pytest.approx(expected.evidence.chance_within, rel=1e-9)
    assert any("margin_lift of fare" in note for note in weighed_one.notes)
    if what == "cap":
        return
    looks = {"days": {"column": "day", "planned": 4}, "looks": {"after": [2, 4]}}
    seen = asked(metric | LIFTED, **looks, **more).monitor()["fare"]
    early_rows = Experiment(
        ar.table(rows()[rows().day < 2]), name="Forms", unit="who", correction="none",
        assignment={"column": "form", "control": "current"}, metrics={"fare": {"role": "primary", **metric}}, **more,
    )  # fmt: skip
    first = early_rows.analyse().primary.results[0]
    signed = np.sign(np.array([first.estimate, tested.estimate]))
    assert seen.z == pytest.approx(signed * -ar_z(np.array([first.p_value, tested.p_value]) / 2), rel=1e-7)
    assert seen.latest.margin_lift == 0.4


def ar_z(p):
    from scipy.special import ndtri

    return ndtri(p)


def test_segments_are_compared_with_covariates_cap_denominator_and_margin():
    """As `adjust.segments` has them; each segment as `sharpen` has its rows, with the cap of all rows."""
    metric = {"kind": "ratio", "per": "searches", "covariates": ["prior"], "cap": 0.9, **LIFTED}
    found = asked(metric, segments=["port"], strata="deck").segments()["port"]["fare, short"]
    both = arms("fare", "searches", "prior", "port")
    settings = {"per": "searches", "covariate": ["prior"], **LIFTED}
    same(found, ar.adjust.segments(*both, value="fare", segment="port", cap=0.9, correction="none", **settings))
    top = float(np.quantile(rows().fare, 0.9))
    for k, port in enumerate(("Amble", "Brae")):
        part = rows()[rows().port == port]
        part = ar.table(part.assign(fare=part.fare.clip(upper=top))).records(["fare", "searches", "prior"], by="form")
        one = ar.adjust.sharpen(part["short"], part["current"], value="fare", **settings)
        assert found.estimate[k] == pytest.approx(one.estimate, rel=1e-9)
        assert [found.interval.low[k], found.interval.high[k]] == pytest.approx([one.interval.low, one.interval.high])
        assert found.verdict[k] == one.verdict
    assert any("strata has no effect on segments of fare" in note for note in found.notes)


def test_a_plan_is_of_the_split_the_looks_and_all_covariates():
    """Each comparison's own ratio; boundaries at the fractions of the days; a multiple correlation."""
    split = {"assignment": {"column": "form", "control": "current", "split": {"current": 3.0, "short": 1.0}}}
    metric = {"covariates": ["prior", "searches"], "effect": 0.5}
    looks = {"days": {"column": "day", "planned": 4}, "looks": {"after": [2, 4], "spending": "pocock"}}
    base = rows()[rows().form == "current"]
    for more, change, fare in (
        (looks, lambda d: d.with_looks([0.5, 1.0], spending="pocock"), base.fare),
        ({}, lambda d: d, base.fare.clip(upper=np.quantile(rows().fare, 0.9))),
    ):
        found = asked(metric if more else metric | {"cap": 0.9}, **split, **more).plan().answers["fare"]
        correlation = multiple_correlation(base, fare)
        by_hand = ar.plan.TwoMeans(sd=fare.std(), baseline=fare.mean(), ratio=1 / 3).with_covariate(correlation, 2)
        assert found.n_total == change(by_hand).sample_size(effect=0.5).n_total
        assert found.n_treatment == pytest.approx(found.n_control / 3, abs=1)


def multiple_correlation(base, fare):
    design = np.column_stack([np.ones(len(base)), base.prior, base.searches])
    left = fare - design @ np.linalg.lstsq(design, fare, rcond=None)[0]
    return np.sqrt(1 - left.var() / fare.var())


def test_of_treatments_of_unequal_size_the_smallest_sets_the_size():
    """50 : 30 : 20 takes what its smallest comparison takes, at alpha over two comparisons."""
    thrice = pd.concat([rows(), rows()[rows().form == "short"].assign(form="guided", who=lambda t: t.who + 1000)])
    keys = {
        "name": "Forms", "unit": "who", "metrics": {"fare": {"role": "primary", "effect": 0.5}},
        "assignment": {"column": "form", "control": "current", "split": {"current": 5.0, "guided": 3.0, "short": 2.0}},
    }  # fmt: skip
    found = Experiment(thrice, **keys).plan().answers["fare"]
    control = rows()[rows().form == "current"].fare
    design = ar.plan.TwoMeans(sd=control.std(), baseline=control.mean(), ratio=0.4).with_variants(2, "bonferroni")
    one = design.sample_size(effect=0.5)
    assert found.units == {"current": one.n, "guided": -(-one.n * 3 // 5), "short": -(-one.n * 2 // 5)}
    assert found.n_total == sum(found.units.values())


def test_a_reference_is_printed_and_does_nothing(tmp_path):
    """In the analysis, and in every form of the report: no link, no tag, no formula."""
    text = "=https://wiki.example/fares|<b>fare</b>"
    test = asked({"reference": text})
    assert text in str(test.analyse())
    found = {
        form: test.report(tmp_path / f"r.{form}").read_text(encoding="utf-8") for form in ("html", "md", "json", "csv")
    }
    assert "wiki.example" in found["html"]
    assert "<b>fare" not in found["html"] + found["md"].partition("```toml")[0]
    assert "href" not in found["html"].partition("wiki.example")[0].rpartition("<")[2]
    assert '"reference"' in found["json"]
    assert ",'=https" in found["csv"]


@pytest.mark.parametrize("at", [0, 2, 3])
def test_the_report_holds_every_answer(at, tmp_path):
    """What a question computes is what the report shows: a key that is obeyed there is obeyed here."""
    test = Experiment(source_of(CASES[at]), **described(CASES[at]))
    shown = json.loads(test.report(tmp_path / "report.json").read_text(encoding="utf-8"))["results"]
    given = [test.decide(), test.analyse(), test.check(), test.plan(), *test.daily().values()]
    given += [one for each in test.segments().values() for one in each.values()]
    given += test.monitor().values() if CASES[at]["looks"] else []
    for one in given:
        plain = {key: v for key, v in json.loads(json.dumps(one.to_dict())).items() if key != "schema"}
        assert any(all(found.get(key) == v for key, v in plain.items()) for found in shown), one.title
