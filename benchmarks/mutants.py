"""Faults put into the code by hand, one after the other: which of them do the tests that should find them not find?

Run with: python benchmarks/mutants.py            (a copy of the package is changed, never the package itself)

Each row is a file, what stands there, what stands there instead, and the tests that must fail. What survives is printed
last; nothing should.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parents[1]
LAW, DECIDES, CORRECTS = "experiment/test_obedience.py", "experiment/test_experiment.py", "test_multiplicity.py"
HAND = f"{LAW}::test_a_comparison_its_posterior_and_its_looks_are_the_methods_called_by_hand"
WORDS = f"{DECIDES}::test_the_decision_is_made_of_values"
SPLIT = "tables/test_findings.py::test_the_sample_ratio_p_is_that_of_chi_square_by_hand"
STEPS = f"{CORRECTS}::test_step_wise_values_are_those_of_closed_testing"
LIMITS = f"{CORRECTS}::test_adjusted_p_verdict_and_interval_decide_the_same"
ONCE = "test_laws.py::test_an_answer_is_computed_once"
OBEYED = f"{LAW}::test_a_key_is_obeyed_refused_or_said_to_have_no_effect"
SAMPLE, DECIDE = "tables/split_check.py", "experiment/recommending.py"
RESOLVE, CORRECT, P = "experiment/resolve.py", "multiplicity/correct.py", "multiplicity/p_values.py"

MUTANTS: list[tuple[str, str, str, str]] = [
    # Two that once survived, then resolver, corrections, margins, looks.
    (SAMPLE, "df = len(seen) - 1", "df = len(seen)", SPLIT),
    (DECIDE, "if going and not better:", "if going:", WORDS),
    (RESOLVE, '"metrics.margin_lift": Key("setting"),', "", f"{OBEYED}[metrics.margin_lift]"),
    (P, "np.minimum(p.size * p, 1.0)", "np.minimum((p.size - 1) * p, 1.0)", "test_multiplicity.py"),
    ("measure/shared.py", "normal.upper_quantile(ask.alpha) if df", "normal.upper_quantile(ask.alpha / 2) if df", ONCE),
    ("experiment/looking.py", "alpha=rate / split", "alpha=rate", f"{OBEYED}[correction]"),
    # The split check.
    (SAMPLE, "(observed - model) ** 2 / model", "(observed - model) ** 2 / observed", SPLIT),
    (SAMPLE, "w / weights.sum()", "1 / weights.size", SPLIT),
    # The resolver.
    (RESOLVE, '"metrics.alpha": Key("setting"),', "", f"{OBEYED}[metrics.alpha]"),
    (RESOLVE, '"strata": Key("step"),', "", f"{OBEYED}[strata]"),
    (RESOLVE, '"metrics.covariates": Key("step", "covariate"),', "", f"{OBEYED}[metrics.covariates]"),
    (RESOLVE, '"assignment.split": Key("test"),', "", f"{OBEYED}[assignment.split]"),
    (RESOLVE, 'within="strata" in self.steps', "within=False", f"{HAND}[strata]"),
    ("experiment/weighing.py", "margin = lift * control", "margin = lift", f"{HAND}[means]"),
    ("experiment/weighing.py", "float(np.sqrt(group.n))", "1.0", f"{HAND}[covariates]"),
    ("experiment/looking.py", "days[:day]", "days", f"{HAND}[means]"),
    ("experiment/planning.py", "design.alpha / primaries", "design.alpha", f"{OBEYED}[correction]"),
    ("experiment/planning.py", "ratio=smallest / shares[asked.control]", "ratio=1.0", LAW + "::test_of_treatments_of_unequal_size_the_smallest_sets_the_size"),  # noqa: E501
    ("results/measurement.py", "lift.interval.low) > -size", "lift.interval.low) > -np.inf", f"{DECIDES}::test_a_margin_as_a_lift_holds_at_looks"),  # noqa: E501
    # Corrections.
    (CORRECT, "if by_steps:\n", "if not by_steps:\n", LIMITS),
    (CORRECT, "np.where(cut & above, null, interval.low)", "interval.low", LIMITS),
    (P, "np.arange(p.size, 0, -1)), 1.0)\n    return _in_order(steps, order)\n\n\ndef benjamini_hochberg", "np.arange(p.size, 0, -1) * 0 + 1), 1.0)\n    return _in_order(steps, order)\n\n\ndef benjamini_hochberg", STEPS),  # noqa: E501
    (P, "return alpha / size", "return alpha", LIMITS),
    # The decision.
    (DECIDE, "if harm:", "if harm and not better:", WORDS),
    (DECIDE, "if missing:", "if missing and not guardrails:", WORDS),
    (DECIDE, 'one.verdict == "better"', 'one.verdict != "worse"', WORDS),
]  # fmt: skip


def survives(mutant: tuple[str, str, str, str]) -> bool:
    """Whether the tests pass with the fault in place."""
    file, old, new, tests = mutant
    with tempfile.TemporaryDirectory() as folder:
        shutil.copytree(ROOT / "src", Path(folder) / "src")
        path = Path(folder) / "src" / "amber_ruler" / file
        text = path.read_text(encoding="utf-8")
        if text.count(old) < 1:
            raise SystemExit(f"{file} no longer holds {old!r}: mend the list of mutants.")
        path.write_text(text.replace(old, new, 1), encoding="utf-8")
        line = [sys.executable, "-m", "pytest", "-q", "-x", "-p", "no:cacheprovider", f"tests/{tests}"]
        env = {**os.environ, "PYTHONPATH": str(Path(folder) / "src")}
        found = subprocess.run(line, cwd=ROOT, env=env, capture_output=True, text=True, check=False)
    if found.returncode not in (0, 1):
        raise SystemExit(f"{tests} did not run:\n{found.stdout[-2000:]}{found.stderr[-2000:]}")
    return found.returncode == 0


def main() -> int:
    """Print each mutant's end, and those that survive."""
    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        ends = list(pool.map(survives, MUTANTS))
    for (file, old, new, _), alive in zip(MUTANTS, ends, strict=True):
        print(f"{'SURVIVES' if alive else 'found':9} {file}: {old.splitlines()[0]!r} -> {new.splitlines()[:1]}")
    print(f"{sum(ends)} of {len(MUTANTS)} survive.")
    return int(any(ends))


if __name__ == "__main__":
    sys.exit(main())
