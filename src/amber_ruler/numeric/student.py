"""Student's t distribution, central and noncentral.

The noncentral form is T = (Z + shift) / S with S^2 = chi-square(df) / df. Its tails are integrals over S of
normal tails, all positive, so a trapezoid rule around the integrand's mode keeps relative digits however far out
the tail is (Owen, 1968, gives the integral; the rule's convergence is Poisson's summation formula).
"""

from __future__ import annotations

from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from scipy import special

from amber_ruler.numeric import chisquare, normal
from amber_ruler.numeric.blocks import in_blocks, in_threads
from amber_ruler.numeric.gate import aligned, some
from amber_ruler.numeric.roots import bracketed_root, widened
from amber_ruler.numeric.stirling import expm1_less, stirling_error

if TYPE_CHECKING:
    from numpy.typing import ArrayLike, NDArray

    from amber_ruler.numeric.gate import Floats

_TINY = 1e-320
_SMALL = 16  # rows that are not worth sorting
_BLOCK = 2048  # rows of nodes at a time: they stay in the processor's cache


def cdf(t: ArrayLike, df: ArrayLike) -> Floats:
    """P(T <= t)."""
    t, df = aligned(t, df)
    result = in_threads(special.stdtr, df, t)
    # Near the middle the library rounds t away inside df + t^2; the probability between 0 and t does not.
    middle = np.abs(t) < 1e-3
    if some(middle):
        square = t[middle] ** 2
        half = 0.5 * special.betainc(0.5, df[middle] / 2, square / (df[middle] + square))
        result = np.array(result)
        result[middle] = 0.5 + np.sign(t[middle]) * half
    return result


def sf(t: ArrayLike, df: ArrayLike) -> Floats:
    """P(T > t), without the loss of 1 - cdf."""
    return cdf(np.negative(t), df)


def quantile(p: ArrayLike, df: ArrayLike) -> Floats:
    """The t with P(T <= t) = p."""
    return np.asarray(special.stdtrit(df, p))


def upper_quantile(q: ArrayLike, df: ArrayLike) -> Floats:
    """The t with P(T > t) = q."""
    q, df = aligned(q, df)
    return -in_threads(special.stdtrit, df, q)


def noncentral_cdf(t: ArrayLike, df: ArrayLike, shift: ArrayLike) -> Floats:
    """P(T <= t) for T = (Z + shift) / S."""
    return _noncentral(t, df, shift, upper=False)


def noncentral_sf(t: ArrayLike, df: ArrayLike, shift: ArrayLike) -> Floats:
    """P(T > t) for T = (Z + shift) / S."""
    return _noncentral(t, df, shift, upper=True)


def noncentral_quantile(p: ArrayLike, df: ArrayLike, shift: ArrayLike) -> Floats:
    """The t with P(T <= t) = p."""
    p, df, shift = aligned(p, df, shift)
    return _noncentral_inverse(p, df, shift, upper=False)


def noncentral_upper_quantile(q: ArrayLike, df: ArrayLike, shift: ArrayLike) -> Floats:
    """The t with P(T > t) = q."""
    q, df, shift = aligned(q, df, shift)
    return _noncentral_inverse(q, df, shift, upper=True)


def noncentral_pdf(t: ArrayLike, df: ArrayLike, shift: ArrayLike) -> Floats:
    """Density of T = (Z + shift) / S at t.

    With r^2 = df + t^2 and m = t shift / r, it is the integral over u = r S of u^df exp(-(u - m)^2 / 2), which
    is log-concave: the same mode-centred rule serves.
    """
    t, df, shift = aligned(t, df, shift)
    root = np.sqrt(df + t * t)
    m = t * shift / root
    mode, w = _integrand_mode(m, df)
    area = np.exp(log_area(m, df)) / np.sqrt(mode * mode + df + 1)
    # The large terms in df are gathered first, so that they cancel in the formula and not in the digits.
    gathered = np.log1p((t * t - 1) / (df + 1)) + 2 * w + expm1_less(w)
    peak = -0.5 * (df + 1) * gathered - 0.5 - 0.5 * df * (shift / root) ** 2
    return np.asarray(area * np.sqrt(df / 2) / np.pi * np.exp(peak - stirling_error(df / 2)))


