"""From documents and a recipe to an opened pipeline: what is built already is reused, segment by segment."""

import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.artifacts import Artifact, ArtifactStore
from doppio.core.chunking.table import ChunkTable, ChunkTexts, cut
from doppio.core.compaction import KINDS, Source, merge
from doppio.core.dense.index import VECTORS, DenseIndex
from doppio.core.dense.index import Segment as DenseSegment
from doppio.core.dense.metric import COSINE, EUCLIDEAN, prepared
from doppio.core.dense.structure import KIND as STRUCTURE
from doppio.core.dense.structure import build_structure, built_settings, open_structure
from doppio.core.dense.structures.exact import EXACT
from doppio.core.encoding import Wanted, encode_segment
from doppio.core.errors import ArtifactDamaged
from doppio.core.fingerprint import fingerprint
from doppio.core.models import token_vectors
from doppio.core.models.encoder import Encoder, TextEncoder
from doppio.core.models.joint import LATE_INTERACTION, JointScorer, LateInteraction
from doppio.core.models.registry import TRAINED, TRAINED_TITLE, Models
from doppio.core.models.trained import KIND as TRAINED_KIND
from doppio.core.models.trained import TrainedEncoder, train
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe import DEFAULT_ENCODER, Recipe
from doppio.core.segments import (
    GONE,
    Lists,
    Numbering,
    Part,
    ReadingList,
    SegmentChunks,
    chunk_table,
    digest_column,
    kept_parts,
    number_chunks,
    segment_key,
    to_merge,
)
from doppio.core.sparse.building import build_postings
from doppio.core.sparse.fields import BODY, FIELDS, FieldedIndex
from doppio.core.sparse.index import Segment as SparseSegment
from doppio.core.sparse.index import SparseIndex
from doppio.core.sparse.postings import KIND as POSTINGS
from doppio.core.sparse.postings import Postings
from doppio.core.text.analysis import VERSION as ANALYSIS
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import Document

SEGMENT = "segment"
INDEXED = "indexed"
TEXTS_AT_ONCE = 4096
RETRIES = 2
# Builds of the first kind could read a document's text that was not the one that had been cut, and nothing in what
# they wrote tells it: they are made again. Those of the second cut inside of signs and after abbreviations.
BUILD = 3
T = TypeVar("T")


@dataclass(frozen=True)
class Piece:
    """One index of a recipe: for every segment there is an artifact of this kind, keyed by the segment and `of`.

    of : str, digest of all that the index depends on besides its chunks
    facts : what its artifacts say of themselves
    """

    kind: str
    of: str
    facts: dict[str, Any]

    def key(self, segment: str) -> str:
        return fingerprint(segment, self.of)


@dataclass(frozen=True)
class Keys:
    """What a recipe needs over a corpus: the key of its reading list, and its indexes by branch id.

    family : str, how the chunks are cut
    postings : for each sparse branch its pieces by field
    """

    chunks: str
    family: str
    postings: dict[str, dict[str, Piece]]
    vectors: dict[str, Piece]
    structures: dict[str, Piece]
    tokens: Piece | None

    @property
    def trained(self) -> bool:
        """Whether a branch wants the encoder that is trained on the corpus."""
        return any(piece.facts["encoder"] == TRAINED for piece in self.vectors.values())

    def pieces(self) -> list[Piece]:
        """All indexes, none twice; vectors before the structures over them."""
        found = [piece for fields in self.postings.values() for piece in fields.values()]
        found += [*self.vectors.values(), *self.structures.values(), *([self.tokens] if self.tokens else [])]
        return list({(piece.kind, piece.of): piece for piece in found}.values())


@dataclass
class Opened:
    """A reading list with its segments opened and its chunks numbered."""

    key: str
    reading: ReadingList
    segments: list[SegmentChunks]
    numbering: Numbering

    def table(self) -> ChunkTable:
        return chunk_table(self.reading, self.segments, self.numbering)

    def numbers(self, place: int) -> NDArray[np.int64]:
        """The number of every chunk of a segment; -1 where it is gone."""
        now = self.numbering.now[place]
        return now if now.size else np.arange(len(self.segments[place].table), dtype=np.int64)


