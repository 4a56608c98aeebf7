"""What was used last stays at hand, as much of it as there is room for; safe to use from several threads."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Mapping
from typing import Generic, TypeVar

K = TypeVar("K")
V = TypeVar("V")


class LastUsed(Generic[K, V]):
    """Things by their keys.

    Parameters
    ----------
    room : what may be held together; one thing alone may be more
    size : what a thing takes of it; each takes 1 where it is left out
    """

    def __init__(self, room: int, size: Callable[[V], int] = lambda _: 1) -> None:
        self.room = room
        self._size = size
        self._held = 0
        self._lock = threading.Lock()
        self._kept: OrderedDict[K, V] = OrderedDict()

    def of(self, keys: Iterable[K]) -> dict[K, V]:
        """Those of some keys that are at hand."""
        with self._lock:
            found = {key: self._kept[key] for key in keys if key in self._kept}
            for key in found:
                self._kept.move_to_end(key)
        return found

    def keep(self, found: Mapping[K, V]) -> None:
        """Let things be at hand; those that were not used for the longest time make room."""
        with self._lock:
            for key, thing in found.items():
                if key not in self._kept:
                    self._kept[key] = thing
                    self._held += self._size(thing)
            while self._held > self.room and len(self._kept) > 1:
                _, gone = self._kept.popitem(last=False)
                self._held -= self._size(gone)
