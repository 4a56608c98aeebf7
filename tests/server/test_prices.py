"""What endpoints are paid: counted from the tokens that go out."""

from unittest import mock

from django.test import TestCase

from doppio.core.measure.trial import run_trial
from doppio.core.progress import Silent
from doppio.library.corpus import corpus_now
from doppio.questions.services import core_questions
from doppio.recipes.builds import build, builder
from doppio.recipes.services import core_recipe
from doppio.trials.figures import read
from doppio.trials.prices import paid
from tests.server.workspace import make_workspace, measured


class Prices(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.space, _ = make_workspace("Paid")
        cls.recipe, cls.trial = measured(cls.space)

    def test_what_costs_nothing_is_told_as_nothing(self):
        self.assertEqual(read(self.trial.figures).costs["price"], 0.0)

    def test_questions_and_shortlists_are_paid_for_by_the_token(self):
        core = core_recipe(self.recipe)
        pipeline = build(self.space, core, Silent())
        rows = run_trial(pipeline, corpus_now(self.space).names, core_questions(self.space)).rows
        counter = builder().counter(core)
        asked = [len(counter.token_offsets([row.trace.question])[0].starts) for row in rows]
        dense = pipeline.branches["dense"]
        with mock.patch.object(dense.encoder, "price", 2.0, create=True):
            self.assertAlmostEqual(paid(pipeline, counter, rows), 2 * sum(asked) / len(rows) / 1000)
        scorer = pipeline.reranker.parts[0].scorer
        with mock.patch.object(scorer, "price", 3.0, create=True):
            tokens = 0
            for row, own in zip(rows, asked, strict=True):
                shortlist = row.trace.stage("reranked").chunks
                tokens += sum(own + int(pipeline.chunks.tokens[chunk]) for chunk in shortlist)
            self.assertAlmostEqual(paid(pipeline, counter, rows), 3 * tokens / len(rows) / 1000)
