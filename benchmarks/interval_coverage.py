"""Error rates and coverage by simulation: python benchmarks/interval_coverage.py > docs/coverage.md.

Every comparison of a row is one element of one broadcast call; ranks and quantiles go sample by sample.
"""

from __future__ import annotations

from typing import Any

import numpy as np

import amber_ruler as ar

RUNS, SINGLE, FEW = 20_000, 2_000, 500
ALPHA = 0.05


def summary(values: Any, label: str) -> ar.Summary:
    n = float(values.shape[1])
    return ar.Summary(np.full(len(values), n), values.mean(axis=1), values.std(axis=1, ddof=1), label)


def line(method: str, situation: str, rejected: Any, held: Any) -> str:
    runs = len(rejected)
    error = 100 * np.sqrt(ALPHA * (1 - ALPHA) / runs)
    rates = (f"{100 * np.mean(part):.1f}" for part in (rejected, held))
    return f"| {method} | {situation} | {' | '.join(rates)} | {error:.2f} |"


def of_means(rng: np.random.Generator) -> list[str]:
    lognormal = np.exp(0.5)
    draws = {
        "normal, 20 and 20": lambda _: rng.normal(0, 1, (RUNS, 20)),
        "normal, 10 with sd 3 and 40 with sd 1": lambda s: rng.normal(0, (3, 1)[s], (RUNS, (10, 40)[s])),
        "lognormal, 20 and 20": lambda _: rng.lognormal(0, 1, (RUNS, 20)) - lognormal,
        "lognormal, 200 and 50": lambda s: rng.lognormal(0, 1, (RUNS, (200, 50)[s])) - lognormal,
    }
    found = []
    for situation, draw in draws.items():
        groups = [summary(draw(side), label) for side, label in enumerate(("a", "b"))]
        for variances in ("unequal", "equal"):
            r = ar.measure.means(*groups, variances=variances)
            found.append(line(f"means, {variances} variances", situation, r.p_value < ALPHA, r.interval.contains(0.0)))
    pairs = rng.normal(0, 1, (RUNS, 12)) + rng.exponential(1, (RUNS, 12)) - 1
    r = ar.measure.mean(summary(pairs, "differences"), null=0.0)
    found.append(line("one mean, pairs", "12 skewed differences", r.p_value < ALPHA, r.interval.contains(0.0)))
    return found


def of_shares(rng: np.random.Generator) -> list[str]:
    found = []
    for n1, n0, share in ((30, 30, 0.5), (100, 100, 0.1), (400, 100, 0.02), (2_000, 2_000, 0.005)):
        one, two = (ar.Counts(rng.binomial(n, share, RUNS), n, v) for n, v in ((n1, "a"), (n0, "b")))
        situation = f"both {100 * share:g}%, {n1:,} and {n0:,}"
        for kind in ("score", "miettinen-nurminen", "newcombe", "agresti-caffo"):
            r = ar.measure.proportions(one, two, interval=kind)
            found.append(
                line(f"two shares, score test, {kind}", situation, r.p_value < ALPHA, r.interval.contains(0.0))
            )
    for n1, n0, share in ((30, 30, 0.5), (100, 100, 0.1), (400, 200, 0.03)):
        x1, x0 = (rng.binomial(n, share, RUNS) for n in (n1, n0))
        some = (x1 > 0) & (x0 > 0) & (x1 < n1) & (x0 < n0)
        one, two = ar.Counts(x1[some], n1, "a"), ar.Counts(x0[some], n0, "b")
        situation = f"both {100 * share:g}%, {n1:,} and {n0:,}"
        r = ar.measure.proportions(one, two, continuity="half")
        found.append(line("two shares, score, corrected", situation, r.p_value < ALPHA, r.interval.contains(0.0)))
        for ratio in ("risk", "odds"):
            for test in ("score", "n-1", "log-wald"):
                r = ar.measure.share_ratio(one, two, ratio=ratio, test=test)
                name = f"ratio of {'shares' if ratio == 'risk' else 'odds'}, {test}"
                found.append(line(name, situation, r.p_value < ALPHA, r.interval.contains(1.0)))
    for n, share in ((20, 0.3), (100, 0.02), (1_000, 0.005)):
        group = ar.Counts(rng.binomial(n, share, RUNS), n, "a")
        for test, kind in (
            ("score", "wilson"),
            ("exact", "clopper-pearson"),
            ("score", "jeffreys"),
            ("score", "agresti-coull"),
        ):
            r = ar.measure.proportion(group, null=share, test=test, interval=kind)
            situation = f"{100 * share:g}% of {n:,}"
            found.append(line(f"one share, {test}, {kind}", situation, r.p_value < ALPHA, r.interval.contains(share)))
    for n, shares in ((50, (0.3, 0.1, 0.1, 0.5)), (200, (0.05, 0.02, 0.02, 0.91))):
        cells = rng.multinomial(n, shares, RUNS).T
        situation = f"{n} pairs, {100 * (shares[1] + shares[2]):g}% change"
        for kind in ("score", "wald", "agresti-min", "newcombe"):
            r = ar.measure.paired_proportions(tuple(cells), interval=kind)
            found.append(line(f"paired shares, {kind}", situation, r.p_value < ALPHA, r.interval.contains(0.0)))
    return found


