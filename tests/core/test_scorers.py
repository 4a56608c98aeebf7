"""Joint scorers from folders: what they compute, how passages reach them, and what is refused."""

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
import onnx
from tokenizers import Tokenizer

from doppio.core.errors import ModelFolderError
from doppio.core.models.cross_encoder import CrossEncoder
from doppio.core.models.folder import MANIFEST
from doppio.core.models.joint import Passage, Scored
from doppio.core.models.kept_scores import KeptScores
from doppio.core.models.occlusion import sentence_drops
from doppio.core.models.registry import Models
from doppio.core.models.scorer_folder import (
    GRAPH,
    Calibration,
    open_scorer_folder,
    prepare_gated,
    prepare_pair,
    register_scorer,
)
from doppio.core.text.windows import character_ranges, window_bounds
from tests.core import toy_scorers as toy
from tests.core.corpus import MODELS, ROOT

QUESTION = "When does the gondola stop?"
PASSAGES = [
    "The gondola stops when the mean wind reaches 18 metres a second.",
    "Dogs wear a muzzle.",
    "Code E-417: tension carriage at a limit switch. Release: line chief.",
    "Nobody boards after orange, and cabins on the line are brought in one by one.",
]
FIELDS = {"name": "toy", "title": "toy", "max_tokens": 40}


def passages(texts):
    return [Passage(text) for text in texts]


