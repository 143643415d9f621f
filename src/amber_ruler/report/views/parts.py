"""How each part of a measurement is said: lines, the end of a sentence, columns of a frame, rows of the ruler."""

from __future__ import annotations

import math
from typing import Any, Protocol

import numpy as np

from amber_ruler.report import numbers
from amber_ruler.report.blocks import Block, Grid, Lines, RulerRow
from amber_ruler.report.views.measured import amounts, ruler_row
from amber_ruler.results import (
    Adjustment,
    Comparison,
    Correction,
    Draws,
    Evidence,
    Looks,
    Measurement,
    Part,
)


class PartView(Protocol):
    """What a part needs to be seen."""

    def blocks(self, part: Any, result: Measurement) -> list[Block]:
        """Lines in text and HTML."""

    def clause(self, part: Any, result: Measurement) -> str:
        """What it adds to the sentence; may be empty."""

    def columns(self, part: Any) -> dict[str, Any]:
        """Columns of a frame."""


class _Evidence:
    def blocks(self, part: Evidence, result: Measurement) -> list[Block]:
        if np.ndim(part.chance_better):
            return []
        two = isinstance(result, Comparison)
        what = "difference" if two else "effect"
        facts = [
            ("chance that treatment is better" if two else "chance to be better", chance(float(part.chance_better)))
        ]
        for name, said in (
            ("chance_within", "chance to lie within the margin"),
            ("chance_worse", "chance to be worse"),
        ):
            if getattr(part, name) is not None:
                facts.append((said, chance(float(getattr(part, name)))))
        if part.expected_loss is not None:
            facts.append(("expected loss if treatment is chosen", _size(float(part.expected_loss), result)))
        if part.posterior_mean is not None and part.posterior_sd is not None:
            mean, sd = (_size(float(v), result) for v in (part.posterior_mean, part.posterior_sd))
            facts.append(("posterior mean and sd", f"{mean}, {sd}"))
        if part.densest is not None:
            low, high = numbers.together(float(part.densest.low), float(part.densest.high))
            facts.append((f"densest {100 * part.densest.level:g}%", f"{low} to {high}"))
        if part.log_bayes_factor is not None:
            facts.append(
                (
                    f"Bayes factor for a{'n' if what == 'effect' else ''} {what}",
                    factor_text(float(part.log_bayes_factor)),
                )
            )
        if part.chance_none is not None:
            facts.append((f"chance that there is no {what}", chance(float(part.chance_none))))
        return [Grid(("", ""), tuple(facts)), *_scales_said(part)]

    def clause(self, part: Evidence, result: Measurement) -> str:
        better = chance(float(part.chance_better))
        if isinstance(result, Comparison):
            said = f"; {result.treatment} is better with a probability of {better}"
        else:
            side = "above" if result.good == "higher" else "below"
            said = f"; {side} {numbers.number(part.null)} with a probability of {better}"
        if part.log_bayes_factor is None:
            return said
        what = "a difference" if isinstance(result, Comparison) else "an effect"
        return f"{said}; the data are {evidence_words(float(part.log_bayes_factor), what)}"

    def columns(self, part: Evidence) -> dict[str, Any]:
        names = ("chance_better", "expected_loss", "bayes_factor")
        return {name: np.nan if getattr(part, name) is None else getattr(part, name) for name in names}


def _size(value: float, result: Measurement) -> str:
    return f"{numbers.number(100 * value)} pp" if result.percent else numbers.number(value)


def _scales_said(part: Evidence) -> list[Block]:
    """How far the evidence hangs on the prior's scale."""
    if part.best_scale is None or part.best_log_factor is None or part.threshold is None:
        return []
    most = f"At most it is {factor_text(part.best_log_factor)}, with a scale of {numbers.number(part.best_scale)}."
    if part.scales_beyond is None:
        return [Lines((f"The evidence reaches {part.threshold:g} neither way with this prior. {most}",))]
    low, high = part.scales_beyond
    span = f"from {numbers.number(low)} up" if high is None else f"{numbers.number(low)} to {numbers.number(high)}"
    way = f"above {part.threshold:g}" if float(part.log_bayes_factor or 0) > 0 else f"below 1/{part.threshold:g}"
    return [Lines((f"The factor stays {way} for prior scales {span}. {most}",))]


class _Adjustment:
    def blocks(self, part: Adjustment, result: Measurement) -> list[Block]:
        table = []
        for name, one in (("raw", part.raw), ("adjusted", result)):
            value, low, high = amounts(one)
            se = "" if one.se is None else numbers.number(float(one.se))
            p = "" if one.p_value is None else numbers.p_value(float(one.p_value), one.alpha)
            table.append((name, value, low, high, se, p))
        covariates = " and ".join(part.slopes) or "the adjustment"
        together = (
            "" if part.correlation is None else f"correlation {numbers.number(part.correlation)} within variants: "
        )
        worth = (
            f"{together}{covariates} takes away {numbers.percent(part.variance_removed)} of the variance, worth"
            f" {numbers.whole(part.units_saved)} further units"
        )
        return [Grid(("", "difference", "low", "high", "se", "p"), tuple(table)), Lines((worth,))]

    def clause(self, part: Adjustment, result: Measurement) -> str:
        return f"; {' and '.join(part.steps)}"

    def columns(self, part: Adjustment) -> dict[str, Any]:
        raw = {f"raw_{name}": getattr(part.raw, name) for name in ("estimate", "se")}
        raw |= {"raw_low": part.raw.interval.low, "raw_high": part.raw.interval.high}
        return {"adjustment": ", ".join(part.steps), **raw, "variance_removed": part.variance_removed}


