"""From documents and a recipe to an opened pipeline: what is built already is reused by its fingerprint."""

import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact, ArtifactStore
from doppio.core.chunking.table import COLUMNS, ChunkTable, ChunkTexts, cut, table_of
from doppio.core.dense import exact
from doppio.core.errors import ModelFolderError
from doppio.core.fingerprint import fingerprint
from doppio.core.models import token_vectors
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import LateInteraction
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe import Recipe
from doppio.core.reuse import (
    NOTHING,
    Rows,
    Taken,
    digest_column,
    lists_taken,
    ranges,
    rows_taken,
    taken_rows,
    unchanged,
)
from doppio.core.sparse import postings
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import Document

CHUNKS = "chunks"
BLOCK = 128
DEFAULT_ENCODER = "compact-english"


@dataclass
class Models:
    """Encoders by name, each opened once, from the folders below one folder."""

    root: Path
    threads: int | None = None
    _open: dict[str, Encoder] = field(default_factory=dict)

    def encoder(self, name: str = DEFAULT_ENCODER) -> Encoder:
        if name not in self._open:
            if not self.root.joinpath(name).is_dir():
                raise ModelFolderError(
                    f"{self.root / name}: no such model folder; './doppio setup' installs the shipped one"
                )
            self._open[name] = Encoder(self.root / name, threads=self.threads)
        return self._open[name]


@dataclass(frozen=True)
class Keys:
    """Fingerprints of all artifacts of a recipe over a corpus; `postings` and `vectors` by branch id."""

    chunks: str
    postings: dict[str, str]
    vectors: dict[str, str]
    tokens: str | None

    def listed(self) -> list[tuple[str, str]]:
        """Kind and key of each artifact, the chunks first, none twice."""
        found = [(CHUNKS, self.chunks)]
        found += [(postings.KIND, key) for key in self.postings.values()]
        found += [(exact.KIND, key) for key in self.vectors.values()]
        found += [(token_vectors.KIND, self.tokens)] if self.tokens else []
        return list(dict.fromkeys(found))


