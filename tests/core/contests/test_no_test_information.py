"""Nothing that is learned looks at held-out rows. Each sort of leak is planted, and must be seen."""

from __future__ import annotations

import hashlib
from dataclasses import replace

import numpy as np
import polars as pl
import pytest

from gleaner.core.contests import parts as dividing
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.tables import row_features
from gleaner.core.data.tables.feature_encoder import FeatureEncoder
from gleaner.core.data.ties import tie_order
from gleaner.core.metrics.content import content_of
from gleaner.core.models.base.registry import FAMILIES, build
from gleaner.core.preparation import prepare as preparing
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.preparation.transforms import Transform
from gleaner.core.splits.split import Split

HOW = Preparation(kinds={"view": 1, "save": 3}, half_life_days=30, transform=(Transform("cap", (0.9,)),))
ITEMS = pl.DataFrame({"id": [f"v{i}" for i in range(30)], "credits": [i**2 for i in range(30)],
                      "traits": [[f"t{i % 4}", f"only{i}"] for i in range(30)]})  # fmt: skip
USERS = pl.DataFrame({"id": [f"g{u}" for u in range(25)], "zone": [f"z{u % 3}" for u in range(25)]})
SMALL = {"rank": 4, "iterations": 2, "sweeps": 2, "rounds": 3, "folds": 2, "least": 5, "candidates": 10}
"""A few steps of everything: what leaks would leak in the first."""


def small(name: str) -> dict:
    return {key: value for key, value in SMALL.items() if key in build(name, {}).params()}


MEMBERS = {"members": [{"item_knn": {}}, {"als": {"rank": 4, "iterations": 2}}]}
EVERY_FAMILY = {name: small(name) | (MEMBERS if "members" in build(name, {}).params() else {}) for name in FAMILIES}


def table(*, changed: bool) -> pl.DataFrame:
    """600 rows by time; in the last tenth, the test part, `changed` puts other items, users' habits and kinds."""
    random = np.random.default_rng(3)
    users, items = random.integers(0, 25, 600), random.integers(0, 25, 600)
    kinds = random.choice(["view", "save"], 600)
    if changed:
        items[540:] = 29 - random.integers(0, 5, 60)
        kinds[540:] = "save"
    start = np.datetime64("2026-01-01", "us")
    times = start + (np.arange(600) * 4 * 3600 * 10**6).astype("timedelta64[us]")
    if changed:
        times[540:] += np.timedelta64(50 * 86400 * 10**6, "us")
    return pl.DataFrame(
        {"user": [f"g{u}" for u in users], "item": [f"v{i}" for i in items], "kind": kinds, "time": times}
    )


def learned(*, changed: bool) -> dict[str, str]:
    """A digest of everything that stands before the test part is looked at."""
    rows = InteractionRows.from_arrow(table(changed=changed).to_arrow())
    # a moment for the cut, as a share of the rows would be the same rows anyway
    parts = dividing.divide(rows, HOW, Split(test=0.1, validation=0.1), lambda done, text: None)
    stage = next(each for each in parts.stages if each.part == "test")
    train = stage.train
    content = content_of(ITEMS, train.items, ["credits", "traits"], "traits")
    # for families that take values, the weights as if they were ratings
    rated = replace(train, scale=(float(train.values.min()), float(train.values.max())))
    features = row_features.features_of(train.items, train.users, ITEMS, USERS)
    result = {
        "ids": [*train.users.ids.to_pylist(), *train.items.ids.to_pylist()],
        "values": train.values.tolist(),
        "decay": str(stage.prepared.learned.last),
        "features": content.vectors.toarray().tolist(),
        "ties": tie_order(train.items, 1).tolist(),
    }
    for name, params in EVERY_FAMILY.items():
        model = build(name, params)
        model.fit(rated if model.feedback == "explicit" else train, features=features)
        state = model.state()
        result[name] = {key: array.tolist() for key, array in state.items()} | {
            "scores": model.scores(np.arange(3, dtype=np.int32)).tolist()
        }
    return {key: hashlib.sha256(repr(value).encode()).hexdigest() for key, value in result.items()}


