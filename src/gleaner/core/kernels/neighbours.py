"""Nearest rows of a sparse matrix by several likenesses, and scores from them.

`rows` are what neighbours are sought for (items or users), `others` are the entries they are met through.
"""

import numpy as np
from numba import njit

COSINE, JACCARD, LOG_LIKELIHOOD, CONFIDENCE, LIFT, SUPPORT = range(6)
PEARSON, ADJUSTED, MSD, EUCLIDEAN = range(6, 10)


@njit(nogil=True, cache=True, inline="always")
def _times_log(x):
    return x * np.log(x) if x > 0 else 0.0


@njit(nogil=True, cache=True)
def log_likelihood(both, a, b, n):
    """Dunning's G2 of two events that happen a and b times of n, both together (Dunning 1993), as 1 - 1 / (1 + G2).

    0 where they meet no more often than by chance.
    """
    if both * n <= a * b:
        return 0.0
    only_a, only_b, neither = a - both, b - both, n - a - b + both
    whole = _times_log(n)
    rows = _times_log(a) + _times_log(n - a)
    columns = _times_log(b) + _times_log(n - b)
    cells = _times_log(both) + _times_log(only_a) + _times_log(only_b) + _times_log(neither)
    g2 = 2 * (cells - rows - columns + whole)
    return 1 - 1 / (1 + max(g2, 0.0))


@njit(nogil=True, cache=True)
def likeness_by_product(rule, dot, both, size_a, size_b, n):
    """Likeness of row a to row b from the product of their values and the count of what both have.

    size_a, size_b: norms for COSINE (already to their powers), else counts. CONFIDENCE, LIFT and SUPPORT are of the
    rule b -> a: what having b says about a. n: how many others there are.
    """
    if rule == COSINE:
        size = size_a * size_b
        return dot / size if size > 0 else 0.0
    if rule == JACCARD:
        return both / (size_a + size_b - both)
    if rule == LOG_LIKELIHOOD:
        return log_likelihood(both, size_a, size_b, n)
    if rule == CONFIDENCE:
        return both / size_b
    if rule == LIFT:
        return both * n / (size_a * size_b)
    return both / n


@njit(nogil=True, cache=True)
def likeness_by_common(rule, sums):
    """Likeness from sums over what both rows have: count, x, y, xx, yy, xy (float64).

    PEARSON centres on the means over the common part; ADJUSTED takes values that were centred before; MSD is
    1 / (1 + mean squared difference), EUCLIDEAN 1 / (1 + root of the summed squares). 0 where it is not defined.
    """
    n, x, y, xx, yy, xy = sums[0], sums[1], sums[2], sums[3], sums[4], sums[5]
    if rule == MSD:
        return 1 / (1 + max(xx - 2 * xy + yy, 0.0) / n)
    if rule == EUCLIDEAN:
        return 1 / (1 + np.sqrt(max(xx - 2 * xy + yy, 0.0)))
    if rule == PEARSON:
        top, left, right = xy - x * y / n, xx - x * x / n, yy - y * y / n
    else:
        top, left, right = xy, xx, yy
    if left <= 1e-9 * max(xx, 1e-12) or right <= 1e-9 * max(yy, 1e-12):
        return 0.0
    return top / np.sqrt(left * right)


@njit(nogil=True, cache=True)
def nearest_by_product(
    lo, hi, indptr, others, values, other_indptr, other_rows, other_values, size_a, size_b, rule, shrink, least, order,
    near, likeness, overlap,
):  # fmt: skip
    """For rows lo to hi the `near.shape[1]` most alike rows, most alike first, by a rule of `likeness_by_product`.

    Both CSR forms of one matrix are given, values float32. Likeness is times n / (n + shrink), n the count of what both
    have; rows with fewer than `least` in common do not count. near int32 (n_rows, k) comes filled with -1, likeness
    float32 and overlap int32 of the same shape with 0. Equal likeness: the lower `order` first. Writes only lo to hi.
    """
    n_rows, n_others = len(indptr) - 1, len(other_indptr) - 1
    total = np.zeros(n_rows, dtype=np.float32)
    count = np.zeros(n_rows, dtype=np.int32)
    met = np.empty(n_rows, dtype=np.int32)
    for row in range(lo, hi):
        n_met = 0
        for at in range(indptr[row], indptr[row + 1]):
            other, value = others[at], values[at]
            for place in range(other_indptr[other], other_indptr[other + 1]):
                mate = other_rows[place]
                if count[mate] == 0:
                    met[n_met] = mate
                    n_met += 1
                count[mate] += 1
                total[mate] += value * other_values[place]
        size = 0
        for m in range(n_met):
            mate = met[m]
            dot, both = total[mate], count[mate]
            total[mate], count[mate] = 0, 0
            if mate == row or both < least:
                continue
            alike = likeness_by_product(rule, dot, both, size_a[row], size_b[mate], n_others)
            alike = np.float32(alike * both / (both + shrink))
            size = _insert(alike, mate, both, size, row, order, near, likeness, overlap, False)


