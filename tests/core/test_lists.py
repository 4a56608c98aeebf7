"""Reading lists: which segments serve a corpus, how chunks are numbered, what is merged, and what is damaged."""

import itertools
import json
import multiprocessing
import os
import signal
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.branches.dense.encoding import Wanted, encode_segment
from doppio.core.chunking.table import ChunkTable
from doppio.core.errors import ArtifactDamaged, Cancelled, DoppioError
from doppio.core.kernels.heap import offer
from doppio.core.models.encoder import Encoded
from doppio.core.models.token_vectors import Segment as TokenSegment
from doppio.core.models.token_vectors import TokenVectors, compress, frequencies
from doppio.core.progress import Silent
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.segments import (
    MOST_GONE,
    MOST_PARTS,
    Lists,
    Part,
    ReadingList,
    SegmentChunks,
    chunk_table,
    digest_column,
    kept_parts,
    longest_rising,
    number_chunks,
    segment_key,
    to_merge,
)
from doppio.core.store.small_files import FolderFiles


def digest_of(name):
    return f"{ord(name):020x}"


def digests(names):
    return digest_column([digest_of(name) for name in names])


def segment_of(names, sizes):
    """Chunks of documents: the n-th of a document starts at n and is marked by the document's letter."""
    rows = [(place, number, ord(name)) for place, name in enumerate(names) for number in range(sizes[name])]
    document, start, mark = (
        np.array(column, np.int64) for column in (zip(*rows, strict=True) if rows else ([], [], []))
    )
    return SegmentChunks(ChunkTable.flat(document, start, start + 1, mark, mark), digests(names))


ENCODING = "doppio.core.branches.dense.encoding"
SIZES = {name: 1 + place % 4 for place, name in enumerate("abcdefgh")}
NAMES = st.lists(st.sampled_from("abcdefgh"), unique=True, max_size=8).map(sorted)


class Keeping(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.lists(NAMES, max_size=4), NAMES)
    def test_every_document_is_in_one_segment_or_fresh_and_never_in_two(self, held, corpus):
        parts, fresh = kept_parts(
            [(str(n), digests(names)) for n, names in enumerate(held)], [*map(digest_of, corpus)]
        )
        served = [p for part in parts for p in part.documents.tolist() if p >= 0]
        self.assertEqual(sorted(served + fresh), list(range(len(corpus))))
        for part in parts:
            names = held[int(part.key)]
            self.assertTrue(any(p >= 0 for p in part.documents))
            alive = [p for p in part.documents.tolist() if p >= 0]
            self.assertEqual(alive, sorted(alive))
            for row, position in enumerate(part.documents.tolist()):
                if position >= 0:
                    self.assertEqual(names[row], corpus[position])

    def test_a_document_that_moved_before_another_is_cut_anew(self):
        parts, fresh = kept_parts([("s", digests("ab"))], [digest_of("b"), digest_of("a")])
        self.assertEqual((parts[0].documents.tolist(), fresh), ([-1, 0], [1]))

    def test_two_documents_with_the_same_text_are_two(self):
        parts, fresh = kept_parts([("s", digests("a"))], [digest_of("a")] * 2)
        self.assertEqual((parts[0].documents.tolist(), fresh), ([0], [1]))

    def test_moving_one_document_cuts_that_one_anew(self):
        names = [chr(0x4E00 + number) for number in range(2000)]
        moved = [*names[1:], names[0]]
        _, fresh = kept_parts([("s", digests(names))], [digest_of(name) for name in moved])
        self.assertEqual(fresh, [1999])

    @settings(max_examples=150)
    @given(st.lists(st.text("abcd", min_size=1, max_size=1), max_size=9), st.permutations("abcdefgh"))
    def test_as_much_is_kept_of_different_documents_as_can_be(self, others, corpus):
        held = [*dict.fromkeys(others), "g", "e"]
        parts, fresh = kept_parts([("s", digests(held))], [digest_of(name) for name in corpus])
        kept = [place for part in parts for place in part.documents.tolist() if place >= 0]
        best = max(
            len(some)
            for size in range(len(held) + 1)
            for some in itertools.combinations(held, size)
            if [corpus.index(name) for name in some] == sorted(corpus.index(name) for name in some)
        )
        self.assertEqual((len(kept), sorted(kept + fresh)), (best, list(range(len(corpus)))))

    def test_equal_documents_are_matched_in_no_more_than_their_number(self):
        count = 60_000
        parts, fresh = kept_parts([("s", digests(["a"] * count))], [digest_of("a")] * (count - 1) + [digest_of("b")])
        self.assertEqual((parts[0].alive, fresh), (count - 1, [count - 1]))

    @given(st.lists(st.integers(0, 50), unique=True, max_size=9))
    def test_the_longest_rising_subsequence_is_one(self, values):
        found = np.array(values, np.int64)[longest_rising(np.array(values, np.int64))].tolist()
        best = max(
            size
            for size in range(len(values) + 1)
            if any(list(some) == sorted(some) for some in itertools.combinations(values, size))
        )
        self.assertEqual((found, len(found)), (sorted(found), best))

    def test_a_segments_key_hangs_on_its_family_and_on_the_order_of_its_documents(self):
        keys = {segment_key("f", ["a", "b"]), segment_key("f", ["b", "a"]), segment_key("g", ["a", "b"])}
        self.assertEqual(len(keys), 3)


