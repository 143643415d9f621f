"""The whole day in the library: plan, check, measure, sharpen, look early, weigh, correct.

Run with: python examples/whole_day.py
"""

import amber_ruler as ar

# Before the test: how many travellers for a fare 1.30 higher, when fares spread by about 20?
plan = ar.plan.TwoMeans(sd=20).sample_size(effect=1.30, power=0.8)
print(plan, "\n")

# The test's data: one row a traveller. Any dataframe does as well as a path.
trips = ar.table(ar.demo.path("travellers"))

# Can it be believed?
split = trips.check_split(by="form", planned={"current": 1, "short": 1, "guided": 1})
print(split, "\n")

# Measure: reduce once, compare as often as needed.
fares = trips.moments(["fare", "prior_spend"], by="form")
raw = ar.measure.means(fares["short"].select("fare"), fares["current"].select("fare"), margin=0.30)
print(raw.sentence(), "\n")

# Sharpen with what travellers spent before the test.
sharp = ar.adjust.cuped(fares["short"], fares["current"], value="fare", covariate="prior_spend", margin=0.30)
print(sharp, "\n")

# Was it fair to look every week?
bounds = ar.sequential.boundaries(4)
print(ar.sequential.monitor(bounds, [1.78, 3.18]), "\n")

# What is the evidence, with a prior that expects small effects?
print(ar.bayes.means(fares["short"].select("fare"), fares["current"].select("fare"), prior=ar.bayes.Cauchy(0.1)), "\n")

# Many questions at once: which answers stand?
booked = trips.moments("booked", by="form")
tests = {f"booked, {arm.label}": ar.measure.proportions(arm, base) for arm, base in booked.against("current")}
tests["fare, short"] = sharp
print(ar.multiplicity.correct(tests), "\n")
