"""Metrics against slow formulas, other libraries, and cases worked out by hand."""

import itertools
import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from sklearn.metrics import average_precision_score

from doppio.core.chunking.table import ChunkTable
from doppio.core.measure.measuring import measure
from doppio.core.measure.questions import Question, Span, merged
from doppio.core.measure.relevance import relevance
from tests.core.test_measure import asked, found, table

RANKING = st.permutations(range(10)).flatmap(lambda order: st.integers(1, 10).map(lambda n: order[:n]))
# Answers of 20 characters inside of one of ten chunks, with a grade.
LABELS = st.lists(
    st.tuples(st.integers(0, 9), st.sampled_from([10, 40, 70]), st.integers(1, 3)),
    min_size=1, max_size=5, unique_by=lambda label: label[:2],
)  # fmt: skip
SPANS = st.lists(
    st.tuples(st.sampled_from("ab"), st.one_of(st.none(), st.integers(0, 60)), st.integers(1, 25), st.integers(1, 3)),
    min_size=1, max_size=6,
)  # fmt: skip


def labelled(labels):
    return asked(*((chunk * 100 + at, chunk * 100 + at + 20, grade) for chunk, at, grade in labels))


def rejecting(question, *chunks):
    spans = tuple(Span("d", chunk * 100, chunk * 100 + 100, 0) for chunk in chunks)
    return Question(question.id, question.text, question.spans, rejected=spans)


def values(ranking, question, k=5, chunks=None):
    chunks = chunks or table()
    return measure(np.array(ranking, np.int64), found(question, chunks), chunks, [k])


class Merged(unittest.TestCase):
    @settings(max_examples=200)
    @given(SPANS)
    def test_answers_are_the_connected_stretches_of_labelled_characters(self, given):
        spans = [Span(d, start, None if start is None else start + n, grade) for d, start, n, grade in given]
        answers = merged(spans)
        for name in "ab":
            own = [span for span in spans if span.document == name]
            placed = [span for span in own if span.start is not None]
            got = sorted((a.start, a.end, a.grade) for a in answers if a.document == name and a.start is not None)
            # A step from one character to the next is inside of an answer where one span holds both.
            steps = {at for span in placed for at in range(span.start, span.end - 1)}
            held = sorted({at for span in placed for at in range(span.start, span.end)})
            expected = []
            for at in held:
                if expected and expected[-1][1] == at and at - 1 in steps:
                    expected[-1][1] = at + 1
                else:
                    expected.append([at, at + 1])
            self.assertEqual([list(answer[:2]) for answer in got], expected)
            for start, end, grade in got:
                self.assertEqual(grade, max(s.grade for s in placed if s.start < end and s.end > start))
            whole = [answer for answer in answers if answer.document == name and answer.start is None]
            self.assertEqual(len(whole), bool(own) and not placed)

    def test_a_long_and_a_short_label_of_the_same_place_are_one_answer(self):
        question = asked((110, 190), (120, 140), (510, 530))
        self.assertEqual(values([1], question, 1)["recall@1"], 0.5)


class Hosts(unittest.TestCase):
    def test_chunks_of_one_host_are_one_place_as_they_are_in_the_context(self):
        # Pairs of chunks hand on the 200 characters around them.
        start = np.arange(10, dtype=np.int64) * 100
        host = start // 200 * 200
        zeros = np.zeros(10, np.int64)
        chunks = ChunkTable(zeros, start, start + 100, zeros + 20, zeros - 1, host, host + 200, zeros, zeros + 40)
        got = values([0, 1, 3, 2, 9], asked((910, 930)), 3, chunks)
        self.assertEqual((got["hit@3"], got["recall@3"], got["mrr"]), (1, 1, 1 / 3))
        self.assertEqual(got["precision@3"], 1 / 3)

    def test_a_whole_document_counts_once(self):
        got = values([0, 1, 2, 3, 4], asked((None, None)))
        self.assertEqual((got["precision@5"], got["ndcg@5"], got["alpha-ndcg@5"], got["map"]), (0.2, 1, 1, 1))


