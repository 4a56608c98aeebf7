"""BERT-family weights written as one ONNX graph: an encoder, a cross-encoder, or a gated joint encoder.

An encoder's inputs: `ids` and `mask`, (batch, length) int64. Outputs: `tokens`, (batch, length, width) float32, the
last layer; and `vector`, (batch, width), the mean of `tokens` over the mask brought to unit length.
"""

from collections.abc import Sequence
from typing import Any

import numpy as np
import onnx
from numpy.typing import NDArray
from onnx import TensorProto, helper, numpy_helper

OPSET = 17
HEAD = "head"
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
            self.constants.append(numpy_helper.from_array(np.asarray(value, order="C"), name))
        return name

    def numbers(self, *values: int) -> str:
        return self.constant("n" + "_".join(map(str, values)), np.array(values, np.int64))

    def scalar(self, value: float) -> str:
        return self.constant(f"f{value!r}", np.array(value, np.float32))

    def node(self, kind: str, *inputs: str, name: str | None = None, **attributes: Any) -> str:
        output = name or f"{kind}{len(self.nodes)}"
        self.nodes.append(helper.make_node(kind, list(inputs), [output], output, **attributes))
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
    """Build the graph of an encoder from weights by their usual names and the model's `config.json`.

    Raises
    ------
    KeyError
        If a weight is missing; names it.
    """
    graph = _Graph()
    layers = _Layers(graph, weights, config)
    x = layers.embedded(layers.from_first(), layers.first_type())
    real = graph.node("Cast", "mask", to=TensorProto.FLOAT)
    hidden = layers.hidden(real)
    for layer in range(config["num_hidden_layers"]):
        x = layers.layer(x, layer, hidden)

    graph.node("Identity", x, name="tokens")
    graph.node("LpNormalization", layers.summed(x, real), name="vector", axis=-1, p=2)
    shape = ["batch", "length"]
    return _model(
        graph,
        "encoder",
        ("ids", "mask"),
        [
            helper.make_tensor_value_info("tokens", TensorProto.FLOAT, [*shape, config["hidden_size"]]),
            helper.make_tensor_value_info("vector", TensorProto.FLOAT, ["batch", config["hidden_size"]]),
        ],
    )


def pair_graph(weights: Weights, config: dict[str, Any]) -> onnx.ModelProto:
    """Build the graph of a cross-encoder with a classification head over both texts in one sequence.

    Inputs: `ids`, `mask` and `types`, (batch, length) int64. Output: `score`, (batch, labels) float32, not activated.

    Raises
    ------
    KeyError
        If a weight is missing; names it.
    """
    graph = _Graph()
    layers = _Layers(graph, weights, config)
    kinds = graph.constant("kinds", weights["embeddings.token_type_embeddings.weight"])
    x = layers.embedded(layers.from_first(), graph.node("Gather", kinds, "types"))
    hidden = layers.hidden(graph.node("Cast", "mask", to=TensorProto.FLOAT))
    for layer in range(config["num_hidden_layers"]):
        x = layers.layer(x, layer, hidden)
    first = graph.node("Gather", x, graph.constant("first", np.array(0, np.int64)), axis=1)
    pooled = graph.node("Tanh", graph.linear(first, weights, "pooler.dense"))
    graph.node("Identity", graph.linear(pooled, weights, "classifier"), name="score")
    labels = len(weights["classifier.bias"])
    return _model(
        graph,
        "pair",
        ("ids", "mask", "types"),
        [helper.make_tensor_value_info("score", TensorProto.FLOAT, ["batch", labels])],
    )


