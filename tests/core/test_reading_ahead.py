"""Files that are read through beforehand: counted by what the system says that this process has read."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from doppio.core.store import artifacts
from doppio.core.store import reading_ahead as module
from doppio.core.store.artifacts import ArtifactStore
from doppio.core.store.reading_ahead import ReadingAhead

SIZE = 6 << 20


def read_so_far():
    told = dict(line.split(": ") for line in Path("/proc/self/io").read_text().splitlines())
    return int(told["rchar"])


class Ahead(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.ahead = ReadingAhead()
        self.ahead.begin().result(20)

    def file(self, name, size=SIZE):
        path = self.folder / name
        path.write_bytes(bytes(size))
        return path

    def read(self, *files, in_memory=False):
        before = read_so_far()
        with mock.patch.object(module, "_in_memory", lambda *_: in_memory):
            self.ahead.of(files).result(20)
        return round((read_so_far() - before) / SIZE, 1)

    def test_what_is_not_in_memory_is_read_whole_and_nothing_else(self):
        self.assertEqual(self.read(self.file("one"), self.file("two")), 2)
        self.assertEqual(self.read(self.file("one"), in_memory=True), 0)
        with mock.patch.object(module, "_room", lambda: SIZE - 1):
            self.assertEqual(self.read(self.file("large"), self.file("small", SIZE // 2)), 0.5)

    def test_the_next_process_reads_what_was_asked_for_last_as_much_as_is_worth_it(self):
        record = self.folder / "record"
        record.write_bytes(b"\xff")
        self.ahead.begin(record).result(20)
        files = [self.file(name) for name in ("first", "second", "third", "gone")]
        for file in [*files, files[0]]:
            self.read(file)
        files[3].unlink()
        with mock.patch.object(module, "_in_memory", lambda *_: False):
            for most, read in ((3 * SIZE, 3), (2 * SIZE, 2), (SIZE - 1, 0)):
                with mock.patch.object(module, "_room", lambda most=most: most):
                    before = read_so_far()
                    ReadingAhead().begin(record).result(20)
                    self.assertEqual(round((read_so_far() - before) / SIZE, 1), read)
        self.read(files[2])
        self.assertEqual(record.read_text().splitlines(), [str(files[at]) for at in (1, 0, 2)])
        self.assertEqual(sorted(path.name for path in self.folder.iterdir()), ["first", "record", "second", "third"])

    def test_one_that_is_gone_or_empty_keeps_no_other_from_being_read(self):
        self.assertEqual(self.read(self.folder / "gone", self.file("empty", 0), self.file("one")), 1)

    def test_a_quarter_of_the_memory_that_could_be_had_is_worth_reading(self):
        told = self.folder / "told"
        for text, room in ((f"MemFree: 9 kB\nMemAvailable: {5 << 23} kB", 10 << 30), ("MemAvailable: 9 kB", 1 << 29),
                           ("MemFree: 9 kB", 1 << 29), ("MemAvailable: much", 1 << 29)):  # fmt: skip
            told.write_text(text)
            with mock.patch.object(module, "MEMORY", told):
                self.assertEqual(module._room(), room)

    def test_a_large_file_is_read_by_and_by(self):
        waited = []
        with mock.patch.object(module, "LEAST", SIZE - 1), mock.patch.object(module.time, "sleep", waited.append):
            self.assertEqual(self.read(self.file("large"), self.file("small", SIZE // 2)), 1.5)
        self.assertEqual(len(waited), 2)
        self.assertTrue(all(seconds > 0 for seconds in waited))

    def test_one_place_that_is_not_in_memory_is_enough(self):
        tried = []

        def read(handle, rooms, place, flags):
            tried.append(place)
            if place >= SIZE // 2:
                raise BlockingIOError
            return 1

        with mock.patch.object(module.os, "preadv", read):
            self.assertFalse(module._in_memory(0, SIZE))
            self.assertEqual(max(tried), SIZE // 2)
            self.assertTrue(module._in_memory(0, SIZE // 4))

    def test_arrays_of_an_artifact_are_read_when_it_is_opened_where_that_was_wanted(self):
        store = ArtifactStore(self.folder)
        store.write("thing", "a1", {"numbers": np.zeros(SIZE // 8), "more": np.zeros(SIZE // 8)}, {})
        asked = []
        with mock.patch.object(artifacts, "reading_ahead", mock.Mock(of=asked.append)):
            store.open("thing", "a1")
        self.assertEqual({path.name for path in asked[0]}, {"numbers.npy", "more.npy"})
        self.assertEqual(self.read(*asked[0]), 2)
        self.assertIsNone(ReadingAhead().of(asked[0]))


if __name__ == "__main__":
    unittest.main()
