"""Windows over a text: everything is read, nothing is longer than it may be, no word is cut."""

import unittest
from functools import cache

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.models.registry import Models
from doppio.core.text.units import Units, words
from doppio.core.text.windows import LONGEST_LINE, character_ranges, line_before, window_bounds
from tests.core.corpus import MODELS

texts = st.lists(st.text("abcdé-. ", min_size=1, max_size=12), max_size=60).map(" ".join)


WORDS = ("unhappily", "rope", "xylographers", "is", "42", "R&D")


@cache
def encoder_of_the_shipped():
    return Models(MODELS).local()


class Bounds(unittest.TestCase):
    @given(texts, st.integers(1, 20))
    def test_windows_cover_all_and_are_short_enough(self, text, size):
        units = words(text)
        bounds = window_bounds(text, units, size)
        self.assertTrue((bounds[:, 1] - bounds[:, 0] <= size).all())
        read = np.zeros(len(units.starts), bool)
        for first, after in bounds.tolist():
            read[first:after] = True
        self.assertTrue(read.all())
        self.assertEqual(len(bounds) == 1, len(units.starts) <= size)
        if len(bounds) > 1:
            # The last is as long as the others, and each begins after the one before.
            self.assertEqual(bounds[-1].tolist(), [len(units.starts) - size, len(units.starts)])
            self.assertTrue((np.diff(bounds[:, 0]) > 0).all())

    @given(texts, st.integers(1, 12))
    def test_ranges_begin_and_end_with_the_text(self, text, size):
        units = words(text)
        ranges = character_ranges(text, units, window_bounds(text, units, size))
        self.assertEqual((ranges[0][0], ranges[-1][1]), (0, len(text)))

    @given(st.lists(st.sampled_from(WORDS), min_size=1, max_size=80), st.integers(8, 40))
    def test_no_word_of_an_encoder_is_cut_and_a_window_read_alone_has_no_more_tokens(self, parts, size):
        text = " ".join(parts)
        encoder = encoder_of_the_shipped()
        (units,) = encoder.token_offsets([text])
        for start, end in character_ranges(text, units, window_bounds(text, units, size)):
            self.assertIn(text[start - 1 : start], ("", " ", "&", "D", "R"))
            (alone,) = encoder.token_offsets([text[start:end]])
            self.assertLessEqual(len(alone.starts), size)

    def test_a_word_that_is_longer_than_a_window_is_cut(self):
        units = Units(np.arange(10), np.arange(1, 11))
        bounds = window_bounds("abcdefghij", units, 4)
        self.assertEqual(bounds[0].tolist(), [0, 4])
        self.assertEqual(bounds[-1, 1], 10)
        self.assertTrue((bounds[:, 1] - bounds[:, 0] <= 10).all())


class Lines(unittest.TestCase):
    def test_headings_in_the_middle_go_first(self):
        self.assertEqual(line_before("Winter", ("Winter", "Ice", "Rope")), "Winter: Ice: Rope")
        self.assertEqual(line_before("", ("",)), "")
        long = line_before("Winter service", ("a" * 80, "b" * 60, "Rope"))
        self.assertEqual(long, f"Winter service: {'b' * 60}: Rope")
        self.assertEqual(
            line_before("t" * 100, ("Rope and grip of the second line",)), "Rope and grip of the second line"
        )
        self.assertEqual(len(line_before("t" * 300, ())), LONGEST_LINE)
