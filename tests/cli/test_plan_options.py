"""Every option of a plan at the command line is what the library says; those that can't go together are refused."""

import json
import shlex

import pytest
from typer.testing import CliRunner

from amber_ruler import plan
from amber_ruler.cli.main import app

GRADES = [[0.2, 0.3, 0.5], [0.4, 0.3, 0.3]]
ASKED = {
    "two-means --sd 20 --effect 5 --n-control 200": lambda: plan.TwoMeans(sd=20).sample_size_beside(
        n_control=200, effect=5
    ),
    "two-means --sd 20 --effect 5 --n-treatment 300 --power 0.9": lambda: plan.TwoMeans(sd=20).sample_size_beside(
        n_treatment=300, effect=5, power=0.9
    ),
    "two-means --sd 20 --effect 5 --costs 3,1": lambda: plan.TwoMeans(sd=20).best_split(cost_treatment=3, effect=5),
    "two-means --sd 20 --effect 5 --odd-total": lambda: plan.TwoMeans(sd=20).smallest_total(effect=5),
    "two-means --sd 20 --effect 5 --n 200 --find sd": lambda: plan.TwoMeans(sd=20.0).needed("sd", n=200, effect=5),
    "two-means --sd 20 --margin 3 --effect 0 --n 200 --find margin": lambda: (
        plan.TwoMeans(sd=20).with_margin(3).needed("margin", n=200, effect=0)
    ),
    "two-means --cluster-size 20 --icc 0.05 --clusters 20 --effect 0.3 --find cluster-size": lambda: (
        plan.TwoMeans().with_clusters(20, 0.05).needed("cluster_size", clusters=20, effect=0.3)
    ),
    "two-means --effect 0.4 --covariate 0.6 --covariates 3": lambda: (
        plan.TwoMeans().with_covariate(0.6, 3).sample_size(effect=0.4)
    ),
    "two-means --sd 3 --sd-treatment 5 --power-from exact --effect 2": lambda: plan.TwoMeans(
        sd=3, sd_treatment=5, power_from="exact"
    ).sample_size(effect=2),
    "two-means --margin 0.3 --margin-kind superiority --effect 0.8": lambda: (
        plan.TwoMeans().with_margin(0.3, "superiority").sample_size(effect=0.8)
    ),
    "two-means --margin 0.3 --margin-kind equivalence --margin-above 0.5 --effect 0.1": lambda: (
        plan.TwoMeans().with_margin(0.3, "equivalence", above=0.5).sample_size(effect=0.1)
    ),
    "one-mean --sd 15 --half-width 3 --assurance 0.9": lambda: plan.OneMean(sd=15).sample_size_for_width(
        half_width=3, assurance=0.9
    ),
    "one-mean --sd 15 --half-width 3 --width expected": lambda: plan.OneMean(sd=15).sample_size_for_width(
        half_width=3, width="expected"
    ),
    "one-mean --sd 15 --half-width 3 --n 80": lambda: plan.OneMean(sd=15).alpha_for_width(half_width=3, n=80),
    "one-mean --sd 15 --find precision --n 80": lambda: plan.OneMean(sd=15).precision(n=80),
    "one-mean --sd 15 --half-width 3 --population 300": lambda: (
        plan.OneMean(sd=15).with_population(300).sample_size_for_width(half_width=3)
    ),
    "one-proportion --baseline 20% --interval wilson --half-width 0.05 --assurance 0.8": lambda: plan.OneProportion(
        baseline=0.2, interval="wilson"
    ).sample_size_for_width(half_width=0.05, assurance=0.8),
    "one-proportion --baseline 30% --test likelihood --effect 0.1": lambda: plan.OneProportion(
        baseline=0.3, test="likelihood"
    ).sample_size(effect=0.1),
    "two-proportions --baseline 20% --cluster-size 50 --between-cv 0.25 --effect 0.05": lambda: (
        plan.TwoProportions(baseline=0.2).with_clusters(50, between_cv=0.25).sample_size(effect=0.05)
    ),
    "two-proportions --baseline 60% --power-from outcomes --margin 0.2 --effect 0": lambda: (
        plan.TwoProportions(baseline=0.6, power_from="outcomes").with_margin(0.2).sample_size(effect=0)
    ),
    "many-means --groups 3 --split 1,1,2 --sd 2 --means 10,11,12": lambda: plan.ManyMeans(
        groups=3, split=(1, 1, 2), sd=2
    ).sample_size(means=[10, 11, 12]),
    "contrast --weights 1,-1,0 --split 2,1,1 --correction scheffe --effect 0.6": lambda: plan.Contrast(
        weights=(1, -1, 0), split=(2, 1, 1), correction="scheffe"
    ).sample_size(effect=0.6),
    "contrast --weights 1,-0.5,-0.5 --effect 0.6 --n 20 --find power": lambda: plan.Contrast(
        weights=(1, -0.5, -0.5)
    ).power(effect=0.6, n=20),
    "factorial --levels 2,3 --tested 2 --effect 0.3": lambda: plan.Factorial(levels=(2, 3), tested=(2,)).sample_size(
        effect=0.3
    ),
    "two-ranks --shares '0.2,0.3,0.5; 0.4,0.3,0.3'": lambda: plan.TwoRanks.of_categories(GRADES).sample_size(
        shares=GRADES
    ),
    "two-rates --baseline 0.5 --scale log --dispersion 0.4 --lift 0.3": lambda: plan.TwoRates(
        baseline=0.5, scale="log", dispersion=0.4
    ).sample_size(lift=0.3),
    "correlation --coefficient kendall --effect 0.3": lambda: plan.Correlation(coefficient="kendall").sample_size(
        effect=0.3
    ),
    "regression --predictors 2 --predictors-are random --effect 0.1": lambda: plan.Regression(
        predictors=2, predictors_are="random"
    ).sample_size(effect=0.1),
    "repeated-means --correlation 0.6 --before 2 --after 3 --analysed-by change --effect 0.4": lambda: (
        plan.RepeatedMeans(correlation=0.6, before=2, after=3, analysed_by="change").sample_size(effect=0.4)
    ),
    "crossover --sd-within 2 --baseline 10 --lift 0.1": lambda: plan.Crossover(sd_within=2, baseline=10).sample_size(
        lift=0.1
    ),
    "slope --sd-predictor 3 --sd-error 10 --others 2 --standardised 0.3": lambda: plan.Slope(
        sd_predictor=3, sd_error=10, others=2
    ).sample_size(standardised=0.3),
    "two-spreads --baseline 10 --treatment 13 --ratio 2": lambda: plan.TwoSpreads(baseline=10, ratio=2).sample_size(
        treatment=13
    ),
    "one-rate --baseline 0.5 --interval log --half-width 0.2": lambda: plan.OneRate(
        baseline=0.5, interval="log"
    ).sample_size_for_width(half_width=0.2),
    "all-pairs --groups 4 --correction sidak --effect 0.6": lambda: plan.AllPairs(
        groups=4, correction="sidak"
    ).sample_size(effect=0.6),
    "two-correlations --baseline 0.3 --treatment 0.5": lambda: plan.TwoCorrelations(baseline=0.3).sample_size(
        treatment=0.5
    ),
    "one-spread --treatment 1.4 --alternative greater": lambda: plan.OneSpread(alternative="greater").sample_size(
        treatment=1.4
    ),
}


