"""A question with more words, which count for less than its own."""

from collections import Counter
from collections.abc import Sequence

from doppio.core.question.kind import Wording
from doppio.core.text.units import folded_words


def with_words(question: str, words: Sequence[str], weight: float, source: str) -> list[Wording]:
    """One wording with some words more; none where there are none."""
    if not words:
        return []
    asked: dict[str, float] = {word: float(times) for word, times in Counter(folded_words(question)).items() if word}
    more = {word: weight for word in words if word not in asked}
    return [Wording(" ".join([question.strip(), *more]), source, {**asked, **more})] if more else []
