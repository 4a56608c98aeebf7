"""`python -m training.asking`: an encoder for questions alone, tried on left-out manuals as whole corpora.

Passages keep the vectors that they have; a difference of low rank on the encoder moves questions towards what answers
them, against every other passage of the same manual. It ships only if it gains what docs/scorer.md asks for.
"""

import argparse
import json
import os
import random
import time
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import torch
from numpy.typing import NDArray
from safetensors.numpy import load_file, save_file
from tokenizers import Tokenizer
from torch import Tensor
from torch.nn import functional as f

from doppio.core.measure.questions import Question as Labelled
from doppio.core.measure.questions import Span
from doppio.core.measure.relevance import Relevance, document_positions, relevance
from doppio.core.models.folder import read_json
from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Silent
from training import manuals
from training.corpora import corpus
from training.details import DETAIL
from training.mining import CUTS, DEPTH, built
from training.model import GatedJointEncoder
from training.scoring import DETAILS_A_MANUAL, HEADINGS_A_MANUAL
from training.sections import HOW_TO, asked
from training.wording import keywords, reworded

STEPS, BATCH, RATE, SHARPNESS, RATE_DECAY = 600, 32, 4e-4, 20.0, 0.01
QUESTION_TOKENS, DEPTHS = 64, (5, 20)
# How far a vector may go from where the encoder had it: weight of the squared distance.
HOLD = 0.5
REWORDED_SHARE, KEYWORDS_SHARE = 0.3, 0.15


class QuestionEncoder(GatedJointEncoder):
    """The encoder with a difference of low rank, over questions alone; it begins as the encoder itself."""

    def vectors(self, ids: Sequence[Sequence[int]]) -> Tensor:
        """Unit vectors of questions, given as token numbers with their special tokens: (n, width)."""
        length = max(map(len, ids))
        rows, real = np.zeros((len(ids), length), np.int64), np.zeros((len(ids), length), bool)
        for row, own in enumerate(ids):
            rows[row, : len(own)], real[row, : len(own)] = own, True
        there = torch.from_numpy(real)
        x = f.embedding(torch.from_numpy(rows), self.fixed["embeddings.word_embeddings.weight"])
        x = x + self.fixed["embeddings.position_embeddings.weight"][torch.arange(length)]
        x = self._norm(x + self.fixed["embeddings.token_type_embeddings.weight"][0], "embeddings.LayerNorm")
        nothing = torch.zeros_like(there, dtype=torch.float32)
        halves = torch.stack([nothing, nothing, torch.ones_like(nothing)], -1)[:, None]
        keys = torch.stack([nothing, nothing, torch.where(there, 0.0, -1e4)], -1)[:, None]
        for layer in range(self.layers):
            x = self._layer(x, layer, halves, keys)
        return f.normalize((x * there[..., None]).sum(1) / there.sum(1, keepdim=True), dim=1)


@dataclass(frozen=True)
class Known:
    """A question of a manual under a cut: which chunks answer it, and which hold a part of an answer."""

    text: str
    kind: str
    right: NDArray[np.int64]
    touched: NDArray[np.int64]
    relevant: Relevance


@dataclass(frozen=True)
class Manual:
    """A manual under a cut: the vectors of its chunks, its questions, and the pipeline over it."""

    name: str
    fold: int
    cut: str
    vectors: NDArray[np.float32]
    questions: list[Known]
    pipeline: Pipeline


