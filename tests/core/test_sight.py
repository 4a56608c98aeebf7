"""Encoders of pictures and words in one space: their folders, what they give, and the same behind an endpoint."""

import json
import tempfile
import threading
import unittest
from pathlib import Path

import numpy as np

from doppio.command.stand_in import stand_in_server
from doppio.core.errors import DoppioError, ModelFolderError, RemoteError
from doppio.core.models.folder import MANIFEST, open_folder, register_folder
from doppio.core.models.registry import Models
from doppio.core.models.remote import register_remote
from doppio.core.models.sight import Laid
from tests.core.seeing import COLOURS, GRID, painted, registered, seeing_folder


class Folder(unittest.TestCase):
    def setUp(self):
        place = self.enterContext(tempfile.TemporaryDirectory())
        self.root, self.source = Path(place) / "models", Path(place) / "brought"
        self.root.mkdir()

    def encoder(self, **told):
        return Models(self.root).encoder(registered(self.root, self.source, **told))


class Seeing(Folder):
    def test_a_word_and_the_picture_that_it_names_are_nearest(self):
        encoder = self.encoder()
        words = encoder.questions(list(COLOURS))
        (seen,) = encoder.sight.see([painted(name) for name in COLOURS])
        self.assertEqual((words @ seen.vectors.T).argmax(axis=1).tolist(), [0, 1, 2, 3])
        np.testing.assert_allclose(np.linalg.norm(seen.vectors, axis=1), 1, atol=1e-5)

    def test_patches_are_where_their_colours_are(self):
        encoder = self.encoder()
        (seen,) = encoder.sight.see([painted("red", "blue")])
        told = encoder.asked_tokens("blue")
        self.assertEqual(list(told.texts), ["blue"])
        cosines = seen.patches[0] @ told.vectors[0]
        places = seen.laid[0].places(seen.cells[0])
        self.assertEqual(len(cosines), GRID[0] * GRID[1])
        np.testing.assert_array_equal(cosines > 0.9, places[:, 0] >= 0.5)

    def test_a_padded_picture_has_patches_where_it_is_and_no_others(self):
        (seen,) = self.encoder(fit="padded").sight.see([painted("red", "blue", size=(64, 16))])
        # A quarter as high as wide: one of four rows.
        self.assertEqual(seen.cells[0].tolist(), list(range(GRID[1])))
        places = seen.laid[0].places(seen.cells[0])
        np.testing.assert_allclose(places[:, 1], 0)
        np.testing.assert_allclose(places[:, 3], 1)
        np.testing.assert_allclose(places[-1, 2], 1)
        self.assertEqual(len(seen.whole_grids()[0]), GRID[0] * GRID[1])

    def test_cells_are_laid_over_the_picture(self):
        laid = Laid(2, 4, right=0.5)
        self.assertEqual(laid.cells().tolist(), [0, 1, 4, 5])
        np.testing.assert_allclose(laid.places(np.array([1, 4])), [[0.5, 0, 1, 0.5], [0, 0.5, 0.5, 1]])

    def test_many_pictures_keep_their_order(self):
        names = [*COLOURS] * 5
        encoder = self.encoder()
        batches = list(encoder.sight.see([painted(name) for name in names]))
        self.assertEqual(np.concatenate([own.place for own in batches]).tolist(), list(range(20)))
        (alone,) = encoder.sight.see([painted("green")])
        np.testing.assert_allclose(np.concatenate([own.vectors for own in batches])[5], alone.vectors[0], atol=1e-6)

    def test_what_is_no_picture_is_refused(self):
        with self.assertRaisesRegex(DoppioError, "a picture that cannot be read"):
            list(self.encoder().sight.see([b"no picture"]))

    def test_an_encoder_of_words_alone_sees_nothing(self):
        seeing_folder(self.source)
        manifest = json.loads((self.source / MANIFEST).read_text())
        del manifest["pictures"]
        (self.source / MANIFEST).write_text(json.dumps(manifest))
        self.assertIsNone(Models(self.root).encoder(register_folder(self.source, self.root).name).sight)

    def test_how_pictures_are_brought_to_it_is_part_of_what_it_is(self):
        one = open_folder(self.root / registered(self.root, self.source)).digest
        other = open_folder(self.root / registered(self.root, self.source.with_name("again"), fit="padded")).digest
        self.assertNotEqual(one, other)


