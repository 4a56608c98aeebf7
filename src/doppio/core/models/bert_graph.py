"""A BERT-family encoder's weights written as one ONNX graph.

Inputs: `ids` and `mask`, (batch, length) int64. Outputs: `tokens`, (batch, length, width) float32, the last
layer; and `vector`, (batch, width), the mean of `tokens` over the mask brought to unit length.
"""

from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper

OPSET = 17
Weights = dict[str, NDArray[np.float32]]


class _Graph:
    """Collects nodes and constants; every method returns the name of what it made."""

    def __init__(self) -> None:
        self.nodes: list[Any] = []
        self.constants: list[Any] = []
        self._named: set[str] = set()

    def constant(self, name: str, value: NDArray[Any]) -> str:
        if name not in self._named:
            self._named.add(name)
            self.constants.append(numpy_helper.from_array(np.ascontiguousarray(value), name))
        return name

    def numbers(self, *values: int) -> str:
        return self.constant("n" + "_".join(map(str, values)), np.array(values, np.int64))

    def scalar(self, value: float) -> str:
        return self.constant(f"f{value!r}", np.array(value, np.float32))

    def node(self, kind: str, *inputs: str, name: str | None = None, **attributes: Any) -> str:
        output = name or f"{kind}{len(self.nodes)}"
        self.nodes.append(helper.make_node(kind, list(inputs), [output], **attributes))
        return output

    def linear(self, x: str, weights: Weights, name: str) -> str:
        matrix = self.constant(f"{name}.weight", weights[f"{name}.weight"].T)
        return self.node(
            "Add", self.node("MatMul", x, matrix), self.constant(f"{name}.bias", weights[f"{name}.bias"])
        )

    def norm(self, x: str, weights: Weights, name: str, epsilon: float) -> str:
        gain = self.constant(f"{name}.weight", weights[f"{name}.weight"])
        bias = self.constant(f"{name}.bias", weights[f"{name}.bias"])
        return self.node("LayerNormalization", x, gain, bias, axis=-1, epsilon=epsilon)

    def gelu(self, x: str) -> str:
        erf = self.node("Erf", self.node("Div", x, self.scalar(float(np.sqrt(2)))))
        return self.node("Mul", self.node("Mul", x, self.node("Add", erf, self.scalar(1.0))), self.scalar(0.5))


def bert_graph(weights: Weights, config: dict[str, Any]) -> onnx.ModelProto:
    """Build the graph from weights by their usual names and the model's `config.json`.

    Raises
    ------
    KeyError
        If a weight is missing; names it.
    """
    graph = _Graph()
    heads, width = config["num_attention_heads"], config["hidden_size"]
    size = width // heads
    epsilon = float(config["layer_norm_eps"])

    words = graph.constant("words", weights["embeddings.word_embeddings.weight"])
    places = graph.constant("places", weights["embeddings.position_embeddings.weight"])
    kind = graph.constant("kind", weights["embeddings.token_type_embeddings.weight"][0])
    length = graph.node("Shape", "ids", start=1, end=2)
    here = graph.node("Slice", places, graph.numbers(0), length, graph.numbers(0))
    x = graph.node("Add", graph.node("Gather", words, "ids"), here)
    x = graph.norm(graph.node("Add", x, kind), weights, "embeddings.LayerNorm", epsilon)

    real = graph.node("Cast", "mask", to=TensorProto.FLOAT)
    hidden = graph.node("Mul", graph.node("Sub", graph.scalar(1.0), real), graph.scalar(-1e9))
    hidden = graph.node("Unsqueeze", hidden, graph.numbers(1, 2))
    split, join = graph.numbers(0, 0, heads, size), graph.numbers(0, 0, width)

    for layer in range(config["num_hidden_layers"]):
        base = f"encoder.layer.{layer}"

        def head(part: str, x: str = x, base: str = base) -> str:
            return graph.node("Reshape", graph.linear(x, weights, f"{base}.attention.self.{part}"), split)

        query = graph.node("Transpose", head("query"), perm=[0, 2, 1, 3])
        key = graph.node("Transpose", head("key"), perm=[0, 2, 3, 1])
        value = graph.node("Transpose", head("value"), perm=[0, 2, 1, 3])
        logits = graph.node("Div", graph.node("MatMul", query, key), graph.scalar(float(np.sqrt(size))))
        share = graph.node("Softmax", graph.node("Add", logits, hidden), axis=-1)
        mixed = graph.node("Transpose", graph.node("MatMul", share, value), perm=[0, 2, 1, 3])
        mixed = graph.linear(graph.node("Reshape", mixed, join), weights, f"{base}.attention.output.dense")
        x = graph.norm(graph.node("Add", mixed, x), weights, f"{base}.attention.output.LayerNorm", epsilon)
        inner = graph.gelu(graph.linear(x, weights, f"{base}.intermediate.dense"))
        outer = graph.linear(inner, weights, f"{base}.output.dense")
        x = graph.norm(graph.node("Add", outer, x), weights, f"{base}.output.LayerNorm", epsilon)

    graph.node("Identity", x, name="tokens")
    weight = graph.node("Unsqueeze", real, graph.numbers(2))
    total = graph.node("ReduceSum", graph.node("Mul", x, weight), graph.numbers(1), keepdims=0)
    graph.node("LpNormalization", total, name="vector", axis=-1, p=2)

    shape = ["batch", "length"]
    model = helper.make_model(
        helper.make_graph(
            graph.nodes,
            "encoder",
            [helper.make_tensor_value_info(name, TensorProto.INT64, shape) for name in ("ids", "mask")],
            [
                helper.make_tensor_value_info("tokens", TensorProto.FLOAT, [*shape, width]),
                helper.make_tensor_value_info("vector", TensorProto.FLOAT, ["batch", width]),
            ],
            graph.constants,
        ),
        opset_imports=[helper.make_opsetid("", OPSET)],
        ir_version=8,
    )
    onnx.checker.check_model(model)
    return model
