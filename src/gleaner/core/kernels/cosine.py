"""Nearest items by cosine over sparse columns, and scores from them."""

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def nearest_rows(
    lo,
    hi,
    item_indptr,
    item_users,
    item_values,
    user_indptr,
    user_items,
    user_values,
    norms,
    shrink,
    tie_order,
    near,
    likeness,
):
    """For items lo to hi the `near.shape[1]` most alike items, most alike first.

    likeness(i, j) = sum_u x_ui x_uj / (|x_i| |x_j| + shrink). Both CSR forms of one matrix are given. near int32
    (n_items, k) comes filled with -1, likeness float32 of the same shape with 0. Of equally alike items the one
    with the lower tie_order, int32 (n_items,), goes first. Writes only rows lo to hi.
    """
    n_items = len(norms)
    k = near.shape[1]
    total = np.zeros(n_items, dtype=np.float32)
    met = np.empty(n_items, dtype=np.int32)
    for item in range(lo, hi):
        n_met = 0
        for at in range(item_indptr[item], item_indptr[item + 1]):
            user, value = item_users[at], item_values[at]
            for other_at in range(user_indptr[user], user_indptr[user + 1]):
                other = user_items[other_at]
                if total[other] == 0:
                    met[n_met] = other
                    n_met += 1
                total[other] += value * user_values[other_at]
        size = 0
        for m in range(n_met):
            other = met[m]
            dot = total[other]
            total[other] = 0
            if other == item or dot <= 0:
                continue
            alike = dot / (norms[item] * norms[other] + shrink)
            if size < k:
                size += 1
            elif not _nearer(alike, other, likeness[item, k - 1], near[item, k - 1], tie_order):
                continue
            place = size - 1
            while place > 0 and _nearer(alike, other, likeness[item, place - 1], near[item, place - 1], tie_order):
                likeness[item, place] = likeness[item, place - 1]
                near[item, place] = near[item, place - 1]
                place -= 1
            likeness[item, place] = alike
            near[item, place] = other


@njit(nogil=True, cache=True, inline="always")
def _nearer(alike_a, a, alike_b, b, tie_order):
    """Whether item a goes before item b."""
    return alike_a > alike_b or (alike_a == alike_b and tie_order[a] < tie_order[b])


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
