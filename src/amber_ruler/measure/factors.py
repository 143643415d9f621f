"""Two or three factors at once: main effects, interactions, and what they are in each cell."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, product
from typing import Literal, NamedTuple, Unpack

import numpy as np
from numpy.typing import NDArray

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks, shared
from amber_ruler.measure.groups.reduced import Reduced, uneven_spreads
from amber_ruler.numeric import fisher, gate, student
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Check, Group, Result, SquaresRow
from amber_ruler.samples import MeanGroup
from amber_ruler.samples import gate as groups
from amber_ruler.samples.held import JOINT
from amber_ruler.settings import Named

_ASKED = {
    "II": "Type II: what each factor adds to the others, where the interactions that hold it are left aside.",
    "III": "Type III: what each factor does on average over cells that all count alike, however full they are.",
    "sequential": "Sequential: what each factor adds to those named before it; another order gives another answer.",
}
_WORDS = {"II": "type II", "III": "type III", "sequential": "sequential"}
_SOURCE = "Fisher (1925), Statistical Methods for Research Workers; Yates (1934), JASA 29, 51-66"


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Factors(Result):
    """Factors, their interactions and the cells.

    Attributes
    ----------
    metric : str
        What was measured.
    alpha : float
        Error rate of each test; intervals have level 1 - alpha.
    names : tuple of str
        The factors.
    levels : tuple of tuple of str
        The levels of each factor.
    squares : tuple of SquaresRow
        A row for each term with F, p and in `effects` the partial η², ω² and Cohen f with intervals; then what is left.
    groups : tuple of Group
        The cells that hold units; `more` has the limits of each mean, from the spread that all share.
    cells : tuple of tuple of str
        The levels of each of these cells.
    away : tuple of float
        Each cell's mean less the first one, with the digits that the means themselves round away.
    asked_for : "II", "III" or "sequential"
        Which question the sums of squares answer.
    """

    metric: str
    alpha: float
    names: tuple[str, ...]
    levels: tuple[tuple[str, ...], ...]
    squares: tuple[SquaresRow, ...]
    groups: tuple[Group, ...]
    cells: tuple[tuple[str, ...], ...]
    away: tuple[float, ...]
    asked_for: str

    @property
    def p_values(self) -> dict[str, float]:
        """The p-value of each term."""
        return {row.label: row.p_value for row in self.squares if row.p_value is not None}

    @property
    def by_cell(self) -> dict[tuple[str, ...], Group]:
        """Each cell that holds units, by its levels; the frame of the result has a row for each term."""
        return dict(zip(self.cells, self.groups, strict=True))

    def simple(self, of: str) -> tuple[SquaresRow, ...]:
        """What does one factor do within each level of the others, by the spread that all cells share?

        Parameters
        ----------
        of : str
            The factor.

        Returns
        -------
        tuple of SquaresRow
            The p-values are not corrected for their number.
        """
        gate.choice("of", of, self.names)
        at = self.names.index(of)
        rest = self.squares[-2]
        found = []
        others = [k for k in range(len(self.names)) if k != at]
        for within in product(*(self.levels[k] for k in others)):
            mine = [i for i, cell in enumerate(self.cells) if tuple(cell[k] for k in others) == within]
            if len(mine) < 2:
                continue
            n, mean = np.array([float(self.groups[i].n) for i in mine]), np.array([self.away[i] for i in mine])
            between = float(n @ (mean - n @ mean / n.sum()) ** 2)
            found.append(
                _tested(
                    f"{of} in {JOINT.join(within)}", between, len(mine) - 1, rest.squares, rest.df, n.sum(), self.alpha
                )
            )
        return tuple(found)


@method(
    takes="factors",
    needs="mean",
    examples=(
        "crossings.csv --value delay --by route,season",
        "crossings.csv --value delay --by route,season --squares III --figure delays.png",
    ),
)
def factors(
    cells: Mapping[str, MeanGroup] | Mapping[tuple[str, ...], MeanGroup],
    *,
    names: Sequence[str] | None = None,
    squares: Literal["II", "III", "sequential"] = "II",
    terms: Literal["interactions", "main"] = "interactions",
    **asked: Unpack[Named],
) -> Factors:
    """What do two or three factors do, each by itself and together?

    Parameters
    ----------
    cells : mapping of cell to group
        A cell is a tuple of levels, or its text such as "Amble · spring", as `table.samples(value, by=[…])` and
        `table.moments(value, by=[…])` give it. A group is array_like, Sample, Summary or Moments.
    names : sequence of str, optional
        What the factors are called.
    squares : "II", "III" or "sequential"
        Which question is asked where cells are not equally full. II: what each factor adds to the others, interactions
        that hold it aside (the default: it has most power where there is no interaction). III: its effect averaged over
        cells that count alike. sequential: what each adds to those before it.
    terms : "interactions" or "main"
        Whether the factors may act together; with main effects only, one unit in each cell is enough.
    alpha : float, between 0 and 0.5
        Error rate of each test.

    Returns
    -------
    Factors

    Raises
    ------
    DataError
        If nothing is left to tell the spread from, or cells are empty that the question needs.
    InputError
        If cells don't name two or three factors with at least two levels each.

    Notes
    -----
    Every sum of squares is the difference between the residuals of two least-squares models. Cells are all it takes:
    their numbers, means and spreads. Where all cells are equally full the three kinds agree. Partial η², ω² (cut at 0)
    and f have limits from a noncentrality of f² times all values [3]_; for the effects within one level, times its own.

    References
    ----------
    .. [1] Yates (1934), Journal of the American Statistical Association 29, 51-66, for unequal numbers.
    .. [2] Langsrud (2003), Statistics and Computing 13, 163-167, for type II.
    .. [3] Olejnik & Algina (2003), Psychological Methods 8, 434-447.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = factors({("Amble", "spring"): Summary(10, 9, 3), ("Amble", "winter"): Summary(10, 12, 3),
    ...              ("Brae", "spring"): Summary(10, 10, 3), ("Brae", "winter"): Summary(10, 17, 3)},
    ...             names=("route", "season"))
    >>> {term: round(p, 4) for term, p in r.p_values.items()}
    {'route': 0.0032, 'season': 0.0, 'route × season': 0.042}
    """
    ask = shared.question(asked)
    gate.choice("squares", squares, _ASKED)
    together = gate.choice("terms", terms, ("interactions", "main")) == "interactions"
    keyed, names = _keyed(cells, names)
    levels = _levels(list(keyed), names)
    r = Reduced.of(groups.several({JOINT.join(cell): group for cell, group in keyed.items()}, "mean"))
    empty = [JOINT.join(cell) for cell in product(*levels) if cell not in keyed]
    if empty and squares == "III":
        raise DataError(
            f"The cell {empty[0]!r} is empty ({len(empty)} such): type III averages over all cells. Ask for"
            " squares='II', or leave a level out."
        )
    every = [c for size in range(1, len(names) + 1) for c in combinations(range(len(names)), size)]
    model = _Model.of(r, list(keyed), levels, every if together else every[: len(names)])
    lack, rank = model.left(model.terms)
    within = float((r.n - 1) @ r.sd**2) + (0.0 if together else lack)
    df = float(r.n.sum()) - rank
    if df <= 0:
        raise DataError("With one unit in each cell nothing tells the spread: take terms='main'.")
    if within <= 0:
        raise DataError("Within each cell all values are equal: without any spread there is no test.")
    total = float(r.n @ (r.away - r.n @ r.away / r.n.sum()) ** 2) + float((r.n - 1) @ r.sd**2)
    spread = math.sqrt(within / df)
    reach = float(student.upper_quantile(ask.alpha / 2, df)) * spread / np.sqrt(r.n)
    full = not empty and len(set(r.n.tolist())) == 1
    name = groups.named(ask.metric, "value", *r.summaries)
    return Factors(
        title=f"{name} by {', '.join(names[:-1])} and {names[-1]}",
        method=f"analysis of variance with {len(names)} factors" + ("" if full else f", {_WORDS[squares]}"),
        source=_SOURCE,
        metric=name,
        alpha=ask.alpha,
        names=tuple(names),
        levels=levels,
        squares=(
            *model.rows(squares, names, within, df, ask.alpha),
            SquaresRow("within cells" if together else "left", within, df),
            SquaresRow("in total", total, float(r.n.sum()) - 1),
        ),
        groups=r.limited(np.full(r.n.size, spread), reach),
        cells=tuple(keyed),
        away=tuple(r.away.tolist()),
        asked_for=squares,
        checks=(
            *_few(df),
            *uneven_spreads(r),
            *checks.skewed(ask.alpha, "two-sided", *r.summaries),
            *checks.missing(*r.summaries),
        ),
        notes=(
            *(("All cells are equally full: types II, III and sequential agree.",) if full else (_ASKED[squares],)),
            *((f"{len(empty)} of the cells are empty, such as {empty[0]}.",) if empty else ()),
        ),
    )


class _Model(NamedTuple):
    """Least squares over the cells."""

    root: Floats
    away: Floats
    terms: list[tuple[int, ...]]
    columns: dict[tuple[int, ...], Floats]

    @classmethod
    def of(
        cls,
        r: Reduced,
        cells: list[tuple[str, ...]],
        levels: tuple[tuple[str, ...], ...],
        terms: list[tuple[int, ...]],
    ) -> _Model:
        return cls(np.sqrt(r.n), r.away, terms, _coded(cells, levels, terms))

    def left(self, these: list[tuple[int, ...]]) -> tuple[float, int]:
        """What a model of the cells leaves, and its rank."""
        design = np.column_stack([np.ones(self.root.size), *(self.columns[t] for t in these)]) * self.root[:, None]
        basis, size, _ = np.linalg.svd(design, full_matrices=False)
        basis = basis[:, size > size[0] * 1e-10]
        rest = self.root * self.away - basis @ (basis.T @ (self.root * self.away))
        return float(rest @ rest), basis.shape[1]

    def rows(self, squares: str, names: Sequence[str], within: float, df: float, alpha: float) -> list[SquaresRow]:
        """A tested row for each term, by the models that the question compares."""
        n, found = float(np.sum(self.root**2)), []
        for place, term in enumerate(self.terms):
            if squares == "sequential":
                base = self.terms[:place]
            elif squares == "III":
                base = [t for t in self.terms if t != term]
            else:
                base = [t for t in self.terms if not set(term) <= set(t)]
            (before, few), (after, many) = self.left(base), self.left([*base, term])
            if many > few:
                name = " × ".join(names[k] for k in term)
                found.append(_tested(name, max(before - after, 0.0), many - few, within, df, n, alpha))
        return found


def _few(df: float) -> tuple[Check, ...]:
    if df >= 20:
        return ()
    advice = "With so few, p and intervals rest on values that are roughly normal: look at them."
    return (Check("units", f"{df:.0f} degrees of freedom are left to tell the spread from", advice, "note"),)


def _levels(cells: list[tuple[str, ...]], names: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    levels = tuple(tuple(dict.fromkeys(cell[k] for cell in cells)) for k in range(len(names)))
    for name, known in zip(names, levels, strict=True):
        if len(known) < 2:
            raise InputError(f"{name!r} has one level only, {known[0]!r}: leave it out.")
    return levels


def _keyed(
    cells: Mapping[str, MeanGroup] | Mapping[tuple[str, ...], MeanGroup], names: Sequence[str] | None
) -> tuple[dict[tuple[str, ...], MeanGroup], tuple[str, ...]]:
    if not isinstance(cells, Mapping):
        raise InputError.rule("cells", type(cells).__name__, "a mapping of cell to group")
    keyed = {tuple(key.split(JOINT)) if isinstance(key, str) else tuple(map(str, key)): g for key, g in cells.items()}
    sizes = {len(key) for key in keyed}
    if len(sizes) != 1 or not sizes <= {2, 3}:
        raise InputError(f"Every cell must name a level of two or three factors; these name {sorted(sizes)}.")
    (size,) = sizes
    known = tuple(str(getattr(cells, "column", "")).split(JOINT))
    found = tuple(names) if names is not None else known if len(known) == size else tuple("ABC"[:size])
    if len(found) != size or len(set(found)) != size:
        raise InputError(f"names must be {size} different ones, got {', '.join(found)}.")
    return keyed, found


def _coded(
    cells: list[tuple[str, ...]], levels: tuple[tuple[str, ...], ...], terms: list[tuple[int, ...]]
) -> dict[tuple[int, ...], Floats]:
    """Columns of each term: effects that sum to zero over the levels, so that type III asks about plain averages."""
    single: list[Floats] = []
    for k, known in enumerate(levels):
        place = np.array([known.index(cell[k]) for cell in cells])
        single.append((place[:, None] == np.arange(len(known) - 1)) * 1.0 - (place == len(known) - 1)[:, None])
    coded: dict[tuple[int, ...], NDArray[np.float64]] = {}
    for term in terms:
        columns = np.ones((len(cells), 1))
        for k in term:
            columns = (columns[:, :, None] * single[k][:, None, :]).reshape(len(cells), -1)
        coded[term] = columns
    return coded


def _tested(
    label: str, between: float, df: float, within: float, df_within: float, n: float, alpha: float
) -> SquaresRow:
    f = between / df / (within / df_within)
    p = float(fisher.sf(f, df, df_within))
    return SquaresRow(label, between, float(df), f, p, effects.from_f(f, df, df_within, n=n, alpha=alpha))
