"""Models as files: a folder of JSON and safetensors, factors as Parquet and safetensors, the scoring part or a network
as ONNX."""

from __future__ import annotations

import json
import secrets
import tempfile
import zipfile
from dataclasses import asdict
from pathlib import Path
from typing import Any, Literal

import numpy as np
import polars as pl

from gleaner.array_files import write_arrays
from gleaner.core.data.ids import IdMap
from gleaner.core.data.matrix_arrays import arrays_of
from gleaner.core.errors import InputError
from gleaner.core.fitted import Fitted
from gleaner.core.models.base.capabilities import Factors, factors_of
from gleaner.core.models.neural.machinery.network_parts import HasNetwork
from gleaner.wire.models.cards import ModelCard

Form = Literal["folder", "factors", "onnx", "network"]
CARD, STATE, MATRIX = "model.json", "state.safetensors", "matrix.safetensors"
VECTORS, TABLES, NETWORK = "vectors.safetensors", "tables.safetensors", "network.json"
TEXTS = {"encodings", "encoder"}
"""Arrays of a state that are JSON: how columns of the tables, and of the interaction, become features."""
FORMAT = 1


def export_file(fitted: Fitted, card: ModelCard, form: Form, staging: Path) -> Path:
    """Write one file in the staging folder, for the caller to remove. Raises InputError where a form does not fit."""
    staging.mkdir(parents=True, exist_ok=True)
    stem = card.name.replace("@", "-")
    ending = {"folder": ".zip", "factors": "-factors.zip", "onnx": ".onnx", "network": "-network.zip"}[form]
    path = staging / f"export-{secrets.token_hex(8)}~{stem}{ending}"
    if form == "onnx":
        path.write_bytes(onnx_of(fitted))
        return path
    with tempfile.TemporaryDirectory(dir=staging) as folder:
        write = {"folder": write_folder, "factors": write_factors, "network": write_network}[form]
        files = write(fitted, card, Path(folder))
        with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as archive:
            for each in files:
                archive.write(each, each.name)
    return path


def write_folder(fitted: Fitted, card: ModelCard, folder: Path) -> list[Path]:
    """The model whole: card, learned state, training matrix."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / CARD).write_text(card.model_dump_json(indent=2))
    write_arrays(fitted.model.state(), folder / STATE)
    write_arrays(arrays_of(fitted.train), folder / MATRIX)
    return [folder / CARD, folder / STATE, folder / MATRIX]


def write_factors(fitted: Fitted, card: ModelCard, folder: Path) -> list[Path]:
    """users.parquet and items.parquet: id and a list of float32, whose product is the score; and the same without the
    ids, row by row, in vectors.safetensors."""
    factors = _factors(fitted)
    files = []
    sides: list[tuple[str, IdMap, np.ndarray]] = [
        ("users", fitted.train.users, factors.users),
        ("items", fitted.train.items, factors.items),
    ]
    for name, ids, table in sides:
        path = folder / f"{name}.parquet"
        width = table.shape[1]
        frame = pl.DataFrame(
            {"id": pl.from_arrow(ids.ids), "factor": pl.Series(table, dtype=pl.Array(pl.Float32, width))}
        )
        frame.write_parquet(path, compression="zstd")
        files.append(path)
    write_arrays({name: table for name, _, table in sides}, folder / VECTORS)
    return [*files, folder / VECTORS]


def write_network(fitted: Fitted, card: ModelCard, folder: Path) -> list[Path]:
    """The graphs as ONNX, the tables that go in as safetensors, which row is whose as Parquet, how columns become
    features as JSON, and network.json, which says how it goes together."""
    from onnx import checker, load_from_string

    model = fitted.model
    if not isinstance(model, HasNetwork):
        raise InputError(f"{fitted.name} ({model.family}) is no network: export it as a folder", where="form")
    state, graphs = model.state(), {}
    for name, letters in model.graphs().items():
        graph = load_from_string(letters)
        checker.check_model(graph)
        (folder / f"{name}.onnx").write_bytes(letters)
        inputs = {each.name: model.graph_inputs[each.name] for each in graph.graph.input}
        graphs[name] = {"file": f"{name}.onnx", "inputs": inputs, "output": "output"}
    for name in TEXTS & state.keys():
        (folder / f"{name}.json").write_bytes(state.pop(name).tobytes())
    write_arrays(state, folder / TABLES)
    for name, ids in (("users", fitted.train.users), ("items", fitted.train.items)):
        pl.DataFrame({"id": pl.from_arrow(ids.ids)}).with_row_index("row").write_parquet(folder / f"{name}.parquet")
    about: dict[str, Any] = {"family": model.family, "params": model.params(), "graphs": graphs, "tables": TABLES}
    about["parts"] = [asdict(part) for part in model.parts()]
    (folder / NETWORK).write_text(json.dumps(about, indent=2))
    return sorted(folder.iterdir())


def onnx_of(fitted: Fitted) -> bytes:
    """The scoring part of a factor model: input `users` int64 (n,), rows in the order of users.parquet; output `scores`
    float32 (n, n_items), items in the order of items.parquet."""
    from onnx import TensorProto, checker, helper, numpy_helper

    factors = _factors(fitted)
    n_items = len(fitted.train.items)
    graph = helper.make_graph(
        [
            helper.make_node("Gather", ["user_factors", "users"], ["rows"], axis=0),
            helper.make_node("MatMul", ["rows", "item_factors"], ["scores"]),
        ],
        "scores",
        [helper.make_tensor_value_info("users", TensorProto.INT64, ["n"])],
        [helper.make_tensor_value_info("scores", TensorProto.FLOAT, ["n", n_items])],
        [
            numpy_helper.from_array(np.ascontiguousarray(factors.users), "user_factors"),
            numpy_helper.from_array(np.ascontiguousarray(factors.items.T), "item_factors"),
        ],
    )
    onnx_model: Any = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8)
    checker.check_model(onnx_model)
    return onnx_model.SerializeToString()


def _factors(fitted: Fitted) -> Factors:
    factors = factors_of(fitted.model)
    if factors is None:
        raise InputError(
            f"{fitted.name} ({fitted.model.family}) is no factor model: export it as a folder", where="form"
        )
    return factors
