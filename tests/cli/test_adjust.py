"""Adjustments on the command line: every example runs, and says what the library says."""

import json
import shlex

import pandas as pd
import pytest

import amber_ruler as ar
from amber_ruler.cli import main
from amber_ruler.demo import path
from amber_ruler.register import METHODS

ar.adjust.cuped  # noqa: B018 - loads the room
EXAMPLES = [
    pytest.param(name, example, id=name)
    for (room, name), method in sorted(METHODS.items())
    if room == "adjust"
    for example in method.examples
]


@pytest.fixture
def ask(tmp_path, monkeypatch, capsys):
    """Run a command in a folder with the demo's tables, a survey and visits; what it printed."""
    for name in ("travellers", "events", "turnarounds"):
        (tmp_path / f"{name}.csv").write_bytes(path(name).read_bytes())
    trips = pd.read_csv(path("travellers"))
    more = {"spent": trips.fare, "weight": 1 + trips.day % 3, "reached": (trips.day % 2 == 0) * 1}
    trips.assign(**more).to_csv(tmp_path / "survey.csv", index=False)
    log = pd.read_csv(path("events"))
    log = log.assign(days_since_first=log.day % 3, amount=log.amount + log.index * 7 % 11)
    once = log.groupby("traveller").form.transform("nunique") == 1
    log[once & ~log.duplicated(["traveller", "days_since_first"])].to_csv(tmp_path / "visits.csv", index=False)
    monkeypatch.chdir(tmp_path)

    def asked(line, code=0):
        monkeypatch.setattr("sys.argv", ["amber-ruler", *shlex.split(line)])
        with pytest.raises(SystemExit) as end:
            main()
        assert end.value.code in (code, None), capsys.readouterr().err
        said = capsys.readouterr()
        return said.err if code else said.out

    return asked


@pytest.mark.parametrize(("name", "example"), EXAMPLES)
def test_every_example_runs(ask, name, example):
    """One treatment, or several as a family."""
    assert "against" in ask(f"adjust {name.replace('_', '-')} {example}") or name in ("segments", "novelty")


def test_the_command_line_says_what_the_library_says(ask):
    """All steps at once; other treatments share the slopes; a ratio is a covariate by its two names."""
    line = (
        "adjust sharpen travellers.csv --value bookings --per searches --by form --control current --strata home_port"
    )
    line += " --covariate 'prior_trips per searches' --shares Gullhaven=4,Marrowick=2,Saltmarsh=2,'Tern Quay=1' --json"
    answers = json.loads(ask(line))
    rows = ar.table("travellers.csv").records(["bookings", "searches", "prior_trips", "home_port"], by="form")
    shares = {"Gullhaven": 4, "Marrowick": 2, "Saltmarsh": 2, "Tern Quay": 1}
    r = ar.adjust.sharpen(
        rows["short"], rows["current"], value="bookings", per="searches", strata="home_port", shares=shares,
        covariate="prior_trips per searches", others=[rows["guided"]],
    )  # fmt: skip
    (family,) = [a for a in answers["results"] if a["type"] == "family"]
    short = family["results"][list(family["labels"]).index("short")]
    assert short["estimate"] == pytest.approx(r.estimate, rel=1e-10)
    assert short["se"] == pytest.approx(r.se, rel=1e-10)


def test_options_that_cant_be_obeyed_are_refused(ask):
    """The reason is said, with status 2."""
    base = "travellers.csv --value fare --by form --control current"
    assert "not both" in ask(f"adjust sharpen {base} --cap 0.9 --cap-at 3", 2)
    assert "home_part" in ask(f"adjust strata {base} --strata home_part", 2)
    assert "is the metric" in ask(f"adjust cuped {base} --covariate fare", 2)
