import os
import shutil
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core.build.builder import Builder
from doppio.core.chunking.table import CorpusTexts
from doppio.core.errors import ArtifactDamaged, Cancelled, StoreUnreachable
from doppio.core.models.encoder import Encoder
from doppio.core.models.registry import Models
from doppio.core.seen_files import note_seen
from doppio.core.store.artifacts import ABANDONED, ArtifactStore
from doppio.core.store.manifest import digest_of, stamps_of
from doppio.core.text.document import corpus_fingerprint
from tests.core.corpus import MODELS, documents, recipe

ENCODING = "doppio.core.branches.dense.encoding"


class Artifacts(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name)
        self.store = ArtifactStore(self.root)
        self.array = np.arange(5000, dtype=np.float32)

    def test_what_was_written_is_opened_mapped_and_writing_to_it_never_reaches_the_file(self):
        opened = self.store.write("vectors", "k", {"a": self.array}, {"n": 1})
        np.testing.assert_array_equal(opened.arrays["a"], self.array)
        self.assertIsInstance(opened.arrays["a"].base, np.memmap)
        opened.arrays["a"][:] = -1
        np.testing.assert_array_equal(self.store.open("vectors", "k").arrays["a"], self.array)
        self.assertEqual(opened.meta, {"n": 1})

    def test_one_altered_byte_is_refused_by_name(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        path = self.root / "vectors-k" / "a.npy"
        data = bytearray(path.read_bytes())
        data[-3] ^= 1
        path.write_bytes(data)
        with self.assertRaisesRegex(ArtifactDamaged, "vectors-k/a.npy: does not match its checksum"):
            self.store.open("vectors", "k")

    def test_a_bit_that_flips_without_a_new_time_stamp_is_found_by_looking(self):
        for key in ("j", "k", "l"):
            self.store.write("vectors", key, {"a": self.array, "b": self.array[:9]}, {})
        read = []
        self.assertEqual(self.store.look_through(read.append), [])
        self.assertEqual(sum(read), sum(path.stat().st_size for path in self.root.rglob("*.npy")))
        path = self.root / "vectors-k" / "b.npy"
        data = bytearray(path.read_bytes())
        data[-1] ^= 1
        path.write_bytes(data)
        note_seen(path.parent, stamps_of(path.parent, ["a", "b"]))
        self.store.open("vectors", "k")
        (found,) = self.store.look_through(lambda _: None)
        self.assertIn("vectors-k: b does not match its checksum", found)
        with self.assertRaisesRegex(ArtifactDamaged, "b.npy: does not match"):
            self.store.open("vectors", "k")
        self.store.open("vectors", "l")

        def stopped(_count):
            raise Cancelled("stopped")

        with self.assertRaises(Cancelled):
            self.store.look_through(stopped)

    def test_one_that_is_taken_away_while_it_is_opened_is_absent_and_not_damaged(self):
        self.store.write("vectors", "k", {"a": self.array, "b": self.array}, {})
        real, calls = np.load, []

        def gone(path, **given):
            calls.append(path)
            if len(calls) == 1:
                self.store.remove("vectors", "k")
            return real(path, **given)

        with mock.patch("doppio.core.store.artifacts.np.load", gone), self.assertRaises(FileNotFoundError):
            self.store.open("vectors", "k")
        self.assertIsNone(self.store.open_or_none("vectors", "k"))

    def test_a_sound_one_that_took_the_place_of_a_damaged_one_is_not_taken_away(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        path = self.root / "vectors-k" / "a.npy"
        path.write_bytes(path.read_bytes()[:-1])
        real = ArtifactStore.open

        def replaced(store, kind, key):
            try:
                return real(store, kind, key)
            except ArtifactDamaged:
                store.remove(kind, key)
                store.write(kind, key, {"a": self.array}, {"n": 2})
                raise

        with mock.patch.object(ArtifactStore, "open", replaced):
            self.assertIsNone(self.store.open_or_none("vectors", "k"))
        self.assertEqual(self.store.open("vectors", "k").meta, {"n": 2})

    def test_notes_of_another_shape_are_no_notes(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        for text in ("[1]", '{"b": [1]}', '{"a": {"x": 1}}', "null", "3"):
            (self.root / "vectors-k" / "seen.json").write_text(text)
            np.testing.assert_array_equal(self.store.open("vectors", "k").arrays["a"], self.array)

    def test_what_killed_processes_left_is_cleared_away_and_nothing_else(self):
        mark, now = "0" * 32, time.time()
        self.store.write("vectors", "k", {"a": self.array}, {})
        self.store.write("vectors", "broken", {"a": self.array}, {})
        (self.root / "vectors-broken" / "manifest.json").write_text("{")
        for name in (f".vectors-k.{mark}", f".vectors-k.{mark}.old", ".encoding-now", ".encoding-long-ago", ".locks"):
            (self.root / name).mkdir()
            (self.root / name / "a.npy").write_bytes(b"x")
        (self.root / "lists").mkdir()
        (self.root / "lists" / f".l.{mark}").write_text("half")
        (self.root / "lists" / "l.json").write_text("{}")
        for path in (self.root / ".encoding-long-ago", self.root / ".encoding-long-ago" / "a.npy"):
            os.utime(path, (now - 2 * ABANDONED, now - 2 * ABANDONED))
        self.assertEqual(self.store.clear_away(now), 5)
        left = sorted(path.name for path in self.root.iterdir())
        self.assertEqual(left, [".encoding-now", ".locks", "lists", "vectors-k"])
        self.assertEqual([path.name for path in (self.root / "lists").iterdir()], ["l.json"])
        self.assertEqual(self.store.clear_away(now), 0)

    def test_a_missing_array_and_an_altered_manifest_are_refused_by_name(self):
        self.store.write("vectors", "k", {"a": self.array}, {"n": 1})
        manifest = self.root / "vectors-k" / "manifest.json"
        manifest.write_text(manifest.read_text().replace('"n": 1', '"n": 2'))
        with self.assertRaisesRegex(ArtifactDamaged, "manifest.json"):
            self.store.open("vectors", "k")
        self.store.write("vectors", "k", {"a": self.array}, {})
        (self.root / "vectors-k" / "a.npy").unlink()
        with self.assertRaisesRegex(ArtifactDamaged, "a.npy: missing"):
            self.store.open("vectors", "k")

    def test_a_failed_write_leaves_nothing_behind_and_the_old_one_in_place(self):
        self.store.write("vectors", "k", {"a": self.array}, {})
        full = mock.patch("doppio.core.store.artifacts.os.fsync", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError):
            self.store.write("vectors", "k", {"a": self.array + 1}, {})
        self.assertEqual([path.name for path in self.root.iterdir()], ["vectors-k"])
        np.testing.assert_array_equal(self.store.open("vectors", "k").arrays["a"], self.array)

    def test_an_array_that_was_moved_into_a_failed_write_is_where_it_was(self):
        path = self.root / "made.npy"
        np.save(path, self.array)
        full = mock.patch("doppio.core.store.artifacts.sealed", side_effect=OSError(28, "No space left on device"))
        with full, self.assertRaises(OSError):
            self.store.write("vectors", "k", {"a": path}, {})
        np.testing.assert_array_equal(np.load(path), self.array)
        self.store.write("vectors", "k", {"a": path}, {})
        self.assertFalse(path.exists())


class Counting:
    """A progress that counts what was encoded, and cancels after so many chunks."""

    def __init__(self, stop_after=None):
        self.steps, self.stop_after, self.step = {}, stop_after, ""

    def start(self, step, total, unit):
        self.step = step
        self.steps[step] = 0

    def advance(self, count):
        self.steps[self.step] += count
        if self.stop_after is not None and self.step == "encode chunks" and self.steps[self.step] >= self.stop_after:
            raise Cancelled("cancelled")


class Builds(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = ArtifactStore(Path(folder.name))
        self.corpus = documents()
        self.key = corpus_fingerprint(self.corpus)

    def build(self, recipe, progress=None):
        builder = Builder(self.store, Models(MODELS), progress or Counting())
        table = builder.chunks(self.corpus, self.key, recipe)
        texts = CorpusTexts(self.corpus, table)
        builder.indexes(self.key, recipe, texts)
        return builder.open(self.key, recipe, texts)

    def test_settings_of_question_time_build_nothing_again(self):
        self.build(recipe())
        again = Counting()
        branches = [
            {"id": "sparse", "kind": "bm25", "k1": 2.0, "b": 0.1, "depth": 3},
            {"id": "dense", "kind": "vector"},
        ]
        self.build(recipe(branches=branches, fusion={"method": "scaled-scores", "weights": {"dense": 4}}), again)
        self.assertEqual(again.steps, {})

    def test_another_analysis_builds_the_sparse_index_alone(self):
        self.build(recipe())
        again = Counting()
        branches = [{"id": "sparse", "kind": "bm25", "analysis": {"stem": False}}, {"id": "dense", "kind": "vector"}]
        self.build(recipe(branches=branches), again)
        self.assertEqual(list(again.steps), ["index terms"])

    def test_a_cancelled_build_resumes_where_it_was_and_equals_a_fresh_one(self):
        with mock.patch(f"{ENCODING}.MOST_ROWS", 2), mock.patch(f"{ENCODING}.LEAST_ROWS", 1):
            with self.assertRaises(Cancelled):
                self.build(recipe(), Counting(stop_after=1))
            self.assertFalse(any(path.name.startswith("vectors-") for path in self.store.root.iterdir()))
            encoded = []
            real = Encoder.encode
            with mock.patch.object(
                Encoder, "encode", lambda self, texts, **k: encoded.extend(texts) or real(self, texts, **k)
            ):
                resumed = self.build(recipe())
        self.assertEqual(len(encoded), len(resumed.chunks) - 2)
        self.assertFalse(any(path.name.startswith(".encoding") for path in self.store.root.iterdir()))
        fresh_store, self.store = self.store, ArtifactStore(self.store.root / "fresh")
        fresh = self.build(recipe())
        self.store = fresh_store
        everything = range(len(fresh.chunks))
        np.testing.assert_allclose(
            *(found.branches["dense"].index.vectors(everything) for found in (resumed, fresh)), atol=2e-5
        )

    def test_a_kill_between_two_writes_encodes_nothing_again_and_leaves_nothing_behind(self):
        real = ArtifactStore.write

        def dies(store, kind, key, arrays, meta):
            if kind == "vectors":
                raise KeyboardInterrupt
            return real(store, kind, key, arrays, meta)

        with mock.patch.object(ArtifactStore, "write", dies), self.assertRaises(KeyboardInterrupt):
            self.build(recipe())
        with mock.patch.object(Encoder, "encode", side_effect=AssertionError("encoded again")):
            pipeline = self.build(recipe())
        self.assertIsNotNone(pipeline.reranker)
        left = [path.name for path in self.store.root.iterdir() if path.name.startswith(".")]
        self.assertEqual(set(left) - {".in-use", ".locks"}, set())

    def test_a_store_that_fails_while_vectors_are_written_loses_none_of_them(self):
        def silent(store, draft, manifest):
            if manifest["kind"] == "vectors":
                raise StoreUnreachable("cut off")

        with mock.patch.object(ArtifactStore, "carry_away", silent), self.assertRaises(StoreUnreachable):
            self.build(recipe())
        with mock.patch.object(Encoder, "encode", side_effect=AssertionError("encoded again")):
            self.build(recipe())
        kept = next(self.store.root.glob("vectors-*"))
        self.store.remove(*kept.name.split("-", 1))
        with mock.patch(f"{ENCODING}._read_note", return_value={"rows": 3, "tokens": -1}):
            # A note without its vectors is no note.
            self.assertIsNotNone(self.build(recipe()))

    def test_a_full_disk_is_told_and_the_next_build_ends(self):
        def full(*_, **__):
            raise OSError(28, "No space left on device")

        for where in (f"{ENCODING}.os.posix_fallocate", "doppio.core.store.artifacts.np.save"):
            with mock.patch(where, full), self.assertRaisesRegex(OSError, "No space left"):
                self.build(recipe())
            self.assertEqual([path.name for path in self.store.root.glob(".segment*")], [])
        self.assertIsNotNone(self.build(recipe()).reranker)

    def test_an_altered_file_is_found_though_it_was_opened_before(self):
        self.build(recipe())
        path = next(self.store.root.glob("postings-*/data.npy"))
        kind, key = path.parent.name.split("-", 1)
        self.store.open(kind, key)
        times = path.stat()
        data = bytearray(path.read_bytes())
        data[-1] ^= 1
        path.write_bytes(data)
        os.utime(path, ns=(times.st_atime_ns, times.st_mtime_ns))
        with self.assertRaisesRegex(ArtifactDamaged, "data.npy: does not match its checksum"):
            self.store.open(kind, key)

    def test_checksums_are_read_once_and_again_only_for_files_that_moved(self):
        self.store.write("vectors", "k", {"a": np.arange(9)}, {})
        with mock.patch("doppio.core.store.artifacts.digest_of", side_effect=AssertionError("read again")):
            self.store.open("vectors", "k")
        copied = ArtifactStore(self.store.root / "copied")
        shutil.copytree(self.store.folder_of("vectors", "k"), copied.folder_of("vectors", "k"))
        with mock.patch("doppio.core.store.artifacts.digest_of", wraps=digest_of) as digest:
            copied.open("vectors", "k")
            copied.open("vectors", "k")
        self.assertEqual(digest.call_count, 1)

    def test_a_manifest_alone_tells_size_and_meta(self):
        opened = self.store.write("vectors", "k", {"a": np.arange(9)}, {"n": 1})
        self.assertEqual(self.store.describe("vectors", "k"), (opened.bytes, {"n": 1}))

    def test_a_damaged_index_is_built_again(self):
        self.build(recipe())
        path = next(self.store.root.glob("vectors-*/vectors.npy"))
        path.write_bytes(path.read_bytes()[:-8])
        pipeline = self.build(recipe())
        self.assertEqual(pipeline.branches["dense"].index.count, len(pipeline.chunks))
