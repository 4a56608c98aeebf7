"""From the last ranking to the context: variety, versions, widening, the budget, the order of writing."""

import tempfile
import unittest
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import ChunkTable, CorpusTexts
from doppio.core.errors import RecipeError
from doppio.core.measure import ledger as rows
from doppio.core.measure.ledger import cause
from doppio.core.measure.measuring import handed_at, measure
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.models.registry import Models
from doppio.core.select.broad import broadness
from doppio.core.select.marginal import by_marginal_relevance
from doppio.core.select.orders.kind import ORDERS
from doppio.core.select.pool import Pool
from doppio.core.select.versions.kind import VERSIONS, instead_of
from doppio.core.select.widening.around import densest, merged, neighbours, section, shrinking, whole_document
from doppio.core.select.writing import Citable, written, wrong_template
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import Document, corpus_fingerprint
from doppio.core.trace import ANOTHER_VERSION, PASSED_OVER, Trace
from tests.core.corpus import MODELS, documents, recipe

SCORES = st.lists(st.floats(-5, 5, width=32), min_size=1, max_size=12)


class Variety(unittest.TestCase):
    def greedy(self, scores, likeness, strength, k):
        """The same, one passage at a time, as the paper tells it."""
        low, high = min(scores), max(scores)
        relevance = [(score - low) / (high - low) if high > low else 1.0 for score in scores]
        chosen = []
        while len(chosen) < min(k, len(scores)):
            left = [place for place in range(len(scores)) if place not in chosen]
            worth = {
                place: (1 - strength) * relevance[place]
                - strength * max((likeness[place][other] for other in chosen), default=0)
                for place in left
            }
            best = max(worth.values())
            chosen.append(next(place for place in left if worth[place] == best))
        return chosen

    @settings(max_examples=60, deadline=None)
    @given(SCORES, st.floats(0, 1), st.integers(1, 12), st.integers(0, 1000))
    def test_it_is_that_of_the_plain_formula(self, scores, strength, k, seed):
        given_scores = np.sort(np.array(scores, np.float32))[::-1]
        half = np.random.default_rng(seed).random((len(scores), len(scores))).astype(np.float32)
        likeness = (half + half.T) / 2
        chosen, repeated = by_marginal_relevance(given_scores, likeness, strength, k)
        # Both in double precision: products of single numbers would tie where these do not.
        plain = self.greedy(given_scores.astype(float).tolist(), likeness.astype(float), strength, k)
        self.assertEqual(chosen.tolist(), plain)
        for place, (one, alike) in enumerate(zip(chosen.tolist(), repeated.tolist(), strict=True)):
            self.assertAlmostEqual(alike, max((float(likeness[one, other]) for other in chosen[:place]), default=0))

    def test_without_strength_the_order_stays(self):
        chosen, _ = by_marginal_relevance(np.array([3, 2, 1], np.float32), np.ones((3, 3), np.float32), 0.0, 3)
        self.assertEqual(chosen.tolist(), [0, 1, 2])


def flat(count, size=100, sections=None, documents=1):
    """`documents` alike, each of `count` chunks of `size` characters."""
    start = np.tile(np.arange(count, dtype=np.int64) * size, documents)
    owner = np.repeat(np.arange(documents, dtype=np.int64), count)
    own = np.tile(np.array(sections if sections is not None else [-1] * count, np.int64), documents)
    return ChunkTable.flat(owner, start, start + size, np.full(count * documents, 20, np.int64), own)


