"""Drawing again: bootstrap, jackknife, permutation, and replaying an experiment."""

from amber_ruler.resample.bootstrap import bootstrap
from amber_ruler.resample.jackknife import jackknife
from amber_ruler.resample.permutation import permutation
from amber_ruler.resample.replay import Replay, Replays, replay

__all__ = ["Replay", "Replays", "bootstrap", "jackknife", "permutation", "replay"]
