"""The doors beside the registered methods: plans, tables, saved files, the command line, each with drawn input."""

from __future__ import annotations

import contextlib
import dataclasses
import io
import json
import math
import shlex
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, Literal, get_args, get_origin, get_type_hints

import duckdb
import numpy as np
import pandas as pd
from matplotlib.figure import Figure

import amber_ruler as ar
from amber_ruler import plan
from amber_ruler.cli import main
from amber_ruler.digest import SCHEMA, Digest, _checksum
from amber_ruler.plan.questions import Design

WRONG: list[Any] = [None, "?", -1, 0, math.nan, math.inf, [0.1, 0.2], 10**400, b"1", {}, 1e-320, True]
SLACK = 1.0  # a busy machine takes so many times as long
ACTING = ("\x1b", "\u202e")  # signs that would do something


def shown(result: Any, *, drawn: bool) -> Iterator[str]:
    """What is wrong with how a result is drawn."""
    said = str(result) + repr(result) + result.sentence() + result._repr_html_()
    if any(sign in said for sign in ACTING):
        yield "a label that is not inert"
    if ar.Result.from_json(result.to_json()) != result:
        yield "JSON doesn't come back"
    result.to_frame()
    if drawn:
        figure = Figure()
        result.plot(figure.subplots())
        figure.canvas.draw()


def pick(rng: np.random.Generator, values: Any) -> Any:
    """One of several."""
    return values[int(rng.integers(len(values)))]


# --- plans

DESIGNS: list[type[Design]] = [
    kind for kind in vars(plan).values() if isinstance(kind, type) and issubclass(kind, Design) and kind is not Design
]
SHARES = {"baseline", "discordant", "explained", "icc", "share", "alpha", "power", "correlation"}
MODIFIERS: dict[str, Callable[[np.random.Generator], tuple[Any, ...]]] = {
    "with_covariate": lambda rng: (number(rng, "correlation"),),
    "with_clusters": lambda rng: (number(rng, "size"), number(rng, "icc")),
    "with_variants": lambda rng: (pick(rng, [1, 2, 5, 0, -1]), pick(rng, ["dunnett", "sidak", "bonferroni", "none"])),
    "with_margin": lambda rng: (number(rng, "margin"), pick(rng, ["non-inferiority", "equivalence"])),
    "with_traffic": lambda rng: (number(rng, "size"), number(rng, "share")),
    "with_attrition": lambda rng: (number(rng, "share"),),
}


def number(rng: np.random.Generator, name: str) -> Any:
    """A number such as the name asks for, now and then at the edges of floats, or none."""
    chance = rng.random()
    if chance < 0.02:
        return pick(rng, WRONG)
    if chance < 0.06:
        return float(rng.choice([-1, 1])) * 10 ** float(rng.uniform(-300, 300))
    if name in SHARES:
        return round(float(rng.random()), 3)
    return round(float(rng.lognormal(0, 1.5)), 3)


