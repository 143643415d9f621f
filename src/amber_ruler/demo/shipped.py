"""The demo tables that come with the package."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from amber_ruler.numeric import gate

TABLES = ("crossings", "events", "tickets", "travellers", "turnarounds")


def path(name: str) -> Path:
    """Path of a shipped demo table, to be given to `table`.

    Examples
    --------
    >>> path("travellers").name
    'travellers.csv'
    """
    gate.choice("demo table", name, TABLES)
    return Path(str(files("amber_ruler.demo"))) / "data" / f"{name}.csv"


def experiment() -> Path:
    """Path of the shipped experiment file, which names the travellers beside it.

    Examples
    --------
    >>> import amber_ruler as ar
    >>> ar.Experiment.from_file(experiment()).decide().sentence()
    'Hold guided; ship short.'
    """
    return Path(str(files("amber_ruler.demo"))) / "data" / "experiment.toml"
