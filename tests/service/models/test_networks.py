"""Networks in the service: trained, described, served after an event, and taken elsewhere."""

from __future__ import annotations

import io
import json
import zipfile

import numpy as np
import onnxruntime
import polars as pl
import pytest
from safetensors.numpy import load

from gleaner.client import RefusedError, calls
from gleaner.core.models.base.registry import build
from gleaner.core.models.neural.machinery import pytorch
from gleaner.service.models.training import not_installed
from gleaner.wire.contests.contest import FileRequest
from gleaner.wire.events import Event
from gleaner.wire.models.training import TrainRequest
from tolerances import SINGLE

PREPARE = {"kinds": {"save": 3, "request": 5}, "min_user": 3, "min_item": 3}


def trained(demo, family: str, **params) -> str:
    request = TrainRequest(data="seeds@1", family=family, name=f"nets.{family}", params=params, prepare=PREPARE)
    return demo.client.wait(demo.client.send(calls.train_model(request)).id).result["model"]


@pytest.fixture(scope="module")
def autoencoder(demo) -> str:
    return trained(demo, "variational_autoencoder", rank=8, layers=[12], iterations=2)


@pytest.fixture(scope="module")
def next_item(demo) -> str:
    return trained(demo, "self_attention", rank=8, length=10, iterations=2)


def test_a_card_says_what_a_network_is_made_of(demo, autoencoder):
    card = demo.client.send(calls.model(autoencoder))
    assert [(each.side, each.name, each.width) for each in card.network] == [
        ("user", "history", 12), ("user", "layer 1", 8), ("item", "item", 9), ("both", "score", 1),
    ]  # fmt: skip
    assert [each.iteration for each in card.rounds] == [1, 2]
    assert demo.client.send(calls.model("first-look.als")).network == []


def test_a_network_taken_elsewhere_makes_the_same_vectors(demo, autoencoder):
    """By what network.json says, with nothing of ours: the sum over a history, and the graph."""
    content = demo.client.send(calls.model_export(autoencoder, "network"))
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    about = json.loads(files["network.json"])
    tables = load(files[about["tables"]])
    items, users = (pl.read_parquet(files[f"{side}.parquet"]) for side in ("items", "users"))
    history = demo.client.send(calls.history("seeds", 1, "g-0417", 500))
    weighed = {row.item for row in history.rows if row.kind in ("save", "request")}
    rows = items.filter(pl.col("id").is_in(list(weighed)))["row"].to_numpy()
    sums = tables["inputs"][rows].sum(axis=0) / np.sqrt(len(rows))
    session = onnxruntime.InferenceSession(files[about["graphs"]["user"]["file"]], providers=["CPUExecutionProvider"])
    [vector] = session.run([about["graphs"]["user"]["output"]], {"sums": sums[None].astype(np.float32)})
    mine = users.filter(pl.col("id") == "g-0417")["row"][0]
    np.testing.assert_allclose(vector[0], tables["user_factors"][mine, :-1], rtol=1e-3, atol=SINGLE)
    with pytest.raises(RefusedError, match=r"first-look.als@1 \(als\) is no network: export it as a folder"):
        demo.client.send(calls.model_export("first-look.als", "network"))


def test_vectors_go_out_as_safetensors_row_by_row(demo, autoencoder):
    content = demo.client.send(calls.model_export(autoencoder, "factors"))
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        vectors = load(archive.read("vectors.safetensors"))
        for side in ("users", "items"):
            frame = pl.read_parquet(archive.read(f"{side}.parquet"))
            np.testing.assert_array_equal(frame["factor"].to_numpy(), vectors[side])


def test_the_list_after_an_event_is_of_what_came_last(demo, next_item):
    """The same two items in one order and in the other make other scores: the last one is read as the last."""
    file = f"shelf: what-next\ntitle: Next\ncandidates: [{{model: {next_item}}}]\nfallback: [{{model: first-look.popular}}]\n"
    demo.client.send(calls.publish_shelf(FileRequest(file=file)))

    def listed(user: str) -> dict[str, float]:
        answer = demo.client.send(calls.recommend("what-next", user=user, n=1000))
        return {place.item: place.score for place in answer.list}

    # someone of whom no other test of the demo's lists asks
    known = "g-0031"
    before, seen = listed(known), {}
    first, second = list(before)[3:5]
    for user, items in (("nets-1", (first, second)), ("nets-2", (second, first))):
        for item in items:
            demo.client.send(calls.send_events("seeds", [Event(user=user, item=item, kind="request")]))
        seen[user] = listed(user)
        assert not {first, second} & seen[user].keys()
    assert seen["nets-1"].keys() == seen["nets-2"].keys()
    assert max(abs(score - seen["nets-2"][item]) for item, score in seen["nets-1"].items()) > 1e-3
    demo.client.send(calls.send_events("seeds", [Event(user=known, item=first, kind="request")]))
    after = listed(known)
    assert first not in after
    assert max(abs(score - before[item]) for item, score in after.items()) > 1e-3


def test_the_map_is_coloured_by_a_column_with_few_values(demo, autoencoder):
    report = demo.client.send(calls.factors(autoencoder, 2, "family"))
    assert "family" in report.columns
    assert "name" not in report.columns
    assert {point.value for point in report.map} > {"pea", "bean"}
    assert all(point.value is None for point in demo.client.send(calls.factors(autoencoder, 2)).map)
    with pytest.raises(RefusedError, match="the map cannot be coloured by 'famly'; did you mean 'family'"):
        demo.client.send(calls.factors(autoencoder, 2, "famly"))


def test_a_contest_says_what_to_install_where_a_network_cannot_learn(monkeypatch):
    monkeypatch.setattr(pytorch, "find_spec", lambda name: None)
    text = (
        "two_towers learns with PyTorch, which `pip install 'gleaner[neural]'` brings; install it where the worker runs"
    )
    assert not_installed(build("two_towers", {})) == [f"{text}, or take another family"]
    blend = build("blend", {"members": ["als", {"two_towers": {"rank": 4}}]})
    assert not_installed(blend) == [f"{text}, or take another family"]
    assert not_installed(build("second_stage", {"learner": "network"}))[0].startswith(
        "second_stage learns with PyTorch"
    )
    assert not_installed(build("als", {})) == []
