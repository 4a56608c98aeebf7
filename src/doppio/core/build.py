"""From documents and a recipe to an opened pipeline: what is built already is reused by its fingerprint."""

import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact, ArtifactStore
from doppio.core.chunking.table import ChunkTable, ChunkTexts, cut
from doppio.core.dense import exact
from doppio.core.errors import ModelFolderError
from doppio.core.fingerprint import fingerprint
from doppio.core.models import token_vectors
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import LateInteraction
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe import Recipe
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
        """The chunk table of a recipe, cut now or opened."""
        key = self.keys(corpus, recipe).chunks
        artifact = self.store.open_or_none(CHUNKS, key)
        if artifact is None:
            tokens = self.models.encoder(_encoder_name(recipe))
            table = cut(documents, recipe.chunking, tokens, self.progress)
            artifact = self.store.write(CHUNKS, key, table.columns(), {"chunks": len(table)})
        return open_chunks(artifact)

    def table(self, corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe that has been built.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If it has not been built, or is not what was written.
        """
        return open_chunks(self.store.open(CHUNKS, self.keys(corpus, recipe).chunks))

    def indexes(self, corpus: str, recipe: Recipe, table: ChunkTable, texts: ChunkTexts) -> None:
        """Build the indexes that are missing or damaged."""
        keys = self.keys(corpus, recipe)
        for branch in recipe.branches:
            if branch["kind"] == "bm25" and not self._sound(postings.KIND, keys.postings[branch["id"]]):
                built = postings.build_postings(
                    _in_blocks(texts, len(table)), len(table), Analysis(**branch["analysis"]), self.progress
                )
                meta = {"terms": len(built.vocabulary), "postings": len(built.chunks)}
                self.store.write(postings.KIND, keys.postings[branch["id"]], built.arrays(), meta)
        wanted = [(exact.KIND, key) for key in keys.vectors.values()]
        wanted += [(token_vectors.KIND, keys.tokens)] if keys.tokens else []
        lacking = [(kind, key) for kind, key in dict.fromkeys(wanted) if not self._sound(kind, key)]
        if lacking:
            self._encode(self.models.encoder(_encoder_name(recipe)), table, texts, lacking)

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

    def _encode(self, encoder: Encoder, table: ChunkTable, texts: ChunkTexts, lacking: list[tuple[str, str]]) -> None:
        """Encode all chunks once for every artifact that wants it; blocks that were done before are kept."""
        with_tokens = any(kind == token_vectors.KIND for kind, _ in lacking)
        # Named by what was encoded, not by what is still lacking: a kill between two writes must find them again.
        plain = self.store.root / f".parts-{lacking[0][1]}"
        parts = plain.with_name(f"{plain.name}-tokens") if with_tokens else plain
        parts.mkdir(parents=True, exist_ok=True)
        self.progress.start("encode chunks", len(table), "chunks")
        blocks: list[dict[str, NDArray[Any]]] = []
        for first in range(0, len(table), BLOCK):
            chunks = range(first, min(first + BLOCK, len(table)))
            path = parts / f"{first:09d}.npz"
            if not path.exists():
                draft = path.with_suffix(".draft.npz")
                np.savez(draft, allow_pickle=False, **_encode_block(encoder, texts.texts(chunks), with_tokens))
                draft.rename(path)
            with np.load(path) as block:
                blocks.append(dict(block))
            self.progress.advance(len(chunks))
        for kind, artifact_key in lacking:
            if kind == exact.KIND:
                vectors = _joined(blocks, "vectors", np.zeros((0, encoder.dimension), np.float32))
                meta = {"dimension": encoder.dimension, "encoder": encoder.folder.name}
                self.store.write(kind, artifact_key, {"vectors": vectors}, meta)
            else:
                self.store.write(kind, artifact_key, _token_arrays(encoder, blocks), {})
        for done in (parts, plain):
            shutil.rmtree(done, ignore_errors=True)


def open_chunks(artifact: Artifact) -> ChunkTable:
    """The chunk table of an opened artifact, mapped from disk."""
    return ChunkTable(**artifact.arrays)


def _encoder_name(recipe: Recipe) -> str:
    return next((b["encoder"] for b in recipe.branches if b["kind"] == "vector"), DEFAULT_ENCODER)


def _in_blocks(texts: ChunkTexts, count: int) -> Any:
    for first in range(0, count, 4096):
        yield from texts.texts(range(first, min(first + 4096, count)))


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


def _token_arrays(encoder: Encoder, blocks: list[dict[str, NDArray[Any]]]) -> dict[str, NDArray[Any]]:
    lengths = _joined(blocks, "lengths", np.zeros(0, np.int64))
    ids = _joined(blocks, "ids", np.zeros(0, np.int32)).astype(np.int64)
    owners = np.repeat(np.arange(len(lengths)), lengths)
    pairs = np.unique(ids * max(len(lengths), 1) + owners)
    held = np.bincount(pairs // max(len(lengths), 1), minlength=encoder.vocabulary_size)
    return {
        "begins": np.concatenate([[0], np.cumsum(lengths)]).astype(np.int64),
        "codes": _joined(blocks, "codes", np.zeros((0, encoder.dimension), np.int8)),
        "scales": _joined(blocks, "scales", np.zeros(0, np.float32)),
        "frequency": held.astype(np.int32),
    }


def _joined(blocks: list[dict[str, NDArray[Any]]], name: str, empty: NDArray[Any]) -> NDArray[Any]:
    return np.concatenate([empty, *(block[name] for block in blocks)])
