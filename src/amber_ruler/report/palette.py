"""The look of the house in one place: colours and signs."""

from __future__ import annotations

AMBER = "#d98e04"
INK = "#22303c"
SEA = "#1b7f79"
BRICK = "#b5442e"
SAND = "#eadfc8"
DUNE = "#b59f6f"  # sand for a terminal, visible on dark and on light
STONE = "#7a8288"

# Never colour alone: each verdict has a sign and a word of its own.
VERDICTS = {
    "better": ("▲", SEA),
    "worse": ("▼", BRICK),
    "no difference that matters": ("=", INK),
    "undecided": ("?", AMBER),
    "differ": ("≠", SEA),
}
SEVERITIES = {"fine": ("✓", SEA), "note": ("·", STONE), "warning": ("!", AMBER), "serious": ("✗", BRICK)}

LINES = (
    (AMBER, "-"), (SEA, "--"), (BRICK, "-."), (INK, ":"), (DUNE, "-"),
    (SEA, "-"), (BRICK, ":"), (INK, "--"), (AMBER, "-."), (STONE, "-"),
)  # fmt: skip

# What stands in where a stream can show nothing but ASCII.
PLAIN = str.maketrans(
    dict(
        zip(
            "−–·│┃░◀▶─┬┴┼┿═╪╧━├┤●▲▼✓✗×▁▂▃▄▅▆▇█",
            "--*||:<>-++|+~|+=[]O^v+xx_.:-=+*#",
            strict=True,
        )
    )
    | {
        "±": "+/-",
        "≥": ">=",
        "≤": "<=",
        "α": "alpha",
        "Δ": "D",
        "δ": "delta",
        "χ": "chi",
        "²": "2",
        "→": "->",
        "≠": "!=",
        "η": "eta",
        "ε": "eps",
        "ω": "omega",
        "é": "e",
        "á": "a",
        "Š": "S",
        "…": "...",
    }
)
