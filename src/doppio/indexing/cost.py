"""What a build will cost, said before it starts: chunks, tokens, time at this machine's rate, disk and memory."""

import time
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from doppio.core.build import Builder, Keys, Piece
from doppio.core.dense.index import VECTORS
from doppio.core.dense.structure import KIND as STRUCTURE
from doppio.core.errors import ArtifactDamaged
from doppio.core.models import token_vectors
from doppio.core.recipe import Recipe
from doppio.core.segments import kept_parts
from doppio.core.sparse.postings import KIND as POSTINGS
from doppio.core.text.document import Document
from doppio.indexing.cutting import cut_all
from doppio.indexing.jobs import keep_rate
from doppio.indexing.models import MeasuredRate
from doppio.indexing.services import builder
from doppio.library.models import Workspace
from doppio.library.services import core_documents, corpus_of

SAMPLED = 60
ENCODE, TERMS = "encode chunks", "index terms"
# Bytes a posting takes once it is packed, with its share of the bounds, and postings a token; both measured.
A_POSTING, POSTINGS_A_TOKEN = 2.5, 0.7
TRIED = "The cabin waits at the station until the wind has fallen below the limit of the line. " * 6
TITLES = {
    POSTINGS: "index terms",
    VECTORS: "encode chunks",
    token_vectors.KIND: "keep the vectors of all tokens",
    STRUCTURE: "build the structure over the vectors",
}


def cost(workspace: Workspace, recipe: Recipe) -> dict[str, Any]:
    """What building a recipe over the workspace would take now.

    Notes
    -----
    Where documents have yet to be cut, up to 60 of them are cut to judge by. Times come from the last build on this
    machine; before the first one a short text is encoded to have a rate at all.
    """
    core, corpus = builder(), corpus_of(workspace)
    keys = core.keys(corpus, recipe)
    lacking = _lacking(core, keys)
    if lacking is None:
        chunks, tokens = _to_cut(core, workspace, keys, recipe)
        lacking = [(piece, chunks, tokens) for piece in keys.pieces()]
        cut = chunks
    else:
        cut = 0
    rows, seconds, disk, memory = [], 0.0, 0.0, 0.0
    encoded: dict[tuple[str, int], float] = {}
    for piece, chunks, tokens in lacking:
        took, size, held = _of_piece(core, keys, piece, chunks, tokens, recipe)
        same = (str(piece.facts.get("encoder")), tokens)
        if piece.kind in (VECTORS, token_vectors.KIND):
            # Token vectors come out of the pass that makes the vectors.
            took = 0.0 if same in encoded else took
            encoded[same] = took
        rows.append({"title": TITLES[piece.kind], "chunks": chunks, "tokens": tokens, "seconds": took, "bytes": size})
        seconds, disk, memory = seconds + took, disk + size, max(memory, held)
    return {"cut": cut, "steps": rows, "seconds": seconds, "disk_bytes": int(disk), "memory_bytes": int(memory)}


def _lacking(core: Builder, keys: Keys) -> list[tuple[Piece, int, int]] | None:
    """What is missing over chunks that are there, with how many of them and their tokens; None without chunks."""
    try:
        opened = core.opened(keys.chunks)
    except (FileNotFoundError, ArtifactDamaged):
        return None
    found = []
    for piece in keys.pieces():
        chunks = tokens = 0
        for part, segment in zip(opened.reading.parts, opened.segments, strict=True):
            if not core.store.has(piece.kind, piece.key(part.key)):
                chunks += len(segment.table)
                tokens += int(segment.table.indexed_tokens.sum())
        if chunks:
            found.append((piece, chunks, tokens))
    return found


def _to_cut(core: Builder, workspace: Workspace, keys: Keys, recipe: Recipe) -> tuple[int, int]:
    """Chunks and tokens that cutting would make of the documents that no segment holds, judged by a sample."""
    documents = core_documents(workspace)
    _, fresh = kept_parts(core.segments_before(keys.family), [document.digest for document in documents])
    sample: Sequence[Document] = [documents[place] for place in fresh[:: max(1, len(fresh) // SAMPLED)]]
    if not sample:
        return 0, 0
    table, _ = cut_all(sample, recipe.chunking)
    whole = sum(len(documents[place].text) for place in fresh) / max(sum(len(d.text) for d in sample), 1)
    return round(len(table) * whole), round(int(table.indexed_tokens.sum()) * whole)


def _of_piece(
    core: Builder, keys: Keys, piece: Piece, chunks: int, tokens: int, recipe: Recipe
) -> tuple[float, float, float]:
    """Seconds, bytes on disk and bytes in memory that one index takes."""
    if piece.kind == POSTINGS:
        size = tokens * POSTINGS_A_TOKEN * A_POSTING
        return chunks / rate(TERMS, 3000.0), size, tokens * 8.0
    dimension = core.counter(recipe).dimension
    if piece.kind == STRUCTURE:
        settings = piece.facts["settings"]
        size = chunks * _structure_bytes(settings, dimension)
        return chunks / rate(f"build {settings['kind']}", 3000.0), size, size
    seconds = tokens / (rate(ENCODE) or _try_rate(core, recipe))
    if piece.kind == VECTORS:
        return seconds, chunks * (4.0 * dimension + 4), 64e6
    return seconds, tokens * (dimension + 8.0) + 4 * core.counter(recipe).vocabulary_size, 64e6


def _structure_bytes(settings: Mapping[str, Any], dimension: int) -> float:
    """Bytes a chunk."""
    kind = settings["kind"]
    if kind == "hnsw":
        return dimension + 9 + 4 * (2 * settings["links"] + 16) + 4 * (settings["links"] + 16) / settings["links"]
    sizes = {"int8": dimension + 4, "binary": dimension / 8, "ivf": dimension + 8, "pq": settings.get("parts", 0)}
    return float(sizes[kind])


def rate(step: str, default: float = 0.0) -> float:
    """Units a second that a step went at last, or the default where it never ran here."""
    found = MeasuredRate.objects.filter(step=step).first()
    return found.per_second if found else default


def _try_rate(core: Builder, recipe: Recipe) -> float:
    """Tokens a second over a short text, kept until a build has measured better."""
    encoder = core.counter(recipe)
    texts = [TRIED] * 4
    count = int(np.sum([len(units.starts) for units in encoder.token_offsets(texts)]))
    encoder.questions(texts[:1])
    begun = time.perf_counter()
    encoder.questions(texts)
    found = count / (time.perf_counter() - begun)
    keep_rate(ENCODE, "tokens", found)
    return found
