"""A million chunks behind a served recipe: sparse and graph search, fused, from request to answer.

    PYTHONPATH=src:. .venv/bin/python bench/million.py fill  [--chunks 1000000]
    PYTHONPATH=src:. .venv/bin/python bench/million.py ask ADDRESS

Both while `./doppio serve` runs. `fill` makes a workspace of documents whose words are drawn by Zipf's law, builds a
recipe of BM25 and a graph, and publishes it; it says how long each step took. Vectors are those of some thousand
sentences of the demo moved a little, since encoding a million chunks takes hours, and cutting is done by counting
words. `ask` asks a hundred questions of words from these documents, one after another.
"""

import argparse
import json
import os
import re
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np

WORKSPACE, NAME, KEY = "A million chunks", "million", Path("/tmp/doppio-million-key")
WORDS, A_CHUNK, A_DOCUMENT, AT_ONCE = 500_000, 80, 200, 50
RECIPE = {
    "format": "doppio-recipe/1",
    "name": "sparse and graph",
    "chunking": {"rule": "fixed-window", "unit": "words", "size": A_CHUNK, "overlap": 0},
    "branches": [
        {"id": "sparse", "kind": "bm25", "analysis": {"stem": False, "stop_words": False}},
        {"id": "dense", "kind": "vector", "structure": {"kind": "hnsw"}},
    ],
    "select": {"k": 5, "budget_tokens": 1500},
}


def words() -> list[str]:
    """Made-up words: syllables, the commonest ones shortest."""
    first, second = "b d f g k l m n p r s t v z".split(), "a e i o u".split()
    syllables = [a + b for a in first for b in second]
    found: list[str] = []
    for length in (1, 2, 3):
        for number in range(len(syllables) ** length):
            parts = []
            for _ in range(length):
                number, place = divmod(number, len(syllables))
                parts.append(syllables[place])
            found.append("".join(parts) + "x" * (length == 1))
            if len(found) == WORDS:
                return found
    return found


