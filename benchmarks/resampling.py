"""How often bootstrap intervals hold the truth and permutation tests err, on skewed values and uneven spreads.

Run with: python benchmarks/resampling.py        (writes docs/resampling.md, in about five minutes)
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np

from amber_ruler.measure import means
from amber_ruler.resample import bootstrap, permutation

RUNS, REPLICATES, ASSIGNMENTS = 2_000, 999, 999
PAGE = Path(__file__).parents[1] / "docs" / "resampling.md"
INTERVALS = ("normal", "percentile", "basic", "bca", "studentised")
_HEAD = f"""# Coverage of bootstrap intervals, and errors of permutation tests

{RUNS:,} samples each, with {REPLICATES} resamples, or {ASSIGNMENTS} assignments, of each sample. A 95 % interval should
hold the truth in 95 % of them, and leave it out on either side in 2.5 %; a 5 % test should err in 5 %. Each share
stands with its Monte-Carlo error. Made by `python benchmarks/resampling.py`.

Values are log-normal (log sd 1): the usual shape of amounts.
"""


def share(hits: float) -> str:
    """A share in percent, with its Monte-Carlo error."""
    return f"{100 * hits:.1f} ± {100 * math.sqrt(hits * (1 - hits) / RUNS):.1f}"


def coverage() -> list[str]:
    """Intervals of a mean and of a lift."""
    truth = math.exp(0.5)
    lines = ["| quantity | units | interval | holds the truth, % | truth below, % | truth above, % |"]
    lines.append("| --- | --- | --- | --- | --- | --- |")
    for n in (20, 80):
        rng = np.random.default_rng(n)
        below, above = dict.fromkeys((*INTERVALS, "t"), 0), dict.fromkeys((*INTERVALS, "t"), 0)
        for run in range(RUNS):
            x = rng.lognormal(0, 1, n)
            for kind in INTERVALS:
                found = bootstrap(x, interval=kind, replicates=REPLICATES, seed=run).interval
                below[kind] += truth < found.low
                above[kind] += truth > found.high
            se = x.std(ddof=1) / math.sqrt(n)
            t = 2.093024054408263 if n == 20 else 1.990450211723012
            below["t"] += truth < x.mean() - t * se
            above["t"] += truth > x.mean() + t * se
        for kind in (*INTERVALS, "t"):
            low, high = below[kind] / RUNS, above[kind] / RUNS
            lines.append(f"| mean | {n} | {kind} | {share(1 - low - high)} | {share(low)} | {share(high)} |")
    return lines


def errors() -> list[str]:
    """Tests of equal means where there is no difference."""
    lines = ["", "| units | spreads | test | errs, % |", "| --- | --- | --- | --- |"]
    for (n1, n0), (s1, s0) in (((20, 20), (1, 1)), ((40, 10), (1, 3)), ((10, 40), (1, 3))):
        rng = np.random.default_rng(n1)
        hits = dict.fromkeys(("difference, permuted", "studentised, permuted", "Welch's t"), 0)
        for run in range(RUNS):
            one = s1 * (rng.lognormal(0, 1, n1) - math.exp(0.5))
            two = s0 * (rng.lognormal(0, 1, n0) - math.exp(0.5))
            drawn = {"replicates": ASSIGNMENTS, "seed": run, "workers": 1}
            hits["difference, permuted"] += permutation(one, two, **drawn).p_value < 0.05
            hits["studentised, permuted"] += permutation(one, two, statistic="studentised", **drawn).p_value < 0.05
            hits["Welch's t"] += means(one, two).p_value < 0.05
        lines += [f"| {n1} and {n0} | {s1} and {s0} | {test} | {share(k / RUNS)} |" for test, k in hits.items()]
    return lines


if __name__ == "__main__":
    PAGE.write_text("\n".join([_HEAD, *coverage(), *errors()]) + "\n", encoding="utf-8")
