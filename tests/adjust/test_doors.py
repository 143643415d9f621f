"""The same answer from rows in memory, from every engine, from moments, and from a digest merged of many parts."""

import inspect
from functools import reduce as folded
from operator import add

import numpy as np
import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from adjust.rows import arms
from amber_ruler.register import METHODS

ROLES = {
    "value": "fare", "covariate": ["prior", "trips"], "before": "trips", "per": "searches", "weight": "weight",
    "taken": "used", "exposed": "seen", "strata": "port", "segment": "port", "cluster": "who", "unit": "who",
    "age": "age",
}  # fmt: skip
ar.adjust.cuped  # noqa: B018 - loads the room
EVERY = [pytest.param(m, id=m.name) for (room, _), m in sorted(METHODS.items()) if room == "adjust" and m.columns]
FROM_MOMENTS = ("cuped", "ratio", "compliers", "before_after", "sharpen")


def frame(gaps=False):
    both = arms((300, 310), clusters=90, gaps=gaps)
    rows = pd.concat(pd.DataFrame(dict(a.columns)).assign(form=a.label) for a in both).sample(frac=1, random_state=1)
    return rows.assign(age=np.arange(len(rows)) % 3)


def settings(method):
    needed = [n for n in method.columns if n == "value" or method.settings[n].default is inspect.Parameter.empty]
    more = [n for n in ("covariate",) if n in method.settings]
    shares = {"value": "used"} if method.name == "common_ratio" else {}
    return {name: ROLES[name] for name in (*needed, *more)} | shares


def ask(method, groups, **how):
    return getattr(ar.adjust, method.name)(groups["short"], groups["current"], **how)


def numbers(r):
    found = [r.estimate, r.se, r.interval.low, r.interval.high, r.p_value]
    return np.concatenate([np.ravel(np.asarray(v, dtype=float)) for v in found])


@pytest.mark.parametrize("gaps", [False, True])
@pytest.mark.parametrize("method", EVERY)
def test_every_engine_gives_the_same(method, gaps, tmp_path):
    """Pandas and Polars in memory, a lazy Polars frame, and files that DuckDB reads."""
    rows, how = frame(gaps), settings(method)
    columns = [c for c in rows.columns if c != "form"]
    expected = ask(method, ar.table(rows).records(columns, by="form"), **how)
    rows.to_parquet(tmp_path / "rows.parquet")
    rows.to_csv(tmp_path / "rows.csv", index=False)
    polars = pl.from_pandas(rows)
    for source in (polars, polars.lazy(), tmp_path / "rows.parquet", tmp_path / "rows.csv"):
        found = ask(method, ar.table(source).records(columns, by="form"), **how)
        assert numbers(found) == pytest.approx(numbers(expected), rel=1e-9, abs=1e-12, nan_ok=True)
        assert [c.finding for c in found.checks] == [c.finding for c in expected.checks]
        assert found.notes == expected.notes


@pytest.mark.parametrize("errors", ["hc0", "hc2", "hc3"])
def test_residuals_stream_on_the_engine(errors, tmp_path):
    """With either kind of slopes, and Bell and McCaffrey's degrees of freedom."""
    rows = frame()
    rows.to_parquet(tmp_path / "rows.parquet")
    columns = ["fare", "prior", "trips"]
    tables = ar.table(rows), ar.table(tmp_path / "rows.parquet")
    here, there = (table.records(columns, by="form") for table in tables)
    for slopes in ("own", "common"):
        how = {"value": "fare", "covariate": ["prior", "trips"], "slopes": slopes, "errors": errors}
        how |= {"degrees": "bell-mccaffrey"} if errors == "hc2" else {}
        one, other = (ar.adjust.regression(g["short"], g["current"], **how) for g in (here, there))
        assert [*numbers(other), other.df] == pytest.approx([*numbers(one), one.df], rel=1e-9)


@pytest.mark.parametrize("name", FROM_MOMENTS)
def test_moments_and_a_digest_of_fifty_parts_give_the_same(name):
    """One pass over the rows, or fifty days merged afterwards."""
    rows = frame()
    rows["day"] = np.arange(len(rows)) % 50
    method, table = METHODS["adjust", name], ar.table(rows)
    how = settings(method) | ({"per": "searches"} if name == "sharpen" else {})
    named = [c for v in how.values() for c in ([v] if isinstance(v, str) else v)]
    expected = ask(method, table.records(list(dict.fromkeys(named)), by="form"), **how)
    days = [ar.table(rows[rows.day == day]) for day in range(50)]
    covariates = [c for c in dict.fromkeys(named) if c != "fare"]
    parts = [day.digest(["fare"], by="form", covariates=covariates, day="day") for day in days]
    for groups in (table.moments(list(dict.fromkeys(named)), by="form"), folded(add, parts).moments("fare")):
        found = ask(method, groups, **how)
        assert numbers(found) == pytest.approx(numbers(expected), rel=1e-10)
        assert found.notes == expected.notes


