import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from sklearn.metrics import ndcg_score

from doppio.core.chunking.table import ChunkTable
from doppio.core.formats.trec import qrels_lines, run_lines
from doppio.core.measure import ledger as rows
from doppio.core.measure.intervals import wilson
from doppio.core.measure.ledger import cause, in_play, ledger
from doppio.core.measure.measuring import mean, measure
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import relevance
from doppio.core.trace import BEYOND, OVER_BUDGET, UNDER_FLOOR, StageTrace, Trace


def table(count=10, size=100, step=100):
    """One document cut into chunks of `size` characters every `step`."""
    start = np.arange(count, dtype=np.int64) * step
    zeros = np.zeros(count, np.int64)
    return ChunkTable.flat(zeros, start, start + size, zeros + 20, zeros - 1)


def asked(*spans):
    return Question("q", "text", tuple(Span("d", *span) for span in spans))


def found(question, chunks=None, cover=0.5):
    return relevance(chunks or table(), {"d": 0}, question, cover)


class Relevant(unittest.TestCase):
    def test_a_short_answer_is_met_by_the_chunk_around_it(self):
        self.assertEqual(found(asked((310, 330))).chunks[0].tolist(), [3])

    def test_a_long_answer_is_met_by_every_chunk_inside_it(self):
        self.assertEqual(found(asked((150, 620))).chunks[0].tolist(), [1, 2, 3, 4, 5])

    def test_the_smaller_part_of_a_cut_answer_is_not_enough(self):
        relevant = found(asked((290, 350)))
        self.assertEqual(relevant.chunks[0].tolist(), [3])
        self.assertFalse(relevant.intact[0])

    def test_cover_says_how_much_must_overlap(self):
        self.assertEqual(found(asked((290, 350)), cover=0.9).chunks[0].tolist(), [])
        self.assertEqual(found(asked((290, 350)), cover=0.1).chunks[0].tolist(), [2, 3])

    def test_a_label_without_offsets_makes_all_chunks_of_its_document_relevant(self):
        self.assertEqual(len(found(asked((None, None))).chunks[0]), 10)

    def test_a_document_that_is_not_there_has_no_relevant_chunk(self):
        self.assertEqual(len(relevance(table(), {}, asked((0, 5))).chunks[0]), 0)

    @settings(max_examples=80)
    @given(st.integers(0, 900), st.integers(1, 99))
    def test_labels_survive_another_chunking(self, start, length):
        question = asked((start, start + length))
        for chunks in (table(), table(40, 25, 25), table(19, 100, 50)):
            self.assertGreaterEqual(len(found(question, chunks).chunks[0]), 1)


