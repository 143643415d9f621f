"""How a file writes its values: the sign between columns, decimal signs, what stands for a missing value."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from amber_ruler.errors import InputError

_WRITTEN = r"^\s*[+-]?\s*(\d+|\d{{1,3}}({thousands}\d{{3}})+)?({decimal}\d+)?\s*%?\s*$"
# Two values of which the first is the success.
_TWO = {"yes": "no", "y": "n", "true": "false", "won": "lost", "on": "off"}
_OFTEN, _SHORT = 20, 6
_MISSING = {"n/a", "na", "-", "--", ".", "null", "none", "nan", "?", "missing"}


@dataclass(frozen=True, slots=True)
class Dialect:
    """How a CSV file is written; see `table`."""

    separator: str | None = None
    decimal: str | None = None
    thousands: str | None = None
    missing: tuple[str, ...] = ()
    encoding: str = "utf-8"
    skip: int = 0

    @classmethod
    def of(
        cls,
        separator: str | None,
        decimal: str | None,
        thousands: str | None,
        missing: str | Sequence[str],
        encoding: str | None,
        skip: int,
    ) -> Dialect:
        """What was said, looked at."""
        if separator is not None and (not isinstance(separator, str) or len(separator) != 1):
            raise InputError.rule("separator", separator, "one sign, such as ';'")
        if decimal not in (None, ".", ","):
            raise InputError.rule("decimal", decimal, "'.' or ','")
        if thousands is not None and thousands not in (",", ".", " ", "'", "_"):
            raise InputError.rule("thousands", thousands, "one of , . ' _ or a space")
        if thousands is not None and thousands == (decimal or "."):
            raise InputError(f"Thousands and decimals can't both be kept apart by {thousands!r}.", name="thousands")
        if not isinstance(skip, int) or isinstance(skip, bool) or skip < 0:
            raise InputError.rule("skip", skip, "a number of lines, 0 or more")
        words = (missing,) if isinstance(missing, str) else tuple(missing)
        if not all(isinstance(word, str) for word in words):
            raise InputError.rule("missing", missing, "text, or a list of text, that stands for a missing value")
        name = encoding or "utf-8"
        try:
            "".encode(name)
        except (LookupError, TypeError):
            raise InputError.rule("encoding", encoding, "the name of an encoding, such as 'latin-1'") from None
        return cls(separator, decimal, thousands, words, name, skip)

    @property
    def usual(self) -> bool:
        """Whether nothing was said."""
        return self == Dialect()

    @property
    def people(self) -> bool:
        """Whether numbers may be written as people write them."""
        return self.decimal is not None or self.thousands is not None

    def holds(self, text: str) -> bool:
        """Whether text is a number as it was said that people write them."""
        return self.people and re.fullmatch(self.pattern, text) is not None

    @property
    def pattern(self) -> str:
        """What such a number looks like, as a regular expression that engines know."""
        thousands, decimal = re.escape(self.thousands or "\x00"), re.escape(self.decimal or ".")
        thousands = thousands if self.thousands else "_"
        return _WRITTEN.format(thousands=thousands, decimal=decimal)


def guess(values: Sequence[str], column: str) -> str:
    """What text in a column of numbers looks like, and the option that reads it; empty where it looks like none."""
    some = [value.strip() for value in values]
    first = some[0] if some else ""
    apart = r"[+-]?\d{1,3}(,\d{3})+(\.\d+)?"
    if some and all(re.fullmatch(apart, v) for v in some):
        return f"{first} looks like a number with thousands apart: thousands=',' (--thousands ,)"
    if any(re.fullmatch(r"[+-]?\d{1,3}(\.\d{3})*,\d+", v) for v in some):
        thousands = "." if any(re.search(r"\d\.\d{3}", v) for v in some) else ""
        more = ", thousands='.'" if thousands else ""
        flag = " --thousands ." if thousands else ""
        found = next(v for v in some if re.fullmatch(r"[+-]?\d{1,3}(\.\d{3})*,\d+", v))
        return f"{found} looks like a decimal comma: decimal=','{more} (--decimal ,{flag})"
    if any(re.fullmatch(r"[+-]?\d+([.,]\d+)?\s*%", v) for v in some):
        sign = "," if any(re.search(r"\d,\d", v) for v in some) else "."
        return f"{first} looks like a percentage: decimal={sign!r} reads it as a share (--decimal {sign})"
    if first.casefold() in _MISSING or (len(set(some)) == 1 and len(some) > 1 and len(first) < _SHORT):
        return f"{first!r} looks like a missing value: missing=[{first!r}] (--missing {first!r})"
    kinds = {v.casefold() for v in some}
    known = {v: v.casefold() for v in some if kinds == {v.casefold(), _TWO.get(v.casefold())}}
    if known or (len(kinds) == 2 and len(some) > _OFTEN):
        success = next(iter(known), first)
        return f"{column!r} has two values: success={success!r} makes them 1 and 0 (--success {success!r})"
    return ""
