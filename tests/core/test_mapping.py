"""What the system knows of how a file is read, as it tells of the process's own memory."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from doppio.core.kernels.mapping import read_here_and_there


def flags_of(path):
    """The flags of the mappings of a file."""
    found, ours = [], False
    for line in Path("/proc/self/smaps").read_text().splitlines():
        if line.split(" ", 1)[0].count("-") == 1 and not line.startswith("VmFlags"):
            ours = line.endswith(str(path))
        elif ours and line.startswith("VmFlags:"):
            found.append(line.split()[1:])
    return found


class Mapped(unittest.TestCase):
    def test_a_mapped_array_is_read_here_and_there_from_then_on_and_others_stay_as_they_are(self):
        with tempfile.TemporaryDirectory() as folder:
            path, other = Path(folder) / "rows.npy", Path(folder) / "other.npy"
            for file in (path, other):
                np.save(file, np.arange(1 << 16).reshape(-1, 8))
            rows, more = (np.asarray(np.load(file, mmap_mode="c")) for file in (path, other))
            read_here_and_there(rows[5:, 1:3], np.ones(3), rows[[1, 2]])
            self.assertEqual([("rr" in flags) for flags in flags_of(path)], [True])
            self.assertEqual([("rr" in flags) for flags in flags_of(other)], [False])
            np.testing.assert_array_equal(rows, more)
