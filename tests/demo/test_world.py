"""The simulated world: reproducible, plausible, with a truth that ranks best."""

from __future__ import annotations

import gzip
from importlib import resources

import numpy as np
import polars as pl
import pytest
from safetensors.numpy import load_file

from gleaner.core.data.ids import IdMap
from gleaner.core.data.rows import InteractionRows
from gleaner.core.data.ties import tie_order
from gleaner.core.metrics.evaluation import RankPlan, evaluate
from gleaner.core.models.baselines.popularity import Popular
from gleaner.core.models.implicit.als import Als
from gleaner.core.preparation.prepare import build_matrix, keep_rows
from gleaner.core.preparation.recipe import Preparation
from gleaner.core.splits.split import Split, split
from gleaner.core.splits.truth import truth_of
from gleaner.demo import kernels
from gleaner.demo.simulate import FILES, simulate
from gleaner.demo.world import Sizes

SHIPPED = Sizes(1500, 900, 90_000, 7)


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    folder = tmp_path_factory.mktemp("world")
    simulate(SHIPPED, folder)
    return folder


@pytest.mark.parametrize("name", FILES)
def test_the_shipped_set_is_what_the_simulator_makes(world, name):
    packed = resources.files("gleaner.demo").joinpath("data", name + ".gz").read_bytes()
    assert gzip.decompress(packed) == (world / name).read_bytes()


def test_the_shipped_set_is_small():
    folder = resources.files("gleaner.demo").joinpath("data")
    assert sum(len(each.read_bytes()) for each in folder.iterdir()) < 3_000_000


def test_the_same_seed_makes_the_same_world_on_any_number_of_threads(tmp_path, monkeypatch):
    sizes = Sizes(80, 50, 2000, 5)
    texts = []
    for threads in (1, 3):
        monkeypatch.setattr("gleaner.core.parallel.default_threads", lambda threads=threads: threads)
        monkeypatch.setattr("gleaner.demo.events.default_threads", lambda threads=threads: threads)
        simulate(sizes, tmp_path / str(threads))
        texts.append((tmp_path / str(threads) / "interactions.csv").read_text())
    assert texts[0] == texts[1]
    simulate(Sizes(80, 50, 2000, 6), tmp_path / "other")
    assert (tmp_path / "other" / "interactions.csv").read_text() != texts[0]


def test_draws_follow_the_weights():
    affinity = np.array([[0, 4096, 8192]], np.float32)
    table = np.round(np.exp(np.arange(-8192, 8193) / 4096) * 4096).astype(np.int64)
    items, actual = np.empty(30_000, np.int32), np.empty(30_000, np.float32)
    kernels.draw_items(affinity, 0, np.array([0, 30_000]), table, 4096.0, 1, items, actual)
    expected = np.exp([0, 1, 2]) / np.exp([0, 1, 2]).sum()
    # 30,000 draws: more than three deviations of a share
    np.testing.assert_allclose(np.bincount(items) / 30_000, expected, atol=0.01)
    assert set(np.unique(actual)) == {0.0, 1.0, 2.0}


def events_of(world) -> pl.DataFrame:
    return pl.read_csv(world / "interactions.csv", try_parse_dates=True)


def test_events_are_as_in_life(world):
    events = events_of(world)
    assert events.height == 90_000
    assert events["at"].is_sorted()
    counts = dict(events["kind"].value_counts().iter_rows())
    assert counts["view"] > counts["save"] > counts["request"] > counts["grown"] > 1000
    rated = events.filter(pl.col("value").is_not_null())
    assert rated["kind"].unique().to_list() == ["grown"]
    assert rated.height == counts["grown"]
    assert set(rated["value"].cast(pl.Int64)) == {1, 2, 3, 4, 5}
    pairs = ["grower", "variety"]
    first = {
        kind: events.filter(kind=kind).group_by(pairs).agg(first=pl.col("at").min()) for kind in ("view", "request")
    }
    for kind, before, days in (("save", "view", 0), ("request", "view", 0), ("grown", "request", 55)):
        since = events.filter(kind=kind).join(first[before], on=pairs, how="left")
        assert since["first"].null_count() == 0, f"a {kind} without its {before}"
        assert ((since["at"] - since["first"]).dt.total_seconds() >= days * 86_400 - 1).all()


def test_growers_are_strict_each_in_their_own_way(world):
    rated = events_of(world).filter(kind="grown").with_columns(value=pl.col("value").cast(pl.Float64))
    per_grower = rated.group_by("grower").agg(mean=pl.col("value").mean(), n=pl.len()).filter(pl.col("n") >= 8)
    # with the same strictness for all, means of eight ratings of spread 1 would spread by 0.35
    assert per_grower["mean"].std() > 0.5


def test_features_have_gaps_and_matter(world):
    varieties, growers = pl.read_csv(world / "varieties.csv"), pl.read_csv(world / "growers.csv")
    assert 0.02 < growers["zone"].null_count() / 1500 < 0.12
    assert varieties["description"].null_count() > 0
    assert varieties["variety"].n_unique() == 900
    fits = (
        events_of(world)
        .join(growers.drop_nulls("zone"), on="grower")
        .join(varieties, on="variety")
        .select(fits=(pl.col("zone") >= pl.col("zone_from")) & (pl.col("zone") <= pl.col("zone_to")))["fits"]
    )
    chance = np.mean([(z >= a) & (z <= b) for z in growers["zone"].drop_nulls() for a, b in zip(varieties["zone_from"], varieties["zone_to"], strict=True)])  # fmt: skip
    assert fits.mean() > chance + 0.1


def test_the_truth_ranks_best_and_random_as_chance(world):
    events = events_of(world).rename({"grower": "user", "variety": "item", "at": "time"})
    rows = InteractionRows.from_arrow(
        events.select("user", "item", "kind", pl.col("time").dt.replace_time_zone("UTC")).to_arrow()
    )
    how = Preparation(kinds={"view": 1, "save": 3, "request": 5})
    parts = split(keep_rows(rows, how)[0], Split(test=0.2, validation=0))
    train, _ = build_matrix(parts.train, how)
    truth = truth_of(parts.test, train)
    vectors = load_file(str(world / "truth.safetensors"))
    numbers = [
        IdMap(pl.read_csv(world / f"{name}.csv")[column])
        for name, column in (("growers", "grower"), ("varieties", "variety"))
    ]
    best = Als(rank=1)
    best.user_factors_ = vectors["user_vectors"][numbers[0].rows(train.users.ids.to_pylist())]
    best.item_factors_ = vectors["item_vectors"][numbers[1].rows(train.items.ids.to_pylist())]
    blind = Als(rank=8)
    random = np.random.default_rng(0)
    blind.user_factors_ = random.normal(size=(len(train.users), 8)).astype(np.float32)
    blind.item_factors_ = random.normal(size=(len(train.items), 8)).astype(np.float32)
    plan, order = RankPlan(["recall"], [20], 1), tie_order(train.items)
    models = {"truth": best, "als": Als().fit(train), "popular": Popular().fit(train), "random": blind}
    figures = {
        name: evaluate(model, train, truth, plan, order).means["recall@20"].mean for name, model in models.items()
    }
    assert (
        figures["truth"]
        > 1.2 * figures["als"]
        > figures["als"]
        > 1.5 * figures["popular"]
        > figures["popular"]
        > figures["random"]
    )
    candidates = len(train.items) - np.diff(train.indptr)[truth.user_rows]
    # chance, over the few hits that random lists have
    assert figures["random"] == pytest.approx((20 / candidates).mean(), rel=0.25)
