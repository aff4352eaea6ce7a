"""How far listed items lie from what a user has and from what anybody would have listed."""

import numpy as np
from numba import njit

FACES = ("nearest_known", "mean_known", "nearest_expected", "association")
"""What the last axis of `list_distances` holds."""


@njit(nogil=True, cache=True)
def list_distances(lists, place_of, distances, associations, indptr, indices, expected, out):
    """out[r, p, f] = FACES[f] of the item at lists[r, p], NaN where the place is empty or there is nothing to compare.

    lists int32 (n_rows, n), -1 for an empty place; place_of int32 (n_items,), the row of each listed item in the two
    tables; distances and associations float32 (n_listed, n_items), or (0, 0) where there is none; indptr, indices: what
    each row's user has; expected int32 (n_rows, m), -1 for an empty place. nearest_expected looks at both, as what is
    expected of a user holds what the user has. out float64 (n_rows, n, 4), written.
    """
    by_content, by_company = len(distances) > 0, len(associations) > 0
    for r in range(lists.shape[0]):
        known = indices[indptr[r] : indptr[r + 1]]
        for p in range(lists.shape[1]):
            out[r, p, :] = np.nan
            item = lists[r, p]
            if item < 0:
                continue
            row = place_of[item]
            if by_content:
                nearest, total = np.inf, 0.0
                for other in known:
                    d = distances[row, other]
                    nearest = min(nearest, d)
                    total += d
                if len(known):
                    out[r, p, 0] = nearest
                    out[r, p, 1] = total / len(known)
                for q in range(expected.shape[1]):
                    if expected[r, q] >= 0 and expected[r, q] != item:
                        nearest = min(nearest, distances[row, expected[r, q]])
                    elif expected[r, q] == item:
                        nearest = 0.0
                if nearest < np.inf:
                    out[r, p, 2] = nearest
            if by_company and len(known):
                closest = -1.0
                for other in known:
                    closest = max(closest, associations[row, other])
                out[r, p, 3] = closest
