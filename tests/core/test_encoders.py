"""Encoders from folders, from the corpus and behind an endpoint."""

import json
import tempfile
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from unittest import mock

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from onnx import TensorProto, helper, numpy_helper, save
from sklearn.decomposition import TruncatedSVD
from tokenizers import Tokenizer
from tokenizers.models import WordLevel
from tokenizers.pre_tokenizers import Whitespace

from doppio.command.stand_in import stand_in_server
from doppio.core.branches.dense.encoding import MOST_ROWS, TOKENS_A_BATCH, batches
from doppio.core.errors import ModelFolderError, RemoteError
from doppio.core.models import folder as folder_module
from doppio.core.models.encoder import Encoder
from doppio.core.models.folder import WRONG_SORT, open_folder, register_folder
from doppio.core.models.registry import TRAINED, Models
from doppio.core.models.remote import RemoteEncoder, register_remote
from doppio.core.models.remote_endpoint import LONGEST_PAUSE
from doppio.core.models.trained import TrainedEncoder, counted, train
from tests.core.corpus import MODELS, encoder

WORDS = ["[UNK]", "rope", "wind", "cabin", "query:", "text:"]
TABLE = np.random.default_rng(0).normal(size=(len(WORDS), 4)).astype(np.float32)


def small_model(folder, **fields):
    """An ONNX graph that looks words up, as another tool would have made it: (batch, length, 4) token vectors."""
    folder.mkdir(parents=True, exist_ok=True)
    given = [
        helper.make_tensor_value_info(name, TensorProto.INT64, ["b", "l"]) for name in ("input_ids", "attention_mask")
    ]
    output = helper.make_tensor_value_info("last_hidden_state", TensorProto.FLOAT, ["b", "l", 4])
    nodes = [helper.make_node("Gather", ["table", "input_ids"], ["last_hidden_state"])]
    graph = helper.make_graph(nodes, "lookup", given, [output], [numpy_helper.from_array(TABLE, "table")])
    save(
        helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8), str(folder / "any.onnx")
    )
    tokenizer = Tokenizer(WordLevel({word: place for place, word in enumerate(WORDS)}, unk_token="[UNK]"))
    tokenizer.pre_tokenizer = Whitespace()
    tokenizer.save(str(folder / "tokenizer.json"))
    manifest = {
        "format": "doppio-model/1", "kind": "encoder", "name": "lookup", "title": "lookup", "graph": "any.onnx",
        "pooling": "mean", "dimension": 4, "max_tokens": 8, "unit": False, **fields,
    }  # fmt: skip
    (folder / "doppio-model.json").write_text(json.dumps({k: v for k, v in manifest.items() if v is not None}))
    return folder


