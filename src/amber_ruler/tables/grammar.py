"""Conditions, names and measures as they are written in one line of text: parsed, and never evaluated.

    condition   column = value | column != value | < | <= | > | >=
                column in (value, value, ...) | column missing | column present
    names       column: value=name, value=name, ...
    derived     name: condition
    taken       name: count [where condition [and condition ...]] | any where ... | total column [where ...]
                | largest column [where ...] | first column by column | last column by column

A column or a value that holds signs or blanks stands in single or double quotes.
"""

from __future__ import annotations

import re
from typing import Any, NamedTuple, NoReturn

from amber_ruler.errors import InputError
from amber_ruler.tables.per_unit import Measure

_SIGNS = {"=": "equals", "!=": "differs", "<": "below", "<=": "at_most", ">": "above", ">=": "at_least"}
_PIECE = re.compile(
    r"""\s*(?:(?P<quoted>"[^"]*"|'[^']*')|(?P<sign><=|>=|!=|=|<|>|\(|\)|,|:)|(?P<word>[^\s"'<>=!(),:]+))"""
)


class Asked(NamedTuple):
    """A condition on a column, as `Table.where` takes it."""

    column: str
    condition: dict[str, Any]


class _Piece(NamedTuple):
    text: str
    kind: str
    at: int


class _Reader:
    """The pieces of a line, read from left to right."""

    def __init__(self, text: str, flag: str) -> None:
        self.text, self.flag, self.pieces, self.k = text, flag, [], 0
        at = 0
        while text[at:].strip():
            found = _PIECE.match(text, at)
            if found is None:
                start = at + len(text[at:]) - len(text[at:].lstrip())
                self.fail("this is not understood" if text[start] not in "\"'" else "this quote does not end", start)
            kind = str(found.lastgroup)
            word = found[kind]
            self.pieces.append(_Piece(word[1:-1] if kind == "quoted" else word, kind, found.start(kind)))
            at = found.end()

    def fail(self, what: str, at: int | None = None) -> NoReturn:
        """An error that points at the place."""
        if at is None:
            at = self.pieces[self.k].at if self.k < len(self.pieces) else len(self.text)
        raise InputError(f"{self.flag}: {what}:\n  {self.text}\n  {' ' * at}^")

    def next_is(self, *texts: str) -> bool:
        """Whether the next piece is one of these signs or words."""
        if self.k >= len(self.pieces):
            return False
        piece = self.pieces[self.k]
        return piece.kind != "quoted" and piece.text.casefold() in texts

    def take(self, *texts: str) -> bool:
        """Go past one of these, if it comes next."""
        found = self.next_is(*texts)
        self.k += found
        return found

    def name(self, role: str) -> str:
        """A column, a value or a new name: one piece, or several words up to a sign."""
        if self.k >= len(self.pieces) or self.pieces[self.k].kind == "sign":
            self.fail(f"{role} is missing")
        piece = self.pieces[self.k]
        self.k += 1
        return piece.text

    def end(self) -> None:
        """Nothing must follow."""
        if self.k < len(self.pieces):
            self.fail("nothing may follow here")

    def condition(self) -> Asked:
        """One condition."""
        column = self.name("the name of a column")
        if self.take("missing"):
            return Asked(column, {"missing": True})
        if self.take("present"):
            return Asked(column, {"missing": False})
        if self.take("in"):
            return Asked(column, {"among": self.listed()})
        for sign, how in _SIGNS.items():
            if self.take(sign):
                return Asked(column, {how: self.name("a value")})
        return self.fail("one of =, !=, <, <=, >, >=, in (...), missing, present is expected")

    def listed(self) -> list[str]:
        """Values in brackets."""
        if not self.take("("):
            self.fail("'(' is expected")
        found = [self.name("a value")]
        while self.take(","):
            found.append(self.name("a value"))
        if not self.take(")"):
            self.fail("',' or ')' is expected")
        return found


def condition(text: str, flag: str = "--where") -> Asked:
    """Read a condition such as `day >= 15`.

    Examples
    --------
    >>> condition("day >= 15")
    Asked(column='day', condition={'at_least': '15'})
    """
    reader = _Reader(text, flag)
    found = reader.condition()
    reader.end()
    return found


def names(text: str, flag: str = "--relabel") -> tuple[str, dict[str, str]]:
    """Read names such as `form: 0=current, 1=short`."""
    reader = _Reader(text, flag)
    column = reader.name("the name of a column")
    if not reader.take(":"):
        reader.fail("':' is expected behind the column")
    found: dict[str, str] = {}
    while True:
        value = reader.name("a value")
        if not reader.take("="):
            reader.fail("'=' is expected between a value and its name")
        words = [reader.name("a name")]
        while reader.k < len(reader.pieces) and not reader.next_is(","):
            words.append(reader.name("a name"))
        found[value] = " ".join(words)
        if not reader.take(","):
            break
    reader.end()
    return column, found


def derived(text: str, flag: str = "--derive") -> tuple[str, Asked]:
    """Read a new column of 0 and 1 such as `late: minutes > 15`."""
    reader = _Reader(text, flag)
    name = reader.name("a name")
    if not reader.take(":"):
        reader.fail("':' is expected behind the new name")
    found = reader.condition()
    reader.end()
    return name, found


def taken(text: str, flag: str = "--take") -> tuple[str, Measure]:
    """Read what to take of a unit's events, such as `searches: count where event = search`."""
    reader = _Reader(text, flag)
    name = reader.name("a name")
    if not reader.take(":"):
        reader.fail("':' is expected behind the new name")
    for how in ("count", "any", "total", "largest", "first", "last"):
        if reader.take(how):
            break
    else:
        reader.fail("one of count, any, total, largest, first, last is expected")
    column = order = None
    if how not in ("count", "any"):
        column = reader.name("the name of a column")
    if how in ("first", "last"):
        if not reader.take("by"):
            reader.fail("'by' and the column of the order are expected")
        order = reader.name("the name of a column")
    where: dict[str, Any] = {}
    if how not in ("first", "last") and reader.take("where"):
        while True:
            at = reader.k
            asked = reader.condition()
            (kind, value), *_ = asked.condition.items()
            if kind not in ("equals", "among") or asked.column in where:
                reader.k = at
                reader.fail("a column = value or a column in (...), each column once, is expected")
            where[asked.column] = value
            if not reader.take("and"):
                break
    if how == "any" and not where:
        reader.fail("'where' is expected: which event?")
    reader.end()
    return name, Measure(how, column, order, where)