def planned(rng: np.random.Generator) -> tuple[str, list[str]]:
    """A design, what changes it, and a question."""
    kind = pick(rng, DESIGNS)
    hints = get_type_hints(kind)
    settings: dict[str, Any] = {}
    for field in dataclasses.fields(kind):
        if not field.init or field.name == "modifiers":
            continue
        words = [
            w
            for k in (hints[field.name], *get_args(hints[field.name]))
            if get_origin(k) is Literal
            for w in get_args(k)
        ]
        required = field.default is dataclasses.MISSING
        if required or rng.random() < (0.7 if field.name in ("baseline", "sd") else 0.25):
            whole = hints[field.name] is int
            settings[field.name] = (
                pick(rng, words) if words else int(rng.integers(1, 9)) if whole else number(rng, field.name)
            )
    way = pick(rng, kind.ways)
    size = number(rng, "effect")
    if isinstance(size, float):
        size *= pick(rng, [1, 0.1, 0.01, -0.1])
    several = {"means": [10.0, 11, 12], "shares": [[0.2, 0.3], [0.3, 0.2]]}
    effect = {way: several.get(way, size)} if rng.random() < 0.95 else {}
    n = pick(rng, [2, 3, 10, 50, 400, 90, 10**4, 10**6, 10**12, (20, 30), pick(rng, [1, 0, 2.5, "9"])])
    power = {} if rng.random() < 0.6 else {"power": pick(rng, [0.9, 0.5, 0.999, 0.05, 1.0, "x"])}
    question, asked = pick(
        rng,
        [
            ("sample_size", effect | power), ("power", effect | {"n": n}), ("detectable_effect", power | {"n": n}),
            ("alpha_for", effect | power | {"n": n}), ("precision", {"n": n} | (effect if rng.random() < 0.5 else {})),
            ("sample_size_for_width", {"half_width": number(rng, "half_width")}),
            ("grid", effect | {"n": [2, 20, 200]}), ("grid", {"alpha": [0.05, 0.01]} | effect),
            ("simulate", effect | {"n": pick(rng, [2, 9, 60, 1]), "runs": pick(rng, [1, 40, 0])}),
        ],
    )  # fmt: skip
    allowed = {f"with_{m.__name__.lower()}" for m in kind.allowed}
    with_ = {name: make(rng) for name, make in MODIFIERS.items() if rng.random() < (0.15 if name in allowed else 0.005)}
    shown_as = f"{kind.__name__}(**{settings!r}) {with_} .{question}(**{asked!r})"

    def ask() -> Iterator[str]:
        design = kind(**settings)
        for name, arguments in with_.items():
            design = getattr(design, name)(*arguments)
        result = getattr(design, question)(**asked)
        yield from sound_plan(design, question, asked, result)
        yield from shown(result, drawn=rng.random() < 0.05)

    return judged(ask, shown_as, seconds=5.0)


def sound_plan(design: Any, question: str, asked: dict[str, Any], result: Any) -> Iterator[str]:
    """What does not go together in an answer."""
    for name in ("effect", "power", "alpha", "half_width", "rate"):
        value = getattr(result, name, None)
        if isinstance(value, float) and not math.isfinite(value):
            yield f"{name} is {value}"
    power = getattr(result, "power", None)
    if isinstance(power, float) and not -1e-12 <= power <= 1 + 1e-12:
        yield f"power is {power}"
    if question == "sample_size":
        effect = {k: v for k, v in asked.items() if k != "power"}
        if design.power(n=result.n, **effect).power < result.target_power - 1e-9:
            yield f"n = {result.n} does not reach the power"
    if (
        question == "detectable_effect"
        and design.power(n=asked["n"], effect=result.effect).power < result.target_power - 1e-6
    ):
        yield f"an effect of {result.effect} is not detectable"


# --- tables


def column(rng: np.random.Generator, n: int) -> Any:
    """Values of a column, of any kind that there may be."""
    kind = int(rng.integers(14))
    base = rng.normal(size=n)
    return [
        base, base.round(1), rng.integers(0, 2, n), rng.integers(0, 2, n).astype(bool), base * 1e150, np.full(n, 3.0),
        rng.choice(["a", "b", "c"], n), rng.choice(["short", "current"], n), rng.choice(["a\x1b[31m", "\u202eb"], n),
        rng.integers(0, n, n), pd.date_range("2026-03-01", periods=n), rng.choice(["01/10/2026", "02/11/2026"], n),
        np.where(base > 0, base, np.nan), rng.choice(["1", "2", "x"], n),
    ][kind]  # fmt: skip


