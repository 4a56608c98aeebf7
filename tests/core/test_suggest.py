"""Questions read off documents, each with a range that holds its words."""

import unittest
from pathlib import Path

from doppio.core.formats.documents import read_file
from doppio.core.suggest.kind import SUGGESTIONS, suggestions, tidy
from tests.core.corpus import ROOT

PAGE = b"""# Wind rules

Intro.

## 2.1 Who watches

If a gauge fails, the line runs on with the next one for an hour. They stop when it is late.

## 2.2 Is fog dangerous?

A gust is a wind of three seconds. Yellow means that the line is slowed. It is a rule. E-417 stops the line at once.

## Notes

- Ticket: a paper that lets you board
- Come early.

| Line | Red |
|---|---|
| A | 20 m/s |
| B | 18 m/s |
"""


class Suggested(unittest.TestCase):
    def setUp(self):
        self.document = read_file(PAGE, "wind.md")[0]

    def read(self, rule):
        text = self.document.text
        return {one.text: text[one.start : one.end] for one in suggestions(self.document) if one.rule == rule}

    def test_conditions_ask_what_happens(self):
        self.assertEqual(
            self.read("conditions"),
            {"What happens if a gauge fails?": "If a gauge fails, the line runs on with the next one for an hour."},
        )

    def test_headings_ask_by_their_words_and_those_that_say_nothing_are_passed_over(self):
        found = self.read("headings")
        self.assertEqual(list(found), ["Wind rules: who watches?", "Is fog dangerous?"])
        self.assertTrue(found["Is fog dangerous?"].startswith("A gust is"))

    def test_definitions_ask_what_something_is_but_not_what_it_is(self):
        self.assertEqual(
            self.read("definitions"),
            {
                "What is a gust?": "A gust is a wind of three seconds.",
                "What does yellow mean?": "Yellow means that the line is slowed.",
                "What is ticket?": "Ticket: a paper that lets you board",
            },
        )

    def test_rows_and_codes_ask_for_what_stands_beside_them(self):
        self.assertEqual(self.read("rows"), {"What is the red of line A?": "Line: A; Red: 20 m/s"})
        self.assertEqual(self.read("codes"), {"What is said about E-417?": "E-417 stops the line at once."})

    def test_rules_take_turns_and_no_question_stands_twice(self):
        every = suggestions(self.document)
        self.assertEqual([one.rule for one in every[:5]], [rule.name for rule in SUGGESTIONS])
        self.assertEqual(len({one.text for one in every}), len(every))

    def test_in_the_whole_demo_each_question_is_one_and_its_answer_stands_in_the_text(self):
        count = 0
        for path in sorted(Path(ROOT, "demo", "documents").rglob("*.md")):
            for document in read_file(path.read_bytes(), path.name):
                for one in suggestions(document):
                    count += 1
                    self.assertEqual(one.text, tidy(one.text))
                    self.assertTrue(document.text[one.start : one.end].strip(), one)
                    self.assertLessEqual(one.end - one.start, 700)
        self.assertGreater(count, 250)
