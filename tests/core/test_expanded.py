"""Expanded terms: what is added to chunks and questions, against plain loops; every added term can be left out."""

import math
import tempfile
import unittest
from collections import Counter
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.branches.expanded import ExpandedBranch
from doppio.core.branches.query import Query
from doppio.core.branches.sparse.building import build_postings, pack_counted
from doppio.core.branches.sparse.expanding import WHOLE, is_added
from doppio.core.branches.sparse.vocabulary import Vocabulary, gather
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import RecipeError
from doppio.core.models.registry import TRAINED, Models
from doppio.core.progress import Silent
from doppio.core.question.reading import Beside
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, encoder, recipe

K1, B = 1.4, 0.6
OWN = {"passage_terms": 4, "passage_weight": 0.8, "question_terms": 3, "question_weight": 0.3, "k1": K1, "b": B}
QUESTIONS = ("May my puppy travel?", "When does the wind stop the gondola?", "E-471", "of the and")
WORDS = ("gondola", "cabin", "wind", "dog", "muzzle", "ticket", "deposit", "office")


def vocabulary_of(vectors):
    names = [f"t{place:02d}" for place in range(len(vectors))]
    blob = "".join(names).encode()
    texts = np.frombuffer(blob, np.uint8), np.arange(0, len(blob) + 1, 3)
    return Vocabulary(*texts, *texts, np.asarray(vectors, np.float32))


class Nearest(unittest.TestCase):
    @settings(max_examples=40)
    @given(st.integers(0, 2**32), st.integers(1, 12), st.integers(1, 9), st.integers(1, 6))
    def test_is_what_sorting_every_cosine_gives(self, seed, terms, texts, count):
        dice = np.random.default_rng(seed)
        # Few values, so that there are ties.
        vectors = dice.integers(-2, 3, (terms, 4)).astype(np.float32)
        vectors /= np.maximum(np.linalg.norm(vectors, axis=1, keepdims=True), 1)
        asked = dice.integers(-2, 3, (texts, 4)).astype(np.float32)
        own = [np.flatnonzero(dice.random(terms) < 0.3) for _ in range(texts)]
        places, cosines = vocabulary_of(vectors).nearest(asked, own, count)
        for row, text in enumerate(asked):
            unit = text / max(np.linalg.norm(text), 1e-12)
            found = (vectors @ unit).astype(np.float64)
            left = [place for place in range(terms) if place not in own[row] and found[place] > 1e-6]
            wanted = sorted((round(-found[place], 5), place) for place in left)[:count]
            got = [(round(-float(c), 5), int(p)) for p, c in zip(places[row], cosines[row], strict=True) if c > 1e-6]
            self.assertEqual([score for score, _ in got], [score for score, _ in wanted])
            self.assertEqual(len({place for _, place in got}), len(got))
            self.assertFalse(set(places[row].tolist()) & set(own[row].tolist()))

    def test_a_vocabulary_holds_words_that_two_chunks_have_and_not_codes(self):
        texts = ["The gondolas of line E-417 stopped.", "A gondola stops at 18.", "Puppies and gondolas."]
        arrays = gather(iter(texts), Analysis(), encoder(), 10, Silent())
        made = Vocabulary.opened(arrays)
        self.assertEqual(made.terms, ["gondola", "stop"])
        self.assertEqual(made.words, ["gondolas", "stopped"])
        for term, word in zip(made.terms, ("gondolas", "stopped"), strict=True):
            own = encoder().questions([word])[0]
            np.testing.assert_allclose(made.vectors[made.places[term]], own / np.linalg.norm(own), atol=1e-5)
        self.assertEqual(
            Vocabulary.opened(gather(iter(texts), Analysis(), encoder(), 1, Silent())).terms, ["gondola"]
        )


class Counted(unittest.TestCase):
    @given(st.lists(st.lists(st.sampled_from(WORDS), max_size=9), max_size=6))
    def test_counts_of_one_an_occurrence_give_plain_postings(self, chunks):
        texts = [" ".join(words) for words in chunks]
        plain = build_postings(texts, len(texts), Analysis(stem=False))
        names = [*reversed(WORDS), "never"]
        own = [Counter(words) for words in chunks]
        stream = [names.index(word) for counts in own for word in counts]
        made = pack_counted(
            names, np.array(stream, np.int32), np.array([n for counts in own for n in counts.values()], np.int32),
            np.array([len(counts) for counts in own], np.int64), np.array([len(words) for words in chunks], np.int32),
        )  # fmt: skip
        for name, array in plain.arrays().items():
            np.testing.assert_array_equal(getattr(made, name), array, name)


