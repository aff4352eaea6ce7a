"""Compile every kernel ahead of its first use, by small fits and answers of every model family."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, replace

import numpy as np
import polars as pl
from scipy import sparse

from gleaner.core.data.ids import IdMap
from gleaner.core.data.interactions import InteractionMatrix
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables.row_features import Features, features_of
from gleaner.core.fitted import Fitted
from gleaner.core.metrics.catalogue import LISTS, ORDER, RANKING
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.metrics.exposure import ContentVectors
from gleaner.core.metrics.surprise import AnalysedLists, surprises
from gleaner.core.models.base.capabilities import FoldsInItems, folding, terms_of
from gleaner.core.models.base.registry import FAMILIES, GROUPS, build
from gleaner.core.models.base.watching import Watch
from gleaner.core.models.blends.blend import Blend
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.preparation.untrained import untrained_cells
from gleaner.core.ranking.factor_index import FactorIndex, ListQuery
from gleaner.core.ranking.reranking import diversified
from gleaner.core.splits.truth import Truth

N_USERS, N_ITEMS, RANK = 24, 12, 3
SMALL = {"rank": RANK, "members": ["item_knn", "popular"], "folds": 2, "rounds": 2, "leaves": 3, "least": 1}


def warm(report_progress: Callable[[str, float], None] | None = None) -> int:
    """Fit, rank, fold in and judge with every family but networks, which have no kernels of ours and may lack what they
    learn with; answers how many. `report_progress` receives the family and the share done."""
    train = _matrix()
    warmed = {name: family for name, family in FAMILIES.items() if name not in GROUPS["neural"]}
    for place, (name, family) in enumerate(warmed.items()):
        if report_progress is not None:
            report_progress(name, place / len(warmed))
        if issubclass(family, Blend):
            continue  # nothing but its members
        names = {each.name for each in fields(family)}
        for more in ({}, {"solver": "blocks"}, {"similarity": "jaccard"}, {"loss": "bpr"}):
            if not set(more) <= names or (more and name not in ("als", "item_knn", "user_knn_values", "feature_sum")):
                continue
            params = {key: value for key, value in SMALL.items() if key in names} | more
            model = build(name, params).fit(train, features=_features(train), watch=Watch(end_round=_ignore))
            _exercise(Fitted(name, model, train))
    _loaded(train)
    _walk()
    _around(train)
    return len(warmed)


def _loaded(train: InteractionMatrix) -> None:
    """The same where the matrix is mapped from a file and may not be written to: kernels are compiled for it apart."""
    mapped = _mapped(train)
    for name, params in (("popular", {}), ("item_knn", {}), ("als", {"rank": RANK})):
        _exercise(Fitted(name, build(name, params).fit(mapped), mapped))


def _mapped(train: InteractionMatrix) -> InteractionMatrix:
    """Return the matrix with arrays that may not be written to, as if mapped from a file."""
    parts = {name: getattr(train, name).view() for name in ("indptr", "indices", "values")}
    for part in parts.values():
        part.flags.writeable = False
    return replace(train, **parts)


def _around(train: InteractionMatrix) -> None:
    """Preparation of rows, the analysis of lists, and lists that are spread out."""
    rows = {"user": train.user_rows.astype(np.uint32), "item": train.indices.astype(np.uint32)}
    data = InteractionRows(pl.DataFrame(rows), train.users, train.items)
    kept, _ = keep_rows(data, Preparation())
    build_matrix(kept, Preparation())
    for matrix in (train, _mapped(train)):
        untrained_cells(data, Preparation(), matrix)
    lists = np.arange(N_USERS, dtype=np.int32)[:, None] % N_ITEMS
    content = sparse.csr_array(np.eye(N_ITEMS, dtype=np.float32))
    surprises(AnalysedLists(lists, np.arange(N_USERS, dtype=np.int32), train, lists, None, content))
    diversified(np.ones(RANK, np.float32), np.ones((RANK, RANK)), np.arange(RANK, dtype=np.int32), 0.5)


def _walk() -> None:
    """Lists of one and of several by bounds."""
    factors, ties = np.ones((N_ITEMS, RANK), np.float32), np.arange(N_ITEMS, dtype=np.int32)
    allowed, left_out = np.ones(N_ITEMS, bool), np.zeros(1, np.int32)
    index = FactorIndex.of(factors, ties)
    index.best(factors[0], 3, allowed, left_out)
    index.several([ListQuery(factors[0], 3, allowed, left_out)])


def _ignore(done: object) -> None:
    """Listening makes a fit compute its losses."""


def _matrix() -> InteractionMatrix:
    random = np.random.default_rng(1)
    observed = random.random((N_USERS, N_ITEMS)) < 0.5
    observed[np.arange(N_USERS), np.arange(N_USERS) % N_ITEMS] = True
    user, item = np.nonzero(observed)
    ids = [IdMap([f"{letter}{n}" for n in range(size)]) for letter, size in (("u", N_USERS), ("i", N_ITEMS))]
    matrix = InteractionMatrix.from_cells(user, item, random.integers(1, 6, len(user)), *ids)
    return replace(matrix, scale=(1.0, 5.0), days=np.arange(len(user), dtype=np.float64))


def _features(train: InteractionMatrix) -> Features:
    kinds, traits = ["tall", "short", "round"], [["early", "sweet"], ["late"], ["early", "late"]]
    columns = {"kind": kinds * (N_ITEMS // 3), "traits": traits * (N_ITEMS // 3)}
    items = pl.DataFrame({"id": train.items.ids.to_pylist(), **columns})
    zones = ["north", "south"] * N_USERS
    users = pl.DataFrame({"id": train.users.ids.to_pylist(), "zone": zones[:N_USERS]})
    return features_of(train.items, train.users, items, users)


def _exercise(fitted: Fitted) -> None:
    """What a service does with a model."""
    model, train = fitted.model, fitted.train
    fitted.recommend(n=3)
    fitted.audience(n=3)
    if folding(model) is not None:
        fitted.recommend_from(["i1", "i2"])
    if isinstance(model, FoldsInItems):
        fitted.audience_from(["u1", "u2"])
    rows = np.array([0], dtype=np.int32)
    missing = np.setdiff1d(np.arange(N_ITEMS, dtype=np.int32), train.history(0)[0])[:1]
    truth = Truth(rows, np.array([0, len(missing)], dtype=np.int64), missing, 0, 0, 0)
    if len(missing):
        terms_of(model, 0, int(missing[0]))
        # by one family every metric, which are the same for all
        metrics = [*RANKING, *ORDER, *LISTS] if model.family == "als" else ["ndcg"]
        kinds = sparse.csr_array(np.eye(3, dtype=np.float32)[np.arange(N_ITEMS) % 3])
        content = ContentVectors(kinds, kinds)
        evaluate(model, train, truth, RankPlan(metrics, [3], 1), fitted.ties, content=content)
