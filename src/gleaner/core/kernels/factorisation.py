"""Gibbs steps of a factorisation machine: weight and vector of one feature drawn together, everything else held.

The prediction of a row is linear in what is drawn: d prediction / d weight = x, d prediction / d vector = x (sums - x
vector), x the feature's amount in the row and sums the sum of amount times vector over the row's features (Rendle
2012)."""

from __future__ import annotations

import numpy as np
from numba import njit

CHUNK = 256
"""Rows whose slopes are gathered before they are multiplied: sums in 32 bits stay short, and in the nearest cache."""

BLOCK = 4096
"""Rows whose slopes are put in the order of their features at a time."""

LANES = 8
"""Columns are padded to a multiple of it, so that products go by whole registers."""


@njit(nogil=True, cache=True, fastmath={"reassoc", "contract"})
def draw_features(lo, hi, bounds, rows, amounts, left, sums, table, noise, precision, means, precisions):
    """Draw features lo to hi of one field from their normal distribution given all else, and bring `left` and `sums` up
    to date. Where no row has two features of the field, ranges may run side by side.

    bounds int64 (n_features + 1,), rows int32 and amounts float32: the rows that have each feature. left float64
    (n_rows,): actual less predicted. sums float32 (n_rows, rank). table float64 (n_features, rank + 1): weight, then
    vector. noise float64, of the same shape: standard normal, or zeros for the mean. precision: of a row's error.
    means, precisions float64 (rank + 1,): of the field's prior.
    """
    rank = sums.shape[1]
    width = rank + 1
    padded = (width + 1 + LANES - 1) // LANES * LANES
    # the last row of products is that with what is left to be told, so that one pass gives both sides
    slopes = np.zeros((CHUNK, padded), np.float32)
    products = np.zeros((padded, padded), np.float32)
    system, wanted, step = np.empty((width, width)), np.empty(width), np.empty(width, np.float32)
    mine = np.empty(width, np.float32)
    for feature in range(lo, hi):
        first, last = bounds[feature], bounds[feature + 1]
        for a in range(width):
            mine[a] = np.float32(table[feature, a])
            wanted[a] = 0.0
            for b in range(a + 1):
                system[a, b] = 0.0
        for start in range(first, last, CHUNK):
            n = min(CHUNK, last - start)
            for place in range(n):
                row, amount = rows[start + place], amounts[start + place]
                slope = slopes[place]
                slope[0] = amount
                target = np.float32(left[row]) + mine[0] * amount
                told = np.float32(0)
                for k in range(rank):
                    slope[k + 1] = amount * (sums[row, k] - amount * mine[k + 1])
                    told += mine[k + 1] * slope[k + 1]
                slope[width] = target + told
            np.dot(slopes[:n].T, slopes[:n], products)
            for a in range(width):
                wanted[a] += products[width, a]
                for b in range(a + 1):
                    system[a, b] += products[a, b]
        for a in range(width):
            wanted[a] = precision * wanted[a] + precisions[a] * means[a]
            for b in range(a + 1):
                system[a, b] *= precision
            system[a, a] += precisions[a]
        _draw(system, wanted, noise[feature])
        for a in range(width):
            step[a] = np.float32(wanted[a]) - mine[a]
            table[feature, a] = np.float32(wanted[a])
        for place in range(first, last):
            row, amount = rows[place], amounts[place]
            change = step[0] * amount
            for k in range(rank):
                change += step[k + 1] * amount * (sums[row, k] - amount * mine[k + 1])
            left[row] -= change
            for k in range(rank):
                sums[row, k] += amount * step[k + 1]


@njit(nogil=True, cache=True, fastmath={"reassoc", "contract"})
def add_products(lo, hi, codes, slots, amounts, left, sums, table, products):
    """What `draw_features` needs of rows lo to hi, in the order of the rows, for a field of few features: added to
    products float64 (n_features, width + 1, width + 1), lower halves, width = rank + 1; the last row of each is with
    what is left to be told.

    codes int32 (n_rows,): the feature that each row has, -1 for none; amounts float32 (n_rows,). slots int32 (n_rows,):
    the place of each row in its stretch of BLOCK rows, from a multiple of it on, in the order of the codes, those of
    none behind. lo is such a multiple."""
    rank = sums.shape[1]
    width = rank + 1
    padded = (width + LANES) // LANES * LANES
    slopes = np.zeros((BLOCK, padded), np.float32)
    part = np.zeros((padded, padded), np.float32)
    factors = table.astype(np.float32)
    counts = np.empty(len(table), np.int64)
    for start in range(lo, hi, BLOCK):
        counts[:] = 0
        for row in range(start, min(hi, start + BLOCK)):
            code, amount = codes[row], amounts[row]
            if code < 0:
                continue
            counts[code] += 1
            mine, slope = factors[code], slopes[slots[row]]
            slope[0] = amount
            told = np.float32(left[row]) + mine[0] * amount
            for k in range(rank):
                slope[k + 1] = amount * (sums[row, k] - amount * mine[k + 1])
            for k in range(rank):
                told += mine[k + 1] * slope[k + 1]
            slope[width] = told
        first = 0
        for feature in range(len(table)):
            last = first + counts[feature]
            if last > first:
                np.dot(slopes[first:last].T, slopes[first:last], part)
                for a in range(width + 1):
                    for b in range(a + 1):
                        products[feature, a, b] += part[a, b]
            first = last


@njit(nogil=True, cache=True)
def draw_from_products(lo, hi, products, table, noise, precision, means, precisions):
    """Draw features lo to hi from the products of all their rows, into `table`; otherwise as `draw_features`."""
    width = table.shape[1]
    system, wanted = np.empty((width, width)), np.empty(width)
    for feature in range(lo, hi):
        for a in range(width):
            wanted[a] = precision * products[feature, width, a] + precisions[a] * means[a]
            for b in range(a + 1):
                system[a, b] = precision * products[feature, a, b]
            system[a, a] += precisions[a]
        _draw(system, wanted, noise[feature])
        for a in range(width):
            table[feature, a] = np.float32(wanted[a])


@njit(nogil=True, cache=True, fastmath={"reassoc", "contract"})
def apply_steps(lo, hi, codes, amounts, left, sums, before, after):
    """Bring `left` and `sums` of rows lo to hi up to date after the field's table, float32, went from `before` to
    `after`."""
    rank = sums.shape[1]
    for row in range(lo, hi):
        code, amount = codes[row], amounts[row]
        if code < 0:
            continue
        old, new = before[code], after[code]
        change = (new[0] - old[0]) * amount
        for k in range(rank):
            step = new[k + 1] - old[k + 1]
            change += step * amount * (sums[row, k] - amount * old[k + 1])
            sums[row, k] += amount * step
        left[row] -= change


@njit(nogil=True, cache=True, fastmath={"reassoc", "contract"})
def _draw(system, wanted, noise):
    """`wanted` becomes system^-1 wanted + L'^-1 noise, L L' = system, given by its lower half, which is overwritten."""
    width = len(wanted)
    for a in range(width):
        for b in range(a + 1):
            total = system[a, b]
            for c in range(b):
                total -= system[a, c] * system[b, c]
            system[a, b] = np.sqrt(total) if a == b else total / system[b, b]
    for a in range(width):
        total = wanted[a]
        for b in range(a):
            total -= system[a, b] * wanted[b]
        wanted[a] = total / system[a, a]
    for a in range(width - 1, -1, -1):
        total = wanted[a] + noise[a]
        for b in range(a + 1, width):
            total -= system[b, a] * wanted[b]
        wanted[a] = total / system[a, a]
