"""Days that merge: each day's rows become one small JSON, and the sum is measured without them.

Run with: python examples/days_that_merge.py
"""

import pandas as pd

import amber_ruler as ar
from amber_ruler.moments import merge

rows = pd.read_csv(ar.demo.path("travellers"))
stored: dict[str, list[str]] = {"short": [], "current": []}
for _, day in rows.groupby("day"):
    moments = ar.table(day).moments(["fare", "prior_spend"], by="form")
    for form, texts in stored.items():
        texts.append(moments[form].to_json())

short, current = (merge(ar.Moments.from_json(text) for text in stored[form]) for form in ("short", "current"))
print(f"{len(stored['short'])} days, {sum(map(len, stored['short'])):,} bytes for {short.n:,} travellers")
print(ar.adjust.cuped(short, current, value="fare", covariate="prior_spend"))