class Numbers(unittest.TestCase):
    @settings(max_examples=120)
    @given(NAMES, st.lists(st.integers(0, 2), min_size=8, max_size=8), NAMES)
    def test_chunks_are_numbered_in_the_order_of_the_corpus_whatever_segment_they_are_in(self, corpus, owner, gone):
        parts, segments = [], []
        for number in sorted(set(owner)):
            names = sorted({*(n for n in corpus if owner[ord(n) - 97] == number), *(gone if number == 0 else [])})
            if not names:
                continue
            mine = [n for n in names if n in corpus and owner[ord(n) - 97] == number]
            documents = np.array([corpus.index(n) if n in mine else -1 for n in names], np.int64)
            parts.append(Part(str(number), documents))
            segments.append(segment_of(names, SIZES))
        reading = ReadingList("f", tuple(parts))
        numbering = number_chunks(reading, segments)
        table = chunk_table(reading, segments, numbering) if parts else segment_of("", SIZES).table
        whole = segment_of(corpus, SIZES).table
        for name, column in whole.columns().items():
            np.testing.assert_array_equal(table.columns()[name], column, name)
        for now in numbering.now:
            alive = now[now >= 0]
            self.assertEqual(alive.tolist(), sorted(alive.tolist()))

    def test_the_table_of_one_whole_segment_is_its_own_and_not_a_copy(self):
        segment = segment_of("abc", SIZES)
        reading = ReadingList("f", (Part("s", np.arange(3)),))
        self.assertIs(chunk_table(reading, [segment], number_chunks(reading, [segment])), segment.table)


