"""The report of an experiment: one page that decides first and shows everything, and the same as text, JSON and CSV."""

from __future__ import annotations

import csv
import hashlib
import io
import platform
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from importlib.metadata import version
from pathlib import Path
from typing import TYPE_CHECKING, Any

from amber_ruler.errors import AmberRulerError, DataError, InputError
from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler
from amber_ruler.report.views import view_of
from amber_ruler.report.views.analysis import ROLES, early_said, families, shown
from amber_ruler.report.views.recommendation import SAID, reason_words
from amber_ruler.report.views.shared import checks_and_notes
from amber_ruler.results import Result
from amber_ruler.results.display import safe

if TYPE_CHECKING:
    from amber_ruler.digest import Daily
    from amber_ruler.experiment import Analysis, Experiment, Recommendation
    from amber_ruler.tables import Findings

_MOST_REPLAYED, _RUNS = 200_000, 300
_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_MARKS = str.maketrans({sign: f"\\{sign}" for sign in "\\`*_{}[]<>#|"})


@dataclass(frozen=True, slots=True)
class Section:
    """A part of the report: its place on the page, its name, and what it shows."""

    key: str
    title: str
    blocks: tuple[Block, ...]
    days: tuple[Daily, ...] = ()


@dataclass(frozen=True, slots=True)
class Page:
    """Everything that a report says, before it takes a form."""

    name: str
    hypothesis: str
    facts: str
    recommendation: Recommendation
    sections: tuple[Section, ...]
    results: tuple[Result, ...]
    analysis: Analysis


def write(experiment: Experiment, path: Path, overridden: Mapping[str, str], *, force: bool) -> Path:
    """Write the report in the form that the path's ending says, whole or not at all."""
    forms = {".html": _html, ".md": _markdown, ".json": _json, ".csv": _csv}
    if path.suffix.lower() not in forms:
        raise InputError(f"A report is written as {', '.join(forms)}; got {path.name!r}.", name="path")
    text = forms[path.suffix.lower()](made(experiment, overridden)) if force or not path.exists() else ""
    return saved(path, text, force=force)


def saved(path: Path, text: str, *, force: bool) -> Path:
    """Write a text file whole or not at all; another one is not overwritten unasked."""
    if path.exists() and not force:
        raise InputError(f"{path} is there already: force=True (--force) overwrites it.", name="path")
    part = path.with_name(f"{path.name}.part")
    try:
        part.write_text(text, encoding="utf-8", newline="")
        part.replace(path)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise InputError(f"Can't write {path}: {error.strerror or error}.") from None
    return path


def made(experiment: Experiment, overridden: Mapping[str, str]) -> Page:
    """All that there is to say, in order: the decision, why, what was found, whether it can be believed, the rest."""
    asked, found, findings = experiment.description, experiment.analysis, experiment.findings
    recommendation = experiment.decide(overridden)
    results: list[Result] = [recommendation, found, findings]
    sections = []
    for role, one in families(found).items():
        first = [*early_said(found), *(_shown(found) if role == "guardrails" else [])]
        sections.append(Section(role, ROLES[role], (*first, *_inside(one))))
    sections.insert(1 + (found.guardrails is not None), Section("why", "Why", tuple(_why(recommendation))))
    sections.append(
        Section("checks", "Can the data be believed?", (*_inside(findings), *_replayed(experiment, findings)))
    )
    more: dict[str, Mapping[str, Result]] = {"Looks": found.monitored, "Beliefs": found.evidence}
    for title, each in more.items():
        for label, result in each.items():
            sections.append(Section(title.lower(), f"{title}: {label}", tuple(_inside(result))))
            results.append(result)
    for segment, effects in _answered(experiment.segments, sections, "segments", "By segment").items():
        inside = [block for label, one in effects.items() for block in (Lines((label,), strong=True), *_brief(one))]
        sections.append(Section("segments", f"By {segment}", tuple(inside)))
        results += effects.values()
    plan, blocks = _planned(experiment)
    sections.append(Section("plan", "The plan, and what happened", tuple(blocks)))
    results += plan
    days = _answered(experiment.daily, sections, "days", "Day by day")
    if days:
        notes = tuple(dict.fromkeys(note for one in days.values() for note in one.notes))
        sections.append(Section("days", "Day by day", (Lines(notes),) if notes else (), tuple(days.values())))
        results += days.values()
    sections.append(Section("methods", "Methods", (*_methods(found), *shown(found), *checks_and_notes(found))))
    sections.append(Section("reproduce", "How to reproduce", tuple(_reproduce(experiment))))
    facts = _facts(experiment, findings)
    return Page(asked.name, asked.hypothesis, facts, recommendation, tuple(sections), tuple(results), found)


