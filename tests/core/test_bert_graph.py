"""The ONNX graph against a forward pass written a second time in plain NumPy."""

import math
import unittest

import numpy as np
import onnxruntime

from doppio.core.models.bert_graph import bert_graph

CONFIG = {"num_attention_heads": 3, "hidden_size": 12, "num_hidden_layers": 2, "layer_norm_eps": 1e-12}
ERF = np.vectorize(math.erf)


def random_weights(seed: int = 3) -> dict[str, np.ndarray]:
    random = np.random.default_rng(seed)
    width, inner = CONFIG["hidden_size"], 20
    shapes = {
        "embeddings.word_embeddings.weight": (30, width),
        "embeddings.position_embeddings.weight": (16, width),
        "embeddings.token_type_embeddings.weight": (2, width),
        "embeddings.LayerNorm.weight": (width,),
        "embeddings.LayerNorm.bias": (width,),
    }
    for layer in range(CONFIG["num_hidden_layers"]):
        base = f"encoder.layer.{layer}"
        for name, rows, columns in (
            ("attention.self.query", width, width),
            ("attention.self.key", width, width),
            ("attention.self.value", width, width),
            ("attention.output.dense", width, width),
            ("intermediate.dense", inner, width),
            ("output.dense", width, inner),
        ):
            shapes[f"{base}.{name}.weight"] = (rows, columns)
            shapes[f"{base}.{name}.bias"] = (rows,)
        for name in ("attention.output.LayerNorm", "output.LayerNorm"):
            shapes[f"{base}.{name}.weight"] = (width,)
            shapes[f"{base}.{name}.bias"] = (width,)
    return {name: random.normal(0, 0.4, shape).astype(np.float32) for name, shape in shapes.items()}


def norm(x, gain, bias):
    mean = x.mean(axis=-1, keepdims=True)
    spread = np.sqrt(((x - mean) ** 2).mean(axis=-1, keepdims=True) + CONFIG["layer_norm_eps"])
    return (x - mean) / spread * gain + bias


def forward(weights, ids):
    """One sequence, no padding: the last layer, (length, width)."""
    w = {name: value.astype(np.float64) for name, value in weights.items()}
    x = w["embeddings.word_embeddings.weight"][ids] + w["embeddings.position_embeddings.weight"][: len(ids)]
    x = norm(
        x + w["embeddings.token_type_embeddings.weight"][0],
        w["embeddings.LayerNorm.weight"],
        w["embeddings.LayerNorm.bias"],
    )
    heads, size = CONFIG["num_attention_heads"], CONFIG["hidden_size"] // CONFIG["num_attention_heads"]
    for layer in range(CONFIG["num_hidden_layers"]):
        base = f"encoder.layer.{layer}"

        def linear(x, name, base=base):
            return x @ w[f"{base}.{name}.weight"].T + w[f"{base}.{name}.bias"]

        query, key, value = (linear(x, f"attention.self.{part}") for part in ("query", "key", "value"))
        mixed = np.zeros_like(x)
        for head in range(heads):
            span = slice(head * size, (head + 1) * size)
            logits = query[:, span] @ key[:, span].T / math.sqrt(size)
            share = np.exp(logits - logits.max(axis=1, keepdims=True))
            mixed[:, span] = share / share.sum(axis=1, keepdims=True) @ value[:, span]
        x = norm(
            linear(mixed, "attention.output.dense") + x,
            w[f"{base}.attention.output.LayerNorm.weight"],
            w[f"{base}.attention.output.LayerNorm.bias"],
        )
        inner = linear(x, "intermediate.dense")
        inner = inner * 0.5 * (1 + ERF(inner / math.sqrt(2)))
        x = norm(
            linear(inner, "output.dense") + x,
            w[f"{base}.output.LayerNorm.weight"],
            w[f"{base}.output.LayerNorm.bias"],
        )
    return x


class Graph(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.weights = random_weights()
        model = bert_graph(cls.weights, CONFIG)
        cls.session = onnxruntime.InferenceSession(model.SerializeToString(), providers=["CPUExecutionProvider"])

    def run_graph(self, sequences):
        longest = max(map(len, sequences))
        ids = np.zeros((len(sequences), longest), np.int64)
        mask = np.zeros_like(ids)
        for row, sequence in enumerate(sequences):
            ids[row, : len(sequence)] = sequence
            mask[row, : len(sequence)] = 1
        return self.session.run(["tokens", "vector"], {"ids": ids, "mask": mask})

    def test_tokens_and_vectors_are_those_of_the_plain_forward_pass(self):
        sequences = [[1, 5, 9, 2], [1, 2], [1, 7, 7, 21, 29, 3, 2]]
        tokens, vectors = self.run_graph(sequences)
        for row, sequence in enumerate(sequences):
            expected = forward(self.weights, np.array(sequence))
            np.testing.assert_allclose(tokens[row, : len(sequence)], expected, atol=2e-5)
            pooled = expected.mean(axis=0)
            np.testing.assert_allclose(vectors[row], pooled / np.linalg.norm(pooled), atol=2e-5)

    def test_padding_changes_nothing(self):
        alone = self.run_graph([[1, 4, 2]])[1][0]
        padded = self.run_graph([[1, 4, 2], [1] * 15])[1][0]
        np.testing.assert_allclose(alone, padded, atol=1e-6)

    def test_a_missing_weight_is_named(self):
        weights = random_weights()
        del weights["encoder.layer.1.output.dense.bias"]
        with self.assertRaisesRegex(KeyError, "encoder.layer.1.output.dense.bias"):
            bert_graph(weights, CONFIG)
