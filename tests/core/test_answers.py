"""Answers: sentences of the context word for word, what they are worth beside labels, and silence."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.measure.answers import answer_figures, answers_told
from doppio.core.measure.questions import Question, Span
from doppio.core.measure.relevance import document_positions, relevance
from doppio.core.measure.trial import run_trial
from doppio.core.models.registry import Models
from doppio.core.select.answer.kind import HandedOn
from doppio.core.select.answer.sentences import KIND, sentences_in
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from doppio.core.trace import AnswerTrace, SaidTrace, Trace
from tests.core.corpus import MODELS, documents, encoder, recipe

TOLD = {"kind": "sentences"}
ALPHABET = st.text(st.sampled_from("aB. ?\n-9é"), max_size=60)


def answerer(**told):
    settings = {setting.name: setting.default for setting in KIND.settings} | told
    return KIND.open(settings, Models(MODELS), encoder())


def piece(number, text, rank=None, start=0):
    return HandedOn(number, number + 4, start, text, "Wind rules", number - 1 if rank is None else rank)


class SentencesIn(unittest.TestCase):
    @given(ALPHABET)
    def test_all_but_white_space_stands_in_one_sentence(self, text):
        found = sentences_in(text)
        self.assertEqual(sorted(found), found)
        self.assertEqual("".join("".join(text[a:b].split()) for a, b in found), "".join(text.split()))
        for start, end in found:
            self.assertEqual(text[start:end], text[start:end].strip())
            self.assertNotIn("\n", text[start:end])


class Extracted(unittest.TestCase):
    PIECES = (
        piece(1, "The gondola stops when the wind reaches 18 metres a second. Nobody boards after orange.", start=7),
        piece(2, "A dog rides for 6 crowns a day.\nMuzzles can be borrowed at the ticket office."),
    )

    def slow(self, question, text):
        asked, _ = encoder().question_tokens(question)
        tokens = next(iter(encoder().encode([text], tokens=True))).tokens[0]
        return sum(max(float(word @ token) for token in tokens) for word in asked) / len(asked)

    def test_fits_are_those_of_plain_loops(self):
        texts = ["A dog rides for 6 crowns a day.", "Muzzles can be borrowed.", "Nobody boards after orange."]
        for question in ("What does a dog pay?", "wind"):
            found = answerer().fits(question, texts)
            np.testing.assert_allclose(found, [self.slow(question, text) for text in texts], atol=0.01)
            # What was looked at before is compared as it was then.
            own = answerer()
            own.fits(question, texts[:2])
            np.testing.assert_allclose(own.fits(question, texts), found, atol=0.01)

    def test_what_is_said_stands_there_word_for_word(self):
        answer = answerer(sentences=2, share=0.0, rank=0.0).answer("What does a dog pay for a day?", self.PIECES)
        self.assertEqual(answer.sentences[0].text, "A dog rides for 6 crowns a day.")
        self.assertEqual(len(answer.sentences), 2)
        for said in answer.sentences:
            own = self.PIECES[said.cites[0] - 1]
            self.assertEqual(said.document, own.document)
            self.assertEqual(own.text[said.start - own.start : said.end - own.start], said.text)

    def test_limits_hold(self):
        question = "When does the gondola stop?"
        every = answerer(sentences=20, share=0.0).answer(question, self.PIECES).sentences
        self.assertEqual(len(every), 4)
        best = max(said.score for said in every)
        for share in (0.3, 0.7, 0.95, 1.0):
            found = answerer(sentences=20, share=share).answer(question, self.PIECES).sentences
            self.assertEqual({s.text for s in found}, {s.text for s in every if s.score >= share * best})
        self.assertEqual(len(answerer(sentences=1, share=0.0).answer(question, self.PIECES).sentences), 1)

    def test_a_place_costs_what_it_is_told_to(self):
        texts = ("Dogs ride free.", "Dogs ride free of charge.")
        question = "Do dogs ride free of charge?"
        for ranks, first in (((0, 1), 1), ((1, 0), 2)):
            pieces = [
                piece(number, text, rank) for number, (text, rank) in enumerate(zip(texts, ranks, strict=True), 1)
            ]
            answer = answerer(sentences=1, rank=1.0).answer(question, pieces)
            self.assertEqual(answer.sentences[0].cites, (first,))

    def test_it_is_silent_and_says_why(self):
        self.assertEqual(answerer().answer("?", []).silent, "nothing was handed on")
        silent = answerer(least=0.99).answer("Who painted the ceiling?", self.PIECES)
        self.assertEqual(silent.sentences, ())
        self.assertIn("below 0.99", silent.silent)

    def test_a_heading_says_nothing_where_something_else_does(self):
        own = piece(1, "5 If a dog is afraid\n\nBoard early and sit on the floor beside it.\n\nColour: red")
        said = answerer(sentences=9, share=0.0).answer("Is the dog afraid?", [own]).sentences
        self.assertEqual(
            sorted(one.text for one in said), ["Board early and sit on the floor beside it.", "Colour: red"]
        )
        alone = answerer().answer("Is the dog afraid?", [piece(1, "5 If a dog is afraid")])
        self.assertEqual(alone.sentences[0].text, "5 If a dog is afraid")

    def test_a_sentence_is_said_once(self):
        twice = [piece(1, "Dogs ride free."), piece(2, "Dogs ride free.")]
        self.assertEqual(len(answerer(share=0.0).answer("Do dogs pay?", twice).sentences), 1)


class Worth(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.corpus = documents()
        builder = Builder(ArtifactStore(Path(folder.name)), Models(MODELS))
        given_ = recipe(rerank=None, select={"k": 3, "budget_tokens": 90, "answer": TOLD})
        key = corpus_fingerprint(cls.corpus)
        texts = CorpusTexts(cls.corpus, builder.chunks(cls.corpus, key, given_))
        builder.indexes(key, given_, texts)
        cls.pipeline = builder.open(key, given_, texts)
        cls.names = [one.id for one in cls.corpus]

    def span(self, name, quote):
        text = self.corpus[self.names.index(name)].text
        return Span(name, text.index(quote), text.index(quote) + len(quote))

    def figures(self, answer, *spans):
        question = Question("q", "What does a dog pay?", spans)
        trace = self.pipeline.ask(question.text)
        changed = Trace(**{**vars(trace), "answer": answer})
        relevant = relevance(self.pipeline.chunks, document_positions(self.names), question)
        return answer_figures(changed, relevant, self.pipeline.chunks, self.pipeline.texts)

    def test_figures_by_hand(self):
        label = self.span("dogs.html", "A dog rides for 6 crowns a day")
        document = self.names.index("dogs.html")

        def said(text, start=-1, end=-1, cites=(1,)):
            return AnswerTrace((SaidTrace(text, cites, document if start >= 0 else -1, start, end),))

        same = self.figures(said("a dog rides for 6 crowns a day!", label.start, label.end), label)
        self.assertEqual((same.f1, same.exact, same.holds, same.cited), (1, 1, 1, 1))
        # Four of its five words are among the label's eight.
        part = self.figures(said("a dog rides for nothing", label.end + 9, label.end + 20), label)
        self.assertAlmostEqual(part.f1, 2 * 4 / (5 + 8))
        self.assertEqual((part.exact, part.holds, part.cited), (0, 0.5, 0))
        wind = self.span("wind.md", "Nobody boards after orange")
        best = self.figures(said("Nobody boards after orange"), label, wind)
        self.assertEqual((best.f1, best.exact), (1, 1))
        nothing = self.figures(AnswerTrace((), "why"), label)
        self.assertEqual((nothing.silent, nothing.f1, nothing.holds, nothing.cited), (True, 0, 0, None))
        self.assertIsNone(self.figures(None, label))

    def test_an_answer_that_stands_nowhere_is_right_by_the_pieces_that_it_cites(self):
        trace = self.pipeline.ask("What does a dog pay?")
        pieces = self.pipeline.handed_on(trace.stage("context"))
        number = next(one.number for one in pieces if "6 crowns" in one.text)
        label = self.span("dogs.html", "6 crowns a day")
        for cites, wanted in (((number,), 1), ((99,), 0), ((), 0)):
            figures = self.figures(AnswerTrace((SaidTrace("Six crowns.", cites),)), label)
            self.assertEqual(figures.cited, wanted)

    def test_a_trial_tells_them_with_silence_counted(self):
        questions = [
            Question("q1", "What does a dog pay for a day?", (self.span("dogs.html", "A dog rides for 6 crowns"),)),
            Question("q2", "When does the gondola stop?", (self.span("wind.md", "The gondola stops when the mean"),)),
            Question("q3", "Who built it?", ()),
        ]
        trial = run_trial(self.pipeline, self.names, questions)
        told = trial.answers
        self.assertEqual((told["answerable"], told["unanswerable"]), (2, 1))
        self.assertEqual((told["silent_right"], told["silent_wrong"]), (0, 0))
        own = [row.answer for row in trial.rows[:2]]
        for name in ("f1", "exact", "holds", "cited"):
            self.assertAlmostEqual(told[name], np.mean([getattr(one, name) for one in own]))
        self.assertGreater(told["holds"], 0.5)
        self.assertIsNone(trial.rows[2].answer)
        self.assertEqual(answers_told((True, Trace("", "", (), 0), None) for _ in range(2)), {})

    def test_a_trace_keeps_it_and_older_ones_have_none(self):
        trace = self.pipeline.ask("What does a dog pay for a day?")
        self.assertTrue(trace.answer.sentences)
        self.assertIn("answer", trace.seconds)
        body = trace.to_json()
        self.assertEqual(Trace.from_json(body).answer, trace.answer)
        del body["answer"]
        self.assertIsNone(Trace.from_json(body).answer)
