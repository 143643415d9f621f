"""What a method takes for a group: values, published numbers, counts, pairs or moments; and the gate that reads it."""

from amber_ruler.samples.counts import Counts, CountTable
from amber_ruler.samples.events import Events
from amber_ruler.samples.gate import MeanGroup, RateGroup, ShareGroup, ValueGroup
from amber_ruler.samples.pairs import Pairs, PairsDescription
from amber_ruler.samples.records import Records
from amber_ruler.samples.sample import Sample
from amber_ruler.samples.summary import Summary
from amber_ruler.samples.variants import ByVariant

__all__ = [
    "ByVariant",
    "CountTable",
    "Counts",
    "Events",
    "MeanGroup",
    "Pairs",
    "PairsDescription",
    "RateGroup",
    "Records",
    "Sample",
    "ShareGroup",
    "Summary",
    "ValueGroup",
]
