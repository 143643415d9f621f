"""Checks: planted faults are found, sound tables seldom raise an alarm."""

import math

import numpy as np
import pandas as pd
import polars as pl
import pytest

import amber_ruler as ar
from amber_ruler import DataError
from amber_ruler.moments import Moments
from amber_ruler.tables import findings

VARIANTS = ["current", "guided", "short"]


def sound(n=6_000, seed=1):
    rng = np.random.default_rng(seed)
    return pd.DataFrame(
        {
            "traveller": np.arange(n) + 10**15,
            "form": rng.choice(VARIANTS, n),
            "day": rng.integers(1, 15, n),
            "prior": np.where(rng.random(n) < 0.05, np.nan, rng.gamma(2, 10, n)),
            "age": rng.integers(18, 90, n),
            "fare": rng.gamma(1, 10, n),
            "booked": rng.integers(0, 2, n),
            "port": rng.choice(["Gullhaven", "Tern Quay", "Eider Bay"], n),
        }
    )


def look(table, **more):
    asked = {
        "by": "form",
        "unit": "traveller",
        "day": "day",
        "covariates": ["prior", "age"],
        "metrics": ["fare", "booked"],
        "strata": "port",
        "possible": {"fare": (0, None), "age": (0, 120)},
    }
    return ar.table(table).check(**(asked | more))


def severity(found):
    return {c.name: c.severity for c in found.checks}


@pytest.mark.parametrize("door", [lambda t: t, pl.from_pandas, lambda t: pl.from_pandas(t).lazy()])
def test_a_sound_table_is_believed(door):
    """Through every engine the same findings: all fine, with the counts of units."""
    table = sound()
    found = look(door(table))
    assert found.believable
    assert set(severity(found).values()) == {"fine"}
    assert found.counts == table["form"].value_counts().sort_index().to_dict()
    assert (found.rows, found.units) == (6_000, 6_000)
    assert "Nothing was found" in found.sentence()
    assert found == look(table.copy())