class Measured(unittest.TestCase):
    def test_recall_counts_spans_and_overlap_cannot_earn_twice(self):
        chunks = table(19, 100, 50)
        relevant = found(asked((110, 120), (800, 820)), chunks)
        values = measure(np.array([1, 2, 0]), relevant, chunks, [1, 3])
        self.assertEqual((values["recall@1"], values["recall@3"]), (0.5, 0.5))
        self.assertAlmostEqual(values["precision@3"], 2 / 3)

    def test_a_span_that_is_never_met_is_not_met_at_a_k_beyond_the_list(self):
        values = measure(np.array([0, 1]), found(asked((510, 520))), table(), [1, 5, 20])
        self.assertEqual([values[f"recall@{k}"] for k in (1, 5, 20)], [0, 0, 0])
        self.assertEqual((values["mrr"], values["ndcg@20"]), (0, 0))

    def test_an_empty_ranking_scores_nothing(self):
        values = measure(np.empty(0, np.int64), found(asked((510, 520))), table(), [5])
        self.assertEqual(set(values.values()), {0.0})

    @settings(max_examples=150)
    @given(
        st.permutations(range(10)),
        st.lists(st.tuples(st.integers(0, 9), st.integers(1, 4)), min_size=1, max_size=6, unique_by=lambda x: x[0]),
        st.integers(1, 12),
    )
    def test_ndcg_is_that_of_scikit_learn_where_every_span_has_its_own_chunk(self, order, labels, k):
        question = asked(*((chunk * 100 + 10, chunk * 100 + 30, grade) for chunk, grade in labels))
        got = measure(np.array(order), found(question), table(), [k])[f"ndcg@{k}"]
        gains = np.zeros(10)
        for chunk, grade in labels:
            gains[chunk] = grade
        scores = np.zeros(10)
        scores[list(order)] = np.arange(10, 0, -1)
        self.assertAlmostEqual(got, ndcg_score([gains], [scores], k=k), places=9)

    @settings(max_examples=100)
    @given(
        st.lists(st.integers(0, 18), unique=True, max_size=19),
        st.lists(st.tuples(st.integers(0, 800), st.integers(1, 300)), min_size=1, max_size=4),
    )
    def test_every_metric_lies_between_0_and_1_and_recall_never_falls_with_k(self, ranking, spans):
        chunks = table(19, 100, 50)
        question = asked(*((start, start + length) for start, length in spans))
        values = measure(np.array(ranking, np.int64), found(question, chunks), chunks, [1, 3, 5, 10, 20])
        self.assertTrue(all(0 <= value <= 1 + 1e-12 for value in values.values()), values)
        for name in ("recall", "hit", "coverage"):
            steps = [values[f"{name}@{k}"] for k in (1, 3, 5, 10, 20)]
            self.assertEqual(steps, sorted(steps))

    def test_coverage_and_density_by_hand(self):
        values = measure(np.array([1, 2]), found(asked((150, 220))), table(), [1, 2])
        self.assertAlmostEqual(values["coverage@1"], 50 / 70)
        self.assertAlmostEqual(values["density@1"], 50 / 100)
        self.assertAlmostEqual(values["coverage@2"], 1.0)
        self.assertAlmostEqual(values["density@2"], 70 / 200)

    def test_coverage_is_left_out_of_the_mean_where_no_span_has_offsets(self):
        plain = measure(np.array([1]), found(asked((150, 180))), table(), [1])
        whole = measure(np.array([1]), found(asked((None, None))), table(), [1])
        self.assertNotIn("coverage@1", whole)
        self.assertEqual(mean([plain, whole])["coverage@1"], plain["coverage@1"])


def stage(name, kind, chunks, kept=None, reasons=None):
    chunks = np.array(chunks, np.int64)
    kept = np.ones(len(chunks), bool) if kept is None else np.array(kept, bool)
    reasons = tuple(reasons or ("" if on else BEYOND for on in kept))
    return StageTrace(name, kind, "m", chunks, np.linspace(1, 0, len(chunks), dtype=np.float32), kept, reasons, 0.1)


def trace(sparse, dense, fused, reranked, context):
    return Trace("q", "r", (
        stage("sparse", "branch", sparse), stage("dense", "branch", dense), stage("fused", "fused", *fused),
        stage("reranked", "reranked", *reranked), stage("context", "context", *context)), 10)  # fmt: skip


ALL = ([3, 4], None, None)


