"""Membership of pairs in a matrix."""

from numba import njit


@njit(nogil=True, cache=True)
def mark_cells(lo, hi, indptr, indices, users, items, out):
    """out[p] = True where cell (users[p], items[p]) is in a CSR matrix, for p in [lo, hi).

    indices ascend within a row. A negative user or item is in no matrix. out bool, written.
    """
    for p in range(lo, hi):
        out[p] = False
        user, item = users[p], items[p]
        if user < 0 or item < 0:
            continue
        first, last = indptr[user], indptr[user + 1]
        while first < last:
            middle = (first + last) // 2
            if indices[middle] < item:
                first = middle + 1
            else:
                last = middle
        out[p] = first < indptr[user + 1] and indices[first] == item
