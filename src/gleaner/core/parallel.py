"""Hand out row ranges of a kernel to a pool of threads.

Kernels release the GIL and work on `[lo, hi)`. Ranges are balanced by weight (the number of interactions), are
small enough that progress is smooth, and a cancel is honoured between two of them. Each range writes only its own
rows, so the result does not depend on which thread ran it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, ThreadPoolExecutor, wait
from contextlib import AbstractContextManager
from functools import cache

import numpy as np
from threadpoolctl import ThreadpoolController

from gleaner.core.errors import CancelledError

RANGES_PER_THREAD = 16

Progress = Callable[[float], bool]
"""Receives the share done, 0 to 1; answers False to ask for a stop."""


@cache
def _libraries() -> ThreadpoolController:
    """The BLAS libraries of this process. Looking for them reads its whole map of memory, milliseconds each time."""
    import scipy.linalg  # noqa: F401 - so that the one it brings is loaded, and found

    return ThreadpoolController()


def one_blas_thread() -> AbstractContextManager[object]:
    """Hold BLAS to one thread meanwhile."""
    return _libraries().limit(limits=1, user_api="blas")


def default_threads() -> int:
    """Number of cores this process may use."""
    return len(os.sched_getaffinity(0))


def balanced_ranges(indptr: np.ndarray, n_ranges: int) -> list[tuple[int, int]]:
    """Cut rows into at most `n_ranges` contiguous ranges of about equal work.

    indptr: int64 of shape (n_rows + 1,), CSR row pointers. A row costs its entries plus one, so that empty rows
    are spread too. One very long row makes a range of its own.
    """
    n_rows = len(indptr) - 1
    if n_rows <= 0:
        return []
    cost = indptr + np.arange(n_rows + 1, dtype=np.int64)
    goals = np.linspace(cost[0], cost[-1], min(n_ranges, n_rows) + 1)
    cuts = np.unique(np.searchsorted(cost, goals))
    cuts[0], cuts[-1] = 0, n_rows
    return list(zip(cuts[:-1].tolist(), cuts[1:].tolist(), strict=True))


def even_ranges(n_rows: int, size: int) -> list[tuple[int, int]]:
    """Cut `n_rows` into ranges of `size` rows, the last one shorter."""
    return [(lo, min(lo + size, n_rows)) for lo in range(0, n_rows, size)]


def run_ranges(
    work: Callable[[int, int], None],
    ranges: Iterable[tuple[int, int]],
    *,
    threads: int | None = None,
    progress: Progress | None = None,
) -> None:
    """Call `work(lo, hi)` for every range on `threads` threads, BLAS held to one thread each.

    Raises CancelledError when `progress` answers False; the first error of `work` is raised as it is.
    """
    todo = list(ranges)
    threads = threads or default_threads()
    with one_blas_thread():
        if threads == 1 or len(todo) < 2:
            for done, (lo, hi) in enumerate(todo, start=1):
                work(lo, hi)
                _tell(progress, done / len(todo))
            return
        _run_pool(work, todo, threads, progress)


def _run_pool(
    work: Callable[[int, int], None], todo: list[tuple[int, int]], threads: int, progress: Progress | None
) -> None:
    queue = iter(todo)
    done = 0
    with ThreadPoolExecutor(threads) as pool:
        running = {pool.submit(work, *bounds) for _, bounds in zip(range(threads), queue, strict=False)}
        while running:
            finished, running = wait(running, return_when=FIRST_COMPLETED)
            for future in finished:
                future.result()
                done += 1
                _tell(progress, done / len(todo))
                following = next(queue, None)
                if following is not None:
                    running.add(pool.submit(work, *following))


def _tell(progress: Progress | None, share: float) -> None:
    if progress is not None and progress(share) is False:
        raise CancelledError
