"""Before the search: conditions inside each structure, search terms, other wordings and how far they drift."""

import tempfile
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.branches.dense.index import DenseIndex, Segment
from doppio.core.branches.dense.metric import prepared
from doppio.core.branches.dense.structure import build_structure, open_structure
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.branches.query import Query, search
from doppio.core.branches.sparse.building import build_postings
from doppio.core.branches.sparse.index import Segment as Postings
from doppio.core.branches.sparse.index import SparseIndex
from doppio.core.branches.sparse.weighting import OKAPI, Weighting
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import RecipeError
from doppio.core.kinds import Settings
from doppio.core.models.registry import Models
from doppio.core.question.conditions import ConditionError, allowed_chunks, read_conditions
from doppio.core.question.joins.kind import JOINS
from doppio.core.question.kind import SEARCH_TERMS, WORDINGS
from doppio.core.question.reading import Beside
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import corpus_fingerprint
from doppio.core.text.units import folded_words
from doppio.core.trace import Trace
from tests.core.corpus import MODELS, documents, recipe


def started(of, **told) -> Settings:
    """A kind's settings as they start."""
    return {setting.name: setting.default for setting in of.settings} | told


class Conditions(unittest.TestCase):
    def holds(self, text, **metadata):
        conditions = read_conditions(text)
        return all(one.holds([value for name, value in metadata.items() if name.replace("_", " ") == one.field])
                   for one in conditions)  # fmt: skip

    def test_what_each_says(self):
        for text, metadata, wanted in (
            ("status is in force", {"status": "In  Force"}, True),
            ("status is draft or in force", {"status": "in force"}, True),
            ("status is not draft", {}, True),
            ("status is not draft", {"status": "draft"}, False),
            ("status is dr*", {"status": "draft"}, True),
            ("status is d.aft", {"status": "draft"}, False),
            ("status has raf", {"status": "draft"}, True),
            ("status has not raf", {"status": "draft"}, False),
            ("tags is wind", {"tags": ["ice", "wind"]}, True),
            ("edition from 5", {"edition": 5}, True),
            ("edition from 5", {"edition": "7"}, True),
            ("edition from 5", {"edition": "seven"}, False),
            ("edition to 4.5", {"edition": 5}, False),
            ("valid until from 2025-01-01", {"valid_until": "2025-06-30"}, True),
            ("valid until to 2025-06", {"valid_until": "2025-06-30"}, False),
            ("valid until to 2025-06-30", {"valid_until": "2025-06-30T23:00:00"}, True),
            ("edition from 2025-01-01", {"edition": 7}, False),
            ('status is "in force, since May"', {"status": "in force, since May"}, True),
            ('"line is" is B, edition from 2', {"line is": "B", "edition": 3}, True),
            ("", {}, True),
        ):
            if text == "valid until to 2025-06":
                with self.assertRaisesRegex(ConditionError, "takes a number or a date"):
                    read_conditions(text)
                continue
            self.assertIs(self.holds(text, **metadata), wanted, (text, metadata))

    def test_what_is_no_condition_is_told_with_what_would_be_right(self):
        for text, message in (
            ("edition", "'edition' is none; write a field, one of is not, has not, is"),
            ("edition from five", "from takes a number or a date like"),
            ("document from 5", "document has no order; use is or has"),
            ('status is "draft', "is not closed"),
            (", ".join(["a is b"] * 21), "21 of them; at most 20"),
        ):
            with self.assertRaisesRegex(ConditionError, message):
                read_conditions(text)
            with self.assertRaisesRegex(RecipeError, "question.conditions: "):
                recipe(question={"conditions": text})

    @given(st.text(max_size=60))
    def test_any_text_is_read_or_refused(self, text):
        try:
            read_conditions(text)
        except ConditionError as error:
            self.assertIn("conditions: ", str(error))


COUNT, WIDE = 600, 24


