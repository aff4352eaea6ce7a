"""Fits of models, each beside a plain peer that does the same work."""

from __future__ import annotations

import ctypes
from functools import partial
from typing import Any

import numpy as np
from scipy import sparse
from scipy.linalg import lapack
from scipy.sparse.linalg import svds

from bench.measure import Bar, Result, measure
from bench.peers import address, library
from bench.quality import values_of
from bench.worlds import World, world_of
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.models.implicit.als import Als
from gleaner.core.models.implicit.bpr import Bpr
from gleaner.core.models.linear.item_linear import ItemLinear
from gleaner.core.models.neighbours.item_knn import ItemKnn
from gleaner.core.models.values.als_values import AlsValues
from gleaner.core.models.values.implicit_values import Svdpp
from gleaner.core.models.values.nonnegative import NmfValues
from gleaner.core.models.values.sgd_values import SgdValues
from gleaner.core.models.values.svd_values import SvdValues

RANK = 64
TURNS = 3
ITERATIONS = 3
RATINGS = 100_000


def als_iteration(world: World) -> Result:
    """One full iteration of weighted ALS at rank 64, beside C++ doing the same conjugate-gradient steps."""
    train = world.train
    model = Als(rank=RANK, iterations=ITERATIONS)
    model.fit(train)
    sides = []
    for cells, other, mine in (
        ((train.indptr, train.indices, train.values), model.item_factors_, model.user_factors_),
        (train.by_item, model.user_factors_, model.item_factors_),
    ):
        indptr, indices, values = (np.ascontiguousarray(part) for part in cells)
        weights = np.log1p(values).astype(np.float32)
        ridge = np.full(len(mine), 1.0, np.float32)
        sides.append((indptr, indices, weights, other, (other.T @ other).astype(np.float32), ridge, mine.copy()))

    def peer() -> None:
        for indptr, indices, weights, other, gram, ridge, mine in sides:
            addresses = (address(part) for part in (indptr, indices, weights, other, gram, ridge))
            library().als_rows(
                ctypes.c_int64(len(mine)), ctypes.c_int(RANK), *addresses, ctypes.c_int(model.cg_steps), address(mine)
            )

    work, beside, peak = measure(lambda: model.fit(train), peer, TURNS)
    work /= ITERATIONS
    note = f"rank {RANK}, {train.n_cells:,} cells; a third of a fit of three iterations, its set-up included"
    return Result("ALS iteration", work, peak, "C++ -O3 OpenMP, same steps", beside, note, Bar(1.3, 4.0, 4000))


def pair_epoch(world: World) -> Result:
    """One epoch of BPR at rank 64, beside C++ whose threads do not care about each other."""
    train = world.train
    Bpr(rank=RANK, iterations=1).fit(train)
    X, Y = (np.random.default_rng(0).normal(0, 0.1, (n, RANK)).astype(np.float32) for n in train.shape)

    def peer() -> None:
        n_users, n_items = (ctypes.c_int64(n) for n in train.shape)
        addresses = (address(part) for part in (train.indptr, train.indices, X, Y))
        library().pair_epoch(
            n_users,
            n_items,
            ctypes.c_int(RANK),
            *addresses,
            ctypes.c_float(0.05),
            ctypes.c_float(0.01),
            ctypes.c_uint64(1),
        )

    work, beside, peak = measure(lambda: Bpr(rank=RANK, iterations=1).fit(train), peer, TURNS)
    note = f"rank {RANK}, {train.n_cells:,} cells; the same model on any number of threads"
    return Result("BPR epoch", work, peak, "C++ -O3 OpenMP, racing threads", beside, note, Bar(seconds=6.0))


def nearest_items(world: World) -> Result:
    """The 50 nearest of every item by cosine, beside the bare sparse product of items with items."""
    train = world.train
    ItemKnn(neighbours=50).fit(train)
    X = sparse.csr_array((train.values, train.indices, train.indptr), shape=train.shape)
    work, beside, peak = measure(lambda: ItemKnn(neighbours=50).fit(train), lambda: X.T @ X, 1)
    return Result(
        "50 nearest items",
        work,
        peak,
        "sparse product, one thread",
        beside,
        f"{train.n_cells:,} cells",
        Bar(seconds=60.0, peak_mb=4000),
    )


def linear(world: World) -> Result:
    """The closed-form item-item model on at most 10,000 items, beside LAPACK's inverse alone."""
    train = _fewer_items(world.train, 10_000)
    gram = np.eye(len(train.items)) * 50 + 1

    def peer() -> None:
        factor, _ = lapack.dpotrf(gram, lower=0)
        lapack.dpotri(factor, lower=0)

    work, beside, peak = measure(lambda: ItemLinear().fit(train), peer, 1)
    return Result(
        "linear item-item", work, peak, "LAPACK inverse alone", beside, f"{len(train.items):,} items", Bar(2.0)
    )


def _fresh(family: Any, train: InteractionMatrix) -> Any:
    return family().fit(train)


def ratings(size: str) -> Result:
    """The slowest factorisation of 100,000 ratings with its defaults, beside a truncated SVD of as many."""
    train = _some_cells(values_of("ratings", "test")[0], RATINGS)
    table = sparse.csr_array((train.values.astype(np.float64), train.indices, train.indptr), shape=train.shape)
    families = (SgdValues, Svdpp, AlsValues, SvdValues, NmfValues)
    for each in families:
        each().fit(train)
    result = {each.family: measure(partial(_fresh, each, train), lambda: svds(table, k=16), 1) for each in families}
    slowest = max(result, key=lambda name: result[name][0])
    work, beside, peak = result[slowest]
    note = ", ".join(f"{name} {seconds:.2f} s" for name, (seconds, _, _) in result.items())
    return Result(f"{train.n_cells:,} ratings", work, peak, "truncated SVD, rank 16", beside, note, Bar(seconds=1.0))


def _fewer_items(train: InteractionMatrix, most: int) -> InteractionMatrix:
    """The items most users have."""
    counts = np.bincount(train.indices, minlength=len(train.items))
    kept = np.sort(np.argsort(-counts, kind="stable")[:most])
    row = np.full(len(counts), -1, dtype=np.int32)
    row[kept] = np.arange(len(kept))
    inside = row[train.indices] >= 0
    return InteractionMatrix.from_sorted(
        train.user_rows[inside], row[train.indices[inside]], train.values[inside], train.users, train.items.subset(kept)
    )


def _some_cells(train: InteractionMatrix, most: int) -> InteractionMatrix:
    kept = np.sort(np.random.default_rng(0).permutation(train.n_cells)[:most])
    cells = (train.user_rows[kept], train.indices[kept], train.values[kept], train.users, train.items)
    return InteractionMatrix.from_sorted(*cells, scale=train.scale)


ENTRIES = {
    "als": lambda size: als_iteration(world_of(size)),
    "bpr": lambda size: pair_epoch(world_of(size)),
    "neighbours": lambda size: nearest_items(world_of(size)),
    "linear": lambda size: linear(world_of(size)),
    "ratings": ratings,
}
