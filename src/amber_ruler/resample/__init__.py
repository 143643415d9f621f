"""Drawing again: bootstrap, jackknife, permutation, and replaying an experiment."""

from amber_ruler.resample.bootstrap import bootstrap
from amber_ruler.resample.permutation import permutation

__all__ = ["bootstrap", "permutation"]