@pytest.mark.parametrize("args", ASKED)
def test_the_command_says_what_the_library_says(args):
    """The JSON of the answer, number for number."""
    found = CliRunner().invoke(app, ["plan", *shlex.split(args), "--json"])
    assert found.exit_code == 0, found.output
    (said,), answer = json.loads(found.output)["results"], ASKED[args]().to_dict()
    for name in ("question", "n", "units", "n_exact", "power", "effect", "alpha", "half_width", "solved", "assurance"):
        told, own = said.get(name), answer.get(name)
        assert told == (pytest.approx(own, rel=1e-12) if isinstance(own, float) else own), name


@pytest.mark.parametrize(
    ("args", "says"),
    [
        ("two-means --effect 1 --n-control 20 --odd-total", "different splits"),
        ("two-means --effect 1 --n-control 20 --n 30", "looks for units"),
        ("two-means --effect 1 --costs 3", "two numbers"),
        ("two-means --effect 1 --covariates 3", "--covariates goes with --covariate"),
        ("two-means --effect 1 --between-cv 0.3", "--between-cv goes with --cluster-size"),
        ("two-means --effect 1 --margin-above 0.3", "--margin-above goes with --margin"),
        ("two-means --effect 1 --width expected", "--width goes with"),
        ("two-means --effect 1 --assurance 0.9", "--prior"),
        ("one-mean --half-width 1 --n 30 --assurance 0.9", "planned width"),
        ("one-mean --find precision --n 30 --power 0.9", "leave --power out"),
        ("two-ranks --shares '0.2,0.8; 0.4,0.6' --ties 0.3", "leave --ties out"),
        ("contrast --weights 1,1 --effect 1", "sum to 0"),
        ("two-means --effect 1 --n 30 --find spread", "'spread'"),
    ],
)
def test_what_does_not_go_together_is_refused(args, says):
    """Status 2, and which option it is."""
    found = CliRunner().invoke(app, ["plan", *shlex.split(args)])
    assert found.exit_code != 0
    assert says in str(found.output) + str(found.exception) + getattr(found, "stderr", "")