class _Correction:
    def blocks(self, part: Correction, result: Measurement) -> list[Block]:
        found: list[Block] = []
        if np.ndim(part.adjusted) == 0:
            family = f" in the family {part.family}" if part.family else ""
            p = numbers.p_value(float(part.adjusted), part.alpha)
            found.append(
                Lines((f"adjusted p {p}   {part.method}, {part.size} comparisons{family}, keeps {part.keeps}",))
            )
        if part.letters:
            rows = sorted(((letters, label) for label, letters in part.letters.items()), key=lambda row: row[0])
            header = ("group", "letters: those who share one do not differ significantly")
            found.append(Grid(header, tuple((label, letters) for letters, label in rows), left=(0, 1)))
        return found

    def clause(self, part: Correction, result: Measurement) -> str:
        p = numbers.p_value(float(part.adjusted), part.alpha)
        return f"; adjusted p {p if p.startswith('<') else f'= {p}'} ({part.method}, {part.size} comparisons)"

    def columns(self, part: Correction) -> dict[str, Any]:
        family = {"family": part.family} if part.family else {}
        return {"adjusted": part.adjusted, "stands": part.stands, "correction": part.method, **family}


class _Looks:
    def blocks(self, part: Looks, result: Measurement) -> list[Block]:
        seen = f"look {part.look} of {part.planned}, {numbers.percent(part.fraction)} of the information"
        beyond = f"boundary ±{numbers.number(part.boundary)}   p of this look alone {numbers.p_value(part.nominal_p)}"
        return [Lines((f"{seen}   {beyond}   {part.decision}",))]

    def clause(self, part: Looks, result: Measurement) -> str:
        return f"; at look {part.look} of {part.planned}: {part.decision}"

    def columns(self, part: Looks) -> dict[str, Any]:
        return {"look": part.look, "fraction": part.fraction, "boundary": part.boundary, "decision": part.decision}


class _Draws:
    def blocks(self, part: Draws, result: Measurement) -> list[Block]:
        seed = "" if part.seed is None else f", seed {part.seed}"
        error = numbers.number(part.error, digits=2)
        return [Lines((f"{part.replicates:,} draws{seed}, Monte-Carlo error {error}",))]

    def clause(self, part: Draws, result: Measurement) -> str:
        return f"; from {part.replicates:,} draws"

    def columns(self, part: Draws) -> dict[str, Any]:
        return {"replicates": part.replicates, "monte_carlo_error": part.error}


VIEWS: dict[type[Part], PartView] = {
    Evidence: _Evidence(),
    Adjustment: _Adjustment(),
    Correction: _Correction(),
    Looks: _Looks(),
    Draws: _Draws(),
}


def blocks(result: Measurement) -> list[Block]:
    """The lines of all parts."""
    return [block for part in result.parts for block in VIEWS[type(part)].blocks(part, result)]


def clauses(result: Measurement) -> list[str]:
    """What the parts add to the sentence."""
    return [VIEWS[type(part)].clause(part, result) for part in result.parts]


def columns(part: Part) -> dict[str, Any]:
    """The part's columns in a frame."""
    return VIEWS[type(part)].columns(part)


def rulers(result: Measurement) -> tuple[RulerRow, ...]:
    """What stands on the ruler beside the result itself: the raw difference of an adjusted one."""
    return () if result.adjustment is None else (ruler_row(result.adjustment.raw, "raw"),)


def standing(result: Comparison, labels: list[str]) -> str:
    """Which of many corrected comparisons stand; of the others nothing is said."""
    part = result.correction
    if part is None:
        return ""
    stands = np.ravel(part.stands)
    what = {"pair": "pairs differ", "variant": f"groups differ from {result.control}"}
    comparisons = f"comparisons {'stands' if stands.sum() == 1 else 'stand'}"
    named = what.get(result.axis.name if result.axis else "", comparisons)
    start = f"{result.metric}: {int(stands.sum())} of {stands.size} {named} after {part.method}"
    found = [label for label, s in zip(labels, stands, strict=True) if s]
    if result.axis is not None and result.axis.name == "variant":
        found = [label.removesuffix(f" − {result.control}") for label in found]
    listed = f": {', '.join(found)}" if 0 < len(found) <= 6 else ""
    alone = [
        g for g, own in part.letters.items() if not any(set(own) & set(o) for k, o in part.letters.items() if k != g)
    ]
    if len(part.letters) > 2 and alone:
        listed += f"; {' and '.join(alone)} from every other group"
    rest = " Of the rest a difference is not shown, nor that there is none." if not stands.all() else ""
    return f"{start}{listed}.{rest}"


def factor_text(log_factor: float) -> str:
    """A Bayes factor, as a power of ten where it is beyond a float."""
    if abs(log_factor) < 650:
        return numbers.number(math.exp(log_factor))
    return f"10^{log_factor / math.log(10):.1f}"


def evidence_words(log_factor: float, what: str = "a difference") -> str:
    """Which way the evidence points, and how far."""
    way = f"{what} than under none" if log_factor >= 0 else f"no {what.split()[1]} than under one"
    return f"{factor_text(abs(log_factor))} times likelier under {way}"


def chance(value: float) -> str:
    """A probability that is never rounded to certainty."""
    if value > 0.9999:
        return "over 99.99%"
    if value < 0.0001:
        return "under 0.01%"
    return f"{100 * value:.2f}%"
