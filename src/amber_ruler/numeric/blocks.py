"""Long arrays in blocks that fit the processor's cache, shared by the processors."""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from collections.abc import Callable

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
