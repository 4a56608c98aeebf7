"""What is started again, when, and in which order; with processes that sleep, and a database that says so."""

import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from django.db import connection

from doppio.command.children import Door, fork, stop
from doppio.command.restarts import AT_MOST, PAUSES, WELL_AFTER, GaveUp, Restarts
from doppio.command.supervisor import LOG_BYTES, Supervisor, _shorten
from doppio.core.errors import DoppioError
from doppio.library.planned import planned_once
from tests.server.committed import Committed


def sleep():
    time.sleep(600)


def ended(child):
    while child.poll() is None:
        time.sleep(0.01)
    return child.poll()


class Connections(Committed):
    def test_a_child_has_a_connection_of_its_own(self):
        def backend():
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_backend_pid()")
                return cursor.fetchone()[0]

        own, (outside, inside) = backend(), os.pipe()
        with planned_once() as cursor:
            cursor.execute("SELECT %s::int", [1])
        children = [fork(lambda: os.write(inside, f"{backend()}\n".encode()) and None) for _ in range(2)]
        self.assertEqual([ended(child) for child in children], [0, 0])
        found = set(map(int, os.read(outside, 100).split()))
        self.assertEqual(len(found - {own}), 2)
        self.assertNotIn(backend(), found)
        for end in (outside, inside):
            os.close(end)


class Imports(unittest.TestCase):
    def test_a_loop_from_outside_may_multiply_matrices_after_a_start_that_did_not_look_for_it(self):
        multiplied = (
            "import sys, numba, numpy as np\n"
            "from doppio.command.serving import _import_loops\n"
            "_import_loops()\n"
            "early = 'scipy.linalg' in sys.modules\n"
            "print(early, numba.njit(lambda a, b: np.dot(a, b))(np.eye(2), np.full((2, 2), 3.0)).sum())\n"
        )
        said = subprocess.run([sys.executable, "-c", multiplied], capture_output=True, text=True, check=True).stdout
        self.assertEqual(said.split(), ["False", "12.0"])


class Asked(unittest.TestCase):
    """Asked to stop in a moment in which Python passes over whatever is raised, as at the end of an object."""

    UNHEARD = """
import os, signal, sys, time
from doppio.command import asked_to_stop
class Last:
    def __del__(self):
        os.kill(os.getpid(), signal.{name})
        time.sleep(0.01)
asked_to_stop.listen()
try:
    last = Last()
    del last
    print("went on", flush=True)
    time.sleep(20)
finally:
    asked_to_stop.heard()
    time.sleep(1.5 * asked_to_stop.AGAIN)
    print("put away", flush=True)
"""

    def test_it_is_heard_all_the_same_and_once(self):
        for name, status in (("SIGTERM", 143), ("SIGINT", -signal.SIGINT)):
            begun = time.monotonic()
            done = subprocess.run(
                [sys.executable, "-c", self.UNHEARD.format(name=name)], capture_output=True, text=True, timeout=60,
                # As a shell starts what it puts in the background.
                preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_IGN),
            )  # fmt: skip
            self.assertEqual((done.returncode, done.stdout), (status, "went on\nput away\n"), done.stderr)
            self.assertLess(time.monotonic() - begun, 15)


class Pauses(unittest.TestCase):
    def setUp(self):
        self.now = 0.0
        self.restarts = Restarts(lambda: self.now)

    def lives(self, seconds):
        self.restarts.started()
        self.now += seconds
        return self.restarts.ended()

    def test_they_grow_while_it_ends_soon_after_its_start(self):
        self.assertEqual([self.lives(1.0) for _ in PAUSES], list(PAUSES))
        self.assertEqual(sorted(PAUSES), list(PAUSES))

    def test_one_that_was_well_begins_anew(self):
        for _ in range(3):
            self.lives(1.0)
        self.assertEqual(self.lives(WELL_AFTER), PAUSES[0])

    def test_there_is_an_end_to_it(self):
        for _ in range(AT_MOST):
            self.lives(0.0)
        with self.assertRaises(GaveUp):
            self.lives(0.0)


class Children(unittest.TestCase):
    def test_their_status_tells_how_they_ended(self):
        def refuse():
            raise DoppioError("no such thing")

        def broken():
            raise KeyError("x")

        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "log"
            self.assertEqual(
                [ended(fork(work, log)) for work in (lambda: None, lambda: 3, refuse, broken)], [0, 3, 2, 1]
            )
            said = log.read_text()
            self.assertIn("doppio: no such thing\n", said)
            self.assertIn("KeyError: 'x'", said)
            self.assertEqual(log.stat().st_mode & 0o077, 0)

    def test_one_that_does_not_hear_is_killed(self):
        def deaf():
            signal.signal(signal.SIGTERM, signal.SIG_IGN)
            print("deaf", flush=True)
            time.sleep(600)

        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "log"
            child = fork(deaf, log)
            while not log.exists() or not log.read_text():
                time.sleep(0.01)
            stop(child, signal.SIGTERM, 0.1)
        self.assertEqual(child.poll(), -signal.SIGKILL)

    def test_those_that_were_started_before_the_door_opened_wait_for_it_and_others_do_not(self):
        door, went_on = Door(), os.pipe()

        def pass_by(name):
            def work():
                door.wait()
                os.write(went_on[1], name)

            return work

        early = [fork(pass_by(b"a")), fork(pass_by(b"b"))]
        time.sleep(0.2)
        self.assertEqual([child.poll() for child in early], [None, None])
        door.open()
        self.assertEqual([ended(child) for child in early], [0, 0])
        # By now another file has the number that the door had.
        with Path(os.devnull).open():
            self.assertEqual(ended(fork(pass_by(b"c"))), 0)
        self.assertEqual(sorted(os.read(went_on[0], 9)), sorted(b"abc"))

    def test_they_end_with_their_parent(self):
        def parent():
            child = fork(sleep)
            print(child.pid, flush=True)
            time.sleep(600)

        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "log"
            middle = fork(parent, log)
            while not log.exists() or not log.read_text().endswith("\n"):
                time.sleep(0.01)
            stop(middle, signal.SIGKILL, 5)
            child = int(log.read_text())
            for _ in range(500):
                # Whoever takes in orphans may not have looked at this one yet.
                try:
                    if ") Z " in Path(f"/proc/{child}/stat").read_text():
                        return
                except FileNotFoundError:
                    return
                time.sleep(0.01)
        self.fail("it lives on")