def log_peak(m: Floats, df: Floats) -> Floats:
    """Log of the largest value of u^(df + 1) exp(-(u - m)^2 / 2), and of its width, against those for m = 0."""
    mode, w = _integrand_mode(m, df)
    return np.asarray(-0.5 * (df + 1) * (2 * w + expm1_less(w)) - 0.5 * np.log1p(mode * mode / (df + 1)))


def log_area(m: Floats, df: Floats) -> Floats:
    """Log of the integral of u^df exp(-(u - m)^2 / 2) in units of its largest value and width: nearly a constant."""
    mode, _ = _integrand_mode(m, df)
    width = 1 / np.sqrt(mode * mode + df + 1)
    # log of u^(df + 1) exp(-(u - m)^2 / 2) against its value at the mode, u = mode e^y.
    y = width[..., None] * _SINH
    grow, u0, m_ = np.expm1(y), mode[..., None], m[..., None]
    fall = (df + 1)[..., None] * y - 0.5 * u0 * grow * (u0 * (grow + 2) - 2 * m_)
    return np.asarray(np.log(np.exp(fall) @ _SINH_WEIGHT))


def _integrand_mode(m: Floats, df: Floats) -> tuple[Floats, Floats]:
    """The u at which u^(df + 1) exp(-(u - m)^2 / 2) is largest, and the log of 1 - m / u."""
    far = np.abs(m)
    larger = (far + np.hypot(far, 2 * np.sqrt(df + 1))) / 2
    mode = np.where(m < 0, (df + 1) / larger, larger)
    w = np.where(far < np.sqrt(df + 1), np.log1p(-m / mode), np.log((df + 1) / (mode * mode)))
    return mode, w


def _noncentral_inverse(chance: Floats, df: Floats, shift: Floats, *, upper: bool) -> Floats:
    """The t whose tail has probability `chance`: on log probabilities, with t = sinh(w) to span all magnitudes."""
    sign = -1.0 if upper else 1.0
    with np.errstate(divide="ignore"):
        goal = np.log(chance)

    def miss(w: Floats) -> Floats:
        tail = _noncentral(np.sinh(w), df, shift, upper=upper)
        return np.asarray(sign * (np.log(np.maximum(tail, _TINY)) - goal))

    middle = np.arcsinh(shift)
    t = np.sinh(bracketed_root(miss, *widened(miss, middle - 0.5, middle + 0.5, step=1.0, ends=(-705.0, 705.0))))
    ends = (np.inf, -np.inf) if upper else (-np.inf, np.inf)
    return np.where(chance <= 0, ends[0], np.where(chance >= 1, ends[1], t))


class ShiftBounds(NamedTuple):
    """The shifts at which an observed t would just be too large, or too small."""

    low: Floats
    high: Floats


def shift_bounds(t: ArrayLike, df: ArrayLike, low_tail: float, high_tail: float) -> ShiftBounds:
    """Invert the noncentral t in its shift.

    Returns the shifts with P(T > t | low) = low_tail and P(T <= t | high) = high_tail; a tail of 0 gives an
    infinite bound.
    """
    t, df = aligned(t, df)
    flat_t, flat_df = t.ravel(), df.ravel()
    # P(T > t | shift) = P(-T < -t | -shift): the lower bound is an upper bound of the mirrored problem. Both are
    # sought together, since small arrays cost by the call.
    asked, sign, goal = _sides_of(low_tail, high_tail)
    near = bool(goal.min() > _NEAR_GOAL)
    bounds = np.empty((2, flat_t.size))
    bounds[0], bounds[1] = -np.inf, np.inf
    steep = (np.abs(flat_t) + _REACH) / np.sqrt(2 * flat_df)

    def invert(rows: Any, steepest: Any) -> None:
        some_t, some_df = flat_t[rows], flat_df[rows]
        grid = _central_grid(some_t, some_df, few=bool(steepest <= _SHARPEST_FEW), near=near)
        mirrored = _Grid(sign[..., None] * grid.scaled, grid.weight)
        bounds[asked, rows] = sign * _upper_shift(sign * some_t, some_df, goal, mirrored)

    if flat_t.size <= _SMALL:  # small arrays cost by the step
        invert(slice(None), steep.max())
    else:  # those that a few nodes serve are done together
        order = np.argsort(steep)
        in_blocks(lambda part: invert(order[part], steep[order[part][-1]]), flat_t.size, _BLOCK)
    return ShiftBounds(bounds[0].reshape(t.shape), bounds[1].reshape(t.shape))


