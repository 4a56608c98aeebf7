"""Steps of a start: their order, what they say, and what happens when one fails."""

import io
import threading
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from doppio.launch.errors import LaunchError
from doppio.launch.programs import run
from doppio.launch.steps import Page, Step, do, step


class Terminal(io.StringIO):
    def isatty(self):
        return True


class Order(unittest.TestCase):
    @settings(max_examples=60)
    @given(st.lists(st.sets(st.integers(0, 7)), min_size=1, max_size=8))
    def test_every_step_begins_after_all_that_it_needs(self, needs):
        done, lock = [], threading.Lock()

        def work(number, before):
            with lock:
                self.assertLessEqual(before, set(done))
                done.append(number)
            return "done"

        steps = []
        for number, given_needs in enumerate(needs):
            before = {need for need in given_needs if need < number}
            steps.append(Step(str(number), lambda _, n=number, b=before: work(n, b), tuple(map(str, before))))
        do(steps[::-1], Page(io.StringIO()))
        self.assertEqual(sorted(done), list(range(len(needs))))

    def test_steps_that_do_not_need_each_other_run_side_by_side(self):
        meet = threading.Barrier(3, timeout=20)
        do([Step(name, lambda _: str(meet.wait())) for name in "abc"], Page(io.StringIO()))

    def test_after_a_failure_nothing_begins_and_what_runs_is_waited_for(self):
        failed, told = threading.Event(), []

        def fails(_note):
            failed.set()
            raise LaunchError("no disk")

        def goes_on(_note):
            self.assertTrue(failed.wait(20))
            told.append("ended")
            return "done"

        page = io.StringIO()
        steps = [Step("bad", fails), Step("long", goes_on), Step("later", lambda _: told.append("no"), ("bad",))]
        with self.assertRaisesRegex(LaunchError, "no disk"):
            do(steps, Page(page))
        self.assertEqual(told, ["ended"])
        self.assertIn("bad ... failed\n", page.getvalue())
        self.assertIn("long ... done", page.getvalue())


class Said(unittest.TestCase):
    def setUp(self):
        self.now = 0.0

    def page(self, out):
        return Page(out, clock=lambda: self.now)

    def test_a_step_says_what_it_did_and_how_long_it_took(self):
        out = io.StringIO()

        def work():
            self.now = 2.04
            return "up to date"

        step("tables", work, self.page(out))
        self.assertEqual(out.getvalue(), "  tables ... up to date (2.0 s)\n")

    def test_a_step_that_fails_says_so_and_passes_the_error_on(self):
        out = io.StringIO()
        with self.assertRaises(ZeroDivisionError):
            step("tables", lambda: str(1 / 0), self.page(out))
        self.assertEqual(out.getvalue(), "  tables ... failed\n")

    def test_what_takes_long_says_so_now_and_then_where_there_is_no_terminal(self):
        out = io.StringIO()
        page = self.page(out)
        page.begin("interface packages")
        page.note("interface packages", "214 fetched")
        for self.now in range(25):
            page.show()
        self.assertEqual(
            out.getvalue(),
            "  interface packages: 214 fetched, 10 s\n  interface packages: 214 fetched, 20 s\n",
        )

    def test_a_terminal_has_one_line_for_all_that_runs(self):
        out = Terminal()
        page = self.page(out)
        page.begin("one")
        page.begin("two")
        page.note("two", "40 %")
        self.now = 3.0
        page.show()
        self.assertIn("one: 3 s   two: 40 %, 3 s", out.getvalue())
        page.end("one", "there")
        self.assertTrue(out.getvalue().endswith("  one ... there (3.0 s)\n"))
        self.assertEqual(out.getvalue().count("\n"), 1)


class Programs(unittest.TestCase):
    def test_a_program_that_fails_is_told_with_the_end_of_its_output(self):
        with self.assertRaisesRegex(LaunchError, r"(?s)trying: .*ended with status 3\n.*the reason"):
            run(["sh", "-c", "echo the reason >&2; exit 3"], "trying")
        with self.assertRaisesRegex(LaunchError, "no-such-program is not installed"):
            run(["no-such-program"], "trying")

    def test_every_line_is_heard_as_it_comes_and_all_of_it_is_returned(self):
        heard = []
        self.assertEqual(run(["printf", "a\\nb\\n"], "trying", heard=heard.append), "a\nb\n")
        self.assertEqual(heard, ["a", "b"])
