"""Bounds at hand: those asked last stay, none that somebody reads is written over, a row is clean for its term."""

import threading
import unittest
from contextlib import ExitStack
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from doppio.core.branches.sparse.tops import Tops

ROWS = 6


def tops():
    with (
        mock.patch("doppio.core.branches.sparse.tops.ROWS_KEPT", ROWS),
        mock.patch("doppio.core.branches.sparse.tops.TERMS_IN_RANGES", ROWS),
    ):
        return Tops(256)


class Kept(unittest.TestCase):
    def setUp(self):
        self.made = []

    def make(self, term, fine, coarse):
        self.assertFalse(fine.any() or coarse.any())
        self.made.append(term)
        fine[term % len(fine)] = coarse[0] = term + 1
        return float(term)

    def assert_rows(self, held, terms, rows):
        self.assertEqual([float(term) for term in terms], held.steps[rows].tolist())
        self.assertEqual([term + 1 for term in terms], held.fine[rows].max(axis=1).tolist())
        self.assertEqual([1] * len(terms), (held.fine[rows] > 0).sum(axis=1).tolist())

    @given(st.lists(st.lists(st.integers(0, 11), max_size=ROWS), max_size=30))
    def test_a_term_is_made_again_only_where_as_many_others_were_asked_since(self, questions):
        held, last = tops(), []
        for question in questions:
            self.made = []
            with held.read(question, self.make) as rows:
                self.assert_rows(held, question, rows)
            expected = []
            for term in question:
                if term not in last[-ROWS:]:
                    expected.append(term)
                last = [other for other in last if other != term] + [term]
            self.assertEqual(self.made, expected)

    @given(st.lists(st.tuples(st.booleans(), st.lists(st.integers(0, 11), min_size=1, max_size=3)), max_size=30))
    def test_what_somebody_reads_stays_as_it_is_and_where_all_is_read_there_is_none(self, steps):
        held, open_now = tops(), []
        for begins, question in steps:
            if begins or not open_now:
                block = ExitStack()
                rows = block.enter_context(held.read(question, self.make))
                if rows is None:
                    reading = {term for _, terms, _ in open_now for term in terms}
                    self.assertGreater(len(reading | set(question)), ROWS)
                    block.close()
                else:
                    open_now.append((block, question, rows))
            else:
                open_now.pop(0)[0].close()
            for _, terms, rows in open_now:
                self.assert_rows(held, terms, rows)
        for block, _, _ in open_now:
            block.close()
        self.assertEqual(sum(held._readers), 0)

    def test_a_term_that_could_not_be_made_leaves_its_row_to_others(self):
        held = tops()

        def broken(term, fine, coarse):
            fine[:] = 1
            raise ZeroDivisionError

        for _ in range(2 * ROWS):
            with self.assertRaises(ZeroDivisionError), held.read([1], broken):
                pass
        with held.read(range(ROWS), self.make) as rows:
            self.assert_rows(held, range(ROWS), rows)

    def test_who_asks_for_what_is_there_does_not_wait_for_what_is_made(self):
        held, begun, goes_on = tops(), threading.Event(), threading.Event()
        with held.read([1], self.make):
            pass

        def slow(term, fine, coarse):
            begun.set()
            goes_on.wait(20)
            return self.make(term, fine, coarse)

        def ask():
            with held.read([2], slow):
                pass

        other = threading.Thread(target=ask)
        other.start()
        begun.wait(20)
        with held.read([1], self.make) as rows:
            self.assert_rows(held, [1], rows)
        self.assertEqual(self.made, [1])
        goes_on.set()
        other.join()
        self.assertEqual(self.made, [1, 2])
