"""The runner itself: what it counts, what it tells, and that a lane that dies is not taken for a success."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.running import jobs
from tests.running.outcomes import Collected, Outcome, broken, slowest_first, summary
from tests.running.work import work_of_all


class Some(unittest.TestCase):
    """Tests that are run by the tests below, and only by them."""

    def good(self):
        pass

    def bad(self):
        self.fail("bad")

    def broken(self):
        raise RuntimeError("broken")

    def left_out(self):
        self.skipTest("not here")

    def bad_twice(self):
        for part in range(2):
            with self.subTest(part):
                self.fail("bad")

    @unittest.expectedFailure
    def good_by_mistake(self):
        pass


class NeverReady(Some):
    @classmethod
    def setUpClass(cls):
        raise OSError("no database")


def outcome_of(*tests):
    result = Collected()
    unittest.TestSuite(tests).run(result)
    return result.outcome("some", 1.0)


class Counting(unittest.TestCase):
    def test_passed_failed_and_skipped_add_up(self):
        names = ("good", "good", "bad", "broken", "left_out", "bad_twice", "good_by_mistake")
        found = outcome_of(*map(Some, names))
        self.assertEqual((found.passed, len(found.failures), len(found.skipped)), (2, 4, 1))
        self.assertEqual(sum("bad_twice" in name for name, _ in found.failures), 1)

    def test_a_class_that_cannot_begin_has_failed_and_none_of_its_tests_passed(self):
        found = outcome_of(NeverReady("good"), NeverReady("good"))
        self.assertEqual((found.passed, len(found.failures)), (0, 1))
        self.assertIn("no database", found.failures[0][1])

    def test_the_last_line_is_well_only_if_something_ran_and_nothing_failed(self):
        good, check = Outcome("a", 1, passed=3), Outcome("ruff", 1, is_check=True)
        self.assertEqual(summary([good, check]), ("3 passed, 0 failed, 0 skipped", True))
        self.assertEqual(summary([good, broken("b", 1, "gone")]), ("3 passed, 1 failed, 0 skipped", False))
        self.assertEqual(summary([good, broken("ruff", 1, "E501", is_check=True)])[1], False)
        self.assertEqual(summary([Outcome("a", 1)])[1], False)
        self.assertEqual(summary([])[1], False)

    def test_seconds_are_told_slowest_first_and_those_of_next_to_nothing_together(self):
        rows = [Outcome("a", 2.0, worked=1.5), Outcome("b", 0.1), Outcome("c", 9.0), Outcome("d", 0.2, worked=0.1)]
        first, second, rest = (line.split() for line in slowest_first(rows))
        self.assertEqual((first, second), (["9.0", "s", "0.0", "s", "c"], ["2.0", "s", "1.5", "s", "a"]))
        self.assertEqual(rest[:5], ["0.3", "s", "0.1", "s", "2"])

    def test_work_is_that_of_a_process_and_of_all_that_it_started(self):
        busy = "import time; end = time.process_time() + 0.3\nwhile time.process_time() < end: pass"
        before = work_of_all()
        subprocess.run([sys.executable, "-c", busy], check=True)
        ended = work_of_all() - before
        with subprocess.Popen([sys.executable, "-c", f"{busy}\nprint(flush=True); input()"],
                              stdin=subprocess.PIPE, stdout=subprocess.PIPE) as lives:  # fmt: skip
            lives.stdout.readline()
            both = work_of_all() - before
            lives.communicate(b"\n")
        self.assertGreater(ended, 0.28)
        self.assertGreater(both, 0.56)


class Finding(unittest.TestCase):
    def test_every_test_module_is_part_of_a_suite(self):
        found = {job.name.rpartition(".")[0] for job in jobs.tests([])}
        root = jobs.ROOT / "tests"
        modules = {
            ".".join(("tests", *path.relative_to(root).with_suffix("").parts)) for path in root.rglob("test_*.py")
        }
        self.assertEqual(found, modules)

    def test_names_narrow_down_to_a_class_or_a_test(self):
        (one,) = jobs.tests(["tests.running.test_outcomes.Finding"])
        self.assertEqual((one.name, len(one.tests)), ("tests.running.test_outcomes.Finding", 4))
        (two,) = jobs.tests([f"{one.name}.test_names_narrow_down_to_a_class_or_a_test"])
        self.assertEqual((two.name, len(two.tests)), (one.name, 1))

    def test_a_name_that_is_no_test_is_refused(self):
        with self.assertRaises(SystemExit) as refused:
            jobs.tests(["tests.nothing"])
        self.assertIn("tests.nothing: cannot be loaded", str(refused.exception))

    def test_a_suite_runs_just_the_tests_of_its_job(self):
        name = f"{Some.__module__}.Some"
        result = Collected()
        jobs.suite(jobs.Tests(name, (f"{name}.good", f"{name}.bad"))).run(result)
        self.assertEqual((result.testsRun, len(result.failures)), (2, 1))


class Dying(unittest.TestCase):
    """Run by the test below: the process of its lane ends in the middle of it."""

    def end(self):
        os._exit(7)

    def goes_on(self):
        self.assertNotEqual(os.environ["DOPPIO_ARTIFACTS"], "")

    def says_why(self):
        print("printed here")
        subprocess.run(["sh", "-c", "echo printed there >&2"], check=True)
        self.fail("on purpose")


class Lanes(unittest.TestCase):
    def test_a_lane_that_dies_fails_its_job_and_the_next_one_is_done(self):
        from tests.running import databases
        from tests.running.lanes import run_all

        name = f"{Dying.__module__}.Dying"
        given = [jobs.Tests(name, (f"{name}.{test}",)) for test in ("end", "goes_on", "says_why")]
        check = jobs.Check("two programs", ((("true",), jobs.ROOT), (("sh", "-c", "echo why; exit 1"), jobs.ROOT)))
        with tempfile.TemporaryDirectory() as place:
            dead, well, bad, refused = run_all([*given, check], 1, databases.template(), Path(place), prefix="inner")
        self.assertIn("ended with status 7", dead.failures[0][1])
        self.assertEqual((well.passed, well.failures), (1, []))
        self.assertIn("printed here", bad.failures[0][1])
        self.assertIn("printed there", bad.failures[0][1])
        self.assertEqual(refused.failures, [("two programs", "why\n")])
