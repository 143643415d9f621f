"""Variance reduction: the same difference, measured more sharply."""

from amber_ruler.adjust.cuped import Adjusted, cuped

__all__ = ["Adjusted", "cuped"]
