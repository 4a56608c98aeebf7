"""The laws of the store, over a local folder, a shared folder, and a server that speaks S3."""

import json
import os
import shutil
import tempfile
import threading
import time
import unittest
from contextlib import ExitStack
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ArtifactDamaged, StoreUnreachable
from doppio.core.models.registry import Models
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.far import FarFolder
from doppio.core.store.segments import Lists, Part, ReadingList
from doppio.core.store.shared import ARTIFACTS, SharedStore, send_all
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe
from tests.core.object_store import object_store


class Local:
    """The store that every test below is run with; others take its place."""

    def setUp(self):
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.array = np.arange(5000, dtype=np.float32)
        self.url = self.new_url()
        self.store = self.another("here")

    def new_url(self):
        return ""

    def another(self, name):
        """The store as another machine would see it; a local one is seen by this machine alone."""
        return ArtifactStore(self.root / "one")


class Shared(Local):
    """A shared store: every machine has a cache of its own."""

    def new_url(self):
        return f"file://{self.root}/shared"

    def another(self, name):
        return SharedStore(self.root / name, FarFolder(self.url))


class InObjects(Shared):
    """The same in an object store."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        scope = ExitStack()
        cls.addClassCleanup(scope.close)
        cls.objects = scope.enter_context(object_store())

    def new_url(self):
        return f"{self.objects.folder()}/artifacts of {self.id()}"


class Laws:
    def test_what_one_wrote_another_opens_mapped_and_equal(self):
        arrays = {"a": self.array, "b": np.eye(3), "none": np.empty((0, 4), np.int32)}
        self.store.write("vectors", "k", arrays, {"n": 1, "title": "Größe ≥ 3"})
        other = self.another("there")
        self.assertTrue(other.has("vectors", "k"))
        opened = other.open("vectors", "k")
        self.assertEqual(opened.meta, {"n": 1, "title": "Größe ≥ 3"})
        for name, array in arrays.items():
            self.assertEqual((opened.arrays[name].dtype, opened.arrays[name].shape), (array.dtype, array.shape))
            np.testing.assert_array_equal(opened.arrays[name], array)
        self.assertIsInstance(opened.arrays["a"].base, np.memmap)
        self.assertEqual(other.describe("vectors", "k"), self.store.describe("vectors", "k"))
        self.assertEqual(opened.bytes, self.store.describe("vectors", "k")[0])

    def test_what_is_not_there_is_absent_for_all(self):
        self.assertFalse(self.store.has("vectors", "k"))
        self.assertIsNone(self.store.open_or_none("vectors", "k"))
        with self.assertRaises(FileNotFoundError):
            self.store.open("vectors", "k")
        self.store.write("vectors", "k", {"a": self.array}, {})
        other = self.another("there")
        other.open("vectors", "k")
        other.remove("vectors", "k")
        self.assertFalse(other.has("vectors", "k"))
        self.assertFalse(self.another("third").has("vectors", "k"))
        other.remove("vectors", "k")

    def test_all_of_a_kind_are_listed_and_no_other(self):
        for kind, key in (("vectors", "k"), ("vectors", "l"), ("joint-vectors", "k"), ("postings", "m")):
            self.store.write(kind, key, {"a": self.array}, {"kind": kind})
        for store in (self.store, self.another("there")):
            self.assertEqual(
                sorted(store.listed("vectors")), [("k", {"kind": "vectors"}), ("l", {"kind": "vectors"})]
            )
            self.assertEqual(list(store.listed("structure")), [])

    def test_one_that_is_written_anew_is_the_new_one(self):
        self.store.write("vectors", "k", {"a": self.array, "b": self.array}, {"n": 1})
        self.store.write("vectors", "k", {"a": self.array + 1}, {"n": 2})
        opened = self.another("there").open("vectors", "k")
        self.assertEqual((opened.meta, list(opened.arrays)), ({"n": 2}, ["a"]))
        np.testing.assert_array_equal(opened.arrays["a"], self.array + 1)
        self.assertEqual(self.store.clear_away(time.time()), 0)

    def test_lists_are_read_by_all_youngest_first(self):
        lists, others = Lists(self.store.lists), Lists(self.another("there").lists)
        with self.assertRaises(FileNotFoundError):
            others.read("one")
        reading = ReadingList("family", (Part("s", np.array([0, -1, 1])),))
        lists.write("one", reading)
        lists.write("two", ReadingList("family", (Part("t", np.array([0])),)))
        self.assertEqual([key for key, _ in others.youngest_first()], ["two", "one"])
        lists.write("one", ReadingList("family", (Part("u", np.array([0])),)))
        self.assertEqual([key for key, _ in others.youngest_first()], ["one", "two"])
        self.assertEqual(others.read("one").parts[0].key, "u")
        others.remove("one")
        self.assertFalse(lists.has("one"))
        with self.assertRaises(FileNotFoundError):
            lists.read("one")

    def test_a_recipe_that_one_built_another_opens_and_answers_the_same_by(self):
        corpus = documents()
        key = corpus_fingerprint(corpus)
        models = Models(MODELS)

        def opened(store):
            builder = Builder(store, models)
            texts = CorpusTexts(corpus, builder.chunks(corpus, key, recipe()))
            builder.indexes(key, recipe(), texts)
            return builder.open(key, recipe(), texts)

        first = opened(self.store)
        with mock.patch("doppio.core.branches.dense.making.encode_segment", side_effect=AssertionError("again")):
            second = opened(self.another("there"))
        for question in ("how strong may the wind be", "E-471"):
            for one, other in zip(first.ask(question).stages, second.ask(question).stages, strict=True):
                np.testing.assert_array_equal(one.chunks, other.chunks)
                np.testing.assert_array_equal(one.scores, other.scores)
        builder = Builder(self.another("third"), models)
        self.assertEqual(builder.forget({builder.keys(key, recipe()).chunks}), 0)
        self.assertEqual(builder.missing(builder.keys(key, recipe())), [])


class SharedLaws(Laws):
    def far(self, name):
        return f"{ARTIFACTS}/vectors-k/{name}"

    def test_a_writer_that_dies_before_the_manifest_leaves_nothing_to_be_seen(self):
        with (
            mock.patch.object(FarFolder, "write", side_effect=StoreUnreachable("cut")),
            self.assertRaises(StoreUnreachable),
        ):
            self.store.write("vectors", "k", {"a": self.array}, {})
        self.assertEqual([path.name for path in self.store.root.glob("[!.]*")], [])
        self.assertFalse(self.another("there").has("vectors", "k"))
        self.assertEqual(len(self.store.far.names(ARTIFACTS)), 1)
        self.assertEqual(self.store.clear_away(time.time()), 1)
        self.assertEqual(self.store.far.names(ARTIFACTS), [])

    def test_a_damaged_copy_here_is_fetched_again_and_a_damaged_object_is_refused_by_name(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        path = self.store.root / "vectors-k" / "a.npy"
        path.write_bytes(path.read_bytes()[:-1] + b"\xff")
        np.testing.assert_array_equal(self.store.open("vectors", "k").arrays["a"], self.array)
        (object_,) = [name for name in self.store.far.names(ARTIFACTS) if name.endswith(".npy")]
        self.store.far.write(object_, self.store.far.read(object_)[:-1] + b"\xff")
        (found,) = self.store.look_through(lambda _: None)
        self.assertIn("artifacts/vectors-k: a does not match its checksum", found)
        other = self.another("there")
        with self.assertRaisesRegex(ArtifactDamaged, rf"{object_}: does not match its checksum"):
            other.open("vectors", "k")
        self.assertEqual([name.name for name in other.root.glob("[!.]*")], [])
        self.assertIsNone(other.open_or_none("vectors", "k"))
        self.assertFalse(other.has("vectors", "k"))

    def test_an_altered_manifest_and_a_lost_object_are_refused_by_name(self):
        self.store.write("vectors", "k", {"a": self.array}, {"n": 1})
        sound = self.store.far.read(self.far("manifest.json"))
        self.store.far.write(self.far("manifest.json"), sound.replace(b'"n": 1', b'"n": 2'))
        with self.assertRaisesRegex(ArtifactDamaged, r"vectors-k/manifest.json: does not match"):
            self.another("there").open("vectors", "k")
        self.assertEqual(list(self.store.listed("vectors")), [])
        self.store.far.write(self.far("manifest.json"), sound)
        self.store.far.remove([name for name in self.store.far.names(ARTIFACTS) if name.endswith(".npy")])
        with self.assertRaisesRegex(ArtifactDamaged, r"vectors-k/a\.[0-9a-f]{32}\.npy: missing"):
            self.another("there").open("vectors", "k")
        self.assertEqual(len(self.store.look_through(lambda _: None)), 1)

    def test_a_full_cache_drops_what_was_opened_longest_ago_and_mapped_arrays_stay(self):
        for key in ("j", "k", "l"):
            self.store.write("vectors", key, {"a": self.array}, {})
        other = SharedStore(self.root / "small", FarFolder(self.url), most_bytes=50_000)
        held = other.open("vectors", "j")
        other.open("vectors", "k")
        os.utime(other.root / "vectors-j" / "seen.json", ns=(0, 0))
        other.open("vectors", "l")
        self.assertEqual(sorted(path.name for path in other.root.glob("[!.]*")), ["vectors-k", "vectors-l"])
        np.testing.assert_array_equal(held.arrays["a"], self.array)
        np.testing.assert_array_equal(other.open("vectors", "j").arrays["a"], self.array)

    def test_a_full_disk_is_told_as_such_and_leaves_nothing(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        other = self.another("there")
        full = mock.patch("doppio.core.store.shared.note_seen", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaisesRegex(OSError, "No space left"):
            other.open("vectors", "k")
        self.assertEqual([path.name for path in other.root.iterdir()], [".fetching"])

    def test_the_cache_forgets_what_was_taken_away_elsewhere(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        other = self.another("there")
        other.open("vectors", "k")
        self.store.remove("vectors", "k")
        other.clear_away(time.time())
        self.assertFalse(other.has("vectors", "k"))
        self.assertEqual(list(other.root.glob("[!.]*")), [])

    def test_many_that_open_at_once_fetch_it_once(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        other, fetched, failed = self.another("there"), [], []
        real = FarFolder.fetch

        def counted(far, name, path):
            fetched.append(name)
            real(far, name, path)

        def open_it():
            try:
                np.testing.assert_array_equal(other.open("vectors", "k").arrays["a"], self.array)
            except Exception as error:
                failed.append(error)

        with mock.patch.object(FarFolder, "fetch", counted):
            threads = [threading.Thread(target=open_it) for _ in range(6)]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
        self.assertEqual((failed, len(fetched)), ([], 1))

    def test_a_store_that_does_not_answer_is_named_and_what_is_here_still_opens(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        reading = ReadingList("family", (Part("k", np.array([0])),))
        Lists(self.store.lists).write("one", reading)
        self.cut_off()
        np.testing.assert_array_equal(self.store.open("vectors", "k").arrays["a"], self.array)
        self.assertEqual(Lists(self.store.lists).read("one").parts[0].key, "k")
        with self.assertRaisesRegex(StoreUnreachable, "does not answer as a store of artifacts"):
            self.store.open("vectors", "l")
        with self.assertRaises(StoreUnreachable):
            self.store.write("vectors", "l", {"a": self.array}, {})
        self.assertEqual([path.name for path in self.store.root.glob("[!.]*-*")], ["vectors-k"])

    def test_what_a_local_folder_holds_is_carried_over_once(self):
        here = ArtifactStore(self.root / "before")
        for key in ("k", "l", "broken"):
            here.write("vectors", key, {"a": self.array}, {"key": key})
        (here.root / "vectors-broken" / "a.npy").write_bytes(b"x")
        Lists(here.lists).write("one", ReadingList("family", (Part("k", np.array([0])),)))
        told = []
        self.assertEqual(send_all(here, self.store, lambda name, size: told.append((name, size))), 3)
        size = here.describe("vectors", "k")[0]
        self.assertEqual(told, [("vectors-k", size), ("vectors-l", size)])
        other = self.another("there")
        np.testing.assert_array_equal(other.open("vectors", "l").arrays["a"], self.array)
        self.assertEqual(Lists(other.lists).read("one").family, "family")
        self.assertEqual(send_all(here, self.store, lambda *_: self.fail("carried again")), 0)


class LocalStore(Local, Laws, unittest.TestCase):
    pass


class SharedFolder(Shared, SharedLaws, unittest.TestCase):
    def cut_off(self):
        """A shared file system that is no longer mounted: a file stands where the folder was."""
        shutil.rmtree(self.root / "shared")
        (self.root / "shared").write_text("")

    def test_a_file_that_is_being_written_is_never_seen(self):
        seen = []
        real = FarFolder._put

        def watched(far, system, target, write):
            def writing(path):
                write(path)
                seen.append((Path(target).exists(), far.names("")))

            real(far, system, target, writing)

        with mock.patch.object(FarFolder, "_put", watched):
            self.store.far.write("lists/a.json", json.dumps({}).encode())
        self.assertEqual(seen, [(False, [])])
        self.assertEqual(self.store.far.names(""), ["lists/a.json"])


class ObjectStore(InObjects, SharedLaws, unittest.TestCase):
    def cut_off(self):
        """A store behind a door that nobody opens."""
        self.enterContext(mock.patch("s3fs.core.S3FileSystem.retries", 1))
        self.enterContext(mock.patch.dict(os.environ, {"AWS_ENDPOINT_URL": "http://127.0.0.1:9"}))
        self.store.far = FarFolder(f"{self.url} cut off")


if __name__ == "__main__":
    unittest.main()
