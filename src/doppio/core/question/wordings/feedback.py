"""Feedback from the first hits: their words are added for branches of terms, their vectors for branches of vectors.

References
----------
.. [1] V. Lavrenko, W. B. Croft, "Relevance-based language models", SIGIR 2001; mixed with the question as in
   N. Abdul-Jaleel and others, "UMass at TREC 2004: Novelty and HARD" (RM3).
.. [2] J. Rocchio, "Relevance feedback in information retrieval", The SMART Retrieval System, 1971.
"""

from collections import Counter
from collections.abc import Sequence

import numpy as np

from doppio.core.kinds import Setting, Settings, number, whole
from doppio.core.question.kind import Corpus, Wording
from doppio.core.text.stop_words import STOP_WORDS
from doppio.core.text.units import folded_words


class Feedback:
    """See the module. What is right about the first hits is reinforced, and what is wrong about them too."""

    name, title, order = "feedback", "feedback from the first hits", 2
    summary = "{terms} terms of {hits} hits"
    settings: tuple[Setting, ...] = (
        whole("hits", "First hits", 1, 50, 5),
        whole("terms", "Terms added", 1, 100, 10),
        number("share", "Share of the added terms", 0, 0.95, 0.5, help="of all that is searched by; 0: none"),
        number("pull", "Pull of the vectors", 0, 10, 0.5, help="times the mean vector of the hits is added"),
    )

    def wordings(self, question: str, corpus: Corpus, settings: Settings) -> Sequence[Wording]:
        chunks, scores = corpus.first_hits()
        chunks, scores = chunks[: settings["hits"]], scores[: settings["hits"]].astype(np.float64)
        if not len(chunks):
            return []
        # Of scores that may be below 0 the least of these hits counts for nothing, and all the same where they are.
        lifted = scores - scores.min() if scores.min() < 0 else scores
        shares = lifted / lifted.sum() if lifted.sum() > 0 else np.full(len(scores), 1 / len(scores))
        stopped = STOP_WORDS.get(corpus.language, frozenset())
        model: Counter[str] = Counter()
        for share, text in zip(shares.tolist(), corpus.texts(chunks.tolist()), strict=True):
            words = [word for word in folded_words(text) if word and word not in stopped and not word.isdigit()]
            for word, times in Counter(words).items():
                model[word] += share * times / len(words)  # type: ignore[assignment]
        asked = [word for word in folded_words(question) if word]
        added = [word for word, _ in sorted(model.items(), key=lambda one: (-one[1], one[0])) if word not in asked]
        added = added[: settings["terms"]]
        total = sum(model[word] for word in added)
        # The weights of all words add up to the words of the question, so that scores keep their scale.
        weights = {word: (1 - settings["share"]) * times for word, times in Counter(asked).items()}
        weights |= {word: settings["share"] * len(asked) * model[word] / total for word in added if total}
        return [
            Wording(
                " ".join([question.strip(), *added]),
                f"feedback from {len(chunks)} hits",
                {word: weight for word, weight in weights.items() if weight > 0},
                tuple(chunks.tolist()),
                settings["pull"],
            )
        ]


KIND = Feedback()
