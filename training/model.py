"""The gated joint encoder in PyTorch: pinned weights, and the small difference that is learned.

Question and passage stand one after the other, each with positions of its own and both beginning with the
classification token. Within a half attention is as before; between the halves it passes a gate, one learned bias a
layer, head and direction on the logits. Every matrix of a layer gains a difference of low rank.
"""

import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import torch
from numpy.typing import NDArray
from torch import Tensor, nn
from torch.nn import functional as f

RANK = 16
# The question looks into the passage through 2^-6 of an open door: there are ten times as many tokens there. What
# the passage takes from the question starts more open, since few tokens stand against many.
GATE_QUESTION, GATE_PASSAGE = -4.0, -2.5
# The score begins as the cosine of the two means and the mean best match of single tokens, one as much as the other.
SCALE, MATCHES = 20.0, 20.0
MATRICES = ("attention.self.query", "attention.self.key", "attention.self.value", "attention.output.dense",
            "intermediate.dense", "output.dense")  # fmt: skip


class GatedJointEncoder(nn.Module):
    """Scores pairs of question and passage.

    Parameters
    ----------
    weights : mapping of name to array
        Of the BERT-family encoder, as in its safetensors file; they stay as they are.
    config : mapping
        Its `config.json`.
    """

    def __init__(self, weights: dict[str, NDArray[np.float32]], config: dict[str, Any]) -> None:
        super().__init__()
        self.layers, self.heads = config["num_hidden_layers"], config["num_attention_heads"]
        self.width, self.epsilon = config["hidden_size"], float(config["layer_norm_eps"])
        self.fixed = {
            name.removeprefix("bert."): torch.from_numpy(np.array(value, np.float32))
            for name, value in weights.items()
            if value.dtype.kind == "f"
        }
        generator = torch.Generator().manual_seed(7)
        self.down, self.up = nn.ParameterDict(), nn.ParameterDict()
        for layer in range(self.layers):
            for part in MATRICES:
                rows, columns = self.fixed[f"encoder.layer.{layer}.{part}.weight"].shape
                key = f"{layer}.{part}".replace(".", "_")
                self.down[key] = nn.Parameter(torch.randn(RANK, columns, generator=generator) / math.sqrt(columns))
                self.up[key] = nn.Parameter(torch.zeros(rows, RANK))
        self.gates = nn.Parameter(torch.empty(self.layers, self.heads, 2))
        with torch.no_grad():
            self.gates[..., 0] = GATE_QUESTION
            self.gates[..., 1] = GATE_PASSAGE
        self.scale = nn.Parameter(torch.tensor(SCALE))
        self.matches = nn.Parameter(torch.tensor(MATCHES))
        self.head = nn.Linear(2 * self.width, 1)
        nn.init.zeros_(self.head.weight)
        nn.init.zeros_(self.head.bias)

    def forward(self, questions: Sequence[Sequence[int]], passages: Sequence[Sequence[int]]) -> Tensor:
        """Scores of the pairs, given as token numbers with their special tokens: (n,)."""
        ids, places, side, real = _laid_out(questions, passages)
        x = f.embedding(ids, self.fixed["embeddings.word_embeddings.weight"])
        x = x + self.fixed["embeddings.position_embeddings.weight"][places]
        x = self._norm(x + self.fixed["embeddings.token_type_embeddings.weight"][0], "embeddings.LayerNorm")
        in_passage = side.float()
        halves = torch.stack([1 - in_passage, in_passage, torch.ones_like(in_passage)], -1)[:, None]
        # What a key adds to the logit of a query in the question, of one in the passage, and of any: the padding.
        keys = torch.stack([in_passage, 1 - in_passage, torch.where(real, 0.0, -1e4)], -1)[:, None]
        for layer in range(self.layers):
            x = self._layer(x, layer, halves, keys)
        question, passage = (real & (side == half) for half in (0, 1))
        u, v = (_pooled(x, half) for half in (question, passage))
        pair = torch.cat([u * v, (u - v).abs()], dim=1)
        alike = self.scale * (u * v).sum(1) + self.matches * _best_matches(x, question, passage)
        return alike + self.head(pair).squeeze(1)

    def _layer(self, x: Tensor, layer: int, halves: Tensor, keys: Tensor) -> Tensor:
        """One layer; the gates are three more numbers of every query and key, so that no matrix of biases is made."""
        base, size = f"encoder.layer.{layer}", self.width // self.heads
        batch, length, _ = x.shape

        def split(part: str, more: Tensor) -> Tensor:
            own = self._linear(x, layer, f"attention.self.{part}").view(batch, length, self.heads, size)
            return torch.cat([own.transpose(1, 2), more.expand(batch, self.heads, length, 3)], -1)

        ones = torch.ones(self.heads, 1)
        gates = torch.cat([self.gates[layer], ones], 1)[None, :, None, :] * math.sqrt(size)
        query, key = split("query", halves * gates), split("key", keys)
        value = split("value", torch.zeros(1, 1, 1, 1))
        mixed = f.scaled_dot_product_attention(query, key, value, scale=1 / math.sqrt(size))[..., :size]
        mixed = mixed.transpose(1, 2).reshape(batch, length, self.width)
        x = self._norm(self._linear(mixed, layer, "attention.output.dense") + x, f"{base}.attention.output.LayerNorm")
        inner = f.gelu(self._linear(x, layer, "intermediate.dense"))
        return self._norm(self._linear(inner, layer, "output.dense") + x, f"{base}.output.LayerNorm")

    def _linear(self, x: Tensor, layer: int, part: str) -> Tensor:
        name, key = f"encoder.layer.{layer}.{part}", f"{layer}.{part}".replace(".", "_")
        rows = x.reshape(-1, x.shape[-1])
        plain = f.linear(rows, self.fixed[f"{name}.weight"], self.fixed[f"{name}.bias"])
        return torch.addmm(plain, rows @ self.down[key].T, self.up[key].T).view(*x.shape[:-1], -1)

    def _norm(self, x: Tensor, name: str) -> Tensor:
        return f.layer_norm(x, (self.width,), self.fixed[f"{name}.weight"], self.fixed[f"{name}.bias"], self.epsilon)

    def learned(self) -> dict[str, NDArray[np.float32]]:
        """The difference to the pinned weights, by the names that the shipped file has."""
        found = {
            "gates": self.gates,
            "scale": self.scale,
            "matches": self.matches,
            "head.weight": self.head.weight[0],
            "head.bias": self.head.bias,
        }
        for layer in range(self.layers):
            for part in MATRICES:
                key = f"{layer}.{part}".replace(".", "_")
                found[f"encoder.layer.{layer}.{part}.down"] = self.down[key]
                found[f"encoder.layer.{layer}.{part}.up"] = self.up[key]
        return {name: value.detach().numpy().copy() for name, value in found.items()}


