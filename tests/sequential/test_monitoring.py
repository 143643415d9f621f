"""A path held against its boundaries: strictly beyond, on one side or two, with looks that may not stop."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler.sequential import boundaries, monitor


@pytest.mark.parametrize("spending", ["obrien-fleming", "pocock", "power", "hwang-shih-decani"])
@pytest.mark.parametrize("sides", [1, 2])
def test_a_look_stops_beyond_its_boundary_and_not_at_it(spending, sides):
    """As p < alpha everywhere: at the boundary itself the test goes on."""
    b = boundaries(4, spending=spending, sides=sides)
    for k in range(4):
        quiet = [0.0] * k
        at = monitor(b, [*quiet, float(b.z[k])])
        beyond = monitor(b, [*quiet, float(np.nextafter(b.z[k], 9))])
        assert at.crossed_at is None
        assert beyond.crossed_at == k + 1
        low = monitor(b, [*quiet, -float(np.nextafter(b.z[k], 9))])
        assert low.crossed_at == (k + 1 if sides == 2 else None)


def test_a_nominal_p_has_as_many_sides_as_the_boundaries():
    """Below the boundary's own p exactly where z is beyond the boundary."""
    for sides in (1, 2):
        b = boundaries(3, sides=sides)
        for z in (-2.5, 0.3, 1.9, 2.2, 3.9):
            r = monitor(b, [z])
            assert (r.nominal_p[0] < b.p[0]) == (r.crossed_at == 1)


def test_a_look_that_may_not_stop_does_not():
    """However far the path is out."""
    b = boundaries(3, skip=[1])
    assert monitor(b, [9.0]).decision == "go on"
    assert monitor(b, [9.0, 9.0]).crossed_at == 2
    assert "skipped" in str(b)


def test_harm_has_a_boundary_of_its_own():
    """The upper side at alpha, the lower one at its own error; both are drawn."""
    b = boundaries(3, sides=1, alpha=0.025, harm=0.2, spending="pocock")
    assert np.all(-b.lower < b.z)
    z = float(b.lower[0])
    assert monitor(b, [z]).crossed_at is None
    assert monitor(b, [np.nextafter(z, -9)]).crossed_at == 1
    assert b.plot() is not None
    assert ar.Result.from_json(b.to_json()) == b


def test_boundaries_are_told_and_framed_whatever_their_kind():
    """One side, a classical shape, a skipped look: text, frame, JSON and page."""
    kinds = [
        boundaries(4, sides=1),
        boundaries(4, shape="haybittle-peto"),
        boundaries([0.2, 0.7, 1.0], shape="wang-tsiatis", parameter=0.1),
        boundaries(4, spending=lambda t: t**3, skip=[2]),
    ]
    for b in kinds:
        assert str(b).count("\n") > 5
        assert b.sentence() in " ".join(str(b).split())
        frame = b.to_frame()
        assert len(frame) == b.z.size
        assert list(frame["z"]) == b.z.tolist()
        assert ar.Result.from_json(b.to_json()) == b
        assert "<section>" in b._repr_html_()
    assert "Haybittle–Peto" in str(kinds[1])
    assert "one-sided" in str(kinds[0])


def test_adjusted_comparisons_are_looks_as_any_others():
    """A sharpened difference enters by its two-sided p, and keeps its steps beside its place among the looks."""
    trips = ar.table(ar.demo.path("travellers"))
    looks = []
    for day in (7, 14):
        rows = trips.where("day", at_most=day).records(["fare", "prior_spend"], by="form")
        looks.append(ar.adjust.cuped(rows["short"], rows["current"], value="fare", covariate="prior_spend"))
    r = monitor(boundaries(4), looks)
    assert r.z.size == 2
    assert r.latest.looks.look == 2
    assert r.latest.adjustment.steps == looks[1].adjustment.steps
    assert r.latest.estimate == looks[1].estimate
    one_sided = ar.adjust.cuped(
        rows["short"], rows["current"], value="fare", covariate="prior_spend", alternative="greater"
    )
    with pytest.raises(ar.InputError, match="two-sided"):
        monitor(boundaries(4), [one_sided])
