"""Texts of the documents that were read last, so that a question does not have the database unpack them again."""

from collections.abc import Mapping

from doppio.core.last_used import LastUsed

# Letters that are kept by each process; a letter takes one byte or, where a text has others than Latin ones, more.
MOST_LETTERS = 32_000_000


class TextsAtHand:
    """Whole texts by primary key and digest; a document that changes has another digest."""

    def __init__(self, most: int = MOST_LETTERS) -> None:
        self._texts: LastUsed[tuple[int, str], str] = LastUsed(most, len)

    def of(self, documents: Mapping[int, str]) -> dict[int, str]:
        """Those that are at hand, by primary key, given digests."""
        return {pk: text for (pk, _), text in self._texts.of(documents.items()).items()}

    def keep(self, texts: Mapping[tuple[int, str], str]) -> None:
        """Let texts be at hand, but for any that would take a great part of the room."""
        self._texts.keep({key: text for key, text in texts.items() if len(text) <= self._texts.room // 4})


texts_at_hand = TextsAtHand()
