"""One pass over lists for every ranking metric at every cut-off, and over scores for the rank of held-out items."""

import numpy as np
from numba import njit

CUT_METRICS = ("ndcg", "ndcg_graded", "recall", "precision", "map", "mrr", "hit")
"""What the last axis of `cut_figures` holds."""


@njit(nogil=True, cache=True)
def cut_figures(lists, indptr, indices, gains, cutoffs, out, places):
    """out[r, c, m] = CUT_METRICS[m] of the first cutoffs[c] places of lists[r].

    lists int32 (n_rows, n), -1 for an empty place; indptr, indices, gains: the relevant items of each row, ascending,
    and what each is worth; cutoffs int64, ascending; out float64 (n_rows, n_cutoffs, 7), written. Places behind the
    end of a list hold nothing. places int32, one per relevant item, written: where it stands, from 1, or 0.
    """
    last = cutoffs[-1]
    discounts = 1.0 / np.log2(np.arange(2, last + 2))
    for r in range(lists.shape[0]):
        places[indptr[r] : indptr[r + 1]] = 0
        relevant, worth = indices[indptr[r] : indptr[r + 1]], gains[indptr[r] : indptr[r + 1]]
        best_worth = -np.sort(-worth)
        n_hits, c = 0, 0
        gained, ideal, gained_worth, ideal_worth, precisions, first = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
        for p in range(last):
            if p < len(relevant):
                ideal += discounts[p]
                ideal_worth += best_worth[p] * discounts[p]
            if p < lists.shape[1] and lists[r, p] >= 0:
                at = np.searchsorted(relevant, lists[r, p])
                if at < len(relevant) and relevant[at] == lists[r, p]:
                    places[indptr[r] + at] = p + 1
                    n_hits += 1
                    gained += discounts[p]
                    gained_worth += worth[at] * discounts[p]
                    precisions += n_hits / (p + 1)
                    if n_hits == 1:
                        first = 1.0 / (p + 1)
            while c < len(cutoffs) and cutoffs[c] == p + 1:
                out[r, c, 0] = gained / ideal
                out[r, c, 1] = gained_worth / ideal_worth if ideal_worth > 0 else 0.0
                out[r, c, 2] = n_hits / len(relevant)
                out[r, c, 3] = n_hits / cutoffs[c]
                out[r, c, 4] = precisions / min(len(relevant), cutoffs[c])
                out[r, c, 5] = first
                out[r, c, 6] = 1.0 if n_hits else 0.0
                c += 1


@njit(nogil=True, cache=True)
def rank_pairs(scores, rows, known_indptr, known_indices, tie_order, indptr, indices, ranks):
    """ranks[p] = place, from 1, of item indices[p] among the candidates of its row of scores, best first.

    scores float32 (n_rows, n_items) with nothing masked; candidates are the items not in row rows[r] of the known
    pattern. indptr int64 (n_rows + 1,) says which pairs are of which row, counted from indptr[0]. Of equal scores the
    lower tie_order goes first; NaN stands with minus infinity. ranks int32, written.
    """
    counts = np.empty((2, 4), dtype=np.int32)
    for r in range(scores.shape[0]):
        row = scores[r]
        known = known_indices[known_indptr[rows[r]] : known_indptr[rows[r] + 1]]
        start, stop = indptr[r] - indptr[0], indptr[r + 1] - indptr[0]
        for first in range(start, stop, 4):
            last = stop - 1
            _count_four(
                row,
                row[indices[first]],
                row[indices[min(first + 1, last)]],
                row[indices[min(first + 2, last)]],
                row[indices[min(first + 3, last)]],
                counts,
            )
            for p in range(first, min(first + 4, stop)):
                higher, equal = counts[0, p - first], counts[1, p - first]
                ranks[p] = 1 + _before(row, known, tie_order, indices[p], higher, equal)


@njit(nogil=True, cache=True)
def _count_four(row, a, b, c, d, counts):
    """How many scores of a row are above, and how many equal to, each of four: counts int32 (2, 4), written. One way
    through the row serves four, and 32 bits, like the scores, let as many be counted at a time as compared."""
    above_a, above_b, above_c, above_d = np.int32(0), np.int32(0), np.int32(0), np.int32(0)
    as_a, as_b, as_c, as_d = np.int32(0), np.int32(0), np.int32(0), np.int32(0)
    for i in range(len(row)):
        score = row[i]
        above_a, as_a = np.int32(above_a + (score > a)), np.int32(as_a + (score == a))
        above_b, as_b = np.int32(above_b + (score > b)), np.int32(as_b + (score == b))
        above_c, as_c = np.int32(above_c + (score > c)), np.int32(as_c + (score == c))
        above_d, as_d = np.int32(above_d + (score > d)), np.int32(as_d + (score == d))
    counts[0, 0], counts[0, 1], counts[0, 2], counts[0, 3] = above_a, above_b, above_c, above_d
    counts[1, 0], counts[1, 1], counts[1, 2], counts[1, 3] = as_a, as_b, as_c, as_d


