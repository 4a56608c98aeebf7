"""From documents and a recipe to an opened pipeline: what is built already is reused, segment by segment."""

import time
from collections.abc import Callable, Mapping, Sequence, Set
from dataclasses import dataclass, field, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.branches.kind import kind_of
from doppio.core.branches.spread import Spread
from doppio.core.build.keys import Keys, counter_of, family_of, keys_of_list, makers
from doppio.core.build.merging import SEGMENT, kinds_of_artifacts, merge_segments, write_segment
from doppio.core.build.texts import TEXTS, first_rows, forget, texts_of
from doppio.core.chunking.table import ChunkTable, ChunkTexts, cut
from doppio.core.errors import ArtifactDamaged
from doppio.core.fingerprint import fingerprint
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.pipeline import Pipeline
from doppio.core.progress import Progress, Silent
from doppio.core.recipe.recipe import Recipe
from doppio.core.reranking.kind import kind_of_scorer, own_settings
from doppio.core.reranking.step import Reranker, Weighed
from doppio.core.reranking.windowed import reading_of
from doppio.core.select.answer.kind import ANSWERS
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.crew import Alone, Crew, Hands, Place
from doppio.core.store.pieces import Building, Facts, Opening, Piece, texts_in_parts
from doppio.core.store.segments import (
    GONE,
    MOST_CHUNKS,
    Lists,
    OpenedList,
    Part,
    ReadingList,
    SegmentChunks,
    digest_column,
    kept_parts,
    number_chunks,
    of_documents,
    segment_key,
    stretches,
    to_merge,
)
from doppio.core.text.document import Document

RETRIES = 2
T = TypeVar("T")


@dataclass(frozen=True)
class Held:
    """What is complete of a corpus that is not built: `documents` are the positions in it of those that are in."""

    keys: Keys
    opened: OpenedList
    documents: list[int]


@dataclass(frozen=True)
class Built:
    """One index of a recipe over all segments of a list: its kind, what it is of, its bytes and its facts."""

    kind: str
    of: str
    bytes: int
    facts: Facts


def _over(parts: Sequence[Part], pieces: Sequence[Piece]) -> list[tuple[str, str]]:
    """Kind and key of the artifacts of some pieces over some segments."""
    return [(piece.kind, piece.key(part.key)) for piece in pieces for part in parts]


