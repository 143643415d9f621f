"""A thousand comparisons in one call, from published numbers, without a loop.

Run with: python examples/a_thousand_segments.py
"""

import numpy as np

import amber_ruler as ar

rng = np.random.default_rng(5)
n = rng.integers(200, 5_000, 1_000)
segments = ar.Axis("segment", tuple(f"segment {k}" for k in range(1, 1_001)))
short = ar.Summary(n=n, mean=rng.normal(14.1, 0.6, 1_000), sd=20.0, label="short", axis=segments)
current = ar.Summary(n=n, mean=14.0, sd=20.0, label="current")

every = ar.measure.means(short, current, metric="fare by segment")
print(every)
standing = ar.multiplicity.correct(every, method="benjamini-hochberg")
print(standing.sentence())
print(standing.to_frame().query("stands")[["segment", "estimate", "low", "high", "adjusted"]].head())
