"""Sums over boosted trees, and what each input adds to them."""

from __future__ import annotations

from numba import njit


@njit(nogil=True, cache=True)
def tree_sums(table, roots, feature, threshold, left, right, value, out):
    """out[r] += the leaf values that row r of `table`, float32 (n, n_inputs), falls into, over all trees."""
    for row in range(len(table)):
        total = 0.0
        for root in roots:
            node = root
            while feature[node] >= 0:
                node = left[node] if table[row, feature[node]] <= threshold[node] else right[node]
            total += value[node]
        out[row] += total


@njit(nogil=True, cache=True)
def tree_terms(row, roots, feature, threshold, left, right, value, terms):
    """terms[f] += by how much the steps that ask for input f move the value of one row, from node to node; answers the
    sum of the roots' values, where every row begins (Saabas 2014)."""
    start = 0.0
    for root in roots:
        node = root
        start += value[node]
        while feature[node] >= 0:
            asked = feature[node]
            before = value[node]
            node = left[node] if row[asked] <= threshold[node] else right[node]
            terms[asked] += value[node] - before
    return start