def table_of(rng: np.random.Generator, folder: Path) -> Any:
    """A table through one of the doors."""
    n = int(pick(rng, [1, 2, 5, 40, 300]))
    names = ["form", "fare", "day", "unit", pick(rng, ["v", "*", "^v.*$", "a\x1b[31m", "select", "", "Fare", "x\x1fy"])]
    rows = pd.DataFrame({name: column(rng, n) for name in names})
    if rng.random() < 0.7:
        rows["form"] = rng.choice(["short", "current", "guided"][: int(rng.integers(1, 4))], n)
        rows["fare"] = rng.lognormal(size=n)
    if rng.random() < 0.2:
        name = pick(rng, names)
        rows[name] = rows[name].astype(object).mask(rng.random(n) < 0.2, None)
    door = int(rng.integers(6))
    if door == 0:
        return rows
    if door == 1:
        return duckdb.from_df(rows)
    if door == 2:
        rows.to_csv(folder / "t.csv", index=False)
        return folder / "t.csv"
    if door == 3:
        rows.to_json(folder / "t.jsonl", orient="records", lines=True)
        return folder / "t.jsonl"
    import polars as pl
    import pyarrow as pa

    return pl.from_pandas(rows) if door == 4 else pa.Table.from_pandas(rows)


def tabled(rng: np.random.Generator) -> tuple[str, list[str]]:
    """A table, and something asked of it."""
    with tempfile.TemporaryDirectory() as folder:
        names = ["form", "fare", "day", "unit", "v", "nope", None, 3, "*"]

        def name() -> Any:
            return pick(rng, names[: 5 if rng.random() < 0.85 else 9])

        value, by, other = ("fare", "form", name()) if rng.random() < 0.6 else (name(), name(), name())
        wanted = pick(
            rng, [1, 0.5, "2026-10-01", "01/10/2026", "short", None, True, [1], math.nan, ["short", "current"]]
        )
        how = pick(rng, ["equals", "among", "above", "at_least", "below", "at_most", "missing", "over"])
        calls: dict[str, Callable[[Any], Any]] = {
            "moments": lambda t: t.moments([value, other] if rng.random() < 0.3 else value, by=by),
            "samples": lambda t: t.samples(value, by=by),
            "overall": lambda t: t.overall(value),
            "sizes": lambda t: t.sizes(by=by),
            "counts": lambda t: t.counts(row=by, column=other),
            "where": lambda t: t.where(other, **{how: wanted}).sizes(by=by),
            "derive": lambda t: t.derive("new", other, **{how: wanted}).overall("new"),
            "relabel": lambda t: t.relabel(by, {"short": "x", "current": "y", "guided": "z"}).sizes(by=by),
            "units": lambda t: t.units(unit="unit", by=by, measures={"n": ar.tables.total(value)}).overall("n"),
            "pairs": lambda t: t.pairs(value, by=by, unit="unit", control="current").describe(),
            "describe": lambda t: t.describe(value, by=by),
            "daily": lambda t: t.daily(value, by=by, day=other),
            "digest": lambda t: Digest.from_json(t.digest([value], by=by, day="day").to_json()),
            "check": lambda t: t.check(by=by, unit="unit", day="day", metrics=[value], covariates=[other]),
            "check_split": lambda t: t.check_split(by=by),
            "means": lambda t: ar.measure.means(*next(iter(t.moments(value, by=by).against("current")))),
            "dates": lambda t: ar.table(t.frame.to_native(), dates={str(other): "%d/%m/%Y"}).sizes(by=by),
        }  # fmt: skip
        ask_name = pick(rng, list(calls))
        source = table_of(rng, Path(folder))

        def ask() -> Iterator[str]:
            found = calls[ask_name](ar.table(source))
            if isinstance(found, ar.Result):
                yield from shown(found, drawn=rng.random() < 0.03)
            elif any(sign in repr(found) for sign in ACTING):
                yield "a label that is not inert"
            for m in found.values() if isinstance(found, dict) else [found]:
                if isinstance(m, ar.Moments):
                    if ar.Moments.from_json(m.to_json()) != m:
                        yield "moments that do not come back"
                    if not (np.isfinite(m.means).all() and np.isfinite(m.comoments).all()):
                        yield "moments that are not finite"

        return judged(
            ask, f"{ask_name}({value!r}, by={by!r}, other={other!r}, {how}={wanted!r}) of {type(source)}", seconds=3.0
        )


# --- saved files

