"""Factors against plain least squares over the rows, and what is said of them."""

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import amber_ruler as ar
from amber_ruler import DataError, InputError, Sample, Summary
from amber_ruler.measure import factors, groups
from truth import mp


def design(codes, sizes, terms):
    """Effect-coded columns over rows, term by term."""
    single = [
        np.where(c[:, None] == s - 1, -1.0, c[:, None] == np.arange(s - 1)) for c, s in zip(codes, sizes, strict=True)
    ]
    blocks = [np.ones((len(codes[0]), 1))]
    for term in terms:
        block = np.ones((len(codes[0]), 1))
        for k in term:
            block = np.einsum("ri,rj->rij", block, single[k]).reshape(len(block), -1)
        blocks.append(block)
    return np.column_stack(blocks)


def residual(y, x):
    """Residual sum of squares of plain least squares, and the rank."""
    found, _, rank, _ = np.linalg.lstsq(x, y, rcond=None)
    return float(np.sum((y - x @ found) ** 2)), rank


@settings(max_examples=40, deadline=None)
@given(
    st.integers(0, 10_000), st.sampled_from([(2, 3), (3, 4), (2, 2, 3)]), st.sampled_from(["II", "III", "sequential"])
)
def test_sums_of_squares_are_those_of_least_squares_over_the_rows(seed, sizes, kind):
    """On random designs with unequal cells: every sum of squares is that of two models compared."""
    rng = np.random.default_rng(seed)
    every = np.array(list(np.ndindex(sizes)))
    rows = np.repeat(every, rng.integers(1, 6, len(every)) + (rng.random(len(every)) < 0.3), axis=0)
    rows = np.vstack([rows, every[:2]])  # so that something is left to tell the spread from
    y = rng.normal(size=len(rows)) + rows @ rng.normal(size=len(sizes)) + 40
    codes = list(rows.T)
    cells = {tuple(map(str, cell)): Sample(y[(rows == cell).all(axis=1)], "cell") for cell in every}
    r = factors(cells, squares=kind)
    terms = [c for size in range(1, len(sizes) + 1) for c in combinations(range(len(sizes)), size)]
    whole, rank = residual(y, design(codes, sizes, terms))
    assert r.squares[-2].squares == pytest.approx(whole, rel=1e-9)
    assert r.squares[-2].df == len(y) - rank
    for place, (term, row) in enumerate(zip(terms, r.squares, strict=False)):
        base = {
            "II": [t for t in terms if not set(term) <= set(t)],
            "III": [t for t in terms if t != term],
            "sequential": terms[:place],
        }[kind]
        before, few = residual(y, design(codes, sizes, base))
        after, many = residual(y, design(codes, sizes, [*base, term]))
        f = (before - after) / (many - few) / (whole / (len(y) - rank))
        assert row.squares == pytest.approx(before - after, rel=1e-7, abs=1e-9)
        assert row.df == many - few
        x = row.df * f / (row.df * f + len(y) - rank)
        tail = mp.betainc(row.df / 2, (len(y) - rank) / 2, x, 1, regularized=True)
        assert row.p_value == pytest.approx(float(tail), rel=1e-6, abs=1e-12)


def test_balanced_cells_give_one_answer_and_add_up():
    """All three kinds agree, the squares add up to the total, and one factor alone is the one-way analysis."""
    rng = np.random.default_rng(3)
    cells = {(a, b): Sample(rng.normal(1e9 + (a == "Brae"), 1, 6), "x") for a in ("Amble", "Brae") for b in "xyz"}
    two, three, order = (factors(cells, squares=kind) for kind in ("II", "III", "sequential"))
    for row, other, last in zip(two.squares, three.squares, order.squares, strict=True):
        assert row.squares == pytest.approx(other.squares, rel=1e-8) == pytest.approx(last.squares, rel=1e-8)
    assert sum(row.squares for row in two.squares[:-1]) == pytest.approx(two.squares[-1].squares, rel=1e-8)
    assert "agree" in two.notes[0]
    every = groups({" ".join(k): v for k, v in cells.items()}, variances="equal")
    assert two.squares[-2].squares == pytest.approx(every.squares[1].squares)
    near = factors({k: Sample(v.values - 1e9, "x") for k, v in cells.items()})
    far, close = two.simple("B"), near.simple("B")
    assert [row.statistic for row in far] == pytest.approx([row.statistic for row in close], rel=1e-11)


