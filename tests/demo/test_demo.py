"""The made-up company: seeded, sized, with its planted truth and its planted faults."""

import numpy as np
import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler.demo import TABLES, TRUTH, generate, path


def test_the_shipped_tables_are_what_the_generator_makes():
    """Anyone can make them again."""
    made = generate()
    for name in TABLES:
        shipped = pd.read_csv(path(name))
        assert list(shipped.columns) == list(made[name].columns)
        assert len(shipped) == len(made[name])
        for column in shipped.select_dtypes("number"):
            assert shipped[column].sum() == pytest.approx(made[name][column].sum(), rel=1e-9)
    assert sum(path(name).stat().st_size for name in TABLES) < 1_500_000


def test_the_planted_truth_is_in_the_rows():
    """In 300,000 travellers the differences are the documented ones, within 4 standard errors."""
    table = ar.table(generate(300_000, seed=5)["travellers"])
    for metric, method in (
        ("fare", ar.measure.means),
        ("booked", ar.measure.proportions),
        ("complaint", ar.measure.proportions),
    ):
        arms = table.moments(metric, by="form")
        for form in ("short", "guided"):
            r = method(arms[form], arms["current"])
            spread = np.hypot(r.groups[0].se, r.groups[1].se)
            assert abs(r.estimate - TRUTH[form][metric]) < 4 * spread


def test_the_rows_look_like_life():
    """Skewed fares with many zeros, a covariate correlated about 0.6, missing values where life has them."""
    rows = generate(50_000, seed=6)["travellers"]
    assert (rows["fare"] == 0).mean() > 0.4
    assert rows["fare"].skew() > 1.5
    assert rows[["fare", "prior_spend"]].corr().iloc[0, 1] == pytest.approx(0.6, abs=0.03)
    assert rows["minutes_to_book"].isna().equals(rows["booked"] == 0)
    assert 0.03 < rows["prior_spend"].isna().mean() < 0.05
    assert generate(500, seed=6)["travellers"].equals(generate(500, seed=6)["travellers"])


def test_the_log_has_its_faults():
    """Some travellers are seen under two forms, some rows stand twice."""
    log = generate()["events"]
    assert (log.groupby("traveller")["form"].nunique() > 1).sum() == 12
    assert log.duplicated().sum() >= 25


def test_an_unknown_table_is_named():
    """The nearest name is offered."""
    with pytest.raises(ar.InputError, match="Did you mean 'travellers'"):
        path("traveller")
