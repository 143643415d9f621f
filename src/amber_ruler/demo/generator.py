"""The made-up ferry company's tables, from one seed, with a planted truth."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.special import ndtr

from amber_ruler.numeric import gate

if TYPE_CHECKING:
    import pandas as pd

SEED = 20_260_312
FORMS = ("current", "guided", "short")
PORTS = ("Gullhaven", "Marrowick", "Saltmarsh", "Tern Quay")
DEVICES = ("desktop", "phone", "tablet")
DAYS = 28

# A traveller's eagerness e is standard normal. They book when e plus noise of the same size passes a
# threshold, which the short form lowers; what they pay then grows with e, before the test as during it.
_BOOK_AT = 0.15
_SHORT_LOWERS = 0.22
_LOG_FARE, _EAGER_PAYS, _FARE_NOISE = 2.9, 0.55, 0.4


def _book_share(lowered: float) -> float:
    return float(ndtr((lowered - _BOOK_AT) / np.sqrt(2)))


def _mean_fare(lowered: float) -> float:
    tilt = float(ndtr((lowered - _BOOK_AT + _EAGER_PAYS) / np.sqrt(2)))
    return float(np.exp(_LOG_FARE + (_EAGER_PAYS**2 + _FARE_NOISE**2) / 2) * tilt)


TRUTH = {
    "short": {
        "booked": _book_share(_SHORT_LOWERS) - _book_share(0.0),
        "fare": _mean_fare(_SHORT_LOWERS) - _mean_fare(0.0),
        "complaint": 0.0,
    },
    "guided": {"booked": 0.0, "fare": 0.0, "complaint": 0.0},
}
"""Planted differences from the current form: shares for booked and complaint, money for fare."""


def generate(travellers: int = 12_000, *, seed: int | np.random.Generator = SEED) -> dict[str, pd.DataFrame]:
    """Make the demo tables.

    Parameters
    ----------
    travellers : int
        Rows of the `travellers` table; the others keep their size.
    seed : int or Generator
        Same seed, same tables.

    Returns
    -------
    dict of str to pandas.DataFrame
        travellers, events, turnarounds, crossings, tickets.

    Examples
    --------
    >>> sorted(generate(100))
    ['crossings', 'events', 'tickets', 'travellers', 'turnarounds']
    """
    rng = np.random.default_rng(seed)
    people = _travellers(int(gate.whole("travellers", travellers, 1)), rng)
    return {
        "travellers": people,
        "events": _events(people.head(1_500), rng),
        "turnarounds": _turnarounds(rng),
        "crossings": _crossings(rng),
        "tickets": _tickets(rng),
    }


def _travellers(n: int, rng: np.random.Generator) -> pd.DataFrame:
    import pandas as pd

    form = rng.choice(FORMS, n)
    eager = rng.normal(size=n)
    lowered = np.where(form == "short", _SHORT_LOWERS, 0.0)
    booked = eager + rng.normal(size=n) > _BOOK_AT - lowered
    fare = np.where(booked, _paid(eager, rng), 0.0)
    before = eager + 0.8 * rng.normal(size=n) > 0.0
    prior_spend = np.where(before, _paid(eager, rng), 0.0)
    bookings = np.where(booked, 1 + rng.poisson(0.25, n), 0)
    minutes = np.exp(rng.normal(np.where(form == "short", 1.55, 1.75), 0.5, n))
    table = pd.DataFrame(
        {
            "traveller": np.arange(100_001, 100_001 + n),
            "form": form,
            "home_port": rng.choice(PORTS, n, p=(0.4, 0.25, 0.2, 0.15)),
            "device": rng.choice(DEVICES, n, p=(0.35, 0.55, 0.1)),
            "day": rng.choice(DAYS, n, p=_week_pattern()) + 1,
            "prior_spend": prior_spend.round(2),
            "prior_trips": np.where(before, 1 + rng.poisson(1.2, n), 0),
            "booked": booked.astype(int),
            "fare": fare.round(2),
            "searches": bookings + rng.poisson(1.5, n),
            "bookings": bookings,
            "minutes_to_book": np.where(booked, minutes.round(2), np.nan),
            "complaint": (rng.random(n) < 0.012).astype(int),
        }
    )
    # Who is new to the company has no history; some browsers do not say what they are.
    table.loc[rng.random(n) < 0.04, ["prior_spend", "prior_trips"]] = np.nan
    table["prior_trips"] = table["prior_trips"].astype("Int64")
    table.loc[rng.random(n) < 0.01, "device"] = None
    return table


def _paid(eager: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    return np.asarray(np.exp(_LOG_FARE + _EAGER_PAYS * eager + _FARE_NOISE * rng.normal(size=eager.size)))


def _week_pattern() -> np.ndarray:
    weight = np.tile([1.0, 0.95, 0.95, 1.0, 1.15, 1.3, 1.2], DAYS // 7)
    return np.asarray(weight / weight.sum())


def _events(people: pd.DataFrame, rng: np.random.Generator) -> pd.DataFrame:
    """The same travellers as a log, with a few faults: two forms for one traveller, doubled rows."""
    import pandas as pd

    rows = []
    for person in people.itertuples():
        rows += [(person.traveller, person.day, person.form, "search", 0.0)] * int(person.searches)
        if person.bookings:
            first = round(person.fare / person.bookings, 2)
            amounts = [first] * (person.bookings - 1) + [round(person.fare - first * (person.bookings - 1), 2)]
            rows += [(person.traveller, person.day, person.form, "booking", amount) for amount in amounts]
    log = pd.DataFrame(rows, columns=["traveller", "day", "form", "event", "amount"])
    crossed = rng.choice(log["traveller"].unique(), 12, replace=False)
    strays = log[log["traveller"].isin(crossed)].groupby("traveller").head(1).copy()
    strays["form"] = strays["form"].map(dict(zip(FORMS, FORMS[1:] + FORMS[:1], strict=True)))
    doubled = log.iloc[np.sort(rng.choice(len(log), 25, replace=False))]
    return pd.concat([log, strays, doubled]).sort_values(["day", "traveller"], kind="stable", ignore_index=True)


def _turnarounds(rng: np.random.Generator, vessels: int = 36) -> pd.DataFrame:
    """Minutes in port before and after a new mooring routine that saves 3 on average."""
    import pandas as pd

    names = np.array([f"V{k:02d}" for k in range(1, vessels + 1)])
    base = rng.normal(42, 7, vessels)
    before, after = base + rng.normal(0, 3, vessels), base - 3 + rng.normal(0, 3, vessels)
    table = pd.DataFrame(
        {
            "vessel": np.tile(names, 2),
            "when": np.repeat(["before", "after"], vessels),
            "minutes": np.concatenate([before, after]).round(1),
        }
    )
    return table.sample(frac=1, random_state=rng).drop(index=[0]).reset_index(drop=True)


def _crossings(rng: np.random.Generator) -> pd.DataFrame:
    """Delays on five routes in three seasons; the winter is late, one route in winter most of all."""
    import pandas as pd

    routes, seasons = ("Amble", "Brae", "Cairn", "Dunes", "Eider"), ("spring", "summer", "winter")
    rows = []
    for r, route in enumerate(routes):
        for s, season in enumerate(seasons):
            count = 12 if r < 3 else int(rng.integers(6, 15))
            late = 8 + 1.5 * r + (0, 1, 5)[s] + (6 if (r, s) == (4, 2) else 0)
            rows += [(route, season, round(float(d), 1)) for d in rng.gamma(4, late / 4, count)]
    return pd.DataFrame(rows, columns=["route", "season", "delay"])


def _tickets(rng: np.random.Generator) -> pd.DataFrame:
    """Tickets sold by port and type; Tern Quay sells more bicycles than the rest."""
    import pandas as pd

    kinds, usual = ("foot", "bicycle", "car"), np.array([0.55, 0.15, 0.30])
    rows = []
    for port, total in zip(PORTS, (820, 510, 430, 300), strict=True):
        share = np.array([0.45, 0.27, 0.28]) if port == "Tern Quay" else usual
        rows += [(port, kind, int(c)) for kind, c in zip(kinds, rng.multinomial(total, share), strict=True)]
    return pd.DataFrame(rows, columns=["port", "ticket", "count"])
