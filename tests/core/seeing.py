"""A tiny encoder of pictures and words in one space, made by hand: colours are seen, and named."""

import io
import json
from pathlib import Path

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper
from PIL import Image
from tokenizers import Tokenizer, models, pre_tokenizers, processors

from doppio.core.models.folder import FORMAT, MANIFEST, register_folder

COLOURS = {"red": (1, 0, 0), "green": (0, 1, 0), "blue": (0, 0, 1), "white": (1, 1, 1)}
SIDE, GRID, NUMBERS = 32, (4, 8), 16


def turn():
    """What turns three colours to more numbers, and keeps their products: (3, NUMBERS)."""
    directions, _ = np.linalg.qr(np.random.default_rng(3).standard_normal((NUMBERS, 3)))
    return np.ascontiguousarray(directions.T, np.float32)


def graph(nodes, inputs, outputs, weights, path):
    made = helper.make_graph(
        nodes, "made", inputs, outputs, [numpy_helper.from_array(array, name) for name, array in weights.items()]
    )
    onnx.save(helper.make_model(made, opset_imports=[helper.make_opsetid("", 17)], ir_version=8), str(path))


def picture_graph(path, grid=GRID):
    """The mean colour of each patch, turned; the whole is the mean of all."""
    rows, columns = grid
    kernel = [SIDE // rows, SIDE // columns]
    nodes = [
        helper.make_node("AveragePool", ["pixels"], ["means"], kernel_shape=kernel, strides=kernel),
        helper.make_node("Reshape", ["means", "flat"], ["rows"]),
        helper.make_node("Transpose", ["rows"], ["colours"], perm=[0, 2, 1]),
        helper.make_node("MatMul", ["colours", "turn"], ["patches"]),
        helper.make_node("ReduceMean", ["patches"], ["vector"], axes=[1], keepdims=0),
    ]
    pixels = helper.make_tensor_value_info("pixels", TensorProto.FLOAT, ["n", 3, SIDE, SIDE])
    outputs = [
        helper.make_tensor_value_info("vector", TensorProto.FLOAT, ["n", NUMBERS]),
        helper.make_tensor_value_info("patches", TensorProto.FLOAT, ["n", rows * columns, NUMBERS]),
    ]
    graph(nodes, [pixels], outputs, {"flat": np.array([0, 3, rows * columns], np.int64), "turn": turn()}, path)


def word_graph(path):
    """A word that names a colour is where the colour is; the others are nowhere."""
    table = np.concatenate([np.zeros((3, 3)), np.array(list(COLOURS.values()))]).astype(np.float32) @ turn()
    nodes = [
        helper.make_node("Gather", ["table", "input_ids"], ["tokens"]),
        helper.make_node("ReduceMean", ["tokens"], ["vector"], axes=[1], keepdims=0),
        helper.make_node("Identity", ["attention_mask"], ["unused"]),
    ]
    inputs = [
        helper.make_tensor_value_info(name, TensorProto.INT64, ["n", "t"]) for name in ("input_ids", "attention_mask")
    ]
    outputs = [
        helper.make_tensor_value_info("vector", TensorProto.FLOAT, ["n", NUMBERS]),
        helper.make_tensor_value_info("tokens", TensorProto.FLOAT, ["n", "t", NUMBERS]),
    ]
    graph(nodes, inputs, outputs, {"table": table}, path)


def tokenizer(path):
    known = {"[UNK]": 0, "[CLS]": 1, "[SEP]": 2, **{name: at for at, name in enumerate(COLOURS, 3)}}
    made = Tokenizer(models.WordLevel(known, "[UNK]"))
    made.pre_tokenizer = pre_tokenizers.Whitespace()
    made.post_processor = processors.TemplateProcessing("[CLS] $A [SEP]", special_tokens=[("[CLS]", 1), ("[SEP]", 2)])
    made.save(str(path))


def seeing_folder(folder: Path, *, name="colours", grid=GRID, **told) -> Path:
    """The folder as somebody brings it; `told` are fields of its `pictures`."""
    folder.mkdir(parents=True)
    picture_graph(folder / "pictures.onnx")
    word_graph(folder / "encoder.onnx")
    tokenizer(folder / "tokenizer.json")
    pictures = {"size": [SIDE, SIDE], "mean": [0, 0, 0], "deviation": [1, 1, 1]} | told
    if grid:
        pictures["grid"] = list(grid)
    manifest = {"format": FORMAT, "name": name, "title": "colours", "dimension": NUMBERS, "max_tokens": 32}
    (folder / MANIFEST).write_text(json.dumps({**manifest, "pictures": pictures}))
    return folder


def registered(root: Path, source: Path, **told) -> str:
    """The same below `root`; returns its name."""
    return register_folder(seeing_folder(source, **told), root).name


def painted(*colours, size=(64, 64)) -> bytes:
    """Stripes of colours from left to right, as PNG."""
    picture = Image.new("RGB", size, "white")
    width = size[0] // len(colours)
    for place, colour in enumerate(colours):
        value = tuple(int(255 * part) for part in COLOURS[colour])
        picture.paste(value, (place * width, 0, (place + 1) * width, size[1]))
    target = io.BytesIO()
    picture.save(target, "PNG")
    return target.getvalue()
