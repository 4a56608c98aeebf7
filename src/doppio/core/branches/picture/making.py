"""Pictures as pieces of an index: how each looks and what words go with it, and vectors of these words."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.carrying import carried_once
from doppio.core.branches.dense.making import encoder_over
from doppio.core.errors import DocumentError
from doppio.core.fingerprint import fingerprint
from doppio.core.formats import optical
from doppio.core.kinds import Settings
from doppio.core.models import looks
from doppio.core.models.looks import LOOK, NUMBERS, SMALL, Look, look
from doppio.core.models.sight import BATCH, Sight
from doppio.core.models.token_vectors import compress
from doppio.core.store.artifacts import Artifact
from doppio.core.store.pieces import (
    Arrays,
    Building,
    Costing,
    Estimate,
    Facts,
    Maker,
    Merging,
    Needs,
    Piece,
    Planning,
    Source,
)
from doppio.core.text.pictures import Shown

PICTURES, VECTORS = "pictures", "picture-vectors"
STEP, ENCODE = "look at pictures and read them", "encode what is said of pictures"
VERSION = 1
# Letters of a picture's digest.
DIGEST = 20
# What a vector is of: words, or the picture itself as an encoder sees it; guesses are never kept.
SAID, READ, AROUND, GUESSED, SEEN = range(5)
# Words that were read are encoded some at a time: a table says something else in every row.
WORDS_A_PART, MOST_PARTS = 48, 8
CHUNKS_AT_ONCE = 2048
TEXTS_AT_ONCE = 256
# A picture that cannot be drawn.
UNSEEN = Look(
    np.zeros(LOOK, np.float32), np.empty((0, NUMBERS), np.float32), np.empty((0, 2), np.float32),
    np.zeros((SMALL, SMALL), np.uint8), (0.0, 0.0),
)  # fmt: skip
# Pictures a hundred chunks, until some were counted.
EXPECTED = 2.0


@dataclass(frozen=True)
class Pictures:
    """The pictures of a segment.

    carried : (n, 2) int64, chunks of the segment and the pictures that they carry
    wholes : (m, LOOK) float32
    spans : (m, 2) int64, the first point of each picture and how many it has
    codes, scales : (p, 128) int8 and (p,) float32, the points
    places : (p, 2) float32, where these are
    smalls, shapes : (m, SMALL, SMALL) uint8 and (m, 2) float32, to be laid over one another
    words : (b,) uint8, what is said of each picture and what is read on it, one after another, in UTF-8
    ends : (m, 2) int64, where the said and the read words of each end
    digests : (m, 20) uint8, in letters
    """

    carried: NDArray[np.int64]
    wholes: NDArray[np.float32]
    spans: NDArray[np.int64]
    codes: NDArray[np.int8]
    scales: NDArray[np.float32]
    places: NDArray[np.float32]
    smalls: NDArray[np.uint8]
    shapes: NDArray[np.float32]
    words: NDArray[np.uint8]
    ends: NDArray[np.int64]
    digests: NDArray[np.uint8]

    @classmethod
    def opened(cls, artifact: Artifact) -> "Pictures":
        return cls(**{name: artifact.arrays[name] for name in cls.__dataclass_fields__})

    def __len__(self) -> int:
        return len(self.wholes)

    def arrays(self) -> Arrays:
        return {name: getattr(self, name) for name in self.__dataclass_fields__}

    def points(self, picture: int) -> slice:
        """Which points are those of a picture."""
        first, count = self.spans[picture].tolist()
        return slice(first, first + count)

    def said(self, picture: int) -> str:
        """What is said of a picture."""
        return self._words(int(self.ends[picture - 1, 1]) if picture else 0, int(self.ends[picture, 0]))

    def read(self, picture: int) -> str:
        """What is read on it."""
        return self._words(*self.ends[picture].tolist())

    def _words(self, start: int, end: int) -> str:
        return self.words[start:end].tobytes().decode()


class PicturesMaker:
    """Looks at every picture of a segment, and reads it; one that cannot be drawn keeps what is said of it."""

    kinds: Mapping[str, str] = {PICTURES: STEP}
    wholes: Sequence[str] = ()
    order = 0

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            carried, pictures = carried_once(building.texts.pictures, building.numbers(place), CHUNKS_AT_ONCE)
            building.progress.start(STEP, len(pictures), "pictures")
            made = _gathered(self._looked_at(building, pictures), carried)
            building.write(piece, place, made.arrays(), pictures=len(made))

    def _looked_at(self, building: Building, pictures: Sequence[Shown]) -> Iterator["_LookedAt"]:
        for one in pictures:
            seen, read = UNSEEN, ""
            with suppress(DocumentError, OSError):
                seen, read = look(one.draw()), one.read()
            building.progress.advance(1)
            yield _LookedAt(fingerprint(one.digest), one.said, read, seen, *compress(seen.points))

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts]:
        held: dict[str, _LookedAt] = {}
        carried: list[tuple[int, int]] = []
        places: dict[str, int] = {}
        for source in sources:
            own = Pictures.opened(source.artifact)
            for row, picture in own.carried.tolist():
                now = int(source.now[row])
                if now < 0:
                    continue
                digest = own.digests[picture].tobytes().decode()
                held.setdefault(digest, _of(own, picture))
                carried.append((now, places.setdefault(digest, len(places))))
        made = _gathered((held[digest] for digest in places), sorted(carried))
        return made.arrays(), {"pictures": len(made)}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        pictures = chunks * EXPECTED / 100
        own = 4.0 * LOOK + looks.MOST_POINTS * (NUMBERS + 12.0) + SMALL**2
        return Estimate(pictures / costing.rate(STEP, 0.5), pictures * own, pictures * own)


@dataclass(frozen=True)
class _LookedAt:
    digest: str
    said: str
    read: str
    seen: Look
    codes: NDArray[np.int8]
    scales: NDArray[np.float32]


def _of(own: Pictures, picture: int) -> _LookedAt:
    points = own.points(picture)
    high, wide = own.shapes[picture].tolist()
    # The points are there as codes.
    seen = Look(own.wholes[picture], UNSEEN.points, own.places[points], own.smalls[picture], (high, wide))
    return _LookedAt(
        own.digests[picture].tobytes().decode(), own.said(picture), own.read(picture), seen, own.codes[points],
        own.scales[points],
    )  # fmt: skip


def _gathered(pictures: Iterator[_LookedAt], carried: Sequence[tuple[int, int]]) -> Pictures:
    found = list(pictures)
    words = [text.encode() for one in found for text in (one.said, one.read)]
    counts = np.array([len(one.codes) for one in found], np.int64)
    firsts = np.cumsum(counts) - counts
    return Pictures(
        np.array(carried, np.int64).reshape(-1, 2),
        np.array([one.seen.whole for one in found], np.float32).reshape(-1, LOOK),
        np.stack([firsts, counts], axis=1),
        np.concatenate([np.empty((0, NUMBERS), np.int8), *(one.codes for one in found)]),
        np.concatenate([np.empty(0, np.float32), *(one.scales for one in found)]),
        np.concatenate([np.empty((0, 2), np.float32), *(one.seen.places for one in found)]),
        np.array([one.seen.small for one in found], np.uint8).reshape(-1, SMALL, SMALL),
        np.array([one.seen.shape for one in found], np.float32).reshape(-1, 2),
        np.frombuffer(b"".join(words), np.uint8),
        np.cumsum([len(text) for text in words], dtype=np.int64).reshape(-1, 2),
        np.array([list(one.digest.encode()) for one in found], np.uint8).reshape(-1, DIGEST),
    )


class PictureVectorsMaker:
    """Encodes what is said of pictures, what is read on them, and where in their document they stand."""

    kinds: Mapping[str, str] = {VECTORS: ENCODE}
    wholes: Sequence[str] = ()
    order = 2

    def make(self, lacking: Sequence[tuple[int, Piece]], building: Building) -> None:
        for place, piece in lacking:
            segment = building.segment(place)
            pictures = Pictures.opened(building.store.open(PICTURES, fingerprint(segment, piece.facts["over"])))
            encoder = encoder_over(piece.facts["encoder"], building.models, building.store, building.chunks)
            numbers = building.numbers(place)
            around: dict[int, int] = {}
            for row, picture in pictures.carried.tolist():
                around.setdefault(picture, int(numbers[row]))
            texts: list[tuple[int, int, str]] = []
            for picture in range(len(pictures)):
                texts += [(picture, SAID, text) for text in [pictures.said(picture)] if text]
                texts += [(picture, READ, text) for text in parts(pictures.read(picture))]
            chunks = [around[picture] for picture in range(len(pictures))]
            titles, headings = building.texts.titles(chunks), building.texts.headings(chunks)
            for picture, (title, path) in enumerate(zip(titles, headings, strict=True)):
                texts.append((picture, AROUND, " > ".join(dict.fromkeys([title, *path.split("\n")])).strip(" >")))
            sight = encoder.sight
            building.progress.start(ENCODE, len(texts) + (len(pictures) if sight else 0), "texts")
            vectors = np.empty((len(texts), encoder.dimension), np.float16)
            for first in range(0, len(texts), TEXTS_AT_ONCE):
                some = [text for _, _, text in texts[first : first + TEXTS_AT_ONCE]]
                for batch in encoder.encode(some):
                    own = batch.vectors
                    lengths = np.maximum(np.linalg.norm(own, axis=1, keepdims=True), 1e-9)
                    vectors[first + batch.place] = own / lengths
                building.progress.advance(len(some))
            told = np.array([(picture, sort) for picture, sort, _ in texts], np.int32).reshape(-1, 2)
            if sight:
                ones, seen = _seen(sight, pictures, chunks, building)
                vectors = np.concatenate([vectors, seen.astype(np.float16).reshape(-1, encoder.dimension)])
                told = np.concatenate([told, np.array([(one, SEEN) for one in ones], np.int32).reshape(-1, 2)])
            building.write(piece, place, {"vectors": vectors, "told": told}, dimension=encoder.dimension)

    def merge(
        self, kind: str, sources: Sequence[Source], count: int, meta: Facts, merging: Merging
    ) -> tuple[Arrays, Facts] | None:
        if not merging.store.has(PICTURES, fingerprint(meta["segment"], meta["over"])):
            return None
        merged = Pictures.opened(merging.store.open(PICTURES, fingerprint(meta["segment"], meta["over"])))
        places = {digest.tobytes(): picture for picture, digest in enumerate(merged.digests)}
        vectors: list[NDArray[np.float16]] = []
        told: list[tuple[int, int]] = []
        taken: set[int] = set()
        for source in sources:
            before = fingerprint(source.artifact.meta["segment"], meta["over"])
            own = Pictures.opened(merging.store.open(PICTURES, before))
            now = {old: places[row.tobytes()] for old, row in enumerate(own.digests) if row.tobytes() in places}
            # One that several segments carry has its words from the first.
            now = {old: new for old, new in now.items() if new not in taken}
            rows = source.artifact.arrays["told"].tolist()
            kept = [at for at, (old, _) in enumerate(rows) if old in now]
            vectors.append(source.artifact.arrays["vectors"][kept])
            told += [(now[rows[at][0]], rows[at][1]) for at in kept]
            taken |= set(now.values())
        width = sources[0].artifact.arrays["vectors"].shape[1]
        joined = np.concatenate([np.empty((0, width), np.float16), *vectors])
        return {"vectors": joined, "told": np.array(told, np.int32).reshape(-1, 2)}, {"dimension": width}

    def cost(self, piece: Piece, chunks: int, tokens: int, costing: Costing) -> Estimate:
        texts = chunks * EXPECTED / 100 * 3
        return Estimate(texts / costing.rate(ENCODE, 30.0), texts * 2.0 * costing.counter.dimension, texts * 4096.0)


def _seen(
    sight: Sight, pictures: Pictures, chunks: Sequence[int], building: Building
) -> tuple[list[int], NDArray[np.float32]]:
    """What an encoder makes of the pictures of a segment: which of them it saw, and a vector for each."""
    places = {digest.tobytes().decode(): at for at, digest in enumerate(pictures.digests)}
    wanted: dict[int, Shown] = {}
    for first in range(0, len(chunks), CHUNKS_AT_ONCE):
        for shown in building.texts.pictures(chunks[first : first + CHUNKS_AT_ONCE]):
            wanted |= {places[key]: one for one in shown if (key := fingerprint(one.digest)) in places}
    numbers: list[int] = []
    found = [np.empty((0, 0), np.float32)]
    order = sorted(wanted)
    for first in range(0, len(order), BATCH):
        drawn: list[tuple[int, bytes]] = []
        for at in order[first : first + BATCH]:
            with suppress(DocumentError):
                drawn.append((at, wanted[at].draw()))
        for own in sight.see([one for _, one in drawn]):
            numbers += [drawn[at][0] for at in own.place.tolist()]
            found.append(own.vectors)
        building.progress.advance(len(drawn))
    return numbers, np.concatenate(found[1:]) if found[1:] else found[0]


PICTURES_MAKER, PICTURE_VECTORS_MAKER = PicturesMaker(), PictureVectorsMaker()
MAKERS: Sequence[Maker] = (PICTURES_MAKER, PICTURE_VECTORS_MAKER)


def parts(read: str) -> list[str]:
    """Words that were read, some lines at a time."""
    found: list[list[str]] = []
    count = 0
    for line in read.split("\n"):
        words = len(line.split())
        if not words:
            continue
        if not found or count + words > WORDS_A_PART:
            found.append([])
            count = 0
        found[-1].append(line)
        count += words
    return ["; ".join(lines) for lines in found[:MOST_PARTS]]


def pictures_piece() -> Piece:
    """All pictures of a segment."""
    return Piece(PICTURES, fingerprint(VERSION, looks.VERSION, optical.EDITION), {}, PICTURES_MAKER)


def picture_needs(branch: Settings, planning: Planning) -> Needs:
    """Pictures, and vectors of their words by the branch's encoder."""
    pictures = pictures_piece()
    encoder = planning.models.encoder(branch["encoder"])
    facts = {"encoder": branch["encoder"], "over": pictures.of}
    of = fingerprint(VERSION, pictures.of, encoder.digest)
    return Needs({PICTURES: pictures, VECTORS: Piece(VECTORS, of, facts, PICTURE_VECTORS_MAKER)})
