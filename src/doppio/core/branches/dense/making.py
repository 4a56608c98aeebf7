"""Vectors, the structures over them, and the vectors of all tokens as pieces of an index."""

import itertools
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from doppio.core.branches.dense.encoding import Made, Wanted, encode_segment, made_of, mapped
from doppio.core.branches.dense.index import VECTORS
from doppio.core.branches.dense.metric import COSINE, EUCLIDEAN, Vectors, prepared
from doppio.core.branches.dense.structure import KIND as STRUCTURE
from doppio.core.branches.dense.structure import build_structure, built_settings, grown, open_structure
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.errors import ModelFolderError
from doppio.core.fingerprint import fingerprint
from doppio.core.kernels.rows import ranges
from doppio.core.kinds import Settings
from doppio.core.models import token_vectors
from doppio.core.models.encoder import Encoder, TextEncoder
from doppio.core.models.registry import TRAINED, TRAINED_TITLE, Models
from doppio.core.models.trained import KIND as TRAINED_KIND
from doppio.core.models.trained import Counted, TrainedEncoder, counted, train
from doppio.core.progress import Silent
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.columns import Columns
from doppio.core.store.crew import Hands, Place
from doppio.core.store.pieces import (
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Merging,
    Needs,
    Piece,
    Planning,
    Source,
    Whole,
)
from doppio.core.text.analysis import VERSION

ROWS = 1 << 13
# Texts whose terms are counted at a time, for the encoder that is trained.
COUNTED_AT_ONCE = 4096
ENCODE = "encode chunks"
TOKENS = token_vectors.KIND
MEMORY = 64e6


class VectorsMaker:
    """Encodes every segment that lacks vectors; vectors of all tokens come out of the same pass."""

    kinds: Mapping[str, str] = {VECTORS: ENCODE, TOKENS: "keep the vectors of all tokens"}
    wholes: Sequence[str] = (TRAINED_KIND,)
    order = 2

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        work: list[tuple[int, TextEncoder, Wanted]] = []
        for place in dict.fromkeys(place for place, _ in lacking):
            pieces = [piece for at, piece in lacking if at == place]
            work += [(place, encoder, wanted) for encoder, wanted in _wanted(building, place, pieces)]
        lengths = [np.minimum(building.tokens(place), encoder.max_tokens) for place, encoder, _ in work]
        building.progress.start(ENCODE, sum(int(own.sum()) for own in lengths), "tokens")
        for (place, encoder, wanted), own in zip(work, lengths, strict=True):
            numbers = building.numbers(place)

            def read(rows: Sequence[int], numbers: Any = numbers) -> list[str]:
                return building.texts.indexed(numbers[list(rows)].tolist())

            made = partial(_made_there, building, encoder, wanted.unit) if _goes_out(building, encoder) else None
            encode_segment(building.store, encoder, read, own, wanted, building.progress, made)

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        if kind == TOKENS:
            return _merged_tokens(sources, count, merging.scratch), {}
        dimension = sources[0].artifact.arrays["vectors"].shape[1]
        draft = merging.scratch / "vectors.npy"
        squares = np.zeros(count, np.float32)
        rows = mapped(draft, "w+", np.float32, (max(count, 1), dimension))
        for source in sources:
            old, old_squares = source.artifact.arrays["vectors"], source.artifact.arrays["squares"]
            there = np.flatnonzero(source.now >= 0)
            for first in range(0, len(there), ROWS):
                part = there[first : first + ROWS]
                rows[source.now[part]] = old[part]
                squares[source.now[part]] = old_squares[part]
        rows.flush()
        del rows
        array: Any = draft if count else np.empty((0, dimension), np.float32)
        return {"vectors": array, "squares": squares}, {"dimension": dimension}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        dimension, rate = costing.counter.dimension, costing.rate(ENCODE, 0.0)
        if piece.kind == VECTORS:
            return Estimate(tokens / rate, chunks * (4.0 * dimension + 4), MEMORY)
        return Estimate(tokens / rate, tokens * (dimension + 8.0) + 4 * costing.counter.vocabulary_size, MEMORY)