class Folders(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.root = Path(place.name)

    def registered(self, **fields):
        register_folder(small_model(self.root / "given", **fields), self.root / "models")
        return Models(self.root / "models").encoder("lookup")

    def test_files_are_read_through_once_and_again_when_one_of_them_is_another(self):
        self.registered()
        folder = self.root / "models" / "lookup"
        read = mock.Mock(wraps=folder_module._digest)
        with mock.patch.object(folder_module, "_digest", read):
            Encoder(folder)
            self.assertEqual(read.call_count, 0)
            (folder / "seen.json").write_text("[]")
            Encoder(folder)
            self.assertEqual(read.call_count, 2)
            graph = folder / "encoder.onnx"
            whole = graph.read_bytes()
            graph.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
            for _ in range(2):
                with self.assertRaisesRegex(ModelFolderError, "encoder.onnx: damaged; it is not what was written"):
                    Encoder(folder)
            graph.write_bytes(whole)
            Encoder(folder)
        # What was seen is no part of a model that is taken over elsewhere.
        register_folder(folder, self.root / "elsewhere")
        files = json.loads((self.root / "elsewhere" / "lookup" / "doppio-model.json").read_text())["files"]
        self.assertEqual(set(files), {"encoder.onnx", "tokenizer.json"})

    def test_who_wants_what_somebody_opens_waits_for_that_one(self):
        register_folder(small_model(self.root / "given"), self.root / "models")
        models, opened, together = Models(self.root / "models"), [], threading.Barrier(4)

        def open_slowly(path):
            opened.append(path)
            time.sleep(0.05)
            return Encoder(path)

        def want(_):
            together.wait(10)
            return models.encoder("lookup")

        with mock.patch.object(models, "_open_encoder", open_slowly), ThreadPoolExecutor(4) as askers:
            found = list(askers.map(want, range(4)))
        self.assertEqual((len(opened), len(set(map(id, found)))), (1, 1))

    def test_pooling_prefixes_and_dimension_come_from_the_manifest(self):
        rope, wind = TABLE[1], TABLE[2]
        expected = {"mean": (rope + wind) / 2, "first": rope, "max": np.maximum(rope, wind)}
        for pooling, vector in expected.items():
            found = self.registered(pooling=pooling).questions(["rope wind", "rope"])
            np.testing.assert_allclose(found, [vector, rope], rtol=1e-5)
        short = self.registered(dimension=3, unit=True).questions(["rope"])
        np.testing.assert_allclose(short, [rope[:3] / np.linalg.norm(rope[:3])], rtol=1e-5)
        prefixed = self.registered(question="wind ", passage="cabin ", pooling="first")
        np.testing.assert_allclose(prefixed.questions(["rope"]), [wind], rtol=1e-5)
        np.testing.assert_allclose(prefixed.vectors(["rope"]), [TABLE[3]], rtol=1e-5)

    def test_a_model_made_for_texts_of_like_length_is_warned_of(self):
        self.assertEqual(self.registered(made_for="likeness").warning, WRONG_SORT)
        self.assertEqual(self.registered().warning, "")

    def test_a_folder_that_does_not_fit_is_refused_with_its_field_and_nothing_stays(self):
        wrong = {
            "dimension": ("four", "dimension: 'four' is not a whole number above 0"),
            "pooling": ("median", "pooling: 'median' is not one of graph, mean, first, max"),
            "max_tokens": (None, "max_tokens: missing"),
            "name": ("../x", "name: '../x' is not up to 64 small letters"),
            "made_for": ("cats", "made_for: 'cats' is not one of questions, likeness"),
        }
        for field, (value, message) in wrong.items():
            with self.assertRaisesRegex(ModelFolderError, message):
                self.registered(**{field: value})
        with self.assertRaisesRegex(ModelFolderError, "no output gives one vector a text"):
            self.registered(pooling="graph").questions(["rope"])
        with self.assertRaisesRegex(ModelFolderError, "other.onnx: missing"):
            self.registered(graph="other.onnx")
        self.assertEqual([path.name for path in (self.root / "models").iterdir() if path.name.startswith(".")], [])

    def test_what_changes_vectors_changes_the_digest_and_a_new_title_does_not(self):
        digest = self.registered().digest
        self.assertEqual(self.registered(title="another").digest, digest)
        for change in ({"pooling": "max"}, {"question": "query: "}, {"dimension": 2}, {"unit": True}):
            self.assertNotEqual(self.registered(**change).digest, digest, change)

    def test_one_byte_a_number_keeps_the_vectors_close(self):
        whole, small = encoder(), Encoder(MODELS / "compact-english-int8")
        texts = ["How many people live in the town?", "The population of the town is 4,200.", "The cabin waits."]
        cosines = (whole.vectors(texts) * small.vectors(texts)).sum(axis=1)
        self.assertGreater(cosines.min(), 0.97)
        self.assertLess((MODELS / "compact-english-int8" / "encoder.onnx").stat().st_size, 26e6)
        self.assertNotEqual(open_folder(MODELS / "compact-english-int8").digest, whole.digest)

    @settings(max_examples=60)
    @given(st.lists(st.integers(0, 300), max_size=300))
    def test_batches_hold_every_row_once_in_the_order_of_length_and_stay_small(self, lengths):
        found = batches(np.array(lengths, np.int64))
        rows = [row for batch in found for row in batch.tolist()]
        self.assertEqual(sorted(rows), list(range(len(lengths))))
        self.assertEqual([lengths[row] for row in rows], sorted(lengths))
        for batch in found:
            self.assertLessEqual(len(batch), MOST_ROWS)
            self.assertTrue(len(batch) <= 8 or len(batch) * (max(lengths[r] for r in batch) + 2) <= TOKENS_A_BATCH)


class Trained(unittest.TestCase):
    TEXTS = [f"rope wind {a} {b}" for a in ("cabin", "tower", "brake") for b in ("ice", "snow", "grip", "line")] * 2

    def test_its_products_are_those_of_another_librarys_decomposition(self):
        words = ["rope", "wind", "cabin", "tower", "brake", "ice", "snow", "grip", "line"]
        random = np.random.default_rng(1)
        texts = [" ".join(random.choice(words, random.integers(2, 8))) for _ in range(40)]
        made = TrainedEncoder(train([counted(texts)], 5), "d")
        counts = np.array([[text.split().count(word) for word in words] for text in texts])
        weights = np.where(counts > 0, 1 + np.log(np.maximum(counts, 1)), 0)
        weights = weights * np.log1p(len(texts) / (counts > 0).sum(axis=0))
        reduced = TruncatedSVD(5, algorithm="arpack", random_state=0).fit_transform(weights)
        reduced /= np.linalg.norm(reduced, axis=1, keepdims=True)
        vectors = made.questions(texts)
        np.testing.assert_allclose(vectors @ vectors.T, reduced @ reduced.T, atol=1e-4)

    def test_the_same_corpus_gives_the_same_vectors_and_unknown_words_none(self):
        one, other = (TrainedEncoder(train([counted(self.TEXTS)]), "d") for _ in range(2))
        np.testing.assert_array_equal(one.questions(["rope ice"]), other.questions(["rope ice"]))
        self.assertEqual(np.abs(one.questions(["unheard of", ""])).max(), 0)

    def test_it_is_the_same_however_its_texts_are_parted(self):
        words = ["rope", "wind", "cabin", "tower", "brake", "ice", "snow", "grip", "line"]
        random = np.random.default_rng(2)
        texts = [" ".join(random.choice(words, random.integers(0, 8))) for _ in range(40)]
        whole = train([counted(texts)])
        for size in (1, 7, 39):
            parted = train(counted(texts[at : at + size]) for at in range(0, len(texts), size))
            for name, array in whole.items():
                np.testing.assert_array_equal(parted[name], array, name)

    def test_a_corpus_of_next_to_nothing_can_be_trained_on(self):
        for texts in ([], ["rope"], ["rope", "rope"], ["rope wind", "wind rope"]):
            made = TrainedEncoder(train([counted(texts)]), "d")
            self.assertEqual(made.questions(["rope"]).shape, (1, made.dimension))

    def test_it_is_no_folder_and_the_shipped_encoder_counts_its_tokens(self):
        self.assertEqual(Models(MODELS).local(TRAINED).name, "compact-english")
        with self.assertRaisesRegex(ModelFolderError, "no such model folder; there are compact-english"):
            Models(MODELS).encoder("unheard-of")


class Endpoint(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.root = Path(place.name)

    def serve(self, server):
        thread = threading.Thread(target=server.serve_forever, daemon=True)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_address[1]}"

    def answering(self, *answers):
        """An endpoint that gives these statuses and bodies, one after another."""
        left, seen = list(answers), []

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self):
                seen.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
                status, body = left.pop(0)
                data = json.dumps(body).encode() if not isinstance(body, bytes) else body
                self.send_response(status)
                self.send_header("Content-Length", str(len(data)))
                if status == 429:
                    self.send_header("Retry-After", "3600")
                self.end_headers()
                self.wfile.write(data)

            def do_GET(self):
                data = json.dumps({"name": "x", "dimension": 2, "max_tokens": 9, "unit": False}).encode()
                self.send_response(200)
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def log_message(self, *_):
                pass

        url = self.serve(ThreadingHTTPServer(("127.0.0.1", 0), Handler))
        quick = {"retries": 2, "back_off": 0.01, "batch": 2, "timeout": 5}
        return RemoteEncoder(register_remote(self.root, "far", url, settings=quick)), seen

    def test_the_stand_in_answers_as_the_encoder_behind_it_does(self):
        url = self.serve(stand_in_server(encoder(), 0, "secret"))
        far = RemoteEncoder(register_remote(self.root, "far", url, "secret", settings={"batch": 2}))
        texts = ["rope", "a longer text about wind", "cabin"]
        np.testing.assert_allclose(far.questions(texts), encoder().questions(texts), atol=1e-5)
        found = np.concatenate([batch.vectors for batch in far.encode(texts)])
        np.testing.assert_allclose(found, encoder().vectors(texts), atol=1e-5)
        self.assertEqual((far.dimension, far.unit, far.warning), (384, True, ""))
        self.assertEqual((self.root / "far" / "key").stat().st_mode & 0o077, 0)

    def test_a_wrong_key_is_told(self):
        url = self.serve(stand_in_server(encoder(), 0, "secret"))
        far = RemoteEncoder(register_remote(self.root, "far", url, "wrong"))
        with self.assertRaisesRegex(RemoteError, "status 401: .*the key is missing or wrong"):
            far.questions(["rope"])

    def test_texts_go_out_in_batches_and_a_busy_endpoint_is_asked_again(self):
        far, seen = self.answering(
            (503, {}), (200, {"vectors": [[1, 2], [3, 4]]}), (429, {}), (200, {"vectors": [[5, 6]]})
        )  # fmt: skip
        paused = []
        with mock.patch("urllib3.util.retry.time.sleep", paused.append):
            np.testing.assert_array_equal(far.questions(["a", "b", "c"]), [[1, 2], [3, 4], [5, 6]])
        # It said that it wants to be left alone for an hour.
        self.assertEqual([pause for pause in paused if pause > 1], [LONGEST_PAUSE])
        self.assertEqual([one["texts"] for one in seen], [["a", "b"], ["a", "b"], ["c"], ["c"]])
        self.assertEqual({one["as"] for one in seen}, {"question"})

    def test_no_call_goes_on_after_its_deadline(self):
        far, seen = self.answering(*[(503, {})] * 9)
        far._endpoint._deadline = 0.0
        with self.assertRaisesRegex(RemoteError, "status 503|cannot be reached"):
            far.questions(["a"])
        self.assertEqual(len(seen), 1)

    def test_answers_that_do_not_fit_are_refused_with_what_was_due(self):
        for answer, message in (
            ((200, {"vectors": [[1, 2, 3]]}), "1 x 2 finite numbers were due"),
            ((200, {"vectors": [[1, float("nan")]]}), "1 x 2 finite numbers were due"),
            ((200, {"vectors": "x"}), "not numbers"),
            ((200, b"<html>"), "not JSON"),
            ((404, {"detail": "gone"}), "status 404: .*gone"),
        ):
            far, _ = self.answering(answer)
            with self.assertRaisesRegex(RemoteError, message):
                far.questions(["a"])

    def test_an_endpoint_that_is_not_there_is_named(self):
        with self.assertRaisesRegex(RemoteError, "http://127.0.0.1:9/model: cannot be reached"):
            register_remote(self.root, "far", "http://127.0.0.1:9", settings={"retries": 0, "timeout": 1})
        self.assertEqual(list(self.root.iterdir()), [])
