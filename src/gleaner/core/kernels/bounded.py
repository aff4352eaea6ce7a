"""The best items for one user, or several, by bounds that spare most of the products."""

import numpy as np
from numba import njit

from gleaner.core.kernels.topn import _sift_down, _sift_up, _sort_heap, _worse

BLOCK = 256
"""Items looked at together: their bounds are made side by side, a vector register at a time."""

WIDTH, TWICE, THRICE = np.uint64(BLOCK), np.uint64(2 * BLOCK), np.uint64(3 * BLOCK)
"""Without a sign: a place that could be counted from the end keeps the compiler from taking several side by side."""

ROUNDING = np.float32(1.2e-7)
"""What rounding in 32 bits can add to a bound and take from a score at every factor, as a share of the product of the
norms."""

TRIED = 64
"""Blocks after which it is known whether the leading directions spare anything."""


@njit(nogil=True, cache=True, fastmath=True)
def _add_products(codes, weights, first, last, out):
    """out[j] += sum over d in [first, last) of weights[d] codes[d, j]; codes int8 (n_factors, BLOCK)."""
    for d in range(first, last):
        weight, row = weights[d], codes[d]
        for j in range(BLOCK):
            out[j] += weight * np.float32(row[j])


@njit(nogil=True, cache=True, fastmath=True)
def _add_products_of_four(codes, weights, first, last, out):
    """The same for four users at once, weights float32 (4, n_factors): each code is read and turned into a number once
    for all of them. codes int8 (n_factors * BLOCK,) and out float32 (4 * BLOCK,) lie in one row each: the compiler then
    knows how far apart their parts are, which halves the time."""
    for d in range(first, last - 1, 2):
        a, b, c, e = weights[0, d], weights[1, d], weights[2, d], weights[3, d]
        f, g, h, k = weights[0, d + 1], weights[1, d + 1], weights[2, d + 1], weights[3, d + 1]
        at = np.uint64(d) * WIDTH
        for j in range(WIDTH):
            x, y = np.float32(codes[at + j]), np.float32(codes[at + WIDTH + j])
            out[j] += a * x + f * y
            out[WIDTH + j] += b * x + g * y
            out[TWICE + j] += c * x + h * y
            out[THRICE + j] += e * x + k * y
    if (last - first) % 2:
        row = codes[(last - 1) * BLOCK : last * BLOCK].reshape(1, BLOCK)
        for u in range(4):
            _add_products(row, weights[u, last - 1 : last], 0, 1, out[u * BLOCK : (u + 1) * BLOCK])


@njit(nogil=True, cache=True, fastmath=True)
def _dot(a, b):
    total = np.float32(0)
    for d in range(len(a)):
        total += a[d] * b[d]
    return total


@njit(nogil=True, cache=True)
def _any_reaches(bounds, tails, tail, bar):
    """Whether one bound with its tail reaches the bar."""
    found = False
    for j in range(BLOCK):
        found |= bounds[j] + tail * tails[j] >= bar
    return found


@njit(nogil=True, cache=True)
def _any_is_over(bounds, bar):
    """Whether one bound is at the bar, or over it."""
    found = False
    for j in range(BLOCK):
        found |= bounds[j] >= bar
    return found


@njit(nogil=True, cache=True)
def _among(sorted_rows, row):
    """Whether a row is in a rising list of them."""
    at = np.searchsorted(sorted_rows, row)
    return at < len(sorted_rows) and sorted_rows[at] == row


@njit(nogil=True, cache=True, fastmath=True)
def _weigh(turned, steps, weights, first, last):
    """Weights of a user's products with a block's codes, and how far half a step of each can put their sum off."""
    off = np.float32(0)
    for d in range(np.uint64(first), np.uint64(last)):
        weights[d] = turned[d] * steps[d]
        off += abs(weights[d])
    return np.float32(0.5) * off * (np.float32(1) + ROUNDING * np.float32(last))


