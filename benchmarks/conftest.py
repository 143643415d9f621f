"""Ratios at the end of a benchmark run: each group's subject against its baseline."""

from __future__ import annotations

import os
import platform
from pathlib import Path

import pytest

# By how a group's name begins.
LIMITS = {
    "moments of 3 columns by variant, Parquet": 1.5,
    "moments of 2 columns by variant, PostgreSQL": 1.3,
    "a log of events to units, Parquet": 1.5,
    "sample size of": 1.0,
    "1,000 scenarios": 0.05,
    "moments of 2 columns by variant, pandas rows": 1.0,
    "100,000 comparisons of means, against 1,000 scalar calls": 100 / 150,  # a comparison 150 times faster
    "import amber_ruler": 1.3,
    "amber-ruler --help": 3.0,
    "100,000 comparisons of proportions, against 1,000 scalar calls": 1.0,
    "100,000 comparisons of rates, against 1,000 scalar calls": 1.0,
    "one comparison of means": 0.8,
    "one comparison of proportions": 1.0,
    "evidence about two means": 4.0,
    "covariate adjustment by 5 covariates": 1.2,
    "1,000 metrics by 3 covariates": 20.0,
    "boundaries of 200 looks": 1.0,
    "a design of 5 looks": 1 / 40,
    "20 looks, against 5": 10.0,
    "a year of daily intervals for 1,000 metrics": 1.0,
    "ranks of 1 million": 6.0,
    "20 groups of 100,000 rows": 1.0,
    "an experiment of 12 metrics, Parquet": 1.5,
    "an experiment of 12 metrics, pandas rows": 1.0,
    "2,000 resamples of 100,000 rows a side": 1 / 2,
    "2,000 draws of Poisson weights": 1 / 3,
    "2,000 resamples of 0 and 1": 1 / 200,
    "a statistic in Python": 1 / 1.6,
    "2,000 replays": 1 / 10,
    "Holm over 100,000 p-values, against one argsort": 3.0,
    "Benjamini-Hochberg over 100,000 p-values, against one argsort": 3.0,
}


_HEAD = """# Speed

Ratios of one run: the time of a call over that of a baseline that does the least that could give the same numbers, such
as one query with the same sums written by hand. Medians in seconds, large tables of {rows:,} rows, {cores} cores,
Python {python}. Made by `pytest benchmarks --table docs/speed.md`; the last column is what we hold ourselves to.

| what, against what | ours | baseline | ratio | at most |
| --- | --- | --- | --- | --- |"""


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--rows", type=int, default=10_000_000, help="Rows of the large tables.")
    parser.addoption("--table", type=Path, help="Write the ratios as a page.")


@pytest.fixture(scope="session")
def rows(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--rows"))


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter, config: pytest.Config) -> None:
    """Print medians and their ratio, group by group."""
    session = getattr(config, "_benchmarksession", None)
    if session is None or not session.benchmarks:
        return
    medians: dict[str, dict[str, float]] = {}
    for bench in session.benchmarks:
        role = "baseline" if "baseline" in bench.name else "subject"
        medians.setdefault(bench.group, {})[role] = bench.stats.median
    terminalreporter.section("ratios: subject / baseline")
    page = [_HEAD.format(rows=config.getoption("--rows"), cores=os.cpu_count(), python=platform.python_version())]
    for group, pair in medians.items():
        if len(pair) == 2:
            ratio = pair["subject"] / pair["baseline"]
            limit = next((most for name, most in LIMITS.items() if group.startswith(name)), None)
            verdict = "" if limit is None else f"  (at most {limit:g}: {'kept' if ratio <= limit else 'EXCEEDED'})"
            terminalreporter.write_line(
                f"{group}: {pair['subject']:.4g} s / {pair['baseline']:.4g} s = {ratio:.3f}{verdict}"
            )
            asked = "" if limit is None else f"{limit:.3g}"
            page.append(f"| {group} | {pair['subject']:.4g} | {pair['baseline']:.4g} | {ratio:.3f} | {asked} |")
    if config.getoption("--table"):
        config.getoption("--table").write_text("\n".join(page) + "\n", encoding="utf-8")