ROWS = pd.DataFrame(
    {"form": ["a", "b"] * 20, "fare": np.arange(40.0), "prior": np.arange(40.0) ** 2 % 7, "day": [1, 1, 2, 2] * 10}
)
KEPT = ar.table(ROWS).digest(["fare"], by="form", covariates=["prior"], day="day").to_json()
MOMENTS = ar.Moments.from_arrays({"a": [1.0, 2, 4], "b": [2.0, 3, 7]}, label="x").to_json()
INSTEAD: list[Any] = [None, True, 0, -1, 1.5, 1e308, 10**400, 2**63, "x", "", [], [1], {}, "\x1b[31m", "\ud800"]


def changed(rng: np.random.Generator, node: Any) -> Any:
    """The same with something else somewhere in it."""
    if not isinstance(node, (dict, list)) or not node or rng.random() < 0.2:
        return pick(rng, INSTEAD)
    keys = list(node) if isinstance(node, dict) else list(range(len(node)))
    key, what = pick(rng, keys), rng.random()
    copy = dict(node) if isinstance(node, dict) else list(node)
    if what < 0.12:
        del copy[key]
    elif what < 0.2 and isinstance(copy, list):
        copy.insert(key, copy[key])
    elif what < 0.2:
        copy[pick(rng, ["x", "n", "__class__"])] = pick(rng, INSTEAD)
    else:
        copy[key] = changed(rng, copy[key])
    return copy


def saved(rng: np.random.Generator) -> tuple[str, list[str]]:
    """A file of moments or a digest, cut, or with something else in it under a checksum that fits."""
    digest = rng.random() < 0.6
    text = KEPT if digest else MOMENTS
    if rng.random() < 0.3:
        at = int(rng.integers(len(text)))
        put = pick(rng, ["NaN", "1e999", "}", '"', "\ud800", "[" * 9_999])
        text = pick(rng, [text[:at], text[:at] + put + text[at:], "[" * 99_999, "null", ""])
    else:
        body = json.loads(text)
        for _ in range(int(rng.integers(1, 3))):
            body = changed(rng, body)
        if digest and isinstance(body, dict) and rng.random() < 0.8:
            body = {k: v for k, v in body.items() if k not in ("schema", "sha256")}
            body = {"schema": SCHEMA, "sha256": _checksum(body), **body}
        text = json.dumps(body)
    kind: Any = Digest if digest else ar.Moments

    def ask() -> Iterator[str]:
        read = kind.from_json(text)
        if kind.from_json(read.to_json()).to_json() != read.to_json():
            yield "a file that does not come back"
        parts = read.moments("fare").values() if digest else [read]
        for m in parts:
            if not (np.isfinite(m.means).all() and np.isfinite(m.comoments).all()):
                yield "moments that are not finite"
            repr(m)
        if digest:
            yield from shown(read.daily("fare"), drawn=False)

    return judged(ask, f"{kind.__name__}.from_json of {text[:200]!r}…", seconds=1.0)


# --- the command line

FOLDER = Path(tempfile.mkdtemp(prefix="fuzz"))
for _name in ("travellers", "turnarounds", "crossings", "tickets", "events"):
    shutil.copyfile(ar.demo.path(_name), FOLDER / f"{_name}.csv")
pd.read_csv(FOLDER / "travellers.csv").head(300).to_csv(FOLDER / "travellers.csv", index=False)
(FOLDER / "empty.csv").write_text("")
(FOLDER / "odd.csv").write_text('"\x1b[31mform",fare\n"\u202ea",1\nb,x\n')
WORDS = [
    *shlex.split("0.05 70% 3 -1 nan 1e400 x 1,2 90,90 20,15,5,60 form fare current before two-sided exact holm a=1 --"),
    *(
        "",
        "\x1b[31m",
        "\udcff",
        "day > 3",
        "form in (short, current)",
        "form: 0=a",
        "late: day >= 2",
        "yes",
        "n: count",
    ),
    *shlex.split("pocock power obrien-fleming 0.2,0.5,1 5 latin-1 , ; ."),
]
OPTIONS = shlex.split(
    "--value --by --control --alpha --null --margin --good --test --n --mean --sd --labels --json --split --correct"
    " --effect --lift --power --find --grid --half-width --unit --day --metrics --seed --help --where --relabel"
    " --derive --success --decimal --thousands --separator --missing --skip-lines --encoding --looks --futility"
    " --spending --skip"
    " --sides --shape --binding --per-day --at --planned --last --ways --take"
)


