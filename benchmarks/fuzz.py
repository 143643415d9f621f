"""Every registered method asked with ordinary, rare, extreme and hostile input: an answer that holds, or our error.

A method is fuzzed by being registered; the other doors are in `fuzz_doors.py`. `python benchmarks/fuzz.py --runs 10000`
tries so many inputs of each room and door and writes the table of docs/reliability.md; what does not hold is printed
below it with the call that shows it. Every twentieth answer is drawn.
"""

from __future__ import annotations

import argparse
import inspect
import math
import time
import warnings
from collections import Counter
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any, Literal, get_args, get_origin

import numpy as np
from fuzz_doors import DOORS, shown

import amber_ruler as ar
from amber_ruler.register import METHODS, ROOMS, Method

for room in ROOMS:
    getattr(ar, room)

SECONDS = 1.0  # no call may take longer
LABELS = ("short", "current", "a\x1b[31mb", "\u202eevil", "<b>", "", "1", " · ")
# Effects whose limits need not lie on either side of them: noncentral limits of what can't be below 0,
NOT_BETWEEN = {"eta_squared", "epsilon_squared", "omega_squared", "cohen_f", "cramers_v", "cramers_v_corrected", "w"}
# and estimates that are biased or shrunken, which shows where alpha is large.
BIASED = {"cohen_d", "d_av", "hedges_g", "glass_delta", "d_z", "r", "superiority", "overlap", "lift_delta"}
LARGE = 0.2
PRIORS = (
    ar.bayes.Uniform(0, 9), ar.bayes.Normal(0, 2), ar.bayes.HalfNormal(1), ar.bayes.Cauchy(0.7), ar.bayes.Flat(),
    ar.bayes.StudentT(3, 2, 1), ar.bayes.Truncated(ar.bayes.Normal(0, 1), 0), ar.bayes.Beta(), ar.bayes.Beta(0.01, 3),
    ar.bayes.Gamma(2, 1), ar.bayes.Gamma(0.01, 100), ar.bayes.Reference(), ar.bayes.NormalInverseGamma(0, 1, 2, 3),
    None,
)  # fmt: skip
ABOUT = """Made by `python benchmarks/fuzz.py`. Each input is drawn: ordinary values, rare events, ties, constants,
counts up to 1e15, spreads from 1e-150 to 1e145, labels that would do something, settings at their ends or of another
kind, and what is no data at all; designs with modifiers and every question; tables of odd columns through pandas,
Polars, PyArrow, DuckDB, CSV and JSON Lines; saved files with something else in them under a checksum that fits; the
examples of every command with words put in, changed and left out. An input is *refused* with an error that says what
to change, or *answered*. A *fault* is any other error, a p or a power outside 0 to 1, limits in the wrong order or on
one side of the estimate, a p below alpha whose interval holds the tested value, a plan that misses its power, a label
that is not inert, JSON that does not come back, an exit status other than 0, 2 and 3, or a call of over a second (a
plan 5, a table 3, a command 4).

| method or door | inputs | answered | refused | faults |
| --- | --- | --- | --- | --- |"""


def numbers(rng: np.random.Generator, needs: str, n: int) -> Any:
    """One group's values: what the method takes, or the same at the edges of what floats hold."""
    kind = rng.integers(8)
    if needs == "share":
        return (rng.random(n) < rng.choice([0.0, 0.01, 0.3, 0.5, 1.0])).astype(float)
    if needs == "rate":
        return rng.poisson(rng.choice([0.0, 0.1, 3.0, 1e6]), n).astype(float)
    drawn = rng.lognormal(0, 1, n) if kind < 3 else rng.normal(0, 1, n)
    scale, shift = 10.0 ** rng.choice([0, 0, 0, -150, -9, 9, 145]), rng.choice([0.0, 0.0, 0.0, 1e9, -1e6])
    if kind == 6:
        drawn = np.round(drawn)  # ties
    if kind == 7:
        drawn = np.full(n, drawn[0] if n else 0.0)
    return drawn * scale + shift * (scale == 1)


