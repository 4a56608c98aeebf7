"""Texts of the documents that were read last, so that a question does not have the database unpack them again."""

import threading
from collections import OrderedDict
from collections.abc import Mapping

# Letters that are kept by each process; a letter takes one byte or, where a text has others than Latin ones, more.
MOST_LETTERS = 32_000_000


class TextsAtHand:
    """Whole texts by primary key and digest; a document that changes has another digest."""

    def __init__(self, most: int = MOST_LETTERS) -> None:
        self._most = most
        self._lock = threading.Lock()
        self._texts: OrderedDict[tuple[int, str], str] = OrderedDict()
        self._letters = 0

    def of(self, documents: Mapping[int, str]) -> dict[int, str]:
        """Those that are at hand, by primary key, given digests."""
        with self._lock:
            found = {}
            for key in documents.items():
                if key in self._texts:
                    self._texts.move_to_end(key)
                    found[key[0]] = self._texts[key]
            return found

    def keep(self, texts: Mapping[tuple[int, str], str]) -> None:
        """Let texts be at hand; those that were not asked for the longest time make room."""
        with self._lock:
            for key, text in texts.items():
                if key not in self._texts and len(text) <= self._most // 4:
                    self._texts[key] = text
                    self._letters += len(text)
            while self._letters > self._most:
                _, gone = self._texts.popitem(last=False)
                self._letters -= len(gone)


texts_at_hand = TextsAtHand()