def commanded(rng: np.random.Generator) -> tuple[str, list[str]]:
    """One of the examples of the help, or a command with drawn options."""
    asked = list(pick(rng, example_commands()))
    for _ in range(int(rng.integers(0, 3))):
        at = int(rng.integers(1, len(asked) + 1))
        what = rng.random()
        if what < 0.5:
            asked[at:at] = [pick(rng, OPTIONS), pick(rng, WORDS)]
        elif what < 0.8 and at < len(asked):
            asked[at] = pick(rng, [*WORDS, "odd.csv", "empty.csv", "nope.csv", "."])
        elif at < len(asked):
            del asked[at]

    def ask() -> Iterator[str]:
        out, errors = io.StringIO(), io.StringIO()
        before = sys.argv
        sys.argv = ["amber-ruler", *asked]
        try:
            with contextlib.chdir(FOLDER), contextlib.redirect_stdout(out), contextlib.redirect_stderr(errors):
                main()
        except SystemExit as end:
            status = end.code
        finally:
            sys.argv = before
        if "Traceback" in errors.getvalue() or status not in (0, 2, 3):
            yield f"ended with {status}: {errors.getvalue()[-600:]}"
        if any(sign in out.getvalue() + errors.getvalue() for sign in ACTING):
            yield "a label that is not inert"
        if status == 0 and "--json" in asked and "--help" not in asked:
            json.loads(out.getvalue())
        if status == 2:
            if not errors.getvalue().strip():
                yield "an error without words"
            raise ar.InputError(errors.getvalue())

    return judged(ask, f"amber-ruler {' '.join(map(repr, asked))}", seconds=4.0)


def example_commands() -> list[list[str]]:
    """Every example of every command, as arguments."""
    if not _EXAMPLES:
        from amber_ruler.cli import data, looking
        from amber_ruler.cli.plan import KINDS
        from amber_ruler.register import METHODS

        for (room, name), method in METHODS.items():
            _EXAMPLES.extend([room, name.replace("_", "-"), *shlex.split(example)] for example in method.examples)
        _EXAMPLES.extend(
            ["plan", kind, *shlex.split(example.replace("\\\n", " "))] for kind, (_, example) in KINDS.items()
        )
        _EXAMPLES.extend(
            shlex.split(part.strip())[1:]
            for text in (*data.EXAMPLES.values(), *looking.EXAMPLES.values())
            for part in text.replace("\\\n", " ").splitlines()
            if part.strip().startswith("amber-ruler")
        )
    return _EXAMPLES


_EXAMPLES: list[list[str]] = []

DOORS: dict[str, Callable[[np.random.Generator], tuple[str, list[str]]]] = {
    "plan": planned,
    "tables": tabled,
    "saved files": saved,
    "command line": commanded,
}


def judged(ask: Callable[[], Iterator[str]], said: str, *, seconds: float) -> tuple[str, list[str]]:
    """How a call ended, and what does not hold."""
    started, ended, found = time.perf_counter(), "answered", []
    try:
        found = list(ask())
    except ar.AmberRulerError as error:
        ended = "refused"
        text = str(error)
        if len(text) <= 12 or "SELECT" in text or "Traceback" in text:
            found = [f"an error that does not help: {text}"]
    except Exception as error:  # noqa: BLE001 - any other is what is looked for
        found = [f"{type(error).__name__}: {error}"[:300]]
    taken = time.perf_counter() - started
    if taken > seconds * SLACK:
        found.append(f"took {taken:.1f} s")
    return ended, [f"{fault}\n    {said[:500]}" for fault in found]
