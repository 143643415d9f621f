"""Digests: the same moments without the rows, merged day by day; what was tampered with is refused."""

import hashlib
import json

import numpy as np
import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from amber_ruler import DataError, ExperimentFileError
from amber_ruler.digest import SCHEMA, Digest


def trips(n=3_000):
    rng = np.random.default_rng(12)
    table = pd.DataFrame(
        {
            "form": rng.choice(["current", "short"], n),
            "port": rng.choice(["Gullhaven", "Tern Quay"], n),
            "day": rng.integers(1, 8, n),
            "fare": 1e9 + rng.gamma(2, 10, n),
            "prior": rng.normal(size=n),
        }
    )
    table.loc[rng.random(n) < 0.05, "fare"] = np.nan
    table.loc[:3, "form"] = None
    table.loc[5:9, "port"] = None
    return table


ASKED = {"by": "form", "covariates": ["prior"], "strata": "port", "day": "day"}


@pytest.mark.parametrize("door", [lambda t: t, pl.from_pandas, lambda t: pl.from_pandas(t).lazy()])
def test_a_digest_holds_the_moments_of_the_table(door):
    """Over everything, in one stratum, on some days: the numbers of the rows themselves."""
    table = trips()
    digest = ar.table(door(table)).digest(["fare"], **ASKED)
    whole = ar.table(table).moments(["fare", "prior"], by="form")
    found = digest.moments("fare")
    assert found.unassigned == 4
    for label, m in found.items():
        assert (m.n, m.missing, m.columns) == (whole[label].n, whole[label].missing, ("fare", "prior"))
        assert m.variance("fare") == pytest.approx(whole[label].variance("fare"), rel=1e-10)
        assert m.covariance("fare", "prior") == pytest.approx(whole[label].covariance("fare", "prior"), rel=1e-8)
    some = table[(table["port"] == "Tern Quay") & table["day"].isin([2, 3])]
    part = digest.moments("fare", stratum="Tern Quay", days=("2", "3"))
    assert part["short"].n == some.loc[some["form"] == "short", "fare"].notna().sum()
    assert Digest.from_json(digest.to_json()).moments("fare")["short"] == found["short"]


def test_days_merge_to_the_whole():
    """Each day reduced apart, then added, gives the comparison of all rows; the same day twice is refused."""
    table = trips()
    days = [ar.table(rows).digest(["fare"], **ASKED) for _, rows in table.groupby("day")]
    merged = Digest.from_json(days[0].to_json())
    for day in days[1:]:
        merged = merged + day
    fares = ar.table(table).moments(["fare", "prior"], by="form")
    whole = ar.adjust.cuped(fares["short"], fares["current"], value="fare", covariate="prior")
    again = merged.moments("fare")
    parts = ar.adjust.cuped(again["short"], again["current"], value="fare", covariate="prior")
    assert parts.estimate == pytest.approx(whole.estimate, rel=1e-8)
    assert parts.p_value == pytest.approx(whole.p_value, rel=1e-7)
    with pytest.raises(DataError, match="day 1: those units would count twice"):
        _ = merged + days[0]
    other = ar.table(table).digest(["fare"], by="form", day="day")
    with pytest.raises(DataError, match="not made alike: strata"):
        _ = merged + other
    no_day = ar.table(table).digest(["fare"], by="form")
    assert (no_day + no_day).moments("fare")["short"].n == 2 * no_day.moments("fare")["short"].n


def test_a_cell_without_values_is_left_out_and_the_rest_stays():
    """A day on which nobody had a fare does not spoil the others."""
    table = trips()
    table.loc[(table["day"] == 4) & (table["form"] == "short"), "fare"] = np.nan
    digest = ar.table(table).digest(["fare", "prior"], by="form", day="day")
    assert ("short", "", "4") in digest.cells
    assert "fare" not in digest.cells["short", "", "4"]
    assert digest.moments("fare")["short"].n == table.loc[table["form"] == "short", "fare"].notna().sum()


def tampered(text):
    data = json.loads(text)
    data["cells"][0]["moments"]["fare"]["n"] += 1
    return json.dumps(data)


def sealed(change):
    """A forger's digest: something else in it, under a checksum that fits."""

    def forged(text):
        body = {key: value for key, value in json.loads(text).items() if key not in ("schema", "sha256")}
        change(body)
        seal = hashlib.sha256(json.dumps(body, sort_keys=True, ensure_ascii=False).encode()).hexdigest()
        return json.dumps({"schema": SCHEMA, "sha256": seal, **body})

    return forged


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (tampered, "changed since it was written"),
        (lambda text: text[:-5], "not JSON"),
        (lambda _: "[]", "its schema is 'list'"),
        (lambda text: text.replace("digest 1", "digest 9"), "'amber-ruler digest 9'"),
        (lambda text: text.replace('"by": "form"', '"by": "port"'), "changed since"),
        (lambda _: "[" * 100_000, "not JSON"),
        (sealed(lambda body: body.pop("metrics")), "metrics: Field required"),
        (sealed(lambda body: body.update(cells=3)), "cells: Input"),
        (sealed(lambda body: body["cells"].append(body["cells"][0])), "twice"),
        (sealed(lambda body: body["cells"][0].update(at=["short"])), "cells → 0 → at"),
        (sealed(lambda body: body["cells"][0]["moments"].update(fare=[])), "cells → 0 → moments → fare"),
        (sealed(lambda body: body["cells"][0]["moments"]["fare"].update(label="no")), "contradicts itself: 'fare'"),
        (sealed(lambda body: body["cells"][0]["moments"]["fare"].update(n=-1)), "n: Input"),
    ],
)
def test_a_tampered_digest_is_refused(change, says):
    """A changed number, a cut file, another kind or version: said, not read."""
    text = ar.table(trips()).digest(["fare"], **ASKED).to_json()
    with pytest.raises(ExperimentFileError, match=says):
        Digest.from_json(change(text))


def test_what_a_digest_does_not_hold_is_named():
    """A metric it was not asked for, a stratum that is not there."""
    digest = ar.table(trips()).digest(["fare"], **ASKED)
    with pytest.raises(DataError, match="Did you mean 'fare'"):
        digest.moments("fares")
    with pytest.raises(DataError, match="no 'fare' for stratum 'Nowhere'"):
        digest.moments("fare", stratum="Nowhere")
