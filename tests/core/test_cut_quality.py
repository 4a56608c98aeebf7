"""What is said of a cut: lengths, unread tokens, cut sentences, near twins; and where labels go when texts change."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.chunking.quality import CUT, INTACT, OUTSIDE, SPREAD, figures, look, span_state
from doppio.core.chunking.table import cut, cut_one
from doppio.core.chunking.twins import near_identical
from doppio.core.measure.placing import closest, place_again
from doppio.core.text.document import PARAGRAPH, Document, DocumentBuilder
from doppio.core.text.units import words
from tests.core.corpus import WordsAsTokens

WORDS = st.lists(st.sampled_from("rope wind line cabin tower brake ice snow".split()), min_size=0, max_size=30)


def triples(text):
    found = text.casefold().split()
    return {tuple(found[at : at + 3]) for at in range(len(found) - 2)} or ({tuple(found)} if found else set())


class NearTwins(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.lists(WORDS.map(" ".join), max_size=12))
    def test_what_is_found_has_the_overlap_that_is_said(self, texts):
        for twins in near_identical(texts, least=0.5):
            one, other = triples(texts[twins.one]), triples(texts[twins.other])
            self.assertAlmostEqual(twins.alike, len(one & other) / len(one | other))

    @settings(max_examples=60)
    @given(st.lists(WORDS.map(" ".join), max_size=12))
    def test_every_pair_alike_enough_is_found(self, texts):
        found = {(twins.one, twins.other) for twins in near_identical(texts, least=0.95)}
        for one in range(len(texts)):
            for other in range(one + 1, len(texts)):
                mine, theirs = triples(texts[one]), triples(texts[other])
                if mine and len(mine & theirs) >= 0.95 * len(mine | theirs):
                    self.assertIn((one, other), found)

    def test_case_and_punctuation_do_not_count(self):
        found = near_identical(["The line stops at red.", "the LINE stops, at red", "Dogs ride for six crowns"])
        self.assertEqual([(twins.one, twins.other, twins.alike) for twins in found], [(0, 1, 1.0)])


class Looks(unittest.TestCase):
    def test_tokens_past_the_limit_are_counted_and_placed(self):
        text = " ".join(f"w{n}" for n in range(30))
        document = Document("d", "d", text)
        part = cut_one(document, {"rule": "fixed-window", "unit": "words", "size": 20}, words(text))
        found = look(document, part["start"], part["end"], np.array([3, 0]), words(text), 12)
        self.assertEqual(found.unread.tolist(), [11, 0])
        self.assertEqual(found.past.tolist(), [text.index("w9"), -1])

    def test_chunks_cut_inside_of_sentences_are_known(self):
        document = Document("d", "d", "One two three. Four five six. Seven.")
        part = cut_one(document, {"rule": "fixed-window", "unit": "words", "size": 3}, words(document.text))
        found = look(document, part["start"], part["end"], part["context"], words(document.text), 9)
        self.assertEqual((found.begins_inside | found.ends_inside).tolist(), [False, False, False])
        part = cut_one(document, {"rule": "fixed-window", "unit": "words", "size": 4}, words(document.text))
        found = look(document, part["start"], part["end"], part["context"], words(document.text), 9)
        self.assertEqual(found.begins_inside.tolist(), [False, True])
        self.assertEqual(found.ends_inside.tolist(), [True, False])

    @settings(max_examples=80)
    @given(st.integers(0, 90), st.integers(1, 60), st.integers(3, 40), st.integers(0, 20))
    def test_the_state_of_a_span_is_what_sets_of_characters_say(self, start, length, size, overlap):
        starts = np.arange(0, 100, max(size - overlap, 1))
        ends = starts + size
        held = [len(set(range(start, start + length)) & set(range(a, b))) for a, b in zip(starts, ends, strict=True)]
        state = span_state(starts, ends, start, start + length)
        self.assertEqual(state.pieces, sum(count > 0 for count in held))
        self.assertAlmostEqual(state.best, max(held) / length)
        wanted = (
            INTACT if max(held) == length else CUT if 2 * max(held) >= length else SPREAD if any(held) else OUTSIDE
        )
        self.assertEqual(state.state, wanted)

    def test_figures_add_up(self):
        builder = DocumentBuilder()
        for _ in range(9):
            builder.add(PARAGRAPH, "The rope is greased in spring and in autumn after it was brushed clean. " * 3)
        documents = [builder.build("a"), builder.build("b")]
        table = cut(documents, {"rule": "fixed-window", "unit": "words", "size": 30, "overlap": 10}, WordsAsTokens())
        looks = []
        for position, document in enumerate(documents):
            rows = table.of_document(position)
            counted = words(document.text)
            looks.append(look(document, table.start[rows], table.end[rows], table.context[rows], counted, 25))
        found = figures(table, looks, [span_state(table.start, table.end, 0, 5)], 12)
        sizes = [
            len(documents[d].text[a:b].split())
            for d, a, b in zip(table.document, table.start, table.end, strict=True)
        ]
        self.assertEqual((found.chunks, found.median, found.longest), (len(sizes), np.median(sizes), max(sizes)))
        self.assertEqual(found.unread, sum(max(size - 25, 0) for size in sizes))
        self.assertEqual(found.too_short, sum(size < 12 for size in sizes))
        self.assertEqual(found.spans[INTACT], 1)
        stored = sum(b - a for a, b in zip(table.start, table.end, strict=True))
        once = sum(len(document.text) for document in documents)
        self.assertAlmostEqual(found.overlap, (stored - once) / stored, delta=0.02)


class Placing(unittest.TestCase):
    def test_a_quote_moves_whatever_stands_before_it(self):
        before = "Wind. The line stops at 18 metres a second. Call the office."
        start = before.index("The line")
        now = "Rules of 2026.\n\nWind. The line\nstops at 18 metres a second. Call."
        found = place_again(before, start, start + 43 - 6, now)
        self.assertEqual(now[found[0] : found[1]].replace("\n", " "), before[start : start + 37])

    def test_of_two_places_the_surroundings_tell(self):
        before = "Line B: below 118 bar it stays shut. Ask."
        start = before.index("below")
        now = "Line D: below 118 bar it stays shut. Wait.\nLine B: below 118 bar it stays shut. Ask."
        found = place_again(before, start, start + 28, now)
        self.assertEqual(found[0], now.index("below", 20))

    def test_equal_surroundings_are_left_to_a_person(self):
        self.assertIsNone(place_again("a b c", 2, 3, "x b y x b y"))
        self.assertIsNone(place_again("a quote here", 2, 7, "nothing of it"))

    def test_the_closest_stretch_is_found(self):
        now = "Dogs ride for six crowns. The gondola stops at 16 metres a second, gusts at 20. Cats ride free."
        found = closest(now, "The gondola stops at 18 metres a second")
        self.assertEqual(now[found.start : found.end], "The gondola stops at 16 metres a second,")
        self.assertAlmostEqual(found.alike, 7 / 8)
        self.assertIsNone(closest(now, "entirely other words that nobody wrote"))

    @settings(max_examples=80)
    @given(WORDS, WORDS, WORDS)
    def test_a_quote_that_is_still_there_once_is_always_found(self, left, quote, right):
        if not quote:
            return
        marked = ["unique", *quote, "end"]
        now = " ".join([*left, *marked, *right])
        found = place_again(" ".join(marked), 0, len(" ".join(marked)), now)
        self.assertEqual(now[found[0] : found[1]], " ".join(marked))
        self.assertEqual(closest(now, " ".join(marked)).alike, 1.0)
