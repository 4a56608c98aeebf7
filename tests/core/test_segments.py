"""An index over changed documents takes over what is unchanged, and answers as one that was built from nothing."""

import hashlib
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.build.builder import Builder
from doppio.core.build.texts import TEXTS, texts_of
from doppio.core.chunking.table import CorpusTexts, cut
from doppio.core.models.encoder import Encoded, Encoder
from doppio.core.models.registry import TRAINED, Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.segments import MOST_PARTS
from doppio.core.text.document import HEADING, PARAGRAPH, DocumentBuilder, corpus_fingerprint
from tests.core.corpus import MODELS, recipe

TERMS = "rope wind line cabin tower brake ice snow grip door E-417 lift".split()
CHUNKING = {"rule": "fixed-window", "unit": "words", "size": 8, "overlap": 2, "context": "title"}
QUESTIONS = ("wind at the tower", "E-417", "brake of the cabin door", "ice and snow on the line")


def made(name, seed):
    dice = random.Random(f"{name} {seed}")
    builder = DocumentBuilder()
    builder.add(HEADING, f"{name} {seed}", 1)
    for _ in range(dice.randrange(4)):
        builder.add(PARAGRAPH, " ".join(dice.choices(TERMS, k=dice.randrange(1, 30))))
    return builder.build(name)


# A corpus is which documents there are and which version of each.
THEN = st.sampled_from(["keep", "compact", "forget", "other"])
PLAIN = {"id": "plain", "kind": "bm25", "analysis": {"stem": False}}
CORPORA = st.dictionaries(st.sampled_from("abcdefgh"), st.integers(0, 2), max_size=8)


def corpus_of(versions):
    return [made(name, version) for name, version in sorted(versions.items())]


class Hashed(Encoder):
    """The shipped encoder with vectors that hang on the text alone and not, in their last bits, on its batch."""

    def _of(self, texts):
        rows = [np.frombuffer(hashlib.blake2b(text.encode()).digest() * 6, np.int8) for text in texts]
        return np.array(rows, np.float32).reshape(len(texts), -1)

    def questions(self, texts):
        found = self._of(texts)
        return found / np.maximum(np.linalg.norm(found, axis=1, keepdims=True), 1e-9)

    def encode(self, texts, *, tokens=False):
        units = self.token_offsets(texts)
        for place, text in enumerate(texts):
            words = [text[s:e] for s, e in zip(units[place].starts[:40], units[place].ends[:40], strict=True)]
            ids = np.array([len(word) for word in words], np.int64)
            yield Encoded(
                np.array([place]),
                self._of([text]),
                [self.questions(words)] if words else [np.zeros((0, 384), np.float32)],
                [ids],
            )


class Kept(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.models = Models(MODELS)
        stamp = (MODELS / "compact-english" / "doppio-model.json").stat().st_mtime_ns
        self.models._open["compact-english"] = stamp, Hashed(MODELS / "compact-english")

    def build(self, versions, store=None, given=None):
        corpus, given = corpus_of(versions), given or self.recipe()
        builder = Builder(ArtifactStore(store or self.root / "kept"), self.models)
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, builder.chunks(corpus, key, given), "title")
        builder.indexes(key, given, texts)
        self.assertEqual(builder.missing(builder.keys(key, given)), [])
        return builder, key, builder.open(key, given, texts)

    def recipe(self, **changes):
        branches = [
            {"id": "sparse", "kind": "bm25", "depth": 30},
            {"id": "fields", "kind": "bm25", "depth": 30, "fields": {"title": {}, "body": {}}},
            {"id": "dense", "kind": "vector", "depth": 30},
        ]
        return recipe(**{"chunking": CHUNKING, "branches": branches, **changes})

    def assert_same_answers(self, one, other, message):
        np.testing.assert_array_equal(one.chunks.start, other.chunks.start, message)
        np.testing.assert_array_equal(one.chunks.document, other.chunks.document, message)
        for mine, theirs in zip(one.ask_many(QUESTIONS), other.ask_many(QUESTIONS), strict=True):
            for stage, fresh in zip(mine.stages, theirs.stages, strict=True):
                np.testing.assert_array_equal(stage.chunks, fresh.chunks, f"{message}: {stage.stage}")
                np.testing.assert_array_equal(stage.scores, fresh.scores, f"{message}: {stage.stage}")

    def assert_written(self, builder, listed, texts, message):
        opened = builder.open_list(listed)
        table, written = opened.table(), texts_of(builder.store, opened)
        ranges = list(zip(table.start.tolist(), table.end.tolist(), strict=True))
        found = [written.of(chunk) for chunk in range(len(table))]
        cuts = [text.cut(row, *range_) for (text, row), range_ in zip(found, ranges, strict=True)]
        self.assertEqual([cut.text for cut in cuts], texts.texts(range(len(table))), message)


