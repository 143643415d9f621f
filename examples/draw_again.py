"""A statistic without a formula, drawn again; units dealt out again; and the analysis replayed on the ferry's own past.

Run with: python examples/draw_again.py
"""

import numpy as np

import amber_ruler as ar

trips = ar.table(ar.demo.path("travellers"))
crossings = ar.table(ar.demo.path("crossings"))

# How should sailings be split between two routes, so that the delay of a day varies least? There is no formula for the
# error of that share.
native = crossings.fetched("route", "delay")
routes = list(dict.fromkeys(native["route"]))[:2]
one, two = (native["delay"][native["route"] == route].to_numpy()[:200] for route in routes)
size = min(len(one), len(two))
days = ar.Records({routes[0]: one[:size], routes[1]: two[:size]}, "days")
split = ar.resample.bootstrap(days, statistic="split", value=routes[0], per=routes[1], seed=1)
print(split.sentence(), "\n")

# Regression coefficients, without a word about the errors' distribution.
rows = trips.where("fare", above=0).records(["fare", "prior_spend", "prior_trips"], by="form")["current"]
print(
    ar.resample.bootstrap(rows, statistic="regression", value="fare", covariate=["prior_spend", "prior_trips"], seed=1)
)

# Any function of the rows: the fare that a tenth of those who book exceed, over the median.
fares = trips.where("fare", above=0).samples("fare", by="form")


def spread(values: np.ndarray) -> float:
    """How far the upper tenth is from the middle."""
    return float(np.quantile(values, 0.9) / np.median(values))


r = ar.resample.bootstrap(fares["short"].values, statistic=spread, replicates=1_000, seed=2)
print(r.sentence())
print(ar.resample.jackknife(fares["short"].values[:200], statistic=np.std, top=3), "\n")

# Is there a difference, by no more than how travellers were dealt out?
arms = trips.samples("fare", by="form")
print(ar.resample.permutation(arms["short"], arms["current"], statistic="studentised", seed=3, replicates=2_000), "\n")

# Before the next test: which way to measure fares is sharpest, and can it be trusted on these travellers?
past = trips.where("form", equals="current")
ways = {
    "fare": {},
    "fare, capped": {"value": "fare", "cap": 0.99},
    "fare, with prior spend": {"value": "fare", "covariate": "prior_spend"},
    "fare, both": {"value": "fare", "cap": 0.99, "covariate": "prior_spend"},
}
print(past.replay(ways, runs=1_000, seed=4))

# And the experiment as its file says it: correction, looks and all.
print(ar.Experiment.from_file(ar.demo.experiment()).replay(runs=500, seed=5).sentence())
