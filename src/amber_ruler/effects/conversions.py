"""One effect size turned into another, and the words that custom has for their sizes."""

from __future__ import annotations

import numpy as np

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate, normal
from amber_ruler.numeric.gate import Number, scalar_or_array

# From where on an effect is customarily called small, medium, large.
_WORDS = {
    "d": (0.2, 0.5, 0.8),
    "h": (0.2, 0.5, 0.8),
    "r": (0.1, 0.3, 0.5),
    "w": (0.1, 0.3, 0.5),
    "f": (0.1, 0.25, 0.4),
    "f²": (0.02, 0.15, 0.35),
}


def convert(value: Number, start: str, end: str, *, ratio: float = 1.0, share: float | None = None) -> Number:
    """Turn one effect size of two groups into another.

    Parameters
    ----------
    value : float or array_like
        The effect size.
    start, end : str
        What it is, and what is wanted: "d", "r", "odds ratio", "log odds ratio", "f", "f²", "η²",
        "superiority" (the chance that a value of treatment is above one of control) or "h". f and the squares have no
        sign.
    ratio : float
        Units in treatment over units in control; r and f depend on it.
    share : float between 0 and 1, optional
        Share of successes in control; needed for h only.

    Returns
    -------
    float or ndarray

    Notes
    -----
    With k the ratio: r = d / sqrt(d^2 + (1 + k)^2 / k), f = abs(d) sqrt(k) / (1 + k), η² = f² / (1 + f²), superiority =
    Φ(d / sqrt(2)) of normal values with equal spreads, odds ratio = exp(pi d / sqrt(3)). The last takes a logistic
    distribution behind the yes and no, and is an approximation. h follows from the odds ratio and the share.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed.
    .. [2] Hasselblad & Hedges (1995), Psychological Bulletin 117, 167-178, for the odds ratio.

    Examples
    --------
    >>> round(convert(0.5, "d", "r"), 4), round(convert(0.5, "d", "odds ratio"), 3)
    (0.2425, 2.477)
    """
    known = ("d", "r", "odds ratio", "log odds ratio", "f", "f²", "η²", "superiority", "h")
    gate.choice("start", start, known)
    gate.choice("end", end, known)
    x, k = gate.finite("value", value), float(gate.positive("ratio", ratio))
    scale = (1 + k) / np.sqrt(k)
    base = 0.5 if share is None else float(gate.between("share", share, 0, 1))
    if "h" in (start, end) and share is None:
        raise InputError("h depends on where the shares lie: give share, that of control.")
    angle, slope = np.arcsin(np.sqrt(base)), np.pi / np.sqrt(3)
    if start == "r":
        gate.between("value", value, -1, 1)
        d = scale * x / np.sqrt((1 - x) * (1 + x))
    elif start == "odds ratio":
        d = np.log(gate.positive("value", value)) / slope
    elif start == "log odds ratio":
        d = x / slope
    elif start in ("f", "f²"):
        size = gate.at_least("value", value, 0)
        d = (size if start == "f" else np.sqrt(size)) * scale
    elif start == "η²":
        share_of = gate.at_least("value", value, 0)
        gate.between("1 - η²", 1 - share_of, 0, 1 + 1e-15)
        d = np.sqrt(share_of / (1 - share_of)) * scale
    elif start == "superiority":
        d = np.sqrt(2) * normal.quantile(gate.between("value", value, 0, 1))
    elif start == "h":
        gate.between("the share of treatment that h leads to", (x / 2 + angle) * 2 / np.pi, 0, 1)
        turn, own = np.tan(x / 2), np.sqrt(base / (1 - base))
        d = 2 * (np.log1p(turn / own) - np.log1p(-turn * own)) / slope
    else:
        d = x
    if end == "r":
        return scalar_or_array(d / np.sqrt(d * d + scale * scale))
    if end == "odds ratio":
        return scalar_or_array(np.exp(slope * d))
    if end == "log odds ratio":
        return scalar_or_array(slope * d)
    if end in ("f", "f²", "η²"):
        f = np.abs(d) / scale
        return scalar_or_array({"f": f, "f²": f * f, "η²": f * f / (1 + f * f)}[end])
    if end == "superiority":
        return scalar_or_array(normal.cdf(d / np.sqrt(2)))
    if end == "h":
        own, more = np.sqrt(base / (1 - base)), np.expm1(slope * d / 2)
        return scalar_or_array(2 * np.arctan2(own * more, 1 + own * own * (1 + more)))
    return scalar_or_array(d)


def customary_word(scale: str, value: float) -> str:
    """Say by which word an effect of this size is customarily called: a habit, no reason to plan for it.

    Parameters
    ----------
    scale : "d", "h", "r", "w", "f" or "f²"
        What the effect is measured by.
    value : float
        Its size, of either sign.

    Returns
    -------
    str
        "less than small", "small", "medium" or "large". What is small on paper may matter, and the other way round:
        the words were meant for lack of anything better.

    References
    ----------
    .. [1] Cohen (1988), Statistical Power Analysis for the Behavioral Sciences, 2nd ed.

    Examples
    --------
    >>> customary_word("d", -0.55)
    'medium'
    """
    gate.choice("scale", scale, _WORDS)
    size = abs(float(gate.finite("value", value)))
    words = ("less than small", "small", "medium", "large")
    return words[sum(size >= limit for limit in _WORDS[scale])]
