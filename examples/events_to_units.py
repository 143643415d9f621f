"""From the raw event log to a clean table of units, checked before it is believed.

Run with: python examples/events_to_units.py
"""

import amber_ruler as ar
from amber_ruler.tables import any_of, count, total

# The log as it comes: one row an event, some rows doubled, some travellers under two forms.
events = ar.table(ar.demo.path("events"))
print(events.check(by="form", unit="traveller", day="day", metrics=["amount"]), "\n")

# One row a traveller, with what each did. Everyone who was assigned is kept, also those without any event: the log is
# that of the first 1,500 travellers.
assigned = ar.table(ar.demo.path("travellers")).where("traveller", at_most=101_500)
wanted = {"searches": count(event="search"), "spent": total("amount"), "booked": any_of(event="booking")}
units = events.units(unit="traveller", by="form", measures=wanted, assignment=assigned)

# Now the rows are units.
print(units.check(by="form", unit="traveller", metrics=["spent", "booked"]), "\n")
print(units.describe("spent", by="form"), "\n")

# And may be measured.
spent = units.moments("spent", by="form")
print(ar.measure.means(spent["short"], spent["current"]).sentence())
