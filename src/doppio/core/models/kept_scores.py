"""Pairs that were scored are not scored again."""

import threading
from collections import OrderedDict
from collections.abc import Sequence

import numpy as np

from doppio.core.fingerprint import text_digest
from doppio.core.models.answerable import Answerable
from doppio.core.models.joint import JointScorer, Passage, Scored, Window
from doppio.core.models.scorer_folder import Calibration

# A pair takes about 200 bytes.
PAIRS_KEPT = 1 << 18


class KeptScores:
    """A scorer that keeps what it said of the last pairs; safe to use from several threads."""

    def __init__(self, scorer: JointScorer, most: int = PAIRS_KEPT) -> None:
        self.scorer = scorer
        self._most = most
        self._kept: OrderedDict[tuple[str, str], tuple[float, Window | None]] = OrderedDict()
        self._lock = threading.Lock()

    @property
    def name(self) -> str:
        return self.scorer.name

    @property
    def digest(self) -> str:
        return self.scorer.digest

    @property
    def measure(self) -> str:
        return self.scorer.measure

    @property
    def calibration(self) -> Calibration | None:
        return self.scorer.calibration

    @property
    def price(self) -> float:
        """Of a million tokens, where an endpoint scores."""
        return float(getattr(self.scorer, "price", 0.0))

    @property
    def blend(self) -> float:
        return self.scorer.blend

    @property
    def answerable(self) -> Answerable | None:
        return getattr(self.scorer, "answerable", None)

    def score(self, question: str, passages: Sequence[Passage]) -> Scored:
        asked = text_digest(question)
        keys = [(asked, text_digest(passage.text)) for passage in passages]
        with self._lock:
            found = {key: self._kept[key] for key in keys if key in self._kept}
        fresh = {key: passage for key, passage in zip(keys, passages, strict=True) if key not in found}
        if fresh:
            scored = self.scorer.score(question, list(fresh.values()))
            found |= zip(fresh, zip(scored.scores.tolist(), scored.windows, strict=True), strict=True)
        with self._lock:
            for key in keys:
                self._kept[key] = found[key]
                self._kept.move_to_end(key)
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
        return Scored(np.array([found[key][0] for key in keys], np.float32), tuple(found[key][1] for key in keys))
