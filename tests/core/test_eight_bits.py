"""Matrices in one byte a number: what becomes largest stays whole, and the others keep their steps."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import onnx
import onnxruntime
from onnx import numpy_helper
from onnxruntime.quantization import QuantType, quantize_dynamic

from doppio.core.models.bert_graph import bert_graph, gated_graph, pair_graph
from doppio.core.models.eight_bits import to_bytes
from tests.core import toy_scorers as toy
from tests.core.corpus import MODELS

TOKENIZER = MODELS / "compact-english" / "tokenizer.json"
# In each layer one number of the inner activation is made large, as training makes some.
LARGE = (5, 11)


def with_large_numbers(labels=0):
    weights = toy.random_weights(4, labels)
    for layer, place in enumerate(LARGE):
        weights[f"encoder.layer.{layer}.intermediate.dense.bias"][place] += 60
        weights[f"encoder.layer.{layer}.output.dense.weight"][:, place] /= 60
    return weights


GRAPHS = {
    "encoder": lambda: bert_graph(with_large_numbers(), toy.CONFIG),
    "pair": lambda: pair_graph(with_large_numbers(3), toy.CONFIG),
    "gated": lambda: gated_graph(with_large_numbers(), toy.random_difference(), toy.CONFIG),
}


def answers(graph, batches=12):
    """What a graph gives for random tokens, as one row of numbers."""
    session = onnxruntime.InferenceSession(str(graph), providers=["CPUExecutionProvider"])
    dice = np.random.default_rng(1)
    found = []
    for _ in range(batches):
        given = {name: np.ones((3, 20), np.int64) for name in ("mask", "types")}
        given["ids"] = dice.integers(1000, 20000, (3, 20))
        given["places"] = np.tile([*range(6), *range(14)], (3, 1))
        given["side"] = np.tile([0] * 6 + [1] * 14, (3, 1))
        values = session.run(None, {put.name: given[put.name] for put in session.get_inputs()})
        found += [value.ravel() for value in values]
    return np.concatenate(found)


class EightBits(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.root = Path(place.name)

    def written(self, kind):
        whole = self.root / f"{kind}.onnx"
        onnx.save(GRAPHS[kind](), str(whole))
        to_bytes(whole, TOKENIZER, self.root / f"{kind}-small.onnx")
        return whole, self.root / f"{kind}-small.onnx"

    def test_all_graphs_stay_closer_than_with_one_scale_for_all(self):
        for kind in GRAPHS:
            with self.subTest(kind):
                whole, small = self.written(kind)
                plain = self.root / "plain.onnx"
                quantize_dynamic(
                    str(whole), str(plain), weight_type=QuantType.QInt8, per_channel=True, reduce_range=True
                )
                right = answers(whole)
                off, worse = (np.abs(answers(graph) - right).mean() for graph in (small, plain))
                self.assertGreater(off, 0)
                self.assertLess(off, worse / 3)

    def test_what_becomes_largest_is_found_and_kept_as_it_was(self):
        _, small = self.written("gated")
        weights, learned = with_large_numbers(), toy.random_difference()
        constants = {c.name: c for c in onnx.load(str(small)).graph.initializer}
        for layer, place in enumerate(LARGE):
            name = f"encoder.layer.{layer}.output.dense"
            joined = weights[f"{name}.weight"] + learned[f"{name}.up"] @ learned[f"{name}.down"]
            kept = numpy_helper.to_array(constants[f"{name}.weight.largest"])
            self.assertEqual(kept.shape, (toy.INNER // 8, toy.WIDTH))
            self.assertTrue(any(np.allclose(row, joined[:, place], atol=1e-6) for row in kept))
            self.assertNotIn(f"{name}.weight", constants)

    def test_the_same_graph_gives_the_same_bytes(self):
        _, small = self.written("pair")
        first = small.read_bytes()
        self.assertEqual(self.written("pair")[1].read_bytes(), first)
        self.assertEqual(sorted(path.name for path in self.root.iterdir()), ["pair-small.onnx", "pair.onnx"])


if __name__ == "__main__":
    unittest.main()
