"""Steps of networks beside the arithmetic in them, and lists of what they make of someone new."""

from __future__ import annotations

import time
from typing import Any

import numpy as np

from bench.measure import Bar, Result, measure
from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.registry import build
from gleaner.core.models.neural.graph_convolution import GraphConvolution
from gleaner.core.models.neural.machinery.network_model import Draws
from gleaner.core.models.neural.machinery.optimiser import Optimiser
from gleaner.core.models.neural.machinery.propagation import propagated
from gleaner.core.models.neural.two_towers import TwoTowers

CELLS = {"small": 200_000, "medium": 2_000_000, "large": 10_000_000}
EDGES = {"small": 100_000, "medium": 400_000, "large": 1_000_000}
CATALOGUE = {"small": 10_000, "medium": 50_000, "large": 100_000}
WIDTH, STEPS, TURNS, LISTS, HISTORY, CANDIDATES = 64, 6, 3, 200, 30, 500


def towers_steps(size: str) -> Result:
    """Steps of two towers at 64 dimensions and batches of 8,192, beside the network's way forth and back alone."""
    import torch

    train = random_cells(CELLS[size])
    model = TwoTowers(rank=WIDTH, batch=8192, item_columns=[], user_columns=[])
    optimiser, batches = _begun(torch, model, train)

    def steps() -> None:
        for units in batches:
            model.step(optimiser, units, Draws.of(torch, 1, 1))

    prepared = [_towers_inputs(torch, model, units) for units in batches]
    embed, bag = torch.nn.functional.embedding, torch.nn.functional.embedding_bag

    def peer() -> None:
        for users, history, items, told in prepared:
            tables = [optimiser.tensors[name] for name in ("user_ids", "histories", "item_ids", "items_bias")]
            x = embed(users, tables[0]) + bag(*history[:1], tables[1], history[1], mode="sum", include_last_offset=True)
            scores = x @ embed(items, tables[2]).T + tables[3][items]
            torch.autograd.grad(torch.nn.functional.cross_entropy(scores, told), tables)

    work, beside, peak = measure(steps, peer, TURNS)
    note = f"{len(batches)} batches of 8,192 of {train.n_cells:,} cells, {WIDTH} dimensions"
    return Result("two towers", work, peak, "forth and back alone", beside, note, Bar(1 / 0.6))


def _towers_inputs(torch: Any, model: TwoTowers, units: np.ndarray) -> tuple[Any, ...]:
    train = model.trained_on
    items, told = np.unique(train.indices[units], return_inverse=True)
    bags = model._histories.some(train.user_rows[units])
    users, items, told = (torch.from_numpy(rows.astype(np.int64)) for rows in (train.user_rows[units], items, told))
    history = torch.from_numpy(bags.rows.astype(np.int64)), torch.from_numpy(bags.indptr)
    return users, history, items, told


def graph_steps(size: str) -> Result:
    """Steps of light graph convolution at 64 dimensions and three layers, beside their sparse products and Adam."""
    import torch

    train = random_cells(EDGES[size])
    model = GraphConvolution(rank=WIDTH, layers=3, batch=8192)
    optimiser, batches = _begun(torch, model, train)

    def steps() -> None:
        for units in batches:
            model.step(optimiser, units, Draws.of(torch, 1, 1))

    def peer() -> None:
        with torch.no_grad():
            for _ in batches:
                users, items = (optimiser.tensors[name].detach() for name in ("users", "items"))
                propagated(model._adjacency, users, items, 3)
                back = propagated(model._adjacency, users, items, 3)
                optimiser.step_by({"users": back[0], "items": back[1]})

    work, beside, peak = measure(steps, peer, TURNS)
    note = f"{len(batches)} batches of {train.n_cells:,} edges, {WIDTH} dimensions, three layers"
    return Result("graph convolution", work, peak, "products and steps alone", beside, note, Bar(1.5))


def memory_of_many(size: str) -> Result:
    """What two towers hold while they learn from twice as many cells as above: peak memory is the figure."""
    import torch

    train = random_cells(2 * CELLS[size])
    model = TwoTowers(rank=WIDTH, batch=8192, item_columns=[], user_columns=[])
    optimiser, batches = _begun(torch, model, train)

    def steps() -> None:
        for units in batches[:2]:
            model.step(optimiser, units, Draws.of(torch, 1, 1))

    work, beside, peak = measure(steps, lambda: train.indices.sum(), 1)
    return Result("memory of networks", work, peak, "one pass over the cells", beside, f"{train.n_cells:,} cells")


