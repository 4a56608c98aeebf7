"""Small scorers with random weights, and the slow formulas of what they compute."""

import json
import shutil

import numpy as np
from safetensors.numpy import save_file

from tests.core.corpus import MODELS

WIDTH, HEADS, LAYERS, INNER, PLACES = 8, 2, 2, 16, 48
CONFIG = {
    "model_type": "bert", "hidden_act": "gelu", "hidden_size": WIDTH, "num_attention_heads": HEADS,
    "num_hidden_layers": LAYERS, "intermediate_size": INNER, "layer_norm_eps": 1e-12,
}  # fmt: skip
MATRICES = {
    "attention.self.query": (WIDTH, WIDTH), "attention.self.key": (WIDTH, WIDTH),
    "attention.self.value": (WIDTH, WIDTH), "attention.output.dense": (WIDTH, WIDTH),
    "intermediate.dense": (INNER, WIDTH), "output.dense": (WIDTH, INNER),
}  # fmt: skip


def random_weights(seed=0, labels=0):
    """BERT-family weights by their usual names; with labels, a classification head too."""
    draw = np.random.default_rng(seed)
    found = {
        "embeddings.word_embeddings.weight": draw.normal(size=(30522, WIDTH)),
        "embeddings.position_embeddings.weight": draw.normal(size=(PLACES, WIDTH)),
        "embeddings.token_type_embeddings.weight": draw.normal(size=(2, WIDTH)),
        "pooler.dense.weight": draw.normal(size=(WIDTH, WIDTH)),
        "pooler.dense.bias": draw.normal(size=WIDTH),
    }
    norms = ["embeddings.LayerNorm"]
    for layer in range(LAYERS):
        base = f"encoder.layer.{layer}"
        norms += [f"{base}.attention.output.LayerNorm", f"{base}.output.LayerNorm"]
        for name, shape in MATRICES.items():
            found[f"{base}.{name}.weight"] = draw.normal(size=shape) / 2
            found[f"{base}.{name}.bias"] = draw.normal(size=shape[0]) / 4
    for name in norms:
        found[f"{name}.weight"], found[f"{name}.bias"] = draw.normal(1, 0.1, WIDTH), draw.normal(0, 0.1, WIDTH)
    if labels:
        found["classifier.weight"], found["classifier.bias"] = (
            draw.normal(size=(labels, WIDTH)),
            draw.normal(size=labels),
        )
    return {name: value.astype(np.float32) for name, value in found.items()}


def random_difference(seed=1, rank=3):
    """What could have been learned beside the weights of an encoder."""
    draw = np.random.default_rng(seed)
    found = {
        "gates": draw.normal(-1, 1, (LAYERS, HEADS, 2)), "scale": np.array(7.0), "matches": np.array(3.0),
        "head.weight": draw.normal(size=2 * WIDTH), "head.bias": draw.normal(size=1),
    }  # fmt: skip
    for layer in range(LAYERS):
        for name, (rows, columns) in MATRICES.items():
            found[f"encoder.layer.{layer}.{name}.down"] = draw.normal(size=(rank, columns)) / 3
            found[f"encoder.layer.{layer}.{name}.up"] = draw.normal(size=(rows, rank)) / 3
    return {name: value.astype(np.float32) for name, value in found.items()}


def source_folder(folder, weights):
    """A folder as such weights come in."""
    folder.mkdir(parents=True, exist_ok=True)
    save_file({f"bert.{name}" if not name.startswith("classifier") else name: weights[name] for name in weights},
              folder / "model.safetensors")  # fmt: skip
    (folder / "config.json").write_text(json.dumps(CONFIG))
    shutil.copyfile(MODELS / "compact-english" / "tokenizer.json", folder / "tokenizer.json")
    return folder


def _norm(x, weights, name):
    x = (x - x.mean(-1, keepdims=True)) / np.sqrt(x.var(-1, keepdims=True) + CONFIG["layer_norm_eps"])
    return x * weights[f"{name}.weight"] + weights[f"{name}.bias"]


def _gelu(x):
    from scipy.special import erf

    return x * 0.5 * (1 + erf(x / np.sqrt(2)))


def slow_layers(weights, ids, places, types, bias):
    """Token vectors of one sequence, head by head; `bias` (layers, heads, n, n) is added to the logits."""
    weights = {name: value.astype(np.float64) for name, value in weights.items()}
    x = weights["embeddings.word_embeddings.weight"][ids] + weights["embeddings.position_embeddings.weight"][places]
    x = _norm(x + weights["embeddings.token_type_embeddings.weight"][types], weights, "embeddings.LayerNorm")
    size = WIDTH // HEADS
    for layer in range(LAYERS):
        base = f"encoder.layer.{layer}"

        def linear(x, name, base=base):
            return x @ weights[f"{base}.{name}.weight"].T + weights[f"{base}.{name}.bias"]

        parts = []
        for head in range(HEADS):
            of = slice(head * size, (head + 1) * size)
            query, key, value = (linear(x, f"attention.self.{part}")[:, of] for part in ("query", "key", "value"))
            logits = query @ key.T / np.sqrt(size) + bias[layer, head]
            share = np.exp(logits - logits.max(1, keepdims=True))
            parts.append(share / share.sum(1, keepdims=True) @ value)
        mixed = linear(np.hstack(parts), "attention.output.dense")
        x = _norm(mixed + x, weights, f"{base}.attention.output.LayerNorm")
        inner = _gelu(linear(x, "intermediate.dense"))
        x = _norm(linear(inner, "output.dense") + x, weights, f"{base}.output.LayerNorm")
    return x


def slow_gated(weights, learned, question, passage):
    """The gated score of one pair of token lists."""
    joined = dict(weights)
    for name in learned:
        if name.endswith(".down"):
            of = name.removesuffix(".down")
            joined[f"{of}.weight"] = weights[f"{of}.weight"] + learned[f"{of}.up"] @ learned[name]
    q, p = len(question), len(passage)
    bias = np.zeros((LAYERS, HEADS, q + p, q + p))
    bias[:, :, :q, q:] = learned["gates"][..., 0][:, :, None, None]
    bias[:, :, q:, :q] = learned["gates"][..., 1][:, :, None, None]
    x = slow_layers(joined, [*question, *passage], [*range(q), *range(p)], np.zeros(q + p, int), bias)
    u, v = (half.mean(0) / np.linalg.norm(half.mean(0)) for half in (x[:q], x[q:]))
    rows = x / np.linalg.norm(x, axis=1, keepdims=True)
    best = np.mean([max(float(rows[i] @ rows[j]) for j in range(q, q + p)) for i in range(q)])
    head = learned["head.weight"].astype(np.float64)
    apart = head[:WIDTH] @ (u * v) + head[WIDTH:] @ abs(u - v) + learned["head.bias"][0]
    return float(learned["matches"] * best + learned["scale"] * (u @ v) + apart)


def slow_pair(weights, ids, types):
    """What the classification head gives for one sequence."""
    n = len(ids)
    x = slow_layers(weights, ids, np.arange(n), types, np.zeros((LAYERS, HEADS, n, n)))
    pooled = np.tanh(x[0] @ weights["pooler.dense.weight"].T + weights["pooler.dense.bias"])
    return pooled @ weights["classifier.weight"].T + weights["classifier.bias"]