class InsideEveryStructure(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        random = np.random.default_rng(5)
        rows = random.normal(size=(COUNT, WIDE)).astype(np.float32)
        cls.rows = rows / np.linalg.norm(rows, axis=1, keepdims=True)
        cls.vectors = prepared(cls.rows, np.einsum("ij,ij->i", cls.rows, cls.rows), "cosine")
        cls.questions = random.normal(size=(8, WIDE)).astype(np.float32)

    def best(self, question, allowed, depth):
        scores = self.rows @ (question / np.linalg.norm(question))
        places = np.flatnonzero(allowed)
        return places[np.argsort(-scores[places], kind="stable")][:depth].tolist()

    def test_as_many_hits_as_there_are_come_back_and_only_those_that_may(self):
        for kind in STRUCTURES:
            told = started(kind, kind=kind.name)
            structure = open_structure(kind.name, build_structure(self.vectors, told)) if kind.built else None
            index = DenseIndex([Segment(self.vectors, structure)])
            for share in (0.01, 0.1, 0.5):
                allowed = np.random.default_rng(int(100 * share)).random(COUNT) < share
                found = index.search_many(self.questions, 10, told, allowed)
                right = 0
                for question, (chunks, _) in zip(self.questions, found, strict=True):
                    self.assertTrue(allowed[chunks].all(), kind.name)
                    self.assertEqual(len(chunks), min(10, int(allowed.sum())), (kind.name, share))
                    right += len(set(chunks.tolist()) & set(self.best(question, allowed, 10)))
                possible = 8 * min(10, int(allowed.sum()))
                # Few rows are compared one by one, whatever the structure.
                self.assertGreaterEqual(
                    right, possible if share < 0.2 or not kind.built else 0.6 * possible, kind.name
                )

    def test_deleted_rows_stay_away_and_numbers_are_those_of_the_index(self):
        now = np.arange(COUNT) - 1
        index = DenseIndex([Segment(self.vectors, None, now)])
        allowed = np.zeros(COUNT - 1, bool)
        allowed[[3, 77, 400]] = True
        for chunks, _ in index.search_many(self.questions, 10, None, allowed):
            self.assertEqual(sorted(chunks.tolist()), [3, 77, 400])

    def test_terms_find_what_may_be_found_with_the_scores_that_it_has_anyway(self):
        random = np.random.default_rng(1)
        words = [f"w{number}" for number in range(30)]
        texts = [" ".join(random.choice(words, 12)) for _ in range(300)]
        analysis = Analysis.of({"language": "any", "stem": False, "stop_words": False, "keep_codes": True,
                                "ngrams": None, "cjk": "pairs", "synonyms": []})  # fmt: skip
        index = SparseIndex([Postings(build_postings(texts, 300, analysis))])
        allowed = random.random(300) < 0.1
        every, scores = index.search(["w1", "w2", "w2"], 300, Weighting(OKAPI))
        known = dict(zip(every.tolist(), scores.tolist(), strict=True))
        for exhaustive in (True, False):
            chunks, own = index.search(
                ["w1", "w2", "w2"], 7, Weighting(OKAPI), exhaustive=exhaustive, allowed=allowed
            )
            wanted = [chunk for chunk in every.tolist() if allowed[chunk]][:7]
            self.assertEqual(chunks.tolist(), wanted)
            self.assertEqual([known[chunk] for chunk in wanted], own.tolist())
        # A weight of 2 is a term that stands twice; half of all weights is half of all scores.
        weighed, told = index.search({"w1": 1.0, "w2": 2.0}, 300, Weighting(OKAPI))
        self.assertEqual((weighed.tolist(), told.tolist()), (every.tolist(), scores.tolist()))
        halved = dict(
            zip(*(one.tolist() for one in index.search({"w1": 0.5, "w2": 1.0}, 300, Weighting(OKAPI))), strict=True)
        )
        for chunk, score in known.items():
            self.assertAlmostEqual(halved[chunk], score / 2, places=4)

    def test_a_branch_that_knows_no_conditions_is_asked_deeper(self):
        class Plain:
            def search_many(self, questions, vectors, depth):
                return [(np.arange(min(depth, 50)), -np.arange(min(depth, 50), dtype=np.float32)) for _ in questions]

        allowed = np.zeros(50, bool)
        allowed[[4, 20, 49]] = True
        [(chunks, _)] = search(Plain(), [Query("?")], None, 2, allowed)
        self.assertEqual(chunks.tolist(), [4, 20])
        [(chunks, _)] = search(Plain(), [Query("?")], None, 10, allowed)
        self.assertEqual(chunks.tolist(), [4, 20, 49])


RANKING = st.lists(st.integers(0, 15), max_size=8, unique=True).map(
    lambda ids: (
        np.array(ids, np.int64),
        np.linspace(3, 1, len(ids)).astype(np.float32) if ids else np.empty(0, np.float32),
    )
)


class Joins(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.lists(RANKING, min_size=1, max_size=4))
    def test_ranks_are_those_of_the_formula_and_scores_fall(self, rankings):
        join = JOINS.get("ranks")
        chunks, scores = join.joined(rankings, started(join))
        sums = Counter()
        for place, (ids, _) in enumerate(rankings):
            for rank, chunk in enumerate(ids.tolist()):
                sums[chunk] += (0.5 if place else 1.0) / (61 + rank)
        self.assertEqual(chunks.tolist(), sorted(sums, key=lambda chunk: (-sums[chunk], chunk)))
        self.assertTrue((np.diff(scores) <= 0).all())
        if len(scores):
            self.assertEqual(scores.max(), max(own.max() for _, own in rankings if len(own)))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(RANKING, min_size=1, max_size=4))
    def test_the_best_score_of_any(self, rankings):
        chunks, scores = JOINS.get("best").joined(rankings, {})
        best = {}
        for ids, own in rankings:
            for chunk, score in zip(ids.tolist(), own.tolist(), strict=True):
                best[chunk] = max(score, best.get(chunk, score))
        self.assertEqual(dict(zip(chunks.tolist(), scores.tolist(), strict=True)), best)
        self.assertTrue((np.diff(scores) <= 0).all())