def _answered(ask: Callable[[], dict[str, Any]], sections: list[Section], key: str, title: str) -> dict[str, Any]:
    """What a question answers; where it is refused, a section that says why."""
    try:
        return ask()
    except AmberRulerError as error:
        sections.append(Section(key, title, (Lines((str(error),)),)))
        return {}


def _facts(experiment: Experiment, findings: Findings) -> str:
    asked = experiment.description
    what = asked.unit if findings.units is not None else "row"
    n = findings.rows if findings.units is None else findings.units
    facts = [f"{n:,} units ({what})", f"{len(findings.counts)} variants, {asked.assignment.control} as control"]
    if experiment.days:
        planned = "" if asked.days is None or asked.days.planned is None else f" of {asked.days.planned} planned"
        facts.append(f"{len(experiment.days)} days{planned}")
    facts.append(f"alpha {asked.alpha:g}")
    return " · ".join(facts)


def _shown(found: Analysis) -> list[Block]:
    """Which guardrails are shown to be not worse by their margin."""
    rows = []
    for label, one in zip(found.guardrails.labels, found.guardrails.results, strict=True) if found.guardrails else ():
        test = one.margin_tests["not_worse"]
        size = f"{100 * one.margin_lift:.6g}% of the control" if one.margin_lift is not None else _in_unit(one)
        p = numbers.p_value(float(test.p_value), one.alpha)
        rows.append((label, size, p, "shown" if test.holds else "not shown"))
    return [Grid(("not worse by the margin", "margin", "p", ""), tuple(rows), left=(0, 3))]


def _in_unit(one: Any) -> str:
    margin = float(one.margin or 0.0)
    return f"{numbers.number(100 * margin)} pp" if one.percent else numbers.number(margin)


def _why(recommendation: Recommendation) -> list[Block]:
    return [b for b in view_of(recommendation).layout(recommendation) if not isinstance(b, Heading)][:-1]


def _inside(result: Result) -> list[Block]:
    """What a result shows, under a heading that is there already."""
    blocks = view_of(result).layout(result)
    first, *rest = blocks
    below = first.below if isinstance(first, Heading) else ""
    return [*([Lines((below,))] if below else []), *(rest if isinstance(first, Heading) else blocks)]


def _brief(one: Result) -> list[Block]:
    kept = (Grid, Ruler)
    layout = view_of(one).layout(one)
    return [*[b for b in layout if isinstance(b, kept)][:2], Lines((one.sentence(), *one.notes))]


def _planned(experiment: Experiment) -> tuple[list[Result], list[Block]]:
    from amber_ruler.errors import DesignError

    happened = f"There are {experiment.findings.rows:,} rows."
    try:
        plan = experiment.plan()
    except DesignError as error:
        return [], [Lines((str(error), happened))]
    return [plan], [*_inside(plan), Lines((happened,))]


def _replayed(experiment: Experiment, findings: Findings) -> list[Block]:
    """Whether the analysis keeps its error rate on these very units."""
    if findings.rows > _MOST_REPLAYED:
        return [
            Lines((f"Not replayed, for there are more than {_MOST_REPLAYED:,} units: experiment.replay() does it.",))
        ]
    try:
        found = experiment.replay(runs=_RUNS, seed=1)
        said = found.sentence()
        return [Lines((f"Replayed {_RUNS} times: {said[:1].lower()}{said[1:]}", *found.notes))]
    except AmberRulerError as error:
        return [Lines((f"Not replayed: {error}",))]


