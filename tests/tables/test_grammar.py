"""Conditions, names and measures written in one line: every form, and errors that point at the place."""

import pytest

import amber_ruler as ar
from amber_ruler import InputError
from amber_ruler.tables import grammar


@pytest.mark.parametrize(
    ("text", "column", "condition"),
    [
        ("day >= 15", "day", {"at_least": "15"}),
        ("day>15", "day", {"above": "15"}),
        ("form != guided", "form", {"differs": "guided"}),
        ("fare <= 3.5", "fare", {"at_most": "3.5"}),
        ("fare < -2", "fare", {"below": "-2"}),
        ("port = 'Tern Quay'", "port", {"equals": "Tern Quay"}),
        ('"odd, name" = x', "odd, name", {"equals": "x"}),
        ("port in (Amble, 'Tern Quay')", "port", {"among": ["Amble", "Tern Quay"]}),
        ("fare missing", "fare", {"missing": True}),
        ("fare present", "fare", {"missing": False}),
        ("when < 2026-10-01", "when", {"below": "2026-10-01"}),
    ],
)
def test_every_condition(text, column, condition):
    """As `where` takes it."""
    assert grammar.condition(text) == (column, condition)


def test_names_new_columns_and_measures():
    """As relabel, derive and units take them."""
    assert grammar.names("form: 0=current, 1=short form") == ("form", {"0": "current", "1": "short form"})
    assert grammar.derived("late: minutes > 15") == ("late", ("minutes", {"above": "15"}))
    searches = grammar.taken("searches: count where event = search and form in (a, b)")
    assert searches == ("searches", ar.tables.Measure("count", None, None, {"event": "search", "form": ["a", "b"]}))
    assert grammar.taken("n: count")[1] == ar.tables.count()
    assert grammar.taken("spent: total amount")[1] == ar.tables.total("amount")
    assert grammar.taken("booked: any where event = booking")[1] == ar.tables.any_of(event="booking")
    assert grammar.taken("first: first amount by day")[1] == ar.tables.first("amount", "day")
    assert grammar.taken("top: largest amount where event = booking")[1] == ar.tables.largest("amount", event="booking")


@pytest.mark.parametrize(
    ("read", "text", "at", "says"),
    [
        (grammar.condition, "day >> 2", 5, "a value is missing"),
        (grammar.condition, "day", 3, "is expected"),
        (grammar.condition, "= 3", 0, "the name of a column is missing"),
        (grammar.condition, "day = 3 4", 8, "nothing may follow"),
        (grammar.condition, "port in Amble", 8, "'\\('"),
        (grammar.condition, "port in (Amble", 14, "',' or '\\)'"),
        (grammar.condition, "port = 'Amble", 7, "quote does not end"),
        (grammar.names, "form 0=a", 5, "':' is expected"),
        (grammar.names, "form: 0", 7, "'=' is expected"),
        (grammar.derived, "late minutes > 3", 5, "':' is expected"),
        (grammar.taken, "n: sum x", 3, "one of count, any"),
        (grammar.taken, "n: any", 6, "which event"),
        (grammar.taken, "n: first x", 10, "'by'"),
        (grammar.taken, "n: count where day > 3", 15, "column = value"),
    ],
)
def test_errors_point_at_the_place(read, text, at, says):
    """A caret below the sign that is wrong."""
    with pytest.raises(InputError, match=says) as caught:
        read(text)
    *_, shown, caret = str(caught.value).split("\n")
    assert shown == f"  {text}"
    assert caret.index("^") - 2 == at


def test_nothing_is_evaluated():
    """Text that would be code elsewhere is text here."""
    with pytest.raises(InputError):
        grammar.condition("__import__('os').system('true') = 1")
    assert grammar.condition("x = 'drop table rows; --'").condition == {"equals": "drop table rows; --"}