RARE = {"gondola": 2.0, "stops": 1.0, "gust": 4.0, "E-417": 6.0}


def corpus(**more):
    return SimpleNamespace(
        rarity=lambda words: [RARE.get(word, 0.5) for word in words], language="en", hint="an aerial ropeway", **more
    )


class Words(unittest.TestCase):
    def key_terms(self, question, **told):
        rule = SEARCH_TERMS.get("key-terms")
        return rule.words(question, corpus(), started(rule, **told))

    def test_codes_and_quoted_phrases_come_first_then_what_is_rare(self):
        found = self.key_terms('Why does "the brake" report E-417 when a gust stops the gondola?')
        self.assertEqual(list(found)[:3], ["the", "brake", "E-417"])
        self.assertEqual(list(found)[3:], ["gust", "gondola", "stops"])
        self.assertEqual((found["E-417"], found["gust"], found["gondola"]), (1.5, 1.0, 0.5))
        self.assertEqual(len(self.key_terms("E-417 gust gondola", most=2)), 2)

    def test_without_rarity_all_weigh_the_same_and_a_question_of_small_words_is_left(self):
        self.assertEqual(set(self.key_terms("the gust stops", by_rarity=False).values()), {1.0})
        self.assertIsNone(self.key_terms("what is it?"))

    def test_templates(self):
        way = WORDINGS.get("templates")
        told = started(way, templates="{terms}\nrules of {hint}: {question}\n\n{question}")
        found = way.wordings("When does a gust stop it?", corpus(), told)
        self.assertEqual([one.text for one in found],
                         ["gust stop", "rules of an aerial ropeway: When does a gust stop it",
                          "When does a gust stop it"])  # fmt: skip

    def test_feedback_is_the_relevance_model_of_the_hits(self):
        texts = {0: "the gust gauge of tower nine", 1: "gust gust display"}
        scores = np.array([3.0, 1.0], np.float32)
        way = WORDINGS.get("feedback")
        about = corpus(first_hits=lambda: (np.array([0, 1]), scores), texts=lambda ids: [texts[one] for one in ids])
        told = started(way, terms=2, share=0.5)
        [found] = way.wordings("gust limit", about, told)
        model = Counter()
        for share, text in ((0.75, texts[0]), (0.25, texts[1])):
            words = [word for word in folded_words(text) if word not in ("the", "of")]
            for word in words:
                model[word] += share / len(words)
        model.pop("gust")
        added = dict(sorted(model.items(), key=lambda one: (-one[1], one[0]))[:2])
        total = sum(added.values())
        wanted = {"gust": 0.5, "limit": 0.5} | {word: 0.5 * 2 * value / total for word, value in added.items()}
        self.assertEqual(found.words.keys(), wanted.keys())
        for word, weight in wanted.items():
            self.assertAlmostEqual(found.words[word], weight)
        own, others = np.array([1.0, 0.0]), np.array([[0.0, 1.0], [0.0, 3.0]])
        moved = found.moved(own, others)
        self.assertAlmostEqual(float(np.linalg.norm(moved)), 1.0, places=6)
        self.assertAlmostEqual(float(moved[1] / moved[0]), 0.5 * 2.0, places=6)
        self.assertEqual(way.wordings("x", corpus(first_hits=lambda: (np.array([]), np.array([]))), told), [])


