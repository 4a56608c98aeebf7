"""How alike two rankings are: beside a plain sum over very many places, and what must hold of any two."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from doppio.core.measure.overlap import matched, overlap, rank_biased_overlap

PLACES = st.lists(st.builds(lambda at: (0, 10 * at, 10 * at + 10), st.integers(0, 12)), max_size=8, unique=True)


def slow(first, second, p, depth=4000):
    """The sum of the paper's first equation, where both lists go on as they ended: what they share goes on too."""
    total = 0.0
    short, long = sorted((first, second), key=len)
    for d in range(1, depth):
        shared = len(set(first[:d]) & set(second[:d])) / d
        if d > len(short):
            # What the shorter has not shown yet is taken to be shared as its end was.
            end = len(set(short) & set(long[: len(short)])) / len(short)
            shared = (len(set(short) & set(long[:d])) + end * (min(d, len(long)) - len(short))) / min(d, len(long))
        total += (1 - p) * p ** (d - 1) * shared
    return total


class Overlap(unittest.TestCase):
    @given(PLACES, PLACES, st.floats(0.5, 0.95))
    def test_rank_biased_overlap_is_its_sum(self, first, second, p):
        found = rank_biased_overlap(first, second, p)
        if first and second:
            self.assertAlmostEqual(found, slow(first, second, p), places=6)
        else:
            self.assertEqual(found, float(first == second))

    @given(PLACES, PLACES)
    def test_both_are_shares_that_do_not_hang_on_who_is_first(self, first, second):
        for measure in (overlap, rank_biased_overlap):
            found = measure(first, second)
            self.assertTrue(0 <= found <= 1 + 1e-9)
            self.assertAlmostEqual(found, measure(second, first))
            self.assertAlmostEqual(measure(first, first), 1.0)

    def test_what_stands_first_counts_most(self):
        a, b, c, d = ((0, at, at + 10) for at in (0, 20, 40, 60))
        first = rank_biased_overlap([a, b, c], [a, b, d])
        self.assertGreater(first, rank_biased_overlap([a, b, c], [d, b, c]))
        self.assertEqual(overlap([a, b, c], [a, b, d]), overlap([a, b, c], [d, b, c]))

    def test_passages_of_other_cuts_are_the_same_where_they_share_half_of_the_shorter(self):
        whole, inside, beside, elsewhere = (0, 0, 100), (0, 10, 40), (0, 90, 160), (1, 0, 100)
        self.assertEqual(matched([whole], [inside, beside, elsewhere]), ([0], [0, 2, 3]))
        # Each is matched once, the best first.
        self.assertEqual(matched([whole], [(0, 50, 120), inside])[1], [0, 2])
