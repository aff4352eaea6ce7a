"""Stable ordering of rows by user, then item, which merging repeats stands on; and of a pool, spread out."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def bucket(keys, starts, order, out):
    """The places `order`, stably grouped by keys[place]; starts int64 (n_keys + 1,) says where each group begins.

    Places are read in order and written to their groups: with rows in file order only the writes jump about.
    """
    at = starts.copy()
    for each in range(len(order)):
        place = order[each]
        key = keys[place]
        out[at[key]] = place
        at[key] += 1


@njit(nogil=True, cache=True)
def order_groups(lo, hi, starts, keys, order):
    """Within each group from lo to hi: order[starts[g]:starts[g + 1]] stably sorted by keys[place], in place."""
    for group in range(lo, hi):
        begin, end = starts[group], starts[group + 1]
        if end - begin > 1:
            part = order[begin:end].copy()
            ranks = np.argsort(keys[part], kind="mergesort")
            order[begin:end] = part[ranks]


@njit(nogil=True, cache=True)
def spread_out(merit, likeness, ties, weight, order):
    """order[p] = the place with the highest merit less `weight` times the greatest likeness to those before it, the
    lowest of `ties` where several are level. merit float64 (m,), likeness float64 (m, m), order int64 (m,), written."""
    n = len(merit)
    nearest = np.zeros(n)
    left = np.ones(n, np.bool_)
    for place in range(n):
        chosen, best = -1, -np.inf
        for each in range(n):
            if left[each]:
                worth = merit[each] - weight * nearest[each]
                if chosen < 0 or worth > best or (worth == best and ties[each] < ties[chosen]):
                    chosen, best = each, worth
        order[place] = chosen
        left[chosen] = False
        for each in range(n):
            nearest[each] = max(nearest[each], likeness[chosen, each])
