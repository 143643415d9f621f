"""Truth that shares no code with the library: high-precision integrals of densities, written from the definitions."""

import mpmath as mp

mp.mp.dps = 25


def area(log_density, start, step, growth="1.25"):
    """Integral of exp(log_density) from start outwards in the direction of step, until nothing is left."""
    start, step = mp.mpf(start), mp.mpf(step)
    # Scaled by the value at the start: mpmath's quadrature stops at an absolute error.
    peak = log_density(start)
    total, small, a = mp.mpf(0), 0, start
    while small < 2:
        piece = abs(mp.quad(lambda u: mp.exp(log_density(u) - peak), [a, a + step], method="gauss-legendre"))
        total += piece
        small = small + 1 if piece < total * mp.mpf(10) ** -14 else 0
        a += step
        step *= mp.mpf(growth)
    return total * mp.exp(peak)


def step_at(log_density, w):
    """A step over which a log density falls by a few units."""
    h = mp.mpf(10) ** -10
    slope = abs(log_density(w + h) - log_density(w - h)) / (2 * h)
    bend = abs(log_density(w + h) - 2 * log_density(w) + log_density(w - h)) / h**2
    return 3 / (slope + mp.sqrt(bend) + mp.mpf(10) ** -6)


def tail(log_density, w, *, upper):
    step = step_at(log_density, mp.mpf(w))
    return area(log_density, w, step if upper else -step)


def chi_square(df):
    """Log density of log X."""
    half = mp.mpf(df) / 2
    constant = -half * mp.log(2) - mp.loggamma(half)
    return lambda w: constant + half * w - mp.exp(w) / 2


def fisher(df1, df2):
    """Log density of log F."""
    a, b = mp.mpf(df1), mp.mpf(df2)
    constant = mp.loggamma((a + b) / 2) - mp.loggamma(a / 2) - mp.loggamma(b / 2) + a / 2 * mp.log(a / b)
    return lambda w: constant + a / 2 * w - (a + b) / 2 * mp.log1p(a / b * mp.exp(w))


def t_upper(t, df):
    """P(T > t) for t > 0."""
    df, t = mp.mpf(df), mp.mpf(t)
    with mp.workdps(30):
        return mp.betainc(df / 2, mp.mpf(1) / 2, 0, df / (df + t * t), regularized=True) / 2


def noncentral_t(t, df, shift, *, upper):
    """Tail of (Z + shift) / S, by the definition: the mean over S of a normal tail."""
    t, df, shift = mp.mpf(t), mp.mpf(df), mp.mpf(shift)
    constant = mp.log(2) + df / 2 * mp.log(df / 2) - mp.loggamma(df / 2)
    sign = -1 if upper else 1

    def log_integrand(y):
        return (
            constant
            + df * y
            - df * mp.exp(2 * y) / 2
            + mp.log(mp.erfc(-sign * (t * mp.exp(y) - shift) / mp.sqrt(2)) / 2)
        )

    low, high = mp.mpf(-40), mp.mpf(5)
    for _ in range(80):
        left, right = low + (high - low) * mp.mpf("0.382"), low + (high - low) * mp.mpf("0.618")
        low, high = (left, high) if log_integrand(left) < log_integrand(right) else (low, right)
    mode = (low + high) / 2
    # Short, even steps: away from the mode the normal tail may turn over sharply.
    step = step_at(log_integrand, mode) / 10
    return area(log_integrand, mode, step, "1.02") + area(log_integrand, mode, -step, "1.02")


def poisson_mixture(central, noncentrality, terms=400):
    """Sum of Poisson weights times a central tail that depends on the index."""
    half = mp.mpf(noncentrality) / 2
    return mp.fsum(mp.exp(-half + j * mp.log(half) - mp.loggamma(j + 1)) * central(j) for j in range(terms))


def welch(n1, mean1, sd1, n0, mean0, sd0, null=0):
    """Statistic, degrees of freedom and two-sided p of the unequal-variance t test."""
    n1, mean1, sd1, n0, mean0, sd0 = (mp.mpf(v) for v in (n1, mean1, sd1, n0, mean0, sd0))
    a, b = sd1**2 / n1, sd0**2 / n0
    t = (mean1 - mean0 - null) / mp.sqrt(a + b)
    df = (a + b) ** 2 / (a**2 / (n1 - 1) + b**2 / (n0 - 1))
    return t, df, 2 * t_upper(abs(t), df)


def bayes_factor(t, df, effective, scale):
    """Rouder et al. (2009), equation 1, in the effect-size form of Gronau, Ly & Wagenmakers: over g, by quadrature."""
    t, df, n, r = (mp.mpf(v) for v in (t, df, effective, scale))

    def integrand(g):
        grown = 1 + n * g * r * r
        fit = (1 + t * t / (grown * df)) ** (-(df + 1) / 2) / (1 + t * t / df) ** (-(df + 1) / 2)
        return grown ** mp.mpf(-0.5) * fit * (2 * mp.pi) ** mp.mpf(-0.5) * g ** mp.mpf(-1.5) * mp.exp(-1 / (2 * g))

    return mp.quad(integrand, [0, 0.01, 0.1, 0.5, 1, 3, 10, 100, 1000, 100000, mp.inf])
