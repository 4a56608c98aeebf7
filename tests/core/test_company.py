"""Who answers beside whom: counted over processes, and what a question does with the cores then."""

import os
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from unittest import mock

import numpy as np

from doppio.core.branches.dense.exact import exact_candidates
from doppio.core.branches.dense.metric import prepared
from doppio.core.branches.sparse.vocabulary import Vocabulary
from doppio.core.company import PLACES, Company
from doppio.core.kernels import products, spans
from doppio.core.models import session
from doppio.core.models.session import Spreading
from tests.core.corpus import MODELS

GRAPH = MODELS / "compact-english" / "encoder.onnx"


class Companies(unittest.TestCase):
    def test_it_is_counted_over_forked_processes_and_a_new_one_begins_at_nothing(self):
        asked, inside, outside = Company(), os.pipe(), os.pipe()

        def child(place):
            pid = os.fork()
            if pid:
                self.assertEqual(os.read(inside[0], 1), b"x")
                return pid
            asked.take(place)
            with asked.one_more():
                os.write(inside[1], b"x")
                os.read(outside[0], 1)
            os._exit(0 if not asked.busier else 1)

        asked.take(1)
        self.assertTrue(asked.alone)
        pid = child(2)
        self.assertTrue(asked.alone)
        with asked.one_more():
            self.assertFalse(asked.alone)
            self.assertFalse(asked.busier)
            with asked.one_more():
                self.assertTrue(asked.busier)
        os.write(outside[1], b"x")
        self.assertEqual(os.waitpid(pid, 0)[1], 0)
        # One that dies at its work leaves its count, which whoever takes its place begins anew, or who saw it die.
        os.kill(child(2), 9)
        os.wait()
        with asked.one_more(), asked.one_more():
            self.assertFalse(asked.alone)
            self.assertTrue(asked.busier)
            asked.leave(2)
            self.assertFalse(asked.busier)
            asked_again = child(2)
        os.kill(asked_again, 9)
        os.wait()
        for handle in (*inside, *outside):
            os.close(handle)

    def test_what_fails_is_no_longer_counted(self):
        asked = Company()
        with self.assertRaises(RuntimeError), asked.one_more():
            raise RuntimeError
        with asked.one_more():
            self.assertTrue(asked.alone)

    def test_a_place_that_is_not_there_is_refused(self):
        for place in (-1, PLACES):
            with self.assertRaisesRegex(ValueError, f"between 0 and {PLACES - 1}"):
                Company().take(place)

    def test_who_is_busier_leaves_it_to_others_for_a_while_or_until_an_answer_ends(self):
        asked = Company()
        asked.take(1)
        asked.take(2)
        begun = time.monotonic()
        asked.wait_while_busier(20)
        with asked.one_more():
            asked.wait_while_busier(0.05)
        self.assertLess(time.monotonic() - begun, 10)
        working, ended = threading.Event(), threading.Event()

        def answer():
            with asked.one_more():
                working.set()
                ended.wait(20)

        thread = threading.Thread(target=answer)
        thread.start()
        working.wait()
        waiting = threading.Thread(target=asked.wait_while_busier, args=(20,))
        waiting.start()
        ended.set()
        waiting.join(10)
        self.assertFalse(waiting.is_alive())
        thread.join()


class Beside(unittest.TestCase):
    """With a board of its own: those that test beside this were forked from the same process."""

    def setUp(self):
        self.company = Company()
        for module in (spans, session):
            self.enterContext(mock.patch.object(module, "company", self.company))


class Spread(Beside):
    def spans_of(self, count):
        return spans.in_spans(count, lambda span: span, 100)

    def test_who_is_alone_takes_all_threads_and_who_is_not_takes_one(self):
        with mock.patch.object(spans, "THREADS", 3):
            with self.company.one_more():
                self.assertEqual(self.spans_of(100), [(0, 34), (34, 68), (68, 100)])
                self.assertEqual(self.spans_of(99), [(0, 99)])
            with self.company.one_more(), self.company.one_more():
                self.assertEqual(self.spans_of(100), [(0, 100)])

    def test_what_is_found_is_the_same(self):
        random = np.random.default_rng(0)
        rows, questions = random.normal(size=(30_000, 24)), random.normal(size=(1, 24))
        unit = (rows / np.linalg.norm(rows, axis=1, keepdims=True)).astype(np.float32)
        asked, best = questions.astype(np.float32), np.argsort(-(unit.astype(np.float64) @ questions[0]))[:10]
        vectors = prepared(unit, np.ones(len(unit), np.float32), "cosine")
        words = Vocabulary(*[np.empty(0, np.uint8), np.zeros(1, np.int64)] * 2, unit)
        many = np.repeat(asked, 3, axis=0)
        with ThreadPoolExecutor(2) as pool, mock.patch.object(products, "_shares", [True]):
            for others in (1, 2):
                together = threading.Barrier(others)

                def find(together=together):
                    with self.company.one_more():
                        together.wait(20)
                        found = exact_candidates(vectors, asked, 10, np.empty(0, np.bool_))[0]
                        near = words.nearest(many, [np.empty(0, np.int64)] * 3, 10)[0]
                        together.wait(20)
                    return found, near

                for found, near in pool.map(lambda _: find(), range(others)):
                    self.assertLessEqual(set(best.tolist()), set(found.tolist()))
                    self.assertEqual(near.tolist(), [best.tolist()] * 3)


class OneCoreEach(Beside):
    def test_numbers_are_the_same_to_the_bit_and_one_core_is_kept_to_only_beside_others(self):
        graph = Spreading(GRAPH, 2)
        names = [output.name for output in graph.outputs()]
        random = np.random.default_rng(1)
        used = []
        wide, run = graph._wide, type(graph._wide).run

        def noted(session, *given):
            used.append("wide" if session is wide else "narrow")
            return run(session, *given)

        def ask(texts, length):
            ids = random.integers(1000, 20_000, (texts, length))
            given = {one.name: ids if "ids" in one.name else np.ones_like(ids) for one in graph.inputs()}
            found = graph.run(names, given, texts)
            for mine, other in zip(found, wide.run(names, given), strict=True):
                np.testing.assert_array_equal(mine, other)

        with mock.patch.object(type(wide), "run", noted):
            with self.company.one_more():
                ask(1, 12)
            self.assertIsNone(graph._narrow)
            with self.company.one_more(), self.company.one_more():
                ask(1, 7)
                end = time.monotonic() + 30
                while graph._narrow is None and time.monotonic() < end:
                    time.sleep(0.01)
                for length in (3, 12, 60):
                    ask(1, length)
                ask(4, 9)
            ask(1, 5)
        self.assertEqual(used[::2], ["wide", "wide", "narrow", "narrow", "narrow", "wide", "wide"])

    def test_where_one_thread_was_wanted_nothing_is_opened_twice(self):
        graph = Spreading(GRAPH, 1)
        ids = np.ones((1, 4), np.int64)
        with self.company.one_more(), self.company.one_more():
            graph.run(None, {one.name: ids for one in graph.inputs()}, 1)
        self.assertFalse(graph._opening.locked())


if __name__ == "__main__":
    unittest.main()