@lru_cache(maxsize=64)
def _sides_of(low_tail: float, high_tail: float) -> tuple[Any, Floats, Floats]:
    """Which bounds are asked for, as they index rows, the sign of each one's mirror, and its goal as a normal score."""
    tails = (low_tail, high_tail)
    asked = [side for side in (0, 1) if tails[side] > 0]
    rows = slice(None) if len(asked) == 2 else slice(asked[0], asked[0] + 1)
    return rows, np.array([-1.0, 1.0])[asked, None], normal.quantile(np.array(tails)[asked, None])


def _upper_shift(t: Floats, df: Floats, goal: Floats, grid: _Grid) -> Floats:
    """The shift with P(T <= t) = Phi(goal), a row for each goal."""
    guess, spread = _cornish_fisher_shift(t, df, goal)
    hard = _off_centre(t, df, guess) | (goal < _FAR_GOAL)
    shift = guess
    if not hard.all():
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):  # in the hard ones, which are done below
            shift, settled = _newton_shift(guess, goal, df, grid)
        hard |= ~settled
    if hard.any():
        dfs, goals = np.broadcast_to(df, t.shape), np.broadcast_to(goal, t.shape)
        shift = shift.copy()
        shift[hard] = _bracketed_shift(t[hard], dfs[hard], goals[hard], guess[hard], spread[hard])
    return shift


def _cornish_fisher_shift(t: Floats, df: Floats, goal: Floats) -> tuple[Floats, Floats]:
    """A first guess from the mean, spread and skewness of t S - Z, and that spread."""
    inverse = 1 / df
    mean = 1 - inverse * (0.25 - inverse * (0.03125 + 0.0390625 * inverse))
    least = np.minimum(mean, 1)
    spread = np.sqrt(1 + t * t * (1 - least * least))
    ratio = t / spread
    skewness = 0.25 * ratio * ratio * ratio * inverse * inverse
    return t * mean + spread * (-goal + skewness * (goal * goal - 1) / 6), spread


def _newton_shift(shift: Floats, goal: Floats, df: Floats, grid: _Grid) -> tuple[Floats, NDArray[np.bool_]]:
    """Halley steps on the normal-score scale, where the tail is nearly a straight line in the shift."""
    for _ in range(6):
        argument = grid.scaled - shift[..., None]
        density = argument * argument
        density *= -0.5
        np.exp(density, out=density)
        density *= grid.weight
        chance = np.einsum("kij,ij->ki", special.ndtr(argument), grid.weight)
        score = normal.quantile(np.minimum(np.maximum(chance, 1e-300), 1 - 1e-16))
        # With F = Phi(z): z' = F' / phi(z) and z'' = F'' / phi(z) + z z'^2; the factors sqrt(2 pi) cancel.
        lift = np.exp(0.5 * score * score)
        first = -density.sum(axis=-1) * lift
        second = -np.einsum("kij,kij->ki", argument, density) * lift + score * first**2
        newton = (score - goal) / first
        move = newton / (1 - 0.5 * newton * second / first)
        shift = shift - move
        # The curvature is of order 1/df here, so the next error is of order move^3 / df.
        settled = np.abs(move) ** 3 < 1e-13 * df
        if settled.all():
            break
    return shift, settled


