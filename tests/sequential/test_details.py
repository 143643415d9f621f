"""What holds the rest up: limits at their ends, levels of very many looks, roots of near lines, words for each end."""

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import plan
from amber_ruler.numeric.roots import nearly_straight
from amber_ruler.sequential import boundaries, monitor, recursion
from truth import mp


@pytest.mark.parametrize("share", [1e-300, 1e-100, 1e-12, 0.025, 0.5, 0.9, 1 - 1e-9])
def test_a_limit_is_found_for_any_share(share):
    """Of the first look a normal quantile; of a density that has lost some of its mass what is left of it."""
    limit = recursion.limit_for(recursion.START, 0.7, share)
    with mp.workdps(30):
        z = mp.findroot(lambda x: mp.log(mp.erfc(x / mp.sqrt(2)) / 2) - mp.log(mp.mpf(share)), limit / 0.7)
    assert limit == pytest.approx(float(0.7 * z), rel=1e-9, abs=1e-12)
    half = recursion.carried(recursion.START, 0.7, -0.5, 0.9, 0.5)
    wanted = share * half.total
    found = recursion.limit_for(half, 0.5, wanted)
    assert recursion.above(half, 0.5, found) == pytest.approx(wanted, rel=1e-8)


def test_secants_settle_on_near_lines_and_say_so_where_they_do_not():
    """Which is what the search by brackets is for."""
    assert nearly_straight(lambda x: 2 * x - 3, 1.0, 2.0) == pytest.approx(1.5, rel=1e-14)
    assert nearly_straight(lambda x: x + 0.1 * np.sin(x) - 2, 2.0, 1.0) == pytest.approx(1.9055509031, abs=1e-9)
    assert nearly_straight(lambda x: 1.0 if x > 0 else -1.0, 5.0, 1.0) is None
    assert nearly_straight(lambda x: x, 1.0, 1e-320) is None


def test_levels_of_very_many_looks_are_read_off_a_grid():
    """Of more than 40 looks all but the last: within a few in 100,000 of their own roots, and on the same side."""
    b = boundaries(50, spending="pocock")
    rng = np.random.default_rng(3)
    z = np.cumsum(rng.normal(size=50)) / np.sqrt(np.arange(1, 51))
    many = b.rule.levels_of(z, b.fractions, b.fractions)
    for k in (7, 20, 38):
        own = b.rule.levels_of(z[: k + 1], b.fractions, b.fractions)[-1]
        assert many[k] == pytest.approx(own, rel=3e-5)
    assert ((many < 0.05) == (np.abs(z) > b.z)).all()


@pytest.mark.parametrize(
    ("how", "z", "decision", "says"),
    [
        ({}, [0.2], "go on", "no boundary is crossed: the test goes on"),
        ({}, [0.2, 3.4], "stop: a difference", "is beyond the boundary of"),
        ({}, [0.2, -3.4], "stop: a difference", "z = −3.400"),
        ({}, [0.2, 0.3, 0.1], "end: no difference shown", "All 3 looks are done"),
        ({"sides": 1, "harm": 0.1}, [-3.0], "stop: harm", "harm is shown"),
        ({"sides": 1, "futility": "pocock"}, [-1.0], "stop: no difference to expect", "may be given up"),
        ({"futility": "pocock", "binding": True}, [0.0], "stop: no difference to expect", "may be given up"),
    ],
)
def test_every_end_has_its_words(how, z, decision, says):
    """In the sentence, the text, the figure and the frame."""
    r = monitor(boundaries(3, **how), z)
    assert r.decision == decision
    assert says in r.sentence()
    assert says in " ".join(str(r).split())
    said = " ".join(t.get_text() for t in r.plot().texts)
    assert decision in said
    assert len(r.to_frame()) == len(z)
    again = ar.Result.from_json(r.to_json())
    assert again == r
    assert again.plot() is not None  # without the plan, which stays in memory


def test_binding_futility_ends_the_test_and_what_follows_is_said():
    """Going on all the same is noted; where it does not bind, a later crossing counts."""
    path = [-1.0, 2.9, 3.0]
    bound = monitor(boundaries(3, sides=1, futility="pocock", binding=True), path)
    assert (bound.decision, bound.stopped_at, bound.crossed_at) == ("stop: no difference to expect", 1, 2)
    assert any("alpha is not kept" in note for note in bound.notes)
    free = monitor(boundaries(3, sides=1, futility="pocock"), path)
    assert (free.decision, free.stopped_at) == ("stop: a difference", 2)
    middle = monitor(boundaries(3, futility="pocock", binding=True), [0.0])
    assert middle.stagewise_p is None
    assert any("no place in stage-wise order" in note for note in middle.notes)


def test_units_of_a_look_are_whole_ones():
    """Rounded up at each look; whole clusters, attrition and unequal groups counted as the plan counts them."""
    answer = (
        plan.TwoMeans(sd=4, ratio=2).with_clusters(10, 0.02).with_attrition(0.1).with_looks(3).sample_size(effect=1)
    )
    looks = answer.looks
    for name, whole in answer.units.items():
        assert looks.units[name][-1] == whole
        assert looks.units[name] == pytest.approx(np.ceil(looks.boundaries.fractions * whole - 1e-9))
    assert looks.totals[-1] == answer.n_total
    assert looks.units["treatment"][-1] == 2 * looks.units["control"][-1]
    assert np.all(np.diff(np.abs(looks.effect)) < 0)
    assert looks.under_planned.power == pytest.approx(answer.power, abs=1e-9)
    assert looks.expected_none > looks.expected_planned
    few = plan.TwoMeans(sd=4).with_looks(12).power(n=6, effect=4.0)
    assert np.isnan(few.looks.effect[0])  # one unit a group has no spread
    assert "-" in str(few)
