"""A factorisation machine's epoch, and the list of a second stage."""

from __future__ import annotations

import time

import numpy as np

from bench.measure import Bar, Result, measure, seconds_of
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.kernels.factorisation import LANES
from gleaner.core.models.machines.fields import fields_of
from gleaner.core.models.machines.sampling import Chain
from gleaner.core.models.second_stage.second_stage import SecondStage

RANK = 32
CONTEXT = [10, 24, 100, 12, 7, 50] * 3
"""Features of each column of the context: with the ids twenty features a row."""

ROWS = {"small": 400_000, "medium": 2_000_000, "large": 10_000_000}
LISTS = 200
STAGE = {"small": (4_000, 2_000), "medium": (4_000, 5_000), "large": (4_000, 10_000)}
TURNS = 2


def machine_epoch(size: str) -> Result:
    """One draw of everything at rank 32, beside the products of as many rows alone."""
    random, n = np.random.default_rng(0), ROWS[size]
    shape = max(100, n // 72), max(50, n // 370)
    users, items = np.sort(random.integers(0, shape[0], n)), random.integers(0, shape[1], n)
    indptr = np.concatenate([[0], np.cumsum(np.bincount(users, minlength=shape[0]))]).astype(np.int64)
    values = random.normal(size=n).astype(np.float32)
    # pairs may repeat here, which a training matrix has not: for the steps it makes no difference
    ids = [np.arange(each) for each in shape]
    train = InteractionMatrix(indptr, items.astype(np.int32), values, *ids)  # type: ignore[arg-type]
    codes = np.stack([random.integers(0, each, n).astype(np.int32) for each in CONTEXT])
    names = [f"column {place}" for place in range(len(CONTEXT))]
    chain = Chain(fields_of(train, [], [], codes, names, CONTEXT), values, RANK, 0.1, 1)
    chain.draw()
    slopes = random.normal(size=(4096, (RANK + 1 + LANES) // LANES * LANES)).astype(np.float32)
    turns = -(-n * (len(CONTEXT) + 2) // len(slopes))

    def peer() -> None:
        out = np.empty((slopes.shape[1], slopes.shape[1]), np.float32)
        for _ in range(turns):
            np.dot(slopes.T, slopes, out)

    work, beside, peak = measure(chain.draw, peer, TURNS)
    note = f"{n:,} rows of {len(CONTEXT) + 2} features, rank {RANK}"
    return Result("factorisation machine", work, peak, "the products in it", beside, note, Bar(None, 15.0))


def second_stage_list(size: str) -> Result:
    """One user's list: four members, some five hundred candidates, two hundred trees; beside the members' scores."""
    random, (n_users, n_items) = np.random.default_rng(1), STAGE[size]
    taste = random.normal(size=(n_users, 8)) @ random.normal(size=(8, n_items))
    users = np.repeat(np.arange(n_users), 20)
    picks = np.argpartition(-(taste + 2 * random.normal(size=taste.shape)), 20, axis=1)[:, :20]
    items = np.sort(picks, axis=1).ravel()
    train = InteractionMatrix.from_sorted(users, items, np.ones(len(users)), *_ids(n_users, n_items))
    model = SecondStage(folds=2)
    model.fit(train)
    rows = random.integers(0, n_users, LISTS).astype(np.int32)
    model.scores(rows[:1])
    taken = np.array([_timed(lambda row=row: model.scores(np.array([row]))) for row in rows])
    beside = seconds_of(lambda: [member.scores(rows[:1]) for row in rows for member in model.models_]) / LISTS
    middle, most = 1e3 * np.quantile(taken, [0.5, 0.99])
    note = f"{n_items:,} items, four members: p50 {middle:.1f} ms, p99 {most:.1f} ms"
    mean, peer = float(np.mean(taken)), "its members' scores"
    return Result("second stage, one list", mean, 0.0, peer, beside, note, Bar(None, 0.025))


def _timed(work: object) -> float:
    begun = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - begun


def _ids(n_users: int, n_items: int) -> tuple[IdMap, IdMap]:
    return IdMap([f"u{n}" for n in range(n_users)]), IdMap([f"i{n}" for n in range(n_items)])


ENTRIES = {"machine": machine_epoch, "second-stage": second_stage_list}
