"""The best items for one user, or several, by bounds that spare most of the products."""

import numpy as np
from numba import njit

from gleaner.core.kernels.quads import BLOCK, add_of_four, add_of_one
from gleaner.core.kernels.topn import _sift_down, _sift_up, _sort_heap, _worse

ZERO = 128
"""The code that stands for nothing: codes have no sign."""

STRETCH = 16
"""Blocks that share the steps of their codes, and so the weights of a user."""

STEPS = np.float32(127)
"""Steps from zero to the largest weight of a user in a stretch of blocks, so that it fits eight bits with its sign."""

LEAST_STEP = np.float32(1e-30)
"""A step is not so small that what it divides could become infinite."""

OFF = np.float32(0.5001)
"""How far a weight is from its whole number at most, in steps; the last digits are for rounding."""

ROUNDING = np.float32(1.2e-7)
"""What rounding in 32 bits can add to a bound and take from a score at every factor, as a share of the product of the
norms."""

TRIED = 64
"""Blocks after which it is known whether the leading directions spare anything."""

LOWEST, HIGHEST = -(2.0**31), 2.0**31 - 1


@njit(nogil=True, cache=True, fastmath=True)
def _dot(a, b):
    total = np.float32(0)
    for d in range(len(a)):
        total += a[d] * b[d]
    return total


@njit(nogil=True, cache=True, fastmath=True)
def _score(item_factors, i, user):
    total = np.float32(0)
    for d in range(len(user)):
        total += item_factors[i, d] * user[d]
    return total


@njit(nogil=True, cache=True, fastmath=True)
def _turn(user, axes, n_head, turned):
    """A user's factors on the axes, summed in 64 bits; answers the norm behind n_head."""
    sums = np.zeros(len(turned))
    for d in range(len(user)):
        for e in range(len(sums)):
            sums[e] += user[d] * axes[d, e]
    tail = 0.0
    for e in range(len(sums)):
        turned[e] = sums[e]
        if e >= n_head:
            tail += sums[e] * sums[e]
    return np.float32(np.sqrt(tail))


@njit(nogil=True, cache=True)
def _any_reaches(totals, k, zero, step, tails, b, tail, bar):
    """Whether one product of the leading directions, with its tail, reaches the bar."""
    reaches = False
    for j in range(BLOCK):
        reaches |= (np.float32(totals[k, j]) - zero) * step + tail * tails[b, j] >= bar
    return reaches


@njit(nogil=True, cache=True)
def _any_is_over(totals, k, least):
    """Whether one product is at the least that may count, or over it."""
    over = False
    for j in range(BLOCK):
        over |= totals[k, j] >= least
    return over


@njit(nogil=True, cache=True)
def _among(sorted_rows, lo, hi, row):
    """Whether a row is in a part of a rising list."""
    end = hi
    while lo < hi:
        middle = (lo + hi) // 2
        if sorted_rows[middle] < row:
            lo = middle + 1
        else:
            hi = middle
    return lo < end and sorted_rows[lo] == row


@njit(nogil=True, cache=True, fastmath=True)
def _largest(turned, steps, stretch, weights):
    """Weights of a user's products with a stretch's codes, and the largest of them."""
    top = np.float32(0)
    for d in range(len(weights)):
        weights[d] = turned[d] * steps[stretch, d]
        top = max(top, abs(weights[d]))
    return top


@njit(nogil=True, cache=True, fastmath=True)
def _weigh(weights, first, last, per_step, whole):
    """Weights as whole numbers, what the weights come to without their signs, and the sum of the numbers."""
    off, total = np.float32(0), np.int32(0)
    for d in range(np.uint64(first), np.uint64(last)):
        number = np.int32(np.rint(weights[d] * per_step))
        whole[d] = np.int8(number)
        total += number
        off += abs(weights[d])
    return off, total


@njit(nogil=True, cache=True)
def _weighed(turned, steps, stretch, n_head, weights, whole):
    """What a walk needs to know of a user in a stretch of blocks: the step of the weights, and for the leading
    directions and for all of them, the sum of the weights and the product of no code. The weights go to `whole`, int8
    (n_factors,)."""
    step = max(_largest(turned, steps, stretch, weights) / STEPS, LEAST_STEP)
    head_off, head_zero = _weigh(weights, 0, n_head, np.float32(1) / step, whole)
    rest_off, rest_zero = _weigh(weights, n_head, len(weights), np.float32(1) / step, whole)
    return step, head_off, np.float32(ZERO * head_zero), head_off + rest_off, np.int32(ZERO * (head_zero + rest_zero))


@njit(nogil=True, cache=True)
def _error(reach, n_factors, off, step, size):
    """How far a product can be off: a score differs from its product in whole numbers by half a step of each code, by
    half a step of each weight times the codes, of which `size` is the largest sum in the block, and by rounding, a
    share of `reach`."""
    rounding = ROUNDING * np.float32(n_factors + 8)
    return rounding * reach + np.float32(0.5) * (np.float32(1) + rounding) * off + OFF * step * size


