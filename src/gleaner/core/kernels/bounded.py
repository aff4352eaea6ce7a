"""The best items for one user, or several, by bounds that spare most of the products."""

import numpy as np
from numba import njit

from gleaner.core.kernels.quads import BLOCK, add_of_four, add_of_one
from gleaner.core.kernels.topn import _sift_down, _sift_up, _sort_heap, _worse

ZERO = 128
"""The code that stands for nothing: codes have no sign."""

STEPS = np.float32(127)
"""Steps from zero to the largest weight of a user in a block, so that it fits eight bits with its sign."""

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


@njit(nogil=True, cache=True)
def _any_reaches(totals, zero, step, tails, tail, bar):
    """Whether one product of the leading directions, with its tail, reaches the bar. zero float32: of so few directions
    products are exact in 32 bits."""
    found = False
    for j in range(BLOCK):
        found |= (np.float32(totals[j]) - zero) * step + tail * tails[j] >= bar
    return found


@njit(nogil=True, cache=True)
def _any_is_over(totals, least):
    """Whether one product is at the least that may count, or over it."""
    found = False
    for j in range(BLOCK):
        found |= totals[j] >= least
    return found


@njit(nogil=True, cache=True)
def _among(sorted_rows, row):
    """Whether a row is in a rising list of them."""
    at = np.searchsorted(sorted_rows, row)
    return at < len(sorted_rows) and sorted_rows[at] == row


@njit(nogil=True, cache=True, fastmath=True)
def _largest(turned, steps, weights):
    """Weights of a user's products with a block's codes, and the largest of them."""
    top = np.float32(0)
    for d in range(len(weights)):
        weights[d] = turned[d] * steps[d]
        top = max(top, abs(weights[d]))
    return top


@njit(nogil=True, cache=True, fastmath=True)
def _weigh(weights, first, last, per_step, whole):
    """Weights as whole numbers, the sum of these, and the sum of what the weights come to without their signs."""
    off, total = np.float32(0), np.int32(0)
    for d in range(np.uint64(first), np.uint64(last)):
        number = np.int32(np.rint(weights[d] * per_step))
        whole[d] = np.int8(number)
        total += number
        off += abs(weights[d])
    return off, total


@njit(nogil=True, cache=True)
def _least(bar, error, step, zero):
    """The least product in whole numbers whose score, with room for the error, could reach the bar."""
    found = (np.float64(bar) - np.float64(error)) / np.float64(step) + zero
    # to the lower side; NaN cannot be: the step is no zero, the error is finite
    return np.int32(min(max(np.floor(found), LOWEST), HIGHEST))


@njit(nogil=True, cache=True)
def _measured(turned, steps, sizes, reach, n_head, weights, whole):
    """What a walk needs to know of a user in a block: the step of the weights; for the leading directions and for all
    of them, the product of no code and how far a product can be off. The weights go to `whole`, int8 (n_factors,).

    A score differs from its product in whole numbers by half a step of each code, by half a step of each weight times
    the codes, of which `sizes` has the largest sums in the block, and by rounding, a share of `reach`.
    """
    n_factors = len(weights)
    top = _largest(turned, steps, weights)
    step = max(top / STEPS, LEAST_STEP)
    head_off, head_zero = _weigh(weights, 0, n_head, np.float32(1) / step, whole)
    rest_off, rest_zero = _weigh(weights, n_head, n_factors, np.float32(1) / step, whole)
    rounding = ROUNDING * np.float32(n_factors + 8)
    half = np.float32(0.5) * (np.float32(1) + rounding)
    head_error = rounding * reach + half * head_off + OFF * step * sizes[0]
    error = rounding * reach + half * (head_off + rest_off) + OFF * step * sizes[1]
    return step, np.float32(ZERO * head_zero), head_error, np.int32(ZERO * (head_zero + rest_zero)), error


@njit(nogil=True, cache=True)
def _add(codes, words, words_of_four, first, last, totals, n):
    """Products of a block with one user, whose weights were made last, or with up to four."""
    if n == 1:
        add_of_one(codes, words, first, last, totals)
    else:
        add_of_four(codes, words_of_four, first, last, totals)


