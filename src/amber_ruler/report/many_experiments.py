"""Many experiments on one page: a ruler a test, what was decided, and what such tests usually bring."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Heading, Lines, Ruler, RulerRow
from amber_ruler.report.experiment import saved
from amber_ruler.report.views import view_of
from amber_ruler.report.views.recommendation import SAID

if TYPE_CHECKING:
    from amber_ruler.experiment import Experiment
    from amber_ruler.results import Comparison

_FEWEST = 3  # tests, from which on they are looked at together


def write_index(experiments: Sequence[Experiment], path: str | Path, *, force: bool = False) -> Path:
    """Write a page of several experiments: the first primary metric of each treatment, as a lift on one ruler.

    Parameters
    ----------
    experiments : sequence of Experiment
        In the order in which they stand.
    path : path
        An HTML file; it is written whole or not at all.
    force : bool
        Whether an existing file may be overwritten.

    Notes
    -----
    The standard error of a lift is that of the delta method, and the tests are looked at together by `bayes.shrink`:
    what such tests usually bring is its prediction for a next one.
    """
    from amber_ruler.report.web import page

    if Path(path).suffix.lower() != ".html":
        raise InputError(f"An index is written as .html; got {Path(path).name!r}.", name="path")
    if not experiments:
        raise InputError("An index needs at least one experiment.")
    text = page([_layout(experiments)], "Experiments")
    return saved(Path(path), text, force=force)


def _layout(experiments: Sequence[Experiment]) -> list[Block]:
    cells, rows, lifts, errors = [], [], [], []
    for experiment in experiments:
        decision = experiment.decide()
        for treatment, word in decision.words.items():
            one = _primary(experiment, treatment)
            label = f"{experiment.description.name}: {treatment}"
            lift, error = _lift(one)
            told = "none" if lift is None else f"{numbers.number(100 * lift)}%"
            cells.append((label, SAID[word][2].format(treatment), one.metric, told, str(one.verdict)))
            if lift is None:
                continue
            limits = one.effects["lift"].interval
            rows.append(RulerRow(label, lift, float(limits.low), float(limits.high), str(one.verdict)))
            lifts.append(lift)
            errors.append(error)
    header = ("experiment", "decision", "primary metric", "lift", "verdict")
    blocks: list[Block] = [
        Heading("What was tried", f"{len(experiments):,} experiments, each by its first primary metric"),
        Grid(header, tuple(cells), left=(0, 1, 2, 4)),
    ]
    if rows:
        blocks.append(Ruler(tuple(rows), percent=True, unit="%"))
    return blocks + _usually(lifts, errors, [row.label for row in rows])


def _usually(lifts: list[float], errors: list[float], labels: list[str]) -> list[Block]:
    """What such tests usually bring."""
    if len(lifts) < _FEWEST:
        return [Lines((f"From {_FEWEST} comparisons on, what such tests usually bring is estimated here.",))]
    from amber_ruler.bayes import shrink

    found = shrink(100 * np.array(lifts), 100 * np.array(errors), labels=labels, metric="lift (%)")
    kept = [b for b in view_of(found).layout(found) if not isinstance(b, Heading)]
    return [Heading("What such tests usually bring", found.method), *kept]


def _primary(experiment: Experiment, treatment: str) -> Comparison:
    family = experiment.analysis.primary
    found: list[Comparison] = [] if family is None else [one for one in family.results if one.treatment == treatment]  # type: ignore[misc,attr-defined]
    return found[0]


def _lift(one: Comparison) -> tuple[float | None, float]:
    """The lift and its standard error, where the control's mean is above 0."""
    if one.scale == "ratio" or "lift" not in one.effects or len(one.groups) < 2:
        return None, 0.0
    (m1, s1), (m0, s0) = ((float(g.mean), float(g.se)) for g in one.groups[:2])
    limits = one.effects["lift"].interval
    if m0 <= 0 or not np.isfinite([float(limits.low), float(limits.high)]).all():
        return None, 0.0
    return m1 / m0 - 1, float(np.hypot(s1 / m0, m1 * s0 / m0**2))
