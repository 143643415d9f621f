"""Saltmarsh Ferries: a made-up company whose booking-form test shows the whole day at work."""

from amber_ruler.demo.generator import TRUTH, generate
from amber_ruler.demo.shipped import TABLES, experiment, path

__all__ = [
    "TABLES",
    "TRUTH",
    "experiment",
    "generate",
    "path",
]
