"""Plan the next ferry test from last quarter's travellers: nobody types a standard deviation.

Run with: python examples/plan_from_history.py
"""

import amber_ruler as ar

# Last quarter's test is this quarter's history: baseline, spread, skewness and what prior spend explains.
history = ar.table(ar.demo.path("travellers"))
design = ar.plan.design_from(history, "fare", by="form", control="current", covariate="prior_spend")
print(f"fares: {design.baseline:.2f} on average, sd {design.sd:.2f}, skewness {design.skewness:.1f}\n")

# Two new forms against the current one, 700 travellers a day: how long for a lift of 5%?
test = design.with_variants(2, "dunnett").with_traffic(per_day=700)
print(test.sample_size(lift=0.05, power=0.8), "\n")

# The answer is too long? What could be seen in the weeks there are.
print(test.grid(weeks=[2, 4, 6, 8], power=[0.8, 0.9]), "\n")

# An honest check of the formula: draw such data, run the real test, count.
print(design.simulate(lift=0.05, n=2_000, runs=500, seed=1), "\n")

# A colleague reports an effect from a small study: plan for its cautious end, not for what was published.
study = ar.plan.EarlierStudy.of_means(ar.Summary(90, 21, 20, "short"), ar.Summary(90, 14, 20, "current"))
print(study, "\n")
print(study.sample_size(power=0.8), "\n")

# And the share of bookings must not fall by 2 points against the current form: non-inferiority.
booked = ar.plan.design_from(history, "booked", by="form", control="current").with_margin(0.02)
print(booked.sample_size(power=0.9))