def network_lists(size: str) -> Result:
    """Of three networks the slowest, beside the walk alone, to list for someone new: what a factor model of the same
    vectors takes for someone it knows."""
    n_items, random = CATALOGUE[size], np.random.default_rng(1)
    train = random_cells(20 * n_items, n_items)
    histories = [np.unique(random.integers(0, n_items, HISTORY)).astype(np.int32) for _ in range(LISTS)]
    taken: dict[str, tuple[float, float]] = {}
    for name in ("two_towers", "variational_autoencoder", "self_attention"):
        more: dict[str, Any] = {"item_columns": [], "user_columns": []} if name == "two_towers" else {}
        fitted = Fitted(name, _with_random_state(name, train, {"rank": WIDTH} | more), train)
        model: Any = fitted.model
        known = [model.fold_in(items, np.ones(len(items))) for items in histories]
        # in turn, so that both find the machine as busy and its caches as full
        pairs = [
            (
                _seconds(lambda given, fitted=fitted: fitted.best_from(given, np.ones(len(given)), 10), [items]),
                _seconds(lambda given, fitted=fitted: fitted.best_of(given, 10), [vector]),
            )
            for items, vector in zip(histories, known, strict=True)
        ]
        taken[name] = tuple(np.median(pairs, axis=0))
    slowest = max(taken, key=lambda name: taken[name][0] / taken[name][1])
    figures = ", ".join(f"{name} {1e3 * whole:.2f} of {1e3 * walk:.2f} ms" for name, (whole, walk) in taken.items())
    note = f"median of {LISTS} lists of 10 of {n_items:,} items; {figures}"
    return Result("lists of networks", taken[slowest][0], 0.0, "the walk alone", taken[slowest][1], note, Bar(2.0))


def ranked_candidates(size: str) -> Result:
    """Of three ranking networks the slowest to put 500 candidates in order for someone new, beside finding these."""
    n_items, random = CATALOGUE[size], np.random.default_rng(1)
    train = random_cells(2 * n_items, n_items)
    towers = {"rank": WIDTH, "item_columns": [], "user_columns": []}
    finds = Fitted("two_towers", _with_random_state("two_towers", train, towers), train)
    histories = [np.unique(random.integers(0, n_items, HISTORY)).astype(np.int32) for _ in range(LISTS)]
    taken: dict[str, tuple[float, float]] = {}
    for name in ("deep_fm", "wide_deep", "interaction_network"):
        model: Any = build(name, {"iterations": 1, "batch": 8192}).fit(train)

        def ranked(items: np.ndarray, model: Any = model) -> None:
            pool = finds.best_from(items, np.ones(len(items)), CANDIDATES).items
            model.scores_among(model.fold_in(items, np.ones(len(items), np.float32)), pool, None).argsort()

        found = _seconds(lambda items: finds.best_from(items, np.ones(len(items)), CANDIDATES), histories)
        taken[name] = _seconds(ranked, histories), found
    slowest = max(taken, key=lambda name: taken[name][0] / taken[name][1])
    figures = ", ".join(f"{name} {1e3 * whole:.2f} of {1e3 * found:.2f} ms" for name, (whole, found) in taken.items())
    note = f"median of {LISTS} times {CANDIDATES} of {n_items:,} items; {figures}"
    return Result("ranking networks", taken[slowest][0], 0.0, "finding alone", taken[slowest][1], note, Bar(2.0))


def _seconds(work: Any, given: list[np.ndarray]) -> float:
    taken = []
    for each in given:
        begun = time.perf_counter()
        work(each)
        taken.append(time.perf_counter() - begun)
    return float(np.median(taken))


def _begun(torch: Any, model: Any, train: InteractionMatrix) -> tuple[Optimiser, list[np.ndarray]]:
    torch.set_num_threads(2)
    model.train_ = train
    model.prepare(train, None)
    model.weights_ = model.initial_weights(np.random.default_rng(1))
    random, batches = np.random.default_rng(2), []
    for units in model.batches(random):
        batches.append(units)
        if len(batches) == STEPS:
            break
    return Optimiser(torch, model.weights_, model.learning_rate), batches


def _with_random_state(name: str, train: InteractionMatrix, params: dict[str, Any]) -> Any:
    """A model as if fitted: its weights are those before the first step."""
    model: Any = build(name, params)
    model.train_ = train
    model.prepare(train, None)
    model.weights_ = model.initial_weights(np.random.default_rng(3))
    model.item_factors_ = np.ascontiguousarray(model.item_vectors(), np.float32)
    model.user_factors_ = np.zeros((train.shape[0], model.item_factors_.shape[1]), np.float32)
    return model


def random_cells(n: int, n_items: int | None = None) -> InteractionMatrix:
    """About so many distinct cells, of which users and items have as many as in large open sets."""
    random, shape = np.random.default_rng(0), (max(1000, n // 145), n_items or max(500, n // 740))
    cells = np.unique(random.integers(0, shape[0] * shape[1], n))
    ids = tuple(IdMap([f"{side}{row}" for row in range(count)]) for side, count in zip("ui", shape, strict=True))
    ones, moments = np.ones(len(cells), np.float32), np.zeros(len(cells))
    return InteractionMatrix.from_sorted(cells // shape[1], cells % shape[1], ones, *ids, days=moments)


ENTRIES = {
    "towers": towers_steps,
    "graph": graph_steps,
    "network-memory": memory_of_many,
    "network-lists": network_lists,
    "network-candidates": ranked_candidates,
}
