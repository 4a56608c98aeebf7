"""What the system refuses is told by name, with what an operator can do."""

import errno
import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from doppio.launch.errors import told_of
from tests.core.corpus import ROOT


class Told(unittest.TestCase):
    def test_what_can_be_mended_names_the_place_and_the_way(self):
        self.assertRegex(told_of(OSError(errno.ENOSPC, "x", "/var/doppio")), "^/var/doppio: there is no space left; ")
        self.assertRegex(told_of(OSError(errno.EROFS, "x")), "^the file system is read-only; ")
        self.assertIsNone(told_of(OSError(errno.EPIPE, "x")))
        self.assertIsNone(told_of(OSError("of no number")))

    def test_a_start_in_a_place_that_is_none_ends_with_a_sentence(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder) / "file"
            place.touch()
            environment = os.environ | {"DOPPIO_VAR": str(place), "PYTHONPATH": str(ROOT / "src")}
            for command in ("help", "serve"):
                said = subprocess.run(
                    [sys.executable, "-m", "doppio.launch", command], env=environment, capture_output=True, text=True
                )
                self.assertEqual((said.returncode, said.stdout), (2, ""))
                self.assertRegex(said.stderr, rf"^doppio: {place}: is there and is no folder; .*DOPPIO_VAR")
