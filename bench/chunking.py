"""How fast are documents cut? Every rule over the demo's documents, repeated into longer ones, on one core.

    ./doppio bench chunking

Each rule is timed beside `str.split` of the same texts in the same round, so a figure can be compared between
machines. Texts are new objects in every round: nothing is found in a cache. Tokens are counted beforehand where the
unit is tokens, and what counting them costs stands in a row of its own.
"""

import json
import statistics
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from rich import box
from rich.table import Table

from doppio.command.paths import DEMO, MODELS
from doppio.command.show import err, out
from doppio.core.chunking.table import cut_one
from doppio.core.formats.documents import read_documents
from doppio.core.models.registry import Models
from doppio.core.text.document import Block, Document
from doppio.core.text.units import words

AIM = 5.0
LENGTH = 60_000
ROUNDS = 5
SETTINGS = {
    "fixed window": {"rule": "fixed-window", "unit": "words", "size": 120, "overlap": 20},
    "natural breaks": {"rule": "natural-breaks", "unit": "words", "size": 120, "overlap": 20},
    "sentence groups": {"rule": "sentence-groups", "unit": "words", "size": 120, "overlap": 1},
    "outline": {"rule": "outline", "unit": "words", "size": 120, "overlap": 20, "minimum": 30},
    "one chunk a row": {"rule": "rows", "unit": "words", "size": 120, "overlap": 20},
    "natural breaks, characters": {"rule": "natural-breaks", "unit": "characters", "size": 700, "overlap": 100},
    "natural breaks, hosts": {"rule": "natural-breaks", "unit": "words", "size": 60, "host": {"size": 240}},
    "natural breaks, tokens": {"rule": "natural-breaks", "unit": "tokens", "size": 160, "overlap": 24},
    "topic shift by terms": {"rule": "topic-shift", "unit": "words", "size": 120, "overlap": 0},
}
HELD_TO_THE_AIM = ("fixed window", "natural breaks", "sentence groups", "outline")


def main(json_file: Path | None = None) -> None:
    documents = longer(read_documents(DEMO / "documents"))
    size = sum(len(document.text.encode()) for document in documents) / 1e6
    err.print(f"{len(documents)} documents, {size:.1f} MB, {ROUNDS} rounds, one thread")
    encoder = Models(MODELS, threads=1).encoder()
    tokens = {document.id: units for document, units in zip(
        documents, encoder.token_offsets([document.text for document in documents]), strict=True)}  # fmt: skip
    empty = words("")
    rows = {}
    for name, settings in SETTINGS.items():
        counted = settings["unit"] == "tokens"

        def cut(document: Document, settings=settings, counted=counted) -> None:
            cut_one(document, settings, tokens[document.id] if counted else empty)

        rows[name] = measure(documents, size, cut)
    rows["counting tokens"] = measure(documents, size, lambda document: encoder.token_offsets([document.text]))
    table = Table("rule", "MB a second", "times the time of str.split", box=box.SIMPLE_HEAD)
    for column in table.columns[1:]:
        column.justify = "right"
    for name, row in rows.items():
        aim = "" if name not in HELD_TO_THE_AIM or row["rate"] >= AIM else f"  under the aim of {AIM:g}"
        table.add_row(name, f"{row['rate']:.1f}{aim}", f"{row['ratio']:.1f}")
    out.print(table)
    if json_file:
        json_file.write_text(json.dumps(rows, indent=1) + "\n")


def measure(documents: Sequence[Document], size: float, work: Callable[[Document], object]) -> dict[str, float]:
    """MB a second, and the time as a multiple of `str.split`; medians over the rounds."""
    rates, ratios = [], []
    work(documents[0])
    for _ in range(ROUNDS):
        fresh = [renewed(document) for document in documents]
        begun = time.perf_counter()
        for document in fresh:
            document.text.split()
        plain = time.perf_counter() - begun
        begun = time.perf_counter()
        for document in fresh:
            work(document)
        took = time.perf_counter() - begun
        rates.append(size / took)
        ratios.append(took / plain)
    return {"rate": statistics.median(rates), "ratio": statistics.median(ratios)}


def renewed(document: Document) -> Document:
    """The same document with a text object of its own."""
    text = document.text[:-1] + document.text[-1:]
    return Document(document.id, document.title, text, document.blocks, document.sections)


def longer(documents: Sequence[Document]) -> list[Document]:
    """Every document repeated, with its blocks, until it has about as many characters as twenty pages."""
    found = []
    for document in documents:
        times = max(LENGTH // (len(document.text) + 2), 1)
        step = len(document.text) + 2
        blocks = [
            Block(block.kind, block.start + step * turn, block.end + step * turn, block.level)
            for turn in range(times)
            for block in document.blocks
        ]
        found.append(Document(document.id, document.title, "\n\n".join([document.text] * times), tuple(blocks)))
    return found
