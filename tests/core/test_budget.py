"""A budget in the tokens of a named tokenizer: here one whose tokens are words, which can be counted by hand."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tokenizers import Tokenizer
from tokenizers.models import WordLevel
from tokenizers.pre_tokenizers import WhitespaceSplit
from typer.testing import CliRunner

from doppio.command import models as command
from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ModelFolderError
from doppio.core.models.registry import Models
from doppio.core.models.tokenizer import register_tokenizer
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe

QUESTIONS = ("When does the gondola stop?", "Does a dog need a muzzle?", "What is E-417?")


class Budget(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        (self.root / "compact-english").symlink_to(MODELS / "compact-english")
        words = Tokenizer(WordLevel({"?": 0}, unk_token="?"))
        words.pre_tokenizer = WhitespaceSplit()
        self.file = self.root / "tokenizer.json"
        words.save(str(self.file))
        self.models = Models(self.root)
        self.corpus = documents()

    def pipeline(self, **select):
        given = recipe(rerank=None, select={"k": 8, "tokenizer": "words", **select})
        builder = Builder(ArtifactStore(self.root / "store"), self.models)
        key = corpus_fingerprint(self.corpus)
        texts = CorpusTexts(self.corpus, builder.chunks(self.corpus, key, given))
        builder.indexes(key, given, texts)
        return builder.open(key, given, texts)

    def test_it_is_spent_in_words(self):
        register_tokenizer(self.file, self.root, "words")
        for widening in ("none", "neighbours", "whole-document"):
            for budget in (1, 9, 25, 60, 10_000):
                pipeline = self.pipeline(budget_tokens=budget, widening={"kind": widening})
                for question in QUESTIONS:
                    trace = pipeline.ask(question)
                    pieces = pipeline.handed_on(trace.stage("context"))
                    self.assertEqual(
                        trace.tokens, sum(len(piece.text.split()) for piece in pieces), (widening, budget)
                    )
                    self.assertLessEqual(trace.tokens, budget)
        # Of the same text the encoder has more tokens than there are words.
        own, other = (
            self.pipeline(budget_tokens=10_000, tokenizer=name).ask(QUESTIONS[1]) for name in ("words", None)
        )
        self.assertEqual(own.stage("context").passed.tolist(), other.stage("context").passed.tolist())
        self.assertGreater(other.tokens, own.tokens)

    def test_it_is_registered_by_the_command_and_named_where_it_lacks(self):
        with mock.patch.object(command, "MODELS", self.root):
            done = CliRunner().invoke(command.app, ["add-tokenizer", str(self.file), "--name", "words"])
            self.assertEqual(done.exit_code, 0, done.output)
            self.assertIn("words", CliRunner().invoke(command.app, ["list"]).output)
        self.assertEqual(self.models.tokenizers(), ["words"])
        self.assertEqual([folder.name for folder in self.models.listed()], ["compact-english"])
        with self.assertRaisesRegex(ModelFolderError, "none: no such tokenizer; there are compact-english, words"):
            self.models.tokenizer("none")
        with self.assertRaisesRegex(ModelFolderError, "words: is no encoder"):
            self.models.encoder("words")
        for wrong in (self.root / "away", MODELS / "compact-english" / "doppio-model.json"):
            with self.assertRaises(ModelFolderError):
                register_tokenizer(wrong, self.root, "broken")
        self.assertFalse((self.root / "broken").exists())
