"""The register of public methods: what each takes and can be asked from, kept where it is defined.

From it and from the signatures come the commands, the reference and the laws that every method is held to. A registered
method also remembers in its result how it was asked.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from functools import cached_property, wraps
from types import MappingProxyType, NoneType, UnionType
from typing import Any, Literal, TypeVar, Union, get_args, get_origin, get_type_hints

from amber_ruler import settings as common
from amber_ruler.docstrings import described, with_choices, with_common
from amber_ruler.errors import InputError
from amber_ruler.numeric import gate
from amber_ruler.samples.gate import Needs, Takes, hold
from amber_ruler.settings import COMMON, taken

F = TypeVar("F", bound=Callable[..., Any])

ROOMS = ("measure", "bayes", "adjust")  # the rooms whose public functions are registered
_PUBLISHED: Mapping[str, tuple[str, ...]] = {
    "mean": ("n", "mean", "sd"),
    "share": ("successes", "trials"),
    "rate": ("events", "exposure"),
}
_AS_FOR = re.compile(r"As for `(?:(\w+)\.)?(\w+)`")
_ROLES = {"one": "group", "several": "samples", "factors": "cells", "pairs": "both"}


@dataclass(frozen=True)
class Method:
    """A public method and what is known of it.

    Attributes
    ----------
    room, name : str
        Where it is found: "measure" and "means".
    bare : callable
        The function as it was written.
    takes : str
        What its data are: one group, two, pairs, several groups, factors, a table or kinds of counts, or columns.
    needs : str
        What a group is read as: "mean", "share", "rate" or "values".
    published : tuple of str
        The published numbers that it can be asked from, by name.
    examples : tuple of str
        Command lines, without the command itself.
    columns : tuple of str
        Settings that name columns of a table.
    rows : bool
        Whether it has more to say of values than of moments, so that a table gives it its values.
    exempt : mapping of law to reason
        Laws that it does not keep, and why.
    after : callable, optional
        A look at the finished result.
    defaults : mapping
        Usual values of common settings, where they are other than usual.
    single : bool
        Whether its null is one number, and not one of each of many comparisons.
    """

    room: str
    name: str
    bare: Callable[..., Any]
    takes: Takes
    needs: Needs
    published: tuple[str, ...] = ()
    examples: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    rows: bool = False
    exempt: Mapping[str, str] = field(default_factory=dict)
    after: Callable[[Any], Any] | None = None
    defaults: Mapping[str, Any] = field(default_factory=dict)
    single: bool = False

    @property
    def data(self) -> tuple[str, ...]:
        """Names of the data, in order."""
        kinds = (inspect.Parameter.POSITIONAL_OR_KEYWORD, inspect.Parameter.POSITIONAL_ONLY)
        return tuple(n for n, p in inspect.signature(self.bare).parameters.items() if p.kind in kinds)

    @cached_property
    def settings(self) -> dict[str, inspect.Parameter]:
        """The settings, in order, with their types: its own, then those that methods have in common."""
        hints = get_type_hints(self.bare)
        kinds = taken(_common_of(self.bare)) | ({"null": float} if self.single else {})
        shown = self.signature.parameters.values()
        return {
            p.name: p.replace(annotation=hints.get(p.name, kinds.get(p.name)))
            for p in shown
            if p.kind is inspect.Parameter.KEYWORD_ONLY
        }

    @cached_property
    def signature(self) -> inspect.Signature:
        """As it is shown: every setting by name, its own ones first."""
        whole = inspect.signature(self.bare)
        given = [p for p in whole.parameters.values() if p.kind is not inspect.Parameter.VAR_KEYWORD]
        own = {p.name: p for p in given if p.kind is inspect.Parameter.KEYWORD_ONLY}
        for name, hint in _common_of(self.bare).__annotations__.items():
            usual = self.defaults.get(name, COMMON[name].default)
            text = getattr(hint, "__forward_arg__", hint)
            own[name] = inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=usual, annotation=text)
        data = [p for p in given if p.kind is not inspect.Parameter.KEYWORD_ONLY]
        last = [own[name] for name in COMMON if name in own]
        return whole.replace(parameters=[*data, *(p for name, p in own.items() if name not in COMMON), *last])

    @cached_property
    def _usual(self) -> dict[str, Any]:
        """Values of the common settings, unless given."""
        return {name: self.settings[name].default for name in _common_of(self.bare).__annotations__}

    @cached_property
    def texts(self) -> dict[str, str]:
        """What is said of each parameter: by its docstring, by that of another which it names, or for all methods."""
        found = {name: with_choices(COMMON[name].kind, COMMON[name].text) for name in self.settings if name in COMMON}
        for name, (kind, text) in described(self.bare).items():
            other = _AS_FOR.match(text)
            there = METHODS.get((other[1] or self.room, other[2])) if other else None
            found[name] = with_choices(kind, text) if there is None else there.texts.get(name, text)
        return found

    def check(self, settings: Mapping[str, Any]) -> None:
        """Refuse a setting that is not of its kind, before any formula meets it."""
        for name, value in settings.items():
            if name in self.settings:
                _check(name, value, self.settings[name].annotation)

    def ask(self, groups: tuple[Any, ...], settings: Mapping[str, Any]) -> Any:
        """Answer from groups as the gate holds them, without a further look."""
        result = self.bare(*groups, **{**self._usual, **settings})
        if settings.get("measured_in"):
            if getattr(result, "unit", "") not in ("metric", "rate"):
                raise InputError(f"measured_in has no effect on {self.name}: the answer is not in the metric's unit.")
            result = replace(result, measured_in=str(settings["measured_in"]))
        object.__setattr__(result, "asked", Asked(self, groups, MappingProxyType(dict(settings))))
        return result


METHODS: dict[tuple[str, str], Method] = {}


@dataclass(frozen=True, slots=True, eq=False)
class Asked:
    """How a result was asked: the method, the groups as the gate read them, read-only, and the settings."""

    method: Method
    groups: tuple[Any, ...]
    settings: Mapping[str, Any]

    def again(self, *, without: Any = None, bare: bool = False, **changes: Any) -> Any:
        """Ask once more with some settings changed; see `Result.again`. A bare answer is not looked at further."""
        known = self.method.settings
        for name in changes:
            if name not in known:
                raise InputError.unknown(f"setting of {self.method.name}", name, known)
        self.method.check(changes)
        groups = self.groups if without is None else tuple(_without(g, without, self.groups) for g in self.groups)
        result = self.method.ask(groups, {**self.settings, **changes})
        after = self.method.after
        return result if bare or after is None else after(result)


def method(
    *,
    takes: Takes,
    needs: Needs = "values",
    published: bool | tuple[str, ...] = (),
    examples: tuple[str, ...] = (),
    columns: tuple[str, ...] = (),
    rows: bool = False,
    exempt: Mapping[str, str] = MappingProxyType({}),
    after: Callable[[Any], Any] | None = None,
    defaults: Mapping[str, Any] = MappingProxyType({}),
    single: bool = False,
) -> Callable[[F], F]:
    """Register a public method; see `Method`. `published=True` stands for the numbers that its groups are read as."""

    def registered(function: F) -> F:
        numbers = published if isinstance(published, tuple) else _PUBLISHED[needs] if published else ()
        room = function.__module__.split(".")[1]
        one = Method(
            room, function.__name__, function, takes, needs, numbers, examples, columns, rows, exempt, after, defaults,
            single,
        )  # fmt: skip
        METHODS[room, function.__name__] = one
        roles = one.data

        @wraps(function)
        def asked(*data: Any, **settings: Any) -> Any:
            rest = roles[len(data) :]
            named = [role for role in rest if role in settings] if settings else []
            if len(data) > len(roles) or named != list(rest[: len(named)]):
                return function(*data, **settings)  # Python's own error
            given = (*data, *(settings.pop(role) for role in named))
            for name in settings:
                if name not in one.settings:
                    raise TypeError(_unexpected(one, name))
            one.check(settings)
            held = tuple(hold(g, takes, _ROLES.get(takes, role)) for g, role in zip(given, roles, strict=False))
            result = one.ask(held, settings)
            return result if after is None else after(result)

        asked.__signature__ = one.signature  # type: ignore[attr-defined]
        asked.__doc__ = with_common(function.__doc__, one.signature.parameters)
        return asked  # type: ignore[return-value]

    return registered


def _common_of(function: Callable[..., Any]) -> Any:
    """The class of the common settings that a method takes."""
    hint = next((str(h) for h in function.__annotations__.values() if str(h).startswith("Unpack[")), "")
    return getattr(common, hint.removeprefix("Unpack[").removesuffix("]"), common.Nothing)


def _unexpected(one: Method, name: str) -> str:
    """That a method has no such setting, as Python says it, and which is nearest."""
    near = get_close_matches(name, one.settings, n=1)
    hint = f". Did you mean {near[0]!r}?" if near else ""
    return f"{one.name}() got an unexpected keyword argument {name!r}{hint}"


def registered(room: str, name: str) -> Method:
    """One method, its module loaded."""
    from importlib import import_module

    import_module(f"amber_ruler.{room}")
    if (room, name) not in METHODS:
        raise InputError.unknown(f"method of {room}", name, (n for r, n in METHODS if r == room))
    return METHODS[room, name]


def _check(name: str, value: Any, kind: Any) -> None:
    """One setting against its annotation: words, a number, text, an object of ours; arrays are looked at where used."""
    kinds = set(get_args(kind)) if get_origin(kind) in (Union, UnionType) else {kind}
    if value is None and NoneType in kinds:
        return
    kinds.discard(NoneType)
    (only,) = kinds if len(kinds) == 1 else (None,)
    if get_origin(only) is Literal:
        gate.choice(name, value, get_args(only))
    elif only is int:
        gate.whole(name, gate.single(name, value), 0)
    elif only is float:
        gate.single(name, value)
    elif only is str and not isinstance(value, str):
        raise InputError.rule(name, value, "text")
    elif get_origin(only) in (tuple, Sequence):
        parts = get_args(only)
        if not isinstance(value, (tuple, list)) or (get_origin(only) is tuple and len(value) != len(parts)):
            raise InputError.rule(name, value, f"{len(parts)} values" if len(parts) > 1 else "a list")
        for k, item in enumerate(value):
            _check(name, item, parts[min(k, len(parts) - 1)])
    elif isinstance(only, type) and only.__module__.startswith(__package__) and not isinstance(value, only):
        raise InputError.rule(name, value, f"a {only.__name__}")


def _without(group: Any, without: Any, groups: tuple[Any, ...]) -> Any:
    """A group, or a mapping of groups, without some units; or several groups without whole ones."""
    if isinstance(group, (Mapping, list)):
        return _some(group, without)
    if group is None:
        return None
    positions = without
    if isinstance(without, Mapping):
        labels = [str(getattr(g, "label", "") or role) for g, role in zip(groups, _names(groups), strict=True)]
        for label in without:
            if label not in labels:
                raise InputError.unknown("without", label, labels)
        at = next(k for k, g in enumerate(groups) if g is group)
        positions = without.get(labels[at], ())
        if not len(positions):
            return group
    if not hasattr(group, "without"):
        raise InputError(
            f"{type(group).__name__} holds no single units: give the values to be able to leave some of them out."
        )
    return group.without(positions)


def _names(groups: tuple[Any, ...]) -> tuple[str, ...]:
    return ("group",) if len(groups) == 1 else ("treatment", "control")[: len(groups)]


def _some(groups: Any, without: Any) -> Any:
    named = (
        groups
        if isinstance(groups, Mapping)
        else {str(getattr(g, "label", "") or k + 1): g for k, g in enumerate(groups)}
    )
    for label in without:
        if label not in named:
            raise InputError.unknown("without", label, named)
    if not isinstance(without, Mapping):
        return {label: g for label, g in named.items() if label not in without}
    return {label: g.without(without[label]) if label in without else g for label, g in named.items()}
