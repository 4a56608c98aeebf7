"""How many cores there are: those of the machine, of the process, of its container."""

import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from doppio.core import cores as module
from doppio.core.cores import cores


class Cores(unittest.TestCase):
    def counted(self, files, allowed=8, **environment):
        with tempfile.TemporaryDirectory() as place:
            for name, text in files.items():
                path = Path(place) / name
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_text(text)
            with (
                mock.patch.object(module, "CGROUP", Path(place)),
                mock.patch.object(os, "sched_getaffinity", return_value=set(range(allowed))),
                mock.patch.object(os, "cpu_count", return_value=64),
                mock.patch.dict(os.environ, {"DOPPIO_CORES": "", **environment}),
            ):
                return cores()

    def test_a_container_has_its_share_of_them(self):
        self.assertEqual(self.counted({}), 8)
        self.assertEqual(self.counted({"cpu.max": "max 100000\n"}), 8)
        self.assertEqual(self.counted({"cpu.max": "150000 100000\n"}), 2)
        self.assertEqual(self.counted({"cpu.max": "20000 100000\n"}), 1)
        older = {"cpu/cpu.cfs_quota_us": "400000\n", "cpu/cpu.cfs_period_us": "100000\n"}
        self.assertEqual(self.counted(older), 4)
        self.assertEqual(self.counted({**older, "cpu/cpu.cfs_quota_us": "-1\n"}), 8)
        self.assertEqual(self.counted({"cpu.max": "unreadable"}), 8)

    def test_fewer_may_be_said(self):
        self.assertEqual(self.counted({}, DOPPIO_CORES="3"), 3)
        self.assertEqual(self.counted({"cpu.max": "150000 100000"}, DOPPIO_CORES="3"), 2)
        self.assertEqual(self.counted({}, allowed=1, DOPPIO_CORES="3"), 1)


if __name__ == "__main__":
    unittest.main()
