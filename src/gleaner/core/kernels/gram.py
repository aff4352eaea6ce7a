"""Products of the columns of a sparse matrix with one another, as a dense table."""

from numba import njit


@njit(nogil=True, cache=True)
def gram_rows(lo, hi, item_bounds, item_users, item_x, bounds, items, x, out):
    """Rows [lo, hi) of X'X from the diagonal on, added to out float64 (n_items, n_items).

    item_bounds, item_users, item_x: X by columns; bounds, items, x: X by rows, items rising in each. A row of the
    table stays in cache while the histories of the item's users go by.
    """
    for i in range(lo, hi):
        row = out[i]
        for at in range(item_bounds[i], item_bounds[i + 1]):
            user, weight = item_users[at], item_x[at]
            for cell in range(bounds[user + 1] - 1, bounds[user] - 1, -1):
                j = items[cell]
                if j < i:
                    break
                row[j] += weight * x[cell]