def _bracketed_shift(t: Floats, df: Floats, goal: Floats, guess: Floats, spread: Floats) -> Floats:
    def miss(shift: Floats) -> Floats:
        return goal - normal.quantile(np.maximum(noncentral_cdf(t, df, shift), _TINY))

    near = 0.2 * spread
    low, high = widened(miss, guess - near, guess + near, step=2 * near, ends=(-np.inf, np.inf))
    return bracketed_root(miss, low, high, rtol=1e-15)


class _Grid(NamedTuple):
    scaled: Floats  # t times the nodes of S
    weight: Floats  # their probabilities, summing to 1


def spread_nodes(df: Floats, *, few: bool = False) -> tuple[Floats, Floats]:
    """Nodes of S and their probabilities, a row for each df: a rule for means of smooth functions of S.

    Of functions that change as slowly as powers of S, `few` nodes give the mean as well, where there are many degrees
    of freedom.
    """
    nodes, weights = _central_grid(np.ones(df.shape), df, few=few)
    return nodes, weights


def far_spread_nodes(df: Floats, t: Floats) -> tuple[Floats, Floats]:
    """The same rule for functions that fall like exp(-(t S)^2 / 2) with a t above `FAR`: it goes to where S is small.

    There the density of S times such a function is like the density of a smaller S.
    """
    mode = -0.5 * np.log1p(t * t / df)
    left, right = 75 / df + 12.3 / np.sqrt(df), np.minimum(12.3 / np.sqrt(df), 4.0)
    step = (left + right) / _FAR_NODES
    y = (mode - left)[:, None] + step[:, None] * np.arange(_FAR_NODES + 1)
    log_density = -0.5 * df[:, None] * expm1_less(2 * y) - stirling_error(df / 2)[:, None]
    return np.exp(y), np.exp(log_density) * (step * np.sqrt(df / np.pi))[:, None]


def noncentral_between(critical: ArrayLike, df: ArrayLike, low: ArrayLike, high: ArrayLike) -> Floats:
    """P(low + critical S < Z < high - critical S): both of two opposite one-sided t tests reject.

    The integral over S ends where the two limits meet, so it takes a rule that doesn't mind an end (Owen, 1965,
    gives the integral).
    """
    c, df, low, high = (v[..., None] for v in aligned(critical, df, low, high))
    meet = (high - low) / (2 * c)
    first, last = np.maximum(0.0, 1 - 9 / np.sqrt(df)), np.minimum(1 + 9 / np.sqrt(df), meet)
    y = np.log(np.maximum(first + np.maximum(last - first, 0.0) * _UNIT_NODES, _TINY))
    s = np.exp(y)
    log_density = -0.5 * df * expm1_less(2 * y) - y - stirling_error(df / 2)
    density = np.sqrt(df / np.pi) * np.exp(log_density)
    inside = special.ndtr(high - c * s) - special.ndtr(low + c * s)
    return np.asarray(np.maximum(last - first, 0.0)[..., 0] * ((density * inside) @ _UNIT_WEIGHTS))


_LEGENDRE = np.polynomial.legendre.leggauss(120)
_UNIT_NODES, _UNIT_WEIGHTS = (_LEGENDRE[0] + 1) / 2, _LEGENDRE[1] / 2


# Trapezoid nodes for log S in units of its spread: close to normal from 50 degrees of freedom up; below, a
# longer reach, where y = spread * sinh(u) covers both normal and exponential tails. Phi(t S - shift) rises over y with
# the steepness t / sqrt(2 df), and a step of h then errs by exp(-2 pi^2 / h^2 / (1 + steepness^2)).
_NORMAL = np.arange(-11.55, 9.1, 0.55)
_FEW = np.arange(-10.5, 9.1, 0.75)
_FEWEST = np.arange(-8.25, 8.3, 0.75)  # for tails down to 0.001, whose integrand lies nearer to the middle
_NEAR_GOAL = -3.1
_STEP = 0.075
_U = np.arange(-5.5, 3.31, _STEP)
_SINH = np.sinh(_U)
_SINH_WEIGHT = _STEP * np.cosh(_U)
_NORMAL_DF = 50.0
_SHARPEST, _SHARPEST_NORMAL, _SHARPEST_FEW = 8.0, 1.0, 0.31  # steepness from which nodes would be too far apart
_FAR_GOAL = -5.6  # from tails of 1e-8 on Newton's steps would lose digits
FAR, _FAR_NODES = 20.0, 600
_REACH = 7.0  # by which a shift may differ from t until then