class Around(unittest.TestCase):
    def test_neighbours_end_with_the_document(self):
        table = flat(4, documents=2)
        self.assertEqual(neighbours(table, 5, 2), (1, 0, 400))
        self.assertEqual(neighbours(table, 0, 1), (0, 0, 200))

    def test_a_section_is_all_chunks_of_it_that_stand_together(self):
        table = flat(6, sections=[0, 1, 1, 2, 2, 1])
        self.assertEqual(section(table, 2), (0, 100, 300))
        self.assertEqual(section(table, 5), (0, 500, 600))
        self.assertEqual(section(flat(3), 1), (0, 100, 200))
        self.assertEqual(whole_document(table, 3), (0, 0, 600))

    @settings(max_examples=80, deadline=None)
    @given(st.lists(st.tuples(st.integers(0, 2), st.integers(0, 60), st.integers(1, 20)), min_size=1, max_size=12))
    def test_what_overlaps_is_one_and_nothing_is_lost(self, given_ranges):
        ranges = np.array([(document, start, start + length) for document, start, length in given_ranges], np.int64)
        found = merged(ranges)
        held = {(document, place) for document, low, high in ranges.tolist() for place in range(low, high)}
        pieces = sorted({tuple(row) for row in found.tolist()})
        self.assertEqual({(d, place) for d, low, high in pieces for place in range(low, high)}, held)
        self.assertEqual(sum(high - low for _, low, high in pieces), len(held))
        self.assertTrue(((found[:, 1] <= ranges[:, 1]) & (ranges[:, 2] <= found[:, 2])).all())

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.integers(0, 23), min_size=1, max_size=6, unique=True), st.integers(10, 260))
    def test_the_densest_stretch_is_that_of_trying_all(self, hits, most):
        table = flat(8, documents=3)
        weight = {hit: 1 / (rank + 10) for rank, hit in enumerate(hits)}
        low, high = densest(table, hits, most)
        self.assertEqual(len({int(table.document[chunk]) for chunk in range(low, high)}), 1)
        fits = max(most // 20, 1)
        best = max(
            sum(weight.get(chunk, 0) for chunk in range(first, min(first + fits, 8 * (first // 8 + 1))))
            for first in range(24)
        )
        self.assertAlmostEqual(sum(weight.get(chunk, 0) for chunk in range(low, high)), best)
        steps = shrinking(table, (low, high), hits)
        inside = [hit for hit in hits if low <= hit < high]
        self.assertEqual(steps[-1][1:], (table.start[min(inside)], table.end[max(inside)]))
        for wide, narrow in pairwise(steps):
            self.assertEqual((wide[2] - wide[1]) - (narrow[2] - narrow[1]), 100)


class Written(unittest.TestCase):
    @given(st.integers(0, 9), st.sampled_from([kind.name for kind in ORDERS]))
    def test_an_order_writes_everything_once(self, count, name):
        ranges = np.random.default_rng(count).integers(0, 3, (count, 3))
        self.assertEqual(sorted(ORDERS.get(name).written(ranges, {}).tolist()), list(range(count)))

    def test_what_each_order_does(self):
        ranges = np.array([[7, 50, 60], [2, 0, 9], [7, 10, 20], [7, 90, 99]])
        found = {kind.name: kind.written(ranges, {}).tolist() for kind in ORDERS}
        self.assertEqual(found["best-first"], [0, 1, 2, 3])
        self.assertEqual(found["both-ends"], [0, 2, 3, 1])
        self.assertEqual(found["as-in-document"], [2, 0, 3, 1])

    def test_a_passage_by_its_template(self):
        piece = Citable(2, "Wind", ("Rules", "Gusts"), 4, (10, 12), "Stop at 60.", {"URL": "http://a/b"})
        self.assertEqual(written("[{number}] {place}\n{text}", piece), "[2] Wind: Rules: Gusts\nStop at 60.")
        told = "{page}, lines {lines}, {link}: {{{text}}} {carried}"
        self.assertEqual(written(told, piece), "p. 4, lines 10-12, http://a/b: {Stop at 60.} URL: http://a/b")

    def test_templates_that_cannot_be_are_refused_by_what_is_wrong(self):
        for template, message in (
            ("{text} {author}", "{author} is not one of {number}"),
            ("{title}", "has no {text}"),
            ("{text", "'}'"),
            ("{text.upper}", "is not one of"),
            ("{text!r}", "is not one of"),
        ):
            self.assertIn(message, wrong_template(template), template)
            with self.assertRaisesRegex(RecipeError, "select.template: "):
                recipe(select={"k": 2, "template": template})


class Broad(unittest.TestCase):
    def test_what_asks_for_all_of_a_section_and_what_for_one_fact(self):
        for question in (
            "Explain the rules for lightning",
            "How do I replace the rope?",
            "Duties of the night watch",
        ):
            self.assertGreater(broadness(question), 0.7, question)
        for question in ("At what wind speed is line B stopped?", "How many cabins are there?", "Who signs the log?"):
            self.assertLess(broadness(question), 0.3, question)

    def test_a_heading_is_broad(self):
        self.assertGreater(broadness("wind and lightning", ["Wind and lightning"]), broadness("wind and lightning"))
        self.assertEqual(broadness("wind and lightning", ["Gusts"]), broadness("wind and lightning"))


class Sources:
    """Texts and metadata of passages, one a document."""

    def __init__(self, texts, metadata):
        self.all, self.told = texts, metadata

    def hosts(self, chunks):
        return [self.all[chunk] for chunk in chunks]

    def metadata(self, chunks):
        return [self.told[chunk] for chunk in chunks]


OLD = "The line is stopped when the gust is above sixty kilometres an hour at any gauge of the line."
NEW = OLD + " Ask."
OTHER = "Dogs ride in the last cabin and wear a muzzle, which the desk lends for a deposit of ten."


class VersionsOfAText(unittest.TestCase):
    def pool(self, texts, metadata, documents=None):
        table = flat(1, documents=len(texts))
        if documents is not None:
            table = replace(table, document=np.array(documents, np.int64))
        every = np.arange(len(texts), dtype=np.int64)
        return Pool("q", every, -every.astype(np.float32), table, Sources(texts, metadata))

    def stands(self, pool, **told):
        return instead_of(VERSIONS.get(told["kind"]), pool, {"alike": 0.8, "field": "", **told}).tolist()

    def test_the_newest_stands_for_the_others(self):
        pool = self.pool([OLD, OTHER, NEW], [{"edition": 5}, {"edition": 9}, {"edition": 7}])
        self.assertEqual(self.stands(pool, kind="newest"), [2, 1, 2])
        self.assertEqual(self.stands(pool, kind="none"), [0, 1, 2])

    def test_dates_and_numbers_in_words_count_and_a_named_field_alone_where_it_is_named(self):
        told = [
            {"In-force since": "2021-03-01", "edition": "7"},
            {},
            {"in_force_since": "2025-11-01", "edition": "5"},
        ]
        pool = self.pool([OLD, OTHER, NEW], told)
        self.assertEqual(self.stands(pool, kind="newest"), [2, 1, 2])
        self.assertEqual(self.stands(pool, kind="newest", field="edition"), [0, 1, 0])

    def test_where_nothing_tells_the_better_score_stands(self):
        self.assertEqual(self.stands(self.pool([OLD, NEW], [{}, {"edition": 2}]), kind="newest"), [0, 0])

    def test_what_a_field_prefers(self):
        pool = self.pool([OLD, NEW], [{"status": "draft"}, {"status": ["In force"]}])
        self.assertEqual(self.stands(pool, kind="preferred", field="status", value="in force"), [1, 1])
        pool = self.pool([OLD, NEW], [{"valid until": "2001-01-01"}, {"valid until": "2999-01-01"}])
        self.assertEqual(self.stands(pool, kind="preferred", field="valid until", value="today"), [1, 1])

    def test_a_document_is_no_version_of_itself(self):
        pool = self.pool([OLD, NEW], [{"edition": 1}, {"edition": 2}], documents=[0, 0])
        self.assertEqual(self.stands(pool, kind="newest"), [0, 1])


RULE = "Gusts. The machinist stops the line when a gust passes sixty kilometres an hour. "


class InAPipeline(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.builder = Builder(ArtifactStore(Path(place.name)), Models(MODELS))
        cls.corpus = documents()
        cls.names = [document.id for document in cls.corpus]

    def pipeline(self, corpus=None, **select):
        corpus = corpus or self.corpus
        made = recipe(rerank=None, select={"k": 2, "budget_tokens": 400, **select})
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, self.builder.chunks(corpus, key, made))
        self.builder.indexes(key, made, texts)
        return self.builder.open(key, made, texts)

    def handed(self, pipeline, trace):
        """Every distinct text that is handed on."""
        stage = trace.stage("context")
        found = {}
        for row in np.flatnonzero(stage.kept).tolist():
            chunk = int(stage.chunks[row])
            table = pipeline.chunks
            own = (table.document[chunk], table.host_start[chunk], table.host_end[chunk])
            document, low, high = map(int, own if stage.ranges is None else stage.ranges[row])
            found[document, low, high] = pipeline.texts.documents[document].text[low:high]
        return found

    def test_tokens_are_those_of_what_is_handed_on_and_never_above_the_budget(self):
        for widening in ("neighbours", "section", "whole-document", "as-needed"):
            for budget in (20, 60, 150, 400):
                pipeline = self.pipeline(widening={"kind": widening}, k=4, budget_tokens=budget)
                for question in ("Does a dog need a muzzle?", "Explain the rules for wind", "E-417"):
                    with self.subTest(widening=widening, budget=budget, question=question):
                        trace = pipeline.ask(question)
                        texts = list(self.handed(pipeline, trace).values())
                        counted = sum(len(units.starts) for units in pipeline.tokens.token_offsets(texts))
                        self.assertLessEqual(trace.tokens, budget)
                        # A passage as it was found has the count of its document, which may cut its ends otherwise.
                        self.assertLessEqual(abs(trace.tokens - counted), len(texts))
                        pieces = sorted(self.handed(pipeline, trace))
                        for one, other in pairwise(pieces):
                            self.assertTrue(one[0] < other[0] or one[2] <= other[1], pieces)

    def test_what_does_not_fit_is_handed_on_as_it_was_found(self):
        found = self.pipeline(k=1).ask("Does a dog need a muzzle?")
        narrow = self.pipeline(k=1, widening={"kind": "whole-document"}, budget_tokens=found.tokens).ask(
            "Does a dog need a muzzle?"
        )
        context = narrow.stage("context")
        self.assertEqual(narrow.tokens, found.tokens)
        self.assertEqual(context.widened, ("not widened: over the budget",))

    def test_an_answer_beside_the_hit_is_delivered_by_widening_and_measured_there(self):
        filler = "The rope is greased in spring by the crew of the valley. " * 8
        corpus = [
            Document("long", "Long", f"{RULE}\n\n{filler}\n\nBuzzards breed on tower nine."),
            Document("other", "Other", "Nothing of that."),
        ]
        end = len(corpus[0].text)
        question = Question("q", "Gusts that stop the line", (Span("long", end - 29, end),))
        plain, wide = self.pipeline(corpus, k=1), self.pipeline(corpus, k=1, widening={"kind": "whole-document"})
        relevant = relevance(plain.chunks, document_positions(["long", "other"]), question)
        before, after = plain.ask(question.text), wide.ask(question.text)
        self.assertNotEqual(cause(before, relevant, True), rows.DELIVERED)
        self.assertEqual(cause(after, relevant, True), rows.DELIVERED)
        stage = after.stage("context")
        measured = measure(stage.ranking, relevant.at(stage), wide.chunks, [1], handed_at(stage))
        self.assertEqual((measured["coverage@1"], measured["recall@1"]), (1.0, 1.0))
        self.assertAlmostEqual(measured["density@1"], 29 / end)
        self.assertEqual(Trace.from_json(after.to_json()).to_json(), after.to_json())

    def test_a_hit_that_ends_in_mid_sentence_goes_on_to_its_end(self):
        made = recipe(
            chunking={"rule": "fixed-window", "unit": "tokens", "size": 12, "overlap": 0},
            rerank=None,
            select={"k": 1, "widening": {"kind": "as-needed", "broad": None, "share": None}},
        )
        corpus = [Document("a", "A", RULE + "Then the line chief is told by radio, and the log gets a line.")]
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, self.builder.chunks(corpus, key, made))
        self.builder.indexes(key, made, texts)
        pipeline = self.builder.open(key, made, texts)
        trace = pipeline.ask("who is told by radio")
        [text] = self.handed(pipeline, trace).values()
        self.assertTrue(text.endswith("."), text)
        self.assertTrue(text.startswith(("Then", "The ")), text)

    def test_versions_stand_for_each_other_and_say_which(self):
        corpus = [
            Document("old", "Old", RULE, metadata={"edition": 5}),
            Document("new", "New", RULE + "Ask.", metadata={"edition": 7}),
        ]
        trace = self.pipeline(corpus, versions={"kind": "newest"}).ask("When is the line stopped in gusts?")
        context = trace.stage("context")
        self.assertEqual(sorted(zip(context.kept.tolist(), context.reasons, context.instead.tolist(), strict=True)),
                         [(False, ANOTHER_VERSION, 1), (True, "", -1)])  # fmt: skip

    def test_what_is_chosen_for_being_new_tells_what_it_repeats_and_who_had_to_go(self):
        pipeline = self.pipeline(diversity={"kind": "shared-words", "strength": 0.9}, pool=6)
        trace = pipeline.ask("Does a dog need a muzzle?")
        context = trace.stage("context")
        self.assertEqual(len(context.passed), 2)
        self.assertIn(PASSED_OVER, context.reasons)
        self.assertEqual(float(context.repeated[0]), 0.0)
        # What is measured is what was chosen.
        self.assertEqual(context.ranking.tolist(), context.passed.tolist())
        self.assertEqual(len(context.chunks), len(trace.stage("fused").passed))
        gone = int(context.chunks[context.reasons.index(PASSED_OVER)])
        document = int(pipeline.chunks.document[gone])
        span = Span(self.names[document], int(pipeline.chunks.start[gone]), int(pipeline.chunks.end[gone]))
        relevant = relevance(pipeline.chunks, document_positions(self.names), Question("q", "?", (span,)))
        if not relevant.any_of(context.passed).any():
            self.assertEqual(cause(trace, relevant, True), rows.CROWDED_OUT)

    def test_vectors_need_a_branch_that_has_them(self):
        with self.assertRaisesRegex(RecipeError, "select.diversity.kind: 'vectors' compares vectors, and no branch"):
            recipe(branches=[{"id": "sparse", "kind": "bm25"}], select={"k": 2, "diversity": {"kind": "vectors"}})
        trace = self.pipeline(diversity={"kind": "vectors"}).ask("Does a dog need a muzzle?")
        self.assertEqual(len(trace.stage("context").passed), 2)

    def test_what_older_recipes_say_of_steps_that_were_to_come_means_what_it_meant(self):
        older = recipe(select={"k": 2, "diversity": None, "widening": {"kind": "none"}})
        self.assertEqual(older.fingerprint, recipe(select={"k": 2}).fingerprint)
        self.assertEqual(older.looked_at, 2)
