"""The ferry's forms weighed both ways: what a test says, and what is believed, side by side.

Run with: python examples/both_ways.py
"""

import amber_ruler as ar

trips = ar.table(ar.demo.path("travellers"))
fares, booked = trips.samples("fare", by="form"), trips.samples("booked", by="form")

# The same question, asked twice. A prior scale of 0.1 expects effects of a tenth of a standard deviation.
tested = ar.measure.means(fares["short"], fares["current"], margin=0.30)
weighed = ar.bayes.means(fares["short"], fares["current"], prior=ar.bayes.Cauchy(0.1), margin=0.30, odds=1)
part = weighed.evidence
for name, r, said in (
    ("test", tested, f"p {tested.p_value:.4f}"),
    ("posterior", weighed, f"better {100 * part.chance_better:.1f}%, Bayes factor {part.bayes_factor:.1f}"),
):
    print(f"{name:9} {r.estimate:6.2f}  {r.interval.low:5.2f} to {r.interval.high:5.2f}  {said}")
print(weighed.sentence(), "\n")

# Does the prior drive the answer?
print(weighed.across_priors().sentence())
listed = weighed.across_priors(priors=[ar.bayes.Cauchy(0.05), ar.bayes.Cauchy(0.1), ar.bayes.Cauchy(1)])
print(listed.sentence(), "\n")

# Bookings: both forms at once, and what choosing each would cost for a season of 50,000 travellers.
print(ar.bayes.best_proportion(booked), "\n")
choice = ar.bayes.proportions(booked["guided"], booked["current"])
print(ar.bayes.decide(choice, horizon=50_000, cost=0.02), "\n")

# What earlier seasons say of a next form: shrunken towards each other, then the prior of the next test.
past = ar.bayes.shrink([0.31, 0.12, -0.05, 0.22], [0.12, 0.08, 0.10, 0.15], labels=("March", "April", "May", "June"))
print(past, "\n")
print(ar.bayes.evidence(0.35, 0.12, prior=ar.bayes.prior_from(past)).sentence(), "\n")

# How many travellers would make evidence decisive, and how likely would the test find what is believed?
print(
    ar.plan.Evidence(prior=ar.bayes.HalfNormal(1.5), se=tested.se, n=len(fares["short"])).sample_size(threshold=6), "\n"
)
print(ar.plan.TwoMeans(sd=20).assurance(prior=ar.bayes.Normal(1.0, 0.8), n=4_000).sentence())
