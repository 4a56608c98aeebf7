"""Ranges out of bytes are those of Python's own texts, and so are their lines."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.store.columns import Columns
from doppio.core.text.written import EVERY, TextsOfList, WrittenTexts, as_bytes, gathered

SOME = st.text(st.sampled_from("ab \n\u00e9\u20ac\U0001f6a1"), max_size=30)
# Some reach over many marks.
TEXTS = st.lists(st.builds(lambda text, times: text * times, SOME, st.sampled_from((1, 1, 100, 400))), max_size=4)
PLACES = st.floats(0, 1.1)


def written(texts):
    chunks = np.arange(len(texts) + 1) * 3
    return gathered(map(as_bytes, texts), chunks, Columns(None))


class Ranges(unittest.TestCase):
    @settings(max_examples=150)
    @given(TEXTS, PLACES, PLACES)
    def test_a_range_and_its_lines_are_those_of_the_text(self, texts, one, other):
        held = written(texts)
        for row, text in enumerate(texts):
            self.assertEqual(held.holds(row), bool(text))
            edges = {
                0,
                len(text),
                *(place for place in (EVERY - 1, EVERY, EVERY + 1, 2 * EVERY) if place <= len(text)),
            }
            start, end = sorted(int(share * len(text)) for share in (one, other))
            for low, high in [(start, end), *((edge, end) for edge in edges), *((start, edge) for edge in edges)]:
                cut, line = held.cut(row, low, high), text[:low].count("\n") + 1
                self.assertEqual(WrittenTexts.of(text).cut(0, low, high), cut)
                self.assertEqual(cut.text, text[low:high], (row, low, high))
                if low <= high:
                    self.assertEqual(cut.lines, (line, line + text[low:high].count("\n")), (row, low, high))

    @given(TEXTS, st.data())
    def test_some_of_the_texts_are_as_if_they_had_been_alone(self, texts, data):
        rows = data.draw(st.permutations(range(len(texts)))) if texts else []
        rows = rows[: data.draw(st.integers(0, len(rows)))]
        held = written(texts)
        again = gathered(map(held.part, rows), np.arange(len(rows) + 1) * 3, Columns(None))
        alone = written([texts[row] for row in rows])
        for name, array in alone.arrays().items():
            np.testing.assert_array_equal(again.arrays()[name], array, name)


class Lists(unittest.TestCase):
    def test_a_chunk_leads_to_its_document_in_whichever_segment_it_is(self):
        one, other = written(["first", "second", "gone"]), written(["between"])
        # Chunks 0 to 2 are of the first, 3 and 4 of the one between, 5 and 6 of a segment without texts.
        found = TextsOfList([(one, np.array([0, 7, -1])), (other, np.array([3])), (None, np.array([5]))])
        self.assertEqual([found.of(chunk) for chunk in (0, 2)], [(one, 0)] * 2)
        self.assertEqual([found.of(chunk) for chunk in (3, 4)], [(other, 0)] * 2)
        self.assertEqual([found.of(chunk) for chunk in (5, 6)], [None] * 2)
        self.assertEqual([found.of(chunk) for chunk in (7, 100)], [(one, 1)] * 2)