class Database:
    """Stands for a cluster: its server sleeps, and answers when the test says so."""

    def __init__(self):
        self.server, self.well, self.settled = None, False, 0

    def settle(self):
        self.settled += 1

    def as_child(self):
        self.server = fork(sleep)
        return self.server

    def answers(self):
        return self.well


class Order(unittest.TestCase):
    def setUp(self):
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        self.now, self.database = 0.0, Database()
        self.said = []
        self.supervisor = Supervisor(self.database, Path(place.name), self.said.append, lambda: self.now)
        self.addCleanup(self.supervisor.stop)
        handlers = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}
        self.addCleanup(lambda: [signal.signal(*pair) for pair in handlers.items()])
        for name in ("job worker", "web server"):
            self.supervisor.keep(name, sleep)

    def running(self):
        return {kept.name: kept.child.pid for kept in self.supervisor._services if kept.child}

    def kill(self, pid):
        os.kill(pid, signal.SIGKILL)
        os.waitid(os.P_PID, pid, os.WEXITED | os.WNOWAIT)
        self.supervisor.look()

    def test_nothing_stands_on_a_database_that_does_not_answer(self):
        self.supervisor.look()
        self.assertEqual(self.running(), {})
        self.database.well = True
        self.supervisor.look()
        self.assertEqual(sorted(self.running()), ["job worker", "web server"])

    def test_one_that_is_wanted_at_once_waits_for_no_database_and_is_kept_up_as_the_others(self):
        ended = []
        self.supervisor.keep("early", sleep, at_once=True, gone=lambda: ended.append("early"))
        first = self.running()
        self.assertEqual(list(first), ["early"])
        self.database.well = True
        self.supervisor.look()
        self.assertEqual(self.running()["early"], first["early"])
        self.kill(first["early"])
        self.assertNotIn(self.running().get("early"), (None, first["early"]))
        self.assertEqual(ended, ["early"])

    def test_what_dies_is_started_again_and_nothing_else(self):
        self.database.well = True
        self.supervisor.look()
        before = self.running()
        self.kill(before["web server"])
        after = self.running()
        self.assertNotEqual(after["web server"], before["web server"])
        self.assertEqual(after["job worker"], before["job worker"])
        self.assertRegex(
            self.said[0], "the web server ended with signal 9 and is started again; see .*web-server.log"
        )

    def test_a_database_that_comes_back_keeps_its_port_and_gets_a_worker_that_knows_it(self):
        self.database.well = True
        self.supervisor.look()
        before, server = self.running(), self.database.server.pid
        self.database.well = False
        self.kill(server)
        self.supervisor.look()
        self.assertNotEqual(self.database.server.pid, server)
        self.kill(before["job worker"])
        self.assertNotIn("job worker", self.running())
        self.database.well = True
        self.now += PAUSES[-1]
        self.supervisor.look()
        after = self.running()
        self.assertEqual(after["web server"], before["web server"])
        self.assertNotEqual(after["job worker"], before["job worker"])
        self.assertEqual(self.database.settled, 1)

    def test_one_that_ends_again_and_again_ends_all_with_its_last_words(self):
        self.database.well = True

        def dies():
            raise DoppioError("no memory for it")

        self.supervisor.keep("broken", dies)
        with self.assertRaisesRegex(DoppioError, "(?s)the broken ends again and again.*broken.log.*no memory for it"):
            for _ in range(AT_MOST + 2):
                (broken,) = (kept for kept in self.supervisor._services if kept.name == "broken")
                if broken.child is None:
                    self.now += PAUSES[-1]
                    self.supervisor.look()
                os.waitid(os.P_PID, broken.child.pid, os.WEXITED | os.WNOWAIT)
                self.supervisor.look()

    def test_what_a_child_does_on_this_terminal_is_done_again_where_the_database_went_away(self):
        self.database.well = True
        with tempfile.TemporaryDirectory() as folder:
            tries = Path(folder) / "tries"
            server = []

            def work():
                with tries.open("a") as file:
                    file.write("x")
                if len(tries.read_text()) == 1:
                    os.kill(server[0], signal.SIGKILL)
                    time.sleep(0.3)
                    return 1
                return 0

            self.supervisor.look()
            server.append(self.database.server.pid)
            self.supervisor.do(work)
            self.assertEqual(tries.read_text(), "xx")
            with self.assertRaises(SystemExit) as refused:
                self.supervisor.do(lambda: 2)
            self.assertEqual(refused.exception.code, 2)


class Logs(unittest.TestCase):
    def test_a_long_one_is_put_aside_and_who_writes_goes_on(self):
        with tempfile.TemporaryDirectory() as folder:
            log = Path(folder) / "web-server.log"
            with log.open("ab", buffering=0) as writer:
                writer.write(b"x" * (LOG_BYTES + 1))
                _shorten(log)
                writer.write(b"later")
            self.assertEqual(log.read_text(), "later")
            self.assertEqual(log.with_suffix(".log.1").stat().st_size, LOG_BYTES + 1)