def test_strata_from_a_digest_and_all_metrics_at_once():
    """Stacked along the strata, or along the metrics: as one by one, gaps and all."""
    rows = frame(gaps=True)
    table = ar.table(rows)
    digest = table.digest(["fare", "seen"], by="form", covariates=["prior"], strata="port")
    groups, records = digest.by_stratum("fare"), table.records(["fare", "seen", "prior", "port"], by="form")
    for covariate in ((), "prior"):
        how = {"value": "fare", "strata": "port", "covariate": covariate}
        one, other = (ar.adjust.strata(g["short"], g["current"], **how) for g in (groups, records))
        assert numbers(one) == pytest.approx(numbers(other), rel=1e-10)
    one, other = (
        ar.adjust.segments(g["short"], g["current"], value="fare", segment="port") for g in (groups, records)
    )  # fmt: skip
    assert numbers(one) == pytest.approx(numbers(other), rel=1e-10)
    every = digest.every_metric()
    many = ar.adjust.cuped(every["short"], every["current"], value="value", covariate="prior")
    for k, metric in enumerate(many.axis.labels):
        single = ar.adjust.cuped(records["short"], records["current"], value=metric, covariate="prior")
        assert (many.estimate[k], many.se[k], many.p_value[k]) == pytest.approx(
            (single.estimate, single.se, single.p_value), rel=1e-9
        )
    with pytest.raises(ar.DataError, match="has no strata"):
        table.digest(["fare"], by="form").by_stratum("fare")


def test_a_plan_takes_correlation_and_caps_from_the_rows():
    """The multiple correlation within variants, and the spread of capped values."""
    rows = frame()
    table = ar.table(rows)
    design = ar.plan.design_from(table, "fare", by="form", covariate=["prior", "trips"], cap=0.9)
    capped = rows.fare.clip(upper=rows.fare.quantile(0.9))
    within = rows[["prior", "trips"]].assign(fare=capped)
    within = (within - within.groupby(rows.form).transform("mean")).to_numpy()
    b = np.linalg.lstsq(within[:, :2], within[:, 2], rcond=None)[0]
    left = within[:, 2] - within[:, :2] @ b
    assert design.modifiers[0].correlation == pytest.approx(
        np.sqrt(1 - left @ left / (within[:, 2] @ within[:, 2])), rel=1e-9
    )
    assert design.sd == pytest.approx(np.sqrt(within[:, 2] @ within[:, 2] / (len(rows) - 2)), rel=1e-10)


def test_rows_without_a_denominator_are_left_out_by_every_door():
    """From moments and from rows alike, and counted."""
    rows = frame()
    rows.loc[rows.index % 9 == 0, "searches"] = np.nan
    table = ar.table(rows)
    doors = table.records(["fare", "searches"], by="form"), table.moments(["fare", "searches"], by="form")
    one, other = (ar.adjust.ratio(g["short"], g["current"], value="fare", per="searches") for g in doors)
    assert numbers(one) == pytest.approx(numbers(other), rel=1e-10)
    assert [c.finding for c in one.checks] == [c.finding for c in other.checks]
    assert any(c.name == "missing values" for c in one.checks)


@pytest.mark.parametrize(
    ("label", "stratum"),
    [
        (lambda f: f == "short", lambda p: p == "Amble"),
        (lambda f: (f == "short") * 1.0, lambda p: (p == "Amble") * 2.0),
        (lambda f: (f == "short") * 1, lambda p: (p == "Amble") * 3),
        (lambda f: f.map({"short": "1.0", "current": "0.0"}), lambda p: p.map(lambda v: f"{len(v)}.0")),
    ],
)
def test_labels_of_every_kind_are_the_same_on_every_engine(label, stratum, tmp_path):
    """True and false, whole numbers, floats, and text that looks like one."""
    rows = frame()
    rows = rows.assign(form=label(rows.form), port=stratum(rows.port))
    rows.to_parquet(tmp_path / "rows.parquet")
    found = []
    for source in (rows, pl.from_pandas(rows).lazy(), tmp_path / "rows.parquet"):
        arms_ = ar.table(source).records(["fare", "port"], by="form")
        one, two = arms_.values()
        r = ar.adjust.strata(one, two, value="fare", strata="port")
        found.append((list(arms_), r.strata.effects.axis.labels, float(r.estimate)))
    assert found[0][:2] == found[1][:2] == found[2][:2]
    assert found[0][2] == pytest.approx(found[1][2], rel=1e-9) == pytest.approx(found[2][2], rel=1e-9)