def _methods(found: Analysis) -> list[Block]:
    told = dict.fromkeys(
        (one.metric, one.method, one.source) for family in families(found).values() for one in family.results
    )
    family = next(iter(families(found).values()))
    return [
        Grid(("metric", "method", "source"), tuple(told), left=(0, 1, 2)),
        Lines((f"Comparisons of one role are corrected together: {family.method}. {family.source}",)),
    ]


def _reproduce(experiment: Experiment) -> list[Block]:
    packages = ("amber-ruler", "numpy", "scipy", "duckdb", "narwhals")
    lines = [f"{name} {version(name)}" for name in packages] + [f"Python {platform.python_version()}"]
    for path in experiment.files:
        with path.open("rb") as held:
            digest = hashlib.file_digest(held, "sha256").hexdigest()
        lines.append(f"{path.name}: {path.stat().st_size:,} bytes, SHA-256 {digest}")
    return [Lines(tuple(lines)), Lines(tuple(experiment.to_toml().splitlines()))]


def _html(page: Page) -> str:
    from amber_ruler.report.web import report

    signs = [(treatment, word, *SAID[word]) for treatment, word in page.recommendation.words.items()]
    return report(page, signs)


def _markdown(page: Page) -> str:
    out = [f"# {_plain(page.name)}", _plain(page.hypothesis), _plain(page.facts), ""]
    out += [f"**{_plain(view_of(page.recommendation).sentence(page.recommendation))}**", ""]
    for section in page.sections:
        out += [f"## {_plain(section.title)}", ""]
        if section.key == "reproduce":
            *facts, toml = section.blocks
            out += [line for block in facts if isinstance(block, Lines) for line in (*map(_plain, block.lines), "")]
            out += ["```toml", *(toml.lines if isinstance(toml, Lines) else ()), "```", ""]
            continue
        for block in section.blocks:
            out += [*_in_markdown(block), ""]
        out += [line for one in section.days for line in (_plain(one.sentence()), "")]
    return "\n".join(line for line in out if line is not None).strip() + "\n"


def _in_markdown(block: Block) -> list[str]:
    if isinstance(block, Heading):
        return [f"### {_plain(block.title)}", "", _plain(block.below)]
    if isinstance(block, Grid):
        head = [_plain(cell) or " " for cell in block.header]
        bars = ["---" if k in block.left else "---:" for k in range(len(head))]
        rows = [[_plain(cell) for cell in row] for row in block.rows]
        return [f"| {' | '.join(row)} |" for row in (head, bars, *rows)]
    if isinstance(block, Ruler):
        return []
    return [part for line in block.lines for part in (f"**{_plain(line)}**" if block.strong else _plain(line), "")][:-1]


def _plain(text: str) -> str:
    return safe(text).translate(_MARKS)


def _json(page: Page) -> str:
    from amber_ruler.report.document import json_text

    return json_text(page.results) + "\n"


def _csv(page: Page) -> str:
    rows = view_of(page.analysis).rows(page.analysis)
    if not rows:
        raise DataError("There is no comparison to write.")
    for row in rows:
        row.update(_decision(page.recommendation, row))
    columns = list(dict.fromkeys(name for row in rows for name in row))
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(columns)
    writer.writerows([_cell(row.get(name, "")) for name in columns] for row in rows)
    return out.getvalue()


def _decision(found: Recommendation, row: Mapping[str, Any]) -> dict[str, Any]:
    """What is recommended of a row's treatment, and the reason that its comparison is, where it is one."""
    treatment = str(row["treatment"])
    reasons = found.reasons[treatment]
    mine = [r for r in reasons if r.kind == "metric" and row["metric"] in r.metrics and row["role"].startswith(r.role)]
    tested = mine[0].margin_test if mine else None
    return {
        "recommended": found.words[treatment],
        "margin_p": "" if tested is None else tested.p_value,
        "reason": reason_words(mine[0]) if mine else "",
        "because": reason_words(reasons[-1]),
    }


def _cell(value: Any) -> Any:
    """A cell that no spreadsheet takes for a formula."""
    if isinstance(value, str):
        text = safe(value)
        return f"'{text}" if text.startswith(_FORMULA) else text
    return value.item() if hasattr(value, "item") else value