def of_rates(rng: np.random.Generator) -> list[str]:
    found = []
    for mean1, mean0 in ((10, 10), (3, 12), (200, 100)):
        one, two = (ar.Events(rng.poisson(m, RUNS), float(m), v) for m, v in ((mean1, "a"), (mean0, "b")))
        situation = f"{mean1} and {mean0} events expected"
        for test in ("score", "exact"):
            r = ar.measure.rates(one, two, test=test)
            found.append(line(f"two rates, {test}", situation, r.p_value < ALPHA, r.interval.contains(0.0)))
        some = (one.count > 0) & (two.count > 0)
        both = [ar.Events(e.count[some], np.full(some.sum(), e.exposure), e.label) for e in (one, two)]
        for test in ("exact", "mid-p", "log-wald", "root", "likelihood"):
            r = ar.measure.rate_ratio(*both, test=test)
            found.append(line(f"ratio of rates, {test}", situation, r.p_value < ALPHA, r.interval.contains(1.0)))
    counts = [rng.negative_binomial(2, 0.4, (RUNS, n)) for n in (40, 25)]
    for spread in ("quasi-poisson", "negative-binomial", "own"):
        r = ar.measure.count_ratio(*(summary(c, v) for c, v in zip(counts, "ab", strict=True)), spread=spread)
        found.append(
            line(
                f"ratio of counts, {spread}",
                "negative binomial, 40 and 25",
                r.p_value < ALPHA,
                r.interval.contains(1.0),
            )
        )
    return found


def one_by_one(rng: np.random.Generator) -> list[str]:
    methods = {
        "ranks": ar.measure.ranks,
        "distributions": ar.measure.distributions,
        "signs of differences": lambda x, y: ar.measure.signs(x.values - y.values),
        "quantiles, order statistics": ar.measure.quantiles,
        "quantiles, density": lambda x, y: ar.measure.quantiles(x, y, spread="density"),
        "spreads, F test": ar.measure.spreads,
        "spreads, Brown and Forsythe": lambda x, y: ar.measure.spreads(x, y, test="brown-forsythe"),
    }
    found = []
    for situation, draw in (
        ("normal, 40 and 40", lambda n: rng.normal(0, 1, n)),
        ("lognormal, 40 and 40", lambda n: rng.lognormal(0, 1, n)),
    ):
        samples = [(ar.Sample(draw(40), "a"), ar.Sample(draw(40), "b")) for _ in range(SINGLE)]
        for method, call in methods.items():
            results = [call(*pair) for pair in samples]
            rejected = np.array([r.p_value < ALPHA for r in results])
            held = np.array([r.interval.contains(r.null) for r in results])
            found.append(line(method, situation, rejected, held))
    return found


def of_pairs(rng: np.random.Generator) -> list[str]:
    """The chance of any false claim among the pairs of four groups, and of all intervals holding 0."""
    sizes = (10, 15, 25, 50)
    situations = {
        "normal": lambda k: rng.normal(0, 1, sizes[k]),
        "normal, the smallest group widest": lambda k: rng.normal(0, (4, 3, 2, 1)[k], sizes[k]),
        "lognormal": lambda k: rng.lognormal(0, 1, sizes[k]),
    }
    found = []
    for situation, draw in situations.items():
        seen: dict[str, list[tuple[bool, bool]]] = {}
        for run in range(SINGLE):
            samples = [draw(k) for k in range(4)]
            arms = [ar.Summary(len(v), v.mean(), v.std(ddof=1), str(k)) for k, v in enumerate(samples)]
            for variances in ("unequal", "equal"):
                r = ar.measure.groups(arms, variances=variances)
                own = "games-howell" if variances == "unequal" else "tukey-kramer"
                asked = {m: r.pairwise(m) for m in (own, "scheffe", "bonferroni", "holm", "sidak", "none")}
                if variances == "unequal":
                    del asked["scheffe"]
                if run < FEW:
                    asked["dunnett"] = r.against("0")
                for method, p in asked.items():
                    claimed = p.p_value < ALPHA if p.correction is None else p.correction.stands
                    held = bool(np.all(p.interval.contains(0.0)))
                    seen.setdefault(f"pairs, {method}, {variances} variances", []).append((bool(np.any(claimed)), held))
        for method, runs in seen.items():
            rejected, held = np.array(runs).T
            found.append(line(method, f"{situation}; 10, 15, 25 and 50 units", rejected, held))
    return found


def main() -> None:
    rng = np.random.default_rng(20)
    print("# Error rates and coverage\n")
    print(
        "Simulated where nothing differs: how often a test at alpha 5 % rejects, and how often the 95 % interval\n"
        f"holds the truth, in {RUNS:,} runs ({SINGLE:,} of ranks, quantiles, spreads and pairs, {FEW} of Dunnett's).\n"
        "Of pairs it is how often any of them is claimed, and how often all their intervals hold the truth. Made by\n"
        "`python benchmarks/interval_coverage.py`, in about ten minutes.\n"
    )
    print("| method | situation | rejects, % | holds, % | Monte-Carlo error, % |\n| --- | --- | --- | --- | --- |")
    for part in (of_means, of_shares, of_rates, one_by_one, of_pairs):
        print("\n".join(part(rng)))


if __name__ == "__main__":
    main()
