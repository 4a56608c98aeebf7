"""What the shipped scorer learns from: whole manuals, questions made from text, what a step draws, how it judges."""

import random
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from sklearn.linear_model import LogisticRegression
from training import report
from training.corpora import corpus
from training.details import DETAIL, details
from training.groups import HARD, QUESTIONS_A_STEP, TURNS, Groups
from training.known import NAMES
from training.manuals import Manual, read
from training.mining import Mined, Question
from training.scoring import ABSENT, HEADING, Row
from training.sections import HOW_TO, OTHER, QUESTION, TOPIC, asked, kind_of, spoken
from training.weighing import FULL, WEIGHINGS, held_out, shipped
from training.wording import ALIKE, keywords, reworded

from doppio.core.formats.documents import read_file
from doppio.core.models.fitted_folder import FittedFolder

PARTS = ("rope", "cabin", "tower", "brake", "pulley", "motor", "grip", "gate", "cable", "sheave", "anchor", "beacon")
TEXTS = [
    f"part: {part}; limit: {number + 3} turns; colour: {part}-red\n\n"
    f"The {part} is inspected by two fitters before the first ride of the day. "
    f"If the {part} of line {number} shows rust, the shift leader closes the station at once. "
    f"Grease for the {part} comes in tins of {number} litres and is kept in the shed behind the valley station."
    for number, part in enumerate(PARTS)
]


def mined(name="ropeway", fold=0):
    """A made-up manual under one cut: a passage a part, all of them candidates of every question."""
    count = len(PARTS)
    questions = []
    for row, part in enumerate(PARTS):
        chunks = np.roll(np.arange(count), -row)
        right = chunks == row
        windows = {size: [(0, 40)] * count for size in (64, 128)}
        told = np.arange(count, 0, -1.0)
        there = row % 4 != 3
        questions.append(
            Question(f"Check the {part}", DETAIL if row % 4 == 2 else HOW_TO, there, chunks,
                     told, told, told, told, right & there, right & there,
                     windows, dict.fromkeys(windows, right & there))
        )  # fmt: skip
    return Mined(name, fold, "cut", TEXTS, [f"Manual: {part}" for part in PARTS], questions)


class Headings(unittest.TestCase):
    def test_they_ask_tell_name_or_do_none_of_it(self):
        kinds = {
            "How often is the rope greased?": QUESTION, "What a tower carries": QUESTION, "Replace the brake": HOW_TO,
            "Checking the anchor bolts": HOW_TO, "To open a cabin": HOW_TO, "The valley station": TOPIC,
            "Brakes": OTHER, "Replace": OTHER, "Values of rope_x = 3 here": OTHER,
        }  # fmt: skip
        self.assertEqual({heading: kind_of(heading) for heading in kinds}, kinds)
        self.assertEqual(asked("Replace the brake pads"), "How do I replace the brake pads?")
        self.assertEqual(asked("To open a cabin"), "How do I open a cabin?")
        self.assertEqual(spoken("3.1  Why is the rope greased?"), "Why is the rope greased?")

    def test_other_words_are_others_and_short_forms_keep_what_carries_meaning(self):
        for word, others in ALIKE.items():
            self.assertNotIn(word, others)
            self.assertTrue(others, word)
        dice = random.Random(3)
        said = {reworded("How do I remove the brake?", dice) for _ in range(200)}
        self.assertGreater(len(said), 8)
        self.assertTrue(any("delete" in text for text in said))
        for _ in range(50):
            short = keywords("How do I replace the brake pads?", dice).lower().split()
            self.assertEqual(sorted(short), ["brake", "pads", "replace"])

    def test_a_help_page_is_read_with_its_titles(self):
        page = (
            '<page xmlns="http://projectmallard.org/1.0/" id="rope"><info><desc>left out</desc></info>'
            "<title>Rope &amp; grip</title><p>First <em>of</em> all.</p><section><title>Grease</title>"
            "<steps><item><p>Take the tin.</p></item></steps></section></page>"
        )
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "made-up" / "help.page"
            place.parent.mkdir()
            place.write_text(page)
            (document,) = read(Manual("made-up", ("*.page",), "none", 0), Path(folder))
        texts = [(block.kind, document.text[block.start : block.end]) for block in document.blocks]
        self.assertEqual([text for _, text in texts], ["Rope & grip", "First of all.", "Grease", "Take the tin."])
        self.assertEqual([kind for kind, _ in texts], ["heading", "paragraph", "heading", "paragraph"])


