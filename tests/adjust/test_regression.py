"""Least squares against matrices written out row by row."""

import numpy as np
import pytest

from adjust.rows import arms, design, least_squares
from amber_ruler import DataError, InputError, Moments, Records
from amber_ruler.adjust import regression
from amber_ruler.measure import means

ERRORS = ("hc0", "hc1", "hc2", "hc3", "equal")


@pytest.mark.parametrize("shift", [0.0, 1e6])
@pytest.mark.parametrize("slopes", ["own", "common"])
@pytest.mark.parametrize("errors", ERRORS)
def test_it_is_the_sandwich_written_out(slopes, errors, shift):
    """Estimate, standard error, degrees of freedom by both rules, from the full design matrix."""
    both = arms(shift=shift)
    y, x = design(both, ["prior", "trips"], interacted=slopes == "own")
    b, e, inverse, hat = least_squares(y - shift, x)
    n, k = x.shape
    h = np.diag(hat)
    factor = {"hc0": 1.0, "hc1": n / (n - k), "hc2": 1 / (1 - h), "hc3": 1 / (1 - h) ** 2, "equal": None}[errors]
    spread = e @ e / (n - k) * inverse if errors == "equal" else inverse @ (x.T * (e**2 * factor)) @ x @ inverse
    r = regression(*both, value="fare", covariate=["prior", "trips"], slopes=slopes, errors=errors)
    rel = 1e-10 if shift == 0 else 1e-7
    assert (r.estimate, r.se, r.df) == pytest.approx((b[1], np.sqrt(spread[1, 1]), n - k), rel=rel)
    control = regression(*both[::-1], value="fare", covariate=["prior", "trips"], slopes=slopes, errors=errors)
    assert (control.estimate, control.se) == pytest.approx((-r.estimate, r.se), rel=1e-9)
    if errors == "hc2":
        w = (inverse @ x.T)[1]
        g = (np.eye(n) - hat) * (w / np.sqrt(1 - h))
        df = np.trace(g.T @ g) ** 2 / np.sum((g.T @ g) ** 2)
        r = regression(*both, value="fare", covariate=["prior", "trips"], slopes=slopes, degrees="bell-mccaffrey")
        assert r.df == pytest.approx(df, rel=rel)
    if slopes == "own":
        names = ("prior", "trips")
        apart, covered = b[4:], np.cov(np.column_stack([np.concatenate([a.columns[c] for a in both]) for c in names]).T)
        assert r.facts["se_beyond"] ** 2 == pytest.approx(r.se**2 + apart @ covered @ apart / n, rel=rel * 10)
    # The lift's interval uses the adjusted means: of each variant a functional of the same coefficients.
    ends = np.array([[1, 1, *[0] * (k - 2)], [1, 0, *[0] * (k - 2)]], dtype=float)
    assert [g.mean - shift for g in r.groups] == pytest.approx(ends @ b, rel=rel * 10)
    if not errors.startswith("hc2"):
        assert [g.se for g in r.groups] == pytest.approx(np.sqrt(np.diag(ends @ spread @ ends.T)), rel=rel)


def test_from_moments_with_equal_variances_and_refused_otherwise():
    """What needs residuals says so."""
    both = arms()
    moments = [Moments.from_arrays({c: a.columns[c] for c in ("fare", "prior")}, label=a.label) for a in both]
    one, other = (regression(*g, value="fare", covariate="prior", errors="equal") for g in (both, moments))
    assert (one.estimate, one.se, one.p_value) == pytest.approx((other.estimate, other.se, other.p_value), rel=1e-10)
    with pytest.raises(InputError, match="every row's residual"):
        regression(*moments, value="fare", covariate="prior")


@pytest.mark.parametrize("slopes", ["own", "common"])
def test_gaps_are_filled_and_marked(slopes):
    """As with the filled column and its mark in the design matrix."""
    both = arms(gaps=True)
    filled = []
    for a in both:
        gone = np.isnan(a.columns["prior"])
        more = {"prior": np.where(gone, 7.0, a.columns["prior"]), "gone": gone.astype(float)}
        filled.append(Records({**a.columns, **more}, a.label))
    y, x = design(filled, ["prior", "gone"], interacted=slopes == "own")
    b, e, inverse, hat = least_squares(y, x)
    spread = inverse @ (x.T * (e**2 / (1 - np.diag(hat)))) @ x @ inverse
    r = regression(*both, value="fare", covariate="prior", slopes=slopes)
    assert (r.estimate, r.se) == pytest.approx((b[1], np.sqrt(spread[1, 1])), rel=1e-9)


@pytest.mark.parametrize("unit", [1e-9, 1e7])
@pytest.mark.parametrize("slopes", ["own", "common"])
def test_the_unit_of_a_covariate_does_not_matter(unit, slopes):
    """In millionths or in millions: the same leverages, errors and degrees of freedom."""
    both = arms()
    other = [Records({**a.columns, "prior": a.columns["prior"] * unit}, a.label) for a in both]
    how = {"value": "fare", "covariate": ["prior", "trips"], "slopes": slopes, "degrees": "bell-mccaffrey"}
    one, two = (regression(*g, **how) for g in (both, other))
    assert (two.estimate, two.se, two.df) == pytest.approx((one.estimate, one.se, one.df), rel=1e-9)


def test_laws():
    """A constant added to a covariate changes nothing; a useless one costs its degree of freedom; none is Welch's."""
    both = arms((300, 400))
    moved = [Records({**a.columns, "prior": a.columns["prior"] + 1e6}, a.label) for a in both]
    one, other = (regression(*g, value="fare", covariate="prior") for g in (both, moved))
    assert (one.estimate, one.se) == pytest.approx((other.estimate, other.se), rel=1e-8)
    useless = regression(*both, value="fare", covariate="seen")
    plain = means(*(a.columns["fare"] for a in both))
    assert useless.se == pytest.approx(plain.se, rel=0.01)
    still = [Records({**a.columns, "one": np.ones(len(a))}, a.label) for a in both]
    none = regression(*still, value="fare", covariate="one")
    assert (none.estimate, none.se) == pytest.approx((plain.estimate, plain.se), rel=1e-12)  # HC2 is Welch's variance


def test_what_cant_be_is_refused():
    """Collinear covariates, too few rows, a row that decides alone, degrees that don't fit."""
    both = arms()
    twice = [Records({**a.columns, "twice": 3 * a.columns["prior"]}, a.label) for a in both]
    with pytest.raises(DataError, match="'twice' is a combination of 'prior'"):
        regression(*twice, value="fare", covariate=["prior", "twice"])
    few = [Records({"fare": [1.0, 2, 4], "a": [1.0, 3, 2], "b": [2.0, 1, 1]}, label) for label in ("x", "y")]
    with pytest.raises(DataError, match="too few for 6 coefficients"):
        regression(*few, value="fare", covariate=["a", "b"])
    single = [Records({**a.columns, "one": (np.arange(len(a)) == 3) * 1.0}, a.label) for a in both]
    with pytest.raises(DataError, match="One row alone decides"):
        regression(*single, value="fare", covariate="one")
    with pytest.raises(InputError, match="go with errors='hc2'"):
        regression(*both, value="fare", covariate="prior", errors="hc3", degrees="bell-mccaffrey")
