"""Texts as vectors by a network in a folder: pooled as by hand, and what does not fit refused."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import onnx
import polars as pl
import pytest
from onnx import TensorProto, helper, numpy_helper
from tokenizers import Tokenizer, models, pre_tokenizers

from gleaner import library
from gleaner.core.data.tables.row_features import features_of
from gleaner.core.data.tables.text_encoders import TextEncoders
from gleaner.core.errors import InputError
from gleaner.core.models.base.registry import build
from tolerances import SINGLE, SUMMED
from worlds import rated_matrix

WORDS = ["[none]", "sweet", "hardy", "pea", "bean", "tall"]
VECTORS = np.array([[0, 0, 1], [1, 0, 0], [0, 1, 0], [1, 1, 0], [0, 2, 1], [3, 0, 1]], np.float32)


def write_encoder(root: Path, name: str, *, pooled: bool = False, asks: str = "input_ids", vectors=VECTORS) -> None:
    """A network that looks every token up, and answers a vector for each, or their sum for each text."""
    folder = root / name
    folder.mkdir(parents=True)
    steps = [helper.make_node("Gather", ["table", asks], ["found"])]
    shape = ["rows", "tokens", 3]
    if pooled:
        steps.append(helper.make_node("ReduceSum", ["found", "axis"], ["answer"], keepdims=0))
        shape = ["rows", 3]
    tensors = [numpy_helper.from_array(vectors, "table"), numpy_helper.from_array(np.array([1], np.int64), "axis")]
    graph = helper.make_graph(
        steps, "lookup", [helper.make_tensor_value_info(asks, TensorProto.INT64, ["rows", "tokens"])],
        [helper.make_tensor_value_info("answer" if pooled else "found", TensorProto.FLOAT, shape)], tensors,
    )  # fmt: skip
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=10)
    onnx.save(model, folder / "model.onnx")
    tokenizer = Tokenizer(models.WordLevel({word: at for at, word in enumerate(WORDS)}, unk_token="[none]"))
    tokenizer.pre_tokenizer = pre_tokenizers.Whitespace()
    tokenizer.save(str(folder / "tokenizer.json"))


def unheard(done: float) -> None:
    """Nobody waits for it."""


TEXTS = ["sweet pea", None, "hardy bean tall", "", "tall", "something sweet", "sweet pea"]


def by_hand(pooled: bool) -> np.ndarray:
    rows = []
    for text in TEXTS:
        tokens = [VECTORS[WORDS.index(word) if word in WORDS else 0] for word in (text or "").split()]
        vector = np.zeros(3) if not tokens else np.sum(tokens, axis=0) if pooled else np.mean(tokens, axis=0)
        rows.append(vector / (np.linalg.norm(vector) or 1))
    return np.array(rows)


@pytest.mark.parametrize("pooled", [False, True])
def test_texts_are_pooled_as_by_hand(tmp_path, pooled):
    write_encoder(tmp_path, "small", pooled=pooled)
    encoders = TextEncoders(tmp_path)
    if pooled:
        # without a mask texts of one length alone go together
        for text, expected in zip(TEXTS, by_hand(pooled), strict=True):
            if text:
                vector = encoders.encode("small", [text], unheard)[0]
                np.testing.assert_allclose(vector, expected, rtol=SUMMED, atol=SINGLE)
        return
    heard: list[float] = []
    vectors = encoders.encode("small", TEXTS, heard.append)
    np.testing.assert_allclose(vectors, by_hand(pooled), rtol=SUMMED, atol=SINGLE)
    assert heard == [1.0]
    # kept, and not asked for again
    assert encoders.encode("small", list(TEXTS), heard.append) is vectors
    assert heard == [1.0]


def test_content_by_a_text_encoder_is_the_cosine_of_its_vectors(tmp_path):
    write_encoder(tmp_path, "small")
    matrix = rated_matrix(4)
    abouts = [TEXTS[n % 3] or "hardy" for n in range(14)]
    table = pl.DataFrame({"id": matrix.items.ids.to_pylist(), "about": abouts})
    found = features_of(matrix.items, matrix.users, table, types={"items": {"about": "text"}})
    features = library.features(matrix, text_encoders=tmp_path)
    model = build("item_content", {"text_encoder": "small", "weighting": "binary"})
    model.fit(matrix, features=type(found)(found.items, found.users, (), features.text_encoders))
    vectors = TextEncoders(tmp_path).encode("small", abouts, unheard)
    items, _ = matrix.history(5)
    np.testing.assert_allclose(
        model.scores(np.array([5], np.int32))[0], (vectors @ vectors[items].T).mean(axis=1), rtol=SUMMED, atol=SINGLE
    )
    again = build("item_content", model.params()).restore(model.state(), matrix)
    np.testing.assert_array_equal(again.scores(np.array([5], np.int32)), model.scores(np.array([5], np.int32)))


def test_what_is_no_encoder_is_refused_by_name(tmp_path):
    write_encoder(tmp_path, "small")
    write_encoder(tmp_path, "odd", asks="pixels")
    write_encoder(tmp_path, "endless", vectors=np.full((6, 3), np.inf, np.float32))
    write_encoder(tmp_path, "short", vectors=VECTORS[:2])
    write_encoder(tmp_path, "broken")
    (tmp_path / "broken" / "model.onnx").write_bytes(b"no network")
    write_encoder(tmp_path, "mute")
    (tmp_path / "mute" / "tokenizer.json").write_text(json.dumps({"a": 1}))
    (tmp_path / "empty").mkdir()
    encoders = TextEncoders(tmp_path)
    assert encoders.names() == ["broken", "endless", "mute", "odd", "short", "small"]
    for name, message in {
        "smal": "there is no text encoder 'smal'; did you mean 'small'",
        "../small": "there is no text encoder '../small'",
        "empty": "there is no text encoder 'empty'",
        "odd": "asks for 'pixels'; it may ask for input_ids",
        "endless": "a finite vector of each text",
        "short": "the text encoder 'short' failed",
        "broken": "the text encoder 'broken' cannot be read",
        "mute": "the text encoder 'mute' cannot be read",
    }.items():
        with pytest.raises(InputError, match=message) as refused:
            encoders.encode(name, ["hardy bean"], unheard)
        assert refused.value.where == "text_encoder"
    with pytest.raises(InputError, match="there is no text to encode"):
        encoders.encode("small", [None, ""], unheard)
    with pytest.raises(InputError, match=r"a folder with model\.onnx and tokenizer\.json makes one"):
        TextEncoders(tmp_path / "nowhere").encode("small", ["a"], unheard)


def test_a_contest_with_an_encoder_that_is_not_there_fits_nothing(tmp_path):
    frame = pl.DataFrame({"who": [f"u{n % 9}" for n in range(90)], "what": [f"i{n % 11}" for n in range(90)]})
    parts = library.split(library.interactions(frame, user="who", item="what"), by="rows", test=0.2, validation=0.2)
    things = pl.DataFrame(
        {"what": [f"i{n}" for n in range(11)], "about": [f"a hardy pea of kind {n}" for n in range(11)]}
    )
    blended = library.model("blend", members=["popular", {"item_content": {"text_encoder": "small"}}])
    with pytest.raises(InputError, match="there is no text encoder 'small'"):
        library.compare(parts, {"blended": blended}, items=things, text_encoders=tmp_path)
    write_encoder(tmp_path, "small")
    result = library.compare(parts, {"blended": blended}, items=things, text_encoders=tmp_path, progress=False)
    assert result.table.height == 2