class Ledger(unittest.TestCase):
    question = asked((310, 330))

    def cause_of(self, sparse=(3, 4), dense=(4,), fused=ALL, reranked=ALL, context=ALL, question=None, cover=0.5):
        question = question or self.question
        relevant = found(question, cover=cover)
        return cause(trace(sparse, dense, fused, reranked, context), relevant, question.answerable)

    def test_an_answer_in_the_context_is_delivered(self):
        self.assertEqual(self.cause_of(), rows.DELIVERED)

    def test_answer_cut_by_chunk_edge_is_counted_as_lost_in_chunks(self):
        self.assertEqual(self.cause_of(question=asked((290, 310)), cover=0.9), rows.CUT)

    def test_each_stage_that_loses_it(self):
        gone = ([4, 5], None, None)
        self.assertEqual(self.cause_of((5,), (4,), gone, gone, gone), rows.MISSED)
        cut_off = ([4, 3], [True, False], None)
        self.assertEqual(self.cause_of(fused=cut_off, reranked=gone, context=gone), rows.LOST_IN_FUSION)
        self.assertEqual(self.cause_of(reranked=cut_off, context=gone), rows.DROPPED)
        under = ([4, 3], [True, False], ["", UNDER_FLOOR])
        self.assertEqual(self.cause_of(reranked=under, context=gone), rows.FLOOR)
        over = ([4, 3], [True, False], ["", OVER_BUDGET])
        self.assertEqual(self.cause_of(context=over), rows.BUDGET)

    def test_unanswerable_questions_have_their_own_two_rows(self):
        nothing = asked()
        self.assertEqual(self.cause_of(question=nothing), rows.WRONGLY_FILLED)
        self.assertEqual(self.cause_of(context=([], None, None), question=nothing), rows.RIGHTLY_EMPTY)

    @settings(max_examples=200)
    @given(st.lists(st.tuples(
        st.lists(st.integers(0, 9), unique=True, max_size=6), st.lists(st.integers(0, 9), unique=True, max_size=6),
        st.integers(0, 8), st.integers(0, 5), st.integers(0, 3), st.integers(0, 3),
        st.sampled_from([(), ((310, 330),), ((290, 410), (800, 830)), ((None, None),)]),
        st.sampled_from([0.2, 0.5, 1.0])), max_size=12))  # fmt: skip
    def test_the_ledger_conserves(self, cases):
        """Every question ends in exactly one row, the rows add up, and a loss is the first stage without it."""
        causes = []
        for sparse, dense, passed, near, above, packed, spans, cover in cases:
            fused = list(dict.fromkeys(sparse + dense))
            short = fused[:passed][::-1]
            reasons = ["" if n < min(near, above) else UNDER_FLOOR if n < near else BEYOND for n in range(len(short))]
            final = [chunk for chunk, reason in zip(short, reasons, strict=True) if not reason]
            kept = [n < packed for n in range(len(final))]
            one = trace(sparse, dense, (fused, [n < passed for n in range(len(fused))], None),
                        (short, [not r for r in reasons], reasons),
                        (final, kept, ["" if on else OVER_BUDGET for on in kept]))  # fmt: skip
            question = asked(*spans)
            relevant = found(question, cover=cover)
            causes.append(cause(one, relevant, question.answerable))
            if question.answerable:
                still = in_play(one, relevant)
                self.assertEqual(causes[-1] == rows.DELIVERED, still["context"])
                if causes[-1] in (rows.DROPPED, rows.FLOOR):
                    self.assertTrue(still["fused"] and not still["reranked"])
        self.assertEqual(sum(ledger(causes).values()), len(cases))


class Records(unittest.TestCase):
    def test_a_trace_comes_back_from_json_as_it_was(self):
        shares = np.array([[0.1, 0.25]], np.float32)
        ranks, scores = np.array([[1, 0]], np.int32), np.array([0.35], np.float32)
        fused = replace(stage("fused", "fused", [7]), scores=scores, branch_ranks=ranks, shares=shares)
        original = Trace("q", "r", (stage("sparse", "branch", [1, 2]), fused), 9, {"sparse": 0.25})
        again = Trace.from_json(original.to_json())
        self.assertEqual(again.to_json(), original.to_json())
        np.testing.assert_array_equal(again.stage("fused").shares, shares)

    def test_a_trace_in_which_nothing_was_found_comes_back_too(self):
        empty = replace(
            stage("fused", "fused", []), branch_ranks=np.empty((0, 2), np.int32), shares=np.empty((0, 2), np.float32)
        )
        original = Trace("q", "r", (stage("sparse", "branch", []), empty), 9, {})
        again = Trace.from_json(original.to_json())
        self.assertEqual(again.to_json(), original.to_json())
        self.assertEqual(len(again.stage("fused").chunks), 0)

    def test_trec_lines_have_their_fields_in_order(self):
        from doppio.core.measure.trial import Row, Trial

        question = asked((310, 330, 2.0))
        one = trace((3,), (3,), ALL, ALL, ALL)
        trial = Trial((Row(question, one, found(question), "delivered", {}, {}, {}),), {}, {}, {}, 1, 1, {})
        expected = ["q Q0 my_d.md:300-400 1 1.000000 two_branch", "q Q0 my_d.md:400-500 2 0.000000 two_branch"]
        self.assertEqual(list(run_lines(trial, table(), ["my d.md"], "two branch")), expected)
        self.assertEqual(list(qrels_lines(trial, table(), ["my d.md"])), ["q 0 my_d.md:300-400 2"])

    def test_the_wilson_interval_of_a_textbook_case(self):
        low, high = wilson(8, 10)
        self.assertAlmostEqual(low, 0.4902, places=3)
        self.assertAlmostEqual(high, 0.9433, places=3)
        self.assertEqual(wilson(0, 0), (0.0, 1.0))