def lose(table):
    gone = table.index[table["form"] == "short"][: len(table) // 12]
    return table.drop(gone)


def lose_one_day(table):
    return table.drop(table.index[(table["form"] == "short") & (table["day"] == 3)][:70])


def doubled(table):
    return pd.concat([table, table.head(40)])


def crossed(table):
    other = table.head(40).assign(
        form=lambda t: t["form"].map(dict(zip(VARIANTS, VARIANTS[1:] + VARIANTS[:1], strict=True)))
    )
    return pd.concat([table, other])


def shifted(table):
    return table.assign(prior=table["prior"] + 3.0 * (table["form"] == "guided"))


def lost_history(table):
    hit = (table["form"] == "guided") & (np.arange(len(table)) % 9 == 0)
    return table.assign(prior=table["prior"].where(~hit))


def lost_metric(table):
    hit = (table["form"] == "guided") & (np.arange(len(table)) % 9 == 0)
    return table.assign(fare=table["fare"].where(~hit))


def ramped(table):
    rng = np.random.default_rng(3)
    moved = (table["day"] > 7) & (table["form"] == "short") & (rng.random(len(table)) < 0.4)
    back = (table["day"] <= 7) & (table["form"] == "current") & (rng.random(len(table)) < 0.4)
    return table.assign(form=table["form"].mask(moved, "current").mask(back, "short"))


def outage(table):
    return table.drop(table.index[(table["day"] == 5)][20:])


def skewed(table):
    return table.assign(fare=np.exp(table["fare"] / 6))


def spaced(table):
    return table.assign(form=table["form"].where(table.index % 97 > 0, table["form"].str.upper() + " "))


def constant(table):
    return table.assign(age=40)


def lose_one_port(table):
    return table.drop(table.index[(table["form"] == "short") & (table["port"] == "Tern Quay")][:150])


def carried(table):
    return table.assign(fare=table["fare"].where(table.index % 1_200 > 0, 50_000.0))


def with_total(table):
    return pd.concat([table, table.dropna().head(1).assign(form="Total", traveller=1)])


def with_few(table):
    return pd.concat([table, table.head(3).assign(form="old", traveller=[1, 2, 3])])


def copied(table):
    return pd.concat([table, table.head(25)])


def test_what_was_not_looked_at_is_said():
    """Without a unit its column is guessed; events are a warning, one row each a note; a plain table has no guess."""
    table = ar.table(sound())
    (said,) = (c for c in table.check(by="form").checks if c.name == "unit of analysis")
    assert "not looked at" in said.finding
    assert ("unit='traveller'" in said.advice, said.severity) == (True, "note")
    (said,) = (c for c in ar.table(doubled(sound())).check(by="form").checks if c.name == "unit of analysis")
    assert ("different values in" in said.advice, said.severity) == (True, "warning")
    (said,) = (c for c in ar.table(sound()[["form", "fare"]]).check(by="form").checks if c.name == "unit of analysis")
    assert (said.severity, "may be it" in said.advice) == ("note", False)
    alone = look(sound()[sound()["form"] == "short"])
    assert severity(alone)["variants"] == "serious"
    assert "holds only one, 'short'" in str(alone)


@pytest.mark.parametrize(
    ("spoil", "name", "level", "says"),
    [
        (with_total, "variants", "serious", "looks like a total"),
        (with_few, "variants", "warning", "3 units only"),
        (copied, "unit of analysis", "serious", "duplicates, not events"),
        (lose, "sample ratio", "serious", "did not get the units"),
        (lose_one_day, "split by day", "serious", "day 3 has"),
        (doubled, "unit of analysis", "serious", "40 of them repeat another row"),
        (crossed, "one variant each", "serious", "40 of 6,000"),
        (lambda t: crossed(t).iloc[:6_003], "one variant each", "warning", "3 of 6,000"),
        (shifted, "before the test: prior", "serious", "not alike before the test"),
        (lost_history, "missing prior", "serious", "known before the test"),
        (lost_metric, "missing fare", "warning", "compares different people"),
        (ramped, "drift", "warning", "change over days"),
        (outage, "odd days", "note", "but 5 (20)"),
        (skewed, "enough fare", "warning", "comparing ranks"),
        (lose_one_port, "split by stratum", "serious", "stratum Tern Quay has"),
        (carried, "top of fare", "warning", "single values carry the mean. Capping there would take the mean from"),
        (lambda t: t.assign(fare=7.0), "varying fare", "warning", "Nothing can be measured"),
        (
            lambda t: t.assign(fare=t["fare"].where(t["form"] != "guided", 0.0)),
            "varying fare",
            "warning",
            "0 in guided",
        ),
        (
            lambda t: t.assign(fare=t["fare"].where(t.index != 9, np.inf)),
            "possible fare",
            "serious",
            "1 infinite (",
        ),
        (lambda t: t.assign(fare=t["fare"] - 0.01), "possible fare", "warning", " below 0 ("),
        (
            lambda t: t.assign(age=t["age"].where(t.index % 9 > 0, 999)),
            "possible age",
            "serious",
            "667 below 0 or above 120 (",
        ),
        (lambda t: t.assign(day=None), "split by day", "warning", "is empty"),
        (spaced, "labels", "warning", "'CURRENT ' and 'current'"),
        (constant, "before the test: age", "note", "never varies"),
        (lambda t: t.assign(form=t["form"].mask(t.index < 9)), "variant labels", "note", "9 rows have no label"),
    ],
)
def test_planted_faults_are_found(spoil, name, level, says):
    """Each is named, with its severity, its numbers and what to do; serious ones stand first and are not believed."""
    found = look(spoil(sound()))
    assert severity(found)[name] == level
    text = " ".join(str(found).split())
    assert says in text
    if level == "serious":
        assert not found.believable
        assert text.index(says.split()[0]) < text.index("in total")
        assert "Do not believe" in found.sentence()
    assert found.to_frame().set_index("name").loc[name, "severity"] == level


def test_what_capping_would_do_is_what_it_does():
    """The share of the top and the moments after capping, by hand."""
    table = carried(sound())
    (said,) = (c for c in look(table).checks if c.name == "top of fare")
    limit = table["fare"].quantile(0.999)
    capped = table["fare"].clip(upper=limit)
    share = table.loc[table["fare"] > limit, "fare"].sum() / table["fare"].sum()
    within = [f - f.groupby(table["form"]).transform("mean") for f in (table["fare"], capped)]
    sds = [np.sqrt((w**2).sum() / (len(table) - 3)) for w in within]
    assert f"(above {limit:.4g}) hold {100 * share:.2g}% of the total" in said.finding
    assert f"from {table['fare'].mean():.4g} to {capped.mean():.4g}" in said.advice
    assert f"from {sds[0]:.4g} to {sds[1]:.4g}" in said.advice


def test_small_losses_from_large_variants_are_found():
    """Of 200,000 in a variant a loss of 1.5 % is an alarm, and one of 1 % (3.2 standard errors) at least a warning."""
    for lost, levels in ((0.015, {"serious"}), (0.010, {"serious", "warning"}), (0.0, {"fine"})):
        found = ar.tables.check_split({"current": 200_000, "short": round(200_000 * (1 - lost))})
        assert found.as_check.severity in levels


def test_serious_findings_seldom_fire_on_sound_data():
    """Over 2,000 sound experiments each serious finding fires at most at its rate of 1 in 1,000, within chance."""
    rng, fired = np.random.default_rng(9), {"day": 0, "missing": 0, "balance": 0, "split": 0}
    shares = np.array([0.5, 0.3, 0.2])
    for _ in range(2_000):
        cells = rng.multinomial(rng.poisson(400, 14), shares).astype(float)
        check = findings.split_in_parts(cells, [str(d) for d in range(14)], VARIANTS, shares, "day")
        fired["day"] += check.severity == "serious"
        n = cells.sum(axis=0)
        counts = dict(zip(VARIANTS, n.astype(int).tolist(), strict=True))
        fired["split"] += not ar.tables.check_split(counts, dict(zip(VARIANTS, shares, strict=True))).sound
        lost = dict(zip(VARIANTS, rng.binomial(n.astype(int), 0.03).tolist(), strict=True))
        kept = {v: counts[v] - lost[v] for v in VARIANTS}
        fired["missing"] += findings.missing(lost, kept, "prior", 1, before=True).severity == "serious"
        arms = {
            v: Moments.from_summary(n=60, mean=rng.normal(0, 1 / np.sqrt(60)), sd=np.sqrt(rng.chisquare(59) / 59))
            for v in VARIANTS
        }
        fired["balance"] += findings.balance(arms, "value", 1).severity == "serious"
    # 2 expected of each; 9 or more have a chance below 1 in 4,000.
    assert max(fired.values()) < 9


def test_what_is_not_there_is_named():
    """A misspelt column, or a planned variant that nobody was in."""
    with pytest.raises(DataError, match="Did you mean 'traveller'"):
        look(sound(), unit="travellr")
    with pytest.raises(DataError, match="planned variant"):
        look(sound(), split={"current": 1, "new": 1})


def test_the_sample_ratio_p_is_that_of_chi_square_by_hand():
    """Σ (o − e)² / e on one degree of freedom less than variants; of two its tail is exp(−x / 2)."""
    seen = {"a": 480, "b": 530, "c": 490}
    found = ar.tables.check_split(seen, {"a": 1.0, "b": 1.0, "c": 1.0})
    statistic = sum((n - 500) ** 2 / 500 for n in seen.values())
    assert found.statistic == pytest.approx(statistic, rel=1e-14)
    assert found.df == 2
    assert found.p_value == pytest.approx(math.exp(-statistic / 2), rel=1e-13)
    two = ar.tables.check_split({"a": 60, "b": 40}, {"a": 3.0, "b": 1.0})
    assert (two.df, two.statistic) == (1, pytest.approx(15**2 / 75 + 15**2 / 25, rel=1e-14))
    assert two.p_value == pytest.approx(math.erfc(math.sqrt(two.statistic / 2)), rel=1e-13)