@pytest.mark.parametrize("kind", ["II", "III"])
def test_the_order_of_factors_and_levels_and_the_unit_say_nothing(kind):
    """Types II and III know no order; another unit rescales squares and limits and leaves F alone."""
    rng = np.random.default_rng(9)
    values = {(a, b): rng.normal(5, 2, 3 + k) for k, (a, b) in enumerate((a, b) for a in "ABC" for b in "xy")}
    r = factors(values, names=("route", "season"), squares=kind)
    turned = factors({(b, a): values[a, b] for a, b in reversed(values)}, names=("season", "route"), squares=kind)
    again = factors({k: 60 * v + 7 for k, v in values.items()}, names=("route", "season"), squares=kind)
    text = factors({" · ".join(k): v for k, v in values.items()}, names=("route", "season"), squares=kind)
    for other, scale in ((turned, 1), (again, 3600), (text, 1)):
        known = {row.label: row for row in other.squares} | {"route × season": other.squares[2]}
        for row in r.squares:
            assert known[row.label].squares == pytest.approx(scale * row.squares, rel=1e-8)
            assert known[row.label].p_value == (None if row.p_value is None else pytest.approx(row.p_value, rel=1e-7))
    assert again.groups[0].more["low"] == pytest.approx(60 * r.groups[0].more["low"] + 7)
    assert r.to_dict()["squares"][0]["effects"]["eta_squared"]["value"] == pytest.approx(
        r.squares[0].squares / (r.squares[0].squares + r.squares[-2].squares)
    )


def test_simple_effects_use_the_spread_of_all_cells():
    """One factor within a level of the other: its own sum of squares over the common spread."""
    cells = {
        (a, b): Summary(n, m, 2.0)
        for (a, b), n, m in zip(
            [("A", "x"), ("A", "y"), ("B", "x"), ("B", "y")], (5, 8, 6, 9), (1, 4, 2, 2), strict=True
        )
    }
    r = factors(cells, names=("route", "season"))
    first, second = r.simple("route")
    assert first.label == "route in x"
    assert first.squares == pytest.approx(5 * 6 / 11 * 1)
    assert first.statistic == pytest.approx(first.squares / 4.0)
    assert second.squares == pytest.approx(8 * 9 / 17 * 4)
    assert r.groups[0].more["high"] - r.groups[0].mean == pytest.approx(2.0638986 * 2 / np.sqrt(5), rel=1e-6)
    with pytest.raises(InputError, match="of"):
        r.simple("port")


def test_one_unit_in_each_cell_and_empty_cells():
    """Without an interaction they do; type III refuses an empty cell, type II says it."""
    single = {
        (a, b): Sample([v], "x")
        for (a, b), v in zip([(a, b) for a in "AB" for b in "xyz"], (1, 2, 4, 2, 5, 5), strict=True)
    }
    with pytest.raises(DataError, match="terms='main'"):
        factors(single)
    r = factors(single, terms="main")
    assert [row.df for row in r.squares] == [1, 2, 2, 5]
    assert r.squares[0].squares == pytest.approx(6 * ((7 - 12) / 6) ** 2)
    assert "act together" not in r.sentence()
    gap = {k: Summary(5, 3.0 + len(k[1]) + (k[0] == "A"), 1) for k in single if k != ("B", "z")}
    assert "1 of the cells are empty" in factors(gap).notes[1]
    with pytest.raises(DataError, match="'B · z' is empty"):
        factors(gap, squares="III")


@pytest.mark.parametrize(
    ("cells", "options", "words"),
    [
        ({("A", "x"): [1, 2], ("A", "y"): [1, 3]}, {}, "one level only"),
        ({"A": [1, 2], "B": [1, 3]}, {}, "two or three factors"),
        ({("A", "x"): [1, 2], ("B",): [1, 3]}, {}, "two or three factors"),
        ({("A", "x"): [1, 2], ("B", "y"): [1, 3]}, {"names": ("a",)}, "2 different ones"),
        ({("A", "x"): [1, 2], ("B", "y"): [1, 3]}, {"squares": "IV"}, "squares"),
    ],
)
def test_bad_input_is_named(cells, options, words):
    """What is wrong with the cells."""
    with pytest.raises(InputError, match=words):
        factors(cells, **options)


def test_the_crossings_show_where_factors_act_together():
    """From the demo table: names from its columns, the sentence warns of averages, the figure has both orientations."""
    r = factors(ar.table(ar.demo.path("crossings")).samples("delay", by=["route", "season"]))
    assert r.names == ("route", "season")
    assert r.p_values["route × season"] < 0.01
    assert "depends on the other" in r.sentence()
    assert "season in Eider" in str(r)
    terms = r.to_frame().set_index("term")
    assert terms.loc["route × season", ["F", "df", "df_within", "p_value"]].tolist() == [
        *(getattr(r.squares[2], part) for part in ("statistic", "df")),
        r.squares[-2].df,
        r.p_values["route × season"],
    ]
    assert r.by_cell["Eider", "winter"].n == 6
    assert "F 8.346, p 4.07e-06" in str(r.simple("route"))
    first = r.plot()
    assert [ax.get_xlabel() for ax in first.figure.axes] == ["route", "season"]
    calm = factors({(a, b): Summary(30, 5.0 + (a == "B"), 1) for a in "AB" for b in "xy"})
    assert calm.sentence().startswith("value: A makes a difference")