class OverTheRopeway(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.corpus = documents()
        cls.builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))
        cls.recipe = recipe(branches=[{"id": "wide", "kind": "expanded", **OWN}], rerank=None)
        key = corpus_fingerprint(cls.corpus)
        texts = CorpusTexts(cls.corpus, cls.builder.chunks(cls.corpus, key, cls.recipe))
        cls.builder.indexes(key, cls.recipe, texts)
        cls.pipeline = cls.builder.open(key, cls.recipe, texts)
        cls.branch = cls.pipeline.branches["wide"]
        assert isinstance(cls.branch, ExpandedBranch)
        cls.texts = texts.indexed(range(len(cls.pipeline.chunks)))
        cls.analysis = Analysis()
        cls.vectors = [next(iter(encoder().encode([text]))).vectors[0] for text in cls.texts]

    def chunks(self, without=frozenset(), asked=()):
        """Terms of every chunk with their counts, added ones among them, by loops over all words."""
        vocabulary, found = self.branch.vocabulary, []
        for text, vector in zip(self.texts, self.vectors, strict=True):
            own = Counter(term.text for term in self.analysis.terms(text))
            near = sorted(
                (-float(vector @ vocabulary.vectors[place]), term)
                for term, place in vocabulary.places.items()
                if term not in own
            )[: OWN["passage_terms"]]
            added = {term: max(1, round(-cosine * 0.8 * WHOLE)) / WHOLE for cosine, term in near if cosine < 0}
            found.append((dict(own), {term: w for term, w in added.items() if term not in without & set(asked)}))
        return found

    def asked(self, question, without=frozenset()):
        own = Counter(term.text for term in self.analysis.asked(question))
        vector = encoder().questions([question])[0]
        near = sorted(
            (-float(vector @ self.branch.vocabulary.vectors[place]), term)
            for term, place in self.branch.vocabulary.places.items()
            if term not in own
        )[: OWN["question_terms"]]
        return own, {term: 0.3 for cosine, term in near if cosine < 0 and term not in without}

    def slow(self, question, without=frozenset()):
        """BM25 with parts of occurrences, chunk by chunk."""
        own, added = self.asked(question, without)
        everything = self.chunks()
        held = Counter(term for said, given_ in everything for term in {**said, **given_})
        lengths = [sum(said.values()) for said, _ in everything]
        mean = sum(lengths) / len(lengths)
        scores = []
        for (said, given_), length in zip(self.chunks(without, own), lengths, strict=True):
            counts = {**given_, **said}
            total = 0.0
            for term, weight in {**added, **own}.items():
                if term in counts:
                    idf = math.log(1 + (len(lengths) - held[term] + 0.5) / (held[term] + 0.5))
                    norm = K1 * (1 - B + B * length / mean)
                    total += weight * idf * counts[term] * (K1 + 1) / (counts[term] + norm)
            scores.append(total)
        return np.array(scores)

    def found(self, question, without=frozenset()):
        [(chunks, scores)] = self.branch.search_asked(
            [Query(question, None, frozenset(without))], encoder().questions([question]), 50, None
        )
        dense = np.zeros(len(self.texts))
        dense[chunks] = scores
        self.assertEqual(sorted(scores, reverse=True), list(scores))
        return dense

    def test_scores_are_those_of_the_slow_formula(self):
        for question in QUESTIONS:
            np.testing.assert_allclose(self.found(question), self.slow(question), atol=2e-5, err_msg=question)

    def test_a_term_that_is_left_out_adds_nothing_on_either_side(self):
        moved = 0
        for question in QUESTIONS:
            own, added = self.asked(question)
            for without in ({next(iter(added))} if added else set(), set(own), set(own) | set(added)):
                fresh = self.found(question, without)
                np.testing.assert_allclose(fresh, self.slow(question, frozenset(without)), atol=2e-5)
                moved += not np.allclose(fresh, self.found(question))
        self.assertGreater(moved, 2)

    def test_shares_add_up_to_the_score_and_say_what_was_added(self):
        said_by_nobody = 0
        for question in QUESTIONS:
            own, added = self.asked(question)
            for without in (frozenset(), frozenset(own)):
                scores = self.found(question, without)
                rows = self.branch.explain_asked(Query(question, None, without), range(len(self.texts)))
                for row, score, (said, given_) in zip(rows, scores, self.chunks(), strict=True):
                    self.assertAlmostEqual(sum(share.share for share in row.terms), score, places=4)
                    for share in row.terms:
                        self.assertEqual(share.added_to_question, share.term in added)
                        self.assertEqual(share.added_to_chunk, share.term in given_)
                        self.assertEqual(share.in_chunk, {**given_, **said}.get(share.term, 0))
                        said_by_nobody += share.added_to_question and share.added_to_chunk
        self.assertGreater(said_by_nobody, 0)

    def test_what_was_added_to_a_chunk_can_be_read(self):
        rows = self.branch.added_to(range(len(self.texts)))
        for chunk, (row, (said, given_)) in enumerate(zip(rows, self.chunks(), strict=True)):
            self.assertEqual({added.term: added.weight for added in row}, given_)
            for term in given_:
                holders, counts = self.branch.index.holders(term)
                self.assertIn(chunk, holders[is_added(counts)])
                self.assertNotIn(term, said)

    def test_beside_a_question_it_goes_through_the_pipeline(self):
        question = QUESTIONS[0]
        _, added = self.asked(question)
        plain = self.pipeline.ask(question).stage("wide")
        without = self.pipeline.ask(question, Beside(without=frozenset(added))).stage("wide")
        self.assertNotEqual(plain.scores.tolist(), without.scores.tolist())

    def test_nothing_added_is_bm25(self):
        key = corpus_fingerprint(self.corpus)
        none = {**OWN, "passage_terms": 0, "question_terms": 0}
        given_ = recipe(
            branches=[
                {"id": "wide", "kind": "expanded", **none},
                {"id": "sparse", "kind": "bm25", "k1": K1, "b": B},
            ],
            rerank=None,
        )
        texts = CorpusTexts(self.corpus, self.builder.chunks(self.corpus, key, given_))
        self.builder.indexes(key, given_, texts)
        pipeline = self.builder.open(key, given_, texts)
        for question in QUESTIONS:
            trace = pipeline.ask(question)
            self.assertEqual(trace.stage("wide").chunks.tolist(), trace.stage("sparse").chunks.tolist())
            np.testing.assert_allclose(trace.stage("wide").scores, trace.stage("sparse").scores, rtol=1e-5)

    def test_what_cannot_be_expanded_is_refused(self):
        for wrong, told in (
            ({"encoder": TRAINED}, "encoder"),
            ({"analysis": {"grams": {"from": 2, "to": 3}}}, "grams"),
        ):
            with self.assertRaisesRegex(RecipeError, told):
                recipe(branches=[{"id": "wide", "kind": "expanded", **wrong}], rerank=None)
