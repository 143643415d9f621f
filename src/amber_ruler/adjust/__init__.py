"""Variance reduction: the same difference, measured more sharply."""

from amber_ruler.adjust.cuped import cuped

__all__ = ["cuped"]
