"""How adjusted comparisons are told: the steps, what they were worth, the strata, and what stands on the ruler."""

import numpy as np
import pytest

import amber_ruler as ar
from adjust.rows import arms
from amber_ruler import Records
from amber_ruler.report import html
from amber_ruler.report.views.comparison import ruler


def text(r):
    return " ".join(str(r).split())


def test_what_covariates_are_worth_is_said_in_units():
    """The share of variance, how many times as many units that is, and how many more."""
    both = arms((400, 420))
    r = ar.adjust.cuped(*both, value="fare", covariate="prior")
    part = r.adjustment
    assert part.as_if == pytest.approx(1 / (1 - part.variance_removed))
    assert part.units_saved == pytest.approx(820 * (part.as_if - 1), abs=1)
    assert f"as if there were {part.as_if:.2f} times as many units" in text(r)
    assert "correlation 0." in text(r)
    several = ar.adjust.cuped(*both, value="fare", covariate=["prior", "trips"])
    assert "multiple correlation" in text(several)
    assert several.adjustment.variance_removed > part.variance_removed


def test_steps_that_cost_are_not_called_a_gain():
    """Clusters widen the interval; nothing is said of units saved."""
    rng = np.random.default_rng(1)
    both = []
    for k, label in enumerate(("short", "current")):
        who = np.repeat(np.arange(30), 6)
        both.append(Records({"y": rng.normal(size=30)[who] + rng.normal(size=180), "who": who + 100 * k}, label))
    r = ar.adjust.clusters(*both, value="y", cluster="who")
    assert r.adjustment.variance_removed < 0
    assert r.adjustment.units_saved == 0
    grown = np.sqrt(1 - r.adjustment.variance_removed)
    assert f"the standard error is {grown:.2f} times the raw one" in text(r)
    assert "clusters" in text(r)
    assert r.groups[0].more["clusters"] == 30


def test_strata_stand_above_raw_and_adjusted_on_one_ruler():
    """A row for each stratum, then the raw difference, then the adjusted one; the table counts units."""
    r = ar.adjust.strata(*arms((60, 70)), value="fare", strata="port", covariate="prior")
    drawn = ruler(r)
    assert [row.label for row in drawn.rows] == ["Amble", "Gullhaven", "Tern Quay", "raw", "adjusted"]
    assert [row.estimate for row in drawn.rows[3:]] == [r.adjustment.raw.estimate, r.estimate]
    said = text(r)
    assert "no difference of effects by port is shown" in said or "the effects differ by port" in said
    assert "in 3 strata of port" in said
    assert "n short" in said
    page = html(r)
    assert page.count("Gullhaven") >= 2
    ax = r.plot()
    assert [t.get_text() for t in ax.get_yticklabels()] == ["Amble", "Gullhaven", "Tern Quay", "raw", "adjusted"]
    assert ax.get_xlabel() == "← worse   ·   fare, difference   ·   better →"


def test_segments_are_told_once_with_their_sizes():
    """The estimates stand in the table of comparisons; beside the interaction only the numbers of units."""
    r = ar.adjust.segments(*arms((80, 90)), value="fare", segment="port")
    said = str(r)
    assert said.count("difference  ") == 0
    assert "n short" in said
    assert "believe the interaction before any one" in text(r)
    frame = r.to_frame()
    assert {"port", "adjusted", "interaction_p", "shrunken"} <= set(frame)
    assert len(frame) == 3


def test_many_strata_are_cut_and_counted():
    """Twelve in the text; the rest in the result."""
    rng = np.random.default_rng(3)
    both = [
        Records({"y": rng.normal(size=80), "s": [f"port {k:02d}" for k in np.arange(80) % 20]}, label)
        for label in ("short", "current")
    ]
    r = ar.adjust.strata(*both, value="y", strata="s")
    assert "8 more in .strata.effects" in text(r)
    assert np.size(r.strata.effects.estimate) == 20
    assert len(ruler(r).rows) <= 14


def test_labels_and_columns_that_would_do_something_do_nothing():
    """Markup, control characters and formulas in the names of columns, strata and clusters."""
    both = arms((60, 70), clusters=20)
    odd = [
        Records({**a.columns, "<b>&$x^2$": a.columns["fare"], "p\x1b[31m": a.columns["port"]}, label)
        for a, label in zip(both, ("<script>", "$a_b$"), strict=True)
    ]
    r = ar.adjust.strata(*odd, value="<b>&$x^2$", strata="p\x1b[31m")
    assert "\x1b[31m" not in str(r)
    page = html(r)
    assert "<script>" not in page.replace("<script></script>", "")
    assert ar.Result.from_json(r.to_json()) == r
    r.plot().figure.canvas.draw()


@pytest.mark.parametrize("errors", ["cr2", "cr1", "totals", "means"])
def test_clustered_results_name_their_errors(errors):
    """The kind of error in the method; design effect and intraclass correlation in the facts."""
    r = ar.adjust.clusters(*arms((60, 70), clusters=20), value="fare", cluster="who", errors=errors)
    named = {"cr2": "CR2", "cr1": "CR1", "totals": "totals of clusters", "means": "means of clusters"}
    assert named[errors] in r.method
    assert {"design_effect", "icc", "clusters short", "clusters current"} <= set(r.facts)
