"""A build over changed documents takes over what is unchanged, and equals a build from nothing."""

import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.artifacts import ArtifactStore
from doppio.core.build import Builder, Models
from doppio.core.chunking.table import CorpusTexts, cut
from doppio.core.chunking.units import words
from doppio.core.models.encoder import Encoder
from doppio.core.reuse import digest_column, lists_taken, rows_taken, taken_rows, unchanged
from doppio.core.sparse.postings import build_postings, taken_over
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import HEADING, PARAGRAPH, DocumentBuilder, corpus_fingerprint
from tests.core.corpus import MODELS, recipe

TERMS = "rope wind line cabin tower brake ice snow grip door E-417 lift".split()
CHUNKING = {"rule": "fixed-window", "unit": "words", "size": 8, "overlap": 2}


class AsWords:
    def token_offsets(self, texts):
        return [words(text) for text in texts]


def made(name, seed):
    dice = random.Random(f"{name} {seed}")
    builder = DocumentBuilder()
    builder.add(HEADING, f"{name} {seed}", 1)
    for _ in range(dice.randrange(4)):
        builder.add(PARAGRAPH, " ".join(dice.choices(TERMS, k=dice.randrange(1, 30))))
    return builder.build(name)


# A corpus is which documents there are and which version of each.
CORPORA = st.dictionaries(st.sampled_from("abcdefgh"), st.integers(0, 2), max_size=8)


def corpus_of(versions):
    return [made(name, version) for name, version in sorted(versions.items())]


def rows(texts, chunks):
    return np.array([[len(text), hash(text) % 997] for text in texts.texts(chunks)]).reshape(-1, 2)


def signs(texts, chunks):
    return [[ord(sign) for sign in text] for text in texts.texts(chunks)]


def flat(lists):
    return np.array([value for one in lists for value in one], np.int64)


class Merging(unittest.TestCase):
    def both(self, before, now):
        old_corpus, corpus = corpus_of(before), corpus_of(now)
        old, table = cut(old_corpus, CHUNKING, AsWords()), cut(corpus, CHUNKING, AsWords())
        digests = [digest_column([document.digest for document in one]) for one in (old_corpus, corpus)]
        taken = taken_rows(old, table, unchanged(*digests))
        return CorpusTexts(old_corpus, old), CorpusTexts(corpus, table), taken

    @settings(max_examples=80, deadline=None)
    @given(CORPORA, CORPORA)
    def test_only_chunks_of_unchanged_documents_are_taken_and_they_are_the_same(self, before, now):
        old, texts, taken = self.both(before, now)
        kept = {name for name in now if before.get(name) == now[name]}
        owners = {texts.documents[texts.table.document[row]].id for row in taken.new.tolist()}
        self.assertEqual(owners, kept)
        self.assertEqual(old.texts(taken.old.tolist()), texts.texts(taken.new.tolist()))
        self.assertEqual(len(taken.new) + len(taken.rest(len(texts.table))), len(texts.table))

    @settings(max_examples=80, deadline=None)
    @given(CORPORA, CORPORA)
    def test_postings_equal_those_of_a_fresh_build(self, before, now):
        old, texts, taken = self.both(before, now)
        rest = taken.rest(len(texts.table)).tolist()
        index = build_postings(old.texts(range(len(old.table))), len(old.table), Analysis())
        merged = taken_over(index, taken, build_postings(texts.texts(rest), len(rest), Analysis()), len(texts.table))
        fresh = build_postings(texts.texts(range(len(texts.table))), len(texts.table), Analysis())
        self.assertEqual(set(merged.vocabulary), set(fresh.vocabulary))
        np.testing.assert_array_equal(merged.lengths, fresh.lengths)
        for term in fresh.vocabulary:
            for mine, theirs in zip(merged.of(term), fresh.of(term), strict=True):
                np.testing.assert_array_equal(mine, theirs)

    @settings(max_examples=80, deadline=None)
    @given(CORPORA, CORPORA)
    def test_rows_and_lists_come_to_their_places(self, before, now):
        old, texts, taken = self.both(before, now)
        rest = taken.rest(len(texts.table)).tolist()
        everything = range(len(texts.table))
        joined = rows_taken(len(texts.table), taken, rows(old, range(len(old.table))), rows(texts, rest))
        np.testing.assert_array_equal(joined, rows(texts, everything))
        before_lists, fresh = signs(old, range(len(old.table))), signs(texts, rest)
        begins = np.concatenate([[0], np.cumsum([len(one) for one in before_lists])]).astype(np.int64)
        lengths = np.array([len(one) for one in fresh], np.int64)
        found_begins, (found,) = lists_taken(
            len(texts.table), taken, begins, [flat(before_lists)], lengths, [flat(fresh)]
        )
        wanted = signs(texts, everything)
        np.testing.assert_array_equal(found, flat(wanted))
        np.testing.assert_array_equal(np.diff(found_begins), [len(one) for one in wanted])


class Building(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = ArtifactStore(Path(folder.name))
        self.recipe = recipe(chunking={**CHUNKING, "context": "title"})

    def build(self, versions, store=None):
        corpus = corpus_of(versions)
        builder = Builder(store or self.store, Models(MODELS))
        key = corpus_fingerprint(corpus)
        table = builder.chunks(corpus, key, self.recipe)
        texts = CorpusTexts(corpus, table, "title")
        builder.indexes(key, self.recipe, table, texts)
        return builder.open(key, self.recipe, texts, table)

    def test_only_new_and_changed_documents_are_encoded(self):
        before = {"a": 0, "b": 0, "c": 1, "d": 2}
        self.build(before)
        encoded = []
        real = Encoder.encode
        with mock.patch.object(
            Encoder, "encode", lambda self, texts, **k: encoded.extend(texts) or real(self, texts, **k)
        ):
            pipeline = self.build({"a": 0, "b": 1, "d": 2, "e": 0})
        self.assertTrue(encoded)
        self.assertTrue(all(text.startswith(("b 1\n", "e 0\n")) for text in encoded), encoded)
        fresh = self.build({"a": 0, "b": 1, "d": 2, "e": 0}, ArtifactStore(self.store.root / "fresh"))
        np.testing.assert_allclose(pipeline.vectors["dense"], fresh.vectors["dense"], atol=2e-5)
        for question in ("wind at the tower", "E-417", "brake of the cabin door"):
            one, other = pipeline.ask(question), fresh.ask(question)
            for mine, theirs in zip(one.stages, other.stages, strict=True):
                np.testing.assert_allclose(
                    np.sort(mine.scores), np.sort(theirs.scores), atol=0.02, err_msg=mine.stage
                )

    def test_a_title_that_changed_makes_its_document_new(self):
        self.build({"a": 0, "b": 0})
        steps = []
        corpus = corpus_of({"a": 0, "b": 0})
        renamed = corpus[0].__class__(**{**corpus[0].__dict__, "title": "Another title"})
        with mock.patch(
            "doppio.core.build.cut", lambda documents, *rest: steps.extend(documents) or cut(documents, *rest)
        ):
            builder = Builder(self.store, Models(MODELS))
            builder.chunks([renamed, corpus[1]], corpus_fingerprint([renamed, corpus[1]]), self.recipe)
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
        builder.indexes(key, given, table, texts)
        return builder.open(key, given, texts, table)

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