class Merging(unittest.TestCase):
    def due(self, *alive_of_total):
        parts, segments, at = [], [], 0
        for number, (alive, total) in enumerate(alive_of_total):
            parts.append(Part(str(number), np.array([at + n if n < alive else -1 for n in range(total)], np.int64)))
            at += alive
            document = np.arange(total, dtype=np.int64)
            segments.append(SegmentChunks(ChunkTable.flat(document, document, document, document, document),
                                          np.zeros((total, 10), np.uint8)))  # fmt: skip
        return to_merge(ReadingList("f", tuple(parts)), segments)

    def test_a_few_whole_segments_are_left_alone(self):
        self.assertEqual(self.due(*[(5, 5)] * MOST_PARTS), [])

    def test_of_too_many_the_smallest_are_merged_and_half_as_many_are_left(self):
        sizes = [(900, 900), *((n, n) for n in range(1, MOST_PARTS + 1))]
        places = self.due(*sizes)
        self.assertNotIn(0, places)
        self.assertEqual(len(sizes) - len(places) + 1, MOST_PARTS // 2)

    def test_a_segment_that_has_lost_too_much_is_written_anew(self):
        total = 100
        worn = int((1 - MOST_GONE) * total) - 1
        self.assertEqual(self.due((worn, total), (total, total)), [0])
        self.assertEqual(self.due((worn + 2, total), (total, total)), [])


class Files(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.lists = Lists(FolderFiles(self.root / "lists"))
        self.reading = ReadingList("family", (Part("one", np.array([0, -1, 2])), Part("two", np.array([1]))))

    def test_what_was_written_is_read(self):
        self.lists.write("k", self.reading)
        found = self.lists.read("k")
        self.assertEqual((found.family, found.count), ("family", 3))
        self.assertEqual(
            [(part.key, part.documents.tolist()) for part in found.parts], [("one", [0, -1, 2]), ("two", [1])]
        )
        self.assertEqual([path.name for path in (self.root / "lists").iterdir()], ["k.json"])

    def test_an_altered_list_is_refused_by_name_and_left_out_of_the_others(self):
        self.lists.write("k", self.reading)
        self.lists.write("other", self.reading)
        path = self.root / "lists" / "k.json"
        body = json.loads(path.read_text())
        body["list"]["parts"][0]["documents"] = [0, 1, 2]
        path.write_text(json.dumps(body))
        with self.assertRaisesRegex(ArtifactDamaged, "lists/k.json: cannot be read"):
            self.lists.read("k")
        self.assertEqual([key for key, _ in self.lists.youngest_first()], ["other"])
        for broken in ("", "[]", "{}"):
            path.write_text(broken)
            with self.assertRaises(ArtifactDamaged):
                self.lists.read("k")

    def test_a_reader_never_meets_half_a_list_while_it_is_replaced(self):
        self.lists.write("k", self.reading)
        stop, failed = threading.Event(), []

        def read():
            while not stop.is_set():
                try:
                    self.lists.read("k")
                except Exception as error:
                    failed.append(error)

        reader = threading.Thread(target=read)
        reader.start()
        for _ in range(60):
            self.lists.write("k", self.reading)
        stop.set()
        reader.join()
        self.assertEqual(failed, [])

    def test_only_one_process_builds_the_same_at_a_time(self):
        store = ArtifactStore(self.root)
        context = multiprocessing.get_context("fork")
        held, go = context.Event(), context.Event()

        def hold():
            with store.building("family"):
                held.set()
                go.wait(10)

        other = context.Process(target=hold)
        other.start()
        held.wait(10)
        entered = []
        waiting = threading.Thread(target=lambda: self._enter(store, entered))
        waiting.start()
        time.sleep(0.1)
        self.assertEqual(entered, [])
        go.set()
        waiting.join(10)
        other.join(10)
        self.assertEqual(entered, ["in"])

    def test_the_lock_of_a_builder_that_was_killed_is_free(self):
        store = ArtifactStore(self.root)
        context = multiprocessing.get_context("fork")
        held = context.Event()

        def hold():
            with store.building("family"), store.in_use():
                held.set()
                time.sleep(60)

        other = context.Process(target=hold)
        other.start()
        held.wait(10)
        with store.in_use(alone=True) as alone:
            self.assertFalse(alone)
        os.kill(other.pid, signal.SIGKILL)
        other.join(10)
        entered = []
        self._enter(store, entered)
        self.assertEqual(entered, ["in"])
        with store.in_use(alone=True) as alone:
            self.assertTrue(alone)

    def _enter(self, store, entered):
        with store.building("family"):
            entered.append("in")


class Counted:
    """An encoder that marks every text by its length, and counts what it was asked."""

    dimension, max_tokens, unit, vocabulary_size = 4, 50, True, 9

    def __init__(self):
        self.seen = []

    def encode(self, texts, *, tokens=False):
        self.seen += texts
        vectors = np.array([[len(text), 1, 0, 0] for text in texts], np.float32)
        each = [
            np.tile(vector / np.linalg.norm(vector), (len(text) % 5, 1))
            for vector, text in zip(vectors, texts, strict=True)
        ]
        ids = [np.arange(len(text) % 5) for text in texts]
        yield Encoded(np.arange(len(texts)), vectors, each if tokens else None, ids if tokens else None)


class StopsAfter(Silent):
    def __init__(self, batches):
        self.left = batches

    def advance(self, count):
        self.left -= 1
        if self.left == 0:
            raise Cancelled("cancelled")


class Encoding(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)

    def run_once(self, store, texts, encoder, progress, tokens):
        lengths = np.array([len(text) for text in texts], np.int64)
        wanted = Wanted("draft", ("v", {"n": 1}), ("t", {"n": 2}) if tokens else None)
        with mock.patch(f"{ENCODING}.MOST_ROWS", 3), mock.patch(f"{ENCODING}.LEAST_ROWS", 3):
            encode_segment(store, encoder, lambda rows: [texts[row] for row in rows], lengths, wanted, progress)

    def test_a_vector_that_is_not_finite_is_refused_with_its_text_and_nothing_is_written(self):
        class Broken(Counted):
            name = "broken"

            def encode(self, texts, *, tokens=False):
                for batch in super().encode(texts, tokens=tokens):
                    batch.vectors[[len(text) == 7 for text in texts], 1] = np.nan
                    yield batch

        store = ArtifactStore(self.root / "store")
        with self.assertRaisesRegex(
            DoppioError, "^broken: gives a vector with numbers that are not finite .*'xxxxxxx'"
        ):
            self.run_once(store, ["x" * length for length in range(9)], Broken(), Silent(), False)
        self.assertFalse(store.has("vectors", "v"))

    @settings(max_examples=40)
    @given(
        st.lists(st.integers(0, 40), max_size=20),
        st.lists(st.integers(1, 3), max_size=4),
        st.booleans(),
        st.integers(0, 10**9),
    )
    def test_stopped_after_any_batches_it_goes_on_there_and_equals_a_fresh_encoding(
        self, lengths, stops, tokens, number
    ):
        texts = ["x" * length for length in lengths]
        store, fresh = ArtifactStore(self.root / f"a{number}"), ArtifactStore(self.root / f"b{number}")
        encoder = Counted()
        stopped = 0
        for batches in stops:
            try:
                self.run_once(store, texts, encoder, StopsAfter(batches), tokens)
                break
            except Cancelled:
                stopped += 1
        else:
            self.run_once(store, texts, encoder, Silent(), tokens)
        self.run_once(fresh, texts, Counted(), Silent(), tokens)
        if stopped:
            self.assertEqual(sorted(encoder.seen), sorted(texts), "no text is encoded twice")
        for kind, key in (("vectors", "v"), *([("token-vectors", "t")] if tokens else [])):
            mine, theirs = store.open(kind, key).arrays, fresh.open(kind, key).arrays
            self.assertEqual(set(mine), set(theirs))
            for name in mine:
                np.testing.assert_array_equal(mine[name], theirs[name], f"{kind} {name}")
        self.assertEqual([path.name for path in store.root.iterdir() if path.name.startswith(".encoding")], [])

    def test_vectors_are_of_unit_length_and_their_squares_are_kept(self):
        store = ArtifactStore(self.root)
        self.run_once(store, ["x" * n for n in range(9)], Counted(), Silent(), False)
        found = store.open("vectors", "v").arrays
        np.testing.assert_allclose(np.linalg.norm(found["vectors"], axis=1), 1, rtol=1e-6)
        np.testing.assert_allclose(found["squares"], 1, rtol=1e-6)

    def test_a_draft_with_a_broken_note_is_begun_again(self):
        store = ArtifactStore(self.root)
        texts = ["x" * n for n in range(9)]
        with self.assertRaises(Cancelled):
            self.run_once(store, texts, Counted(), StopsAfter(2), True)
        (self.root / ".encoding-draft" / "at.json").write_text("{")
        encoder = Counted()
        self.run_once(store, texts, encoder, Silent(), True)
        self.assertEqual(len(encoder.seen), 9)


class Tokens(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.lists(st.lists(st.integers(0, 8), max_size=6), min_size=1, max_size=10), st.data())
    def test_segments_with_deletions_hold_what_one_does_and_count_alike(self, chunks, data):
        owner = data.draw(st.lists(st.sampled_from([0, 1, -1]), min_size=len(chunks), max_size=len(chunks)))
        kept = [n for n in range(len(chunks)) if owner[n] >= 0]
        random = np.random.default_rng(0)
        vectors = [random.normal(size=(len(chunk), 4)).astype(np.float32) for chunk in chunks]

        def segment(numbers, now):
            lengths = np.array([len(chunks[n]) for n in numbers], np.int64)
            spans = np.stack([np.cumsum(lengths) - lengths, lengths], axis=1)
            codes, scales = compress(np.concatenate([np.empty((0, 4), np.float32), *(vectors[n] for n in numbers)]))
            ids = np.concatenate([np.empty(0, np.int32), *(np.array(chunks[n], np.int32) for n in numbers)]).astype(
                np.int32
            )
            return TokenSegment(spans, codes, scales, ids, frequencies(spans, ids, 9), now)

        parts = []
        for part in (0, 1):
            numbers = [n for n in range(len(chunks)) if owner[n] in (part, -1)]
            now = np.array([kept.index(n) if owner[n] == part else -1 for n in numbers], np.int64)
            if len(numbers):
                parts.append(segment(numbers, now))
        if not parts or not kept:
            return
        several, one = TokenVectors(parts), TokenVectors([segment(kept, np.empty(0, np.int64))])
        self.assertEqual(several.chunks, one.chunks)
        np.testing.assert_array_equal(several.frequency, one.frequency)
        everything = np.arange(9)
        np.testing.assert_array_equal(several.idf(everything), one.idf(everything))
        for place in range(len(kept)):
            np.testing.assert_array_equal(several.of(place), one.of(place))
        with self.assertRaisesRegex(IndexError, f"chunk {len(kept)} is not between 0 and {len(kept) - 1}"):
            several.of(len(kept))


class Heap(unittest.TestCase):
    @settings(max_examples=120)
    @given(st.lists(st.integers(-4, 4), max_size=40), st.integers(0, 12))
    def test_it_keeps_the_best_with_ties_to_the_smaller_id(self, values, room):
        scores, ids, size = np.empty(room), np.empty(room, np.int64), 0
        order = np.random.default_rng(len(values)).permutation(len(values))
        for place in order:
            size = offer(scores, ids, size, float(values[place]), int(place))
        expected = sorted(range(len(values)), key=lambda n: (-values[n], n))[:room]
        self.assertEqual(sorted(ids[:size].tolist()), sorted(expected))
