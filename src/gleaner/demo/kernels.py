"""Kernels of the simulator. Whole numbers throughout, so that every machine draws the same world."""

import numpy as np
from numba import njit

_GOLDEN = np.uint64(0x9E3779B97F4A7C15)
_MIX_A = np.uint64(0xBF58476D1CE4E5B9)
_MIX_B = np.uint64(0x94D049BB133111EB)
_S30, _S27, _S31, _S11 = np.uint64(30), np.uint64(27), np.uint64(31), np.uint64(11)
_UNIT = 1.0 / 9007199254740992.0  # 2**-53

TABLE_SPAN = 12
"""Affinity is clipped to minus and plus this before it becomes a weight."""


@njit(nogil=True, cache=True)
def hash_unit(seed, a, b):
    """A number in [0, 1) from (seed, a, b): the same whatever was drawn before. SplitMix64 (Steele et al. 2014)."""
    state = np.uint64(seed) + _GOLDEN * (np.uint64(a) + np.uint64(1))
    for step in range(2):
        state = (state ^ (state >> _S30)) * _MIX_A
        state = (state ^ (state >> _S27)) * _MIX_B
        state = state ^ (state >> _S31)
        if step == 0:
            state += _GOLDEN * (np.uint64(b) + np.uint64(1))
    return (state >> _S11) * _UNIT


@njit(nogil=True, cache=True)
def draw_items(affinity, first_user, bounds, table, scale, seed, items_out, affinity_out):
    """Draw items for a block of users, with replacement, in proportion to table[affinity].

    affinity float32 (n_users, n_items) holds whole numbers in units of 1/scale; table int64 maps an affinity in those
    units, shifted by its middle, to a weight. bounds int64 (n_users + 1,) says which places of the outputs belong to
    each user. items_out int32, affinity_out float32.
    """
    n_items = affinity.shape[1]
    middle = len(table) // 2
    running = np.empty(n_items, dtype=np.int64)
    for row in range(affinity.shape[0]):
        total = np.int64(0)
        for item in range(n_items):
            at = min(max(np.int64(affinity[row, item]) + middle, 0), len(table) - 1)
            total += table[at]
            running[item] = total
        user = first_user + row
        start = bounds[user]
        for place in range(start, bounds[user + 1]):
            goal = np.int64(hash_unit(seed, user, place - start) * total)
            item = np.searchsorted(running, goal, side="right")
            items_out[place] = item
            affinity_out[place] = affinity[row, item] / scale


@njit(nogil=True, cache=True)
def draw_times(lo, hi, users, items, joined, added, season, month_of_day, end_day, seed, days_out):
    """Draw a day for each draw: uniform since the grower joined and the variety came, thinned by the sowing season.

    users, items int32; joined, added int32 (days since the first day); season float64 (n_items, 12) in [0, 1];
    month_of_day int8 (end_day,). days_out float64, with the time of day as its fraction. Writes only lo to hi.
    """
    for at in range(lo, hi):
        user, item = users[at], items[at]
        start = max(joined[user], added[item])
        for attempt in range(6):
            day = start + hash_unit(seed, at, attempt) * (end_day - start)
            if hash_unit(seed + 1, at, attempt) < season[item, month_of_day[int(day)]]:
                break
        days_out[at] = day