class WithFolder(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.root = Path(place.name)
        self.tokenizer = Tokenizer.from_file(str(MODELS / "compact-english" / "tokenizer.json"))
        self.tokenizer.no_padding()
        self.tokenizer.no_truncation()

    def gated(self, learned=None, small=False, **fields):
        self.weights = toy.random_weights()
        source = toy.source_folder(self.root / "source", self.weights)
        self.learned = learned or toy.random_difference()
        toy.save_file(self.learned, self.root / "learned.safetensors")
        target = self.root / "toy"
        prepare_gated(source, self.root / "learned.safetensors", target, small=small, fields={**FIELDS, **fields})
        return CrossEncoder(target)

    def pair(self, labels=1, **fields):
        self.weights = toy.random_weights(2, labels)
        source = toy.source_folder(self.root / "source", self.weights)
        prepare_pair(source, self.root / "toy", fields={**FIELDS, **fields})
        return CrossEncoder(self.root / "toy")

    def ids(self, text):
        return self.tokenizer.encode(text).ids


class Gated(WithFolder):
    def test_scores_are_those_of_the_slow_formula(self):
        scorer = self.gated()
        slow = [toy.slow_gated(self.weights, self.learned, self.ids(QUESTION), self.ids(text)) for text in PASSAGES]
        np.testing.assert_allclose(scorer.score(QUESTION, passages(PASSAGES)).scores, slow, rtol=1e-3, atol=1e-3)

    def test_with_closed_gates_and_no_difference_it_is_the_cosine_of_separate_vectors(self):
        learned = {name: np.zeros_like(value) for name, value in toy.random_difference().items()}
        learned["gates"] -= 1e4
        learned["scale"] = np.array(20.0, np.float32)
        scorer = self.gated(learned)
        nothing = np.zeros((toy.LAYERS, toy.HEADS, 1, 1))

        def vector(text):
            ids = self.ids(text)
            n = len(ids)
            mean = toy.slow_layers(self.weights, ids, np.arange(n), np.zeros(n, int), nothing).mean(0)
            return mean / np.linalg.norm(mean)

        expected = [20 * vector(QUESTION) @ vector(text) for text in PASSAGES]
        np.testing.assert_allclose(scorer.score(QUESTION, passages(PASSAGES)).scores, expected, atol=1e-2)

    def test_one_byte_a_number_keeps_the_order_of_what_is_far_apart(self):
        whole = self.gated().score(QUESTION, passages(PASSAGES)).scores
        small = self.gated(small=True).score(QUESTION, passages(PASSAGES)).scores
        self.assertLess(float(np.abs(whole - small).max()), 0.3 * float(np.ptp(whole)))
        self.assertEqual(int(whole.argmax()), int(small.argmax()))

    def test_gates_that_do_not_fit_are_refused_and_leave_nothing(self):
        learned = toy.random_difference()
        learned["gates"] = learned["gates"][:1]
        with self.assertRaisesRegex(ModelFolderError, r"learned.safetensors: gates: of shape \(1, 2, 2\)"):
            self.gated(learned)
        self.assertEqual(sorted(path.name for path in self.root.iterdir()), ["learned.safetensors", "source"])


class Pairs(WithFolder):
    def slow(self, one, other):
        encoding = self.tokenizer.encode(one, other)
        return toy.slow_pair(self.weights, encoding.ids, encoding.type_ids)

    def test_scores_are_those_of_the_slow_formula_in_either_order(self):
        scorer = self.pair()
        slow = [self.slow(QUESTION, text)[0] for text in PASSAGES]
        np.testing.assert_allclose(scorer.score(QUESTION, passages(PASSAGES)).scores, slow, rtol=1e-3, atol=1e-3)
        turned = self.pair(order="passage-first")
        slow = [self.slow(text, QUESTION)[0] for text in PASSAGES]
        np.testing.assert_allclose(turned.score(QUESTION, passages(PASSAGES)).scores, slow, rtol=1e-3, atol=1e-3)

    def test_activation_and_label_come_from_the_manifest(self):
        raw = np.array([self.pair(3) and self.slow(QUESTION, text) for text in PASSAGES])
        share = np.exp(raw) / np.exp(raw).sum(1, keepdims=True)
        for fields, expected in (
            ({"activation": "softmax", "label": 1}, share[:, 0]),
            ({"activation": "softmax"}, share[:, 2]),
            ({"activation": "sigmoid", "label": 2}, 1 / (1 + np.exp(-raw[:, 1]))),
            ({"label": 3}, raw[:, 2]),
        ):
            with self.subTest(fields=fields):
                found = self.pair(3, **fields).score(QUESTION, passages(PASSAGES)).scores
                np.testing.assert_allclose(found, expected, rtol=1e-3, atol=1e-3)
        with self.assertRaisesRegex(ModelFolderError, "label: 4 stated, the graph gives 3"):
            self.pair(3, label=4).score(QUESTION, passages(PASSAGES))

    def test_weights_without_a_head_are_no_cross_encoder(self):
        source = toy.source_folder(self.root / "source", toy.random_weights())
        with self.assertRaisesRegex(ModelFolderError, "classifier.weight: missing, so this is no cross-encoder"):
            prepare_pair(source, self.root / "toy", fields=FIELDS)

    def test_a_graph_made_elsewhere_is_registered_with_its_manifest(self):
        self.pair()
        given = self.root / "given"
        (self.root / "toy").rename(given)
        (given / GRAPH).rename(given / "any.onnx")
        said = {
            "format": "doppio-model/1",
            "kind": "joint-scorer",
            "name": "other",
            "title": "x",
            "graph": "any.onnx",
        }
        (given / MANIFEST).write_text(json.dumps({**said, "max_tokens": 40, "activation": "sigmoid"}))
        register_scorer(given, self.root)
        scores = Models(self.root).scorer("other").score(QUESTION, passages(PASSAGES)).scores
        slow = np.array([self.slow(QUESTION, text)[0] for text in PASSAGES])
        np.testing.assert_allclose(scores, 1 / (1 + np.exp(-slow)), atol=1e-3)


class Passing(WithFolder):
    def test_a_score_does_not_depend_on_what_is_scored_beside_it(self):
        scorer = self.gated()
        together = scorer.score(QUESTION, passages(PASSAGES * 3)).scores
        alone = [scorer.score(QUESTION, [Passage(text)]).scores[0] for text in PASSAGES]
        np.testing.assert_allclose(together, alone * 3, atol=1e-4)
        turned = scorer.score(QUESTION, passages(PASSAGES[::-1])).scores
        np.testing.assert_allclose(turned[::-1], together[:4], atol=1e-4)
        self.assertEqual(len(scorer.score(QUESTION, []).scores), 0)

    def test_the_same_text_is_scored_once_and_batches_are_of_like_length(self):
        scorer = self.gated()
        ran = []
        run = scorer.run
        scorer.run = lambda given: (ran.append(given), run(given))[1]
        scorer.score(QUESTION, passages(PASSAGES * 20))
        self.assertEqual(sum(len(given["ids"]) for given in ran), len(PASSAGES))
        lengths = [
            given["mask"].sum(1)
            for _, given in scorer.batches(QUESTION, [t * n for t in PASSAGES for n in range(1, 40)])
        ]
        flat = np.concatenate(lengths)
        self.assertTrue((np.diff(flat) >= 0).all())
        self.assertGreater(len(lengths), 1)

    def test_a_long_passage_has_the_score_of_its_best_window_and_says_which(self):
        for scorer in (self.gated(), self.pair()):
            text = " ".join(PASSAGES)
            found = scorer.score(QUESTION, [Passage(text), Passage(PASSAGES[1])])
            self.assertIsNone(found.windows[1])
            start, end = found.windows[0]
            room = 40 - 2 if scorer.folder.layout == "gated" else 40 - 3 - len(self.ids(QUESTION)) + 2
            (units,) = Models(MODELS).local().token_offsets([text])
            cut = character_ranges(text, units, window_bounds(text, units, room))
            each = scorer.score(QUESTION, [Passage(text[a:b]) for a, b in cut]).scores
            self.assertEqual((start, end), cut[int(each.argmax())])
            self.assertAlmostEqual(float(found.scores[0]), float(each.max()), places=3)

    def test_what_falls_into_more_tokens_alone_than_it_had_never_overruns_the_graph(self):
        # A word without end is cut inside, and its parts have other tokens than it had.
        hard = ["xylographically" * 40, "\U0001f6a0" * 90, "a" * 300, "-" * 200, "ropeway" * 30 + " wind " * 60]
        for scorer in (self.gated(), self.pair()):
            ran, run = [], scorer.run
            scorer.run = lambda given, ran=ran, run=run: (
                ran.append(next(iter(given.values())).shape[1]),
                run(given),
            )[1]
            found = scorer.score(QUESTION, passages(hard))
            self.assertTrue(np.isfinite(found.scores).all())
            asked = len(self.ids(QUESTION)) if scorer.folder.layout == "gated" else 0
            self.assertLessEqual(max(ran), 40 + asked)

    def test_an_endless_question_leaves_room_for_the_passage(self):
        scorer = self.gated()
        long = "wind " * 500
        self.assertTrue(np.isfinite(scorer.score(long, passages(PASSAGES)).scores).all())
        self.assertEqual(
            scorer.score(long, passages(PASSAGES)).scores.tolist(),
            scorer.score(("wind " * 10).strip(), passages(PASSAGES)).scores.tolist(),
        )


class Refused(WithFolder):
    def test_damage_is_told_by_the_files_name(self):
        self.gated()
        path = self.root / "toy" / GRAPH
        data = bytearray(path.read_bytes())
        data[len(data) // 2] ^= 255
        path.write_bytes(bytes(data))
        with self.assertRaisesRegex(ModelFolderError, r"toy/scorer.onnx: damaged"):
            CrossEncoder(self.root / "toy")
        path.unlink()
        with self.assertRaisesRegex(ModelFolderError, r"toy/scorer.onnx: missing"):
            CrossEncoder(self.root / "toy")

    def test_fields_of_the_manifest(self):
        self.gated()
        path = self.root / "toy" / MANIFEST
        good = json.loads(path.read_text())
        for field, value, told in (
            ("layout", "twin", "layout: 'twin' is not one of gated, pair"),
            ("activation", 3, "activation: 3 is not a text"),
            ("max_tokens", 0, "max_tokens: 0 is not a whole number above 0"),
            ("label", -1, "label: -1 is not a whole number from 0"),
            ("blend", "much", "blend: 'much' is not a number from 0 to 10"),
            ("calibration", {"slope": -1, "offset": 0}, "has no `slope` above 0"),
            ("kind", "encoder", "kind: 'encoder' is not one of"),
        ):
            with self.subTest(field=field):
                path.write_text(json.dumps({**good, field: value}))
                with self.assertRaisesRegex(ModelFolderError, told):
                    open_scorer_folder(self.root / "toy")

    def test_a_graph_without_the_inputs_of_its_layout(self):
        self.pair()
        manifest = json.loads((self.root / "toy" / MANIFEST).read_text())
        (self.root / "toy" / MANIFEST).write_text(json.dumps({**manifest, "layout": "gated"}))
        with self.assertRaisesRegex(ModelFolderError, "has an input 'types'; allowed are"):
            CrossEncoder(self.root / "toy")

    def test_a_graph_that_is_none(self):
        self.pair()
        (self.root / "toy" / GRAPH).write_bytes(b"no graph")
        manifest = json.loads((self.root / "toy" / MANIFEST).read_text())
        (self.root / "toy" / MANIFEST).write_text(json.dumps({**manifest, "files": {}}))
        with self.assertRaisesRegex(ModelFolderError, "toy: cannot be loaded"):
            CrossEncoder(self.root / "toy")

    def test_an_encoder_is_no_scorer_and_a_scorer_no_encoder(self):
        self.gated()
        models = Models(self.root)
        with self.assertRaisesRegex(ModelFolderError, "toy: is no encoder"):
            models.encoder("toy")
        with self.assertRaisesRegex(ModelFolderError, "no such model folder; there are toy"):
            models.scorer("none")
        self.assertEqual([folder.name for folder in models.scorers()], ["toy"])
        self.assertEqual(models.listed(), [])


class Words:
    """Scores a passage by how many words of the question it holds, and counts what it was asked."""

    name, digest, measure, calibration, blend = "words", "1", "words in common", None, 0.0

    def __init__(self):
        self.asked = []

    def score(self, question, given):
        self.asked += [(question, passage.text) for passage in given]
        wanted = set(question.lower().split())
        found = [float(sum(word.strip(".,?") in wanted for word in p.text.lower().split())) for p in given]
        return Scored(np.array(found, np.float32), (None,) * len(found))


class Around(unittest.TestCase):
    def test_kept_scores_are_the_scorers_own_and_are_asked_for_once(self):
        words = Words()
        kept = KeptScores(words, most=6)
        draw = np.random.default_rng(0)
        for _ in range(60):
            question = ["the wind", "a dog"][draw.integers(2)]
            given = passages([PASSAGES[row] for row in draw.integers(0, 4, 3)])
            np.testing.assert_array_equal(kept.score(question, given).scores, Words().score(question, given).scores)
        self.assertLess(len(words.asked), 100)
        self.assertLessEqual(len(kept._kept), 6)
        before = len(words.asked)
        kept.score("new", passages(["x", "x", "y"]))
        self.assertEqual(len(words.asked) - before, 2)

    def test_a_sentences_drop_is_what_the_passage_scores_less_without_it(self):
        text = "The wind is measured. Dogs wear a muzzle. In the wind the line stops."
        drops = sentence_drops(Words(), "the wind", text)
        self.assertEqual(
            [text[d.start : d.end].strip() for d in drops],
            ["The wind is measured.", "Dogs wear a muzzle.", "In the wind the line stops."],
        )
        self.assertEqual([d.drop for d in drops], [2.0, 0.0, 3.0])
        self.assertEqual((drops[0].start, drops[-1].end), (0, len(text)))

    def test_probabilities_follow_the_scores(self):
        scores = np.linspace(-80, 80, 401).astype(np.float32)
        said = Calibration(0.7, -1.4).probability(scores)
        self.assertTrue((np.diff(said) >= 0).all() and said[0] >= 0 and said[-1] <= 1)
        self.assertAlmostEqual(
            float(Calibration(0.7, -1.4).probability(np.array([2.0], np.float32))[0]), 0.5, places=6
        )


class Shipped(unittest.TestCase):
    """The scorer in the repository, joined at set-up."""

    def test_it_prefers_a_passage_that_answers_to_one_about_something_else(self):
        scorer = Models(MODELS).scorer("joint-english")
        answer = "The line closes to passengers when the mean wind over ten minutes reaches 18 m/s at any tower."
        other = "The ticket office opens at half past eight in summer."
        scores = scorer.score("At what wind speed is the line closed?", passages([answer, other])).scores
        self.assertGreater(scores[0], scores[1])
        self.assertIsNotNone(scorer.calibration)

    def test_what_only_repeats_the_question_is_below_what_answers_it(self):
        # Vectors made apart put nearly every repetition first; reading both together undoes that.
        scorer, encoder = Models(MODELS).scorer("joint-english"), Models(MODELS).encoder("compact-english")
        lines = (ROOT / "demo" / "questions.jsonl").read_text().splitlines()
        asked = [json.loads(line) for line in lines][::8]
        together = apart = count = 0
        for question in asked:
            text, answers = question["text"], [found["quote"] for found in question.get("answers", [])]
            if not answers:
                continue
            count += 1
            texts = [*answers, f"Many guests ask: {text} We are glad about every question."]
            scores = scorer.score(text, passages(texts)).scores
            cosines = encoder.vectors(texts) @ encoder.questions([text])[0]
            together += scores[:-1].max() > scores[-1]
            apart += cosines[:-1].max() > cosines[-1]
        self.assertGreater(count, 15)
        self.assertLess(apart, 0.2 * count)
        self.assertGreater(together, 0.7 * count)

    def test_it_is_below_four_megabytes_and_says_where_it_comes_from(self):
        root = Path(__file__).resolve().parents[2] / "weights"
        self.assertLess((root / "joint-english.safetensors").stat().st_size, 4e6)
        about = json.loads((root / "joint-english.json").read_text())
        self.assertEqual(about["licence"], "Apache-2.0")
        self.assertGreater(about["figures"]["together"]["mix"]["questions"], 3000)
        mrr = {name: own["mrr"] for name, own in about["figures"]["headings"].items()}
        self.assertGreater(mrr["joint scorer"], mrr["mix"])
        self.assertTrue(all({"package", "version", "licence"} <= set(text) for text in about["provenance"]["text"]))

    def test_both_precisions_are_there_and_the_graphs_are_sound(self):
        found = [folder for folder in Models(MODELS).scorers() if folder.name.startswith("joint-english")]
        self.assertEqual(len(found), 2)
        for folder in found:
            onnx.checker.check_model(str(folder.path / GRAPH))
