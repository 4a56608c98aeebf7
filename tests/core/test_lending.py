"""What is said of pictures is lent to those that look like them: against a slow formula, and in a pipeline."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageDraw

from doppio.core.branches.picture import lending
from doppio.core.branches.query import Query
from doppio.core.models.looks import LOOK
from doppio.core.question.reading import Beside
from doppio.core.text.document import PARAGRAPH, DocumentBuilder
from tests.core.test_shown import Built, packed, part

NONE = np.empty(0, np.int64)


def pictures_with(count, said, dice, carried):
    """Made-up pictures with names of their own, and words said of some."""
    texts = [b"said" if one else b"" for one in said]
    ends = np.cumsum([[len(text), 0] for text in texts], dtype=np.int64).reshape(-1, 2)
    names = np.frombuffer("".join(f"{dice.integers(1e18):020}" for _ in range(count)).encode(), np.uint8)
    return replace(
        part(count, dice).pictures, words=np.frombuffer(b"".join(texts), np.uint8), ends=ends,
        digests=names.reshape(count, 20), carried=np.array(carried, np.int64),
    )  # fmt: skip


def fit(seen, held):
    """Centre, mean and turn by least squares with rows for the penalty."""
    centre, mean = seen.mean(axis=0), np.mean(held)
    rows = np.vstack([seen - centre, np.sqrt(lending.RIDGE) * np.eye(LOOK)])
    aims = np.concatenate([np.array(held) - mean, np.zeros(LOOK)])
    return centre, mean, np.linalg.solve(rows.T @ rows, rows.T @ aims)


def guess(fitted, look):
    centre, mean, turn = fitted
    return mean + float((look - centre) @ turn)


def slow_lent(pictures, scores):
    """Fitted anew without each picture to see how well it is guessed; by chunk."""
    said = [number for number in range(len(pictures)) if pictures.said(number)]
    held = np.array([
        max(scores.get(chunk, 0.0) for chunk, own in pictures.carried.tolist() if own == number) for number in said
    ])  # fmt: skip
    seen = pictures.wholes[said].astype(np.float64)
    missed = []
    for number in range(len(said)):
        others = np.arange(len(said)) != number
        missed.append(held[number] - guess(fit(seen[others], held[others]), seen[number]))
    told = max(0.0, 1 - np.square(missed).sum() / max(np.square(held - held.mean()).sum(), 1e-12)) ** 0.5
    whole, found = fit(seen, held), {}
    for chunk, picture in pictures.carried.tolist():
        if picture not in said:
            found[chunk] = max(found.get(chunk, 0.0), told * guess(whole, pictures.wholes[picture]))
    return {chunk: value for chunk, value in found.items() if value > 0}


class Fitted(unittest.TestCase):
    @settings(max_examples=8)
    @given(st.integers(0, 2**32 - 1), st.integers(1, 12))
    def test_it_is_ridge_regression_of_scores_and_hangs_on_no_segments(self, seed, unsaid):
        dice = np.random.default_rng(seed)
        count = lending.LEAST + unsaid
        said = dice.permutation(count) >= unsaid
        # Some chunks carry two pictures, some pictures stand in two chunks.
        pairs = {(picture // 2 if picture % 5 == 0 else picture, picture) for picture in range(count)}
        pairs |= {(int(dice.integers(count)), int(dice.integers(count))) for _ in range(6)}
        pictures = pictures_with(count, said, dice, sorted(pairs))
        # How they look has to do with what they score.
        kinds = np.arange(count) % 2
        pictures.wholes[:, :60] += 2 * kinds[:, None]
        scores = {chunk: float(5 * kinds[chunk] + dice.random()) for chunk in range(count) if dice.random() < 0.9}
        given_scores = np.array(list(scores), np.int64), np.array(list(scores.values()))
        found = lending.fitted([(pictures, NONE)])
        chunks, lent = found.lent(*given_scores)
        slow = slow_lent(pictures, scores)
        self.assertEqual(set(chunks.tolist()) ^ slow.keys(), set())
        np.testing.assert_allclose(lent, [slow[chunk] for chunk in chunks.tolist()], rtol=1e-3, atol=1e-3)
        # The same in two segments, one of which has a chunk that is gone.
        gone = dice.random(count) < 0.5
        here, there = np.where(gone, -1, np.arange(count)), np.where(gone, np.arange(count), -1)
        again = lending.fitted([(pictures, here), (pictures, there)])
        np.testing.assert_array_equal(again.lent(*given_scores)[1], lent)
        # Conditions take chunks away and change nothing else.
        allowed = dice.random(count) < 0.5
        some, less = found.lent(*given_scores, allowed)
        np.testing.assert_array_equal(some, chunks[allowed[chunks]])
        np.testing.assert_array_equal(less, lent[allowed[chunks]])

    def test_where_looks_tell_nothing_of_a_question_nothing_is_lent(self):
        dice = np.random.default_rng(1)
        pairs = [(number, number) for number in range(150)]
        pictures = pictures_with(150, np.arange(150) < 120, dice, pairs)
        found = lending.fitted([(pictures, NONE)])
        random = [len(found.lent(np.arange(120), dice.random(120))[0]) for _ in range(20)]
        self.assertEqual(sum(count > 0 for count in random), 0)
        self.assertEqual(len(found.lent(NONE, np.empty(0))[0]), 0)

    def test_with_too_few_or_with_none_to_lend_to_there_is_none(self):
        dice = np.random.default_rng(0)
        count = lending.LEAST + 1
        pairs = [(number, number) for number in range(count)]
        few = np.arange(count) < lending.LEAST - 1
        self.assertIsNone(lending.fitted([(pictures_with(count, few, dice, pairs), NONE)]))
        self.assertIsNone(lending.fitted([(pictures_with(count, few | True, dice, pairs), NONE)]))
        self.assertIsNotNone(lending.fitted([(pictures_with(count, np.arange(count) > 0, dice, pairs), NONE)]))


def sign(number, round_one, caption):
    """A sign, round and red or square and blue, no two of which are the same."""
    picture = Image.new("RGB", (160, 120), "white")
    pen, at = ImageDraw.Draw(picture), 10 + number
    if round_one:
        pen.ellipse((at, 20, at + 70, 90), fill=(200, 30 + number, 30))
    else:
        pen.rectangle((at, 30, at + 80, 80), fill=(30, 40 + number, 190))
    data = packed(picture)
    builder = DocumentBuilder()
    builder.add(PARAGRAPH, f"Sheet number {number}.")
    builder.picture(160, 120, lambda: data, of=data, alt=caption)
    return builder.build(f"sign-{number:02}", f"Sign {number}")


class Asked(Built):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch("doppio.core.chunking.table.read_picture", lambda drawn: []))
        told = {True: "A crimson disc beside the platform", False: "A cobalt panel over the gate"}
        self.documents = [sign(number, number % 2 == 0, told[number % 2 == 0]) for number in range(32)]
        self.documents += [sign(32, True, ""), sign(33, False, "")]

    def opened(self, **branch):
        given_branch = {"id": "read", "kind": "picture-words", "depth": 40, **branch}
        with mock.patch("tests.core.test_shown.BRANCHES", [given_branch]):
            *_, pipeline = self.build(self.documents)
        return pipeline

    def scores(self, pipeline, question):
        stage = pipeline.ask(question).stage("read")
        names = [pipeline.texts.documents[place].id for place in pipeline.chunks.document[stage.chunks]]
        return dict(zip(names, stage.scores.tolist(), strict=True))

    def test_a_picture_of_which_nothing_is_said_is_found_by_what_is_said_of_its_like(self):
        plain, lent = self.opened(), self.opened(lent=1.0)
        question = "Where is the crimson disc?"
        own, found = self.scores(plain, question), self.scores(lent, question)
        self.assertFalse({"sign-32", "sign-33"} & own.keys())
        self.assertGreater(found["sign-32"], 3 * found.get("sign-33", 0.0))
        # Those that have words of their own keep their scores, and stand before.
        for name, score in own.items():
            self.assertAlmostEqual(found[name], score, places=5)
            self.assertGreater(score, found["sign-32"] * 0.99)
        self.assertAlmostEqual(
            self.scores(self.opened(lent=0.5), question)["sign-32"], found["sign-32"] / 2, places=4
        )

    def test_conditions_hold_for_what_is_lent_and_where_no_term_is_found(self):
        pipeline = self.opened(lent=1.0)
        alone = pipeline.ask("a crimson disc", Beside(conditions="document is sign-32")).stage("read")
        names = [pipeline.texts.documents[place].id for place in pipeline.chunks.document[alone.chunks]]
        self.assertEqual(names, ["sign-32"])
        self.assertAlmostEqual(float(alone.scores[0]), self.scores(pipeline, "a crimson disc")["sign-32"], places=5)
        nothing = pipeline.ask("zeppelin", Beside(conditions="document is sign-32")).stage("read")
        self.assertEqual(len(nothing.chunks), 0)

    def test_what_is_lent_is_told_and_adds_up(self):
        pipeline = self.opened(lent=0.8)
        stage = pipeline.ask("a crimson disc at the gate").stage("read")
        rows = pipeline.branches["read"].explain_asked(Query("a crimson disc at the gate"), stage.chunks.tolist())
        for row, score in zip(rows, stage.scores, strict=True):
            self.assertAlmostEqual(sum(term.share for term in row.terms) + row.lent, float(score), places=4)
        self.assertEqual(sum(row.lent > 0 for row in rows), len(rows) - 32)