class Gains(unittest.TestCase):
    def test_five_answers_in_one_chunk_at_the_second_place_are_not_ideal(self):
        question = labelled([(1, at, 1) for at in (5, 25, 45, 65, 78)][:4])
        self.assertAlmostEqual(values([0, 1], question)["ndcg@5"], 1 / math.log2(3))
        self.assertAlmostEqual(values([1, 0], question)["ndcg@5"], 1)

    def test_an_answer_that_was_cut_apart_is_not_forgiven(self):
        # The answer lies over three chunks, none of which holds enough of it.
        chunks = table(10, 100, 100)
        question = asked((150, 650), (810, 830))
        lost = relevance(chunks, {"d": 0}, question, cover=1)
        self.assertGreater(len(lost.chunks[0]), 0)
        question = asked((190, 210), (810, 830))
        lost = relevance(chunks, {"d": 0}, question, cover=0.9)
        got = measure(np.array([8]), lost, chunks, [5])
        self.assertAlmostEqual(got["ndcg@5"], 1 / (1 + 1 / math.log2(3)))

    @settings(max_examples=150)
    @given(RANKING, LABELS, st.integers(1, 4), st.sampled_from(["ndcg", "alpha-ndcg"]))
    def test_gains_are_those_of_the_formula_over_those_of_the_best_order(self, order, labels, k, name):
        left = 0.5 if name == "alpha-ndcg" else 0.0

        def cumulated(ranking):
            seen, total = {}, 0.0
            for rank, chunk in enumerate(ranking[:k], 1):
                for label in labels:
                    if label[0] == chunk:
                        total += label[2] * left ** seen.get(label, 0) / math.log2(rank + 1)
                        seen[label] = seen.get(label, 0) + 1
            return total

        # Each answer stands in one chunk here, so that the greedy order is the best of all orders.
        holders = sorted({label[0] for label in labels})
        ideal = max(cumulated(list(one)) for one in itertools.permutations(holders))
        self.assertAlmostEqual(values(order, labelled(labels), k)[f"{name}@{k}"], cumulated(order) / ideal)

    def test_a_repeated_answer_earns_half_in_alpha_ndcg_and_nothing_in_ndcg(self):
        chunks = table(19, 100, 50)
        question = asked((120, 140), (810, 830))
        # Chunks 1 and 2 both hold the first answer, 15 and 16 the second.
        got = measure(np.array([1, 2, 15]), found(question, chunks), chunks, [3])
        two, three = 1 / math.log2(3), 1 / math.log2(4)
        self.assertAlmostEqual(got["ndcg@3"], (1 + three) / (1 + two))
        self.assertAlmostEqual(got["alpha-ndcg@3"], (1 + 0.5 * two + three) / (1 + two + 0.5 * three))


class Precision(unittest.TestCase):
    @settings(max_examples=150)
    @given(st.permutations(range(10)), st.sets(st.integers(0, 9), min_size=1, max_size=6))
    def test_average_precision_is_that_of_scikit_learn_where_every_answer_has_its_own_chunk(self, order, right):
        got = values(order, labelled([(chunk, 10, 1) for chunk in sorted(right)]))["map"]
        scores = np.zeros(10)
        scores[list(order)] = np.arange(10, 0, -1)
        self.assertAlmostEqual(got, average_precision_score([n in right for n in range(10)], scores))

    def test_what_is_never_met_counts_as_nothing(self):
        self.assertAlmostEqual(values([3, 1], labelled([(1, 10, 1), (7, 10, 1)]))["map"], 0.25)


class Reading(unittest.TestCase):
    def test_an_answer_is_worth_less_the_more_is_read_before_its_end(self):
        question = asked((130, 160), (510, 590))
        got = values([5, 0, 1], question)["u"]
        self.assertAlmostEqual(got, ((1 - 90 / 6000) + (1 - 260 / 6000)) / 2)

    def test_beyond_the_budget_it_is_worth_nothing(self):
        long = table(10, 4000, 4000)
        got = values([0, 1], asked((4010, 4030), (7900, 7990)), 5, long)["u"]
        self.assertAlmostEqual(got, (1 - 4030 / 6000) / 2)


class Holes(unittest.TestCase):
    def test_without_a_hit_judged_as_no_answer_nothing_is_said(self):
        got = values([0, 1], asked((110, 130)))
        self.assertFalse({"judged@5", "bpref", "judged-map", "inferred-map"} & set(got))

    def test_the_judged_share_counts_answers_and_what_is_none(self):
        got = values([0, 1, 2, 3], rejecting(asked((110, 130)), 0, 7), 4)
        self.assertEqual(got["judged@4"], 0.5)

    def test_a_chunk_that_meets_an_answer_is_never_rejected(self):
        question = rejecting(asked((110, 190)), 1, 2)
        self.assertEqual(found(question).rejected.tolist(), [2])

    @settings(max_examples=150)
    @given(RANKING, st.sets(st.integers(0, 9), min_size=1, max_size=5), st.sets(st.integers(0, 9), min_size=1))
    def test_by_slow_formulas(self, order, right, wrong):
        wrong -= right
        if not wrong:
            return
        got = values(order, rejecting(labelled([(chunk, 10, 1) for chunk in sorted(right)]), *sorted(wrong)))
        preference = only = expected = 0.0
        known = [chunk for chunk in order if chunk in right | wrong]
        for rank, chunk in enumerate(order, 1):
            if chunk not in right:
                continue
            above = order[: rank - 1]
            bad = [other for other in above if other in wrong][: len(right)]
            preference += max(1 - len(bad) / min(len(right), len(wrong)), 0)
            upto = known[: known.index(chunk) + 1]
            only += sum(other in right for other in upto) / len(upto)
            good = sum(other in right for other in above)
            missed = sum(other in wrong for other in above)
            expected += 1 / rank + (rank - 1) / rank * (good + 1e-5) / (good + missed + 2e-5)
        for name, value in (("bpref", preference), ("judged-map", only), ("inferred-map", expected)):
            self.assertAlmostEqual(got[name], value / len(right), msg=name)

    @settings(max_examples=100)
    @given(st.permutations(range(10)), st.sets(st.integers(0, 9), min_size=1, max_size=8))
    def test_where_all_is_judged_they_are_the_plain_average_precision(self, order, right):
        wrong = set(range(10)) - right
        got = values(order, rejecting(labelled([(chunk, 10, 1) for chunk in sorted(right)]), *sorted(wrong)))
        self.assertAlmostEqual(got["judged-map"], got["map"])
        self.assertAlmostEqual(got["inferred-map"], got["map"], delta=1e-4)
