"""A thousand comparisons in one call, from published numbers, without a loop.

Run with: python examples/a_thousand_segments.py
"""

import numpy as np

import amber_ruler as ar

rng = np.random.default_rng(5)
n = rng.integers(200, 5_000, 1_000)
short = ar.Summary(n=n, mean=rng.normal(14.1, 0.6, 1_000), sd=20.0, label="short")
current = ar.Summary(n=n, mean=14.0, sd=20.0, label="current")

every = ar.measure.means(short, current, metric="fare by segment")
standing = ar.multiplicity.adjust(every.p_value, method="benjamini-hochberg")
print(every)
print(standing.sentence())
