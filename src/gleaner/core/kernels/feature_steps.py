"""Gradient steps of factorisation machines whose features are ids, columns of both tables and of the interaction.

A table holds a row for every feature: its vector, and in the last column its weight. Users and items are dealt to tasks
that share none, so rows of ids step cell by cell. Rows of columns are shared: they are held during a stretch of cells,
while every task gathers their gradients, and move after it (`move_columns`). So the result does not depend on which
task runs first, and sums over the columns of a user or an item are worked out once a stretch, not once a cell.

All steps are Adagrad's: rate over the root of the sum of squared gradients (Duchi, Hazan, Singer 2011). With `second`
at 1 the score has the products of every two features (Rendle 2010), with 0 only those of a user's with an item's
features.
"""

import numpy as np
from numba import njit

from gleaner.core.kernels import SUM_MATH
from gleaner.core.kernels.pair_steps import _start, unseen

PAIRWISE, RANKED, SINGLE, SQUARED = 0, 1, 2, 3
"""Losses: pairwise logistic, weighted hinge of an estimated rank, logistic, squared error of values."""


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def sum_columns(side, row, out):
    """The sum of a row's columns, into `out`; answers the sum of the products of every two of their vectors.

    side: indptr int64, features int32, amounts float32 and the columns' table float32 (n_features, width)."""
    indptr, features, amounts, table = side
    last = len(out) - 1
    out[:] = 0
    squares = np.float32(0)
    for at in range(indptr[row], indptr[row + 1]):
        vector, amount = table[features[at]], amounts[at]
        for k in range(last):
            part = amount * vector[k]
            out[k] += part
            squares += part * part
        out[last] += amount * vector[last]
    total = np.float32(0)
    for k in range(last):
        total += out[k] * out[k]
    return np.float32(0.5) * (total - squares)


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _sum_context(codes, table, out):
    """The same of the context of one cell: codes int32 (n_columns,), -1 for none."""
    last = len(out) - 1
    out[:] = 0
    squares = np.float32(0)
    for code in codes:
        if code < 0:
            continue
        vector = table[code]
        for k in range(last):
            out[k] += vector[k]
            squares += vector[k] * vector[k]
        out[last] += vector[last]
    total = np.float32(0)
    for k in range(last):
        total += out[k] * out[k]
    return np.float32(0.5) * (total - squares)


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _product(x, y):
    """Of two vectors, without their weights."""
    total = np.float32(0)
    for k in range(len(x) - 1):
        total += x[k] * y[k]
    return total


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _item(i, own, items, second, out):
    """The sum of an item's features, into `out`; answers what it adds to a score by itself. The sum of its columns is
    kept until the next stretch."""
    ids = own[2]
    side, sums, products, kept_in, stretch = items
    last = len(out) - 1
    if kept_in[i] != stretch:
        products[i] = sum_columns(side, i, sums[i])
        kept_in[i] = stretch
    within = np.float32(0)
    for k in range(last):
        out[k] = ids[i, k] + sums[i, k]
        within += ids[i, k] * sums[i, k]
    out[last] = ids[i, last] + sums[i, last]
    return out[last] + second * (within + products[i])


# a division that is not looked at for zeros can be done on many columns at a time; squares start above zero
@njit(nogil=True, cache=True, fastmath=SUM_MATH, error_model="numpy")
def _move(row, squares, mask, pull, direction, other, second, weight_pull, how):
    """A row of ids along pull * (direction + second * other), its weight along weight_pull, less the penalty."""
    rate, penalty = how
    last = len(row) - 1
    for k in range(last):
        g = mask[k] * (penalty * row[k] - pull * (direction[k] + second * other[k]))
        squares[k] += g * g
        row[k] -= rate * g / np.sqrt(squares[k])
    g = penalty * row[last] - weight_pull
    squares[last] += g * g
    row[last] -= rate * g / np.sqrt(squares[last])


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _move_item(i, pull, z, own, masks, items, pulls, second, how):
    """A step of one item; z: the sum of everything else. What its columns are to move by is gathered."""
    ids, squares = own[2][i], own[3][i]
    gathered, touches = pulls
    if touches.shape[0]:
        last = len(z) - 1
        for k in range(last):
            gathered[i, k] += pull * (z[k] + second * ids[k])
        gathered[i, last] += pull
        touches[i] += 1
    _move(ids, squares, masks[1], pull, z, items[1][i], second, pull, how)


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _gather_context(codes, table, moves, touches, pull, direction, z, second):
    """What the context of a cell is to move by: pull * (direction + second * (z - itself)), its weight by as much as
    `second` says, for a pair of items it cancels out."""
    last = len(z) - 1
    for code in codes:
        if code >= 0:
            for k in range(last):
                moves[code, k] += pull * (direction[k] + second * (z[k] - table[code, k]))
            moves[code, last] += second * pull
            touches[code] += 1


