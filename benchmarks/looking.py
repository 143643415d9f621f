"""What looking early does, simulated: python benchmarks/looking.py > docs/looking.md.

Error, power and units of plans with looks by t tests of few units; coverage and bias after stopping; the error of
answers at any moment over 10,000 looks.
"""

from __future__ import annotations

import sys

import numpy as np

import amber_ruler as ar
from amber_ruler import plan, sequential
from amber_ruler.sequential.inference import Seen
from amber_ruler.sequential.recursion import walk

RUNS = 20_000
HEAD = """# What looking early does, simulated

Made by `python benchmarks/looking.py`, in about five minutes. Each rate stands with its Monte-Carlo error.

## Plans whose looks are t tests

At each look the p-value of the t test is held against the nominal p of the boundary. {runs:,} tests a row, drawn
from normal values; *n* is units in each group at the end. The formula sets each look's boundary so that it is
crossed as often as that look's own t test, and takes only the dependence between looks from the normal path.

| looks | n | effect (d) | crosses, % | by the formula, % | units on average | by the formula |
| --- | --- | --- | --- | --- | --- | --- |"""
STAGES = """
## After stopping

Paths with {count:,} tests a row, two-sided, alpha 0.05, three looks at 30, 70 and 100 % of the information.
*Covered* is how often the interval in stage-wise order holds the true effect; the means are of the estimate as
seen, of the median-unbiased and of the bias-adjusted one, in units of the drift.

| spending | drift | covered, % | mean, seen | median-unbiased | bias-adjusted |
| --- | --- | --- | --- | --- | --- |"""
MOMENTS = """
## At any moment

{count:,} tests without an effect a row, looked at after each of 10,000 units (shares every 20): how often alpha = 5
% is passed at any of them.

| answer | rejects at any moment, % |
| --- | --- |"""


def plans() -> None:
    """Small and larger t tests, under none and under an effect."""
    kinds = {
        "4, O'Brien–Fleming-like": {},
        "4, Pocock-like": {"spending": "pocock"},
        "4, with futility": {"futility": "hwang-shih-decani"},
    }
    for name, how in kinds.items():
        for n in (8, 20, 100):
            for share in (0.0, 1.0):
                effect = share * 2.8 * np.sqrt(2 / n)
                design = plan.TwoMeans(sd=1).with_looks(4, **how)
                s = design.simulate(n=n, effect=effect, runs=RUNS, seed=n)
                said = design.power(n=n, effect=effect or 1e-9)
                looks = said.looks.under_planned
                print(
                    f"| {name} | {n} | {effect:.2f} | {100 * s.rate:.2f} ± {100 * s.error:.2f} |"
                    f" {100 * looks.power:.2f} |"
                    f" {s.mean_total:.1f} ± {s.mean_error:.1f} | {looks.expected_fraction * 2 * n:.1f} |",
                    flush=True,
                )


def stages(count: int = 4_000) -> None:
    """Coverage of stage-wise intervals, and what stopping does to estimates."""
    t = np.array([0.3, 0.7, 1.0])
    gaps = np.diff(t, prepend=0.0)
    for spending in ("obrien-fleming", "pocock"):
        b = sequential.boundaries(t, spending=spending)
        path = walk(b.regions)
        for drift in (0.0, 1.5, 3.0, 4.5):
            rng = np.random.default_rng(round(10 * drift))
            z = np.cumsum(rng.normal(drift * gaps, np.sqrt(gaps), (count, 3)), axis=1) / np.sqrt(t)
            stop = np.abs(z) > b.z
            first = np.where(stop.any(axis=1), stop.argmax(axis=1), 2)
            seen = [Seen(path, int(k), float(z[i, k])) for i, k in enumerate(first)]
            covered = np.mean([min(s.beyond(drift)) >= 0.025 for s in seen])
            plain = np.array([s.z / np.sqrt(s.t) for s in seen])
            median = np.array([s.drift_with(0.5) for s in seen])
            adjusted = np.array([s.bias_adjusted() for s in seen])
            error = 100 * np.sqrt(covered * (1 - covered) / count)
            means = " | ".join(f"{v.mean():.3f} ± {v.std() / np.sqrt(count):.3f}" for v in (plain, median, adjusted))
            print(f"| {b.spending} | {drift} | {100 * covered:.2f} ± {error:.2f} | {means} |", flush=True)


def moments(count: int = 2_000) -> None:
    """Error over 10,000 looks."""
    rng, n = np.random.default_rng(11), np.arange(1, 10_001)
    names = ("normal mixture, tuned for 5,000", "one-sided", "one-sided, closed form", "one share", "the split",
             "uncorrected t of 5 %")  # fmt: skip
    wrong = dict.fromkeys(names, 0)
    for _ in range(count):
        mean = np.cumsum(rng.normal(size=10_000)) / n
        pair, units = (mean, 1 / np.sqrt(n)), n
        found = {
            names[0]: sequential.anytime(pair, tuned_for=5_000, units=units),
            names[1]: sequential.anytime(pair, tuned_for=5_000, units=units, alternative="greater"),
            names[2]: sequential.anytime(
                pair, tuned_for=5_000, units=units, alternative="greater", sequence="asymptotic"
            ),
        }
        s = np.cumsum(rng.random(10_000) < 0.3)
        found[names[3]] = sequential.anytime_share(ar.Counts(s[19::20], n[19::20], "x"), null=0.3)
        found[names[4]] = sequential.anytime_split({"a": s, "b": n - s}, planned={"a": 3, "b": 7}, alpha=0.05)
        for name, r in found.items():
            wrong[name] += r.p_value[-1] < 0.05
        wrong[names[5]] += bool(np.any(np.abs(mean) * np.sqrt(n) > 1.96))
    for name, times in wrong.items():
        rate = times / count
        print(f"| {name} | {100 * rate:.2f} ± {100 * np.sqrt(max(rate * (1 - rate), 1e-4) / count):.2f} |")


def main() -> int:
    """Write the page."""
    print(HEAD.format(runs=RUNS))
    plans()
    print(STAGES.format(count=4_000))
    stages()
    print(MOMENTS.format(count=2_000))
    moments()
    return 0


if __name__ == "__main__":
    sys.exit(main())