def _pooled(x: Tensor, taken: Tensor) -> Tensor:
    return f.normalize((x * taken[..., None]).sum(1), dim=1)


def _best_matches(x: Tensor, question: Tensor, passage: Tensor) -> Tensor:
    """Mean over the question's tokens of their best cosine with a token of the passage: (n,)."""
    longest = int(question.sum(1).max())
    unit = f.normalize(x, dim=2)
    cosines = (unit[:, :longest] @ unit.transpose(1, 2)).masked_fill(~passage[:, None], -4.0)
    asking = question[:, :longest].float()
    return (cosines.amax(2) * asking).sum(1) / asking.sum(1)


def _laid_out(
    questions: Sequence[Sequence[int]], passages: Sequence[Sequence[int]]
) -> tuple[Tensor, Tensor, Tensor, Tensor]:
    """Token numbers, positions, side (0 question, 1 passage) and which places are real: (n, length) each."""
    length = max(len(q) + len(p) for q, p in zip(questions, passages, strict=True))
    shape = (len(questions), length)
    ids, places, side = (np.zeros(shape, np.int64) for _ in range(3))
    real = np.zeros(shape, bool)
    for row, (q, p) in enumerate(zip(questions, passages, strict=True)):
        end = len(q) + len(p)
        ids[row, :end] = [*q, *p]
        places[row, :end] = [*range(len(q)), *range(len(p))]
        side[row, len(q) :] = 1
        real[row, :end] = True
    return torch.from_numpy(ids), torch.from_numpy(places), torch.from_numpy(side), torch.from_numpy(real)
