"""Drawing again: bootstrap, jackknife, permutation, max-T, and replaying an experiment."""

from amber_ruler.resample.bootstrap import bootstrap
from amber_ruler.resample.jackknife import jackknife
from amber_ruler.resample.max_t import max_t
from amber_ruler.resample.permutation import permutation
from amber_ruler.resample.replay import Replay, Replays, replay

__all__ = ["Replay", "Replays", "bootstrap", "jackknife", "max_t", "permutation", "replay"]
