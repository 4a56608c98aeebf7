"""What the shipped scorer learns from: sections, questions made from text, what a step draws, how it is judged."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.special import expit
from training.details import DETAIL, details
from training.groups import HARD, QUESTIONS_A_STEP, TURNS, Groups
from training.judge import calibrate, table
from training.manuals import MANUALS, Manual, read
from training.mining import MOST_PASSAGES, MOST_QUESTIONS, Mined, Question, _chosen
from training.sections import HOW_TO, LONGEST, OTHER, QUESTION, Section, asked, kind_of, sections

from doppio.core.formats.documents import read_file

PARTS = ("rope", "cabin", "tower", "brake", "pulley", "motor", "grip", "gate", "cable", "sheave", "anchor", "beacon")


def manual(name="ropeway", fold=0):
    """A made-up manual: one passage a part, each with a table's row and a sentence that tells what holds if."""
    passages = [
        f"part: {part}; limit: {number + 3} turns; colour: {part}-red\n\n"
        f"The {part} is inspected by two fitters before the first ride of the day. "
        f"If the {part} of line {number} shows rust, the shift leader closes the station at once. "
        f"Grease for the {part} comes in tins of {number} litres and is kept in the shed behind the valley station."
        for number, part in enumerate(PARTS)
    ]
    questions = [
        Question(f"Check the {part}", HOW_TO, row, np.roll(np.arange(len(PARTS)), -row), np.zeros(len(PARTS)),
                 np.array([row]))
        for row, part in enumerate(PARTS)
    ]  # fmt: skip
    return Mined(name, fold, passages, np.arange(len(PARTS)), questions)


