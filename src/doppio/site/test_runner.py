"""Runs all suites and sums them up in one last line."""

import unittest
from typing import Any

from django.test.runner import DiscoverRunner


class SummingRunner(DiscoverRunner):
    """Django's runner; its last line is `N passed, N failed, N skipped`."""

    def suite_result(self, suite: Any, result: unittest.TestResult, **kwargs: Any) -> int:
        # A test whose parts failed several times is one test that failed.
        wrong = [test for test, _ in result.failures + result.errors] + list(result.unexpectedSuccesses)
        failed = len({getattr(test, "test_case", test).id() for test in wrong})
        skipped = len(result.skipped)
        self.counts = (result.testsRun - failed - skipped, failed, skipped)
        return failed

    def run_tests(self, test_labels: list[str], **kwargs: Any) -> int:
        self.counts = (0, 0, 0)
        failed = super().run_tests(test_labels, **kwargs)
        passed, wrong, skipped = (max(count, 0) for count in self.counts)
        print(f"{passed} passed, {wrong} failed, {skipped} skipped", flush=True)
        return failed if passed + wrong else 1