def published(rng: np.random.Generator, needs: str) -> Any:
    """One group's numbers as they are published, from two units to 1e15."""
    n = int(rng.choice([1, 2, 3, 10, 400, 10**6, 10**12, 10**15]))
    if needs == "mean":
        sd = float(rng.choice([0.0, 1e-12, 1.0, 20.0, 1e12]))
        return ar.Summary(n, float(rng.normal(0, 3) * rng.choice([1, 1e9])), sd)
    x = min(n, int(rng.choice([0, 1, 3, 40, n // 2, max(n - 2, 0), n])))
    return ar.Counts(x, n) if needs == "share" else ar.Events(x, float(n) * float(rng.choice([1e-9, 1, 1e9])))


def hostile(rng: np.random.Generator) -> Any:
    """What is no data."""
    found = [
        None, "x", b"1", 3, [], {}, (), object(), [np.nan, 1.0], [np.inf, 1.0], ["1", "2"], [1j, 2], [[1.0, 2.0]],
        np.ma.array([1.0, 2.0], mask=[0, 1]), np.array(["2026-03-01"], "M8[D]"), [10**400], np.zeros((2, 0)), [True],
        ar.Summary(3, 1.0, 1.0), ar.Counts([1, 2], [5, 6]), ar.Pairs([1.0, 2.0], [0.0, 1.0]), [1e308, -1e308, 1e308],
    ]  # fmt: skip
    return found[rng.integers(len(found))]


def group(rng: np.random.Generator, method: Method) -> Any:
    """One group as any door brings it."""
    if method.published and rng.random() < 0.4:
        return published(rng, method.needs)
    values = numbers(rng, method.needs, int(rng.choice([2, 3, 5, 30, 200])))
    return ar.Sample(values, str(rng.choice(LABELS))) if rng.random() < 0.5 else values


ROLES = {
    "value": "v", "covariate": "c", "before": "c", "per": "d", "weight": "d", "taken": "x", "exposed": "x",
    "strata": "p", "segment": "p", "cluster": "u", "unit": "u", "age": "t",
    "event": "x", "other": "c",
}  # fmt: skip


def rows(rng: np.random.Generator, n: int, arm: int) -> dict[str, Any]:
    """Columns for every role, some with gaps, denominators of 0, single strata and clusters that span variants."""
    known = numbers(rng, "mean", n)
    scale = float(np.ptp(known)) or 1.0
    gaps = np.where(rng.random(n) < rng.choice([0.0, 0.2, 1.0], p=[0.75, 0.24, 0.01]), np.nan, known)
    below = rng.poisson(2, n) + float(rng.choice([0, 1, 1]))
    unit = rng.integers(0, int(rng.choice([1, 2, n, n, n])), n) + arm * int(rng.choice([0, 1000, 1000, 1000, 1000]))
    return {
        "v": known + scale * rng.normal(size=n), "c": gaps, "d": below, "x": (rng.random(n) < 0.7 - 0.4 * arm) * 1.0,
        "p": np.array(["a", "b"])[rng.integers(0, int(rng.choice([1, 2])), n)], "u": unit, "t": rng.integers(0, 2, n),
    }  # fmt: skip


def data(rng: np.random.Generator, method: Method) -> tuple[list[Any], dict[str, Any]]:
    """What to call a method with, and settings that it can't do without."""
    n = int(rng.choice([2, 4, 12, 60]))
    if method.columns:
        n = int(rng.choice([4, 12, 60, 60, 200]))
        arms = [ar.Records(rows(rng, n, k), label) for k, label in enumerate(("short", "current"))]
        needed = [name for name in method.columns if method.settings[name].default is inspect.Parameter.empty]
        more = [name for name in method.columns if name in ROLES and name not in needed and rng.random() < 0.3]
        # A time is not below 0, and a share is of 0 and 1.
        own = {"value": "d"} if "event" in method.columns else {"value": "x"} if method.needs == "share" else {}
        roles = ROLES | own
        return arms[: 1 + (method.takes == "two")], {name: roles[name] for name in ("value", *needed, *more)}
    if method.takes in ("one", "two"):
        return [group(rng, method) for _ in range(1 + (method.takes == "two"))], {}
    if method.takes in ("pairs", "columns"):
        return [ar.Pairs(numbers(rng, method.needs, n), numbers(rng, method.needs, n), ("after", "before"))], {}
    if method.takes == "several":
        return [{str(k): numbers(rng, method.needs, n + k) for k in range(int(rng.integers(1, 5)))}], {}
    if method.takes == "factors":
        return [{(a, b): numbers(rng, method.needs, n) for a in "xy" for b in "uv"}], {}
    if method.takes == "numbers":
        size = 10.0 ** rng.choice([0, 0, 0, -60, 60, 3])
        k = () if method.name == "evidence" and rng.random() < 0.8 else (int(rng.integers(1, 6)),)
        return [rng.normal(0, 5, k) * size, rng.lognormal(size=k) * rng.choice([1, 1, size])], {}
    counts = rng.integers(0, rng.choice([3, 40, 10**6, 10**9]), (2, int(rng.integers(1, 4))))
    return [counts.tolist() if method.takes == "table" else dict(zip("abc", counts[0].tolist(), strict=False))], {}


def prior_for(rng: np.random.Generator, method: Method) -> Any:
    """A prior of a kind that the method takes, mostly."""
    kinds = get_args(method.settings["prior"].annotation) or (method.settings["prior"].annotation,)
    known = [p for p in PRIORS if isinstance(p, kinds)] if rng.random() < 0.9 else PRIORS
    return known[int(rng.integers(len(known)))]


def settings(rng: np.random.Generator, method: Method) -> dict[str, Any]:
    """Some settings: of the kind that they are, at their ends, or of another kind."""
    found: dict[str, Any] = {}
    for name, item in method.settings.items():
        if rng.random() > 0.25 or name in method.columns:
            continue
        kind = item.annotation
        words = [w for k in (kind, *get_args(kind)) if get_origin(k) is Literal for w in get_args(k)]
        usual = {
            "alpha": [0.05, 0.2, 1e-6, 0.4999],
            "null": [0.0, 0.1, -0.5, 1.0],
            "margin": [0.0, 0.01, 0.5, 3.0],
            "seed": [1, 0],
            "metric": ["fare", "<script>"],
        }.get(name, words or [None])
        wrong = [None, "?", -1, math.nan, [0.1, 0.2], 10**400, object(), math.inf]
        if not usual:
            found[name] = None
            continue
        some = usual if rng.random() < 0.9 else wrong
        found[name] = some[int(rng.integers(len(usual))) % len(some)]
    return found


def faults(result: Any, seconds: float, *, drawn: bool) -> Iterator[str]:
    """What doesn't hold together in an answer."""
    if seconds > SECONDS:
        yield f"took {seconds:.1f} s"
    yield from shown(result, drawn=drawn)
    test = getattr(result, "test", None)
    if test is not None:
        p = np.asarray(test.p_value, dtype=float)
        if not np.all((p >= 0) & (p <= 1)):
            yield f"p is {p}"
    if not isinstance(result, (ar.results.Comparison, ar.results.Estimate)):
        return
    named = {"": (result.estimate, result.interval)} | {k: (e.value, e.interval) for k, e in result.effects.items()}
    for name, (at, interval) in named.items():
        value, low, high = (np.asarray(v, dtype=float) for v in (at, interval.low, interval.high))
        if value.ndim:  # of several comparisons some may have no such effect
            known = ~(np.isnan(value) & np.isnan(low) & np.isnan(high))
            value, low, high = value[known], low[known], high[known]
        if np.any(np.isnan(low) | np.isnan(high) | np.isnan(value)) or np.any(low > high):
            yield f"{name or 'the interval'}: {value} in {low} to {high}"
        shrunken = result.quantity == "spread" or result.asked.settings.get("interval") == "agresti-caffo"
        biased = result.alpha >= LARGE and (name in BIASED if name else shrunken)
        if name not in NOT_BETWEEN and not biased and not np.all(inside(value, low, high)):
            yield f"{name or 'the estimate'} {value} outside {low} to {high}"
    apart = any("disagree" in note or "apart" in note for note in result.notes)
    if test is not None and not apart:
        corrected = getattr(result, "correction", None)
        p, outside = (
            np.asarray(corrected.adjusted if corrected else test.p_value),
            ~np.asarray(result.interval.contains(test.null)),
        )
        if np.any((p < test.alpha) != outside):
            yield f"p {p} against {result.interval}"


def inside(value: Any, low: Any, high: Any) -> Any:
    """Between the limits, but for rounding."""
    room = 1e-9 * (1 + np.abs(value))
    return (low - room <= value) & (value <= high + room)


def one(rng: np.random.Generator, method: Method) -> tuple[str, list[str]]:
    """One call: how it ended, and what doesn't hold."""
    try:
        given, needed = data(rng, method)
        if "prior" in method.settings and (
            method.settings["prior"].default is inspect.Parameter.empty or rng.random() < 0.7
        ):
            needed |= {"prior": prior_for(rng, method)}
    except ar.AmberRulerError:
        return "refused", []
    if rng.random() < 0.15:
        given[int(rng.integers(len(given)))] = hostile(rng)
    asked = needed | settings(rng, method)
    call: Callable[..., Any] = getattr(getattr(ar, method.room), method.name)
    started = time.perf_counter()
    try:
        result = call(*given, **asked)
        found = list(faults(result, time.perf_counter() - started, drawn=rng.random() < 0.05))
    except ar.AmberRulerError as error:
        return "refused", [] if len(str(error)) > 12 else [f"an error that says nothing: {error}"]
    except Exception as error:  # noqa: BLE001 - any other is what is looked for
        found = [f"{type(error).__name__}: {error}"]
    shown = f"{method.room}.{method.name}(*{given!r}, **{asked!r})"
    return "answered", [f"{fault}\n    {shown[:600]}" for fault in found]


def through(
    door: Callable[[np.random.Generator], tuple[str, list[str]]], runs: int, seed: int
) -> tuple[Counter[str], list[str]]:
    """So many calls through one door."""
    ends: Counter[str] = Counter()
    found: list[str] = []
    for run in range(runs):
        end, faults_found = door(np.random.default_rng([seed, run]))
        ends[end] += 1
        found += faults_found
    return ends, found


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=10_000, help="Inputs of each room and each other door.")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default="", help="One method or door, such as measure.means or plan.")
    asked = parser.parse_args()
    np.seterr(all="ignore")
    warnings.simplefilter("ignore")
    print(f"# What {asked.runs:,} inputs of each room and door turned up\n\n{ABOUT}")
    told: list[str] = []
    doors: dict[str, tuple[Any, int]] = {}
    for (room_name, name), method in sorted(METHODS.items()):
        each = math.ceil(asked.runs / sum(r == room_name for r, _ in METHODS))
        doors[f"{room_name}.{name}"] = partial(one, method=method), each
    doors |= {name: (door, asked.runs) for name, door in DOORS.items()}
    for name, (door, runs) in doors.items():
        if asked.only in ("", name):
            ends, found = through(door, runs, asked.seed)
            print(f"| {name} | {runs:,} | {ends['answered']:,} | {ends['refused']:,} | {len(found)} |", flush=True)
            told += found
    print("\n".join(["", *told]))
    raise SystemExit(bool(told))


if __name__ == "__main__":
    main()