def opened(place: Path, models: Models) -> list[Manual]:
    """All manuals under all cuts, out of the indexes that mining made."""
    found = []
    for manual in manuals.MANUALS:
        whole = corpus(list(manuals.read(manual, place / "manuals")), manual.title)
        for cut in CUTS:
            pipeline = built(whole, cut, place / "indexes", models, Silent())
            table = pipeline.chunks
            positions = document_positions([document.id for document in whole.documents])
            everything = np.arange(len(table))
            questions = []
            for one in whole.questions:
                if not one.spans:
                    continue
                spans = tuple(Span(whole.documents[d].id, start, end) for d, start, end in one.spans)
                relevant = relevance(table, positions, Labelled(one.text, one.text, spans))
                right = np.flatnonzero(relevant.any_of(everything))
                touched = np.zeros(len(table), bool)
                for d, start, end in one.spans:
                    touched |= (table.document == d) & (table.end > start) & (table.start < end)
                if right.size:
                    questions.append(Known(one.text, one.kind, right, np.flatnonzero(touched), relevant))
            assert pipeline.vectors_of is not None
            vectors = np.asarray(pipeline.vectors_of(everything.tolist()), np.float32)
            found.append(Manual(manual.package, manual.fold, cut, vectors, questions, pipeline))
    return found


def train(model: QuestionEncoder, tokenizer: Tokenizer, own: Sequence[Manual], steps: int, log: Path) -> None:
    """Move questions towards what answers them, a manual a step."""
    parameters = [*model.down.values(), *model.up.values()]
    optimizer = torch.optim.AdamW(parameters, lr=RATE, weight_decay=RATE_DECAY)
    order = list(range(len(own)))
    losses: list[float] = []
    begun = time.perf_counter()
    for step in range(steps):
        if step % len(own) == 0:
            random.Random(f"order {step // len(own)}").shuffle(order)
        manual = own[order[step % len(own)]]
        dice = random.Random(f"step {step}")
        chosen = dice.sample(manual.questions, min(BATCH, len(manual.questions)))
        texts = [_asked(question, dice) for question in chosen]
        for group in optimizer.param_groups:
            group["lr"] = RATE * max(0.02, 1 - step / steps) * min(1.0, (step + 1) / 30)
        ids = [_ids(tokenizer, text) for text in texts]
        with torch.no_grad():
            before = _plain(model, ids)
        vectors = model.vectors(ids)
        logits = SHARPNESS * vectors @ torch.from_numpy(manual.vectors).T
        right, hidden = torch.zeros_like(logits, dtype=torch.bool), torch.zeros_like(logits, dtype=torch.bool)
        for row, question in enumerate(chosen):
            hidden[row, torch.from_numpy(question.touched)] = True
            right[row, torch.from_numpy(question.right)] = True
        logits = logits.masked_fill(hidden & ~right, -1e4)
        found = torch.logsumexp(logits.masked_fill(~right, -1e4), 1)
        loss = (torch.logsumexp(logits, 1) - found).mean() + HOLD * ((vectors - before) ** 2).sum(1).mean()
        optimizer.zero_grad()
        loss.backward()
        torch.nn.utils.clip_grad_norm_(parameters, 1.0)
        optimizer.step()
        losses.append(float(loss.detach()))
        if (step + 1) % 50 == 0:
            each = (time.perf_counter() - begun) / (step + 1)
            line = f"step {step + 1} loss {np.mean(losses[-50:]):.4f}, {each:.2f} s a step"
            print(line, flush=True)
            log.open("a").write(line + "\n")


def _plain(model: QuestionEncoder, ids: Sequence[Sequence[int]]) -> Tensor:
    """Vectors as the encoder had them."""
    ups = {name: value.detach().clone() for name, value in model.up.items()}
    for value in model.up.values():
        value.zero_()
    found = model.vectors(ids)
    for name, value in model.up.items():
        value.copy_(ups[name])
    return found


def _asked(question: Known, dice: random.Random) -> str:
    if question.kind == DETAIL:
        return question.text
    chance = dice.random()
    if chance < REWORDED_SHARE:
        return reworded(question.text, dice)
    if chance < REWORDED_SHARE + KEYWORDS_SHARE:
        return keywords(question.text, dice)
    return asked(question.text) if question.kind == HOW_TO and dice.random() < 0.5 else question.text


def _ids(tokenizer: Tokenizer, text: str) -> list[int]:
    ids = tokenizer.encode(text).ids
    return ids if len(ids) <= QUESTION_TOKENS + 2 else [*ids[: QUESTION_TOKENS + 1], ids[-1]]


