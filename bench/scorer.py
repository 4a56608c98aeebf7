"""`./doppio bench scorer`: the shipped joint scorer beside a bare ONNX Runtime loop, all cores on each batch."""

import json
import time
from pathlib import Path
from typing import Any

import numpy as np
import onnxruntime
from bench.real_text import sentences
from bench.timing import Row
from rich.console import Console
from rich.table import Table

from doppio.command.paths import MODELS
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.joint import Passage
from doppio.core.models.scorer_folder import GRAPH

PASSAGES, TOKENS, TURNS = 20, 160, 15
QUESTION = "What happens when the given array has no elements?"
AIM = 0.450


def main(json_file: Path | None = None) -> None:
    """Measure both precisions and print ratios."""
    console = Console()
    table = Table("what", "beside", "claim", "ratio", "holds")
    figures: dict[str, Any] = {}
    for path in sorted(MODELS.glob("joint-english*")):
        scorer = CrossEncoder(path)
        row, found = measure(scorer)
        figures[scorer.name] = {**found, "ratio": row.ratio}
        table.add_row(row.what, row.beside, row.wanted, f"{row.ratio:.3f}", "yes" if row.holds else "NO")
    console.print(table)
    for name, found in figures.items():
        said = "within" if found["seconds"] <= AIM else "OVER"
        console.print(
            f"{name}: {PASSAGES} passages of {TOKENS} tokens in {1000 * found['seconds']:.0f} ms (median; best "
            f"{1000 * found['best']:.0f} ms), {found['tokens a second']:,.0f} tokens a second; {said} the aim of "
            f"{1000 * AIM:.0f} ms"
        )
    if json_file:
        json_file.write_text(json.dumps(figures, indent=1) + "\n")


def measure(scorer: CrossEncoder) -> tuple[Row, dict[str, float]]:
    """Score passages of real text and run the same batches bare, in turns."""
    texts = passages_of(scorer, PASSAGES, TOKENS)
    passages = [Passage(text) for text in texts]
    batches = [given for _, given in scorer.batches(QUESTION, texts)]
    tokens = sum(int(given["mask"].sum()) for given in batches)

    session = onnxruntime.InferenceSession(str(scorer.folder.path / GRAPH), providers=["CPUExecutionProvider"])

    def bare() -> None:
        for given in batches:
            session.run(["score"], given)

    for _ in range(2):
        scorer.score(QUESTION, passages)
        bare()
    own, plain = [], []
    for turn in range(TURNS):
        for work, taken in ((bare, plain), (lambda: scorer.score(QUESTION, passages), own))[:: 1 if turn % 2 else -1]:
            begun = time.perf_counter()
            work()
            taken.append(time.perf_counter() - begun)
    seconds = float(np.median(own))
    figures = {"seconds": seconds, "best": min(own), "tokens a second": tokens / seconds, "tokens": float(tokens)}
    ratio = float(np.median(np.array(own) / np.array(plain)))
    return Row(
        f"{scorer.name}, {PASSAGES} passages", "bare ONNX Runtime loop", "at most 1.1", ratio, 1.1, False
    ), figures


def passages_of(scorer: CrossEncoder, count: int, tokens: int) -> list[str]:
    """Passages of real text with exactly so many tokens, special ones counted."""
    text = " ".join(sentences(3000))
    offsets = scorer._tokenizer.encode(text, add_special_tokens=False).offsets
    own = tokens - 2
    found: list[str] = []
    first = 0
    while len(found) < count:
        passage = text[offsets[first][0] : offsets[first + own - 1][1]]
        first += own
        if len(scorer._tokenizer.encode(passage).ids) == tokens:
            found.append(passage)
    return found
