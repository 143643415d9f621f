"""Each question of a measuring day, asked once on the ferry's data."""

import amber_ruler as ar

trips = ar.table(ar.demo.path("travellers"))
fares, minutes = (trips.samples(metric, by="form") for metric in ("fare", "minutes_to_book"))
booked = trips.moments("booked", by="form")
searches = trips.samples("searches", by="form")
vessels = ar.table(ar.demo.path("turnarounds")).pairs("minutes", by="when", unit="vessel", control="before")

answers = [
    ar.measure.means(fares["short"], fares["current"], margin=0.30),
    ar.measure.pairs(vessels, good="lower"),
    ar.measure.proportions(booked["short"], booked["current"]),
    ar.measure.rates(searches["short"], searches["current"]),
    ar.measure.ranks(minutes["short"], minutes["current"], good="lower"),
    ar.measure.signed_ranks(vessels, good="lower"),
    ar.measure.quantiles(minutes["short"], minutes["current"], at=0.9, good="lower"),
    ar.measure.spreads(minutes["short"], minutes["current"]),
    ar.measure.correlation(trips.overall(["fare", "prior_spend"])),
]
for answer in answers:
    print(answer.sentence())
