"""Encoders on the command line and in the interface's API."""

import json
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from typer.testing import CliRunner

from doppio.command import models, stand_in
from doppio.command.app import app
from doppio.core.errors import DoppioError
from doppio.core.models.folder import WRONG_SORT, open_folder
from doppio.core.models.scorer_folder import open_scorer_folder
from tests.core import toy_scorers as toy
from tests.core.corpus import MODELS
from tests.core.test_encoders import small_model


class ModelCommand(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.root = Path(place.name)
        self.kept = self.root / "models"
        self.kept.mkdir()
        patched = mock.patch.object(models, "MODELS", self.kept)
        patched.start()
        self.addCleanup(patched.stop)

    def run_command(self, *arguments):
        return CliRunner().invoke(app, ["model", *map(str, arguments)])

    def test_a_folder_is_added_listed_and_removed(self):
        done = self.run_command("add", small_model(self.root / "given", made_for="likeness"))
        self.assertEqual(done.exit_code, 0, done.output)
        self.assertEqual(open_folder(self.kept / "lookup").warning, WRONG_SORT)
        self.assertIn("lookup", [folder.name for folder in models.Models(self.kept).listed()])
        self.assertEqual(self.run_command("list").exit_code, 0)
        self.assertEqual(self.run_command("remove", "lookup").exit_code, 0)
        self.assertEqual(list(self.kept.iterdir()), [])
        gone = self.run_command("remove", "lookup")
        self.assertIsInstance(gone.exception, DoppioError)
        self.assertIn("no such model", str(gone.exception))

    def test_a_folder_that_cannot_encode_is_refused_and_nothing_stays(self):
        broken = small_model(self.root / "given", dimension=99)
        done = self.run_command("add", broken)
        self.assertIn("dimension: 99 stated, the graph gives 4 numbers", str(done.exception))
        (broken / "any.onnx").write_bytes(b"not a graph")
        self.assertIn("cannot be loaded", str(self.run_command("add", broken).exception))
        self.assertEqual(list(self.kept.iterdir()), [])

    def test_a_folder_of_safetensors_needs_its_own_files(self):
        given = self.root / "weights"
        given.mkdir()
        (given / "model.safetensors").write_bytes(b"")
        done = self.run_command("add", given, "--name", "mine")
        self.assertIn("config.json: missing", str(done.exception))
        (given / "config.json").write_text(json.dumps({"model_type": "tree"}))
        self.assertIn("not a BERT-family encoder", str(self.run_command("add", given, "--name", "mine").exception))
        self.assertIn(
            "is not one of questions, likeness", str(self.run_command("add", given, "--made-for", "x").exception)
        )

    def test_a_remote_encoder_that_is_not_there_is_told_and_nothing_stays(self):
        done = self.run_command("add-remote", "far", "http://127.0.0.1:9", "--retries", 0, "--timeout", 1)
        self.assertIn("cannot be reached", str(done.exception))
        done = self.run_command("add-remote", "far", "http://127.0.0.1:9", "--key-file", self.root / "none")
        self.assertIn("none: cannot be read", str(done.exception))
        self.assertEqual(list(self.kept.iterdir()), [])

    def test_a_stand_in_takes_an_encoder_that_runs_here(self):
        shutil.copytree(MODELS / "compact-english-int8", self.kept / "compact-english-int8")
        encoder = models.Models(self.kept).encoder("compact-english-int8")
        server = stand_in.stand_in_server(encoder, 0)
        self.assertEqual(server.server_address[0], "127.0.0.1")
        server.server_close()

    def test_a_cross_encoder_is_added_from_safetensors_or_a_graph(self):
        source = toy.source_folder(self.root / "Mine", toy.random_weights(2, 1))
        done = self.run_command("add", source, "--joint", "--max-tokens", 40, "--title", "of ours")
        self.assertEqual(done.exit_code, 0, done.output)
        folder = open_scorer_folder(self.kept / "mine")
        self.assertEqual((folder.title, folder.layout, folder.max_tokens), ("of ours", "pair", 40))
        self.assertIn("mine", self.run_command("list").output)
        (source / "doppio-model.json").write_text(json.dumps({"kind": "joint-scorer", "activation": "sigmoid"}))
        self.assertEqual(self.run_command("add", source, "--name", "other", "--max-tokens", 40).exit_code, 0)
        self.assertEqual(open_scorer_folder(self.kept / "other").activation, "sigmoid")
        plain = toy.source_folder(self.root / "plain", toy.random_weights())
        told = str(self.run_command("add", plain, "--joint").exception)
        self.assertIn("this is no cross-encoder", told)
        self.assertEqual(sorted(path.name for path in self.kept.iterdir()), ["mine", "other"])