@njit(nogil=True, cache=True)
def _products(codes, weights, first, last, bounds, n):
    """Products of a block with one user, or with four, from zero where they begin; bounds float32 (4 * BLOCK,)."""
    if first == 0:
        bounds[: n * BLOCK] = 0
    if n == 1:
        _add_products(codes, weights[0], first, last, bounds[:BLOCK])
    else:
        _add_products_of_four(codes.reshape(-1), weights, first, last, bounds)


@njit(nogil=True, cache=True)
def _scan(bounds, error, order, item_factors, user, allowed, left_out, ties, items, best, size, wanted):
    """Score the items of a block whose bound, with room for its error, reaches the worst kept, and keep the better.
    Answers how many are kept, and how many were scored."""
    scored = 0
    bar = best[0] if size == wanted else np.float32(-np.inf)
    for j in range(BLOCK):
        if bounds[j] + error < bar:
            continue
        i = order[j]
        if i < 0 or (len(allowed) > 0 and allowed[i] == 0) or _among(left_out, i):
            continue
        score = _dot(item_factors[i], user)
        scored += 1
        if size < wanted:
            _sift_up(items, best, size, i, score, ties)
            size += 1
        elif _worse(best[0], items[0], score, i, ties):
            _sift_down(items, best, wanted, i, score, ties)
        if size == wanted:
            bar = best[0]
    return size, scored


@njit(nogil=True, cache=True)
def _finish(items, best, size, ties):
    """Best first, -1 behind the last."""
    _sort_heap(items, best, size, ties)
    items[size:] = -1
    best[size:] = -np.inf


@njit(nogil=True, cache=True)
def best_items(
    codes, steps, tails, norms, order, item_factors, user, turned, n_head, tail, allowed, left_out, ties, items, best
):
    """The best items of one user, best first, written to items int32 (n,) and best float32 (n,). Answers how many
    items were scored in full.

    codes int8 (n_blocks, n_factors, BLOCK) times steps float32 (n_blocks, n_factors) are the turned item factors to
    half a step, items by falling norm; tails float32 (n_blocks, BLOCK) are their norms behind the first n_head
    directions, norms float32 (n_blocks,) the largest of each block, order int32 (n_blocks, BLOCK) the items, -1 where
    a block is not full. item_factors float32 (n_items, n_factors) and user float32 (n_factors,) are as trained, turned
    float32 (n_factors,) is the user's in the turned space and tail its norm behind n_head. allowed uint8 (n_items,),
    or empty for all; left_out int32, rising item rows.

    The walk ends at the first block whose largest norm times the user's cannot reach the worst item kept. A block is
    left after its leading directions if none of its items can reach it. Of the others only items whose low-precision
    product, with room for its error, reaches it are scored. So no item is lost.
    """
    n, n_factors = len(items), len(turned)
    bounds, weights = np.empty(BLOCK, dtype=np.float32), np.empty(n_factors, dtype=np.float32)
    norm = np.float32(np.sqrt(_dot(turned, turned)))
    rounding = ROUNDING * np.float32(n_factors + 8)
    size, scored = 0, 0
    bar = np.float32(-np.inf)
    for b in range(len(order)):
        reach = norm * norms[b]
        if reach * (np.float32(1) + rounding) < bar:
            break
        head_error, error = np.float32(0), rounding * reach
        for d in range(n_factors):
            weights[d] = turned[d] * steps[b, d]
            error += np.float32(0.5) * abs(weights[d])
            if d == n_head - 1:
                head_error = error
        bounds[:] = 0
        _add_products(codes[b], weights, 0, n_head, bounds)
        if not _any_reaches(bounds, tails[b], tail, bar - head_error):
            continue
        _add_products(codes[b], weights, n_head, n_factors, bounds)
        for j in range(BLOCK):
            if bounds[j] + error < bar:
                continue
            i = order[b, j]
            if i < 0 or (len(allowed) > 0 and allowed[i] == 0) or _among(left_out, i):
                continue
            score = _dot(item_factors[i], user)
            scored += 1
            if size < n:
                _sift_up(items, best, size, i, score, ties)
                size += 1
            elif _worse(best[0], items[0], score, i, ties):
                _sift_down(items, best, n, i, score, ties)
            if size == n:
                bar = best[0]
    _sort_heap(items, best, size, ties)
    items[size:] = -1
    best[size:] = -np.inf
    return scored