class Expanded(Kept):
    def recipe(self, **changes):
        wide = {"id": "wide", "kind": "expanded", "depth": 30, "passage_terms": 4, "question_terms": 3}
        return recipe(chunking=CHUNKING, branches=[wide], rerank=None, **changes)

    def test_added_words_follow_the_corpus_and_are_merged_as_they_are(self):
        store = self.root / "store"
        steps = ({"a": 0, "b": 0}, {"a": 0, "b": 1, "c": 0}, {"b": 1, "c": 0, "d": 2}, {"c": 0, "d": 2}, {})
        for place, versions in enumerate(steps):
            builder, key, pipeline = self.build(versions, store)
            _, _, fresh = self.build(versions, self.root / f"fresh-{place}")
            self.assert_same_answers(pipeline, fresh, f"{versions}")
            with mock.patch("doppio.core.store.segments.MOST_PARTS", 1):
                builder.compact(builder.keys(key, self.recipe()).chunks)
            self.assertEqual(builder.missing(builder.keys(key, self.recipe())), [])
            again = builder.open(key, self.recipe(), pipeline.texts)
            self.assert_same_answers(again, fresh, f"{versions}, merged")


class Changing(Kept):
    @settings(max_examples=7)
    @given(
        st.lists(st.tuples(CORPORA, THEN), min_size=2, max_size=4),
    )
    def test_any_sequence_of_changes_answers_as_a_fresh_build_to_the_last_bit(self, steps):
        own = Path(tempfile.mkdtemp(dir=self.root))
        store = own / "store"
        for place, (versions, then) in enumerate(steps):
            with mock.patch("doppio.core.store.segments.MOST_PARTS", 3):
                builder, key, pipeline = self.build(versions, store)
                listed = builder.keys(key, self.recipe()).chunks
                if then == "compact":
                    builder.compact(listed)
                elif then == "forget":
                    builder.forget({listed})
                elif then == "other":
                    # Another analysis over segments that have lost documents.
                    self.build(
                        versions,
                        store,
                        self.recipe(branches=[PLAIN], rerank=None),
                    )
                again = builder.open(key, self.recipe(), pipeline.texts)
                _, _, fresh = self.build(versions, own / f"fresh-{place}")
            self.assert_written(builder, listed, pipeline.texts, f"step {place} after {then}")
            self.assert_same_answers(pipeline, fresh, f"step {place}")
            self.assert_same_answers(again, fresh, f"step {place} after {then}")

    @settings(max_examples=12)
    @given(CORPORA, CORPORA, st.booleans())
    def test_what_is_complete_answers_meanwhile_as_a_fresh_build_of_it_would(self, before, after, begun):
        own = Path(tempfile.mkdtemp(dir=self.root))
        store = own / "store"
        builder, _, _ = self.build(before, store)
        corpus = corpus_of(after)
        if begun:
            # The next build has cut, and has not indexed yet.
            builder.chunks(corpus, corpus_fingerprint(corpus), self.recipe())
        held = builder.held([document.digest for document in corpus], self.recipe())
        same = {document.digest for document in corpus_of(before)}
        wanted = [place for place, document in enumerate(corpus) if document.digest in same]
        if held is None:
            self.assertEqual(wanted, [])
            return
        self.assertLessEqual(set(held.documents), set(wanted))
        # Only one that has changed its place among others is cut anew, and none does here.
        self.assertEqual(held.documents, wanted)
        there = [corpus[place] for place in held.documents]
        pipeline = builder.open_held(held, self.recipe(), CorpusTexts(there, held.opened.table(), "title"))
        left = {document.id: after[document.id] for document in there}
        _, _, fresh = self.build(left, own / "fresh")
        self.assert_same_answers(pipeline, fresh, f"{before} to {after}")

    def test_a_recipe_with_an_encoder_of_the_corpus_answers_by_the_one_that_is_there(self):
        given = self.recipe(branches=[{"id": "dense", "kind": "vector", "encoder": "corpus-terms", "depth": 5}],
                            fusion={"method": "reciprocal-rank"}, rerank=None)  # fmt: skip
        self.build({"a": 0, "b": 0, "c": 1}, given=given)
        corpus = corpus_of({"a": 0, "b": 0, "c": 1, "d": 2})
        builder = Builder(ArtifactStore(self.root / "kept"), self.models)
        builder.chunks(corpus, corpus_fingerprint(corpus), given)
        held = builder.held([document.digest for document in corpus], given)
        self.assertEqual(held.documents, [0, 1, 2])
        texts = CorpusTexts(corpus[:3], held.opened.table(), "title")
        self.assertTrue(builder.open_held(held, given, texts).ask(QUESTIONS[0]).stages[0].chunks.size)

    def test_only_documents_that_are_new_or_changed_are_cut_and_encoded(self):
        self.build({"a": 0, "b": 0, "c": 1, "d": 2})
        cut_now, encoded = [], []
        real = Hashed.encode
        with (
            mock.patch.object(Hashed, "encode", lambda s, texts, **k: encoded.extend(texts) or real(s, texts, **k)),
            mock.patch(
                "doppio.core.build.builder.cut",
                lambda documents, *rest: cut_now.extend(documents) or cut(documents, *rest),
            ),
        ):
            builder, key, _ = self.build({"a": 0, "b": 1, "d": 2, "e": 0})
        self.assertEqual([document.id for document in cut_now], ["b", "e"])
        self.assertTrue(encoded)
        self.assertTrue(all(text.startswith(("b 1\n", "e 0\n")) for text in encoded), encoded)
        self.assertEqual(len(builder.lists.read(builder.keys(key, self.recipe()).chunks).parts), 2)

    def test_a_reader_keeps_what_it_opened_while_segments_are_merged_and_deleted(self):
        names = "abcdefghijkl"
        for last in range(1, len(names)):
            builder, key, pipeline = self.build(dict.fromkeys(names[:last], 0))
        before = [trace.stage("fused").chunks.tolist() for trace in pipeline.ask_many(QUESTIONS)]
        listed = builder.keys(key, self.recipe()).chunks
        self.assertGreater(len(builder.lists.read(listed).parts), MOST_PARTS)
        self.assertTrue(builder.wants_compaction(listed))
        builder.compact(listed)
        self.assertGreater(builder.forget({listed}), 0)
        self.assertFalse(builder.wants_compaction(listed))
        self.assertLessEqual(len(builder.lists.read(listed).parts), MOST_PARTS // 2)
        self.assertEqual([trace.stage("fused").chunks.tolist() for trace in pipeline.ask_many(QUESTIONS)], before)
        self.assertEqual(builder.missing(builder.keys(key, self.recipe())), [])

    def test_texts_of_segments_that_have_none_are_read_elsewhere_and_written_by_the_next_build(self):
        builder, key, pipeline = self.build({"a": 0, "b": 2})
        first = builder.lists.read(builder.keys(key, self.recipe()).chunks).parts[0].key
        builder.store.remove(TEXTS.kind, TEXTS.key(first))
        corpus = corpus_of({"a": 0, "b": 2, "c": 2})
        key = corpus_fingerprint(corpus)
        builder.chunks(corpus, key, self.recipe())
        keys = builder.keys(key, self.recipe())
        self.assertTrue(builder.lacks_texts(keys))
        opened = builder.open_list(keys.chunks)
        self.assertEqual([texts_of(builder.store, opened).of(chunk) for chunk in (0, opened.numbering.count - 1)],
                         [None, None])  # fmt: skip
        texts = CorpusTexts(corpus, opened.table(), "title")
        self.assertEqual(builder.write_texts(keys, self.recipe(), texts), 2)
        self.assertEqual((builder.write_texts(keys, self.recipe(), texts), builder.lacks_texts(keys)), (0, False))
        self.assert_written(builder, keys.chunks, texts, "written later")
        # One that has lost a document is not cut anew for that.
        builder, key, pipeline = self.build({"a": 0, "b": 2, "c": 2, "d": 2})
        builder, key, pipeline = self.build({"a": 0, "c": 2, "d": 2})
        keys = builder.keys(key, self.recipe())
        for part in (parts := builder.lists.read(keys.chunks).parts):
            builder.store.remove(TEXTS.kind, TEXTS.key(part.key))
        builder.indexes(key, self.recipe(), pipeline.texts)
        self.assertEqual([part.key for part in builder.lists.read(keys.chunks).parts], [part.key for part in parts])
        self.assert_written(builder, keys.chunks, pipeline.texts, "written again")

    def test_texts_of_documents_that_are_nowhere_any_more_are_left_out_and_the_others_stay(self):
        builder, key, _ = self.build({"a": 2, "b": 1, "c": 2})
        corpus = corpus_of({"a": 2, "b": 1, "c": 2})
        opened = builder.open_list(builder.keys(key, self.recipe()).chunks)
        first = opened.table().of_document(1).start
        before = texts_of(builder.store, opened).of(first)
        alive = {corpus[0].digest, corpus[2].digest}
        self.assertEqual([builder.forget_texts(alive) for _ in range(2)], [1, 0])
        written = texts_of(builder.store, opened)
        for chunk, document in enumerate(opened.table().document.tolist()):
            found = written.of(chunk)
            expected = [corpus[0].text, None, corpus[2].text][document]
            self.assertEqual(found and found[0].cut(found[1], 0, 9999).text, expected)
        # Who has it open reads on, and on disk it is nowhere.
        self.assertEqual(before[0].cut(before[1], 0, 9999).text, corpus[1].text)
        files = [path.read_bytes() for path in builder.store.root.glob("texts-*/*.npy")]
        self.assertFalse(any(corpus[1].text[:40].encode() in data for data in files))
        self.assertTrue(any(corpus[0].text[:40].encode() in data for data in files))
        self.assertEqual(list(builder.store.root.glob(".scratch*")), [])
        # One that comes back is read from where it is, and merged as one that is not there.
        self.build({"a": 2, "b": 1, "c": 2, "d": 1})
        with mock.patch("doppio.core.store.segments.MOST_PARTS", 1):
            builder, key, _ = self.build({"a": 2, "b": 1, "c": 2, "d": 1})
            builder.compact(builder.keys(key, self.recipe()).chunks)
        opened = builder.open_list(builder.keys(key, self.recipe()).chunks)
        self.assertEqual(len(opened.segments), 1)
        held = [texts_of(builder.store, opened).of(chunk) is not None for chunk in range(opened.numbering.count)]
        self.assertEqual(held, (opened.table().document != 1).tolist())

    def test_nothing_is_forgotten_while_something_is_built(self):
        builder, _, _ = self.build({"a": 0})
        self.build({"a": 1})
        with ArtifactStore(self.root / "kept").in_use():
            self.assertEqual(builder.forget(set()), 0)

    def test_structures_are_merged_with_their_segments(self):
        for kind in ("hnsw", "int8"):
            branches = [{"id": "dense", "kind": "vector", "depth": 20, "structure": {"kind": kind}}]
            given = self.recipe(branches=branches, rerank=None)
            store = self.root / kind
            for last in range(1, 12):
                builder, key, _ = self.build(dict.fromkeys("abcdefghijkl"[:last], 2), store, given)
            builder.compact(builder.keys(key, given).chunks)
            builder, key, pipeline = self.build(dict.fromkeys("abcdefghijkl"[:11], 2), store, given)
            exact = self.recipe(branches=[{"id": "dense", "kind": "vector", "depth": 20}], rerank=None)
            _, _, fresh = self.build(dict.fromkeys("abcdefghijkl"[:11], 2), self.root / f"{kind}-fresh", exact)
            self.assert_same_answers(pipeline, fresh, kind)

    def test_the_encoder_of_the_corpus_is_trained_anew_when_the_corpus_changes(self):
        given = self.recipe(branches=[{"id": "dense", "kind": "vector", "encoder": TRAINED}], rerank=None)
        self.build({"a": 2, "b": 1}, given=given)
        _, _, changed = self.build({"a": 2, "b": 1, "c": 2}, given=given)
        _, _, fresh = self.build({"a": 2, "b": 1, "c": 2}, self.root / "fresh", given=given)
        for one, other in zip(changed.ask_many(QUESTIONS), fresh.ask_many(QUESTIONS), strict=True):
            np.testing.assert_allclose(one.stage("dense").scores, other.stage("dense").scores, atol=1e-4)

    def test_a_title_that_changed_makes_its_document_new(self):
        self.build({"a": 0, "b": 0})
        corpus = corpus_of({"a": 0, "b": 0})
        renamed = corpus[0].__class__(**{**corpus[0].__dict__, "title": "Another title"})
        steps = []
        with mock.patch(
            "doppio.core.build.builder.cut", lambda documents, *rest: steps.extend(documents) or cut(documents, *rest)
        ):
            builder = Builder(ArtifactStore(self.root / "kept"), self.models)
            builder.chunks([renamed, corpus[1]], corpus_fingerprint([renamed, corpus[1]]), self.recipe())
        self.assertEqual([document.title for document in steps], ["Another title"])


class Nested(unittest.TestCase):
    """Small chunks are matched, the host around them is handed on and paid for once."""

    def pipeline(self, **select):
        builder = DocumentBuilder()
        builder.add(HEADING, "Wind rules", 1)
        for place in ("ridge", "valley", "tower", "station"):
            builder.add(
                PARAGRAPH, f"The wind at the {place} is read. The gauge of the {place} is heated. It shows red."
            )
        document = builder.build("wind.md")
        chunking = {"rule": "sentence-groups", "unit": "words", "size": 8, "host": {"size": 24}}
        given = recipe(chunking=chunking, select={"k": 2, "budget_tokens": 120, **select})
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))
        key = corpus_fingerprint([document])
        table = builder.chunks([document], key, given)
        texts = CorpusTexts([document], table)
        builder.indexes(key, given, texts)
        return builder.open(key, given, texts)

    def test_neighbours_in_one_host_take_one_place_and_one_price(self):
        pipeline = self.pipeline()
        trace = pipeline.ask("Is the gauge at the tower heated?")
        passed = trace.stage("context").passed
        hosts = set(pipeline.chunks.host_start[passed].tolist())
        self.assertLessEqual(len(hosts), 2)
        self.assertGreater(len(passed), len(hosts))
        prices = {int(pipeline.chunks.host_start[chunk]): int(pipeline.chunks.handed[chunk]) for chunk in passed}
        self.assertEqual(trace.tokens, sum(prices.values()))
        self.assertLessEqual(trace.tokens, 120)

    def test_the_budget_counts_the_host_and_not_the_chunk(self):
        pipeline = self.pipeline(budget_tokens=12)
        self.assertEqual(len(pipeline.ask("gauge at the tower").stage("context").passed), 0)

    def test_texts_of_hosts_hold_those_of_their_chunks(self):
        texts = self.pipeline().texts
        everything = range(len(texts.table))
        for chunk, host in zip(texts.texts(everything), texts.hosts(everything), strict=True):
            self.assertIn(chunk, host)