@njit(nogil=True, cache=True)
def _least(bar, error, step, zero):
    """The least product in whole numbers whose score, with room for the error, could reach the bar."""
    least = (np.float64(bar) - np.float64(error)) / np.float64(step) + zero
    # to the lower side; NaN cannot be: the step is no zero, the error is finite
    return np.int32(min(max(np.floor(least), LOWEST), HIGHEST))


@njit(nogil=True, cache=True)
def _scan(
    totals, k, error, step, zero, order, b, item_factors, user, allowed, left_out, left_lo, left_hi,
    ties, items, best, size, wanted,
):  # fmt: skip
    """Score the items of a block whose product, with room for its error, reaches the worst kept, and keep the better.
    Answers how many are kept, and how many were scored."""
    scored = 0
    least = _least(best[0], error, step, zero) if size == wanted else np.int32(LOWEST)
    for j in range(BLOCK):
        if totals[k, j] < least:
            continue
        i = order[b, j]
        if i < 0 or (len(allowed) > 0 and allowed[i] == 0) or _among(left_out, left_lo, left_hi, i):
            continue
        score = _score(item_factors, i, user)
        scored += 1
        if size < wanted:
            _sift_up(items, best, size, i, score, ties)
            size += 1
        elif _worse(best[0], items[0], score, i, ties):
            _sift_down(items, best, wanted, i, score, ties)
        else:
            continue
        if size == wanted:
            least = _least(best[0], error, step, zero)
    return size, scored


@njit(nogil=True, cache=True)
def _finish(items, best, size, ties):
    """Best first, -1 behind the last."""
    _sort_heap(items, best, size, ties)
    items[size:] = -1
    best[size:] = -np.inf