@dataclass
class Builder:
    """Builds what a recipe needs into a store, and opens it."""

    store: ArtifactStore
    models: Models
    progress: Progress = field(default_factory=Silent)

    def keys(self, corpus: str, recipe: Recipe) -> Keys:
        """Fingerprints of the recipe's artifacts over the corpus with that fingerprint."""
        counter = self.models.encoder(_encoder_name(recipe)).folder.digest
        chunks = fingerprint(corpus, recipe.chunking, counter)
        return Keys(
            chunks,
            {b["id"]: fingerprint(chunks, b["analysis"]) for b in recipe.branches if b["kind"] == "bm25"},
            {
                b["id"]: fingerprint(chunks, self.models.encoder(b["encoder"]).folder.digest)
                for b in recipe.branches
                if b["kind"] == "vector"
            },
            fingerprint(chunks, counter) if recipe.rerank else None,
        )

    def missing(self, keys: Keys) -> list[tuple[str, str]]:
        """Kind and key of what has not been built."""
        return [(kind, key) for kind, key in keys.listed() if not self.store.has(kind, key)]

    def chunks(self, documents: Sequence[Document], corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe, cut now or opened; documents that were cut before are not cut again."""
        key = self.keys(corpus, recipe).chunks
        artifact = self.store.open_or_none(CHUNKS, key)
        if artifact is None:
            digests = digest_column([document.digest for document in documents])
            table = self._cut(documents, digests, recipe, self.store.newest(CHUNKS, self._family(recipe), but=key))
            meta = {"chunks": len(table), "family": self._family(recipe)}
            artifact = self.store.write(CHUNKS, key, {**table.columns(), "digests": digests}, meta)
        return open_chunks(artifact)

    def _cut(
        self, documents: Sequence[Document], digests: NDArray[np.uint8], recipe: Recipe, before: Artifact | None
    ) -> ChunkTable:
        encoder = self.models.encoder(_encoder_name(recipe))
        positions = unchanged(before.arrays["digests"], digests) if before else {}
        fresh = [place for place in range(len(documents)) if place not in positions]
        made = cut([documents[place] for place in fresh], recipe.chunking, encoder, self.progress, encoder)
        if before is None:
            return made
        old = open_chunks(before)
        at = {place: row for row, place in enumerate(fresh)}
        parts = []
        for place in range(len(documents)):
            table, rows = (
                (made, made.of_document(at[place])) if place in at else (old, old.of_document(positions[place]))
            )
            part = {name: column[rows] for name, column in table.columns().items()}
            parts.append({**part, "document": np.full(rows.stop - rows.start, place, np.int64)})
        return table_of(parts)

    def _family(self, recipe: Recipe) -> str:
        """What a chunk table depends on besides its documents."""
        return fingerprint(recipe.chunking, self.models.encoder(_encoder_name(recipe)).folder.digest)

    def _before(
        self, kind: str, family: str, key: str, table: ChunkTable, chunks: str
    ) -> tuple[Artifact | None, Taken]:
        """An older index of the same family, and which of its chunks are still there."""
        before = self.store.newest(kind, family, but=key)
        over = self.store.open_or_none(CHUNKS, before.meta["over"]) if before else None
        now = self.store.open_or_none(CHUNKS, chunks)
        if before is None or over is None or now is None:
            return None, NOTHING
        positions = unchanged(over.arrays["digests"], now.arrays["digests"])
        return before, taken_rows(open_chunks(over), table, positions)

    def table(self, corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe that has been built.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If it has not been built, or is not what was written.
        """
        return open_chunks(self.store.open(CHUNKS, self.keys(corpus, recipe).chunks))

    def indexes(self, corpus: str, recipe: Recipe, table: ChunkTable, texts: ChunkTexts) -> None:
        """Build the indexes that are missing or damaged; entries of unchanged documents are taken over."""
        keys = self.keys(corpus, recipe)
        for branch in recipe.branches:
            if branch["kind"] == "bm25" and not self._sound(postings.KIND, keys.postings[branch["id"]]):
                self._postings(keys, branch, recipe, table, texts)
        wanted = [(exact.KIND, key) for key in keys.vectors.values()]
        wanted += [(token_vectors.KIND, keys.tokens)] if keys.tokens else []
        lacking = [(kind, key) for kind, key in dict.fromkeys(wanted) if not self._sound(kind, key)]
        if lacking:
            self._encode(keys, recipe, table, texts, lacking)

    def _postings(
        self, keys: Keys, branch: dict[str, Any], recipe: Recipe, table: ChunkTable, texts: ChunkTexts
    ) -> None:
        key = keys.postings[branch["id"]]
        family = fingerprint(self._family(recipe), branch["analysis"])
        before, taken = self._before(postings.KIND, family, key, table, keys.chunks)
        rest = taken.rest(len(table))
        analysis = Analysis(**branch["analysis"])
        built = postings.build_postings(_in_blocks(texts, rest), len(rest), analysis, self.progress)
        if before is not None:
            built = postings.taken_over(postings.open_postings(before), taken, built, len(table))
        meta = {
            "terms": len(built.vocabulary),
            "postings": len(built.chunks),
            "family": family,
            "over": keys.chunks,
            "taken": len(taken.new),
        }
        self.store.write(postings.KIND, key, built.arrays(), meta)

    def open(self, corpus: str, recipe: Recipe, texts: ChunkTexts, table: ChunkTable) -> Pipeline:
        """Open a pipeline whose artifacts are all there.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If an artifact has not been built, or is not what was written.
        """
        keys = self.keys(corpus, recipe)
        encoder = self.models.encoder(_encoder_name(recipe)) if keys.vectors or recipe.rerank else None
        scorer = None
        if keys.tokens and encoder:
            stored = token_vectors.open_token_vectors(self.store.open(token_vectors.KIND, keys.tokens))
            scorer = LateInteraction(encoder, stored)
        return Pipeline(
            recipe,
            table,
            texts,
            {b: postings.open_postings(self.store.open(postings.KIND, key)) for b, key in keys.postings.items()},
            {b: self.store.open(exact.KIND, key).arrays["vectors"] for b, key in keys.vectors.items()},
            encoder,
            scorer,
        )

    def _sound(self, kind: str, key: str) -> bool:
        return self.store.open_or_none(kind, key) is not None

    def _encode(
        self, keys: Keys, recipe: Recipe, table: ChunkTable, texts: ChunkTexts, lacking: list[tuple[str, str]]
    ) -> None:
        """Encode new chunks once for every artifact that wants them; blocks that were done before are kept."""
        encoder = self.models.encoder(_encoder_name(recipe))
        family = fingerprint(self._family(recipe), encoder.folder.digest)
        found = {kind: self._before(kind, family, key, table, keys.chunks) for kind, key in lacking}
        rests = {kind: taken.rest(len(table)) for kind, (_, taken) in found.items()}
        wanted = np.unique(np.concatenate(list(rests.values())))
        with_tokens = token_vectors.KIND in found
        # Named by what was encoded, not by what is still lacking: a kill between two writes must find them again.
        folder = f".parts-{lacking[0][1]}-{fingerprint(wanted.tolist())}"
        parts = self.store.root / (f"{folder}-tokens" if with_tokens else folder)
        blocks = self._blocks(encoder, texts, wanted, with_tokens, parts)
        for kind, artifact_key in lacking:
            before, taken = found[kind]
            made = np.searchsorted(wanted, rests[kind])
            if kind == exact.KIND:
                fresh = _joined(blocks, "vectors", np.zeros((0, encoder.dimension), np.float32))[made]
                vectors = rows_taken(len(table), taken, before.arrays["vectors"], fresh) if before else fresh
                arrays: dict[str, NDArray[Any]] = {"vectors": vectors}
                meta: dict[str, Any] = {"dimension": encoder.dimension, "encoder": encoder.folder.name}
            else:
                arrays, meta = _token_arrays(encoder, blocks, before, taken, made, len(table)), {}
            meta |= {"family": family, "over": keys.chunks, "taken": len(taken.new)}
            self.store.write(kind, artifact_key, arrays, meta)
        for done in self.store.root.glob(f".parts-{lacking[0][1]}-*"):
            shutil.rmtree(done, ignore_errors=True)

    def _blocks(
        self, encoder: Encoder, texts: ChunkTexts, wanted: Rows, with_tokens: bool, parts: Path
    ) -> list[dict[str, NDArray[Any]]]:
        parts.mkdir(parents=True, exist_ok=True)
        self.progress.start("encode chunks", len(wanted), "chunks")
        blocks: list[dict[str, NDArray[Any]]] = []
        for first in range(0, len(wanted), BLOCK):
            chunks = wanted[first : first + BLOCK].tolist()
            path = parts / f"{first:09d}.npz"
            if not path.exists():
                draft = path.with_suffix(".draft.npz")
                np.savez(draft, allow_pickle=False, **_encode_block(encoder, texts.indexed(chunks), with_tokens))
                draft.rename(path)
            with np.load(path) as block:
                blocks.append(dict(block))
            self.progress.advance(len(chunks))
        return blocks


def open_chunks(artifact: Artifact) -> ChunkTable:
    """The chunk table of an opened artifact, mapped from disk."""
    return ChunkTable(**{name: artifact.arrays[name] for name in COLUMNS})


def _encoder_name(recipe: Recipe) -> str:
    return next((b["encoder"] for b in recipe.branches if b["kind"] == "vector"), DEFAULT_ENCODER)


def _in_blocks(texts: ChunkTexts, chunks: Rows) -> Iterator[str]:
    for first in range(0, len(chunks), 4096):
        yield from texts.indexed(chunks[first : first + 4096].tolist())


def _encode_block(encoder: Encoder, texts: Sequence[str], with_tokens: bool) -> dict[str, NDArray[Any]]:
    vectors = np.zeros((len(texts), encoder.dimension), np.float32)
    codes: list[NDArray[np.int8]] = [np.zeros((0, encoder.dimension), np.int8)] * len(texts)
    scales: list[NDArray[np.float32]] = [np.zeros(0, np.float32)] * len(texts)
    ids: list[NDArray[np.int64]] = [np.zeros(0, np.int64)] * len(texts)
    for batch in encoder.encode(texts, tokens=with_tokens):
        vectors[batch.place] = batch.vectors
        if batch.tokens is not None and batch.ids is not None:
            for place, matrix, numbers in zip(batch.place, batch.tokens, batch.ids, strict=True):
                codes[place], scales[place] = token_vectors.compress(matrix)
                ids[place] = numbers
    block: dict[str, NDArray[Any]] = {"vectors": vectors}
    if with_tokens:
        block["lengths"] = np.array([len(scale) for scale in scales], np.int64)
        block["codes"], block["scales"] = np.concatenate(codes), np.concatenate(scales)
        block["ids"] = np.concatenate(ids).astype(np.int32)
    return block


def _token_arrays(
    encoder: Encoder,
    blocks: list[dict[str, NDArray[Any]]],
    before: Artifact | None,
    taken: Taken,
    made: Rows,
    count: int,
) -> dict[str, NDArray[Any]]:
    lengths = _joined(blocks, "lengths", np.zeros(0, np.int64))
    begins = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    names = ("codes", "scales", "ids")
    empty: dict[str, NDArray[Any]] = {
        "codes": np.zeros((0, encoder.dimension), np.int8),
        "scales": np.zeros(0, np.float32),
        "ids": np.zeros(0, np.int32),
    }
    rows = ranges(begins[made], begins[made + 1])
    fresh = [_joined(blocks, name, empty[name])[rows] for name in names]
    lengths = lengths[made]
    if before is not None:
        old = [before.arrays[name] for name in names]
        begins, fresh = lists_taken(count, taken, before.arrays["begins"], old, lengths, fresh)
    else:
        begins = np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64)
    arrays = dict(zip(names, fresh, strict=True))
    owners = np.repeat(np.arange(count), np.diff(begins))
    pairs = np.unique(arrays["ids"].astype(np.int64) * max(count, 1) + owners)
    held = np.bincount(pairs // max(count, 1), minlength=encoder.vocabulary_size)
    return {"begins": begins, **arrays, "frequency": held.astype(np.int32)}


def _joined(blocks: list[dict[str, NDArray[Any]]], name: str, empty: NDArray[Any]) -> NDArray[Any]:
    return np.concatenate([empty, *(block[name] for block in blocks)])
