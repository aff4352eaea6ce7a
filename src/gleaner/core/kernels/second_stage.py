"""What a second stage walks and counts: sums over boosted trees, what each input adds to them, how much more an item is
taken by users with the same values of a column, and what a history and an item have in common."""

from __future__ import annotations

import numpy as np
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


@njit(nogil=True, cache=True)
def join_lists(listed, n_items, items, ranks, bounds):
    """Join the lists of several members for each user. Returns the number of pairs.

    listed: int32 (n_members, n_users, most), item rows, -1 behind the last. items: int32 (n_members * n_users * most,),
    written: the items of all lists of a user once each, rising, user by user. ranks: int32 (len(items), n_members),
    written: the place of each in every list from 1, or most + 1. bounds: int64 (n_users + 1,), written: where the pairs
    of each user begin.
    """
    n_members, n_users, most = listed.shape
    pair_of = np.full(n_items, -1, dtype=np.int64)
    found = np.empty(n_members * most, dtype=np.int32)
    bounds[0] = 0
    for user in range(n_users):
        begin, count = bounds[user], 0
        for member in range(n_members):
            for item in listed[member, user]:
                if item >= 0 and pair_of[item] < 0:
                    pair_of[item] = begin
                    found[count] = item
                    count += 1
        joined = np.sort(found[:count])
        for index in range(count):
            pair_of[joined[index]] = begin + index
            items[begin + index] = joined[index]
            ranks[begin + index] = most + 1
        for member in range(n_members):
            for index in range(most):
                item = listed[member, user, index]
                if item >= 0:
                    ranks[pair_of[item], member] = index + 1
        pair_of[joined] = -1
        bounds[user + 1] = begin + count
    return bounds[n_users]


@njit(nogil=True, cache=True)
def group_lift(users, items, indptr, groups, bases, bounds, listed, lifts, out):
    """out[p] = the mean over the groups of users[p] of the lift of items[p] in the group; 0 for who is in none.

    indptr int64 (n_users + 1,) and groups int32: the groups of each user. bases float64 (n_groups,): the lift of an
    item that nobody of the group has. bounds int64 (n_groups + 1,), listed int32, rising in each group, and lifts
    float32: those of the others. out float32 (n_pairs,), written."""
    for pair in range(len(users)):
        first, last = indptr[users[pair]], indptr[users[pair] + 1]
        total = 0.0
        for place in range(first, last):
            group = groups[place]
            lo, hi = bounds[group], bounds[group + 1]
            at = lo + np.searchsorted(listed[lo:hi], items[pair])
            total += lifts[at] if at < hi and listed[at] == items[pair] else bases[group]
        out[pair] = total / (last - first) if last > first else 0.0


@njit(nogil=True, cache=True)
def row_products(lefts, left, rights, right, width, out):
    """out[p] = the product of row lefts[p] of one sparse matrix and row rights[p] of another, both with `width` columns
    and given as (indptr, indices, data), float32. out float32 (n_pairs,), written. Quickest where pairs of one left row
    lie together."""
    row = np.zeros(width, np.float64)
    laid = -1
    for pair in range(len(out)):
        if lefts[pair] != laid:
            if laid >= 0:
                row[left[1][left[0][laid] : left[0][laid + 1]]] = 0.0
            laid = lefts[pair]
            for at in range(left[0][laid], left[0][laid + 1]):
                row[left[1][at]] += left[2][at]
        total = 0.0
        for at in range(right[0][rights[pair]], right[0][rights[pair] + 1]):
            total += row[right[1][at]] * right[2][at]
        out[pair] = total
