"""Time to an event: how long travellers wait until they book again, when some had not by the end of what was seen.

Run with: python examples/until_it_happens.py
"""

import numpy as np

import amber_ruler as ar

# Days until the next booking, made up: the new reminder brings people back sooner. Seen for 20 to 60 days each.
rng = np.random.default_rng(11)


def travellers(label: str, mean: float) -> ar.Records:
    """300 travellers of one variant."""
    back, seen = rng.exponential(mean, 300), rng.uniform(20, 60, 300)
    return ar.Records({"days": np.minimum(back, seen), "booked": (back <= seen).astype(float)}, label)


reminder, current = travellers("reminder", 30.0), travellers("current", 40.0)

# One variant: the share without a booking by each day, the median, the mean up to day 40.
alone = ar.measure.time(current, value="days", event="booked", until=40)
print(alone.sentence(), f"Median {alone.groups[0].more['median']:.1f} days.\n")

# Both: the ratio of hazards with the log-rank test; the difference of mean times needs no proportional hazards.
print(ar.measure.times(reminder, current, value="days", event="booked", until=40))
print(ar.measure.restricted_means(reminder, current, value="days", event="booked", until=40, good="lower").sentence())
