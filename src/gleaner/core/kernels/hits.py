"""Which places of a list hold a relevant item."""

import numpy as np
from numba import njit


@njit(nogil=True, cache=True)
def mark_hits(lists, indptr, indices, hits):
    """hits[r, p] = whether lists[r, p] is among indices[indptr[r]:indptr[r + 1]], which ascend.

    lists int32 (n_rows, k), -1 for an empty place; hits bool of the same shape, written.
    """
    for r in range(lists.shape[0]):
        relevant = indices[indptr[r] : indptr[r + 1]]
        for p in range(lists.shape[1]):
            item = lists[r, p]
            at = np.searchsorted(relevant, item)
            hits[r, p] = item >= 0 and at < len(relevant) and relevant[at] == item
