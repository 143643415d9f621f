"""The same test with less noise: covariates, strata, caps, ratios, clusters, and what each was worth.

Run with: python examples/sharpen.py
"""

import amber_ruler as ar

trips = ar.table(ar.demo.path("travellers"))
columns = ["fare", "booked", "bookings", "searches", "prior_spend", "prior_trips", "home_port", "device"]
rows = trips.records(columns, by="form")
short, current = rows["short"], rows["current"]

# What travellers spent before the test explains a third of the variance of their fares.
sharp = ar.adjust.cuped(short, current, value="fare", covariate=["prior_spend", "prior_trips"], margin=0.30)
print(sharp, "\n")
print(f"As if there were {sharp.adjustment.as_if:.2f} times as many travellers.\n")

# The same by least squares, with each form's own slopes and standard errors that unequal variances don't mislead.
print(ar.adjust.regression(short, current, value="fare", covariate="prior_spend").sentence(), "\n")

# Like with like: stratum by stratum, and whether the effect differs between ports.
print(ar.adjust.strata(short, current, value="fare", strata="home_port"), "\n")

# Everything at once, described once: kept as data, printed in the result.
steps = ar.adjust.steps(cap=0.999, strata="home_port", covariate=["prior_spend", "prior_trips"])
print(steps.to_dict())
print(steps.compare(short, current, value="fare", margin=0.30).sentence(), "\n")

# Bookings per search: travellers were randomised, searches are counted.
print(ar.adjust.ratio(short, current, value="bookings", per="searches", covariate="prior_trips"), "\n")

# Where a difference in fares comes from: more who book, or more from each?
fares = trips.samples("fare", by="form")
print(ar.adjust.two_part(fares["short"], fares["current"]), "\n")

# Many events a traveller: rows taken as independent would give the wrong standard error.
log = ar.table(ar.demo.path("events")).records(["amount", "traveller"], by="form")
print(
    ar.adjust.clusters(log["short"], log["current"], value="amount", cluster="traveller", spanning="allowed").sentence()
)
