"""Every choice of a branch, through a whole pipeline: weightings, fields, analyses, metrics, structures, encoders."""

import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.command.stand_in import stand_in_server
from doppio.core.branches.dense.metric import METRICS
from doppio.core.branches.dense.structures.kind import STRUCTURES
from doppio.core.branches.sparse.terms import fielded_terms, terms_of, weighting_of
from doppio.core.branches.sparse.weighting import LONG, OKAPI, PLUS, TF_IDF, VARIANTS
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import RecipeError, RemoteError
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import TRAINED, Models, titles
from doppio.core.models.remote import register_remote
from doppio.core.recipe.check import check, check_analysis
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.analysis import Analysis
from doppio.core.text.document import HEADING, PARAGRAPH, DocumentBuilder, corpus_fingerprint
from tests.core.corpus import MODELS, documents, encoder, recipe

ASKED = ("What is E-417?", "my puppy needs a ticket", "reopening after a gale", "", "unheard-of words only")
SPARSE = {"id": "sparse", "kind": "bm25", "depth": 20}
DENSE = {"id": "dense", "kind": "vector", "depth": 20}


class Branches(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        place = tempfile.TemporaryDirectory()
        cls.addClassCleanup(place.cleanup)
        cls.builder = Builder(ArtifactStore(Path(place.name)), Models(MODELS))
        cls.corpus = documents()
        cls.key = corpus_fingerprint(cls.corpus)

    def pipeline(self, branch, corpus=None, **changes):
        given = recipe(branches=[branch], rerank=None, **changes)
        corpus = corpus or self.corpus
        key = corpus_fingerprint(corpus)
        texts = CorpusTexts(corpus, self.builder.chunks(corpus, key, given), given.chunking["context"])
        self.builder.indexes(key, given, texts)
        return self.builder.open(key, given, texts)

    def stages(self, branch, **changes):
        pipeline = self.pipeline(branch, **changes)
        return pipeline, [trace.stages[0] for trace in pipeline.ask_many(ASKED)]


class Sparse(Branches):
    def test_every_weighting_finds_the_code_first_and_says_what_its_score_is(self):
        measures = set()
        for variant in VARIANTS:
            pipeline, stages = self.stages({**SPARSE, "variant": variant})
            first = pipeline.texts.texts([int(stages[0].chunks[0])])[0]
            self.assertIn("E-417", first, variant)
            self.assertEqual(len(stages[3].chunks), 0, "an empty question finds nothing")
            self.assertEqual(len(stages[4].chunks), 0)
            measures.add(stages[0].measure)
        self.assertEqual(len(measures), len(VARIANTS))

    def test_shares_add_up_to_the_score_of_the_trace_for_every_weighting_and_for_fields(self):
        choices = [{"variant": variant} for variant in VARIANTS]
        choices.append({"fields": {"title": {}, "headings": {"weight": 3}, "body": {"b": 0.2}}})
        for choice in choices:
            pipeline, stages = self.stages({**SPARSE, **choice})
            for question, stage in zip(ASKED[:3], stages, strict=False):
                rows = pipeline.branches["sparse"].explain(question, stage.chunks.tolist())
                sums = [sum(term.share for term in row.terms) + row.length for row in rows]
                np.testing.assert_allclose(sums, stage.scores, rtol=1e-4, atol=1e-5, err_msg=str(choice))

    def test_delta_is_the_papers_own_unless_it_is_given(self):
        def delta(**more):
            return weighting_of(check(recipe(branches=[{**SPARSE, **more}], rerank=None).body).branches[0]).delta

        self.assertEqual((delta(variant=PLUS), delta(variant=LONG), delta(variant=PLUS, delta=0.2)), (1.0, 0.5, 0.2))

    def test_a_field_brings_up_what_its_text_names(self):
        builder = DocumentBuilder()
        corpus = []
        for name, heading, text in (
            ("one", "Rescue by rope", "Riders are lowered one by one to the ground."),
            ("two", "Snow clearing", "The rope is freed of ice; rescue is not needed for that."),
        ):
            builder = DocumentBuilder()
            builder.add(HEADING, heading, 1)
            builder.add(PARAGRAPH, text)
            corpus.append(builder.build(name))
        question = "rescue rope"
        found = {}
        for weight in (0, 9):
            fields = {"title": {"weight": weight}, "headings": {"weight": weight}, "body": {}}
            pipeline = self.pipeline({**SPARSE, "fields": fields}, corpus)
            chunks = pipeline.ask(question).stages[0].chunks
            found[weight] = int(pipeline.chunks.document[chunks[0]])
        self.assertEqual(found[9], 0)

    def test_fields_that_are_analysed_differently_still_meet_the_same_words(self):
        fields = {"title": {"analysis": {"stem": False}}, "body": {}}
        branch = recipe(branches=[{**SPARSE, "fields": fields}], rerank=None).branches[0]
        self.assertEqual(
            fielded_terms(branch, "the cabins"), [{"title": "cabins", "body": "cabin"}]
        )  # fmt: skip

    def test_synonyms_find_what_uses_another_word(self):
        plain = self.pipeline(SPARSE).ask("my puppy")
        analysis = {"synonyms": [["dog", "puppy"]]}
        found = self.pipeline({**SPARSE, "analysis": analysis}).ask("my puppy")
        self.assertEqual(len(plain.stages[0].chunks), 0)
        self.assertGreater(len(found.stages[0].chunks), 0)

    def test_grams_find_a_word_that_is_misspelt(self):
        analysis = {"grams": {"from": 3, "to": 4}}
        self.assertEqual(len(self.pipeline(SPARSE).ask("muzzzle").stages[0].chunks), 0)
        pipeline = self.pipeline({**SPARSE, "analysis": analysis})
        first = pipeline.ask("muzzzle").stages[0].chunks[0]
        self.assertIn("muzzle", pipeline.texts.texts([int(first)])[0])


class Dense(Branches):
    def test_every_structure_and_metric_ranks_a_small_corpus_as_exact_cosine_does(self):
        # Unit vectors are ranked the same by all three; over-fetching a small corpus leaves nothing out.
        _, expected = self.stages(DENSE)
        for metric in METRICS:
            for kind in STRUCTURES.kinds:
                more = {"probes": 1000} if kind == "ivf" else {}
                fetch = {} if kind == "exact" else {"over_fetch": 100}
                branch = {**DENSE, "metric": metric, "structure": {"kind": kind, **more, **fetch}}
                _, stages = self.stages(branch)
                for mine, theirs in zip(stages, expected, strict=True):
                    self.assertEqual(mine.chunks.tolist(), theirs.chunks.tolist(), (metric, kind))
                    self.assertTrue((np.diff(mine.scores) <= 1e-6).all(), "larger is better")

    def test_the_distance_is_shown_with_a_minus_sign_and_named(self):
        pipeline, stages = self.stages({**DENSE, "metric": "euclidean"})
        _, cosine = self.stages(DENSE)
        np.testing.assert_allclose(stages[0].scores, -np.sqrt(2 - 2 * cosine[0].scores), atol=1e-4)
        self.assertIn("minus sign", pipeline.branches["dense"].measure)

    def test_another_structure_and_another_metric_encode_nothing_again(self):
        self.stages(DENSE)
        steps = []

        class Watching:
            def start(self, step, total, unit):
                steps.append(step)

            def advance(self, count):
                pass

        kept, self.builder.progress = self.builder.progress, Watching()
        try:
            self.stages({**DENSE, "metric": "inner-product", "structure": {"kind": "hnsw", "m": 5}})
            self.stages({**DENSE, "structure": {"kind": "hnsw", "m": 5, "ef_search": 9, "over_fetch": 3}})
        finally:
            self.builder.progress = kept
        self.assertEqual(steps, ["build hnsw"])

    def test_the_encoder_in_one_byte_ranks_nearly_as_the_whole_one(self):
        _, whole = self.stages(DENSE)
        _, small = self.stages({**DENSE, "encoder": "compact-english-int8"})
        for mine, theirs in zip(small[:3], whole[:3], strict=True):
            self.assertEqual(int(mine.chunks[0]), int(theirs.chunks[0]))
            self.assertGreater(len(set(mine.chunks[:3].tolist()) & set(theirs.chunks[:3].tolist())), 1)

    def test_the_encoder_trained_on_the_corpus_needs_no_weights_and_finds_its_words(self):
        pipeline, stages = self.stages({**DENSE, "encoder": TRAINED})
        self.assertIn("E-417", pipeline.texts.texts([int(stages[0].chunks[0])])[0])
        self.assertLessEqual(float(np.abs(stages[4].scores).max()), 1e-6, "unknown words resemble nothing")
        self.assertEqual(titles(self.builder.models)[TRAINED], "terms of this corpus, trained on it")

    def test_a_remote_encoder_builds_and_asks_as_the_one_behind_it(self):
        server = stand_in_server(encoder(), 0)
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        with tempfile.TemporaryDirectory() as place:
            models = Models(Path(place))
            for shipped in MODELS.iterdir():
                (Path(place) / shipped.name).symlink_to(shipped)
            url = f"http://127.0.0.1:{server.server_address[1]}"
            register_remote(Path(place), "far", url, settings={"retries": 0, "timeout": 5})
            kept, self.builder.models = self.builder.models, models
            try:
                _, far = self.stages({**DENSE, "encoder": "far"})
                server.shutdown()
                server.server_close()
                thread.join()
                pipeline = self.pipeline({**DENSE, "encoder": "far"})
                with self.assertRaisesRegex(RemoteError, "cannot be reached"):
                    pipeline.ask("anyone there?")
            finally:
                self.builder.models = kept
        _, near = self.stages(DENSE)
        for mine, theirs in zip(far, near, strict=True):
            self.assertEqual(mine.chunks.tolist(), theirs.chunks.tolist())
            np.testing.assert_allclose(mine.scores, theirs.scores, atol=1e-4)

    def test_branches_of_different_encoders_stand_side_by_side(self):
        branches = [
            SPARSE,
            {**DENSE, "id": "words", "encoder": TRAINED},
            {**DENSE, "id": "meaning", "structure": {"kind": "binary"}},
            {**DENSE, "id": "meaning-too"},
        ]
        given = recipe(branches=branches, fusion={"method": "scaled-scores", "depth": 20})
        texts = CorpusTexts(self.corpus, self.builder.chunks(self.corpus, self.key, given))
        self.builder.indexes(self.key, given, texts)
        pipeline = self.builder.open(self.key, given, texts)
        questions = [Question("q", "What is E-417?", (Span("alarms.csv", 0, 40, 1),), ())]
        result = run_trial(pipeline, [document.id for document in self.corpus], questions)
        self.assertEqual(
            list(result.stages), ["sparse", "words", "meaning", "meaning-too", "fused", "reranked", "context"]
        )
        self.assertEqual(sum(result.ledger.values()), 1)
        rows = self.builder.describe(self.builder.keys(self.key, given))
        self.assertEqual(
            sorted(row.kind for row in rows),
            ["postings", "segment", "structure", "texts", "token-vectors", "vectors", "vectors"],
        )


class Terms(unittest.TestCase):
    def test_the_terms_of_a_question_are_worked_out_once(self):
        settings_ = check_analysis({"synonyms": [["cabin", "gondola"]]})
        with mock.patch.object(Analysis, "terms", autospec=True, side_effect=Analysis.terms) as asked:
            found = [terms_of({"analysis": settings_}, text) for text in ("A gondola", "the rope", "A gondola")]
            self.assertEqual(asked.call_count, 2)
            # Equal settings of another recipe are its own.
            self.assertEqual(terms_of({"analysis": dict(settings_)}, "A gondola"), found[0])
            self.assertEqual(asked.call_count, 3)
        self.assertEqual(found, [["gondola", "≡cabin"], ["rope"], ["gondola", "≡cabin"]])


class Settings(unittest.TestCase):
    def refused(self, branch, message):
        with self.assertRaisesRegex(RecipeError, message):
            recipe(branches=[branch])

    def test_mistakes_are_told_by_their_path(self):
        for branch, message in (
            ({**SPARSE, "variant": "best"}, r"branches\[0\].variant: \"best\" is not one of okapi"),
            (
                {**SPARSE, "variant": TF_IDF, "fields": {"body": {}}},
                "fields: go with the variant okapi",
            ),
            ({**SPARSE, "fields": {"title": {}}}, r"branches\[0\].fields.body: missing"),
            ({**SPARSE, "fields": {"body": {"weight": 0}}}, r"branches\[0\].fields: all weights are 0"),
            ({**SPARSE, "analysis": {"language": "xx"}}, r"branches\[0\].analysis.language: \"xx\" is not one of"),
            ({**SPARSE, "analysis": {"synonyms": [["one"]]}}, r"branches\[0\].analysis.synonyms\[0\]"),
            ({**SPARSE, "analysis": {"grams": {"from": 5, "to": 2}}}, "grams.from: 5 is above grams.to, 2"),
            ({**SPARSE, "mu": 0}, r"branches\[0\].mu: 0 is not between 1 and 100000"),
            ({**DENSE, "metric": "taxicab"}, r"branches\[0\].metric: \"taxicab\" is not one of cosine"),
            ({**DENSE, "structure": {"kind": "tree"}}, r"branches\[0\].structure.kind: \"tree\" is not one of exact"),
            ({**DENSE, "structure": {"kind": "hnsw", "m": 1}}, r"structure.m: 1 is not between 4 and 64"),
            ({**DENSE, "structure": {"kind": "int8", "links": 9}}, r"structure.links: unknown key; allowed are kind"),
            ({**DENSE, "structure": "hnsw"}, r"branches\[0\].structure: \"hnsw\" is not an object"),
            ({**DENSE, "encoder": "Not A Name"}, r"branches\[0\].encoder: \"Not A Name\" is not a short name"),
        ):
            self.refused(branch, message)

    def test_an_analysis_alone_is_filled_in_or_refused(self):
        self.assertEqual(check_analysis({})["language"], "en")
        self.assertEqual(check_analysis({"grams": {"from": 2, "to": 3}})["grams"], {"from": 2, "to": 3})
        with self.assertRaisesRegex(RecipeError, "analysis.stem: 3 is not true or false"):
            check_analysis({"stem": 3})

    def test_every_structure_is_filled_in(self):
        for kind, schema in STRUCTURES.schemas().items():
            filled = recipe(branches=[{**DENSE, "structure": {"kind": kind}}]).branches[0]["structure"]
            self.assertEqual(set(filled), set(schema["properties"]), kind)

    def test_what_applies_at_question_time_does_not_change_what_is_built(self):
        def pieces(**more):
            given = recipe(branches=[{**SPARSE, "id": "s"}, {**DENSE, **more}])
            keys = Builder(ArtifactStore(Path("/nowhere")), Models(MODELS)).keys("corpus", given)
            return {(piece.kind, piece.of) for piece in keys.pieces()}

        hnsw = {"kind": "hnsw"}
        self.assertEqual(pieces(structure=hnsw), pieces(structure={**hnsw, "ef_search": 7, "over_fetch": 9}, depth=3))
        self.assertNotEqual(pieces(structure=hnsw), pieces(structure={**hnsw, "m": 9}))
        older = {"kind": "hnsw", "links": 9, "breadth": 50, "search": 7}
        now = {"kind": "hnsw", "m": 9, "ef_construction": 50, "ef_search": 7}
        self.assertEqual(pieces(structure=older), pieces(structure=now), "older names of settings are still read")
        self.assertEqual(pieces(structure=hnsw), pieces(structure=hnsw, metric="inner-product"))
        self.assertNotEqual(pieces(structure=hnsw), pieces(structure=hnsw, metric="euclidean"))
        self.assertEqual(OKAPI, recipe().branches[0]["variant"])