@dataclass(frozen=True)
class Held:
    """What is complete of a corpus that is not built: `documents` are the positions in it of those that are in."""

    keys: Keys
    opened: Opened
    documents: list[int]


@dataclass
class Builder:
    """Builds what a recipe needs into a store, and opens it."""

    store: ArtifactStore
    models: Models
    progress: Progress = field(default_factory=Silent)

    def __post_init__(self) -> None:
        self.lists = Lists(self.store.root)

    def keys(self, corpus: str, recipe: Recipe) -> Keys:
        """What the recipe needs over the corpus with that fingerprint."""
        return self._keys(fingerprint(corpus, self.family(recipe)), recipe)

    def family(self, recipe: Recipe) -> str:
        """The digest of how a recipe cuts."""
        return fingerprint(BUILD, recipe.chunking, self.counter(recipe).digest)

    def _keys(self, chunks: str, recipe: Recipe) -> Keys:
        """What the recipe needs over the corpus of a list."""
        counter, family = self.counter(recipe), self.family(recipe)
        postings: dict[str, dict[str, Piece]] = {}
        vectors: dict[str, Piece] = {}
        structures: dict[str, Piece] = {}
        for branch in recipe.branches:
            if branch["kind"] == "bm25":
                postings[branch["id"]] = {
                    name: Piece(
                        POSTINGS, fingerprint(ANALYSIS, name, analysis), {"field": name, "analysis": analysis}
                    )
                    for name, analysis in analyses(branch).items()
                }
                continue
            if branch["encoder"] == TRAINED:
                digest, title, unit = trained_digest(chunks), TRAINED_TITLE, True
            else:
                encoder = self.models.encoder(branch["encoder"])
                digest, title = encoder.digest, encoder.title
                unit = branch["metric"] == COSINE or encoder.unit
            facts: dict[str, Any] = {"encoder": branch["encoder"], "title": title, "unit": unit}
            made = Piece(VECTORS, fingerprint(digest, unit), facts)
            vectors[branch["id"]] = made
            if branch["structure"]["kind"] != EXACT:
                settings = built_settings(branch["structure"])
                # Structures are the same for cosine and inner product: both go by the product.
                metric = branch["metric"] if branch["metric"] == EUCLIDEAN else COSINE
                facts = {"settings": settings, "metric": metric, "over": made.of}
                structures[branch["id"]] = Piece(STRUCTURE, fingerprint(made.of, settings, metric), facts)
        tokens = None
        if recipe.rerank and recipe.rerank["scorer"] == LATE_INTERACTION:
            tokens = Piece(token_vectors.KIND, fingerprint(counter.digest, "tokens"), {"encoder": counter.name})
        return Keys(chunks, family, postings, vectors, structures, tokens)

    def counter(self, recipe: Recipe) -> Encoder:
        """The encoder that counts tokens, and that late interaction reads with."""
        return self.models.local(encoder_name(recipe))

    def encoder(self, name: str, chunks: str) -> TextEncoder:
        """An encoder by name; the one that is trained on the chunks comes from its artifact."""
        if name != TRAINED:
            return self.models.encoder(name)
        digest = trained_digest(chunks)
        return TrainedEncoder(self.store.open(TRAINED_KIND, digest).arrays, digest)

    def _train(self, opened: Opened, keys: Keys, texts: ChunkTexts) -> None:
        """Train the corpus's own encoder where a branch wants it and it is not there."""
        digest = trained_digest(keys.chunks)
        if keys.trained and self.store.open_or_none(TRAINED_KIND, digest) is None:
            everything = np.arange(opened.numbering.count)
            self.progress.start("train the corpus's encoder", 1, "models")
            self.store.write(TRAINED_KIND, digest, train(_in_parts(texts.indexed, everything)), {"list": keys.chunks})
            self.progress.advance(1)

    def missing(self, keys: Keys) -> list[tuple[str, str]]:
        """Kind and key of what has not been built."""
        try:
            reading = self.lists.read(keys.chunks)
        except (FileNotFoundError, ArtifactDamaged):
            return [("list", keys.chunks)]
        wanted = [(SEGMENT, part.key) for part in reading.parts]
        wanted += [(piece.kind, piece.key(part.key)) for piece in keys.pieces() for part in reading.parts]
        if keys.trained:
            wanted.append((TRAINED_KIND, trained_digest(keys.chunks)))
        return [(kind, key) for kind, key in wanted if not self.store.has(kind, key)]

    def chunks(self, documents: Sequence[Document], corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe, cut now or opened; documents that were cut before are not cut again."""
        keys = self.keys(corpus, recipe)
        with self.store.in_use(), self.store.building(keys.family):
            opened = self._opened(keys.chunks)
            if opened is None:
                self._cut(documents, keys, recipe)
                opened = self.opened(keys.chunks)
        return opened.table()

    def _cut(self, documents: Sequence[Document], keys: Keys, recipe: Recipe) -> None:
        """Write the list of a corpus, and a segment with those of its documents that no segment holds."""
        counter = self.counter(recipe)
        digests = [document.digest for document in documents]
        parts, fresh = kept_parts(self.segments_before(keys.family), digests)
        if fresh or not parts:
            own = [digests[place] for place in fresh]
            key = segment_key(keys.family, own)
            table = cut([documents[place] for place in fresh], recipe.chunking, counter, self.progress, counter)
            self._write_segment(key, keys.family, table, digest_column(own))
            parts.append(Part(key, np.array(fresh, np.int64)))
        self.lists.write(keys.chunks, ReadingList(keys.family, tuple(parts)))

    def segments_before(self, family: str) -> list[tuple[str, NDArray[np.uint8]]]:
        """Segments of the youngest sound list of a family, with the digests of their documents."""
        for _, reading in self.lists.youngest_first():
            if reading.family == family:
                found = [(part.key, self.store.open_or_none(SEGMENT, part.key)) for part in reading.parts]
                return [(key, artifact.arrays["digests"]) for key, artifact in found if artifact]
        return []

    def _write_segment(self, key: str, family: str, table: ChunkTable, digests: NDArray[np.uint8]) -> None:
        meta = {"chunks": len(table), "documents": len(digests), "family": family, "segment": key}
        self.store.write(SEGMENT, key, {**table.columns(), "digests": digests}, meta)

    def opened(self, key: str) -> Opened:
        """A reading list, opened.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If it has not been built, or is not what was written.
        """
        return self._retried(lambda: self._opened_once(key))

    def _retried(self, work: Callable[[], T]) -> T:
        """Do it again where the list was replaced, and its segments deleted, between reading and opening."""
        for _ in range(RETRIES):
            try:
                return work()
            except FileNotFoundError:
                time.sleep(0.02)
        return work()

    def _opened_once(self, key: str) -> Opened:
        reading = self.lists.read(key)
        segments = [SegmentChunks.opened(self.store.open(SEGMENT, part.key).arrays) for part in reading.parts]
        return Opened(key, reading, segments, number_chunks(reading, segments))

    def _opened(self, key: str) -> Opened | None:
        """The same; None where it is absent, and where it is damaged, what is wrong is taken away."""
        try:
            reading = self.lists.read(key)
        except FileNotFoundError:
            return None
        except ArtifactDamaged:
            self.lists.remove(key)
            return None
        if any(self.store.open_or_none(SEGMENT, part.key) is None for part in reading.parts):
            return None
        return self.opened(key)

    def table(self, corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe that has been built; see `opened` for errors."""
        return self.opened(self.keys(corpus, recipe).chunks).table()

    def indexes(self, corpus: str, recipe: Recipe, texts: ChunkTexts) -> None:
        """Build what is missing or damaged, segment by segment.

        Notes
        -----
        A segment that has lost documents and lacks an index is first written anew without them, since their texts
        are gone.
        """
        keys = self.keys(corpus, recipe)
        with self.store.in_use(), self.store.building(keys.family):
            opened = self.opened(keys.chunks)
            lacking = self._lacking(opened, keys)
            worn = [place for place in lacking if (opened.reading.parts[place].documents < 0).any()]
            if worn:
                for key in [opened.reading.parts[place].key for place in worn]:
                    self._merge(opened, [[part.key for part in opened.reading.parts].index(key)])
                    opened = self.opened(keys.chunks)
                lacking = self._lacking(opened, keys)
            self._train(opened, keys, texts)
            self._build(opened, lacking, keys, recipe, texts)

    def _lacking(self, opened: Opened, keys: Keys) -> dict[int, list[Piece]]:
        """Indexes that segments lack, by the segment's place; damaged ones are taken away."""
        found = {
            place: [p for p in keys.pieces() if self.store.open_or_none(p.kind, p.key(part.key)) is None]
            for place, part in enumerate(opened.reading.parts)
        }
        return {place: pieces for place, pieces in found.items() if pieces}

    def _build(
        self, opened: Opened, lacking: dict[int, list[Piece]], keys: Keys, recipe: Recipe, texts: ChunkTexts
    ) -> None:
        for place, pieces in lacking.items():
            for piece in pieces:
                if piece.kind == POSTINGS:
                    self._index_terms(opened, place, piece, texts)
        self._encode(opened, lacking, keys, recipe, texts)
        for place, pieces in lacking.items():
            segment = opened.reading.parts[place].key
            for piece in pieces:
                if piece.kind == STRUCTURE:
                    over = fingerprint(segment, piece.facts["over"])
                    artifact = self.store.open(VECTORS, over)
                    vectors = prepared(artifact.arrays["vectors"], artifact.arrays["squares"], piece.facts["metric"])
                    arrays = build_structure(vectors, piece.facts["settings"], self.progress)
                    meta = self._meta(piece, segment) | {"vectors": over, "chunks": len(vectors)}
                    self.store.write(STRUCTURE, piece.key(segment), arrays, meta)

    def _meta(self, piece: Piece, segment: str) -> dict[str, Any]:
        return {**piece.facts, "segment": segment, "of": piece.of}

    def _index_terms(self, opened: Opened, place: int, piece: Piece, texts: ChunkTexts) -> None:
        segment, numbers = opened.reading.parts[place].key, opened.numbers(place)
        read: dict[str, Callable[[Sequence[int]], list[str]]] = {
            INDEXED: texts.indexed, BODY: texts.texts, "title": texts.titles, "headings": texts.headings,
        }  # fmt: skip
        made = build_postings(
            _in_parts(read[piece.facts["field"]], numbers), len(numbers), Analysis.of(piece.facts["analysis"]),
            self.progress,
        )  # fmt: skip
        facts = {"terms": made.terms, "entries": int(made.held.sum()), "chunks": len(numbers)}
        self.store.write(POSTINGS, piece.key(segment), made.arrays(), self._meta(piece, segment) | facts)

    def _encode(
        self, opened: Opened, lacking: dict[int, list[Piece]], keys: Keys, recipe: Recipe, texts: ChunkTexts
    ) -> None:
        """Encode every segment that lacks vectors; token vectors come out of the same pass."""
        counter = self.counter(recipe)
        work: list[tuple[int, TextEncoder, Wanted]] = []
        for place, pieces in lacking.items():
            segment = opened.reading.parts[place].key
            chunks = {"chunks": len(opened.segments[place].table)}
            tokens = next((piece for piece in pieces if piece.kind == token_vectors.KIND), None)
            named = (tokens.key(segment), self._meta(tokens, segment) | chunks) if tokens else None
            for piece in pieces:
                if piece.kind == VECTORS:
                    encoder = self.encoder(piece.facts["encoder"], keys.chunks)
                    same = named if encoder.digest == counter.digest else None
                    vectors = piece.key(segment), self._meta(piece, segment) | chunks
                    name = fingerprint(segment, encoder.digest)
                    work.append((place, encoder, Wanted(name, vectors, same, piece.facts["unit"])))
                    named = None if same else named
            if named:
                work.append((place, counter, Wanted(fingerprint(segment, counter.digest), None, named)))
        if not work:
            return
        limits = [encoder.max_tokens for _, encoder, _ in work]
        lengths = [
            np.minimum(opened.segments[place].table.indexed_tokens, limit)
            for (place, _, _), limit in zip(work, limits, strict=True)
        ]
        self.progress.start("encode chunks", sum(int(own.sum()) for own in lengths), "tokens")
        for (place, encoder, wanted), own in zip(work, lengths, strict=True):
            numbers = opened.numbers(place)

            def read(rows: Sequence[int], numbers: NDArray[np.int64] = numbers) -> list[str]:
                return texts.indexed(numbers[list(rows)].tolist())

            encode_segment(self.store, encoder, read, own, wanted, self.progress)

    def open(self, corpus: str, recipe: Recipe, texts: ChunkTexts) -> Pipeline:
        """Open a pipeline whose artifacts are all there.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If an artifact has not been built, or is not what was written.
        """
        return self.open_keys(self.keys(corpus, recipe), recipe, lambda _: texts)

    def open_keys(self, keys: Keys, recipe: Recipe, texts: Callable[[ChunkTable], ChunkTexts]) -> Pipeline:
        """The same from the keys, which the caller has; the texts of chunks come from the table that is read here."""

        def once() -> Pipeline:
            opened = self._opened_once(keys.chunks)
            table = opened.table()
            return self._over_opened(opened, table, keys, recipe, texts(table))

        return self._retried(once)

    def held(self, digests: Sequence[str], recipe: Recipe) -> "Held | None":
        """What is complete for a corpus that is not built: its documents that stand in whole segments.

        Parameters
        ----------
        digests : sequence of str
            Of the corpus's documents, in its order.

        Returns
        -------
        Held or None
            None where nothing can answer yet. Of lists of these chunks the youngest is taken that has a whole
            segment; documents that have changed or gone since do not answer from it, and statistics are those of an
            index of what is left.
        """
        family = self.family(recipe)
        for key, reading in self.lists.youngest_first():
            if reading.family != family:
                continue
            keys = self._keys(key, recipe)
            if keys.trained and not self.store.has(TRAINED_KIND, trained_digest(key)):
                continue
            whole = [part.key for part in reading.parts if self._is_whole(part.key, keys)]
            segments = {key: SegmentChunks.opened(self.store.open(SEGMENT, key).arrays) for key in whole}
            parts, fresh = kept_parts([(key, segments[key].digests) for key in whole], digests)
            if not parts:
                continue
            missing = set(fresh)
            there = [position for position in range(len(digests)) if position not in missing]
            place = np.full(len(digests) + 1, GONE, np.int64)
            place[there] = np.arange(len(there))
            # Those that are gone are at -1, the last of these.
            within = ReadingList(family, tuple(Part(part.key, place[part.documents]) for part in parts))
            used = [segments[part.key] for part in parts]
            return Held(keys, Opened(key, within, used, number_chunks(within, used)), there)
        return None

    def _is_whole(self, segment: str, keys: Keys) -> bool:
        wanted = [(SEGMENT, segment), *((piece.kind, piece.key(segment)) for piece in keys.pieces())]
        return all(self.store.has(kind, key) for kind, key in wanted)

    def open_held(self, held: "Held", recipe: Recipe, texts: ChunkTexts) -> Pipeline:
        """A pipeline over what is complete; see `open` for errors."""
        return self._over_opened(held.opened, held.opened.table(), held.keys, recipe, texts)

    def _over_opened(
        self, opened: Opened, table: ChunkTable, keys: Keys, recipe: Recipe, texts: ChunkTexts
    ) -> Pipeline:
        scorer: JointScorer | None = None
        if recipe.rerank and not keys.tokens:
            scorer = self.models.scorer(recipe.rerank["scorer"])
        if keys.tokens:
            stored = [
                token_vectors.Segment.opened(artifact.arrays, now)
                for artifact, now in self._over(opened, keys.tokens)
            ]
            scorer = LateInteraction(self.counter(recipe), token_vectors.TokenVectors(stored))
        sparse: dict[str, SparseIndex | FieldedIndex] = {}
        for identity, pieces in keys.postings.items():
            fields = {name: self._sparse(opened, piece) for name, piece in pieces.items()}
            sparse[identity] = fields[INDEXED] if INDEXED in fields else FieldedIndex(fields)
        metrics = {branch["id"]: branch.get("metric", COSINE) for branch in recipe.branches}
        return Pipeline(
            recipe,
            table,
            texts,
            sparse,
            {b: self._dense(opened, p, keys.structures.get(b), metrics[b]) for b, p in keys.vectors.items()},
            {b["id"]: self.encoder(b["encoder"], keys.chunks) for b in recipe.branches if b["kind"] == "vector"},
            scorer,
        )

    def _over(self, opened: Opened, piece: Piece) -> Iterator[tuple[Artifact, NDArray[np.int64]]]:
        """The artifacts of an index, and the numbers of their chunks."""
        for part, now in zip(opened.reading.parts, opened.numbering.now, strict=True):
            yield self.store.open(piece.kind, piece.key(part.key)), now

    def _sparse(self, opened: Opened, piece: Piece) -> SparseIndex:
        return SparseIndex(
            [SparseSegment(Postings.opened(artifact.arrays), now) for artifact, now in self._over(opened, piece)]
        )

    def _dense(self, opened: Opened, piece: Piece, over: Piece | None, metric: str) -> DenseIndex:
        structures = (
            [open_structure(over.facts["settings"]["kind"], a.arrays) for a, _ in self._over(opened, over)]
            if over
            else [None] * len(opened.segments)
        )
        return DenseIndex(
            [
                DenseSegment(prepared(artifact.arrays["vectors"], artifact.arrays["squares"], metric), structure, now)
                for (artifact, now), structure in zip(self._over(opened, piece), structures, strict=True)
            ],
            metric,
        )

    def describe(self, keys: Keys) -> list[dict[str, Any]]:
        """Kind, digest, size in bytes and facts of every index of a recipe that has been built, and of its chunks."""
        reading = self.lists.read(keys.chunks)
        chunks = Piece(SEGMENT, keys.family, {})
        rows = []
        for piece in [chunks, *keys.pieces()]:
            found = [
                self.store.describe(piece.kind, part.key if piece is chunks else piece.key(part.key))
                for part in reading.parts
            ]
            summed = {
                name: sum(meta.get(name, 0) for _, meta in found)
                for name in ("chunks", "entries")
                if name in found[0][1]
            }
            named = [name for name in ("dimension", "terms") if name in found[0][1]]
            facts = {name: max(meta[name] for _, meta in found) for name in named}
            rows.append(
                {
                    "kind": piece.kind,
                    "of": piece.of,
                    "bytes": sum(size for size, _ in found),
                    "facts": {**piece.facts, **facts, **summed, "segments": len(found)},
                }
            )
        return rows

    def wants_compaction(self, key: str) -> bool:
        """Whether segments of a list should be merged."""
        try:
            opened = self.opened(key)
        except (FileNotFoundError, ArtifactDamaged):
            return False
        return bool(to_merge(opened.reading, opened.segments))

    def compact(self, key: str) -> int:
        """Merge segments of a list where there are too many, or too much of one is gone; returns how many went.

        Notes
        -----
        Every index that all of these segments have is merged too, whichever recipe it was built for. The list is
        replaced last, so a kill leaves the old one in force; who reads it goes on with the old segments.
        """
        with self.store.in_use(), self.store.building(self.lists.read(key).family):
            opened = self.opened(key)
            places = to_merge(opened.reading, opened.segments)
            if places:
                self._merge(opened, places)
        return len(places)

    def _merge(self, opened: Opened, places: list[int]) -> None:
        parts = [opened.reading.parts[place] for place in places]
        positions = np.sort(np.concatenate([part.documents[part.documents >= 0] for part in parts]))
        local = {int(position): row for row, position in enumerate(positions)}
        inner = [
            Part(part.key, np.array([local.get(int(p), GONE) for p in part.documents], np.int64)) for part in parts
        ]
        segments = [opened.segments[place] for place in places]
        within = ReadingList(opened.reading.family, tuple(inner))
        numbering = number_chunks(within, segments)
        digests = np.zeros((len(positions), segments[0].digests.shape[1]), np.uint8)
        for part, segment in zip(inner, segments, strict=True):
            digests[part.documents[part.documents >= 0]] = segment.digests[part.documents >= 0]
        key = segment_key(opened.reading.family, [row.tobytes().hex() for row in digests])
        if not self.store.has(SEGMENT, key):
            table = chunk_table(within, segments, numbering)
            self._write_segment(key, opened.reading.family, table, digests)
        now = [
            rows if rows.size else np.arange(len(segment.table), dtype=np.int64)
            for rows, segment in zip(numbering.now, segments, strict=True)
        ]
        self._carry_over([part.key for part in parts], now, key, numbering.count)
        kept = [part for place, part in enumerate(opened.reading.parts) if place not in places]
        whole = Part(key, positions)
        for name, reading in self.lists.youngest_first():
            if name == opened.key:
                self.lists.write(name, ReadingList(reading.family, (*kept, whole)))

    def _carry_over(self, segments: list[str], now: list[NDArray[np.int64]], key: str, count: int) -> None:
        """Merge all indexes that every one of the segments has."""
        for kind in KINDS:
            held: dict[str, dict[str, tuple[str, dict[str, Any]]]] = {}
            for artifact_key, meta in self.store.listed(kind):
                if meta.get("segment") in segments:
                    held.setdefault(meta["of"], {})[meta["segment"]] = artifact_key, dict(meta)
            for of, by_segment in held.items():
                target = fingerprint(key, of)
                if len(by_segment) < len(segments) or self.store.has(kind, target):
                    continue
                opened = [self.store.open_or_none(kind, by_segment[segment][0]) for segment in segments]
                if any(artifact is None for artifact in opened):
                    continue
                sources = [Source(a, rows) for a, rows in zip(opened, now, strict=True) if a is not None]
                meta = by_segment[segments[0]][1] | {"segment": key, "chunks": count}
                if kind == STRUCTURE:
                    meta["vectors"] = fingerprint(key, meta["over"])
                    if not self.store.has(VECTORS, meta["vectors"]):
                        continue
                self.progress.start(f"merge {kind}", 1, "indexes")
                merge(self.store, kind, target, sources, count, meta, self.progress)
                self.progress.advance(1)

    def forget(self, kept: set[str]) -> int:
        """Delete lists that are not named, but for the youngest of each family, and what no list is made of.

        Returns
        -------
        int
            Artifacts that were deleted; 0 where something is being built, which the next call will find.
        """
        with self.store.in_use(alone=True) as alone:
            if not alone:
                return 0
            families: set[str] = set()
            alive: set[str] = set()
            for key, reading in self.lists.youngest_first():
                if key in kept or reading.family not in families:
                    alive |= {part.key for part in reading.parts}
                    families.add(reading.family)
                else:
                    self.lists.remove(key)
            gone = 0
            for key, meta in list(self.store.listed(TRAINED_KIND)):
                if not self.lists.has(str(meta.get("list"))):
                    self.store.remove(TRAINED_KIND, key)
            for kind in (SEGMENT, *KINDS):
                for key, meta in list(self.store.listed(kind)):
                    if meta.get("segment") not in alive:
                        self.store.remove(kind, key)
                        gone += 1
            gone += self.store.clear_away(time.time())
        return gone


def encoder_name(recipe: Recipe) -> str:
    """The encoder of the recipe's first dense branch, or the shipped one."""
    return next((b["encoder"] for b in recipe.branches if b["kind"] == "vector"), DEFAULT_ENCODER)


def trained_digest(chunks: str) -> str:
    """The digest of the encoder that is trained on the chunks of a list."""
    return fingerprint(chunks, TRAINED, ANALYSIS)


def analyses(branch: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """How each field of a sparse branch is analysed; without fields there is one, the chunk as it is indexed."""
    if not branch["fields"]:
        return {INDEXED: branch["analysis"]}
    return {
        name: branch["fields"][name]["analysis"] or branch["analysis"] for name in FIELDS if name in branch["fields"]
    }


def _in_parts(read: Callable[[Sequence[int]], list[str]], numbers: NDArray[np.int64]) -> Iterator[str]:
    for first in range(0, len(numbers), TEXTS_AT_ONCE):
        yield from read(numbers[first : first + TEXTS_AT_ONCE].tolist())