def _central_grid(t: Floats, df: Floats, *, few: bool = False, near: bool = False) -> _Grid:
    """Nodes where S itself is; enough while the tail is not far out."""
    spread = np.sqrt(2 * df)
    normal_like = df.min() >= _NORMAL_DF
    few_are_enough = few and normal_like
    y = ((_FEWEST if near else _FEW) if few_are_enough else _NORMAL if normal_like else _SINH) / spread[:, None]
    with np.errstate(over="ignore"):
        excess = expm1_less(2 * y) if df.max() > 1e5 else np.expm1(2 * y) - 2 * y
        weight = np.exp(-0.5 * df[:, None] * excess)
    if not normal_like:
        weight = weight * _SINH_WEIGHT
    return _Grid(t[:, None] * np.exp(y), weight / weight.sum(axis=1, keepdims=True))


def _off_centre(t: Floats, df: Floats, shift: Floats) -> NDArray[np.bool_]:
    """Whether Phi(t S - shift) turns over too sharply for the central nodes where it does, at S = shift / t."""
    steep = np.maximum(np.abs(t), np.abs(shift)) / np.sqrt(2 * df)
    if df.min() >= _NORMAL_DF:
        return steep > _SHARPEST_NORMAL
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        edge = np.where(t * shift > 0, np.log(shift / t) * np.sqrt(2 * df), 0.0)
        # Away from the middle the nodes of the long reach lie further apart, by cosh(arcsinh(edge)).
        long_reach = steep * np.sqrt(1 + edge * edge) > _SHARPEST
    return np.where(df < _NORMAL_DF, long_reach, steep > _SHARPEST_NORMAL)


def _noncentral(t: ArrayLike, df: ArrayLike, shift: ArrayLike, *, upper: bool) -> Floats:
    t, df, shift = aligned(t, df, shift)
    shape = t.shape
    t, df, shift = t.ravel(), df.ravel(), shift.ravel()
    sign = -1.0 if upper else 1.0
    a, b = sign * t, sign * shift  # the tail is E of Phi(a S - b)
    result = np.empty(t.shape)
    # Few and many degrees of freedom take different nodes.
    many = df >= _NORMAL_DF
    for rows in (np.flatnonzero(many), np.flatnonzero(~many)):
        for start in range(0, rows.size, _BLOCK):
            part = rows[start : start + _BLOCK]
            grid = _central_grid(a[part], df[part])
            result[part] = np.einsum("ij,ij->i", special.ndtr(grid.scaled - b[part, None]), grid.weight)
    # Phi(t S - shift) is a sharp edge in S, but a shift is beyond any normal deviate: integrate over Z instead.
    apart = (np.abs(shift) >= _NO_DEVIATE) & (np.abs(t) > np.sqrt(2 * df))
    if np.any(apart):
        result[apart] = _over_deviates(a[apart], df[apart], b[apart])
    # Neither S nor a normal deviate makes up for a shift as large as this.
    settled = np.abs(shift) > _BEYOND * (1 + np.abs(t))
    result[settled] = np.where(b[settled] < 0, 1.0, 0.0)
    # Elsewhere further out the nodes go to where the integrand is.
    rest = np.flatnonzero(~(apart | settled) & (_off_centre(t, df, shift) | (result < 1e-10)))
    if rest.size:
        # The small tail's integrand peaks at the edge of Phi, so its nodes resolve that edge: take that one.
        turn = np.where(b[rest] < a[rest], -1.0, 1.0)
        tail = _mode_centred(turn * a[rest], df[rest], turn * b[rest])
        result[rest] = np.where(turn < 0, 1 - tail, tail)
    return np.asarray(np.minimum(result, 1.0).reshape(shape))


