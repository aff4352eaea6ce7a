"""Epochs of factorisation machines, and the list of a second stage."""

from __future__ import annotations

import time

import numpy as np

from bench.measure import Bar, Result, measure, seconds_of
from gleaner.core import parallel
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.kernels.factorisation import LANES
from gleaner.core.models.base.blocks import run_epoch
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.machines.fields import fields_of
from gleaner.core.models.machines.sampling import Chain
from gleaner.core.models.machines.stepping import ContextColumns, Machine, SideColumns, StepPlan, Tables
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


def stepped_epoch(size: str) -> Result:
    """One epoch of pairwise steps at rank 32 on all threads, beside the same on one."""
    random, n = np.random.default_rng(0), ROWS[size]
    shape = max(100, n // 72), max(50, n // 370)
    cells = np.unique(random.integers(0, shape[0] * shape[1], int(1.01 * n)))
    train = InteractionMatrix.from_sorted(
        cells // shape[1], cells % shape[1], np.ones(len(cells), np.float32), *_ids(*shape)
    )
    sides = tuple(_columns(random, n_rows) for n_rows in shape)
    starts = np.concatenate([[0], np.cumsum(CONTEXT[:6])])
    codes = np.stack([random.integers(0, each, len(cells)) for each in CONTEXT[:6]], axis=1) + starts[:-1]
    context = ContextColumns(codes.astype(np.int32), np.repeat(np.arange(6, dtype=np.int32), CONTEXT[:6]), ["c"] * 6)
    rows = (*shape, sides[0].n_features, sides[1].n_features, int(starts[-1]))
    tables = Tables(*(random.normal(0, 0.02, (each, RANK + 1)).astype(np.float32) for each in rows))
    plan = StepPlan("bpr", True, True, 1.0, 1, np.ones((20, RANK), np.float32), np.full(20, 0.02))
    machine = Machine(train, sides, context, tables, plan)  # type: ignore[arg-type]

    def epoch() -> None:
        rate = np.float32(0.05)
        task = machine.task(rate, np.uint64(1))
        after = lambda: machine.move_columns(rate)  # noqa: E731
        run_epoch(train, 1, 1, 1, task, Watch(), stretches=machine.stretches, after_stretch=after)

    def alone() -> None:
        threads = parallel.default_threads
        parallel.default_threads = lambda: 1
        try:
            epoch()
        finally:
            parallel.default_threads = threads

    work, beside, peak = measure(epoch, alone, TURNS)
    note = f"{train.n_cells:,} cells of 20 features, rank {RANK}, pairwise loss"
    # as many cells a second on two threads as on one times 1.7
    bar = Bar(1 / 1.7 if parallel.default_threads() == 2 else None, 15.0)
    return Result("machine by steps", work, peak, "the same on one thread", beside, note, bar)


def _columns(random: np.random.Generator, n_rows: int) -> SideColumns:
    """Six columns of one feature a row."""
    starts = np.concatenate([[0], np.cumsum(CONTEXT[:6])])
    features = np.stack([random.integers(0, each, n_rows) for each in CONTEXT[:6]], axis=1) + starts[:-1]
    amounts = np.full(features.size, np.float32(1 / np.sqrt(6)))
    field = np.repeat(np.arange(6, dtype=np.int32), CONTEXT[:6])
    return SideColumns(np.arange(n_rows + 1) * 6, features.astype(np.int32).ravel(), amounts, field, ["c"] * 6)


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


ENTRIES = {"machine": machine_epoch, "stepped-machine": stepped_epoch, "second-stage": second_stage_list}
