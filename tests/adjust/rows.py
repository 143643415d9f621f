"""Made-up rows that the tests of adjustments share, and least squares written out."""

import numpy as np

from amber_ruler import Records

LABELS = ("short", "current")


def arms(n=(34, 41), seed=3, *, shift=0.0, clusters=8, gaps=False, spanning=False):
    """Rows with a skewed metric, two covariates, strata, clusters of uneven sizes, a denominator, marks and weights."""
    rng = np.random.default_rng(seed)
    found = []
    for k, (size, label) in enumerate(zip(n, LABELS, strict=True)):
        who = np.sort(rng.integers(0, clusters, size)) + (0 if spanning else 100 * k)
        x, z = rng.normal(10, 3, size) + shift, rng.gamma(2, 2, size)
        y = (
            0.5 * (1 - k)
            + 0.8 * (x - shift)
            + 0.3 * z
            + rng.normal(0, 1 + 0.3 * z)
            + rng.normal(0, 1, 300)[who]
            + shift
        )
        columns = {
            "fare": y, "prior": np.where(rng.random(size) < 0.2, np.nan, x) if gaps else x, "trips": z,
            "searches": 1.0 + rng.poisson(3, size), "before": 1.0 + rng.poisson(3, size),
            "weight": 0.5 + rng.random(size),
            "used": (rng.random(size) < 0.8 - 0.5 * k).astype(float), "seen": (rng.random(size) < 0.6).astype(float),
            "port": np.array(["Amble", "Gullhaven", "Tern Quay"])[rng.integers(0, 3, size)],
            "who": np.array([f"t{w}" for w in who]),
        }  # fmt: skip
        found.append(Records(columns, label))
    return found


def stacked(both, *names):
    """Columns of both variants, one after the other."""
    return [np.concatenate([a.columns[name] for a in both]) for name in names]


def design(both, covariates, *, interacted):
    """Metric, design matrix (constant, treatment, centred covariates and their products) and what a row is."""
    y = np.concatenate([a.columns["fare"] for a in both])
    d = np.repeat([1.0, 0.0], [len(a) for a in both])
    x = np.column_stack([np.ones_like(y), d])
    for name in covariates:
        c = np.concatenate([a.columns[name] for a in both])
        x = np.column_stack([x, c - c.mean()])
    if interacted:
        x = np.column_stack([x, d[:, None] * x[:, 2:]])
    return y, x


def least_squares(y, x):
    """Coefficients, residuals, the inverse of X'X and the hat matrix."""
    inverse = np.linalg.inv(x.T @ x)
    b = inverse @ x.T @ y
    return b, y - x @ b, inverse, x @ inverse @ x.T
