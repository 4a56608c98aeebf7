"""The gate, and runs of other systems."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import DoppioError
from doppio.core.formats.runs import measured_run, read_run
from doppio.core.formats.trec import run_lines
from doppio.core.measure.gate import Figure, Limit, Told, checks, compared, figure, limit
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import DocumentBuilder, corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe


def questions():
    """Two with an answer and one without."""
    found = []
    for number, (name, words) in enumerate((("alarms.csv", "E-417; Meaning"), ("dogs.html", "Muzzles can be"))):
        start = next(d for d in documents() if d.id == name).text.index(words)
        found.append(Question(f"q {number}", words, (Span(name, start, start + 40),)))
    return [*found, Question("q 2", "Who built it?")]


def told(name, values, metric="mrr"):
    return Told(name, ["context"], {"context": {f"q{n}": {metric: value} for n, value in enumerate(values)}})


class Gates(unittest.TestCase):
    def test_limits_and_figures_are_read(self):
        self.assertEqual(limit("recall@5=0.80"), Limit(Figure("recall@5"), 0.8))
        self.assertEqual(limit("fused:recall@20=1"), Limit(Figure("recall@20", "fused"), 1.0))
        self.assertEqual(figure("fused:mrr"), Figure("mrr", "fused"))
        for wrong in ("recall@5", "recall@5=x", "=1", "recall@5=1.2", "recall@5=nan", "a b=0.5"):
            with self.assertRaises(DoppioError, msg=wrong):
                limit(wrong)

    def test_a_loss_closes_it_where_it_is_large_and_no_chance(self):
        dice = np.random.default_rng(1)
        base = dice.random(200) / 2 + 0.4
        worse = told("worse", base - 0.05 + dice.normal(0, 0.05, 200))
        noise = told("noise", base + dice.normal(0, 0.3, 200) - 0.02)
        baseline = told("base", base)
        found = compared([worse, noise], baseline, [Figure("mrr")])
        self.assertLess(found[0].p, 0.01)
        self.assertGreaterEqual(found[0].p, found[0].difference.p)
        held = {one.name: one.holds for one in checks([worse, noise], [], found, 0.01)}
        self.assertEqual(held, {"worse": False, "noise": True})
        self.assertEqual([one.holds for one in checks([worse], [], found[:1], 0.2)], [True])
        self.assertEqual([one.holds for one in checks([worse], [limit("mrr=0.1"), limit("mrr=0.99")], [], None)],
                         [True, False])  # fmt: skip

    def test_only_questions_that_both_know_are_compared(self):
        (found,) = compared([told("new", [1, 0, 1])], told("base", [1, 1]), [Figure("mrr")])
        self.assertEqual((found.difference.questions, found.difference.losses), (2, 1))
        self.assertAlmostEqual(found.mean, 2 / 3)


class Runs(unittest.TestCase):
    def run_of(self, text, corpus=None, asked=None):
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "a.run"
            path.write_text(text)
            return read_run(path, corpus or documents(), asked or questions())

    def test_a_run_that_was_written_gives_the_figures_of_its_trial(self):
        corpus, asked = documents(), questions()
        names = [document.id for document in corpus]
        with tempfile.TemporaryDirectory() as place:
            builder = Builder(ArtifactStore(Path(place)), Models(MODELS))
            key, given = corpus_fingerprint(corpus), recipe()
            table = builder.chunks(corpus, key, given)
            texts = CorpusTexts(corpus, table)
            builder.indexes(key, given, texts)
            trial = run_trial(builder.open(key, given, texts), names, asked)
        lines = "\n".join(run_lines(trial, table, names, "own"))
        found = measured_run(self.run_of(lines, corpus, asked), corpus, asked, cutoffs=(1, 5))
        for row in trial.rows:
            if row.question.answerable:
                own = row.metrics["context"]
                for metric in ("recall@1", "recall@5", "mrr", "hit@5"):
                    self.assertAlmostEqual(found[row.question.id][metric], own[metric], places=9, msg=metric)

    @given(st.permutations(range(4)))
    @settings(max_examples=12, deadline=None)
    def test_the_order_is_that_of_the_scores(self, order):
        builder = [DocumentBuilder().build(f"d {n}") for n in range(4)]
        text = "\n".join(f"q_1 Q0 d_{n} 1 {-n} x" for n in order)
        self.assertEqual(
            [item[0] for item in self.run_of(text, builder, [Question("q 1", "?")])["q 1"]], [0, 1, 2, 3]
        )

    def test_whole_documents_and_ranges_are_relevant_as_chunks_are(self):
        corpus = documents()
        first = corpus[0]
        asked = [Question("a", "?", (Span(first.id, 10, 30),)), Question("b", "?", (Span(first.id, None, None),))]
        name = first.id
        ranks = self.run_of(f"a Q0 {name}:100-130 1 3 x\na Q0 {name}:0-40 2 2 x\nb Q0 {name} 1 1 x", corpus, asked)
        found = measured_run(ranks, corpus, asked, cutoffs=(1, 2))
        self.assertEqual((found["a"]["hit@1"], found["a"]["hit@2"], found["a"]["mrr"]), (0.0, 1.0, 0.5))
        self.assertEqual(found["b"]["mrr"], 1.0)

    def test_what_is_wrong_names_the_line(self):
        name, asked = documents()[0].id, "q_0"
        for line, message in (
            (f"{asked} Q0 {name} 1 2", "line 2: 5 fields"),
            (f"nobody Q0 {name} 1 2 x", "no labelled question has the id 'nobody'"),
            (f"{asked} Q0 {name} first 2 x", "are not numbers"),
            (f"{asked} Q0 {name} 1 nan x", "not a finite number"),
            (f"{asked} Q0 {name}:5-5 1 2 x", "has no such range"),
            (f"{asked} Q0 {name}:0-99999999 1 2 x", "characters, so it has no such range"),
            (f"{asked} Q0 elsewhere 1 2 x", "'elsewhere' is no document here"),
        ):
            with self.assertRaisesRegex(DoppioError, message):
                self.run_of(f"{asked} Q0 {name} 1 2 x\n{line}\n")


if __name__ == "__main__":
    unittest.main()