class Refused(Folder):
    def test_a_wrong_field_is_named_with_what_would_be_right(self):
        for place, (told, wanted) in enumerate([
            ({"size": [32]}, r"pictures\.size: \[32\] is not height and width"),
            ({"grid": [0, 8]}, r"pictures\.grid: \[0, 8\] is not rows and columns"),
            ({"mean": [0, 0]}, r"pictures\.mean: \[0, 0\] is not three numbers"),
            ({"deviation": [1, 0, 1]}, r"pictures\.deviation: \[1, 0, 1\] is not three numbers above 0"),
            ({"fit": "cut"}, r"pictures\.fit: 'cut' is not one of squeezed, padded"),
            ({"sharpen": 1}, r"pictures\.sharpen: is not known; size, mean"),
        ]):  # fmt: skip
            grid = told.pop("grid", GRID)
            with (
                self.subTest(wanted),
                self.assertRaisesRegex(ModelFolderError, f"^{self.source / str(place)}.*{wanted}"),
            ):
                register_folder(seeing_folder(self.source / str(place), grid=grid, **told), self.root)
            self.assertEqual(list(self.root.iterdir()), [])

    def test_a_missing_graph_is_named(self):
        (seeing_folder(self.source) / "pictures.onnx").unlink()
        with self.assertRaisesRegex(ModelFolderError, "pictures.onnx: missing"):
            register_folder(self.source, self.root)

    def test_a_grid_that_the_graph_does_not_have_is_told(self):
        encoder = self.encoder(grid=(2, 8))
        with self.assertRaisesRegex(ModelFolderError, r"patches of shape \(1, 32, 16\); 1 x 16 x 16"):
            list(encoder.sight.see([painted("red")]))

    def test_a_graph_of_words_is_no_graph_of_pictures(self):
        seeing_folder(self.source)
        (self.source / "pictures.onnx").write_bytes((self.source / "encoder.onnx").read_bytes())
        name = register_folder(self.source, self.root).name
        with self.assertRaisesRegex(ModelFolderError, "one of pixels is wanted"):
            Models(self.root).encoder(name)


class Elsewhere(Folder):
    def serve(self, encoder):
        server = stand_in_server(encoder, 0)
        threading.Thread(target=server.serve_forever, daemon=True).start()
        self.addCleanup(server.server_close)
        self.addCleanup(server.shutdown)
        return f"http://127.0.0.1:{server.server_address[1]}"

    def test_the_same_behind_an_endpoint(self):
        for place, fit in enumerate(("squeezed", "padded")):
            here = self.encoder(fit=fit, name=f"colours-{place}")
            register_remote(self.root, f"far-{place}", self.serve(here), settings={"retries": 0})
            there = Models(self.root).encoder(f"far-{place}")
            pictures = [painted("red", "blue", size=(64, 16)), painted("green")]
            (one,), (other,) = here.sight.see(pictures), there.sight.see(pictures)
            np.testing.assert_allclose(one.vectors, other.vectors, atol=1e-6)
            for own, its, cells, laid in zip(one.patches, other.patches, other.cells, other.laid, strict=True):
                np.testing.assert_allclose(own, its, atol=1e-6)
                np.testing.assert_allclose(laid.places(cells).max(axis=0)[2:], 1)
            reads = {folder.name: folder.reads for folder in Models(self.root).listed()}
            self.assertEqual(reads[f"far-{place}"], "texts, pictures by patches")
            self.assertEqual(reads[here.name], reads[f"far-{place}"])
            told, said = here.asked_tokens("blue red"), there.asked_tokens("blue red")
            np.testing.assert_allclose(told.vectors, said.vectors, atol=1e-6)
            self.assertEqual(list(said.texts), ["blue", "red"])
            self.source = self.source.with_name("other")

    def test_an_endpoint_that_says_something_else_is_told(self):
        class Wrong:
            path, wanted = "/encode", ""

            def about(self):
                return {"name": "far", "dimension": 4, "max_tokens": 8, "pictures": {"grid": "4 x 8"}}

            def answer(self, given):
                return {}

        with self.assertRaisesRegex(ModelFolderError, "is not an object with a `grid`"):
            register_remote(self.root, "far", self.serve(Wrong()), settings={"retries": 0})

    def test_patches_that_are_not_there_are_told(self):
        class Wrong:
            path, wanted = "/see", ""

            def about(self):
                return {"name": "far", "dimension": 4, "max_tokens": 8, "pictures": {"grid": [1, 2]}}

            def answer(self, given):
                return {"vectors": [[1, 0, 0, 0]] * len(given["pictures"])}

        register_remote(self.root, "far", self.serve(Wrong()), settings={"retries": 0})
        with self.assertRaisesRegex(RemoteError, "`patches` is missing"):
            list(Models(self.root).encoder("far").sight.see([painted("red")]))