@njit(nogil=True, cache=True)
def _before(row, known, tie_order, item, higher, equal):
    """Candidates before an item, of which so many of the whole row are higher, and so many equal, itself included."""
    score, tie = row[item], tie_order[item]
    if not score > -np.inf:
        return _before_the_unscored(row, known, tie_order, tie)
    if equal > 1:
        for i in range(len(row)):
            higher += (row[i] == score) & (tie_order[i] < tie)
    for i in known:
        higher -= row[i] > score or (row[i] == score and tie_order[i] < tie)
    return higher


@njit(nogil=True, cache=True)
def _before_the_unscored(row, known, tie_order, tie):
    """Candidates before an item that has no score: those with one, and those without of a lower tie order."""
    before = 0
    for i in range(len(row)):
        before += row[i] > -np.inf or tie_order[i] < tie
    for i in known:
        before -= row[i] > -np.inf or tie_order[i] < tie
    return before


@njit(nogil=True, cache=True)
def list_means(lists, worth, cutoffs, out):
    """out[r, c] = mean of worth[item] over the items in the first cutoffs[c] places of lists[r]; NaN without any.

    worth float64 (n_items,); cutoffs int64, ascending; out float64 (n_rows, n_cutoffs), written.
    """
    for r in range(lists.shape[0]):
        total, n, c = 0.0, 0, 0
        for p in range(cutoffs[-1]):
            if p < lists.shape[1] and lists[r, p] >= 0:
                total += worth[lists[r, p]]
                n += 1
            while c < len(cutoffs) and cutoffs[c] == p + 1:
                out[r, c] = total / n if n else np.nan
                c += 1


@njit(nogil=True, cache=True)
def list_spread(lists, indptr, indices, values, n_features, cutoffs, out):
    """out[r, c] = 1 less the mean cosine of all pairs of items in the first cutoffs[c] places; NaN below two items.

    indptr, indices, values: one vector of length one (or empty) per item, in CSR form with n_features columns. The sum
    over pairs is had from the length of the sum of the vectors: sum of pairs = (|sum|^2 - n) / 2.
    """
    total = np.zeros(n_features)
    for r in range(lists.shape[0]):
        length, own, n, c = 0.0, 0.0, 0, 0
        for p in range(cutoffs[-1]):
            if p < lists.shape[1] and lists[r, p] >= 0:
                item = lists[r, p]
                n += 1
                for at in range(indptr[item], indptr[item + 1]):
                    f, value = indices[at], values[at]
                    length += value * (2 * total[f] + value)
                    own += value * value
                    total[f] += value
            while c < len(cutoffs) and cutoffs[c] == p + 1:
                out[r, c] = 1 - (length - own) / (n * (n - 1)) if n > 1 else np.nan
                c += 1
        for p in range(min(cutoffs[-1], lists.shape[1])):
            item = lists[r, p]
            if item >= 0:
                for at in range(indptr[item], indptr[item + 1]):
                    total[indices[at]] = 0.0


@njit(nogil=True, cache=True)
def list_divergence(lists, rows, known_indptr, known_indices, indptr, indices, shares, n_groups, blend, cutoffs, out):
    """out[r, c] = sum over groups of p log2(p / ((1 - blend) q + blend p)) for the first cutoffs[c] places.

    p: mean share of each group over the known items of the row, q: the same over the list. indptr, indices, shares:
    the shares of each item's groups, adding up to one, in CSR form. NaN where the history or the list has no groups.
    """
    p, q = np.empty(n_groups), np.empty(n_groups)
    for r in range(lists.shape[0]):
        p[:] = 0.0
        q[:] = 0.0
        for item in known_indices[known_indptr[rows[r]] : known_indptr[rows[r] + 1]]:
            for at in range(indptr[item], indptr[item + 1]):
                p[indices[at]] += shares[at]
        n_known = p.sum()
        c = 0
        for place in range(cutoffs[-1]):
            if place < lists.shape[1] and lists[r, place] >= 0:
                item = lists[r, place]
                for at in range(indptr[item], indptr[item + 1]):
                    q[indices[at]] += shares[at]
            while c < len(cutoffs) and cutoffs[c] == place + 1:
                n_listed = q.sum()
                if n_known > 0 and n_listed > 0:
                    out[r, c] = 0.0
                    for g in range(n_groups):
                        mine = p[g] / n_known
                        if mine > 0:
                            out[r, c] += mine * np.log2(mine / ((1 - blend) * q[g] / n_listed + blend * mine))
                else:
                    out[r, c] = np.nan
                c += 1