@dataclass
class Builder:
    """Builds what a recipe needs into a store, and opens it."""

    store: ArtifactStore
    models: Models
    progress: Progress = field(default_factory=Silent)
    crew: Crew = field(default_factory=Alone)
    # Chunks that a segment is to hold at most.
    most_chunks: int = MOST_CHUNKS
    # From a list to the machines on which its segments stand; None where they are opened here.
    spread: Callable[[OpenedList], Spread] | None = None

    def __post_init__(self) -> None:
        self.lists = Lists(self.store.lists)

    @property
    def hands(self) -> Hands:
        """Those who do what stands alone."""
        return Hands(self.crew, Place(self.models, self.store), self.progress)

    def keys(self, corpus: str, recipe: Recipe) -> Keys:
        """What the recipe needs over the corpus with that fingerprint."""
        return keys_of_list(fingerprint(corpus, self.family(recipe)), recipe, self.models)

    def family(self, recipe: Recipe) -> str:
        """The digest of how a recipe cuts."""
        return family_of(recipe, self.models)

    def counter(self, recipe: Recipe) -> Encoder:
        """The encoder that counts tokens."""
        return counter_of(recipe, self.models)

    def missing(self, keys: Keys) -> list[tuple[str, str]]:
        """Kind and key of what has not been built."""
        try:
            wanted = self.artifacts(keys)
        except (FileNotFoundError, ArtifactDamaged):
            return [("list", keys.chunks)]
        return self.store.lacking(wanted)

    def lacking(self, corpus: str, recipes: Sequence[Recipe]) -> dict[tuple[str, str, str], Recipe]:
        """What has to be built for some recipes, each once, with the first recipe that wants it."""
        found: dict[tuple[str, str, str], Recipe] = {}
        for recipe in recipes:
            keys = self.keys(corpus, recipe)
            if self.missing(keys):
                for piece in keys.pieces():
                    found.setdefault((self.family(recipe), piece.kind, piece.of), recipe)
        return found

    def artifacts(self, keys: Keys) -> list[tuple[str, str]]:
        """Kind and key of all artifacts that a recipe stands on, built or not.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            As `Lists.read` does.
        """
        parts = self.lists.read(keys.chunks).parts
        found = [(SEGMENT, part.key) for part in parts] + _over(parts, keys.pieces())
        return found + [(whole.kind, whole.key) for whole in keys.wholes]

    def chunks(self, documents: Sequence[Document], corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe, cut now or opened; documents that were cut before are not cut again."""
        keys = self.keys(corpus, recipe)
        with self.store.in_use(), self.store.building(keys.family):
            opened = self._sound_list(keys.chunks)
            if opened is None:
                self._cut(documents, keys, recipe)
                opened = self.open_list(keys.chunks)
        return opened.table()

    def _cut(self, documents: Sequence[Document], keys: Keys, recipe: Recipe) -> None:
        """Write the list of a corpus, and a segment with those of its documents that no segment holds."""
        counter = self.counter(recipe)
        digests = [document.digest for document in documents]
        parts, fresh = kept_parts(self.segments_before(keys.family), digests)
        if fresh or not parts:
            table = cut([documents[place] for place in fresh], recipe.chunking, counter, self.progress, counter)
            for low, high in stretches(table, len(fresh), self.most_chunks):
                positions = fresh[low:high]
                own = [digests[place] for place in positions]
                key = segment_key(keys.family, own)
                write_segment(self.store, key, keys.family, of_documents(table, low, high), digest_column(own))
                parts.append(Part(key, np.array(positions, np.int64)))
        self.lists.write(keys.chunks, ReadingList(keys.family, tuple(parts)))

    def segments_before(self, family: str) -> list[tuple[str, NDArray[np.uint8]]]:
        """Segments of the youngest sound list of a family, with the digests of their documents."""
        for _, reading in self.lists.youngest_first():
            if reading.family == family:
                found = [(part.key, self.store.open_or_none(SEGMENT, part.key)) for part in reading.parts]
                return [(key, artifact.arrays["digests"]) for key, artifact in found if artifact]
        return []

    def open_list(self, key: str) -> OpenedList:
        """A reading list, opened.

        Raises
        ------
        FileNotFoundError, ArtifactDamaged
            If it has not been built, or is not what was written.
        """
        return self._retried(lambda: self._read_list(key))

    def _retried(self, work: Callable[[], T]) -> T:
        """Do it again where the list was replaced, and its segments deleted, between reading and opening."""
        for _ in range(RETRIES):
            try:
                return work()
            except FileNotFoundError:
                time.sleep(0.02)
        return work()

    def _read_list(self, key: str) -> OpenedList:
        reading = self.lists.read(key)
        segments = [SegmentChunks.opened(self.store.open(SEGMENT, part.key).arrays) for part in reading.parts]
        return OpenedList(key, reading, segments, number_chunks(reading, segments))

    def _sound_list(self, key: str) -> OpenedList | None:
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
        return self.open_list(key)

    def table(self, corpus: str, recipe: Recipe) -> ChunkTable:
        """The chunk table of a recipe that has been built; see `open_list` for errors."""
        return self.open_list(self.keys(corpus, recipe).chunks).table()

    def indexes(self, corpus: str, recipe: Recipe, texts: ChunkTexts) -> None:
        """Build what is missing or damaged, segment by segment.

        Notes
        -----
        A segment that has lost documents and lacks an index is first written anew without them, since their texts
        are gone.
        """
        keys = self.keys(corpus, recipe)
        with self.store.in_use(), self.store.building(keys.family):
            opened = self.open_list(keys.chunks)
            lacking = self._lacking(opened, keys.made())
            needed = [place for place, own in lacking.items() if any(piece not in keys.beside for piece in own)]
            worn = [place for place in needed if (opened.reading.parts[place].documents < 0).any()]
            if worn:
                for key in [opened.reading.parts[place].key for place in worn]:
                    place = [part.key for part in opened.reading.parts].index(key)
                    merge_segments(self.store, self.lists, self.progress, opened, [place])
                    opened = self.open_list(keys.chunks)
                lacking = self._lacking(opened, keys.made())
            building = self._building(keys, recipe, opened, texts)
            self._make(lacking, keys.beside, building)
            building = replace(building, texts=texts.read_from(texts_of(self.store, opened)))
            self._make_wholes(keys, building)
            self._make(lacking, keys.pieces(), building)

    def _building(self, keys: Keys, recipe: Recipe, opened: OpenedList, texts: ChunkTexts) -> Building:
        return Building(self.models, self.counter(recipe), keys.chunks, self.store, opened, texts, self.hands)

    @staticmethod
    def _make(lacking: Mapping[int, Sequence[Piece]], pieces: Sequence[Piece], building: Building) -> None:
        """Have makers make those of some pieces that segments lack."""
        for maker in {id(piece.maker): piece.maker for piece in pieces}.values():
            work = [(place, piece) for place, own in lacking.items() for piece in own if piece.maker is maker]
            if work:
                maker.make(work, building)

    def write_texts(self, keys: Keys, recipe: Recipe, texts: ChunkTexts) -> int:
        """Write the texts of segments that were built when none were written; returns of how many."""
        with self.store.in_use(), self.store.building(keys.family):
            opened = self.open_list(keys.chunks)
            lacking = self._lacking(opened, keys.beside)
            self._make(lacking, keys.beside, self._building(keys, recipe, opened, texts))
        return len(lacking)

    def forget_texts(self, alive: Set[str]) -> int:
        """Leave the texts of documents out that are nowhere any more, given the digests of all that are; returns of
        how many segments. Who has them open reads on."""
        gone = 0
        with self.store.in_use():
            for key, meta in list(self.store.listed(TEXTS.kind)):
                segment = self.store.open_or_none(SEGMENT, meta["segment"])
                if segment is not None:
                    own = segment.arrays["document"]
                    with self.store.building(segment.meta["family"]):
                        gone += forget(self.store, key, segment.arrays["digests"][own[first_rows(own)]], alive)
        return gone

    def lacks_texts(self, keys: Keys) -> bool:
        """Whether texts of a list's segments are not written; False where there is no such list."""
        try:
            parts = self.lists.read(keys.chunks).parts
        except (FileNotFoundError, ArtifactDamaged):
            return False
        return bool(self.store.lacking(_over(parts, keys.beside)))

    def _lacking(self, opened: OpenedList, pieces: Sequence[Piece]) -> dict[int, list[Piece]]:
        """Pieces that segments lack, by the segment's place; damaged ones are taken away."""
        found = {
            place: [p for p in pieces if self.store.open_or_none(p.kind, p.key(part.key)) is None]
            for place, part in enumerate(opened.reading.parts)
        }
        return {place: pieces for place, pieces in found.items() if pieces}

    def _make_wholes(self, keys: Keys, building: Building) -> None:
        """Make what the list needs once, where it is not there."""
        for whole in keys.wholes:
            if self.store.open_or_none(whole.kind, whole.key) is None:
                everything = np.arange(building.opened.numbering.count)
                arrays = whole.make(texts_in_parts(building.texts.indexed, everything), building.hands)
                self.store.write(whole.kind, whole.key, arrays, {"list": keys.chunks})

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
            opened = self._read_list(keys.chunks)
            table = opened.table()
            return self._pipeline_over(opened, table, keys, recipe, texts(table))

        return self._retried(once)

    def held(self, digests: Sequence[str], recipe: Recipe) -> Held | None:
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
            keys = keys_of_list(key, recipe, self.models)
            if not all(self.store.has(whole.kind, whole.key) for whole in keys.wholes):
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
            return Held(keys, OpenedList(key, within, used, number_chunks(within, used)), there)
        return None

    def _is_whole(self, segment: str, keys: Keys) -> bool:
        wanted = [(SEGMENT, segment), *((piece.kind, piece.key(segment)) for piece in keys.pieces())]
        return not self.store.lacking(wanted)

    def open_held(self, held: Held, recipe: Recipe, texts: ChunkTexts) -> Pipeline:
        """A pipeline over what is complete; see `open` for errors."""
        return self._pipeline_over(held.opened, held.opened.table(), held.keys, recipe, texts)

    def _pipeline_over(
        self, opened: OpenedList, table: ChunkTable, keys: Keys, recipe: Recipe, texts: ChunkTexts
    ) -> Pipeline:
        texts = texts.read_from(texts_of(self.store, opened))
        planning = self.models, self.counter(recipe), keys.chunks, self.store, opened
        reranker = None
        if recipe.rerank:
            parts = []
            for one, needs in zip(recipe.scorers, keys.scorers, strict=True):
                kind = kind_of_scorer(one["scorer"], self.models)
                opening = Opening(*planning, needs, texts)
                parts.append(Weighed(kind.open(one["scorer"], own_settings(kind, one), opening), one["weight"]))
            reading = reading_of(recipe.rerank, Opening(*planning, keys.windows, texts))
            reranker = Reranker(tuple(parts), reading)
        spread = self.spread(opened) if self.spread else None
        branches = {
            branch["id"]: kind_of(branch).open(branch, Opening(*planning, keys.branches[branch["id"]], texts, spread))
            for branch in recipe.branches
        }
        told = recipe.select["answer"]
        answerer = ANSWERS.get(told["kind"]).open(told, self.models, self.counter(recipe))
        writers = {name: self.models.writer(name) for name in recipe.writers}
        name = recipe.select["tokenizer"]
        budget = self.models.tokenizer(name) if name else None
        return Pipeline(recipe, table, texts, branches, reranker, self.counter(recipe), answerer, writers, budget)

    def describe(self, keys: Keys) -> list[Built]:
        """Every index of a recipe that has been built, and its chunks."""
        parts = self.lists.read(keys.chunks).parts
        rows = [self._described(SEGMENT, keys.family, {}, [part.key for part in parts])]
        beside = [piece for piece in keys.beside if not self.store.lacking(_over(parts, [piece]))]
        for piece in [*beside, *keys.pieces()]:
            rows.append(self._described(piece.kind, piece.of, piece.facts, [piece.key(part.key) for part in parts]))
        return rows

    def _described(self, kind: str, of: str, facts: Facts, keys: Sequence[str]) -> Built:
        found = [self.store.describe(kind, key) for key in keys]
        summed = {
            name: sum(meta.get(name, 0) for _, meta in found) for name in ("chunks", "entries") if name in found[0][1]
        }
        largest = {
            name: max(meta[name] for _, meta in found) for name in ("dimension", "terms") if name in found[0][1]
        }
        return Built(kind, of, sum(size for size, _ in found), {**facts, **largest, **summed, "segments": len(found)})

    def wants_compaction(self, key: str) -> bool:
        """Whether segments of a list should be merged."""
        try:
            opened = self.open_list(key)
        except (FileNotFoundError, ArtifactDamaged):
            return False
        return bool(to_merge(opened.reading, opened.segments, self.most_chunks))

    def compact(self, key: str) -> int:
        """Merge segments of a list where there are too many, or too much of one is gone; returns how many went.

        Notes
        -----
        Every index that all of these segments have is merged too, whichever recipe it was built for. The list is
        replaced last, so a kill leaves the old one in force; who reads it goes on with the old segments.
        """
        with self.store.in_use(), self.store.building(self.lists.read(key).family):
            opened = self.open_list(key)
            places = to_merge(opened.reading, opened.segments, self.most_chunks)
            if places:
                merge_segments(self.store, self.lists, self.progress, opened, places)
        return len(places)

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
            for kind in {kind for maker in makers() for kind in maker.wholes}:
                for key, meta in list(self.store.listed(kind)):
                    if not self.lists.has(str(meta.get("list"))):
                        self.store.remove(kind, key)
            for kind in (SEGMENT, *kinds_of_artifacts()):
                for key, meta in list(self.store.listed(kind)):
                    if meta.get("segment") not in alive:
                        self.store.remove(kind, key)
                        gone += 1
            gone += self.store.clear_away(time.time())
        return gone
