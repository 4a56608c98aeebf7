"""A graph's matrices in one byte a number: a third of the memory, and about twice as fast."""

import re
from pathlib import Path

import numpy as np
import onnx
import onnxruntime
from numpy.typing import NDArray
from onnx import helper, numpy_helper
from tokenizers import Tokenizer

from doppio.core.models.bert_graph import HEAD

# So many numbers of every layer's inner activation stay whole, or this share where a layer is small.
APART, APART_SHARE = 64, 8
SAMPLES, SAMPLE_WORDS = 8, 96
_AFTER_ACTIVATION = re.compile(r"encoder\.layer\.\d+\.output\.dense\.weight")
_INNER = "intermediate.dense"


def to_bytes(source: Path, tokenizer: Path, target: Path) -> None:
    """Write a graph of `bert_graph`'s with its matrices in one byte a number, a scale for each column.

    Notes
    -----
    Inputs of a product share one scale. In a layer's inner activation a few numbers are ten times as large as all
    others, always the same ones, so the scale would be theirs and the others would be lost in its steps. The graph is
    asked with random words, the numbers that become largest are taken apart, and their products stay whole; so does
    the last product, which makes the score. Weights take seven of the eight bits, because sums of products of two
    bytes overflow 16 bits on processors that have no instruction for them.
    """
    from onnxruntime.quantization import QuantType, quantize_dynamic
    from onnxruntime.quantization.quant_utils import add_pre_process_metadata

    model = onnx.load(str(source))
    # Graphs of `bert_graph` need no preparation; without this mark a warning stands among what set-up says.
    add_pre_process_metadata(model)
    whole = [_part(model, node, largest) for node, largest in _largest(model, tokenizer)]
    whole += [node.name for node in model.graph.node if set(node.input) & {HEAD, "classifier.weight"}]
    parted = target.with_suffix(".parted")
    onnx.save(model, str(parted))
    quantize_dynamic(
        str(parted),
        str(target),
        weight_type=QuantType.QInt8,
        per_channel=True,
        reduce_range=True,
        nodes_to_exclude=whole,
    )
    parted.unlink()


def _largest(model: onnx.ModelProto, tokenizer: Path) -> list[tuple[onnx.NodeProto, NDArray[np.int64]]]:
    """Every product that follows an inner activation, and which of its inputs become largest."""
    nodes = [
        node for node in model.graph.node if node.op_type == "MatMul" and _AFTER_ACTIVATION.fullmatch(node.input[1])
    ]
    asked = onnx.ModelProto()
    asked.CopyFrom(model)
    inner = (helper.make_tensor_value_info(node.input[0], onnx.TensorProto.FLOAT, None) for node in nodes)
    asked.graph.output.extend(inner)
    session = onnxruntime.InferenceSession(asked.SerializeToString(), providers=["CPUExecutionProvider"])
    given = _samples(model, tokenizer)
    inputs = {put.name: given[put.name] for put in session.get_inputs()}
    found = session.run([node.input[0] for node in nodes], inputs)
    heights = [np.abs(values).reshape(-1, values.shape[-1]).max(axis=0) for values in found]
    return [
        (node, np.sort(np.argsort(height)[-max(min(APART, len(height) // APART_SHARE), 1) :]))
        for node, height in zip(nodes, heights, strict=True)
    ]


def _samples(model: onnx.ModelProto, tokenizer: Path) -> dict[str, NDArray[np.int64]]:
    """Random words as inputs of any of the graphs: a quarter as a question, the others as a passage."""
    dice = np.random.default_rng(5)
    encoder = Tokenizer.from_file(str(tokenizer))
    encoder.no_truncation()
    encoder.no_padding()
    vocabulary = sorted(word for word in encoder.get_vocab() if word.isalpha())
    (positions,) = _constants(model, "positions")
    places = positions.dims[0]
    words = min(SAMPLE_WORDS, places // 4)
    rows = []
    for _ in range(SAMPLES):
        texts = (" ".join(dice.choice(vocabulary, size)) for size in (max(words // 4, 1), words))
        rows.append([encoder.encode(text).ids[:places] for text in texts])
    length = max(len(a) + len(b) for a, b in rows)
    names = ("ids", "places", "side", "mask", "types")
    given = {name: np.zeros((SAMPLES, length), np.int64) for name in names}
    for row, (question, passage) in enumerate(rows):
        end = len(question) + len(passage)
        given["ids"][row, :end] = [*question, *passage]
        given["places"][row, :end] = [*range(len(question)), *range(len(passage))]
        given["side"][row, len(question) : end] = given["types"][row, len(question) : end] = 1
        given["mask"][row, :end] = 1
    return given


def _constants(model: onnx.ModelProto, *names: str) -> list[onnx.TensorProto]:
    found = {constant.name: constant for constant in model.graph.initializer}
    return [found[name] for name in names]


def _part(model: onnx.ModelProto, node: onnx.NodeProto, largest: NDArray[np.int64]) -> str:
    """Replace a product by that of the largest inputs and that of the others; returns the name of the first.

    The two halves are apart from the matrix before the activation on, so nothing has to be split when it is run.
    """
    matrix = node.input[1]
    before = matrix.replace("output.dense", _INNER)
    bias = before.replace(".weight", ".bias")
    rows = {"others": np.setdiff1d(np.arange(_constants(model, matrix)[0].dims[0]), largest), "largest": largest}
    made: list[onnx.NodeProto] = []
    within = _between(model, before, node)
    for part, taken in rows.items():
        for constant, axis in ((before, 1), (bias, 0), (matrix, 0)):
            value = np.take(numpy_helper.to_array(_constants(model, constant)[0]), taken, axis)
            fresh = numpy_helper.from_array(np.ascontiguousarray(value), f"{constant}.{part}")
            model.graph.initializer.append(fresh)
        own = {name for step in within for name in step.output} | {before, bias, matrix, node.name}
        for step in within:
            twin = onnx.NodeProto()
            twin.CopyFrom(step)
            twin.name = f"{step.name}.{part}"
            twin.ClearField("input")
            twin.ClearField("output")
            twin.input.extend(f"{name}.{part}" if name in own else name for name in step.input)
            twin.output.extend(f"{name}.{part}" for name in step.output)
            made.append(twin)
    made.append(
        helper.make_node("Add", [f"{node.output[0]}.{part}" for part in rows], node.output, f"{node.name}.sum")
    )
    here = next(place for place, other in enumerate(model.graph.node) if other.name == within[0].name)
    for step in within:
        model.graph.node.remove(step)
    for fresh in reversed(made):
        model.graph.node.insert(here, fresh)
    for constant in _constants(model, before, bias, matrix):
        model.graph.initializer.remove(constant)
    return f"{node.name}.largest"


def _between(model: onnx.ModelProto, matrix: str, last: onnx.NodeProto) -> list[onnx.NodeProto]:
    """The steps from the product with a matrix to a later step, both among them, in their order."""
    reached: set[str] = set()
    found = []
    for step in model.graph.node:
        if matrix in step.input or reached & set(step.input):
            reached |= set(step.output)
            found.append(step)
        if step.name == last.name:
            return found
    raise ValueError(f"{matrix}: no step {last.name}")
