"""Pictures as a branch: found by what is said, read and seen, and by other pictures; built, changed and merged."""

import io
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageDraw

from doppio.core.branches.picture import guess
from doppio.core.branches.picture.index import Part, PictureIndex
from doppio.core.branches.picture.laying import LEAST_SHARED, NEAR, _likeness, _move, _tries, laid_over
from doppio.core.branches.picture.making import AROUND, GUESSED, READ, SAID, Pictures, parts
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DocumentError
from doppio.core.formats.optical import ReadLine
from doppio.core.measure.questions import Question
from doppio.core.models.looks import LOOK, NUMBERS, SMALL, look
from doppio.core.models.registry import Models
from doppio.core.question.reading import NOTHING_BESIDE, Beside
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import CAPTION, PARAGRAPH, DocumentBuilder, corpus_fingerprint
from tests.core.corpus import MODELS, recipe

BRANCHES = [
    {"id": "sparse", "kind": "bm25"},
    {"id": "read", "kind": "picture-words"},
    {"id": "shown", "kind": "pictures"},
]
WORDS = {"wind": "anemometer AX-9", "dogs": "leash hook", "ice": "de-icing pole E-217"}


def drawing(name, size=(320, 220)):
    """A drawing that no other name has."""
    dice = np.random.default_rng(list(name.encode()))
    picture = Image.new("RGB", size, "white")
    pen = ImageDraw.Draw(picture)
    for _ in range(9):
        x, y = int(dice.integers(0, size[0] - 70)), int(dice.integers(0, size[1] - 60))
        box = (x, y, x + int(dice.integers(20, 70)), y + int(dice.integers(20, 60)))
        colour = tuple(int(value) for value in dice.integers(0, 255, 3))
        (pen.rectangle if dice.random() < 0.5 else pen.ellipse)(box, fill=colour, outline="black", width=3)
    return picture


def packed(picture, kind="PNG", **more):
    target = io.BytesIO()
    picture.save(target, kind, **more)
    return target.getvalue()


EDITED = {
    "another file": lambda one: packed(one, "JPEG", quality=60),
    "a part": lambda one: packed(one.crop((40, 20, 300, 200))),
    "half the size": lambda one: packed(one.resize((160, 110))),
    "darker, other colours": lambda one: packed(
        Image.fromarray((np.asarray(one)[..., [2, 0, 1]] * 0.7).astype(np.uint8))
    ),
}


def sheet(name, alt="", broken=False):
    data = packed(drawing(name))

    def draw():
        if broken:
            raise DocumentError("a broken picture")
        return data

    builder = DocumentBuilder()
    builder.add(PARAGRAPH, f"Sheet of the office, number {len(name)}.")
    builder.picture(320, 220, draw, of=data, alt=alt)
    builder.add(CAPTION, f"Figure of {name[::-1]}")
    return builder.build(name, f"Sheet {name}")


def read_by_name(drawn):
    """What stands on a drawing, without the seconds that reading takes."""
    for name, words in WORDS.items():
        if drawn == packed(drawing(name)):
            return [ReadLine(words, 0.9, (0, 0, 1, 1))]
    return []