@njit(nogil=True, cache=True)
def best_items(
    codes, steps, sizes, tails, norms, order, item_factors, axes, n_head, user, allowed, left_out, ties, items,
    best,
):  # fmt: skip
    """The best items of one user, best first, written to items int32 (n,) and best float32 (n,). Answers how many there
    are, and how many items were scored in full.

    codes uint8 (n_blocks, n_quads * BLOCK * 4), less ZERO and times steps float32 (n_stretches, n_quads * 4), are the
    turned item factors to half a step, four factors of an item side by side, items by falling norm; sizes float32
    (n_blocks, 2) are the largest sums of an item's codes without their signs, over the first n_head directions and over
    all; tails float32 (n_blocks, BLOCK) are the items' norms behind the first n_head directions, a multiple of four;
    norms float32 (n_blocks,) the largest of each block; order int32 (n_blocks, BLOCK) the items, -1 where a block is
    not full. item_factors float32 (n_items, n_factors) and user float32 (n_factors,) are as trained,
    axes float64 (n_factors, n_quads * 4) turn them. allowed uint8 (n_items,), or empty for all; left_out int32, rising
    item rows.

    The walk ends at the first block whose largest norm times the user's cannot reach the worst item kept. A block is
    left after its leading directions if none of its items can reach it. Of the others only items whose low-precision
    product, with room for its error, reaches it are scored. So no item is lost.
    """
    n, n_wide = len(items), axes.shape[1]
    totals, weights = np.empty((1, BLOCK), dtype=np.int32), np.empty(n_wide, dtype=np.float32)
    turned, whole = np.empty(n_wide, dtype=np.float32), np.zeros(n_wide, dtype=np.int8)
    words = whole.view(np.int32)
    tail = _turn(user, axes, n_head, turned)
    norm = np.float32(np.sqrt(_dot(turned, turned)))
    room = np.float32(1) + ROUNDING * np.float32(n_wide + 8)
    size, scored, bar = 0, 0, np.float32(-np.inf)
    step, head_off, head_zero, off, zero = _weighed(turned, steps, 0, n_head, weights, whole)
    for b in range(len(order)):
        reach = norm * norms[b]
        if reach * room < bar:
            break
        if b > 0 and b % STRETCH == 0:
            step, head_off, head_zero, off, zero = _weighed(turned, steps, b // STRETCH, n_head, weights, whole)
        totals[0] = 0
        add_of_one(codes, b, words, 0, n_head // 4, totals)
        head_bar = bar - _error(reach, n_wide, head_off, step, sizes[b, 0])
        if not _any_reaches(totals, 0, head_zero, step, tails, b, tail, head_bar):
            continue
        add_of_one(codes, b, words, n_head // 4, n_wide // 4, totals)
        error = _error(reach, n_wide, off, step, sizes[b, 1])
        if not _any_is_over(totals, 0, _least(bar, error, step, zero)):
            continue
        size, more = _scan(
            totals, 0, error, step, zero, order, b, item_factors, user, allowed, left_out, 0, len(left_out), ties,
            items, best, size, n,
        )  # fmt: skip
        scored += more
        if size == n:
            bar = best[0]
    _finish(items, best, size, ties)
    return size, scored


@njit(nogil=True, cache=True)
def best_items_of_several(
    codes, steps, sizes, tails, norms, order, item_factors, axes, n_head, users, masks, mask_of, left_out, left_from,
    ties, wanted, items, best, turn, turns,
):  # fmt: skip
    """The same for several users at once: a block is read once for four of those who are still on the way. One user
    alone has a walk of its own above: a call for each block would cost it a fifth.

    users float32 (m, n_factors), items and best (m, n), of which each wants wanted[u]. masks uint8 (k, n_items), with
    mask_of[u] the row of a user, -1 for everything; left_out has the rows of each user from left_from[u] to
    left_from[u + 1]. Of the blocks every turns-th is visited, from the turn-th on: so threads can share them, and each
    has some of the first. Answers how many items were scored in full.
    """
    n_users, n_wide = len(users), axes.shape[1]
    n_quads, head_quads = n_wide // 4, n_head // 4
    totals, weights = np.empty((4, BLOCK), dtype=np.int32), np.empty(n_wide, dtype=np.float32)
    turned, tail = np.empty((n_users, n_wide), dtype=np.float32), np.empty(n_users, dtype=np.float32)
    whole, words_of_four = np.zeros((n_users, n_wide), dtype=np.int8), np.zeros(n_wide, dtype=np.int32)
    words, alone = whole.view(np.int32), np.empty(n_quads, dtype=np.int32)
    step, head_zero, zero = np.empty(n_users, np.float32), np.empty(n_users, np.float32), np.empty(n_users, np.int32)
    head_off, off, reach = np.empty(n_users, np.float32), np.empty(n_users, np.float32), np.empty(4, np.float32)
    everything, room = np.empty(0, dtype=np.uint8), np.float32(1) + ROUNDING * np.float32(n_wide + 8)
    norm, size, group = np.empty(n_users, dtype=np.float32), np.zeros(n_users, dtype=np.int64), np.empty(4, np.int64)
    bar = np.full(n_users, -np.inf, dtype=np.float32)
    for u in range(n_users):
        tail[u] = _turn(users[u], axes, n_head, turned[u])
        norm[u] = np.sqrt(_dot(turned[u], turned[u]))
    scored, looked, spared, going, stretch = 0, 0, 0, True, -1
    for b in range(turn, len(order), turns):
        if not going:
            break
        if b // STRETCH != stretch:
            stretch = b // STRETCH
            for u in range(n_users):
                step[u], head_off[u], head_zero[u], off[u], zero[u] = _weighed(
                    turned[u], steps, stretch, n_head, weights, whole[u]
                )
        going, u = False, 0
        while u < n_users:
            # up to four whom this block may concern
            mine = 0
            while u < n_users and mine < 4:
                reach[mine] = norm[u] * norms[b]
                if reach[mine] * room >= bar[u]:
                    group[mine] = u
                    for q in range(n_quads):
                        words_of_four[4 * q + mine] = words[u, q]
                    mine += 1
                u += 1
            if mine == 0:
                continue
            going = True
            looked += 1
            totals[:mine] = 0
            if mine == 1:
                alone[:] = words[group[0]]
            if looked < TRIED or 4 * spared > looked:
                if mine == 1:
                    add_of_one(codes, b, alone, 0, head_quads, totals)
                else:
                    add_of_four(codes, b, words_of_four, 0, head_quads, totals)
                reaching = 0
                for k in range(mine):
                    v = group[k]
                    head_bar = bar[v] - _error(reach[k], n_wide, head_off[v], step[v], sizes[b, 0])
                    if _any_reaches(totals, k, head_zero[v], step[v], tails, b, tail[v], head_bar):
                        reaching += 1
                    else:
                        group[k] = -1
                if reaching == 0:
                    spared += 1
                    continue
                if mine == 1:
                    add_of_one(codes, b, alone, head_quads, n_quads, totals)
                else:
                    add_of_four(codes, b, words_of_four, head_quads, n_quads, totals)
            else:
                # the leading directions alone spare too little to be looked at first
                if mine == 1:
                    add_of_one(codes, b, alone, 0, n_quads, totals)
                else:
                    add_of_four(codes, b, words_of_four, 0, n_quads, totals)
            for k in range(mine):
                v = group[k]
                if v < 0:
                    continue
                error = _error(reach[k], n_wide, off[v], step[v], sizes[b, 1])
                if not _any_is_over(totals, k, _least(bar[v], error, step[v], zero[v])):
                    continue
                allowed = everything if mask_of[v] < 0 else masks[mask_of[v]]
                size[v], more = _scan(
                    totals, k, error, step[v], zero[v], order, b, item_factors, users[v], allowed, left_out,
                    left_from[v], left_from[v + 1], ties, items[v], best[v], size[v], wanted[v],
                )  # fmt: skip
                scored += more
                if size[v] == wanted[v]:
                    bar[v] = best[v, 0]
    for u in range(n_users):
        _finish(items[u, : wanted[u]], best[u, : wanted[u]], size[u], ties)
        items[u, wanted[u] :] = -1
    return scored
