"""Long arrays in blocks that fit the processor's cache, shared by the processors."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, Any

import numpy as np

if TYPE_CHECKING:
    from collections.abc import Callable

    from amber_ruler.numeric.gate import Floats

_LONG = 1 << 15  # values from which on a function is worth a second thread
_FEW = 8  # blocks that are not worth a second thread
_MOST_WORKERS = 8


def in_blocks(work: Callable[[slice], None], size: int, block: int) -> None:
    """Call `work` with slices of at most `block` rows that together cover `size`; many blocks run in threads.

    `work` writes its rows into arrays of its own: no two slices overlap.
    """
    parts = [slice(start, min(start + block, size)) for start in range(0, size, block)]
    workers = min(os.cpu_count() or 1, _MOST_WORKERS) if len(parts) >= _FEW else 1
    if workers == 1:
        for part in parts:
            work(part)
        return
    with ThreadPoolExecutor(workers) as pool:
        list(pool.map(work, parts))  # the list raises what a thread raised


def in_threads(function: Callable[..., Any], first: Floats, second: Floats) -> Floats:
    """A function of two arrays of one shape, value by value; long arrays are shared by the processors."""
    if first.size < _LONG:
        return np.asarray(function(first, second))
    flat, result = (first.ravel(), second.ravel()), np.empty(first.size)

    def work(part: slice) -> None:
        result[part] = function(flat[0][part], flat[1][part])

    in_blocks(work, first.size, -(-first.size // (2 * _FEW)))
    return result.reshape(first.shape)
