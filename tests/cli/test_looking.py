"""Looking early at the command line: plans, boundaries, a running test from a table or a digest, peeking."""

import json
import shlex

import pytest
from typer.testing import CliRunner

import amber_ruler as ar
from amber_ruler.cli.main import app
from amber_ruler.results.result import SCHEMA

TRIPS = str(ar.demo.path("travellers"))
RUN = f"monitor {shlex.quote(TRIPS)} --day day --by form --value booked --control current --treatment short"


def run(line):
    """What a command line writes; errors as they are raised."""
    found = CliRunner().invoke(app, shlex.split(line), catch_exceptions=False)
    assert found.exit_code == 0, found.output
    return found.output


def answer(line):
    """The result that a command writes as JSON."""
    (only,) = json.loads(run(f"{line} --json"))["results"]
    return ar.Result.from_json(json.dumps({"schema": SCHEMA, **only}))


def test_boundaries_and_peeking():
    """The same numbers as in Python, every option obeyed; figures are written."""
    found = answer("boundaries --looks 5 --sides 1 --alpha 0.025 --futility pocock --futility-skip 1")
    b = ar.sequential.boundaries(5, sides=1, alpha=0.025, futility="pocock", futility_skip=[1])
    assert found == b
    days = run("boundaries --looks 7,14,28 --per-day 900 --spending pocock")
    assert "day" in days
    assert "2.368" in days
    kept = answer("boundaries --looks 2,3 --per-day 100,200,100 --units 800")
    assert kept.fractions.tolist() == [0.375, 0.5]
    shape = answer("boundaries --looks 4 --shape haybittle-peto --interim 0.001")
    assert shape.z[0] == pytest.approx(3.2905267, abs=1e-6)
    assert "14.2%" in run("peeking --looks 5")
    assert "13.0%" in run("peeking --looks 5 --sides 1")


def test_plans_with_looks(tmp_path):
    """Looks, futility and ways to look are options of every plan of a difference."""
    found = answer("plan two-means --sd 20 --effect 1.3 --looks 0.25,0.5,1 --spending power --parameter 2")
    own = ar.plan.TwoMeans(sd=20).with_looks([0.25, 0.5, 1], spending="power", parameter=2.0).sample_size(effect=1.3)
    assert found == own
    figure = tmp_path / "ways.svg"
    assert "any moment" in run(f"plan two-proportions --baseline 0.46 --effect 0.03 --ways --figure {figure}")
    assert figure.stat().st_size > 1_000
    with pytest.raises(ar.DesignError, match="--spending goes with --looks"):
        run("plan two-means --sd 20 --effect 1.3 --spending pocock")
    with pytest.raises(ar.DesignError, match="--ways looks for units"):
        run("plan two-means --sd 20 --effect 1.3 --ways --n 100")


def test_a_running_test(tmp_path):
    """From the table and from its digest the same; the figure; every day; sharpened."""
    line = f"{RUN} --at 7,14 --planned 9110 --looks 4 --futility hwang-shih-decani"
    r = answer(line)
    assert r.decision == "stop: a difference"
    assert r.stopped_at == 2
    out = tmp_path / "digest.json"
    run(f"digest {shlex.quote(TRIPS)} --by form --day day --metrics booked,fare --out {out}")
    same = f"monitor {out} --value booked --control current --treatment short --at 7,14 --planned 9110 --looks 4"
    assert answer(f"{same} --futility hwang-shih-decani") == r
    figure = tmp_path / "path.png"
    text = run(f"{RUN} --information 0.3,0.6 --at 7,14 --last --margin 0.01 --figure {figure}")
    assert "may stop" in text
    assert figure.stat().st_size > 10_000
    daily = answer(f"{RUN} --planned 9110 --spending pocock")
    assert daily.z.size == 28
    fares = RUN.replace("booked", "fare")
    sharp = answer(f"{fares} --at 7,14,21 --planned 9110 --looks 4 --covariate prior_spend")
    assert sharp.latest.adjustment is not None
    one = run(f"{fares} --at 7 --planned 9110 --looks 4 --sides 1 --harm 0.1 --good higher")
    assert "harm below" in one
    assert "goes on" in one


@pytest.mark.parametrize(
    ("line", "says"),
    [
        (f"{RUN} --at 7", "--planned 9110|--planned 8000"),
        (f"{RUN} --at 99 --planned 100", "day of this digest"),
        (RUN.replace("--treatment short", "") + " --planned 100", "say which one with --treatment"),
        (RUN.replace("--control current", "--control curent") + " --planned 100", "--control"),
        (RUN.replace("--day day", "") + " --planned 100", "--day day"),
        ("boundaries", "Say when to look"),
        ("boundaries --looks x", "--looks takes numbers"),
        ("boundaries --looks 5 --units 100", "goes with per_day"),
    ],
)
def test_what_is_wrong_is_said(line, says):
    """Errors name the option."""
    with pytest.raises(ar.AmberRulerError, match=says):
        run(line)