class Built(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.enterContext(mock.patch("doppio.core.chunking.table.read_picture", read_by_name))

    def build(self, documents, place="store", **changes):
        wanted = recipe(branches=BRANCHES, rerank=None, **changes)
        builder = Builder(ArtifactStore(self.root / place), Models(MODELS))
        key = corpus_fingerprint(documents)
        texts = CorpusTexts(documents, builder.chunks(documents, key, wanted), wanted.chunking["context"])
        builder.indexes(key, wanted, texts)
        return builder, key, wanted, builder.open(key, wanted, texts)

    @staticmethod
    def first(pipeline, question, stage="shown", **beside):
        found = pipeline.ask(question, Beside(**beside)).stage(stage).chunks
        return pipeline.texts.documents[pipeline.chunks.document[found[0]]].id if len(found) else None


class Asked(Built):
    def setUp(self):
        super().setUp()
        self.documents = [sheet("wind"), sheet("dogs", alt="A dog on the platform"), sheet("ice")]
        *_, self.pipeline = self.build(self.documents)

    def test_words_that_are_read_or_said_find_their_picture(self):
        self.assertEqual(self.first(self.pipeline, "Where is the AX-9?", "read"), "wind")
        self.assertEqual(self.first(self.pipeline, "E-217", "read"), "ice")
        self.assertEqual(self.first(self.pipeline, "an instrument that measures wind speed"), "wind")
        self.assertEqual(self.first(self.pipeline, "a puppy at the station"), "dogs")
        # The text of the documents says none of it.
        self.assertIsNone(self.first(self.pipeline, "AX-9", "sparse"))

    def test_an_edited_picture_finds_the_one_that_it_was(self):
        for name in WORDS:
            for how, edit in EDITED.items():
                with self.subTest(f"{name}, {how}"):
                    self.assertEqual(self.first(self.pipeline, "", picture=edit(drawing(name))), name)

    def test_a_picture_alone_is_no_business_of_branches_of_words(self):
        trace = self.pipeline.ask("", Beside(picture=packed(drawing("ice"))))
        self.assertEqual([len(trace.stage(name).chunks) for name in ("sparse", "read")], [0, 0])
        fused = trace.stage("fused")
        self.assertEqual(fused.chunks.tolist(), trace.stage("shown").chunks.tolist())

    def test_where_no_branch_sees_pictures_nothing_is_found_by_one(self):
        for branches in (BRANCHES[:1], BRANCHES[:2]):
            for method in ("reciprocal-rank", "scaled-scores"):
                plain = recipe(branches=branches, rerank=None, fusion={"method": method})
                builder = Builder(ArtifactStore(self.root / "store"), Models(MODELS))
                key = corpus_fingerprint(self.documents)
                builder.indexes(key, plain, self.pipeline.texts)
                trace = builder.open(key, plain, self.pipeline.texts).ask("", Beside(picture=packed(drawing("ice"))))
                self.assertEqual(len(trace.stage("fused").chunks), 0)

    def test_the_share_turns_from_the_words_to_the_picture(self):
        seen, asked = packed(drawing("ice")), "a dog on the platform"
        self.assertEqual(self.first(self.pipeline, asked, "fused", picture=seen, share=0.0), "dogs")
        self.assertEqual(self.first(self.pipeline, asked, "fused", picture=seen, share=1.0), "ice")
        shown = self.pipeline.ask(asked, Beside(picture=seen, share=0.3)).stage("shown")
        words = self.pipeline.ask(asked).stage("shown")
        alone = self.pipeline.ask("", Beside(picture=seen)).stage("shown")
        both = {chunk: 0.7 * score for chunk, score in zip(words.chunks.tolist(), words.scores, strict=True)}
        for chunk, score in zip(alone.chunks.tolist(), alone.scores, strict=True):
            both[chunk] += 0.3 * score
        for chunk, score in zip(shown.chunks.tolist(), shown.scores, strict=True):
            self.assertAlmostEqual(both[chunk], score, places=5)

    def test_pictures_that_belong_to_questions_are_asked_by_as_each_alone(self):
        besides = [
            Beside(picture=packed(drawing("ice"))),
            NOTHING_BESIDE,
            Beside(picture=packed(drawing("wind")), share=0.9),
        ]
        questions = ["", "a puppy at the station", "AX-9"]
        together = list(self.pipeline.ask_many(questions, besides))
        rankings = self.pipeline.rankings(questions, {}, besides)
        for row, (question, beside) in enumerate(zip(questions, besides, strict=True)):
            alone = self.pipeline.ask(question, beside)
            after = self.pipeline.ask_ranked(question, [branch[row] for branch in rankings], beside)
            for stage in ("shown", "fused", "context"):
                for other in (together[row], after):
                    self.assertEqual(alone.stage(stage).chunks.tolist(), other.stage(stage).chunks.tolist())
            self.assertEqual(Question("q", question, picture=beside.picture, share=beside.share).beside, beside)

    def test_conditions_are_met(self):
        found = self.pipeline.ask("", Beside(picture=packed(drawing("ice")), conditions="document is not ice"))
        names = {self.documents[self.pipeline.chunks.document[chunk]].id for chunk in found.stage("shown").chunks}
        self.assertEqual(names, {"wind", "dogs"})

    def test_a_reranker_leaves_a_question_without_words_as_it_is(self):
        changed = recipe(branches=BRANCHES[2:])
        builder = Builder(ArtifactStore(self.root / "store"), Models(MODELS))
        key = corpus_fingerprint(self.documents)
        builder.indexes(key, changed, self.pipeline.texts)
        pipeline = builder.open(key, changed, self.pipeline.texts)
        trace = pipeline.ask("", Beside(picture=packed(drawing("dogs"))))
        self.assertEqual(trace.stage("reranked").chunks.tolist(), trace.stage("fused").passed.tolist())
        self.assertGreater(len(trace.stage("context").chunks), 0)

    def test_scorers_read_what_stands_on_pictures(self):
        chunk = int(self.pipeline.ask("AX-9").stage("read").chunks[0])
        [candidate] = self.pipeline.candidates([chunk])
        self.assertTrue(candidate.indexed.endswith(f"\n\n{WORDS['wind']}"), candidate.indexed)

    def test_scorers_read_the_words_of_a_page_once(self):
        builder = DocumentBuilder()
        builder.page(1)
        data = packed(drawing("page"))
        builder.picture(320, 220, lambda: data, of=data, page=1, place=(0, 0, 1, 1))
        builder.add(PARAGRAPH, "The words of the page, as they were read off.")
        *_, pipeline = self.build([builder.build("scan")])
        self.assertEqual(len(pipeline.ask("page").stage("shown").chunks), 1)
        self.assertEqual(pipeline.candidates([0])[0].indexed, pipeline.texts.indexed([0])[0])

    def test_figures_count_what_there_is(self):
        told = {figure.what: figure.value for figure in self.pipeline.branches["shown"].figures}
        self.assertEqual((told["pictures"], told["with words on them"]), (3, 3))
        self.assertEqual(told["with words of their document"], 3)


class Changed(Built):
    def answers(self, pipeline):
        found = []
        for question, beside in (
            ("AX-9", {}), ("a leash", {}), ("", {"picture": packed(drawing("dogs"))}),
            ("ice", {"picture": packed(drawing("wind"))}),
        ):  # fmt: skip
            trace = pipeline.ask(question, Beside(**beside))
            found.append(
                [(s.stage, s.chunks.tolist(), [round(float(one), 5) for one in s.scores]) for s in trace.stages]
            )
        return found

    def test_after_any_change_and_merge_it_answers_as_a_fresh_build(self):
        steps = (["wind", "dogs"], ["wind", "dogs", "ice"], ["dogs", "ice", "rope"], ["rope", "ice"])
        for number, names in enumerate(steps):
            documents = [sheet(name, alt="A " + name if name == "rope" else "") for name in names]
            builder, key, wanted, pipeline = self.build(documents)
            *_, fresh = self.build(documents, f"fresh-{number}")
            self.assertEqual(self.answers(pipeline), self.answers(fresh), names)
            with mock.patch("doppio.core.store.segments.MOST_PARTS", 1):
                builder.compact(builder.keys(key, wanted).chunks)
            self.assertEqual(builder.missing(builder.keys(key, wanted)), [])
            merged = builder.open(key, wanted, pipeline.texts)
            self.assertEqual(self.answers(merged), self.answers(fresh), f"{names}, merged")

    def test_a_broken_picture_keeps_what_is_said_of_it(self):
        *_, pipeline = self.build([sheet("wind", alt="An anemometer", broken=True), sheet("dogs")])
        self.assertEqual(self.first(pipeline, "anemometer"), "wind")
        self.assertEqual(self.first(pipeline, "anemometer", "read"), "wind")
        self.assertEqual(self.first(pipeline, "", picture=packed(drawing("dogs"))), "dogs")

    def test_a_corpus_without_pictures_has_nothing_to_find(self):
        builder = DocumentBuilder()
        builder.add(PARAGRAPH, "Words alone.")
        *_, pipeline = self.build([builder.build("alone")])
        self.assertEqual(len(pipeline.ask("words").stage("shown").chunks), 0)
        self.assertEqual(len(pipeline.ask("", Beside(picture=packed(drawing("x")))).stage("shown").chunks), 0)


def part(count, dice, sorts=(SAID, READ, AROUND), dimension=12):
    """Made-up pictures, one a chunk, with vectors of some sorts."""
    told = np.array([(picture, sort) for picture in range(count) for sort in sorts], np.int32).reshape(-1, 2)
    vectors = dice.standard_normal((len(told), dimension))
    vectors = (vectors / np.linalg.norm(vectors, axis=1, keepdims=True)).astype(np.float16)
    nothing = np.zeros((count, 2), np.int64)
    pictures = Pictures(
        np.stack([np.arange(count)] * 2, axis=1), dice.random((count, LOOK)).astype(np.float32), nothing,
        np.empty((0, NUMBERS), np.int8), np.empty(0, np.float32), np.empty((0, 2), np.float32),
        np.zeros((count, SMALL, SMALL), np.uint8), np.ones((count, 2), np.float32), np.empty(0, np.uint8), nothing,
        np.zeros((count, 20), np.uint8),
    )  # fmt: skip
    return Part(pictures, vectors, told, np.empty(0, np.int64))


WEIGHT = st.one_of(st.just(0.0), st.floats(0.01, 1))


class Scores(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(st.integers(1, 20), st.integers(0, 99), st.tuples(*[WEIGHT] * 3))
    def test_by_words_it_is_the_best_of_the_slow_formula(self, count, seed, given_weights):
        dice = np.random.default_rng(seed)
        one = part(count, dice)
        weights = dict(zip((SAID, READ, AROUND, GUESSED), (*given_weights, 0.0), strict=True))
        words = dice.standard_normal(12).astype(np.float32)
        found = dict(
            zip(*map(np.ndarray.tolist, PictureIndex([one]).search(words, None, 0.5, weights, 99)), strict=True)
        )
        for picture in range(count):
            best = -1.0
            for vector, (own, sort) in zip(one.vectors.astype(np.float32), one.told.tolist(), strict=True):
                if own == picture and weights[sort] > 0:
                    best = max(best, weights[sort] * float(vector @ words) / float(np.linalg.norm(words)))
            self.assertAlmostEqual(found[picture], best, places=4)

    def test_the_guess_is_ridge_regression(self):
        dice = np.random.default_rng(4)
        one = part(60, dice, (SAID,))
        found = guess.fitted([(one.pictures, one.vectors, one.told)])
        seen = one.pictures.wholes.astype(np.float64)
        meant = one.vectors.astype(np.float64)
        meant /= np.linalg.norm(meant, axis=1, keepdims=True)
        # The same as least squares with rows for the penalty.
        rows = np.vstack([seen - seen.mean(0), np.sqrt(guess.RIDGE) * np.eye(LOOK)])
        aims = np.vstack([meant - meant.mean(0), np.zeros((LOOK, 12))])
        slow, *_ = np.linalg.lstsq(rows, aims, rcond=None)
        np.testing.assert_allclose(found.turn, slow, atol=1e-5)
        self.assertIsNone(guess.fitted([(one.pictures, one.vectors[:9], one.told[:9])]))

    def test_what_looks_alike_is_guessed_to_be_about_the_same(self):
        dice = np.random.default_rng(5)
        one = part(80, dice, (SAID,))
        kinds = dice.integers(0, 2, 80)
        one.pictures.wholes[:, :40] += 2.0 * kinds[:, None]
        topics = np.eye(12, dtype=np.float16)[:2]
        one.vectors[:] = topics[kinds]
        # Nothing is said of the last ones.
        kept = one.told[:, 0] < 60
        shown = Part(one.pictures, one.vectors[kept], one.told[kept], one.now)
        weights = {SAID: 1.0, READ: 1.0, AROUND: 1.0, GUESSED: 0.5}
        chunks, scores = PictureIndex([shown]).search(topics[1].astype(np.float32), None, 0.5, weights, 80)
        unsaid = {c: s for c, s in zip(chunks.tolist(), scores.tolist(), strict=True) if c >= 60}
        good = [unsaid[c] for c in range(60, 80) if kinds[c] == 1]
        bad = [unsaid[c] for c in range(60, 80) if kinds[c] == 0]
        self.assertGreater(min(good), max(bad))


class Looks(unittest.TestCase):
    def test_numbers_are_of_unit_length_and_always_the_same(self):
        one, again = look(packed(drawing("wind"))), look(packed(drawing("wind")))
        np.testing.assert_array_equal(one.whole, again.whole)
        np.testing.assert_array_equal(one.points, again.points)
        np.testing.assert_allclose(np.linalg.norm(one.points, axis=1), 1, atol=1e-5)
        self.assertAlmostEqual(float(np.linalg.norm(one.whole)), 1, places=5)
        self.assertEqual((len(one.whole), len(one.places)), (LOOK, len(one.points)))

    def test_an_empty_sheet_has_no_points(self):
        self.assertEqual(len(look(packed(Image.new("RGB", (80, 60), "white"))).points), 0)

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 999), st.floats(0.4, 2.5), st.floats(-3.1, 3.1), st.floats(0, 0.35))
    def test_a_turned_and_moved_set_of_points_is_found_among_wrong_ones(self, seed, size, angle, wrong):
        dice = np.random.default_rng(seed)
        here = dice.random(60) + 1j * dice.random(60)
        turn, shift = size * np.exp(1j * angle), complex(*dice.uniform(-1, 1, 2))
        there = turn * here + shift
        off = dice.random(60) < wrong
        there[off] = dice.uniform(-3, 3, off.sum()) + 1j * dice.uniform(-3, 3, off.sum())
        moved, turn, shift = _move(here, there, *_tries(60))
        self.assertTrue(moved)
        self.assertLess(np.abs(turn * here[~off] + shift - there[~off]).max(), 2 * NEAR)

    def test_points_that_agree_on_nothing_or_lie_in_one_place_move_nothing(self):
        dice = np.random.default_rng(4)
        here = dice.random(9) + 1j * dice.random(9)
        self.assertFalse(_move(here, 9 * dice.random(9) + 9j * dice.random(9), *_tries(9))[0])
        self.assertFalse(_move(np.full(9, 0.5 + 0.5j), here, *_tries(9))[0])

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 999), st.floats(0.5, 2), st.floats(-3.1, 3.1), st.booleans())
    def test_likeness_is_the_correlation_of_what_lies_over_one_another(self, seed, size, angle, far):
        dice = np.random.default_rng(seed)
        small, other = (np.kron(dice.integers(0, 255, (16, 16)), np.ones((8, 8), int)).astype(np.uint8) for _ in "ab")
        shape, other_shape = (0.75, 1.0), (1.0, float(dice.uniform(0.4, 1)))
        turn, shift = size * np.exp(1j * angle), complex(*dice.uniform(-0.6, 0.6, 2)) + 5 * far
        pairs, on_me = [], 0
        for row in range(SMALL):
            for column in range(SMALL):
                spot = complex(column + 0.5, row + 0.5) / SMALL
                on_me += spot.imag < shape[0]
                there = turn * spot + shift
                if spot.imag < shape[0] and 0 <= there.real < other_shape[1] and 0 <= there.imag < other_shape[0]:
                    pairs.append((small[row, column], other[int(there.imag * SMALL), int(there.real * SMALL)]))
        found = _likeness(turn, shift, small, other, *shape, *other_shape)
        if len(pairs) / on_me < LEAST_SHARED:
            self.assertEqual(found, 0)
        else:
            wanted = max(np.corrcoef(np.array(pairs, float).T)[0, 1], 0) * (len(pairs) / on_me) ** 0.5
            self.assertAlmostEqual(found, wanted, places=6)

    def test_a_picture_lies_on_itself_and_on_no_other(self):
        one, other = look(packed(drawing("wind"))), look(packed(drawing("ice")))

        def laid(a, b):
            return laid_over(a.points @ b.points.T, a.places, b.places, a.small, b.small, a.shape, b.shape)

        self.assertGreater(laid(one, one), 0.99)
        self.assertLess(laid(one, other), 0.5)

    def test_words_are_parted_by_lines_and_bounded(self):
        self.assertEqual(parts("a b\n\nc"), ["a b; c"])
        self.assertEqual(parts(""), [])
        many = parts("\n".join(f"row {number} of the table" for number in range(400)))
        self.assertLessEqual(len(many), 8)
        self.assertTrue(all(len(one.split()) <= 60 for one in many))
