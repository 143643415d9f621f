"""Write what is written of the register: the reference, the README's table, and the rooms' lists of names.

Run with: python docs/build.py            (--check: say whether anything is out of date, and end with 1 if so)
"""

from __future__ import annotations

import inspect
import pkgutil
import re
import sys
from importlib import import_module
from pathlib import Path
from typing import Any

from amber_ruler import __all__ as front
from amber_ruler.register import METHODS, ROOMS, Method

ROOT = Path(__file__).parents[1]
SECTIONS = {
    "plan": "before the test",
    "measure": "frequentist",
    "bayes": "evidence",
    "adjust": "sharper",
    "sequential": "looking early",
    "multiplicity": "many comparisons",
    "resample": "drawing again",
    "effects": "effect sizes",
    "results": "what an answer is made of",
    "report": "drawing answers",
    "tables": "data in",
    "experiment": "one file, the whole day",
    "demo": "the made-up company",
}
DESIGNS = """
Every design has `.sample_size(power, effect…)`, `.power(n or weeks, effect…)`, `.detectable_effect(n or weeks, power)`,
`.alpha_for(n or weeks, power, effect…)`, `.needed(number, n or weeks, power, effect…)`, `.power_limit(effect…)`,
`.precision(n or weeks, width or assurance, effect…)`, `.sample_size_for_width(half_width, width or assurance, effect…)`,
`.alpha_for_width(half_width, n or weeks, effect…)`,
`.grid(…)`, `.simulate(n or weeks, runs, seed, effect…)`, and, as far as they make sense for it, `.with_covariate(correlation, count)`,
`.with_clusters(size, icc or between_cv, cv)`, `.with_variants(count, correction)`, `.with_margin(margin, kind, good, above)`,
`.with_traffic(per_day, share)`, `.with_attrition(share)`, `.with_population(size)`, `.with_looks(looks, …)`,
`.ways_to_look(effect…)`; of two groups `.sample_size_beside(n_control or n_treatment, …)`, `.smallest_total(…)`,
`.best_split(cost_treatment, cost_control, …)`, `.split_cost(…)`; of means `.family_power(n, effects)` and
`.sample_size_for_family(wanted, effects, power)`. `effect…` is one of `effect`, `standardised`, `lift`, `treatment`,
`means`, `shares`.
"""
RESULTS = """
Every result has `print(r)`, `.sentence()`, `.to_dict()`, `.to_json()`, `Result.from_json(text)`, `.to_frame()`, `.plot(ax)`,
a notebook view, and `.again(without=…, **changes)`. A measurement reads its test as `.p_value`, `.statistic`, `.df`,
`.alpha`, `.null`, `.critical`, `.alternative` and `.margin_tests`, and its parts as `.evidence`, `.adjustment`,
`.strata`, `.correction`, `.looks`, `.anytime` and `.draws`.
"""
TABLE = """
A table, what `table(…)` gives, has:

| name | what it answers or holds |
| --- | --- |
"""
TAKES = {
    "one": "one group",
    "two": "treatment and control",
    "pairs": "Pairs",
    "several": "several groups",
    "factors": "cells of two or three factors",
    "table": "a table of counts",
    "kinds": "counts of several kinds",
    "columns": "two columns",
    "numbers": "an estimate and its standard error",
}
NEEDS = {
    "mean": "values, Sample, Summary or Moments",
    "share": "0/1 values, Counts or Moments",
    "rate": "counts per unit, Events or Moments",
    "values": "the values themselves",
}


def first_line(thing: Any) -> str:
    """What a docstring answers."""
    return (inspect.getdoc(thing) or "").partition("\n")[0]


def signature(thing: Any) -> str:
    """Names of the parameters, as they are called."""
    names = []
    for name, item in inspect.signature(thing).parameters.items():
        if name != "self":
            names.append(f"**{name}" if item.kind is item.VAR_KEYWORD else name)
    return f"({', '.join(names)})"


def row(name: str, thing: Any) -> str:
    """A line of the reference."""
    if inspect.isfunction(thing):
        name += signature(thing)
    said = '"two-sided", "greater" or "less".' if name == "Alternative" else first_line(thing)
    return f"| `{name}` | {said.replace('|', chr(92) + '|')} |"


def method_row(method: Method) -> str:
    """A line of the reference for a registered method: what it takes, and where else it is found."""
    numbers = f" or published numbers ({', '.join(method.published)})" if method.published else ""
    of = "" if method.takes in ("pairs", "table", "kinds", "columns") else f": {NEEDS[method.needs]}"
    if method.columns:
        of = ": Records" + (" or Moments" if method.needs == "mean" else "")
    command = f"`amber-ruler {method.room} {method.name.replace('_', '-')}`"
    return f"| `{method.name}{signature(method.bare)}` | {first_line(method.bare)} | {TAKES[method.takes]}{of}{numbers} | {command} |"