@njit(nogil=True, cache=True)
def best_items_of_several(
    codes, steps, tails, norms, order, item_factors, users, turned, n_head, tail, masks, mask_of, left_out, left_from,
    ties, wanted, items, best, turn, turns,
):  # fmt: skip
    """The same for several users at once: a block is read once for all who are still on the way. One user alone has a
    walk of its own above: a call for each block would cost it a fifth.

    users and turned float32 (m, n_factors), tail float32 (m,), items and best (m, n), of which each wants wanted[u].
    masks uint8 (k, n_items), with mask_of[u] the row of a user, -1 for everything; left_out has the rows of each user
    from left_from[u] to left_from[u + 1]. Of the blocks every turns-th is visited, from the turn-th on: so threads can
    share them, and each has some of the first.
    """
    n_users, n_factors = turned.shape
    bounds, weights = np.empty(4 * BLOCK, dtype=np.float32), np.zeros((4, n_factors), dtype=np.float32)
    head_error, error, group = np.empty(4, np.float32), np.empty(4, np.float32), np.empty(4, np.int64)
    rounding, everything = ROUNDING * np.float32(n_factors + 8), np.empty(0, dtype=np.uint8)
    norm, size = np.empty(n_users, dtype=np.float32), np.zeros(n_users, dtype=np.int64)
    bar = np.full(n_users, -np.inf, dtype=np.float32)
    for u in range(n_users):
        norm[u] = np.sqrt(_dot(turned[u], turned[u]))
    scored, looked, spared, going = 0, 0, 0, True
    for b in range(turn, len(order), turns):
        if not going:
            break
        going, u = False, 0
        while u < n_users:
            # up to four whom this block may concern
            mine = 0
            while u < n_users and mine < 4:
                reach = norm[u] * norms[b]
                if reach * (np.float32(1) + rounding) >= bar[u]:
                    group[mine] = u
                    head_error[mine] = rounding * reach + _weigh(turned[u], steps[b], weights[mine], 0, n_head)
                    rest = _weigh(turned[u], steps[b], weights[mine], n_head, n_factors)
                    error[mine] = head_error[mine] + rest
                    mine += 1
                u += 1
            if mine == 0:
                continue
            going = True
            looked += 1
            if looked < TRIED or 4 * spared > looked:
                _products(codes[b], weights, 0, n_head, bounds, mine)
                reaching = False
                for k in range(mine):
                    v = group[k]
                    if _any_reaches(bounds[k * BLOCK : (k + 1) * BLOCK], tails[b], tail[v], bar[v] - head_error[k]):
                        reaching = True
                    else:
                        group[k] = -1
                if not reaching:
                    spared += 1
                    continue
                _products(codes[b], weights, n_head, n_factors, bounds, mine)
            else:
                # the leading directions alone spare too little to be looked at first
                _products(codes[b], weights, 0, n_factors, bounds, mine)
            for k in range(mine):
                v = group[k]
                mine_of = bounds[k * BLOCK : (k + 1) * BLOCK]
                if v < 0 or not _any_is_over(mine_of, bar[v] - error[k]):
                    continue
                allowed = everything if mask_of[v] < 0 else masks[mask_of[v]]
                size[v], more = _scan(
                    mine_of, error[k], order[b], item_factors, users[v], allowed,
                    left_out[left_from[v] : left_from[v + 1]], ties, items[v], best[v], size[v], wanted[v],
                )  # fmt: skip
                scored += more
                if size[v] == wanted[v]:
                    bar[v] = best[v, 0]
    for u in range(n_users):
        _finish(items[u, : wanted[u]], best[u, : wanted[u]], size[u], ties)
        items[u, wanted[u] :] = -1
    return scored