class StructureMaker:
    """Builds the structures over vectors that are there."""

    kinds: Mapping[str, str] = {STRUCTURE: "build the structure over the vectors"}
    wholes: Sequence[str] = ()
    order = 3

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        if not building.hands.alone and building.hands.shared:
            self._make_elsewhere(lacking, building)
            return
        for place, piece in lacking:
            over = fingerprint(building.segment(place), piece.facts["over"])
            vectors = _vectors_of(building.store, over, piece.facts)
            arrays = build_structure(vectors, piece.facts["settings"], building.progress)
            building.write(piece, place, arrays, vectors=over)

    def _make_elsewhere(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        """The same where others see the artifacts: each structure is a task, and is written where it is built."""
        sizes = [building.count(place) for place, _ in lacking]
        building.progress.start("build structures", sum(sizes), "chunks")
        tasks = []
        for place, piece in lacking:
            segment = building.segment(place)
            over = fingerprint(segment, piece.facts["over"])
            tasks.append((piece.key(segment), over, piece.meta(segment, building.count(place)) | {"vectors": over}))
        for size, _ in zip(sizes, building.hands.each(structure_there, tasks), strict=True):
            building.progress.advance(size)

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        over, kind_of_it = fingerprint(meta["segment"], meta["over"]), STRUCTURES.get(meta["settings"]["kind"])
        if not merging.store.has(VECTORS, over) or meta["settings"].get("edition", 1) != kind_of_it.edition:
            return None
        vectors = _vectors_of(merging.store, over, meta)
        largest = max(sources, key=lambda source: int((source.now >= 0).sum()))
        before = open_structure(meta["settings"]["kind"], largest.artifact.arrays)
        arrays = grown(before, largest.now, vectors, merging.progress)
        return arrays or build_structure(vectors, meta["settings"], merging.progress), {"vectors": over}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        settings = piece.facts["settings"]
        size = chunks * STRUCTURES.get(settings["kind"]).bytes_each(settings, costing.counter.dimension)
        return Estimate(chunks / costing.rate(f"build {settings['kind']}", 3000.0), size, size)


VECTORS_MAKER, STRUCTURE_MAKER = VectorsMaker(), StructureMaker()


def structure_there(place: Place, key: str, over: str, meta: Facts) -> None:
    """Build a structure over vectors of the store and write it there; one that was written meanwhile stays."""
    if not place.store.has(STRUCTURE, key):
        arrays = build_structure(_vectors_of(place.store, over, meta), meta["settings"], Silent())
        place.store.write(STRUCTURE, key, arrays, meta)


def _vectors_of(store: ArtifactStore, key: str, facts: Facts) -> Vectors:
    """Vectors of a segment as a structure of these facts compares them."""
    opened = store.open(VECTORS, key)
    return prepared(opened.arrays["vectors"], opened.arrays["squares"], facts["metric"])


def vector_needs(branch: Settings, planning: Planning) -> Needs:
    """Vectors of a dense branch, the structure over them, and the encoder that is trained on the chunks if it
    wants that one."""
    wholes: tuple[Whole, ...] = ()
    if branch["encoder"] == TRAINED:
        digest, title, unit = trained_digest(planning.chunks), TRAINED_TITLE, True
        wholes = (Whole(TRAINED_KIND, digest, _trained),)
    else:
        encoder = planning.models.encoder(branch["encoder"])
        digest, title = encoder.digest, encoder.title
        unit = branch["metric"] == COSINE or encoder.unit
    facts: Facts = {"encoder": branch["encoder"], "title": title, "unit": unit}
    made = Piece(VECTORS, fingerprint(digest, unit), facts, VECTORS_MAKER)
    if not STRUCTURES.get(branch["structure"]["kind"]).built:
        return Needs({VECTORS: made}, wholes)
    settings = built_settings(branch["structure"])
    # Structures are the same for cosine and inner product: both go by the product.
    metric = branch["metric"] if branch["metric"] == EUCLIDEAN else COSINE
    over = {"settings": settings, "metric": metric, "over": made.of}
    structure = Piece(STRUCTURE, fingerprint(made.of, settings, metric), over, STRUCTURE_MAKER)
    return Needs({VECTORS: made, STRUCTURE: structure}, wholes)


def _trained(texts: Iterator[str], hands: Hands) -> Arrays:
    hands.progress.start("train the corpus's encoder", 1, "models")
    blocks = iter(lambda: (list(itertools.islice(texts, COUNTED_AT_ONCE)),), ([],))
    arrays = train(hands.each(count_there, blocks))
    hands.progress.advance(1)
    return arrays


def count_there(place: Place, texts: list[str]) -> Counted:
    """The terms of some texts."""
    return counted(texts)


def tokens_piece(counter: Encoder) -> Piece:
    """The vectors of all tokens, by the encoder that counts them."""
    # Those of an encoder that puts something before passages had the tokens of that among them once.
    made = ("tokens", "bare") if counter.folder.passage else ("tokens",)
    return Piece(TOKENS, fingerprint(counter.digest, *made), {"encoder": counter.name}, VECTORS_MAKER)


def trained_digest(chunks: str) -> str:
    """The digest of the encoder that is trained on the chunks of a list."""
    return fingerprint(chunks, TRAINED, VERSION)


def encoder_over(name: str, models: Models, store: ArtifactStore, chunks: str) -> TextEncoder:
    """An encoder by name; the one that is trained on the chunks comes from its artifact."""
    if name != TRAINED:
        return models.encoder(name)
    digest = trained_digest(chunks)
    return TrainedEncoder(store.open(TRAINED_KIND, digest).arrays, digest)


def _wanted(building: Building, place: int, pieces: Sequence[Piece]) -> list[tuple[TextEncoder, Wanted]]:
    """Passes over a segment: one for each encoder, and the tokens' in that of the same encoder."""
    segment, counter = building.segment(place), building.counter
    found: list[tuple[TextEncoder, Wanted]] = []
    tokens = next((piece for piece in pieces if piece.kind == TOKENS), None)
    named = (tokens.key(segment), tokens.meta(segment, building.count(place))) if tokens else None
    for piece in pieces:
        if piece.kind == VECTORS:
            encoder = encoder_over(piece.facts["encoder"], building.models, building.store, building.chunks)
            same = named if encoder.digest == counter.digest else None
            vectors = piece.key(segment), piece.meta(segment, building.count(place))
            name = fingerprint(segment, encoder.digest)
            found.append((encoder, Wanted(name, vectors, same, piece.facts["unit"])))
            named = None if same else named
    if named:
        found.append((counter, Wanted(fingerprint(segment, counter.digest), None, named)))
    return found


def _goes_out(building: Building, encoder: TextEncoder) -> bool:
    """Whether others can encode: those that are asked at an endpoint are asked from here, where their keys are."""
    if building.hands.alone:
        return False
    return building.hands.shared if isinstance(encoder, TrainedEncoder) else isinstance(encoder, Encoder)


def _made_there(
    building: Building, encoder: TextEncoder, unit: bool, batches: Iterator[list[str]], with_tokens: bool
) -> Iterator[list[Made]]:
    """Batches encoded by the crew."""
    tasks = ((encoder.name, encoder.digest, building.chunks, batch, with_tokens, unit) for batch in batches)
    return building.hands.each(encode_there, tasks)


def encode_there(
    place: Place, name: str, digest: str, chunks: str, batch: list[str], with_tokens: bool, unit: bool
) -> list[Made]:
    """Encode a batch by an encoder of this place.

    Raises
    ------
    ModelFolderError
        If there is none of that name, or it is another one.
    """
    encoder = (
        place.once(("encoder", digest), lambda: encoder_over(name, place.models, place.store, chunks))
        if name == TRAINED
        else place.models.encoder(name)
    )
    if encoder.digest != digest:
        raise ModelFolderError(
            f"{place.models.root / name}: is another encoder than the one that was asked for; copy the folder from "
            "the machine that builds"
        )
    return made_of(encoder, batch, with_tokens, unit)


def _merged_tokens(sources: Sequence[Source], count: int, scratch: Path) -> Arrays:
    spans = np.zeros((count, 2), np.int64)
    names = ("codes", "scales", "ids")
    columns = Columns(scratch)
    at = 0
    for source in sources:
        arrays = source.artifact.arrays
        there = np.flatnonzero(source.now >= 0)
        begins, lengths = arrays["spans"][there].T
        for first in range(0, len(there), ROWS):
            places = ranges(begins[first : first + ROWS], lengths[first : first + ROWS])
            for name in names:
                columns.add(name, arrays[name][places])
        spans[source.now[there], 0] = at + np.cumsum(lengths) - lengths
        spans[source.now[there], 1] = lengths
        at += int(lengths.sum())
    joined = columns.taken()
    vocabulary = len(sources[0].artifact.arrays["frequency"])
    return {"spans": spans, **joined, "frequency": token_vectors.frequencies(spans, joined["ids"], vocabulary)}
