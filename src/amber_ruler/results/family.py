"""Comparisons of several metrics, decided together."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from amber_ruler.errors import InputError
from amber_ruler.results.measurement import Measurement
from amber_ruler.results.result import Result


@dataclass(frozen=True, slots=True, kw_only=True, eq=False, repr=False)
class Family(Result):
    """Comparisons of several metrics or variants, side by side; `multiplicity.correct` corrects them together.

    Attributes
    ----------
    labels : tuple of str
        What each is called.
    results : tuple of Measurement
        In the same order; after a correction each holds it as a part, and the interval that goes with it.
    families : tuple of str
        Which sub-family each belongs to, such as "primary"; empty where there is one.
    """

    labels: tuple[str, ...]
    results: tuple[Measurement, ...]
    families: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        if not self.results or len(self.labels) != len(self.results):
            raise InputError(
                f"A family has a label for each of its results, got {len(self.labels)} and {len(self.results)}."
            )
        if len(set(self.labels)) != len(self.labels):
            raise InputError("Each comparison of a family needs a label of its own.")
        if self.families and len(self.families) != len(self.results):
            raise InputError("families names a sub-family for each comparison, or for none.")

    def __getitem__(self, label: str) -> Measurement:
        if label not in self.labels:
            raise InputError.unknown("comparison", label, self.labels)
        return self.results[self.labels.index(label)]

    def __iter__(self) -> Iterator[str]:
        return iter(self.labels)

    def __len__(self) -> int:
        return len(self.labels)
