"""Fast code against the same thing written slowly: sets of characters, loops, another library."""

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import binomtest

from doppio.core.branches.sparse.building import build_postings
from doppio.core.chunking.fixed_window import fixed_window
from doppio.core.chunking.natural_breaks import natural_breaks, pauses
from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.intervals import wilson
from doppio.core.measure.measuring import measure
from doppio.core.measure.questions import Question, Span, merged
from doppio.core.measure.relevance import relevance, relevance_of_each
from doppio.core.text.analysis import Analysis
from doppio.core.text.canonical import canonical
from doppio.core.text.document import Document
from doppio.core.text.units import characters, words

PROSE = st.lists(st.sampled_from(["rope", "a", "wind.", "Tower", "\n", "\n\n", "stops;", "18", "m/s."]), max_size=70)
SPANS = st.lists(st.tuples(st.integers(0, 1), st.integers(0, 420), st.integers(1, 160)), min_size=1, max_size=4)


def slow_natural(level, size, overlap):
    """The rule of natural breaks, read out of its description."""
    count, start, reached, found = len(level) - 1, 0, 0, []
    while True:
        window = min(start + size, count)
        end = window
        if window < count:
            first = max(start + (size + 1) // 2, reached + 1, start + 1)
            candidates = [at for at in range(first, window + 1) if at == window or level[at] > 0]
            strongest = max(level[at] for at in candidates)
            end = max(at for at in candidates if level[at] == strongest)
            if strongest == 0:
                earlier = [at for at in range(max(start, reached) + 1, window) if level[at] > 0]
                if not earlier and start < reached:
                    start = reached
                    continue
                end = max(earlier, default=window)
        found.append((start, end))
        reached = end
        if end >= count:
            return found
        inside = range(max(end - overlap, start + 1), end)
        sentences = [at for at in inside if level[at] > 1]
        word_starts = [at for at in inside if level[at] == 1]
        # The first sentence that begins in the overlap, else its first word, else no overlap.
        start = min(sentences, default=min(word_starts, default=end))


class Cutting(unittest.TestCase):
    @settings(max_examples=200)
    @given(PROSE, st.sampled_from(["words", "characters"]), st.integers(8, 40), st.integers(0, 39))
    def test_natural_breaks(self, parts, unit, size, overlap):
        text = canonical(" ".join(parts)).strip()
        overlap = min(overlap, size - 1)
        document = Document("d", "d", text)
        units = {"words": words, "characters": characters}[unit](text)
        starts, ends = natural_breaks(document, units, size, overlap)
        expected = slow_natural(pauses(document, units).tolist(), size, overlap) if len(units.starts) else []
        self.assertEqual(
            list(zip(starts.tolist(), ends.tolist(), strict=True)),
            [(int(units.starts[a]), int(units.ends[b - 1])) for a, b in expected],
        )

    @settings(max_examples=100)
    @given(st.integers(0, 80), st.integers(8, 30), st.integers(0, 29))
    def test_fixed_window(self, length, size, overlap):
        overlap = min(overlap, size - 1)
        expected, start = [], 0
        while length:
            expected.append((start, min(start + size, length)))
            if start + size >= length:
                break
            start += size - overlap
        starts, ends = fixed_window(characters("x" * length), size, overlap)
        self.assertEqual(list(zip(starts.tolist(), ends.tolist(), strict=True)), expected)


class Indexing(unittest.TestCase):
    @settings(max_examples=100)
    @given(st.lists(st.lists(st.sampled_from(["rope", "E-417", "wind", "TX/12.5"]), max_size=9), max_size=12))
    def test_postings(self, chunks):
        analysis = Analysis(stem=False)
        texts = [" ".join(chunk) for chunk in chunks]
        postings = build_postings(texts, len(texts), analysis)
        terms = [[term.text for term in analysis.terms(text)] for text in texts]
        self.assertEqual(postings.lengths.tolist(), [len(row) for row in terms])
        for term in {t for row in terms for t in row} | {"unknown"}:
            holders, counts = postings.of(postings.number(term))
            expected = {n: row.count(term) for n, row in enumerate(terms) if term in row}
            self.assertEqual(dict(zip(holders.tolist(), counts.tolist(), strict=True)), expected)
            self.assertEqual(holders.tolist(), sorted(holders.tolist()))


class Labels(unittest.TestCase):
    def setUp(self):
        # Two documents, chunks of 60 characters every 45.
        begins = np.tile(np.arange(0, 450, 45), 2)
        document = np.repeat([0, 1], 10)
        self.table = ChunkTable.flat(document, begins, begins + 60, begins * 0 + 9, begins * 0 - 1)
        self.sets = [
            {(int(d), at) for at in range(s, e)}
            for d, s, e in zip(document, self.table.start, self.table.end, strict=True)
        ]

    def question(self, spans):
        return Question("q", "t", tuple(Span("ab"[d], start, start + n) for d, start, n in spans))

    @settings(max_examples=150)
    @given(SPANS, st.floats(0.05, 1))
    def test_relevance_by_sets_of_characters(self, spans, cover):
        found = relevance_of_each(self.table, {"a": 0, "b": 1}, self.question(spans).spans, cover)
        for (d, start, n), chunks, intact in zip(spans, found.chunks, found.intact, strict=True):
            span = {(d, at) for at in range(start, start + n)}
            expected = [
                number
                for number, chunk in enumerate(self.sets)
                if chunk & span and len(chunk & span) >= cover * min(len(chunk), len(span))
            ]
            self.assertEqual(chunks.tolist(), expected)
            self.assertEqual(intact, any(span <= chunk for chunk in self.sets))

    @settings(max_examples=150)
    @given(SPANS, st.lists(st.integers(0, 19), unique=True, max_size=20), st.integers(1, 12))
    def test_metrics_by_sets_of_characters(self, spans, ranking, k):
        relevant = relevance(self.table, {"a": 0, "b": 1}, self.question(spans))
        got = measure(np.array(ranking, np.int64), relevant, self.table, [k])
        answers = merged(self.question(spans).spans)
        span_sets = [{("ab".index(one.document), at) for at in range(one.start, one.end)} for one in answers]
        first = ranking[:k]
        held = set().union(*(self.sets[number] for number in first)) if first else set()
        total = sum(len(span) for span in span_sets)
        self.assertAlmostEqual(got[f"coverage@{k}"], sum(len(span & held) for span in span_sets) / total)
        answer = set().union(*span_sets)
        paid = sum(len(self.sets[number]) for number in first)
        useful = sum(len(self.sets[number] & answer) for number in first)
        self.assertAlmostEqual(got[f"density@{k}"], useful / paid if paid else 0)
        met = [any(number in chunks for number in first) for chunks in relevant.chunks]
        self.assertAlmostEqual(got[f"recall@{k}"], sum(met) / len(met))
        self.assertEqual(got[f"hit@{k}"], float(any(met)))
        good = [any(number in chunks for chunks in relevant.chunks) for number in ranking]
        self.assertAlmostEqual(got[f"precision@{k}"], sum(good[:k]) / k)
        self.assertAlmostEqual(got["mrr"], 1 / (good.index(True) + 1) if any(good) else 0)


class Intervals(unittest.TestCase):
    @settings(max_examples=80)
    @given(st.integers(1, 400).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))))
    def test_wilson_is_that_of_scipy(self, counts):
        hits, total = counts
        expected = binomtest(hits, total).proportion_ci(0.95, method="wilson")
        low, high = wilson(hits, total)
        self.assertAlmostEqual(low, expected.low, places=5)
        self.assertAlmostEqual(high, expected.high, places=5)


class Text(unittest.TestCase):
    @settings(max_examples=200)
    @given(st.text(max_size=80))
    def test_canonical_text_is_a_fixed_point_without_controls(self, text):
        once = canonical(text)
        self.assertEqual(canonical(once), once)
        self.assertFalse(any(ord(sign) < 32 and sign not in "\n\t" for sign in once))
        self.assertNotIn("\r", once)

    @settings(max_examples=150)
    @given(st.text(max_size=80), st.booleans(), st.booleans(), st.booleans())
    def test_terms_of_any_text_are_ranges_in_order(self, text, stem, stops, codes):
        terms = Analysis(stem=stem, stop_words=stops, keep_codes=codes).terms(text)
        self.assertTrue(all(0 <= term.start < term.end <= len(text) and term.text for term in terms))
        starts = [term.start for term in terms]
        self.assertEqual(starts, sorted(starts))