@njit(nogil=True, cache=True, fastmath=SUM_MATH)
def _hand_on(side, row, gathered, touches, sums, second, moves, counts):
    """What was gathered for a row, handed to each of its columns."""
    indptr, features, amounts, table = side
    last = len(gathered) - 1
    for at in range(indptr[row], indptr[row + 1]):
        vector, amount, move = table[features[at]], amounts[at], moves[features[at]]
        for k in range(last):
            move[k] += amount * (gathered[k] + second * gathered[last] * (sums[k] - amount * vector[k]))
        move[last] += amount * gathered[last]
        counts[features[at]] += touches


@njit(nogil=True, cache=True)
def _hand_on_items(members, items, pulls, second, moves, counts):
    """The same for every item of a block that moved, and what was gathered is cleared."""
    gathered, touches = pulls
    if touches.shape[0] == 0:
        return
    for i in members:
        if touches[i]:
            _hand_on(items[0], i, gathered[i], touches[i], items[1][i], second, moves, counts)
            gathered[i] = 0
            touches[i] = 0


@njit(nogil=True, cache=True)
def _violator(state, z, score, own, items, members, history, how, yj):
    """An item to set beside one that the user has: the next state, the item or -1, how much it pulls, and the loss."""
    loss, second, margin, trials, n_items = how
    indices, start, stop = history
    for drawn in range(1, trials + 1):
        state, j = unseen(state, members, indices, start, stop)
        if j < 0:
            break
        other = _item(j, own, items, second, yj)
        short = _product(z, yj) + other - score
        if loss == PAIRWISE:
            pull = np.float32(1 / (1 + np.exp(-short)))
            return state, j, pull, np.log1p(np.exp(-abs(short))) + max(short, np.float32(0))
        if margin + short > 0:
            weight = np.float32(np.log(1 + (n_items - 1) // drawn))
            return state, j, weight, weight * (margin + short)
    return state, np.int32(-1), np.float32(0), np.float32(0)


@njit(nogil=True, cache=True)
def pair_epoch(lo, hi, cells, block, own, masks, users, items, context, pulls, moves, losses, how):
    """A step for every cell (u, i) of users lo to hi whose item is of a block, that lifts i above an item of the block
    which u lacks: by the pairwise loss one, by the ranked loss the first of at most `trials` within the margin, weighed
    by log(1 + floor((n_items - 1) / draws)). Answers the sum of the losses before the steps.

    cells: indptr int64, indices int32, seed uint64. block: block_of int8 (n_items,), its items int32, its number. own:
    tables and squares of users' and of items' ids, float32 (n, width). masks: where rows of users' and items' ids may
    move, float32 (width - 1,). users: their columns, as in `sum_columns`. items: their columns; sums float32 (n_items,
    width), products float32 (n_items,) and kept_in int64 (n_items,) of what is worked out for a stretch, and the number
    of the stretch. context: codes int32 (n_cells, n_columns) and table. pulls: float32 (n_items, width) and touches
    int64 (n_items,), of length 0 where items have no columns. moves: float32 (n_features, width) and touches int64
    (n_features,) of the task, for users', items' and context's columns. losses: loss, second, margin, trials, n_items.
    how: rate and penalty of users' ids, and of items'."""
    indptr, indices, seed = cells
    block_of, members, number = block
    second = losses[1]
    codes, context_table = context
    user_moves, user_touches, item_moves, item_touches, context_moves, context_touches = moves
    width = own[0].shape[1]
    columns, here, gathered = np.zeros(width, np.float32), np.zeros(width, np.float32), np.zeros(width, np.float32)
    z, yi, yj = np.zeros(width, np.float32), np.zeros(width, np.float32), np.zeros(width, np.float32)
    zero = np.float32(0)
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state, mine, touched = _start(seed, u), own[0][u], 0
        sum_columns(users, u, columns)
        gathered[:] = 0
        for at in range(start, stop):
            i = indices[at]
            if block_of[i] != number:
                continue
            if codes.shape[1]:
                _sum_context(codes[at], context_table, here)
            for k in range(width):
                z[k] = mine[k] + columns[k] + here[k]
            bias = _item(i, own, items, second, yi)
            history = (indices, start, stop)
            score = _product(z, yi) + bias
            state, j, pull, loss = _violator(state, z, score, own, items, members, history, losses, yj)
            if j < 0:
                continue
            total += loss
            touched += 1
            for k in range(width - 1):
                yi[k] -= yj[k]
                gathered[k] += pull * yi[k]
            _gather_context(codes[at], context_table, context_moves, context_touches, pull, yi, z, zero)
            _move_item(i, pull, z, own, masks, items, pulls, second, how[1])
            _move_item(j, -pull, z, own, masks, items, pulls, second, how[1])
            _move(mine, own[1][u], masks[0], pull, yi, here, zero, zero, how[0])
        if touched:
            _hand_on(users, u, gathered, touched, columns, zero, user_moves, user_touches)
    _hand_on_items(members, items, pulls, second, item_moves, item_touches)
    return total


@njit(nogil=True, cache=True)
def single_epoch(lo, hi, cells, block, own, masks, users, items, context, pulls, moves, losses, how):
    """A step for every cell of users lo to hi whose item is of a block: by the squared error of its value, or by the
    logistic loss, where `trials` items of the block that the user lacks follow it. Answers the sum of the losses before
    the steps. As `pair_epoch`, but cells: also values float32 (n_cells,), of length 0 for the logistic loss; losses:
    loss, second, what a user's weight moves by (0 or 1), base, trials."""
    indptr, indices, values, seed = cells
    block_of, members, number = block
    loss, second, user_weight, base, trials = losses
    codes, context_table = context
    user_moves, user_touches, item_moves, item_touches, context_moves, context_touches = moves
    width = own[0].shape[1]
    last = width - 1
    columns, here, gathered = np.zeros(width, np.float32), np.zeros(width, np.float32), np.zeros(width, np.float32)
    z, y, beside = np.zeros(width, np.float32), np.zeros(width, np.float32), np.zeros(width, np.float32)
    total = 0.0
    for u in range(lo, hi):
        start, stop = indptr[u], indptr[u + 1]
        state, mine, touched = _start(seed, u), own[0][u], 0
        of_columns = sum_columns(users, u, columns)
        gathered[:] = 0
        for at in range(start, stop):
            if block_of[indices[at]] != number:
                continue
            products = of_columns
            if codes.shape[1]:
                products += _sum_context(codes[at], context_table, here) + _product(columns, here)
            for k in range(width):
                beside[k] = columns[k] + here[k]
            j = indices[at]
            for drawn in range(trials + 1):
                if drawn > 0:
                    state, j = unseen(state, members, indices, start, stop)
                    if j < 0:
                        break
                for k in range(width):
                    z[k] = mine[k] + beside[k]
                bias = _item(j, own, items, second, y)
                alone = z[last] + second * (products + _product(mine, beside))
                score = base + alone + _product(z, y) + bias
                if loss == SQUARED:
                    pull = np.float32(values[at] - score)
                    total += pull * pull
                else:
                    sign = np.float32(1) if drawn == 0 else np.float32(-1)
                    total += np.log1p(np.exp(-abs(score))) + max(-sign * score, np.float32(0))
                    pull = np.float32(sign / (1 + np.exp(sign * score)))
                touched += 1
                for k in range(last):
                    gathered[k] += pull * (y[k] + second * (mine[k] + here[k]))
                gathered[last] += user_weight * pull
                _gather_context(codes[at], context_table, context_moves, context_touches, pull, y, z, second)
                _move_item(j, pull, z, own, masks, items, pulls, second, how[1])
                _move(mine, own[1][u], masks[0], pull, y, beside, second, user_weight * pull, how[0])
        if touched:
            _hand_on(users, u, gathered, touched, columns, second, user_moves, user_touches)
    _hand_on_items(members, items, pulls, second, item_moves, item_touches)
    return total


@njit(nogil=True, cache=True, fastmath=SUM_MATH, error_model="numpy")
def move_columns(table, squares, moves, touches, fields, masks, rate, penalties):
    """One step of every feature of columns that some cell had, along what all tasks gathered, which is then cleared.

    moves float32 (n_tasks, n_features, width), touches int64 (n_tasks, n_features). fields int32 (n_features,): the
    column of each, a row of masks float32 (n_fields, width - 1) and of penalties float32 (n_fields,), which count once
    for each time that a cell had the feature."""
    n_tasks, n_features, width = moves.shape
    total = np.empty(width, np.float32)
    for feature in range(n_features):
        count = 0
        total[:] = 0
        for task in range(n_tasks):
            if touches[task, feature]:
                count += touches[task, feature]
                for k in range(width):
                    total[k] += moves[task, feature, k]
                    moves[task, feature, k] = 0
                touches[task, feature] = 0
        if count == 0:
            continue
        penalty = np.float32(count) * penalties[fields[feature]]
        mask = masks[fields[feature]]
        for k in range(width):
            allowed = mask[k] if k < width - 1 else np.float32(1)
            g = allowed * (penalty * table[feature, k] - total[k])
            squares[feature, k] += g * g
            table[feature, k] -= rate * g / np.sqrt(squares[feature, k])
