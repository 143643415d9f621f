"""Two or three factors at once: main effects, interactions, and what they are in each cell."""

from __future__ import annotations

import math
from dataclasses import dataclass
from itertools import combinations, product
from typing import TYPE_CHECKING, ClassVar, Literal

import numpy as np

from amber_ruler import effects
from amber_ruler.errors import DataError, InputError
from amber_ruler.measure import checks
from amber_ruler.measure.groups import named, reduced, uneven_spreads, values_by_label
from amber_ruler.numeric import fisher, gate, student
from amber_ruler.results import Check, Group, Result, SquaresRow
from amber_ruler.samples import JOINT

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from numpy.typing import NDArray

    from amber_ruler.numeric.gate import Floats
    from amber_ruler.samples import MeanGroup

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
    how : "II", "III" or "sequential"
        Which question the sums of squares answer.
    """

    kind: ClassVar[str] = "factors"

    metric: str
    alpha: float
    names: tuple[str, ...]
    levels: tuple[tuple[str, ...], ...]
    squares: tuple[SquaresRow, ...]
    groups: tuple[Group, ...]
    cells: tuple[tuple[str, ...], ...]
    away: tuple[float, ...]
    how: str

    @property
    def p_values(self) -> dict[str, float]:
        """The p-value of each term."""
        return {row.label: row.p_value for row in self.squares if row.p_value is not None}

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
                _tested(f"{of} in {JOINT.join(within)}", between, len(mine) - 1, rest.squares, rest.df, self.alpha)
            )
        return tuple(found)


def factors(
    cells: Mapping[str, MeanGroup] | Mapping[tuple[str, ...], MeanGroup],
    *,
    names: Sequence[str] | None = None,
    kind: Literal["II", "III", "sequential"] = "II",
    interaction: bool = True,
    alpha: float = 0.05,
    metric: str | None = None,
) -> Factors:
    """What do two or three factors do, each by itself and together?

    Parameters
    ----------
    cells : mapping of cell to group
        A cell is a tuple of levels, or its text such as "Amble · spring", as `table.split(value, by=[…])` and
        `table.moments(value, by=[…])` give it. A group is array_like, Sample, Summary or Moments.
    names : sequence of str, optional
        What the factors are called.
    kind : "II", "III" or "sequential"
        Which question is asked where cells are not equally full. II: what each factor adds to the others, interactions
        that hold it aside (the default: it has most power where there is no interaction). III: its effect averaged over
        cells that count alike. sequential: what each adds to those before it.
    interaction : bool
        Whether the factors may act together; without it one unit in each cell is enough.
    alpha : float, between 0 and 0.5
        Error rate of each test.
    metric : str, optional
        What was measured, for the heading.

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
    their numbers, means and spreads. Where all cells are equally full the three kinds agree.

    References
    ----------
    .. [1] Yates (1934), Journal of the American Statistical Association 29, 51-66, for unequal numbers.
    .. [2] Langsrud (2003), Statistics and Computing 13, 163-167, for type II.

    Examples
    --------
    >>> from amber_ruler import Summary
    >>> r = factors({("Amble", "spring"): Summary(10, 9, 3), ("Amble", "winter"): Summary(10, 12, 3),
    ...              ("Brae", "spring"): Summary(10, 10, 3), ("Brae", "winter"): Summary(10, 17, 3)},
    ...             names=("route", "season"))
    >>> {term: round(p, 4) for term, p in r.p_values.items()}
    {'route': 0.0032, 'season': 0.0, 'route × season': 0.042}
    """
    effects.tails(alpha, "two-sided")
    gate.choice("kind", kind, _ASKED)
    keyed, names = _keyed(cells, names)
    levels = tuple(tuple(dict.fromkeys(cell[k] for cell in keyed)) for k in range(len(names)))
    for name, known in zip(names, levels, strict=True):
        if len(known) < 2:
            raise InputError(f"{name!r} has one level only, {known[0]!r}: leave it out.")
    r = reduced({JOINT.join(cell): group for cell, group in keyed.items()})
    empty = [cell for cell in product(*levels) if cell not in keyed]
    if empty and kind == "III":
        raise DataError(
            f"The cell {JOINT.join(empty[0])!r} is empty ({len(empty)} such): type III averages over all cells. Ask for"
            " kind='II', or leave a level out."
        )
    terms = [c for size in range(1, len(names) + 1) for c in combinations(range(len(names)), size)]
    if not interaction:
        terms = terms[: len(names)]
    columns = _coded(list(keyed), levels, terms)
    root, away = np.sqrt(r.n), r.away

    def left(these: list[tuple[int, ...]]) -> tuple[float, int]:
        """What a model of the cells leaves, and its rank."""
        design = np.column_stack([np.ones(r.n.size), *(columns[t] for t in these)]) * root[:, None]
        basis, size, _ = np.linalg.svd(design, full_matrices=False)
        basis = basis[:, size > size[0] * 1e-10]
        rest = root * away - basis @ (basis.T @ (root * away))
        return float(rest @ rest), basis.shape[1]

    lack, rank = left(terms)
    within = float((r.n - 1) @ r.sd**2) + (0.0 if interaction else lack)
    df = float(r.n.sum()) - rank
    if df <= 0:
        raise DataError("With one unit in each cell nothing tells the spread: take interaction=False.")
    if within <= 0:
        raise DataError("Within each cell all values are equal: without any spread there is no test.")
    rows = []
    for place, term in enumerate(terms):
        if kind == "sequential":
            base = terms[:place]
        elif kind == "III":
            base = [t for t in terms if t != term]
        else:
            base = [t for t in terms if not set(term) <= set(t)]
        (before, few), (after, many) = left(base), left([*base, term])
        name = " × ".join(names[k] for k in term)
        if many > few:
            rows.append(_tested(name, max(before - after, 0.0), many - few, within, df, alpha))
    rows.append(SquaresRow("within cells" if interaction else "left", within, df))
    total = float(r.n @ (away - r.n @ away / r.n.sum()) ** 2) + float((r.n - 1) @ r.sd**2)
    rows.append(SquaresRow("in total", total, float(r.n.sum()) - 1))
    reach = float(student.upper_quantile(alpha / 2, df)) * math.sqrt(within / df) / root
    groups = tuple(
        Group(label, n, m, sd, math.sqrt(within / df / n), {"low": m - d, "high": m + d})
        for label, n, m, sd, d in zip(r.labels, *(v.tolist() for v in (r.n, r.mean, r.sd, reach)), strict=True)
    )
    full = not empty and len(set(r.n.tolist())) == 1
    values = values_by_label(dict(zip(r.labels, keyed.values(), strict=True)))
    name = named(metric, r.summaries)
    return Factors(
        title=f"{name} by {', '.join(names[:-1])} and {names[-1]}",
        method=f"analysis of variance with {len(names)} factors" + ("" if full else f", {_WORDS[kind]}"),
        source=_SOURCE,
        metric=name,
        alpha=alpha,
        names=tuple(names),
        levels=levels,
        squares=tuple(rows),
        groups=groups,
        cells=tuple(keyed),
        away=tuple(away.tolist()),
        how=kind,
        checks=(
            *_few(df),
            *uneven_spreads(r, values),
            *checks.missing(*r.summaries),
        ),
        notes=(
            *(("All cells are equally full: types II, III and sequential agree.",) if full else (_ASKED[kind],)),
            *((f"{len(empty)} of the cells are empty, such as {JOINT.join(empty[0])}.",) if empty else ()),
        ),
    )


def _few(df: float) -> tuple[Check, ...]:
    if df >= 20:
        return ()
    advice = "With so few, p and intervals rest on values that are roughly normal: look at them."
    return (Check("units", f"{df:.0f} degrees of freedom are left to tell the spread from", advice, "note"),)


def _keyed(
    cells: Mapping[str, MeanGroup] | Mapping[tuple[str, ...], MeanGroup], names: Sequence[str] | None
) -> tuple[dict[tuple[str, ...], MeanGroup], tuple[str, ...]]:
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


def _tested(label: str, between: float, df: float, within: float, df_within: float, alpha: float) -> SquaresRow:
    f = between / df / (within / df_within)
    p = float(fisher.sf(f, df, df_within))
    return SquaresRow(label, between, float(df), f, p, effects.from_f(f, df, df_within, alpha=alpha))
