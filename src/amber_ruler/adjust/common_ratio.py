"""One ratio of shares for all strata."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple, Unpack

import numpy as np

from amber_ruler import effects
from amber_ruler.adjust.prepared import left_out, rows_of
from amber_ruler.errors import DataError
from amber_ruler.measure import shared
from amber_ruler.moments import Moments
from amber_ruler.numeric import chisquare, gate, normal
from amber_ruler.numeric.gate import Floats
from amber_ruler.register import method
from amber_ruler.results import Check, Comparison, Group
from amber_ruler.samples import Records
from amber_ruler.settings import Tested

_SOURCES = {
    "odds": "Mantel & Haenszel (1959), JNCI 22, 719-748; Robins, Breslow & Greenland (1986), Biometrics 42, 311-323",
    "risk": "Mantel & Haenszel (1959), JNCI 22, 719-748; Greenland & Robins (1985), Biometrics 41, 55-68",
}


class _Tables(NamedTuple):
    """Of each stratum successes and failures of treatment, then of control."""

    a: Floats
    b: Floats
    c: Floats
    d: Floats

    @property
    def n(self) -> Floats:
        """Units."""
        return self.a + self.b + self.c + self.d


@method(
    takes="two",
    needs="share",
    columns=("value", "strata"),
    examples=("travellers.csv --value booked --strata home_port --by form --control current",),
    exempt={
        "broadcast": "rows of one metric are needed",
        "shift": "a ratio changes with what is added to both",
        "rescale": "shares have no unit",
        "null": "the tested value is a ratio",
    },
    defaults={"null": 1.0},
    single=True,
)
def common_ratio(
    treatment: Records,
    control: Records,
    *,
    value: str,
    strata: str,
    ratio: Literal["odds", "risk"] = "odds",
    **asked: Unpack[Tested],
) -> Comparison:
    """How many times as likely is a success in treatment, when like is compared with like, stratum by stratum?

    Parameters
    ----------
    treatment, control : Records
        The rows of each variant.
    value : str
        Column with the metric, of 0 and 1.
    strata : str
        Column with the strata.
    ratio : "odds" or "risk"
        The ratio of odds, or of shares, that is taken to be the same in all strata.
    null : float
        Tested ratio.

    Returns
    -------
    Comparison
        Mantel and Haenszel's common ratio with interval and z on the logarithm. In `facts` the Cochran-Mantel-Haenszel
        chi-square and its p (no correction of continuity), and a test of whether all strata have one ratio: of odds
        Breslow and Day's with Tarone's correction; of shares the squares of the logarithms about their mean, weighted
        by their inverse variances, over strata with successes of both variants. A check says so where they don't.

    Raises
    ------
    DataError
        If a value is neither 0 nor 1, or no stratum has both variants with successes and failures.

    Notes
    -----
    With a, b successes and failures of treatment, c, d those of control and n all of a stratum, the odds ratio is
    Σ ad/n / Σ bc/n with Robins, Breslow and Greenland's variance, which holds for few large and for many small strata;
    the ratio of shares is Σ a(c + d)/n / Σ c(a + b)/n with Greenland and Robins's.

    References
    ----------
    .. [1] Mantel & Haenszel (1959), Journal of the National Cancer Institute 22, 719-748.
    .. [2] Robins, Breslow & Greenland (1986), Biometrics 42, 311-323.
    .. [3] Greenland & Robins (1985), Biometrics 41, 55-68.
    .. [4] Tarone (1985), Biometrika 72, 91-95.
    .. [5] Cochran (1954), Biometrics 10, 101-129, for weighted squares.

    Examples
    --------
    >>> port = ["Amble"] * 40 + ["Tern Quay"] * 40
    >>> one = Records({"booked": [1.0] * 20 + [0.0] * 20 + [1.0] * 10 + [0.0] * 30, "port": port}, "short")
    >>> two = Records({"booked": [1.0] * 14 + [0.0] * 26 + [1.0] * 6 + [0.0] * 34, "port": port}, "current")
    >>> r = common_ratio(one, two, value="booked", strata="port")
    >>> round(r.estimate, 3), round(r.p_value, 3)
    (1.87, 0.081)
    """
    ask = shared.question(asked)
    gate.choice("ratio", ratio, _SOURCES)
    at = float(gate.positive("null", gate.single("null", ask.null)))
    rows = rows_of([treatment, control], [value], [strata])
    tables = _tables(rows.moments([value], by=strata), value)
    log, variance = _odds(tables) if ratio == "odds" else _risks(tables)
    se = float(np.sqrt(variance))
    below, above = effects.critical_z(ask.tail)
    z = (log - np.log(at)) / se
    p = shared.p_value(np.asarray(z), normal.sf, ask.alternative)
    one, two = rows.labels
    name = ask.metric or value
    facts = _associated(tables)
    checks = list(left_out(rows))
    facts |= _alike(tables, float(np.exp(log))) if ratio == "odds" else _alike_risks(tables)
    same, what = facts.get("homogeneity p"), "one ratio of odds" if ratio == "odds" else "one ratio of shares"
    if same is not None and same < ask.alpha:
        finding = f"they differ among the {len(tables.n)} strata of {strata}, p {same:.3g}"
        checks.append(Check(what, finding, "Look at each: adjust.segments.", "warning"))
    elif same is not None:
        checks.append(Check(what, f"no difference among strata, p {same:.3g}"))
    sizes = [(float((t + f).sum()), float(t.sum())) for t, f in ((tables.a, tables.b), (tables.c, tables.d))]
    each = zip(rows.labels, sizes, strict=True)
    groups = tuple(Group(label, n, x / n, se=float(np.sqrt(x / n * (1 - x / n) / n))) for label, (n, x) in each)
    return Comparison(
        title=f"{name}: {one} / {two}, within {strata}",
        method=f"common {'odds ratio' if ratio == 'odds' else 'ratio of shares'} of {len(tables.n)} strata",
        source=_SOURCES[ratio],
        metric=name,
        treatment=one,
        control=two,
        estimate=float(np.exp(log)),
        interval=ask.interval(*np.exp([log - below * se, log + above * se])),
        test=ask.test(np.asarray(p), np.asarray(at), statistic=np.asarray(z), name="z", critical=min(below, above)),
        scale="ratio",
        groups=groups,
        facts=facts,
        quantity="share",
        good=ask.good,
        checks=tuple(checks),
    )


def _tables(each: Sequence[Mapping[str, Moments]], value: str) -> _Tables:
    """Counts of every stratum that has both variants."""
    one, two = each
    found = []
    for level in sorted(set(one) & set(two)):
        cell = []
        for m in (one[level], two[level]):
            if not np.all(m.zero_one()):
                raise DataError(f"Column {value!r} holds other values than 0 and 1: shares are of these.")
            hits = round(m.n * m.mean(value))
            cell += [float(hits), float(m.n - hits)]
        found.append(cell)
    if not found:
        raise DataError("No stratum has units of both variants.")
    tables = _Tables(*np.array(found).T)
    if not (np.any(tables.a * tables.d) and np.any(tables.b * tables.c)):
        raise DataError("No stratum has successes in the one and failures in the other variant, both ways: no ratio.")
    return tables


def _odds(t: _Tables) -> tuple[float, float]:
    """Logarithm of the common odds ratio and its variance."""
    r, s = t.a * t.d / t.n, t.b * t.c / t.n
    p, q = (t.a + t.d) / t.n, (t.b + t.c) / t.n
    top, below = r.sum(), s.sum()
    variance = (p @ r) / (2 * top**2) + (p @ s + q @ r) / (2 * top * below) + (q @ s) / (2 * below**2)
    return float(np.log(top / below)), float(variance)


def _risks(t: _Tables) -> tuple[float, float]:
    """Logarithm of the common ratio of shares and its variance."""
    n1, n0 = t.a + t.b, t.c + t.d
    top, below = float(np.sum(t.a * n0 / t.n)), float(np.sum(t.c * n1 / t.n))
    spread = float(np.sum((n1 * n0 * (t.a + t.c) - t.a * t.c * t.n) / t.n**2))
    return float(np.log(top / below)), spread / (top * below)


def _associated(t: _Tables) -> dict[str, float]:
    """Cochran, Mantel and Haenszel's test of no association within strata."""
    n1, n0, hits, misses = t.a + t.b, t.c + t.d, t.a + t.c, t.b + t.d
    spread = float(np.sum(n1 * n0 * hits * misses / (t.n**2 * np.maximum(t.n - 1, 1))))
    square = float(np.sum(t.a - n1 * hits / t.n)) ** 2 / spread
    return {"cmh chi-square": square, "cmh p": float(chisquare.sf(square, 1))}