@njit(nogil=True, cache=True)
def nearest_by_common(
    lo, hi, indptr, others, values, other_indptr, other_rows, other_values, rule, signed, shrink, least, order, near,
    likeness, overlap,
):  # fmt: skip
    """The same by a rule of `likeness_by_common`. signed: rows that differ, whose likeness is below 0, count as much as
    those that are as much alike."""
    n_rows = len(indptr) - 1
    sums = np.zeros((n_rows, 6))
    met = np.empty(n_rows, dtype=np.int32)
    for row in range(lo, hi):
        n_met = 0
        for at in range(indptr[row], indptr[row + 1]):
            other, x = others[at], np.float64(values[at])
            for place in range(other_indptr[other], other_indptr[other + 1]):
                mate, y = other_rows[place], np.float64(other_values[place])
                mine = sums[mate]
                if mine[0] == 0:
                    met[n_met] = mate
                    n_met += 1
                mine[0] += 1
                mine[1] += x
                mine[2] += y
                mine[3] += x * x
                mine[4] += y * y
                mine[5] += x * y
        size = 0
        for m in range(n_met):
            mate = met[m]
            both = np.int32(sums[mate, 0])
            if mate != row and both >= least:
                alike = np.float32(likeness_by_common(rule, sums[mate]) * both / (both + shrink))
                size = _insert(alike, mate, both, size, row, order, near, likeness, overlap, signed)
            sums[mate] = 0


@njit(nogil=True, cache=True, inline="always")
def _insert(alike, mate, both, size, row, order, near, likeness, overlap, signed):
    """Put one candidate into the sorted list of a row; answers how many the list holds."""
    k = near.shape[1]
    if not (abs(alike) if signed else alike) > 0:
        return size
    if size < k:
        size += 1
    elif not _nearer(alike, mate, likeness[row, k - 1], near[row, k - 1], order):
        return size
    place = size - 1
    while place > 0 and _nearer(alike, mate, likeness[row, place - 1], near[row, place - 1], order):
        likeness[row, place] = likeness[row, place - 1]
        near[row, place] = near[row, place - 1]
        overlap[row, place] = overlap[row, place - 1]
        place -= 1
    likeness[row, place], near[row, place], overlap[row, place] = alike, mate, both
    return size


@njit(nogil=True, cache=True, inline="always")
def _nearer(alike_a, a, alike_b, b, order):
    """Whether row a goes before row b, by how far their likeness is from 0."""
    far_a, far_b = abs(alike_a), abs(alike_b)
    return far_a > far_b or (far_a == far_b and order[a] < order[b])


@njit(nogil=True, cache=True)
def add_scores(histories, hist_items, hist_values, lists, list_items, list_likeness, out):
    """out[r, i] += value * likeness over the history items j of row r that have i in their list.

    histories int64 (n_rows + 1,) bounds hist_items and hist_values; lists int64 (n_items + 1,) bounds list_items
    and list_likeness: for item j, every i that counts j among its nearest. out float32 (n_rows, n_items).
    """
    for row in range(len(histories) - 1):
        for at in range(histories[row], histories[row + 1]):
            item, value = hist_items[at], hist_values[at]
            for place in range(lists[item], lists[item + 1]):
                out[row, list_items[place]] += value * list_likeness[place]
