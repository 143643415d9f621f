"""Curves of plans: what is drawn is what the plan says."""

import matplotlib as mpl
import matplotlib.pyplot as plt
import numpy as np
import pytest

from amber_ruler import plan

mpl.use("Agg")


def drawn(axes):
    """Curves with their labels, and the marked points, as arrays of x and y."""
    lines = [(line.get_label(), line.get_xydata()) for line in axes.lines if line.get_linestyle() not in {"None", ""}]
    points = np.vstack([line.get_xydata() for line in axes.lines if line.get_marker() == "o"])
    return lines, points


def test_the_answer_lies_on_its_curve():
    """Power rises along each curve, the chosen point is on the main one, larger effects lie above."""
    answer = plan.TwoMeans(sd=20).sample_size(effect=1.3, power=0.9)
    lines, points = drawn(answer.plot())
    curves = {label: xy for label, xy in lines if label.startswith("effect")}
    assert set(curves) == {"effect 1.30", "effect 0.975", "effect 1.62"}
    for xy in curves.values():
        assert np.all(np.diff(xy[:, 1]) >= 0)
    assert points[0] == pytest.approx([answer.n, answer.power])
    main = curves["effect 1.30"]
    assert np.interp(answer.n, *main.T) == pytest.approx(answer.power, abs=1e-3)
    assert np.all(curves["effect 1.62"][:, 1] >= main[:, 1])


def test_a_grid_marks_its_scenarios():
    """One curve an effect, every scenario a point on it, in the design of that scenario."""
    grid = plan.TwoProportions(baseline=0.2).grid(effect=[0.03, 0.05], baseline=[0.2, 0.4], power=[0.8, 0.9])
    axes = grid.plot()
    lines, points = drawn(axes)
    curves = [xy for label, xy in lines if label.startswith("effect")]
    assert len(curves) == 4
    assert len(points) == 8
    for x, y in points:
        assert min(abs(np.interp(x, *xy.T) - y) for xy in curves) < 5e-3
    assert axes.get_xlabel() == "units in control"


def test_weeks_of_traffic_against_the_detectable_effect():
    """Longer tests find smaller effects; a line for every power, in percentage points for shares."""
    grid = plan.TwoProportions(baseline=0.46).with_traffic(600).grid(weeks=[1, 2, 4, 8], power=[0.8, 0.9])
    axes = grid.plot()
    lines, _ = drawn(axes)
    curves = {label: xy for label, xy in lines if label.startswith("power")}
    assert set(curves) == {"power 80.0%", "power 90.0%"}
    for xy in curves.values():
        assert np.all(np.diff(xy[:, 1]) < 0)
        assert xy[:, 0] == pytest.approx([1, 2, 4, 8])
    assert curves["power 80.0%"][0, 1] == pytest.approx(100 * grid.columns["effect"][0])
    assert "pp" in axes.get_ylabel()


def test_a_width_is_drawn_against_units():
    """The half-width falls along the curve and the answer is marked on it."""
    answer = plan.OneMean(sd=15).sample_size_for_width(half_width=3)
    lines, points = drawn(answer.plot())
    (curve,) = [xy for _, xy in lines]
    assert np.all(np.diff(curve[:, 1]) < 0)
    assert points[0] == pytest.approx([answer.n, answer.half_width])
    assert np.interp(answer.n, *curve.T) == pytest.approx(answer.half_width, rel=2e-2)


@pytest.mark.parametrize(
    "result",
    [
        plan.TwoMeans().with_margin(0.4, "equivalence").sample_size(),
        plan.TwoMeans().with_variants(2).power(effect=0.4, n=90),
        plan.ManyMeans(groups=3).detectable_effect(n=20),
        plan.PairedProportions(discordant=0.4).sample_size(effect=0.2),
        plan.TwoMeans().grid(n=[20, 40, 80]),
        plan.TwoMeans().grid(effect=0.4, n=[20, 40, 80]),
        plan.TwoMeans().grid(effect=[1e-9, 0.4]),
    ],
)
def test_any_plan_can_be_drawn_on_given_axes(result):
    """The caller's axes are used and returned, with a title and something on them."""
    _, axes = plt.subplots()
    assert result.plot(axes) is axes
    assert axes.get_title(loc="left") == result.title
    assert axes.lines