def gated_graph(weights: Weights, learned: Weights, config: dict[str, Any]) -> onnx.ModelProto:
    """Build the graph of a gated joint encoder: an encoder's weights joined with what was learned beside them.

    Parameters
    ----------
    weights : mapping of name to array
        The encoder's own.
    learned : mapping of name to array
        `gates` (layers, heads, 2), added to the attention logits of a question token that looks into the passage and
        of a passage token that looks into the question; `scale` () and `matches` (); `head.weight` (2 width) and
        `head.bias` (1); and for every matrix M of a layer `M.down` (rank, columns) and `M.up` (rows, rank), whose
        product is added to it.

    Raises
    ------
    KeyError
        If a weight is missing; names it.
    ValueError
        If two arrays do not fit each other.

    Notes
    -----
    Inputs: `ids`, `places`, `side` and `mask`, (batch, length) int64: both texts one after the other, each with its
    own positions from 0; side is 0 for the question and 1 for the passage. Outputs, (batch,) float32: `score`, scale
    x cosine of the means of both halves + head . (their product, their absolute difference) + matches x best; and
    `best`, the mean over the question's tokens of their best cosine with a token of the passage, after both have seen
    each other. A gate is one number more of queries and keys, so that no matrix of biases is made.
    """
    joined = dict(weights)
    for name in learned:
        if name.endswith(".down"):
            matrix = name.removesuffix(".down")
            joined[f"{matrix}.weight"] = weights[f"{matrix}.weight"] + learned[f"{matrix}.up"] @ learned[name]
    gates = learned["gates"]
    if gates.shape != (config["num_hidden_layers"], config["num_attention_heads"], 2):
        raise ValueError(f"gates: of shape {gates.shape}, which does not fit the encoder")
    graph = _Graph()
    layers = _Layers(graph, joined, config)
    x = layers.embedded(graph.node("Gather", layers.positions, "places"), layers.first_type())
    real = graph.node("Cast", "mask", to=TensorProto.FLOAT)
    in_passage = graph.node("Cast", "side", to=TensorProto.FLOAT)
    in_question = graph.node("Sub", graph.scalar(1.0), in_passage)
    padding = graph.node("Mul", graph.node("Sub", graph.scalar(1.0), real), graph.scalar(-1e4))
    keys = layers.three(in_passage, in_question, padding)
    asks = layers.three(in_question, in_passage, graph.node("Add", graph.node("Mul", real, graph.scalar(0.0)),
                                                            graph.scalar(1.0)))  # fmt: skip
    for layer in range(config["num_hidden_layers"]):
        ones = np.ones((len(gates[layer]), 1), np.float32)
        gate = graph.constant(f"gates{layer}", np.hstack([gates[layer], ones])[None, :, None, :])
        x = layers.layer(x, layer, None, (graph.node("Mul", asks, gate), keys))
    u, v = (
        graph.node("LpNormalization", layers.summed(x, graph.node("Mul", real, half)), axis=-1, p=2)
        for half in (in_question, in_passage)
    )
    product = graph.node("Mul", u, v)
    apart = graph.node("Abs", graph.node("Sub", u, v))
    width = config["hidden_size"]
    # Scale x cosine is the sum of the products with one weight each, so it is part of the head's.
    head = learned["head.weight"].reshape(2, width) + np.array([[float(learned["scale"])], [0.0]], np.float32)
    pair = graph.node("Concat", product, apart, axis=-1)
    scored = graph.node("MatMul", pair, graph.constant(HEAD, head.reshape(2 * width, 1).astype(np.float32)))
    biased = graph.node("Add", scored, graph.constant("head.bias", learned["head.bias"].reshape(1)))
    best = layers.best_matches(x, in_question, in_passage, real)
    matched = graph.node("Mul", best, graph.scalar(float(learned["matches"])))
    graph.node("Squeeze", graph.node("Add", biased, matched), graph.numbers(1), name="score")
    graph.node("Squeeze", best, graph.numbers(1), name="best")
    outputs = [helper.make_tensor_value_info(name, TensorProto.FLOAT, ["batch"]) for name in ("score", "best")]
    return _model(graph, "gated", ("ids", "places", "side", "mask"), outputs)