class Corpora(unittest.TestCase):
    def pages(self):
        long = "The rope is looked at every morning before the first ride, and what was seen is written down. " * 3
        pages = []
        for number, part in enumerate(PARTS):
            html = (
                f"<title>About the {part}</title><h1>{part} {number}</h1>"
                f"<p>Contents: Why is the {part} greased? {part} {long}</p>"
                f"<h2>Why is the {part} greased?</h2><p>Grease of the {part}: {number} {long}</p>"
                f"<h2>Replace the {part}</h2><p>Lift the {part} out first. {number} {long}</p>"
            )
            pages += read_file(html.encode(), f"{part}.html")
        return pages

    def test_headings_go_from_their_own_places_alone(self):
        whole = corpus(self.pages(), "ropeway manual")
        self.assertEqual(len(whole.documents), len(PARTS))
        answered = [q for q in whole.questions if q.spans and q.kind != DETAIL]
        self.assertGreater(len(answered), len(PARTS))
        for question in answered:
            ((place, start, end),) = question.spans
            document = whole.documents[place]
            headings = [document.text[b.start : b.end] for b in document.blocks if b.kind == "heading"]
            self.assertNotIn(question.text, headings)
            part = question.text.split()[2 if question.text.startswith("Replace") else 3].strip("?")
            self.assertIn(part, document.text[start:end])
            if question.kind == QUESTION:
                # A mention elsewhere stays, as it would in any manual.
                self.assertIn(question.text, document.text)
                self.assertTrue(document.text[start:end].startswith("Grease of the"))
            inner = [s for s in document.sections if s.start <= start][-1]
            self.assertNotEqual(inner.heading, question.text)

    def test_what_is_taken_out_is_nowhere_and_what_repeats_is_left_out(self):
        pages = self.pages()
        whole = corpus(pages, "ropeway manual")
        absent = [q for q in whole.questions if not q.spans]
        self.assertTrue(absent)
        text = "\n".join(document.text for document in whole.documents)
        for question in absent:
            if question.text.startswith("Replace"):
                self.assertNotIn(f"Lift the {question.text.split()[2]} out", text)
            else:
                self.assertNotIn(f"Grease of the {question.text.split()[3]}:", text)
        both = "".join(f"<p>{page.text[block.start : block.end]}</p>" for page in pages for block in page.blocks)
        again = corpus([*pages, *read_file(both.encode(), "all.html")], "ropeway manual")
        self.assertEqual([d.id for d in again.documents], [d.id for d in whole.documents])


class Details(unittest.TestCase):
    def test_every_question_is_answered_where_it_says(self):
        found = details(TEXTS, "ropeway", 30)
        self.assertGreater(len(found), len(PARTS))
        for question, held, places in found:
            self.assertTrue(1 <= len(places) <= 3)
            for place in places:
                self.assertIn(held, TEXTS[place])
            words = [word for word in question.lower().strip("?").split() if len(word) > 4]
            self.assertGreaterEqual(sum(word in TEXTS[places[0]].lower() for word in words), len(words) / 2, question)
        self.assertEqual(found, details(TEXTS, "ropeway", 30))

    def test_conditions_become_questions(self):
        texts = [question for question, _, _ in details(TEXTS, "ropeway", 60)]
        self.assertTrue(
            any(text.startswith("What happens if the") and text.endswith("rust?") for text in texts), texts
        )
        self.assertTrue(any("limit" in text for text in texts), texts)


class Drawing(unittest.TestCase):
    def test_the_right_passage_is_first_and_the_others_do_not_answer(self):
        groups = Groups([mined("one"), mined("two")])
        kinds = set()
        for step in range(12):
            drawn = groups.step(step)
            self.assertEqual(len(drawn), QUESTIONS_A_STEP)
            self.assertEqual(drawn, groups.step(step))
            for group in drawn:
                kinds.add(group.answered)
                self.assertEqual(len(group.passages), HARD + 1)
                part = next((part for part in PARTS if part in group.question.lower()), None)
                if part and group.answered:
                    self.assertIn(f"part: {part};", group.passages[0])
                for passage in group.passages[group.answered :]:
                    self.assertTrue(
                        group.question in passage or f"part: {part};" not in passage or not group.answered
                    )
        self.assertEqual(kinds, {True, False})
        self.assertAlmostEqual(TURNS.count("absent") / len(TURNS), 0.1)


def row(fold, kind, joint, late, fused, right):
    scores = {"joint": joint, "late": late, "fused": fused}
    question = Question("q", "question", True, *[np.zeros(0)] * 7, {}, {})
    return Row(f"manual {fold}", fold, "natural breaks, 160", kind, question, scores, right)


def judged(seed, count=240):
    """Rows in which the joint score tells more than late interaction, and some that nothing answers."""
    dice = np.random.default_rng(seed)
    found = []
    for number in range(count):
        joint, late, fused = dice.normal(size=(3, 12))
        kind = (HEADING, DETAIL, HEADING, ABSENT)[number % 4]
        right = np.zeros(12, bool)
        if kind != ABSENT:
            right[np.argmax(2 * joint + late + 0.3 * fused + dice.normal(size=12))] = True
            joint = joint + 1.5 * right
        found.append(row(number % 3, kind, joint, late, fused, right))
    return found


