"""Models and loops are made when what they are made from has changed; what was made before a failure stays made."""

import tempfile
import unittest
from pathlib import Path
from unittest import mock

from doppio.launch import ahead, python
from doppio.launch.errors import LaunchError
from doppio.launch.steps import Page, do
from tests.launch.programs import calls, stand_in

TASKS = "for task in $*; do case $task in doppio*|-m|*/weights) ;; *) mkdir -p {made}; echo $task;; esac; done"


class Ahead(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.folder = Path(place.name)
        self.models, self.numba, self.bin = (self.folder / name for name in ("models", "numba", "bin"))
        for name in (self.models, self.numba, *(self.models / shipped for shipped in ahead.SHIPPED.values())):
            name.mkdir()
        lock = self.folder / "requirements-weights.txt"
        lock.write_text("weights==1")
        for module, name, value in (
            (ahead, "MODELS", self.models),
            (ahead, "NUMBA", self.numba),
            (ahead, "WEIGHTS", self.folder / "weights"),
            (ahead, "PYTHON", self.bin / "python"),
            (python, "WEIGHTS", lock),
            (python, "weights", lambda folder, note: "fetched"),
        ):
            self.enterContext(mock.patch.object(module, name, value))
        self.lock = lock
        stand_in(self.bin, "python", TASKS.format(made=self.folder / "made"))

    def make(self, *, loops=True, later=()):
        """Do what is lacking; returns the tasks of each process."""
        (self.bin / "python.calls").unlink(missing_ok=True)
        with (self.folder / "page").open("w") as page:
            do(ahead.steps([], loops=loops, later=later), Page(page))
        return sorted(call.split()[3:] for call in calls(self.bin, "python"))

    def test_two_processes_make_everything_once(self):
        self.assertEqual(self.make(), sorted(map(list, ahead.LANES)))
        self.assertEqual(self.make(), [])

    def test_only_what_is_made_from_something_that_changed_is_made_again(self):
        self.make()
        (self.numba / "dense-loops.stamp").write_text("of other sources")
        self.assertEqual(self.make(), [["dense-loops"]])
        (self.models / ahead.SHIPPED["scorer"]).rmdir()
        self.assertEqual(self.make(), [["scorer"]])
        self.lock.write_text("weights==2")
        self.assertEqual(self.make(), [["encoder", "other-precisions"], ["scorer"]])

    def test_a_command_without_a_server_compiles_nothing_ahead(self):
        self.assertEqual(self.make(loops=False), [["encoder", "other-precisions"], ["scorer"]])

    def test_what_nobody_waits_for_is_left_to_a_set_up(self):
        later = ("other-precisions", "large-loops")
        self.assertEqual(self.make(later=later), [["encoder", "dense-loops"], ["scorer", "sparse-loops"]])
        self.assertEqual((self.make(later=later), self.make()), ([], [["large-loops"], ["other-precisions"]]))

    def test_what_was_made_before_a_failure_stays_made(self):
        stand_in(
            self.bin,
            "python",
            "case $* in *encoder*) echo encoder; echo no memory; exit 1;; esac; echo $6; echo $5; echo $4",
        )
        with self.assertRaisesRegex(LaunchError, "(?s)making encoder, dense-loops.*no memory"):
            self.make()
        stand_in(self.bin, "python", TASKS.format(made=self.folder / "made"))
        self.assertEqual(self.make(), [["dense-loops", "other-precisions"]])
