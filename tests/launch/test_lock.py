"""One at a time, and everybody else is told who that is."""

import os
import tempfile
import unittest
from pathlib import Path

from doppio.launch.lock import Lock, Taken


class Locks(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.path = Path(place.name) / "var" / "served.lock"

    def test_the_second_one_hears_what_the_first_says_last(self):
        first, second = Lock(self.path), Lock(self.path)
        first.take(state="starting", command="demo", long="x" * 100)
        first.say(state="running", address="http://127.0.0.1:1")
        with self.assertRaises(Taken) as taken:
            second.take()
        self.assertEqual(
            taken.exception.holder, {"process": os.getpid(), "state": "running", "address": "http://127.0.0.1:1"}
        )
        self.assertEqual(self.path.stat().st_mode & 0o077, 0)
        first.release()
        second.take(state="starting")
        self.assertEqual(second.holder()["state"], "starting")
        second.release()

    def test_who_waits_is_told_once_and_goes_on_when_it_is_free(self):
        first, second, told = Lock(self.path), Lock(self.path), []
        first.take(command="setup")

        def hear(holder):
            told.append(holder["command"])
            first.release()

        second.wait(hear, command="test")
        self.assertEqual((told, second.holder()["command"]), (["setup"], "test"))
        second.release()

    def test_it_goes_along_to_another_program_and_ends_with_it(self):
        first = Lock(self.path)
        first.take()
        copy = os.dup(first.hand_on())
        self.assertTrue(os.get_inheritable(first.hand_on()))
        first.release()
        with self.assertRaises(Taken):
            Lock(self.path).take()
        os.close(copy)
        Lock(self.path).take()
