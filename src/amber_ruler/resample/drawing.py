"""Blocks of replicates, each with random numbers of its own: the same seed gives the same, whoever works."""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, ProcessPoolExecutor, ThreadPoolExecutor
from contextlib import suppress
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from amber_ruler.errors import InputError
from amber_ruler.numeric import gate

BLOCK = 32  # replicates that share random numbers
_AHEAD = 8  # blocks that wait for each worker
Progress = Callable[[int, int], None]  # of replicates done, of all
Draw = Callable[[np.random.Generator, int], Any]

_work: Draw | None = None  # what a forked process works at


def seed_of(seed: int | np.random.Generator | None) -> int:
    """A whole number that replays the draws."""
    if isinstance(seed, np.random.Generator):
        return int(seed.integers(2**32))
    if seed is None:
        return int(np.random.SeedSequence().generate_state(1, np.uint32)[0])
    if isinstance(seed, bool) or not isinstance(seed, (int, np.integer)) or seed < 0:
        raise InputError.rule("seed", seed, "a whole number from 0 on, or a NumPy generator")
    return int(seed)


def blocks(
    draw: Draw,
    replicates: int,
    seed: int,
    *,
    first: int = 0,
    workers: int | None = None,
    processes: bool = False,
    progress: Progress | None = None,
) -> Iterator[Any]:
    """What `draw` makes of each block, in order; of a block with its own generator and number of replicates.

    Threads work where the time goes into NumPy, forked processes where it goes into a statistic in Python. Ctrl-C ends
    with a KeyboardInterrupt after the blocks that are done.
    """
    sizes = [min(BLOCK, replicates - at) for at in range(0, replicates, BLOCK)]
    tasks = [(seed, first + k, size) for k, size in enumerate(sizes)]
    count = min(len(tasks), workers or os.cpu_count() or 1)
    if workers is not None:
        gate.whole("workers", workers, 1)
    done = 0
    for size, found in zip(sizes, _mapped(draw, tasks, count, processes=processes), strict=True):
        done += size
        if progress is not None:
            progress(done, replicates)
        yield found


def _mapped(draw: Draw, tasks: list[tuple[int, int, int]], count: int, *, processes: bool) -> Iterator[Any]:
    if count == 1 or (processes and "fork" not in multiprocessing.get_all_start_methods()):
        yield from (_block(draw, task) for task in tasks)
        return
    pool = _forked(draw, count) if processes else ThreadPoolExecutor(count)
    work = _forked_block if processes else (lambda task: _block(draw, task))
    waiting = []
    try:
        for task in tasks:
            waiting.append(pool.submit(work, task))
            if len(waiting) > count * _AHEAD:
                yield waiting.pop(0).result()
        while waiting:
            yield waiting.pop(0).result()
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _forked(draw: Draw, count: int) -> Executor:
    """Processes that know what to do from the moment they are made: a statistic need not be importable."""
    global _work  # noqa: PLW0603 - what is forked is inherited, and needs no pickle
    _work = draw
    return ProcessPoolExecutor(count, mp_context=multiprocessing.get_context("fork"), initializer=_deaf)


def _deaf() -> None:
    """Ctrl-C is heard by the parent alone."""
    with suppress(ValueError):
        signal.signal(signal.SIGINT, signal.SIG_IGN)


def _forked_block(task: tuple[int, int, int]) -> Any:
    if _work is None:
        raise InputError("Nothing to work at.")
    return _block(_work, task)


def _block(draw: Draw, task: tuple[int, int, int]) -> Any:
    seed, number, size = task
    return draw(np.random.Generator(np.random.SFC64(np.random.SeedSequence([seed, number]))), size)


@cache
def poisson_table() -> NDArray[np.uint8]:
    """65,536 weights of mean and variance 1, as often as a Poisson distribution has them.

    Counts of 2 and more are its own, rounded down; those of 0 and 1 and a few of 2 make mean and variance exact.
    """
    share = np.exp(-1.0)
    counts = []
    for k in range(9):
        counts.append(int(65536 * share))
        share /= k + 1
    # Σ c = 65536, Σ k c = 65536, Σ k² c = 131072.
    kinds, high = np.arange(9), np.array(counts[3:])
    first, second = 65536 - int(kinds[3:] @ high), 131072 - int(kinds[3:] ** 2 @ high)
    two = (second - first) // 2
    one = first - 2 * two
    table = [65536 - one - two - int(high.sum()), one, two, *high.tolist()]
    return np.repeat(kinds, table).astype(np.uint8)