class Sections(unittest.TestCase):
    def test_headings_ask_tell_or_do_neither(self):
        kinds = {
            "How often is the rope greased?": QUESTION, "What a tower carries": QUESTION, "Replace the brake": HOW_TO,
            "Checking the anchor bolts": HOW_TO, "To open a cabin": HOW_TO, "The valley station": OTHER,
            "Brakes": OTHER, "Replace": OTHER,
        }  # fmt: skip
        self.assertEqual({heading: kind_of(heading) for heading in kinds}, kinds)
        self.assertEqual(asked("Replace the brake pads"), "How do I replace the brake pads?")
        self.assertEqual(asked("To open a cabin"), "How do I open a cabin?")
        self.assertEqual(asked("The valley station"), "The valley station")

    def test_text_stands_under_its_own_heading_and_twins_ask_nothing(self):
        long = "The rope is looked at every morning before the first ride. " * 4
        html = (
            f"<h1>3.1 Why is the rope greased?</h1><p>{long}</p><h2>Replace the pads</h2><p>pads {long}</p>"
            f"<h2>Replace the pads</h2><p>other {long}</p><h2>Too little</h2><p>No.</p><h2>Copied</h2><p>{long}</p>"
            f"<h2>Store the old rope</h2><p>{long * 30}</p>"
        )
        found = sections(read_file(html.encode(), "rope.html"))
        self.assertEqual(
            [(section.heading, section.kind) for section in found],
            [("Why is the rope greased?", QUESTION), ("Replace the pads", OTHER), ("Replace the pads", OTHER),
             ("Store the old rope", HOW_TO)],
        )  # fmt: skip
        for section in found:
            self.assertNotIn(section.heading, section.text)
            self.assertLessEqual(len(section.text), LONGEST)

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

    def test_what_asks_comes_first_and_no_more_than_fits_is_taken(self):
        text = "word " * 300
        many = [Section(f"Heading {row}", (OTHER, HOW_TO, QUESTION)[row % 3], text + str(row)) for row in range(3000)]
        chosen = _chosen(many)
        kinds = [section.kind for section in chosen]
        self.assertEqual(kinds, sorted(kinds, key=(QUESTION, HOW_TO, OTHER).index))
        self.assertEqual(sum(kind != OTHER for kind in kinds), MOST_QUESTIONS)
        self.assertLessEqual(sum(1 + len(s.text) // 512 for s in chosen), MOST_PASSAGES)
        self.assertEqual(chosen, _chosen(list(reversed(many))))


class Details(unittest.TestCase):
    def test_every_question_is_answered_where_it_says(self):
        mined = manual()
        found = details(mined)
        self.assertGreater(len(found), len(PARTS))
        for question in found:
            self.assertEqual(question.kind, DETAIL)
            self.assertTrue(1 <= len(question.right) <= 3)
            words = [word for word in question.text.lower().strip("?").split() if len(word) > 4]
            said = mined.passages[question.right[0]].lower()
            self.assertGreaterEqual(sum(word in said for word in words), len(words) / 2, question.text)
        self.assertEqual([q.text for q in found], [q.text for q in details(mined)])

    def test_conditions_become_questions(self):
        texts = [question.text for question in details(manual())]
        self.assertTrue(
            any(text.startswith("What happens if the") and text.endswith("rust?") for text in texts), texts
        )
        self.assertTrue(any("limit" in text for text in texts), texts)


class Drawing(unittest.TestCase):
    def test_the_right_passage_is_first_and_the_others_do_not_answer(self):
        groups = Groups([manual("one"), manual("two")])
        for step in range(12):
            drawn = groups.step(step)
            self.assertEqual(len(drawn), QUESTIONS_A_STEP)
            self.assertEqual(drawn, groups.step(step))
            for group in drawn:
                right, *wrong = group.passages
                self.assertEqual(len(wrong), HARD)
                named = [part for part in PARTS if part in group.question.split()[-1].strip("?")]
                if named and group.question.lower().startswith(("check", "how do i check")):
                    self.assertIn(f"part: {named[0]};", right)
                    for passage in wrong:
                        repeated = group.question in passage
                        self.assertTrue(repeated or f"The {named[0]} is inspected" not in passage)

    def test_every_heading_comes_once_before_one_comes_again(self):
        mined = manual()
        steps = -(-len(PARTS) * len(TURNS) // (TURNS.count(0) * QUESTIONS_A_STEP))
        drawn = [group for step in range(steps) for group in Groups([mined]).step(step)]
        headings = [g.question for place, g in enumerate(drawn) if TURNS[place % len(TURNS)] == 0]
        first = [text.rsplit(" ", 1)[-1].strip("?") for text in headings[: len(PARTS)]]
        self.assertEqual(sorted(first), sorted(PARTS))


class Judging(unittest.TestCase):
    @settings(max_examples=8)
    @given(st.floats(0.2, 3), st.floats(-3, 1), st.integers(0, 1000))
    def test_calibration_finds_the_line_that_the_scores_were_drawn_from(self, slope, offset, seed):
        dice = np.random.default_rng(seed)
        rows = []
        for number in range(600):
            raw, best = dice.normal(size=(2, 20))
            right = dice.random(20) < expit(slope * (raw + 2 * best) + offset)
            row = {
                "raw": raw.tolist(),
                "best": best.tolist(),
                "mix": dice.random(20).tolist(),
                "right": right.tolist(),
            }
            rows.append({"manual": MANUALS[number % len(MANUALS)].package, **row})
        found = calibrate(rows, (2.0, 0.0))
        self.assertAlmostEqual(found["slope"], slope, delta=0.25 + 0.1 * slope)
        self.assertAlmostEqual(found["offset"], offset, delta=0.25)
        self.assertLess(found["error"], 0.03)
        # The best line makes what is said and what was equal on the whole, a law of this loss.
        scores = [np.array(r["raw"]) + 2 * np.array(r["best"]) for r in rows]
        said = np.mean(expit(found["slope"] * np.array(scores) + found["offset"]))
        self.assertAlmostEqual(float(said), float(np.mean([r["right"] for r in rows])), places=3)

    def test_the_table_has_a_line_a_manual(self):
        figures = {"questions": 4, "recall@1": 0.25, "recall@5": 0.5, "mrr": 0.375}
        report = {"manuals": {"one": {"mix": figures, "reranked": figures}}, "mix": figures, "reranked": figures}
        lines = table(report).splitlines()
        self.assertEqual(len(lines), 4)
        self.assertEqual(lines[2], "| one | 4 | 0.250 | 0.250 | 0.500 | 0.500 | 0.375 | 0.375 |")


if __name__ == "__main__":
    unittest.main()
