"""The part of a network that serving runs, as ONNX: made of the arrays that a model keeps, and run by ONNX Runtime.

No ONNX file is ever read: a graph is built by this code around arrays that were checked, so a file from elsewhere can
name no operator and no path. Large tables stay outside of it, where one file is mapped by all processes.
"""

from __future__ import annotations

from typing import Any

import numpy as np

OPSET, IR_VERSION = 17, 8
FREE = "n"
"""A length that differs from call to call."""


class NetworkBuilder:
    """Puts a graph together, one operator after another; tensors go by their names."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._nodes: list[Any] = []
        self._inputs: list[Any] = []
        self._weights: list[Any] = []
        self.stages: list[tuple[str, str, int]] = []

    def input(self, name: str, *shape: int | str) -> str:
        """Numbers that a call brings: float32 of this shape."""
        from onnx import TensorProto, helper

        self._inputs.append(helper.make_tensor_value_info(name, TensorProto.FLOAT, list(shape)))
        return name

    def constant(self, array: np.ndarray) -> str:
        """Weights, or whole numbers that an operator takes."""
        from onnx import numpy_helper

        name = f"w{len(self._weights)}"
        self._weights.append(numpy_helper.from_array(np.asarray(array, order="C"), name))
        return name

    def op(self, kind: str, *inputs: str, **attributes: Any) -> str:
        """One operator of the ONNX standard."""
        from onnx import helper

        name = f"t{len(self._nodes)}"
        self._nodes.append(helper.make_node(kind, list(inputs), [name], **attributes))
        return name

    def linear(self, x: str, weight: np.ndarray, bias: np.ndarray | None = None) -> str:
        """x W + b; weight: float32 (from, to)."""
        product = self.op("MatMul", x, self.constant(weight))
        return product if bias is None else self.op("Add", product, self.constant(bias))

    def build(self, output: str, *shape: int | str) -> bytes:
        """The model, whose one output is called `output`."""
        from onnx import TensorProto, helper

        self._nodes.append(helper.make_node("Identity", [output], ["output"]))
        out = helper.make_tensor_value_info("output", TensorProto.FLOAT, list(shape))
        graph = helper.make_graph(self._nodes, self._name, self._inputs, [out], self._weights)
        opsets = [helper.make_opsetid("", OPSET)]
        model = helper.make_model(graph, opset_imports=opsets, ir_version=IR_VERSION, producer_name="gleaner")
        return bytes(model.SerializeToString())


class Network:
    """A graph that is ready to run, on the thread that calls."""

    def __init__(self, letters: bytes) -> None:
        import onnxruntime

        options = onnxruntime.SessionOptions()
        options.intra_op_num_threads = options.inter_op_num_threads = 1
        # memory comes back after each call, and a process that only serves stays small
        options.enable_cpu_mem_arena = False
        options.log_severity_level = 3
        self.letters = letters
        self._session = onnxruntime.InferenceSession(letters, options, providers=["CPUExecutionProvider"])

    def __call__(self, **inputs: np.ndarray) -> np.ndarray:
        """The output for these inputs: float32."""
        out: np.ndarray = self._session.run(["output"], inputs)[0]
        return out
