"""How long a turn will be waited for, and when that is too long."""

LONGEST_WAIT = 30.0
# A turn so short that a line of waiting people is gone at once.
SOON = 1.0
# What the server tells a view in the environment of a request: seconds that it waited for a thread already, and in
# how many to come back where it shall.
WAITED, COME_BACK = "doppio.waited", "doppio.come_back"


class Usual:
    """What a turn takes usually; the last ones count most."""

    def __init__(self) -> None:
        self._seconds = 0.0

    def took(self, seconds: float) -> None:
        """Learn from a turn that ended."""
        self._seconds = seconds if not self._seconds else 0.8 * self._seconds + 0.2 * seconds

    def until_due(self, before: int, at_once: int) -> float:
        """Seconds until somebody's turn who has so many before him, where so many are at work."""
        return self._seconds * (before + 1) / at_once


def too_long(expected: float, waiting: int, most: int, patience: float) -> bool:
    """Whether somebody should rather come again: where it takes longer than they wait, or `most` wait already and
    will not soon be gone."""
    return expected > patience or (waiting >= most and expected > SOON)