def _alike(t: _Tables, odds: float) -> dict[str, float]:
    """Breslow and Day's test that all strata have this odds ratio, with Tarone's correction."""
    n1, hits = t.a + t.b, t.a + t.c
    gap = (t.c + t.d) - hits
    # The successes of treatment that this ratio leads to, with the margins as they are: a quadratic's smaller root, in
    # whichever of its two forms does not cancel.
    middle = odds * (n1 + hits) + gap
    root = np.sqrt(odds**2 * (n1 - hits) ** 2 + 4 * odds * n1 * hits + 2 * odds * gap * (n1 + hits) + gap**2)
    with np.errstate(divide="ignore", invalid="ignore"):
        expected = np.where(middle >= 0, 2 * odds * n1 * hits / (middle + root), (middle - root) / (2 * (odds - 1)))
    with np.errstate(divide="ignore"):
        spread = 1 / (1 / expected + 1 / (n1 - expected) + 1 / (hits - expected) + 1 / (gap + expected))
    some = spread > 0
    away = (t.a - expected)[some]
    square = float(np.sum(away**2 / spread[some]) - away.sum() ** 2 / spread[some].sum())
    df = max(int(some.sum()) - 1, 1)
    return {"homogeneity chi-square": square, "homogeneity p": float(chisquare.sf(max(square, 0.0), df))}


def _alike_risks(t: _Tables) -> dict[str, float]:
    """Squares of the logarithms of the strata's ratios about their mean, weighted by inverse variances."""
    some = (t.a > 0) & (t.c > 0)
    if some.sum() < 2:
        return {}
    a, c, n1, n0 = (v[some] for v in (t.a, t.c, t.a + t.b, t.c + t.d))
    log, variance = np.log(a * n0 / (c * n1)), 1 / a - 1 / n1 + 1 / c - 1 / n0
    if np.any(variance <= 0):
        return {}
    weight = 1 / variance
    square = float(weight @ (log - weight @ log / weight.sum()) ** 2)
    return {"homogeneity chi-square": square, "homogeneity p": float(chisquare.sf(square, int(some.sum()) - 1))}
