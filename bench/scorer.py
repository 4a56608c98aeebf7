"""`./doppio bench scorer`: the shipped joint scorer beside a bare ONNX Runtime loop, all cores on each batch."""

import json
import time
from collections.abc import Sequence
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
from doppio.core.models.joint import Passage, Scored
from doppio.core.models.registry import Models
from doppio.core.models.scorer_folder import GRAPH
from doppio.core.reranking.windowed import Candidate, Reading, read_in_windows, read_whole

PASSAGES, TOKENS, TURNS = 20, 160, 15
QUESTION = "What happens when the given array has no elements?"
AIM = 0.450
WHOLE, WINDOW = "whole", 64
# How passages are read, and how many windows of each; None for all of them.
READ = {WHOLE: None, f"one window of {WINDOW} each": 1, f"all windows of {WINDOW}": None}


def main(json_file: Path | None = None) -> None:
    """Measure both precisions and print ratios."""
    console = Console()
    table = Table("what", "beside", "claim", "ratio", "holds")
    figures: dict[str, Any] = {}
    for path in sorted(MODELS.glob("joint-english*")):
        scorer = CrossEncoder(path)
        for how, most in READ.items():
            row, found = measure(scorer, how, most)
            figures[f"{scorer.name}, {how}"] = {**found, "ratio": row.ratio}
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


class Heard:
    """A scorer that remembers what it was given to read."""

    def __init__(self, scorer: CrossEncoder) -> None:
        self.scorer, self.texts = scorer, list[str]()

    def __getattr__(self, name: str) -> Any:
        return getattr(self.scorer, name)

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        self.texts = [passage.text for passage in passages]
        return self.scorer.score(question, passages)


def first_windows(question: str, chunks: Sequence[int], before: Sequence[int], bounds: Sequence[Any]) -> list[Any]:
    """Chooses as late interaction does, of which the cost is not measured here."""
    return [-np.arange(len(own), dtype=np.float32) / len(own) for own in bounds]


def measure(scorer: CrossEncoder, how: str, most: int | None) -> tuple[Row, dict[str, float]]:
    """Score passages of real text and run the same batches bare, in turns."""
    candidates = [
        Candidate(place, text, title="Reference", headings=("Arrays",))
        for place, text in enumerate(passages_of(scorer, PASSAGES, TOKENS))
    ]
    heard = Heard(scorer)
    units = Models(MODELS).local().token_offsets
    reading = Reading(WINDOW, most, units, first_windows) if how != WHOLE else None

    def read(by: Any) -> None:
        if reading is None:
            read_whole(by, QUESTION, candidates)
        else:
            read_in_windows(by, QUESTION, candidates, reading)

    read(heard)
    batches = [given for _, given in scorer.batches(QUESTION, heard.texts)]
    tokens = sum(int(given["mask"].sum()) for given in batches)

    session = onnxruntime.InferenceSession(str(scorer.folder.path / GRAPH), providers=["CPUExecutionProvider"])

    def bare() -> None:
        for given in batches:
            session.run(["score"], given)

    for _ in range(2):
        read(scorer)
        bare()
    own, plain = [], []
    for turn in range(TURNS):
        for work, taken in ((bare, plain), (lambda: read(scorer), own))[:: 1 if turn % 2 else -1]:
            begun = time.perf_counter()
            work()
            taken.append(time.perf_counter() - begun)
    seconds = float(np.median(own))
    figures = {"seconds": seconds, "best": min(own), "tokens a second": tokens / seconds, "tokens": float(tokens)}
    ratio = float(np.median(np.array(own) / np.array(plain)))
    most_ratio = 1.1 if reading is None else 1.0
    what = f"{scorer.name}, {PASSAGES} passages, {how}"
    return Row(what, "bare ONNX Runtime loop", f"at most {most_ratio}", ratio, most_ratio, False), figures


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