class _Layers:
    """The parts that all three graphs share."""

    def __init__(self, graph: _Graph, weights: Weights, config: dict[str, Any]) -> None:
        self._heads, self._width = config["num_attention_heads"], config["hidden_size"]
        self._size = self._width // self._heads
        self._epsilon = float(config["layer_norm_eps"])
        # Logits are divided by the root of a head's size; the queries' weights are, so that no logit has to be.
        self._graph, self._weights = graph, dict(weights)
        for layer in range(config["num_hidden_layers"]):
            base = f"encoder.layer.{layer}.attention.self"
            for kind in ("weight", "bias"):
                query, key, value = (weights[f"{base}.{part}.{kind}"] for part in ("query", "key", "value"))
                scaled = (query / np.sqrt(self._size)).astype(np.float32)
                self._weights[f"{base}.{kind}"] = np.concatenate([scaled, key, value])
        self._words = graph.constant("words", weights["embeddings.word_embeddings.weight"])
        self.positions = graph.constant("positions", weights["embeddings.position_embeddings.weight"])

    def from_first(self) -> str:
        """Positions of one sequence, counted from its first token."""
        graph = self._graph
        length = graph.node("Shape", "ids", start=1, end=2)
        return graph.node("Slice", self.positions, graph.numbers(0), length, graph.numbers(0))

    def first_type(self) -> str:
        return self._graph.constant("kind", self._weights["embeddings.token_type_embeddings.weight"][0])

    def embedded(self, places: str, kinds: str) -> str:
        graph = self._graph
        x = graph.node("Add", graph.node("Gather", self._words, "ids"), places)
        return graph.norm(graph.node("Add", x, kinds), self._weights, "embeddings.LayerNorm", self._epsilon)

    def hidden(self, real: str) -> str:
        """What is added to the logits of padding."""
        graph = self._graph
        hidden = graph.node("Mul", graph.node("Sub", graph.scalar(1.0), real), graph.scalar(-1e9))
        return graph.node("Unsqueeze", hidden, graph.numbers(1, 2))

    def three(self, *columns: str) -> str:
        """Three (batch, length) arrays as (batch, heads, length, 3)."""
        graph = self._graph
        parts = [graph.node("Unsqueeze", column, graph.numbers(1, 3)) for column in columns]
        joined = graph.node("Concat", *parts, axis=-1)
        return graph.node("Expand", joined, graph.numbers(1, self._heads, 1, 1))

    def layer(self, x: str, layer: int, hidden: str | None, more: tuple[str, str] | None = None) -> str:
        """One layer; `more` holds further numbers of the queries and of the keys."""
        graph, weights = self._graph, self._weights
        base = f"encoder.layer.{layer}"
        split, join = graph.numbers(0, 0, 3, self._heads, self._size), graph.numbers(0, 0, self._width)
        # One product for queries, keys and values, then (3, batch, heads, length, size).
        parts = graph.node("Reshape", graph.linear(x, weights, f"{base}.attention.self"), split)
        parts = graph.node("Transpose", parts, perm=[2, 0, 3, 1, 4])
        query, key, value = (
            graph.node("Gather", parts, graph.constant(f"part{part}", np.array(part, np.int64)), axis=0)
            for part in range(3)
        )
        if more is not None:
            query = graph.node("Concat", query, more[0], axis=-1)
            key = graph.node("Concat", key, more[1], axis=-1)
        logits = graph.node("MatMul", query, graph.node("Transpose", key, perm=[0, 1, 3, 2]))
        if hidden is not None:
            logits = graph.node("Add", logits, hidden)
        share = graph.node("Softmax", logits, axis=-1)
        mixed = graph.node("Transpose", graph.node("MatMul", share, value), perm=[0, 2, 1, 3])
        mixed = graph.linear(graph.node("Reshape", mixed, join), weights, f"{base}.attention.output.dense")
        x = graph.norm(graph.node("Add", mixed, x), weights, f"{base}.attention.output.LayerNorm", self._epsilon)
        inner = graph.gelu(graph.linear(x, weights, f"{base}.intermediate.dense"))
        outer = graph.linear(inner, weights, f"{base}.output.dense")
        return graph.norm(graph.node("Add", outer, x), weights, f"{base}.output.LayerNorm", self._epsilon)

    def best_matches(self, x: str, in_question: str, in_passage: str, real: str) -> str:
        """Mean over the question's tokens of their best cosine with a token of the passage: (batch, 1)."""
        graph = self._graph
        unit = graph.node("LpNormalization", x, axis=-1, p=2)
        cosines = graph.node("MatMul", unit, graph.node("Transpose", unit, perm=[0, 2, 1]))
        taken = graph.node("Mul", in_passage, real)
        outside = graph.node("Mul", graph.node("Sub", graph.scalar(1.0), taken), graph.scalar(-4.0))
        best = graph.node("ReduceMax", graph.node("Add", cosines, graph.node("Unsqueeze", outside, graph.numbers(1))),
                          axes=[2], keepdims=0)  # fmt: skip
        asking = graph.node("Mul", in_question, real)
        total = graph.node("ReduceSum", graph.node("Mul", best, asking), graph.numbers(1), keepdims=1)
        return graph.node("Div", total, graph.node("ReduceSum", asking, graph.numbers(1), keepdims=1))

    def summed(self, x: str, taken: str) -> str:
        """The sum of the tokens that are taken: (batch, width)."""
        graph = self._graph
        weight = graph.node("Unsqueeze", taken, graph.numbers(2))
        return graph.node("ReduceSum", graph.node("Mul", x, weight), graph.numbers(1), keepdims=0)


def _model(graph: _Graph, name: str, inputs: Sequence[str], outputs: Sequence[Any]) -> onnx.ModelProto:
    given = [helper.make_tensor_value_info(name, TensorProto.INT64, ["batch", "length"]) for name in inputs]
    model = helper.make_model(
        helper.make_graph(graph.nodes, name, given, list(outputs), graph.constants),
        opset_imports=[helper.make_opsetid("", OPSET)],
        ir_version=8,
    )
    onnx.checker.check_model(model)
    return model