class InAPipeline(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.builder = Builder(ArtifactStore(Path(place.name)), Models(MODELS))
        cls.corpus = [
            replace(one, metadata={"edition": number, "status": "draft" if number % 2 else "in force"})
            for number, one in enumerate(documents())
        ]

    def pipeline(self, **changes):
        made = recipe(**{"rerank": None, **changes})
        key = corpus_fingerprint(self.corpus)
        texts = CorpusTexts(self.corpus, self.builder.chunks(self.corpus, key, made))
        self.builder.indexes(key, made, texts)
        return self.builder.open(key, made, texts)

    def test_conditions_of_the_recipe_and_of_the_asker_both_hold(self):
        pipeline = self.pipeline(question={"conditions": "status is in force"})
        trace = pipeline.ask("When does it stop?", Beside(conditions="section has wind"))
        owners = {self.corpus[pipeline.chunks.document[chunk]].id for stage in trace.stages for chunk in stage.chunks}
        self.assertEqual(owners, {"wind.md"})
        self.assertEqual(trace.asked.conditions, "status is in force, section has wind")
        allowed = allowed_chunks(read_conditions(trace.asked.conditions), pipeline.chunks, pipeline.texts)
        self.assertEqual(trace.asked.allowed, int(allowed.sum()))
        nothing = pipeline.ask("When does it stop?", Beside(conditions="document is nowhere*"))
        self.assertEqual([len(stage.chunks) for stage in nothing.stages], [0] * len(nothing.stages))
        with self.assertRaisesRegex(ConditionError, "write a field"):
            pipeline.ask("?", Beside(conditions="wind"))

    def test_wordings_are_told_with_what_they_found_and_those_that_drift_are_dropped(self):
        ways = [{"kind": "templates", "templates": "{terms}"}, {"kind": "feedback", "terms": 3}]
        pipeline = self.pipeline(question={"wordings": ways, "least_cosine": 0.3})
        trace = pipeline.ask(
            "Does a dog need a muzzle?", Beside(wordings=("a muzzle for a puppy", "xylophone tuning"))
        )
        own, *others = trace.asked.wordings
        self.assertEqual((own.text, own.source, own.cosine), ("Does a dog need a muzzle?", "", 1.0))
        self.assertEqual([one.source.split(" ")[0] for one in others], ["typed", "typed", "template:", "feedback"])
        self.assertRegex(others[1].dropped, "cosine .* is below 0.3")
        self.assertEqual(others[1].found, {})
        found = {branch.stage: set() for branch in trace.branches}
        for one in (own, others[0], *others[2:]):
            for name, count in one.found.items():
                self.assertLessEqual(one.new.get(name, count), count)
        self.assertEqual(set(own.found), set(found))
        self.assertEqual(Trace.from_json(trace.to_json()).to_json(), trace.to_json())

    def test_many_questions_are_asked_as_each_alone_and_sweeps_see_the_same_lists(self):
        question = {"wordings": [{"kind": "feedback"}], "terms": {"kind": "key-terms"}, "join": {"kind": "best"}}
        pipeline = self.pipeline(question=question)
        asked = ["What is E-417?", "my puppy", "wind", "", "the"]
        held = {}
        ranked = pipeline.rankings(asked, held)
        for row, (text, together) in enumerate(zip(asked, pipeline.ask_many(asked), strict=True)):
            alone = pipeline.ask(text)
            for place, (one, other) in enumerate(zip(alone.branches, together.branches, strict=True)):
                self.assertEqual(one.chunks.tolist(), other.chunks.tolist(), (text, one.stage))
                self.assertEqual(ranked[place][row][0].tolist(), other.chunks.tolist())
        plain = self.pipeline()
        plain.rankings(asked, held)
        self.assertEqual(len(held), 4)

    def test_words_by_hand_are_searched_by_and_explained(self):
        pipeline = self.pipeline()
        trace = pipeline.ask("Does a dog need a muzzle?", Beside(words={"deposit": 1.0}))
        sparse = trace.stage("sparse")
        texts = pipeline.texts.texts(sparse.chunks.tolist())
        self.assertTrue(texts and all("deposit" in text for text in texts))
        [told, *_] = pipeline.branches["sparse"].explain_asked(Query("?", {"deposit": 2.0}), sparse.chunks.tolist())
        self.assertEqual([(one.term, one.in_question) for one in told.terms], [("deposit", 2.0)])
        self.assertAlmostEqual(told.terms[0].share, 2 * float(sparse.scores[0]), places=4)

    def test_what_stands_in_the_part_is_checked(self):
        for part, message in (
            ({"wordings": [{"kind": "oracle"}]}, r'question.wordings\[0\].kind: "oracle" is not one of templates'),
            (
                {"wordings": [{"kind": "feedback", "hits": 0}]},
                r"question.wordings\[0\].hits: 0 is not between 1 and 50",
            ),
            ({"terms": {"kind": "key-terms", "most": 0}}, r"question.terms.most: 0 is not between 1 and 50"),
            ({"wordings": {}}, "question.wordings"),
            ({"mood": 1}, "question.mood"),
        ):
            with self.assertRaisesRegex(RecipeError, message):
                recipe(question=part)
        self.assertEqual(recipe(question={}).fingerprint, recipe().fingerprint)