class Judging(unittest.TestCase):
    def test_a_choice_has_not_seen_what_it_is_told_of(self):
        rows = judged(1)
        found = report.report(rows, lambda row: 0.0)
        for fold in (0, 1, 2):
            others = [r for r in rows if r.fold != fold]
            turned = [row(r.fold, r.kind, -r.scores["joint"], r.scores["late"], r.scores["fused"], r.right)
                      for r in rows if r.fold == fold]  # fmt: skip
            again = report.report(others + turned, lambda row: 0.0)
            for name in ("joint scorer", "several"):
                self.assertEqual(found["chosen"][name][str(fold)], again["chosen"][name][str(fold)])
        self.assertGreater(found["headings"]["several"]["mrr"], found["headings"]["mix"]["mrr"])
        self.assertEqual(found["headings"]["mix"]["questions"], 120)
        self.assertIn("| headings | 120 |", report.tables(found))

    @settings(max_examples=6, deadline=None)
    @given(st.integers(0, 1000))
    def test_logistic_weights_are_those_of_another_library(self, seed):
        dice = np.random.default_rng(seed)
        facts = dice.normal(3, 2, (300, 3))
        truth = (dice.random(300) < 1 / (1 + np.exp(-(facts @ [1, -0.5, 0] - 1)))).astype(float)
        centre, spread = facts.mean(0), facts.std(0)
        other = LogisticRegression(C=1.0, tol=1e-8).fit((facts - centre) / spread, truth)
        expected = other.coef_[0] / spread
        found = report.logistic(facts, truth)
        np.testing.assert_allclose(found[:-1], expected, atol=1e-3)
        self.assertAlmostEqual(found[-1], float(other.intercept_[0] - expected @ centre), places=2)

    @given(st.integers(0, 10_000))
    def test_ranks_are_those_of_sorting(self, seed):
        dice = np.random.default_rng(seed)
        rows = [row(0, HEADING, *dice.integers(0, 4, (3, size)).astype(float), dice.random(size) < 0.3)
                for size in dice.integers(1, 9, 5)]  # fmt: skip
        table = report.Table.of(rows)
        for one, found in zip(rows, table.ranks(table.scores["joint"]), strict=True):
            ordered = one.right[np.argsort(-one.scores["joint"], kind="stable")]
            self.assertEqual(found, 1 + int(ordered.argmax()) if ordered.any() else report.NONE)

    def test_what_is_said_comes_true_as_often(self):
        dice = np.random.default_rng(5)
        said = dice.random(40_000)
        self.assertLess(report.reliability(said, (dice.random(40_000) < said).astype(float))["error"], 0.01)
        self.assertGreater(report.reliability(said, (dice.random(40_000) < said**3).astype(float))["error"], 0.1)

    def test_weights_have_not_seen_the_manuals_that_they_are_told_of(self):
        dice = np.random.default_rng(7)
        rows = [replace(one, facts=dice.normal(size=(12, len(NAMES)))) for one in judged(3)]
        found = held_out(rows, FULL)
        self.assertEqual(report.report(rows, lambda row: 0.0)["headings"][FULL.name]["questions"], 120)
        turned = [replace(one, right=~one.right) if one.fold == 1 else one for one in rows]
        again = held_out(turned, FULL)
        for one, other in zip(found, again, strict=True):
            same = np.array_equal(one.scores[FULL.name], other.scores[FULL.name])
            self.assertEqual(same, one.fold == 1)

    def test_what_ships_is_read_as_a_folder_and_weighs_as_it_was_judged(self):
        dice = np.random.default_rng(8)
        rows = [replace(one, facts=dice.normal(size=(12, len(NAMES)))) for one in judged(3)]
        for weighing in WEIGHINGS:
            body = shipped(weighing, report.report(rows, lambda row: 0.0), 64)
            folder = FittedFolder.from_json(weighing.name, body, "here")
            self.assertTrue(folder.shipped)
            self.assertEqual([*folder.scorers, *folder.facts], weighing.columns)
            self.assertEqual(folder.to_json(), body)
            own = folder.weights["late-interaction"]
            every = np.concatenate([one.scores["late"] for one in rows if one.kind != ABSENT])
            self.assertAlmostEqual(own.centre, float(every.mean()), places=9)

    def test_more_of_what_nothing_answers_is_left_empty_than_by_chance(self):
        asked = report.question_calibration(judged(2, 900), lambda row: 0.0, "joint")
        self.assertGreaterEqual(asked["kept"], 0.965)
        self.assertGreater(asked["left_empty"], 0.1)


if __name__ == "__main__":
    unittest.main()