def reference() -> str:
    """The whole page."""
    parts = [
        (
            "# Reference\n\nEvery public name, its signature and what it answers; the docstrings have parameters, formulas,"
            " sources and examples\n(`help(ar.measure.means)`). Data are positional, everything else goes by keyword. Written"
            " by `docs/build.py`.\n\n## `amber_ruler`: the front door\n\n| name | what it answers or holds |\n| --- | --- |"
        )
    ]
    import amber_ruler

    parts += [row(name, getattr(amber_ruler, name)) for name in front if not name.startswith("_")]
    for module, said in SECTIONS.items():
        part = import_module(f"amber_ruler.{module}")
        parts.append(f"\n## `amber_ruler.{module}`: {said}\n")
        methods = {m.name: m for (room, _), m in METHODS.items() if room == module}
        others = [name for name in part.__all__ if name not in methods]
        if methods:
            parts.append("| call | what it answers | takes | command |\n| --- | --- | --- | --- |")
            parts += [method_row(methods[name]) for name in sorted(methods)]
        if others:
            parts.append(f"{chr(10) if methods else ''}| name | what it answers or holds |\n| --- | --- |")
            parts += [row(name, getattr(part, name)) for name in others]
        parts.append({"plan": DESIGNS, "results": RESULTS, "tables": table_methods()}.get(module, "").rstrip())
    return re.sub(r"\n{3,}", "\n\n", "\n".join(parts)).rstrip() + "\n"


def table_methods() -> str:
    """What a table can be asked."""
    from amber_ruler.tables import Table

    members = [(n, m) for n, m in inspect.getmembers(Table, inspect.isfunction) if not n.startswith("_")]
    return TABLE + "\n".join(row(f".{name}", member) for name, member in members)


def readme_table() -> str:
    """The questions that can be asked, and how."""
    rows = ["| question | in Python | on the command line |", "| --- | --- | --- |"]
    for (room, name), method in sorted(METHODS.items(), key=lambda item: (ROOMS.index(item[0][0]), item[0][1])):
        command = f"`{room} {name.replace('_', '-')}`"
        rows.append(f"| {first_line(method.bare)} | `ar.{room}.{name}` | {command} |")
    return "\n".join(rows)


def import_line(module: str, names: list[str]) -> str:
    """An import as the formatter leaves it."""
    line = f"from {module} import {', '.join(names)}"
    return line if len(line) <= 120 else f"from {module} import (\n" + "".join(f"    {n},\n" for n in names) + ")"


def room_names(room: str) -> str:
    """The imports and the list of names of a room: its methods, and what its modules list besides."""
    package = import_module(f"amber_ruler.{room}")
    homes: dict[str, str] = {}
    for found in pkgutil.walk_packages(package.__path__, f"{package.__name__}."):
        module = import_module(found.name)
        if not found.ispkg:
            homes |= dict.fromkeys(getattr(module, "__all__", ()), found.name)
    homes |= {name: method.bare.__module__ for (r, name), method in METHODS.items() if r == room}
    modules = sorted(set(homes.values()))
    lines = [import_line(m, sorted(n for n, home in homes.items() if home == m)) for m in modules]
    listed = "\n".join(f'    "{name}",' for name in sorted(homes))
    if len(homes) <= 4:
        return "\n".join(lines) + f"\n\n__all__ = [{', '.join(f'{chr(34)}{n}{chr(34)}' for n in sorted(homes))}]\n"
    return "\n".join(lines) + f"\n\n__all__ = [\n{listed}\n]\n"


def pages() -> dict[Path, str]:
    """Every file that is written here, whole."""
    found = {}
    for room in ROOMS:  # first, for what follows is asked of the rooms
        path = ROOT / "src" / "amber_ruler" / room / "__init__.py"
        head = path.read_text("utf-8").partition('"""\n\n')[0]
        found[path] = f'{head}"""\n\n{room_names(room)}'
    found[ROOT / "docs" / "reference.md"] = reference()
    readme = ROOT / "README.md"
    start, end = "<!-- methods: written by docs/build.py -->\n", "\n<!-- end of methods -->"
    before, _, rest = readme.read_text("utf-8").partition(start)
    found[readme] = f"{before}{start}{readme_table()}{end}{rest.partition(end)[2]}"
    return found


def main() -> int:
    """Write the pages, or say which are out of date."""
    stale = [path for path, text in pages().items() if path.read_text("utf-8") != text]
    for path in stale:
        sys.stdout.write(f"{path.relative_to(ROOT)} {'is out of date' if '--check' in sys.argv else 'written'}\n")
        if "--check" not in sys.argv:
            path.write_text(pages()[path], encoding="utf-8")
    return 1 if stale and "--check" in sys.argv else 0


if __name__ == "__main__":
    sys.exit(main())
