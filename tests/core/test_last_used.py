"""What was used last is at hand, against a list that is gone through."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from doppio.core.last_used import LastUsed

KEYS = st.lists(st.integers(0, 9), max_size=4)


class Held(unittest.TestCase):
    @given(st.integers(1, 12), st.lists(st.tuples(st.booleans(), KEYS), max_size=20))
    def test_it_holds_what_a_list_would_that_forgets_its_first(self, room, steps):
        shelf, listed = LastUsed(room, len), []
        for asks, keys in steps:
            once = list(dict.fromkeys(keys))
            if asks:
                found = [key for key in once if key in listed]
                self.assertEqual(shelf.of(keys), {key: "x" * key for key in found})
                listed = [key for key in listed if key not in found] + found
                continue
            shelf.keep({key: "x" * key for key in once})
            listed += [key for key in once if key not in listed]
            while sum(listed) > room and len(listed) > 1:
                listed.pop(0)
        self.assertEqual(shelf.of(range(10)).keys(), set(listed))
