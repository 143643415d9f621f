"""Delays by route and season, tickets by port, and a family of metrics with an order of testing."""

import amber_ruler as ar

crossings = ar.table(ar.demo.path("crossings"))
by_route = ar.measure.groups(crossings.samples("delay", by="route"))
print(by_route.sentence())
print(by_route.pairwise())
print(by_route.against("Amble", "step-down dunnett").sentence())
print(ar.measure.groups(crossings.samples("delay", by="route"), compare="ranks").sentence())

both = ar.measure.factors(crossings.samples("delay", by=["route", "season"]))
print(both.sentence())
for row in both.simple("season"):
    print(f"  {row.label}: F {row.statistic:.2f}, p {row.p_value:.4f}")

tickets = ar.table(ar.demo.path("tickets")).counts(row="port", column="ticket", count="count")
print(ar.measure.independence(tickets))
print(
    ar.measure.goodness_of_fit(
        dict(zip(tickets.columns, tickets.counts.sum(axis=0), strict=True)), metric="tickets"
    ).sentence()
)

# Complaints and fares may be claimed only once bookings are.
trips = ar.table(ar.demo.path("travellers"))
arms = {metric: trips.moments(metric, by="form") for metric in ("booked", "fare", "complaint")}
p_values = {
    "booked": ar.measure.proportions(arms["booked"]["short"], arms["booked"]["current"]).p_value,
    "fare": ar.measure.means(arms["fare"]["short"], arms["fare"]["current"]).p_value,
    "complaint": ar.measure.proportions(arms["complaint"]["short"], arms["complaint"]["current"]).p_value,
}
passes = {"booked": {"fare": 0.5, "complaint": 0.5}, "fare": {"complaint": 1.0}, "complaint": {"fare": 1.0}}
print(ar.multiplicity.gatekeeping(p_values, weights={"booked": 1.0}, passes=passes))
