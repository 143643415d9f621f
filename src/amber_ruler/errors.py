"""One family of errors: what was wrong, where, what was expected, what to do next."""

from __future__ import annotations

from collections.abc import Iterable
from difflib import get_close_matches
from reprlib import Repr

__all__ = [
    "AmberRulerError",
    "DataError",
    "DesignError",
    "EngineError",
    "ExperimentFileError",
    "InputError",
]

_BRIEF = Repr()  # of huge numbers and long lists the ends
_BRIEF.maxlong = _BRIEF.maxstring = _BRIEF.maxother = 60


class AmberRulerError(Exception):
    """Base of every error that Amber Ruler raises on purpose."""


class InputError(AmberRulerError, ValueError):
    """An argument is outside what the question allows.

    Attributes
    ----------
    name : str or None
        The argument, where one is to blame.
    value : object
        What was given.
    """

    def __init__(self, message: str, *, name: str | None = None, value: object = None) -> None:
        super().__init__(message)
        self.name = name
        self.value = value

    @classmethod
    def rule(cls, name: str, value: object, rule: str, way_out: str = "") -> InputError:
        """Build the message once: name, rule, value, way out."""
        text = f"{name} must be {rule}, got {_BRIEF.repr(value)}"
        return cls(f"{text}. {way_out}" if way_out else text, name=name, value=value)

    @classmethod
    def unknown(cls, name: str, value: object, known: Iterable[object]) -> InputError:
        """Say that `value` is not among `known`, and which of them is nearest."""
        return cls(f"{name}: {_unknown(value, known)}", name=name, value=value)


class DataError(AmberRulerError, ValueError):
    """The rows cannot give the answer asked for; names the column and the variant."""

    @classmethod
    def unknown(cls, what: str, value: object, known: Iterable[object]) -> DataError:
        """Say that a column or label does not occur, and which of those that do is nearest."""
        return cls(f"{what}: {_unknown(value, known)}")


class DesignError(AmberRulerError, ValueError):
    """A plan that no number of units can meet, or that asks for too much or too little."""


class ExperimentFileError(AmberRulerError, ValueError):
    """The experiment file, or a saved digest, is not what it should be."""


class EngineError(AmberRulerError, RuntimeError):
    """The engine that holds the rows failed."""


def _unknown(value: object, known: Iterable[object]) -> str:
    names = [str(k) for k in known]
    near = get_close_matches(str(value), names, n=3)
    shown = ", ".join(repr(n) for n in names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
    hint = f" Did you mean {' or '.join(repr(n) for n in near)}?" if near else ""
    return f"{str(value)!r} is not there. There is: {shown or 'nothing'}.{hint}"
