import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

from doppio.core.errors import ModelFolderError
from doppio.core.models.folder import MANIFEST, open_folder, prepare_encoder
from doppio.core.models.joint import Passage
from doppio.core.models.token_vectors import Segment, TokenVectors, compress, frequencies
from doppio.core.reranking.late_interaction import LateInteraction
from tests.core.corpus import MODELS, encoder

SENTENCES = [
    "How many people live in the town?",
    "The population of the town is 4,200.",
    "The capital was moved in 1871.",
]


class CompactEnglishEncoder(unittest.TestCase):
    def test_reference_values(self):
        vectors = encoder().vectors(SENTENCES)
        np.testing.assert_allclose(np.linalg.norm(vectors, axis=1), 1, atol=1e-5)
        products = vectors @ vectors.T
        np.testing.assert_allclose(
            [products[0, 1], products[0, 2], products[1, 2]], [0.6540, 0.3253, 0.2102], atol=0.0005
        )

    def test_batching_and_padding_change_nothing(self):
        texts = [" ".join(["cabin"] * n) for n in range(1, 70, 3)]
        together = encoder().vectors(texts)
        alone = np.concatenate([encoder().vectors([text]) for text in texts])
        np.testing.assert_allclose(together, alone, atol=2e-5)

    def test_what_is_past_the_limit_is_not_read(self):
        start = "rope " * 300
        np.testing.assert_allclose(*encoder().vectors([start, start + "wind and weather"]), atol=1e-5)

    def test_token_offsets_point_into_the_text(self):
        text = "Grip TX/12.5 – naïve?"
        units = encoder().token_offsets([text])[0]
        pieces = [text[s:e] for s, e in zip(units.starts, units.ends, strict=True)]
        self.assertEqual("".join(pieces), text.replace(" ", ""))


class LateInteractionScores(unittest.TestCase):
    def setUp(self):
        self.passages = ["The cabin waits for wind.", "Dogs need a muzzle in the cable car.", "A tower"]
        codes, scales, begins, held = [], [], [0], np.zeros(encoder().vocabulary_size, np.int32)
        found = {}
        for batch in encoder().encode(self.passages, tokens=True):
            for place, matrix, ids in zip(batch.place, batch.tokens, batch.ids, strict=True):
                found[int(place)] = matrix, ids
        for place in range(len(self.passages)):
            matrix, ids = found[place]
            code, scale = compress(matrix)
            codes.append(code)
            scales.append(scale)
            begins.append(begins[-1] + len(scale))
            held[np.unique(ids)] += 1
        self.matrices = [found[place][0] for place in range(len(self.passages))]
        spans = np.stack([begins[:-1], np.diff(begins)], axis=1)
        ids = np.concatenate([found[place][1] for place in range(len(self.passages))]).astype(np.int32)
        segment = Segment(spans, np.concatenate(codes), np.concatenate(scales), ids, held)
        np.testing.assert_array_equal(frequencies(spans, ids, len(held)), held)
        self.stored = TokenVectors([segment])
        self.scorer = LateInteraction(encoder(), self.stored)

    def slow(self, question):
        batch = next(iter(encoder().encode([question], tokens=True)))
        scores = []
        for matrix in self.matrices:
            total = weight_sum = 0.0
            for vector, number in zip(batch.tokens[0], batch.ids[0], strict=True):
                held = int(self.stored.frequency[number])
                weight = float(np.log(1 + (len(self.matrices) - held + 0.5) / (held + 0.5)))
                total += weight * max(float(vector @ other) for other in matrix)
                weight_sum += weight
            scores.append(total / weight_sum)
        return scores

    def test_scores_are_those_of_the_slow_sum(self):
        question = "does my dog need a muzzle?"
        got = self.scorer.score(question, [Passage(text) for text in self.passages]).scores
        np.testing.assert_allclose(got, self.slow(question), atol=1e-4)
        self.assertEqual(int(np.argmax(got)), 1)

    def test_stored_vectors_score_as_fresh_ones_do(self):
        question = "wind at the tower"
        fresh = self.scorer.score(question, [Passage(text) for text in self.passages])
        stored = self.scorer.score(question, [Passage(text, chunk) for chunk, text in enumerate(self.passages)])
        np.testing.assert_allclose(stored.scores, fresh.scores, atol=0.01)

    def test_matches_add_up_to_the_score_and_point_into_the_passage(self):
        question = "muzzle for a dog"
        passage = Passage(self.passages[1], 1)
        matches = self.scorer.matches(question, passage)
        score = self.scorer.score(question, [passage]).scores[0]
        self.assertAlmostEqual(sum(match.weight * match.cosine for match in matches), float(score), places=3)
        dog = next(match for match in matches if match.token == "dog")
        self.assertEqual(passage.text[dog.start : dog.end], "Dogs")

    def test_an_empty_question_scores_nothing(self):
        self.assertEqual(self.scorer.score("", [Passage("a tower")]).scores.tolist(), [0.0])


class Folders(unittest.TestCase):
    def test_a_missing_file_is_named(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            manifest = json.loads((MODELS / "compact-english" / MANIFEST).read_text())
            (folder / MANIFEST).write_text(json.dumps(manifest))
            with self.assertRaisesRegex(ModelFolderError, "encoder.onnx: missing"):
                open_folder(folder)

    def test_another_architecture_is_refused_and_leaves_nothing(self):
        with tempfile.TemporaryDirectory() as place:
            source, target = Path(place) / "source", Path(place) / "target"
            source.mkdir()
            (source / "config.json").write_text('{"model_type": "other"}')
            with self.assertRaisesRegex(ModelFolderError, "not a BERT-family encoder"):
                prepare_encoder(source, target, name="x", title="x", max_tokens=8, licence="x")
            self.assertEqual([path.name for path in Path(place).iterdir()], ["source"])