def differing() -> set[str]:
    before, after = learned(changed=False), learned(changed=True)
    return {key for key in before if before[key] != after[key]}


def test_whatever_stands_in_the_test_part_nothing_learned_changes():
    assert differing() == set()


def _all_rows(monkeypatch):
    """The test rows themselves are among those of training."""
    split = dividing.split

    def leaky(rows, how):
        parts = split(rows, how)
        both = parts.train_and_validation()
        object.__setattr__(parts, "validation", rows.with_frame(pl.concat([parts.validation.frame, parts.test.frame])))
        assert len(parts.train_and_validation()) > len(both)
        return parts

    monkeypatch.setattr(dividing, "split", leaky)


def _vocabulary(monkeypatch):
    """Every id of the file has a row, whether training met it or not."""

    def leaky(codes, n):
        met = np.zeros(n, dtype=bool)
        met[codes] = True
        return np.arange(n), codes.astype(np.int32)

    monkeypatch.setattr(preparing, "_renumbered", leaky)


def _scaling(monkeypatch):
    """The cap and the range are learned from every row's value, test rows included."""
    learn = Transform.learn

    def leaky(transform, values):
        saves = int((WHOLE.tail(60)["kind"] == "save").sum())
        return learn(transform, np.concatenate([values, np.full(saves, 9.0)]))

    monkeypatch.setattr(Transform, "learn", leaky)


def _decay(monkeypatch):
    """Ages are counted from the last row of the file."""
    decayed = preparing._decayed

    def leaky(rows, half_life, last, steps):
        return decayed(rows, half_life, WHOLE["time"].max(), steps)

    monkeypatch.setattr(preparing, "_decayed", leaky)


def _columns(monkeypatch):
    """The encoding of columns is learned from every item of the file, those of the test part included."""

    def leaky(rows, there, name, role, training):
        items = ITEMS.filter(pl.col("id").is_in(WHOLE["item"].unique().implode()))
        met = items if name in ITEMS.columns else rows.filter(training)
        encoder = FeatureEncoder({name: role}).fit(met)
        return row_features.Column(encoder.encodings[0], encoder.encode(rows).matrix)

    monkeypatch.setattr(row_features, "encoded", leaky)


WHOLE: pl.DataFrame = table(changed=False)


@pytest.mark.parametrize(
    ("plant", "shows"),
    [
        (_all_rows, {"ids", "values", "decay", "features", "ties", *EVERY_FAMILY}),
        (_vocabulary, {"ids", "features", "ties", *EVERY_FAMILY}),
        (_scaling, {"values"}),
        (_decay, {"values"}),
        (_columns, {"item_content", "feature_sum", "second_stage"}),
    ],
)  # fmt: skip
def test_each_sort_of_leak_is_seen(monkeypatch, plant, shows):
    plant(monkeypatch)
    original = table

    def following(*, changed):
        followed = original(changed=changed)
        monkeypatch.setattr(f"{__name__}.WHOLE", followed)
        return followed

    monkeypatch.setattr(f"{__name__}.table", following)
    assert not shows - differing(), f"{plant.__name__} was not seen"


def test_training_rows_in_the_test_part_are_told():
    rows = table(changed=False)
    again = pl.concat([rows, rows.head(540).sample(20, seed=1).with_columns(pl.col("time") + pl.duration(days=200))])
    whole = InteractionRows.from_arrow(again.to_arrow())
    parts = dividing.divide(whole, Preparation(), Split(test=0.1, validation=0), lambda done, text: None)
    [report] = [each.truth for each in parts.facts if each.part == "test"]
    assert report.known_pairs >= 20
    # pairs that training knows are no candidates and not relevant: whoever lists them gains nothing
    stage = parts.stages[-1]
    known = set(zip(stage.train.user_rows.tolist(), stage.train.indices.tolist(), strict=True))
    counts = np.diff(stage.truth.indptr)
    relevant = set(zip(np.repeat(stage.truth.user_rows, counts).tolist(), stage.truth.indices.tolist(), strict=True))
    assert not known & relevant
