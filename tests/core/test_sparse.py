import math
import unittest
from collections import Counter

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.sparse.bm25 import bm25, explain
from doppio.core.sparse.postings import build_postings
from doppio.core.text.analysis import Analysis

PLAIN = Analysis(stem=False, stop_words=False, keep_codes=False)
WORDS = "rope wind cabin tower brake pad grip line".split()
CHUNKS = st.lists(st.lists(st.sampled_from(WORDS), max_size=12), min_size=1, max_size=25)
ASKED = st.lists(st.sampled_from([*WORDS, "unknown"]), max_size=6)


def slow_bm25(chunks, question, k1, b):
    """Robertson and Zaragoza (2009), term by term and chunk by chunk."""
    total = len(chunks)
    mean = max(sum(map(len, chunks)) / total, 1)
    scores = []
    for chunk in chunks:
        counts, score = Counter(chunk), 0.0
        for term in question:
            held = sum(term in other for other in chunks)
            weight = math.log(1 + (total - held + 0.5) / (held + 0.5))
            score += weight * counts[term] * (k1 + 1) / (counts[term] + k1 * (1 - b + b * len(chunk) / mean) or 1)
        scores.append(score)
    return scores


class Bm25(unittest.TestCase):
    @settings(max_examples=120, deadline=None)
    @given(CHUNKS, ASKED, st.floats(0.1, 3), st.floats(0, 1))
    def test_scores_and_order_are_those_of_the_formula(self, chunks, question, k1, b):
        postings = build_postings((" ".join(chunk) for chunk in chunks), len(chunks), PLAIN)
        found, scores = bm25(postings, question, 100, k1=k1, b=b)
        expected = slow_bm25(chunks, question, k1, b)
        self.assertEqual(set(found.tolist()), {n for n, score in enumerate(expected) if score > 0})
        np.testing.assert_allclose(scores, [expected[n] for n in found], rtol=2e-4)
        self.assertTrue((np.diff(scores) <= 1e-6).all())

    @settings(max_examples=60, deadline=None)
    @given(CHUNKS, ASKED)
    def test_shares_of_terms_add_up_to_the_score(self, chunks, question):
        postings = build_postings((" ".join(chunk) for chunk in chunks), len(chunks), PLAIN)
        found, scores = bm25(postings, question, 100, k1=1.2, b=0.75)
        rows = explain(postings, question, found.tolist(), k1=1.2, b=0.75)
        np.testing.assert_allclose([sum(t.share for t in row) for row in rows], scores, rtol=2e-4)

    def test_a_question_without_a_known_term_finds_nothing(self):
        postings = build_postings(["rope and wind"], 1, PLAIN)
        self.assertEqual(len(bm25(postings, ["unknown"], 5, k1=1.2, b=0.75)[0]), 0)

    def test_equal_scores_keep_the_order_of_the_chunks(self):
        postings = build_postings(["rope"] * 9 + ["wind"], 10, PLAIN)
        self.assertEqual(bm25(postings, ["rope"], 4, k1=1.2, b=0.75)[0].tolist(), [0, 1, 2, 3])


class Terms(unittest.TestCase):
    def terms(self, text, **settings):
        return [term.text for term in Analysis(**settings).terms(text)]

    def test_a_code_is_kept_whole_joined_and_in_parts(self):
        self.assertEqual(self.terms("E-417"), ["e-417", "e417", "e", "417"])
        self.assertEqual(self.terms("TX/12.5"), ["tx/12.5", "tx125", "tx", "12", "5"])

    def test_a_code_spelled_without_its_hyphen_meets_the_same_term(self):
        self.assertIn("e417", self.terms("E417"))

    def test_a_mail_address_is_kept_whole_as_well_as_in_parts(self):
        self.assertEqual(
            self.terms("found@brackenhorn.example", stem=False),
            ["found@brackenhorn.example", "found", "brackenhorn", "example"],
        )

    def test_joined_words_without_a_digit_are_no_code(self):
        self.assertEqual(self.terms("heat-proof seal", stem=False), ["heat", "proof", "seal"])

    def test_codes_are_only_in_parts_when_they_are_not_kept(self):
        self.assertEqual(self.terms("E-417", keep_codes=False), ["e", "417"])

    def test_stop_words_are_dropped_and_words_are_stemmed(self):
        self.assertEqual(self.terms("The cabins were swinging"), ["cabin", "swing"])

    def test_compatibility_forms_and_case_fold_together(self):
        self.assertEqual(self.terms("ﬁre FIRE Straße STRASSE", stem=False), ["fire", "fire", "strasse", "strasse"])

    def test_ranges_point_into_the_original_text(self):
        text = "Ask about E-417, please: ﬁre!"
        for term in Analysis(stem=False).terms(text):
            piece = text[term.start : term.end]
            self.assertIn(term.text[0], piece.casefold().replace("ﬁ", "fi"))

    def test_every_ideograph_is_a_term(self):
        self.assertEqual(self.terms("山の線"), ["山", "の", "線"])