def judged(model: QuestionEncoder, tokenizer: Tokenizer, own: Sequence[Manual]) -> list[dict[str, Any]]:
    """Recall of the dense branch and of the mix, before and after, question by question."""
    rows = []
    for manual in own:
        headings = [q for q in manual.questions if q.kind != DETAIL][:HEADINGS_A_MANUAL]
        details = [q for q in manual.questions if q.kind == DETAIL][:DETAILS_A_MANUAL]
        chosen = headings + details
        ids = [_ids(tokenizer, question.text) for question in chosen]
        with torch.no_grad():
            after, before = model.vectors(ids).numpy(), _plain(model, ids).numpy()
        sparse, dense = manual.pipeline.recipe.branches
        texts = [question.text for question in chosen]
        by_terms = manual.pipeline.branches[sparse["id"]].search_many(texts, None, DEPTH)
        branch = manual.pipeline.branches[dense["id"]]
        halfway = before + after
        halfway /= np.linalg.norm(halfway, axis=1, keepdims=True)
        for name, vectors in (("before", before), ("after", after), ("halfway", halfway)):
            found = branch.search_many(texts, vectors.astype(np.float32), DEPTH)
            for question, terms, near in zip(chosen, by_terms, found, strict=True):
                mix = manual.pipeline.fuse([terms, near])
                for which, chunks in (("dense", near[0]), ("mix", mix.chunks)):
                    rows.append(
                        {
                            "manual": manual.name, "cut": manual.cut, "when": name, "which": which,
                            "kind": DETAIL if question.kind == DETAIL else "heading", "text": question.text,
                            **{f"recall@{k}": _recall(question.relevant, chunks[:k]) for k in DEPTHS},
                        }
                    )  # fmt: skip
    return rows


def _recall(relevant: Relevance, chunks: NDArray[np.int64]) -> float:
    hit = [bool(np.isin(own, chunks).any()) for own in relevant.chunks]
    return float(np.mean(hit)) if hit else 0.0


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m training.asking", description=__doc__)
    parser.add_argument("--folds", default="0,1,2")
    parser.add_argument("--steps", type=int, default=STEPS)
    given = parser.parse_args()
    var = Path(os.environ.get("DOPPIO_VAR", "var"))
    place = var / "training"
    warnings.filterwarnings("ignore", module="bs4")
    weights = next((place / "weights").glob("*/model/config.json")).parent
    everything = opened(place, Models(var / "models"))
    tokenizer = Tokenizer.from_file(str(weights / "tokenizer.json"))
    tokenizer.no_padding()
    tokenizer.no_truncation()
    rows = []
    for fold in map(int, given.folds.split(",")):
        folder = place / f"asking-{fold}"
        folder.mkdir(parents=True, exist_ok=True)
        torch.manual_seed(11)
        model = QuestionEncoder(load_file(weights / "model.safetensors"), read_json(weights / "config.json"))
        train(model, tokenizer, [one for one in everything if one.fold != fold], given.steps, folder / "log.txt")
        save_file(
            {k: v for k, v in model.learned().items() if k.startswith("encoder")}, folder / "learned.safetensors"
        )
        rows += judged(model, tokenizer, [one for one in everything if one.fold == fold])
        (place / "asking.json").write_text(json.dumps(rows))
        report(rows)


def report(rows: Sequence[dict[str, Any]]) -> None:
    """Means before, halfway and after, by kind of question."""
    for which in ("dense", "mix"):
        for kind in ("heading", DETAIL, None):
            told = []
            for name in ("before", "halfway", "after"):
                own = [r for r in rows if r["which"] == which and r["when"] == name and kind in (None, r["kind"])]
                told.append(" ".join(f"{np.mean([r[f'recall@{k}'] for r in own]):.3f}" for k in DEPTHS))
            print(
                which,
                kind or "all",
                len(own),
                "| before",
                told[0],
                "| halfway",
                told[1],
                "| after",
                told[2],
                flush=True,
            )


if __name__ == "__main__":
    main()
