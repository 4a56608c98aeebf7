"""The step that reranks: one scorer or several over one shortlist."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from doppio.core.fingerprint import fingerprint
from doppio.core.floors import above
from doppio.core.models.answerable import Answerable
from doppio.core.models.joint import JointScorer, Scored, Share, Window
from doppio.core.models.kept_scores import KeptScores
from doppio.core.ranking import Ids, Scores
from doppio.core.reranking.combining import combined, pair_logits
from doppio.core.reranking.late_interaction import LateInteraction
from doppio.core.reranking.windowed import Candidate, Reading, read_in_windows, read_whole

PROBABILITY = "probability that the passage answers, 0 to 1"
# What measures best beside several scorers on left-out manuals; see docs/scorer.md.
BLEND_OF_SEVERAL = 0.0


# What was said of the chunks of a corpus by scorer, how it reads, and question: a score and the window it came from.
PairsKept = dict[tuple[str, tuple[int, int | None] | None, str], dict[int, tuple[float, Window | None]]]


@dataclass(frozen=True)
class Weighed:
    """A scorer of the step and its weight."""

    scorer: JointScorer
    weight: float = 1.0


@dataclass(frozen=True)
class FirstStage:
    """What a shortlist came with.

    fused : (n,) float32, scores of the mix
    branches : by "sparse" and "dense" (n,) float64, the best score of such a branch; NaN where none found it
    """

    fused: Scores
    branches: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)


@dataclass(frozen=True)
class Reranked:
    """The shortlist in its new order.

    chunks : (n,) int64, best first
    scores : (n,) float32, what orders them; larger is better
    probability : (n,) float32, that the passage answers; None where no scorer is calibrated
    answered : that any passage of the corpus answers; None where no scorer says it
    raw : of each scorer (n,) float32, what it gave
    before : (n,) int64, rank in the shortlist, from 1
    above_floor : (n,) bool
    windows : n ranges of characters, the part of a text that was read; None where all of it was
    shares : what the scores are the sum of, where that can be told, each with (n,) float32 in the new order
    """

    chunks: Ids
    scores: Scores
    probability: Scores | None
    answered: float | None
    raw: tuple[Scores, ...]
    before: NDArray[np.int64]
    above_floor: NDArray[np.bool_]
    windows: tuple[Window | None, ...]
    shares: tuple[tuple[Share, Scores], ...] = ()


@dataclass(frozen=True)
class Reranker:
    """Opened scorers and how they read.

    reading : windows; None where passages are read whole
    kept : what scorers said of pairs before, by question and chunk of this corpus; None where nothing is kept
    """

    parts: tuple[Weighed, ...]
    reading: Reading | None = None
    kept: PairsKept | None = None

    @property
    def measure(self) -> str:
        """What orders the shortlist."""
        if len(self.parts) == 1:
            return self.parts[0].scorer.measure
        return "standardised scores, weighted; larger is better"

    @property
    def calibrated(self) -> bool:
        """Whether the step says how likely a passage answers."""
        return any(part.scorer.calibration for part in self.parts)

    @property
    def late(self) -> LateInteraction | None:
        """Late interaction, where it is one of the scorers."""
        return next((part.scorer for part in self.parts if isinstance(part.scorer, LateInteraction)), None)

    @property
    def headed(self) -> bool:
        """Whether titles and headings of passages are read."""
        return self.reading is not None or any(hasattr(part.scorer, "judge") for part in self.parts)

    @property
    def answerable(self) -> Answerable | None:
        """What says how likely a question is answered at all."""
        found = (getattr(part.scorer, "answerable", None) for part in self.parts)
        return next((one for one in found if one is not None), None)

    @property
    def digest(self) -> str:
        """Changes whenever the same shortlist may come out in another order."""
        if len(self.parts) == 1 and self.reading is None:
            return self.parts[0].scorer.digest
        read = (self.reading.size, self.reading.most) if self.reading else None
        return fingerprint([(part.scorer.digest, part.weight) for part in self.parts], read)

    @property
    def blend(self) -> float:
        """Share of the first stage that measures best where a recipe says nothing."""
        return self.parts[0].scorer.blend if len(self.parts) == 1 else BLEND_OF_SEVERAL

    def bare(self) -> "Reranker":
        """The same without what scorers keep of the pairs that they have seen, to measure times."""
        parts = [Weighed(part.scorer.scorer if isinstance(part.scorer, KeptScores) else part.scorer, part.weight)
                 for part in self.parts]  # fmt: skip
        return Reranker(tuple(parts), self.reading)

    def score(self, question: str, candidates: Sequence[Candidate], first: FirstStage) -> tuple[Scored, ...]:
        """What each scorer says of the passages, in the order given."""
        found = []
        for part in self.parts:
            judge = getattr(part.scorer, "judge", None)
            if judge is not None:
                found.append(judge(question, candidates, first))
                continue
            found.append(self._said(part.scorer, question, candidates))
        return tuple(found)

    def _said(self, scorer: JointScorer, question: str, candidates: Sequence[Candidate]) -> Scored:
        if self.kept is None:
            return self._read(scorer, question, candidates)
        read = (self.reading.size, self.reading.most) if self.reading else None
        known = self.kept.setdefault((scorer.digest, read, question), {})
        lacking = [one for one in candidates if one.chunk not in known]
        if lacking:
            fresh = self._read(scorer, question, lacking)
            pairs = zip(fresh.scores.tolist(), fresh.windows, strict=True)
            known.update(zip((one.chunk for one in lacking), pairs, strict=True))
        said = [known[one.chunk] for one in candidates]
        return Scored(np.array([score for score, _ in said], np.float32), tuple(window for _, window in said))

    def _read(self, scorer: JointScorer, question: str, candidates: Sequence[Candidate]) -> Scored:
        if self.reading is None or getattr(scorer, "whole", False) or not candidates:
            return read_whole(scorer, question, candidates)
        return read_in_windows(scorer, question, candidates, self.reading)

    def keeping(self, kept: PairsKept) -> "Reranker":
        """The same, which keeps what it says of pairs; the corpus that it is asked of must stay as it is."""
        parts = [
            Weighed(part.scorer.keeping(kept) if hasattr(part.scorer, "keeping") else part.scorer, part.weight)
            for part in self.parts
        ]
        return Reranker(tuple(parts), self.reading, kept)

    def order(
        self,
        found: Sequence[Scored],
        chunks: Ids,
        first_stage: Scores,
        *,
        blend: float | None = None,
        floor: float | None = None,
        floor_share: float | None = None,
        unfound: float = 0.0,
    ) -> Reranked:
        """Order a shortlist that was scored.

        Parameters
        ----------
        found : of each scorer, what it says
        chunks : (n,) int64 array
            The shortlist, best first.
        first_stage : (n,) float32 array
            Scores that the shortlist came with.
        blend : float or None
            Share of the first stage's standardised score; the step's own where it is None.
        floor : float or None
            Chunks below it are marked; they stay in the list for people to see. It is a probability where a scorer
            is calibrated, and else a score.
        floor_share : float or None
            The same as a share of the best of the shortlist.
        unfound : float
            The share of the question's terms that nothing in the corpus holds, 0 to 1.

        Notes
        -----
        Ties keep the order of the shortlist. The probability of a pair does not depend on what stands beside it.
        """
        share = self.blend if blend is None else blend
        raw = [one.scores for one in found]
        scores = combined(raw, [part.weight for part in self.parts], first_stage, share)
        logits = pair_logits(raw, [part.scorer.calibration for part in self.parts])
        probability = None if logits is None else (1 / (1 + np.exp(-logits))).astype(np.float32)
        judge = self.answerable
        order = np.argsort(-scores, kind="stable")
        told = scores if probability is None else probability
        high = above(told[order], {"floor": floor, "floor_share": floor_share})
        read = next((one.windows for one in found if any(one.windows)), found[0].windows)
        return Reranked(
            chunks[order],
            scores[order],
            None if probability is None else probability[order],
            judge.probability(logits, unfound) if judge is not None and logits is not None else None,
            tuple(one[order] for one in raw),
            order.astype(np.int64) + 1,
            high,
            tuple(read[row] for row in order),
            tuple((share, share.added[order]) for one in found for share in one.shares) if len(found) == 1 else (),
        )

    def rerank(
        self,
        question: str,
        candidates: Sequence[Candidate],
        first: FirstStage,
        *,
        blend: float | None = None,
        floor: float | None = None,
        floor_share: float | None = None,
        unfound: float = 0.0,
    ) -> Reranked:
        """Score and order a shortlist; see `order`."""
        chunks = np.array([one.chunk for one in candidates], np.int64)
        found = self.score(question, candidates, first)
        return self.order(
            found, chunks, first.fused, blend=blend, floor=floor, floor_share=floor_share, unfound=unfound
        )