@njit(nogil=True, cache=True)
def _scan(totals, error, step, zero, order, item_factors, user, allowed, left_out, ties, items, best, size, wanted):
    """Score the items of a block whose product, with room for its error, reaches the worst kept, and keep the better.
    Answers how many are kept, and how many were scored."""
    scored = 0
    least = _least(best[0], error, step, zero) if size == wanted else np.int32(LOWEST)
    for j in range(BLOCK):
        if totals[j] < least:
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
    codes, steps, sizes, tails, norms, order, item_factors, user, turned, n_head, tail, allowed, left_out, ties, items,
    best,
):  # fmt: skip
    """The best items of one user, best first, written to items int32 (n,) and best float32 (n,). Answers how many
    items were scored in full.

    codes uint8 (n_blocks, n_quads * BLOCK * 4), less ZERO and times steps float32 (n_blocks, n_quads * 4), are the
    turned item factors to half a step, four factors of an item side by side, items by falling norm; sizes float32
    (n_blocks, 2) are the largest sums of an item's codes without their signs, over the first n_head directions and over
    all; tails float32 (n_blocks, BLOCK) are the items' norms behind the first n_head directions, a multiple of four;
    norms float32 (n_blocks,) the largest of each block; order int32 (n_blocks, BLOCK) the items, -1 where a block is
    not full. item_factors float32 (n_items, n_factors) and user float32 (n_factors,) are as trained, turned float32
    (n_quads * 4,) is the user's in the turned space and tail its norm behind n_head. allowed uint8 (n_items,), or empty
    for all; left_out int32, rising item rows.

    The walk ends at the first block whose largest norm times the user's cannot reach the worst item kept. A block is
    left after its leading directions if none of its items can reach it. Of the others only items whose low-precision
    product, with room for its error, reaches it are scored. So no item is lost.
    """
    n, n_quads, head_quads = len(items), len(turned) // 4, n_head // 4
    totals, weights = np.empty(BLOCK, dtype=np.int32), np.empty(len(turned), dtype=np.float32)
    whole = np.zeros(len(turned), dtype=np.int8)
    words = whole.view(np.int32)
    norm = np.float32(np.sqrt(_dot(turned, turned)))
    room = np.float32(1) + ROUNDING * np.float32(len(turned) + 8)
    size, scored = 0, 0
    bar = np.float32(-np.inf)
    for b in range(len(order)):
        reach = norm * norms[b]
        if reach * room < bar:
            break
        step, head_zero, head_error, zero, error = _measured(turned, steps[b], sizes[b], reach, n_head, weights, whole)
        totals[:] = 0
        add_of_one(codes[b], words, 0, head_quads, totals)
        if not _any_reaches(totals, head_zero, step, tails[b], tail, bar - head_error):
            continue
        add_of_one(codes[b], words, head_quads, n_quads, totals)
        if not _any_is_over(totals, _least(bar, error, step, zero)):
            continue
        size, more = _scan(
            totals, error, step, zero, order[b], item_factors, user, allowed, left_out, ties, items, best, size, n
        )
        scored += more
        if size == n:
            bar = best[0]
    _finish(items, best, size, ties)
    return scored


@njit(nogil=True, cache=True)
def best_items_of_several(
    codes, steps, sizes, tails, norms, order, item_factors, users, turned, n_head, tail, masks, mask_of, left_out,
    left_from, ties, wanted, items, best, turn, turns,
):  # fmt: skip
    """The same for several users at once: a block is read once for four of those who are still on the way. One user
    alone has a walk of its own above: a call for each block would cost it a fifth.

    users float32 (m, n_factors), turned float32 (m, n_quads * 4), tail float32 (m,), items and best (m, n), of which
    each wants wanted[u]. masks uint8 (k, n_items), with mask_of[u] the row of a user, -1 for everything; left_out has
    the rows of each user from left_from[u] to left_from[u + 1]. Of the blocks every turns-th is visited, from the
    turn-th on: so threads can share them, and each has some of the first.
    """
    n_users, n_wide = turned.shape
    n_quads, head_quads = n_wide // 4, n_head // 4
    totals, weights = np.empty(4 * BLOCK, dtype=np.int32), np.empty(n_wide, dtype=np.float32)
    whole = np.zeros(n_wide, dtype=np.int8)
    words, words_of_four = whole.view(np.int32), np.zeros(n_wide, dtype=np.int32)
    step, head_error, error = np.empty(4, np.float32), np.empty(4, np.float32), np.empty(4, np.float32)
    head_zero, zero, group = np.empty(4, np.float32), np.empty(4, np.int32), np.empty(4, np.int64)
    everything, room = np.empty(0, dtype=np.uint8), np.float32(1) + ROUNDING * np.float32(n_wide + 8)
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
                if reach * room >= bar[u]:
                    group[mine] = u
                    step[mine], head_zero[mine], head_error[mine], zero[mine], error[mine] = _measured(
                        turned[u], steps[b], sizes[b], reach, n_head, weights, whole
                    )
                    for q in range(n_quads):
                        words_of_four[4 * q + mine] = words[q]
                    mine += 1
                u += 1
            if mine == 0:
                continue
            going = True
            looked += 1
            totals[: mine * BLOCK] = 0
            if looked < TRIED or 4 * spared > looked:
                _add(codes[b], words, words_of_four, 0, head_quads, totals, mine)
                reaching = False
                for k in range(mine):
                    v = group[k]
                    own = totals[k * BLOCK : (k + 1) * BLOCK]
                    if _any_reaches(own, head_zero[k], step[k], tails[b], tail[v], bar[v] - head_error[k]):
                        reaching = True
                    else:
                        group[k] = -1
                if not reaching:
                    spared += 1
                    continue
                _add(codes[b], words, words_of_four, head_quads, n_quads, totals, mine)
            else:
                # the leading directions alone spare too little to be looked at first
                _add(codes[b], words, words_of_four, 0, n_quads, totals, mine)
            for k in range(mine):
                v = group[k]
                own = totals[k * BLOCK : (k + 1) * BLOCK]
                if v < 0 or not _any_is_over(own, _least(bar[v], error[k], step[k], zero[k])):
                    continue
                allowed = everything if mask_of[v] < 0 else masks[mask_of[v]]
                size[v], more = _scan(
                    own, error[k], step[k], zero[k], order[b], item_factors, users[v], allowed,
                    left_out[left_from[v] : left_from[v + 1]], ties, items[v], best[v], size[v], wanted[v],
                )  # fmt: skip
                scored += more
                if size[v] == wanted[v]:
                    bar[v] = best[v, 0]
    for u in range(n_users):
        _finish(items[u, : wanted[u]], best[u, : wanted[u]], size[u], ties)
        items[u, wanted[u] :] = -1
    return scored