def texts(chunks: int) -> Iterator[str]:
    """Texts of documents."""
    known = words()
    odds = np.cumsum(1 / np.arange(1, len(known) + 1))
    odds /= odds[-1]
    random = np.random.default_rng(0)
    for _ in range(chunks // A_DOCUMENT):
        drawn = np.searchsorted(odds, random.random(A_DOCUMENT * A_CHUNK)).clip(0, len(known) - 1)
        lines = drawn.reshape(-1, A_CHUNK // 4)
        yield "\n\n".join(" ".join(known[place] for place in line) + "." for line in lines.tolist())


def fill(chunks: int) -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "doppio.site.settings")
    import django

    django.setup()
    from doppio.command.show import progress_bars
    from doppio.core.recipe.check import check
    from doppio.core.text.document import PARAGRAPH, DocumentBuilder
    from doppio.library.models import Workspace
    from doppio.library.services import store_documents
    from doppio.recipes.builds import build
    from doppio.recipes.services import save_recipe
    from doppio.serving.keys import Limits, make_key
    from doppio.serving.services import publish

    begun = time.perf_counter()
    space, _ = Workspace.objects.get_or_create(name=WORKSPACE)
    there, batch = space.documents.count(), []
    for number, text in enumerate(texts(chunks)):
        if number < there:
            continue
        document = DocumentBuilder()
        for paragraph in text.split("\n\n"):
            document.add(PARAGRAPH, paragraph)
        batch.append(document.build(f"{number:06}.txt"))
        if len(batch) == AT_ONCE:
            store_documents(space, batch)
            batch = []
    if batch:
        store_documents(space, batch)
    print(f"documents {time.perf_counter() - begun:,.0f} s", flush=True)
    begun = time.perf_counter()
    made_up(space, check(RECIPE))
    print(f"chunks, postings, vectors in {time.perf_counter() - begun:,.0f} s", flush=True)
    begun = time.perf_counter()
    with progress_bars() as bars:
        pipeline = build(space, check(RECIPE), bars)
    print(f"{len(pipeline.chunks):,} chunks built in {time.perf_counter() - begun:,.0f} s", flush=True)
    recipe = space.recipes.filter(name=RECIPE["name"]).first() or save_recipe(space, check(RECIPE).body)
    begun = time.perf_counter()
    _, secret = make_key(publish(recipe, NAME, None), "bench", ["search"], Limits(), None)
    KEY.write_text(secret)
    print(f"published in {time.perf_counter() - begun:.1f} s", flush=True)


def made_up(space: Any, recipe: Any) -> None:
    """Write chunks, postings and vectors as a build would, but for vectors that only lie as those of text do."""
    from doppio.core.branches.dense.index import VECTORS
    from doppio.core.branches.sparse.building import pack_postings
    from doppio.core.branches.sparse.postings import KIND as POSTINGS
    from doppio.core.build.merging import write_segment
    from doppio.core.chunking.table import ChunkTable
    from doppio.core.store.segments import Part, ReadingList, digest_column, segment_key
    from doppio.library.corpus import core_documents, corpus_now
    from doppio.recipes.builds import builder

    core, documents = builder(), core_documents(space)
    keys = core.keys(corpus_now(space).key, recipe)
    number, stream, columns = {}, [], []
    for place, document in enumerate(documents):
        words = [(found.start(), found.end()) for found in re.finditer(r"\w+", document.text)]
        stream += [number.setdefault(document.text[low:high], len(number)) for low, high in words]
        for first in range(0, len(words), A_CHUNK):
            own = words[first : first + A_CHUNK]
            columns.append((place, own[0][0], own[-1][1], len(own)))
    document, start, end, length = np.array(columns, np.int64).T.copy()
    table = ChunkTable.flat(document, start, end, 2 * length, np.full(len(document), -1, np.int64))
    digests = [document.digest for document in documents]
    key = segment_key(keys.family, digests)
    write_segment(core.store, key, keys.family, table, digest_column(digests))
    core.lists.write(keys.chunks, ReadingList(keys.family, (Part(key, np.arange(len(documents))),)))
    pieces = {piece.kind: piece for piece in keys.pieces()}
    packed = pack_postings(list(number), np.array(stream, np.int32), length.astype(np.int32))
    facts = {"terms": packed.terms, "entries": int(packed.held.sum())}
    piece = pieces[POSTINGS]
    core.store.write(POSTINGS, piece.key(key), packed.arrays(), piece.meta(key, len(table)) | facts)
    lines = [line for path in sorted(Path("demo").rglob("*.md")) for line in path.read_text().splitlines()]
    base = core.models.local().questions([line for line in lines if len(line) > 40][:4000])
    random = np.random.default_rng(3)
    rows = np.empty((len(table), base.shape[1]), np.float32)
    for first in range(0, len(rows), 10_000):
        own = base[random.integers(len(base), size=min(10_000, len(rows) - first))]
        own = own + 0.03 * random.standard_normal(own.shape, np.float32)
        rows[first : first + len(own)] = own / np.linalg.norm(own, axis=1, keepdims=True)
    piece = pieces[VECTORS]
    arrays = {"vectors": rows, "squares": np.einsum("ij,ij->i", rows, rows)}
    core.store.write(VECTORS, piece.key(key), arrays, piece.meta(key, len(rows)) | {"dimension": rows.shape[1]})


def ask(address: str) -> None:
    known, random = words(), np.random.default_rng(7)
    odds = np.cumsum(1 / np.arange(1, len(known) + 1))
    odds /= odds[-1]

    def one(question: str) -> tuple[float, dict[str, float]]:
        body = json.dumps({"question": question}).encode()
        headers = {"Authorization": f"Bearer {KEY.read_text()}", "Content-Type": "application/json"}
        begun = time.perf_counter()
        request = urllib.request.Request(f"{address}/serve/{NAME}/search", body, headers)
        with urllib.request.urlopen(request) as answer:
            told = json.loads(answer.read())
        return time.perf_counter() - begun, told["seconds"]

    begun = time.perf_counter()
    while True:
        try:
            first, _ = one("bax dax")
            break
        except OSError:
            time.sleep(0.05)
    print(f"first answer after {time.perf_counter() - begun:.1f} s, {first:.2f} s of its own")
    rows = []
    for _ in range(120):
        drawn = np.searchsorted(odds, random.random(random.integers(3, 9))).clip(0, len(known) - 1)
        rows.append(one(" ".join(known[place] for place in drawn.tolist())))
    took = np.array([seconds for seconds, _ in rows[20:]]) * 1e3
    print(f"median {np.median(took):.1f} ms, 95 of 100 in {np.percentile(took, 95):.1f} ms, from request to answer")
    for stage in rows[-1][1]:
        print(f"  {stage:16} {np.median([own.get(stage, 0.0) for _, own in rows[20:]]) * 1e3:6.2f} ms")


def main() -> None:
    given = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    given.add_argument("step", choices=["fill", "ask"])
    given.add_argument("address", nargs="?", default="http://127.0.0.1:8765")
    given.add_argument("--chunks", type=int, default=1_000_000)
    chosen = given.parse_args()
    fill(chosen.chunks) if chosen.step == "fill" else ask(chosen.address)


if __name__ == "__main__":
    main()
