"""The network as an ONNX file with weights in half floats, as the application reads it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

from silent_loom.core.reading.inputs import CHANNELS
from tools.training.network import BLOCKS, OUTPUTS, WIDTHS, Weights, in_units, padding


class _Graph:
    def __init__(self, weights: Weights) -> None:
        self.weights = in_units({k: np.asarray(v) for k, v in weights.items()})
        self.nodes: list[Any] = []
        self.tensors: list[Any] = []
        self.count = 0

    def named(self) -> str:
        self.count += 1
        return f"t{self.count}"

    def tensor(self, name: str, values: np.ndarray) -> str:
        self.tensors.append(numpy_helper.from_array(values, name))
        return name

    def add(self, kind: str, inputs: list[str], **more: Any) -> str:
        out = self.named()
        self.nodes.append(helper.make_node(kind, inputs, [out], name=out, **more))
        return out

    def conv(self, name: str, x: str, stride: int = 1) -> str:
        w = self.weights[f"{name}.w"]
        pad = padding(w.shape[0])
        half = [
            self.tensor(f"{name}.w", np.ascontiguousarray(w.transpose(3, 2, 0, 1)).astype(np.float16)),
            self.tensor(f"{name}.b", self.weights[f"{name}.b"].astype(np.float16)),
        ]
        whole = [self.add("Cast", [h], to=TensorProto.FLOAT) for h in half]
        side = w.shape[0]
        return self.add("Conv", [x, *whole], kernel_shape=[side, side], strides=[stride, stride], pads=[pad] * 4)

    def bend(self, x: str) -> str:
        return self.add("LeakyRelu", [x], alpha=0.1)

    def block(self, name: str, x: str) -> str:
        return self.add("Add", [x, self.conv(f"{name}.two", self.bend(self.conv(f"{name}.one", self.bend(x))))])


def write(weights: Weights, path: Path, side: int) -> None:
    """Write an ONNX file for one window of ``side`` texels: input 'photo' (1, 5, N, N), output 'read' (1, 12, N, N)."""
    g = _Graph(weights)
    scales = g.tensor("scales", np.array([1, 1, 2, 2], np.float32))
    x = g.conv("stem", "photo", 2)
    kept = []
    for k in range(len(WIDTHS)):
        if k:
            x = g.conv(f"down{k}", g.bend(x), 2)
        for b in range(BLOCKS[k]):
            x = g.block(f"in{k}.{b}", x)
        kept.append(x)
    for k in range(len(WIDTHS) - 2, -1, -1):
        up = g.add(
            "Resize", [g.conv(f"up{k}", x), "", scales],
            mode="nearest", coordinate_transformation_mode="asymmetric", nearest_mode="floor",
        )  # fmt: skip
        x = g.block(f"out{k}", g.conv(f"join{k}", g.add("Concat", [kept[k], up], axis=1)))
    g.add("DepthToSpace", [g.conv("head", g.bend(x))], blocksize=2, mode="DCR")
    g.nodes[-1].output[0] = "read"
    graph = helper.make_graph(
        g.nodes,
        "relief from light",
        [helper.make_tensor_value_info("photo", TensorProto.FLOAT, [1, CHANNELS, side, side])],
        [helper.make_tensor_value_info("read", TensorProto.FLOAT, [1, OUTPUTS, side, side])],
        g.tensors,
    )
    model = helper.make_model(graph, opset_imports=[helper.make_opsetid("", 13)])
    model.ir_version = 8
    onnx.checker.check_model(model)
    path.write_bytes(model.SerializeToString())
