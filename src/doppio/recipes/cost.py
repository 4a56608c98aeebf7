"""What a build will cost, said before it starts: chunks, tokens, time at this machine's rate, disk and memory."""

import time
from collections.abc import Sequence
from functools import partial
from typing import Any

from doppio.core.build.builder import Builder
from doppio.core.build.keys import Keys
from doppio.core.errors import ArtifactDamaged
from doppio.core.models.encoder import Encoder
from doppio.core.recipe.recipe import Recipe
from doppio.core.store.pieces import Costing, Piece
from doppio.core.store.segments import kept_parts
from doppio.core.text.document import Document
from doppio.jobs.models import MeasuredRate
from doppio.jobs.running import keep_rate
from doppio.library.corpus import core_documents, corpus_of
from doppio.library.models import Workspace
from doppio.recipes.builds import builder
from doppio.recipes.cutting import cut_all

SAMPLED = 60
TRIED = "The cabin waits at the station until the wind has fallen below the limit of the line. " * 6


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
    counter = core.counter(recipe)
    costing = Costing(core.models, counter, keys.chunks, partial(_rate, counter))
    rows, seconds, disk, memory = [], 0.0, 0.0, 0.0
    encoded: set[tuple[str, int]] = set()
    for piece, chunks, tokens in lacking:
        estimate = piece.maker.cost(piece, chunks, tokens, costing)
        took = estimate.seconds
        if piece.facts.get("encoder"):
            # What one encoder gives over the same chunks comes out of one pass.
            same = str(piece.facts["encoder"]), tokens
            took = 0.0 if same in encoded else took
            encoded.add(same)
        title = piece.maker.kinds[piece.kind]
        rows.append({"title": title, "chunks": chunks, "tokens": tokens, "seconds": took, "bytes": estimate.disk})
        seconds, disk, memory = seconds + took, disk + estimate.disk, max(memory, estimate.memory)
    return {"cut": cut, "steps": rows, "seconds": seconds, "disk_bytes": int(disk), "memory_bytes": int(memory)}


def _lacking(core: Builder, keys: Keys) -> list[tuple[Piece, int, int]] | None:
    """What is missing over chunks that are there, with how many of them and their tokens; None without chunks."""
    try:
        opened = core.open_list(keys.chunks)
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


def _rate(counter: Encoder, step: str, default: float) -> float:
    """Units a second that a step went at last; the default, or a short try of the encoder, where it never ran."""
    found = MeasuredRate.objects.filter(step=step).first()
    if found is not None:
        return found.per_second
    return default or _tried_rate(counter, step)


def _tried_rate(encoder: Encoder, step: str) -> float:
    """Tokens a second over a short text, kept until a build has measured better."""
    texts = [TRIED] * 4
    count = int(encoder.token_counts(texts).sum())
    encoder.questions(texts[:1])
    begun = time.perf_counter()
    encoder.questions(texts)
    found = count / (time.perf_counter() - begun)
    keep_rate(step, "tokens", found)
    return found
