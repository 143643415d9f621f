"""Amber Ruler: plan a test, check its data, measure the difference, decide.

Names are loaded when first used, so that `import amber_ruler` stays light. What the library does is logged under the
name "amber_ruler" (every question to an engine, with its time), and nowhere unless a program asks for it.
"""

from __future__ import annotations

import logging
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from amber_ruler import adjust as adjust
    from amber_ruler import bayes as bayes
    from amber_ruler import demo as demo
    from amber_ruler import effects as effects
    from amber_ruler import measure as measure
    from amber_ruler import multiplicity as multiplicity
    from amber_ruler import plan as plan
    from amber_ruler import report as report
    from amber_ruler import resample as resample
    from amber_ruler import results as results
    from amber_ruler import sequential as sequential
    from amber_ruler import tables as tables
    from amber_ruler.errors import AmberRulerError as AmberRulerError
    from amber_ruler.errors import DataError as DataError
    from amber_ruler.errors import DesignError as DesignError
    from amber_ruler.errors import EngineError as EngineError
    from amber_ruler.errors import ExperimentFileError as ExperimentFileError
    from amber_ruler.errors import InputError as InputError
    from amber_ruler.experiment import Experiment as Experiment
    from amber_ruler.moments import Moments as Moments
    from amber_ruler.results import Axis as Axis
    from amber_ruler.results import Check as Check
    from amber_ruler.results import Comparison as Comparison
    from amber_ruler.results import EffectSize as EffectSize
    from amber_ruler.results import Estimate as Estimate
    from amber_ruler.results import Family as Family
    from amber_ruler.results import Interval as Interval
    from amber_ruler.results import Result as Result
    from amber_ruler.samples import Counts as Counts
    from amber_ruler.samples import CountTable as CountTable
    from amber_ruler.samples import Events as Events
    from amber_ruler.samples import Pairs as Pairs
    from amber_ruler.samples import Records as Records
    from amber_ruler.samples import Sample as Sample
    from amber_ruler.samples import Summary as Summary
    from amber_ruler.tables.table import table as table

logging.getLogger(__name__).addHandler(logging.NullHandler())

_MODULES = (
    "adjust",
    "bayes",
    "demo",
    "effects",
    "measure",
    "multiplicity",
    "plan",
    "report",
    "resample",
    "results",
    "sequential",
    "tables",
)
_FROM = {
    "AmberRulerError": "errors",
    "Axis": "results",
    "Check": "results",
    "Comparison": "results",
    "CountTable": "samples",
    "Counts": "samples",
    "DataError": "errors",
    "DesignError": "errors",
    "EffectSize": "results",
    "EngineError": "errors",
    "Estimate": "results",
    "Events": "samples",
    "Experiment": "experiment",
    "ExperimentFileError": "errors",
    "Family": "results",
    "InputError": "errors",
    "Interval": "results",
    "Moments": "moments",
    "Pairs": "samples",
    "Records": "samples",
    "Result": "results",
    "Sample": "samples",
    "Summary": "samples",
    "table": "tables",
}

__all__ = [
    "AmberRulerError",
    "Axis",
    "Check",
    "Comparison",
    "CountTable",
    "Counts",
    "DataError",
    "DesignError",
    "EffectSize",
    "EngineError",
    "Estimate",
    "Events",
    "Experiment",
    "ExperimentFileError",
    "Family",
    "InputError",
    "Interval",
    "Moments",
    "Pairs",
    "Records",
    "Result",
    "Sample",
    "Summary",
    "__version__",
    "adjust",
    "bayes",
    "demo",
    "effects",
    "measure",
    "multiplicity",
    "plan",
    "report",
    "resample",
    "results",
    "sequential",
    "table",
    "tables",
]


def __getattr__(name: str) -> Any:
    if name == "__version__":
        from importlib.metadata import version

        return version("amber-ruler")
    if name in _MODULES:
        return import_module(f"amber_ruler.{name}")
    if name in _FROM:
        value = getattr(import_module(f"amber_ruler.{_FROM[name]}"), name)
        globals()[name] = value
        return value
    raise AttributeError(f"module 'amber_ruler' has no attribute {name!r}")


def __dir__() -> list[str]:
    return __all__