_NO_DEVIATE, _BEYOND = 40.0, 1e4
_DEVIATES = np.arange(-39.2, 39.3, 0.35)
_DEVIATE_WEIGHT = 0.35 * normal.pdf(_DEVIATES)


def _over_deviates(a: Floats, df: Floats, b: Floats) -> Floats:
    """E of Phi(a S - b) = P(a S > b + Z) where abs(b) is so large that b + Z keeps its sign."""
    bound = (b[:, None] + _DEVIATES) / np.where(a == 0, 1.0, a)[:, None]
    square = np.minimum(df[:, None] * bound * bound, 1e300)
    # For a > 0 the event is S > bound, for a < 0 it is S < bound; a bound below 0 settles it either way.
    beyond = np.where(bound > 0, chisquare.sf(square, df[:, None]), 1.0)
    within = np.where(bound > 0, chisquare.cdf(square, df[:, None]), 0.0)
    chance = np.where((a > 0)[:, None], beyond, within)
    certain = np.where(b < 0, 1.0, 0.0)
    return np.where(a == 0, certain, chance @ _DEVIATE_WEIGHT)


def _mode_centred(a: Floats, df: Floats, b: Floats) -> Floats:
    """E of Phi(a S - b), by the trapezoid rule in log S around the integrand's mode."""
    y = _mode(a, df, b)
    s = np.exp(y)
    hazard = _hazard(a * s - b)
    pull = a * s
    curvature = 2 * df * s * s + pull * hazard * (pull * (hazard + a * s - b) - 1)
    width = 1 / np.sqrt(np.maximum(curvature, df * s * s))
    peak = _log_integrand(y, a, df, b)
    # A sharp edge of Phi inside the window asks for closer nodes.
    sharp = np.sqrt(1 + np.max(np.minimum(np.abs(pull) * width, 1e3)) ** 2)
    fine = max(1, int(np.ceil(sharp / 5)))
    step = _STEP / fine
    u = np.arange(_U[0], _U[-1], step)
    nodes = y[:, None] + width[:, None] * np.sinh(u)
    with np.errstate(over="ignore", under="ignore"):
        value = np.exp(_log_integrand(nodes, a[:, None], df[:, None], b[:, None]) - peak[:, None])
    area = width * (value @ (step * np.cosh(u)))
    constant = 0.5 * np.log(df / np.pi) - stirling_error(df / 2)
    return np.asarray(area * np.exp(peak + constant))


def _log_integrand(y: Floats, a: Floats, df: Floats, b: Floats) -> Floats:
    y = np.minimum(y, 300.0)
    with np.errstate(over="ignore"):
        return np.asarray(-0.5 * df * expm1_less(2 * y) + special.log_ndtr(a * np.exp(y) - b))


def _hazard(x: Floats) -> Floats:
    """Density over distribution function of the normal, phi(x) / Phi(x)."""
    return np.asarray(np.sqrt(2 / np.pi) / special.erfcx(-x / np.sqrt(2)))


def _mode(a: Floats, df: Floats, b: Floats) -> Floats:
    """Where S^df exp(-df S^2 / 2) Phi(a S - b), log-concave in S, is largest; as log S."""
    low, high = np.full(a.shape, -690.0), np.full(a.shape, 25.0)
    start = 3 / np.sqrt(df) + 0.1
    for _ in range(70):
        # The first looks are near 0, where the mode usually is.
        y = np.where((low < -start) & (high > start), np.where(low < -500, -start, start), (low + high) / 2)
        s = np.exp(y)
        with np.errstate(over="ignore"):
            slope = -df * np.expm1(2 * y) + a * s * _hazard(a * s - b)
        low, high = np.where(slope > 0, y, low), np.where(slope > 0, high, y)
        if np.all(high - low < 1e-3 / np.sqrt(df)):
            break
    return np.asarray((low + high) / 2)
