"""A recipe at work: a question goes in, a trace comes out."""

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from doppio.core.chunking.table import ChunkTable, ChunkTexts
from doppio.core.dense.exact import exact_search
from doppio.core.fusion import Fused, reciprocal_rank_fusion, scaled_score_fusion
from doppio.core.models.encoder import Encoder
from doppio.core.models.joint import JointScorer
from doppio.core.ranking import Ids, Scores
from doppio.core.recipe import Recipe
from doppio.core.rerank import rerank
from doppio.core.select import first_groups, pack
from doppio.core.sparse.bm25 import bm25
from doppio.core.sparse.postings import Postings
from doppio.core.text.analysis import Analysis
from doppio.core.trace import (
    BEYOND,
    BRANCH,
    CONTEXT,
    FUSED,
    OVER_BUDGET,
    RERANKED,
    UNDER_FLOOR,
    UNDER_FLOOR_AND_BEYOND,
    StageTrace,
    Trace,
)

T = TypeVar("T")
QUESTIONS_A_BATCH = 256
HOST_ROOM = 1 << 40
MEASURES = {
    "bm25": "BM25 score, 0 upwards",
    "vector": "cosine, -1 to 1",
    "reciprocal-rank": "sum of weight / (k + rank)",
    "scaled-scores": "weighted mean of scores scaled to 0 to 1",
}


@dataclass(frozen=True)
class Pipeline:
    """All that a recipe needs, opened.

    postings, vectors : mappings from a branch's id to its index
    scorer : the joint scorer, where the recipe reranks
    """

    recipe: Recipe
    chunks: ChunkTable
    texts: ChunkTexts
    postings: Mapping[str, Postings]
    vectors: Mapping[str, NDArray[np.float32]]
    encoder: Encoder | None
    scorer: JointScorer | None

    def ask(self, question: str) -> Trace:
        """Take one question through all stages."""
        return next(self.ask_many([question]))

    def ask_many(self, questions: Sequence[str]) -> Iterator[Trace]:
        """Take questions through all stages; they are encoded in batches."""
        for first in range(0, len(questions), QUESTIONS_A_BATCH):
            batch = questions[first : first + QUESTIONS_A_BATCH]
            encoded: NDArray[np.float32] | None = None
            seconds = 0.0
            if self.encoder is not None and self.vectors:
                encoded, seconds = _timed(lambda batch=batch: self.encoder.vectors(batch))  # type: ignore
            for row, question in enumerate(batch):
                vector = None if encoded is None else encoded[row : row + 1]
                yield self._one(question, vector, seconds / len(batch))

    def fuse(self, branches: Sequence[tuple[Ids, Scores]]) -> Fused:
        """Fuse rankings of the branches, in the recipe's order, to the recipe's depth."""
        settings = self.recipe.fusion
        weights = [settings["weights"][branch["id"]] for branch in self.recipe.branches]
        if settings["method"] == "reciprocal-rank":
            fused = reciprocal_rank_fusion([chunks for chunks, _ in branches], k=settings["k"], weights=weights)
        else:
            fused = scaled_score_fusion(branches, weights=weights)
        depth = settings["depth"]
        return Fused(fused.chunks[:depth], fused.scores[:depth], fused.ranks[:depth], fused.shares[:depth])

    def _one(self, question: str, vector: NDArray[np.float32] | None, encoding: float) -> Trace:
        seconds = {"encode question": encoding} if vector is not None else {}
        stages: list[StageTrace] = []
        for branch in self.recipe.branches:
            (chunks, scores), took = _timed(lambda branch=branch: self._branch(branch, question, vector))  # type: ignore
            kept = np.ones(len(chunks), bool)
            measure = MEASURES[branch["kind"]]
            reasons = ("",) * len(chunks)
            stages.append(StageTrace(branch["id"], BRANCH, measure, chunks, scores, kept, reasons, took))
        fused, took = _timed(lambda: self.fuse([(stage.chunks, stage.scores) for stage in stages]))
        stages.append(self._fused_stage(fused, took))
        if self.scorer is not None and self.recipe.rerank is not None:
            stages.append(self._rerank_stage(question, stages[-1], self.scorer, self.recipe.rerank["floor"]))
        context = self._context_stage(stages[-1])
        stages.append(context)
        tokens = self._tokens_of(context.passed)
        seconds |= {stage.stage: stage.seconds for stage in stages}
        return Trace(question, self.recipe.fingerprint, tuple(stages), tokens, seconds)

    def _branch(self, branch: dict, question: str, vector: NDArray[np.float32] | None) -> tuple[Ids, Scores]:
        if branch["kind"] == "bm25":
            terms = [term.text for term in Analysis(**branch["analysis"]).terms(question)]
            return bm25(self.postings[branch["id"]], terms, branch["depth"], k1=branch["k1"], b=branch["b"])
        assert vector is not None
        return exact_search(self.vectors[branch["id"]], vector, branch["depth"])[0]

    def _fused_stage(self, fused: Fused, seconds: float) -> StageTrace:
        if self.recipe.rerank:
            kept = np.arange(len(fused.chunks)) < self.recipe.passed_by_fusion
        else:
            kept = first_groups(self._hosts(fused.chunks), self.recipe.passed_by_fusion)
        return StageTrace(
            FUSED,
            FUSED,
            MEASURES[self.recipe.fusion["method"]],
            fused.chunks,
            fused.scores,
            kept,
            _reasons(kept, BEYOND),
            seconds,
            branch_ranks=fused.ranks,
            shares=fused.shares,
        )

    def _rerank_stage(self, question: str, fused: StageTrace, scorer: JointScorer, floor: float | None) -> StageTrace:
        begun = time.perf_counter()
        result = rerank(scorer, question, fused.passed, self.texts.indexed(fused.passed.tolist()), floor)
        within = first_groups(self._hosts(result.chunks), self.recipe.select["k"])
        why = {
            (True, True): "",
            (True, False): BEYOND,
            (False, True): UNDER_FLOOR,
            (False, False): UNDER_FLOOR_AND_BEYOND,
        }
        reasons = tuple(why[bool(above), bool(near)] for above, near in zip(result.above_floor, within, strict=True))
        return StageTrace(
            RERANKED,
            RERANKED,
            scorer.measure,
            result.chunks,
            result.scores,
            result.above_floor & within,
            reasons,
            time.perf_counter() - begun,
            before=result.before,
        )

    def _context_stage(self, before: StageTrace) -> StageTrace:
        begun = time.perf_counter()
        chunks = before.passed
        taken = pack(self.chunks.handed[chunks], self.recipe.select["budget_tokens"], self._hosts(chunks))
        return StageTrace(
            CONTEXT,
            CONTEXT,
            before.measure,
            chunks,
            before.scores[before.kept],
            taken,
            _reasons(taken, OVER_BUDGET),
            time.perf_counter() - begun,
            before=np.flatnonzero(before.kept) + 1,
        )

    def _hosts(self, chunks: Ids) -> NDArray[np.int64]:
        """Number of what each chunk hands on: its host, which neighbours may share."""
        table = self.chunks
        if self.recipe.chunking["host"] is None:
            return np.asarray(chunks, np.int64)
        return table.document[chunks] * HOST_ROOM + table.host_start[chunks]

    def _tokens_of(self, chunks: Ids) -> int:
        """Tokens handed on with these chunks; a host that several share counts once."""
        _, first = np.unique(self._hosts(chunks), return_index=True)
        return int(self.chunks.handed[chunks[first]].sum())


def _reasons(kept: NDArray[np.bool_], why: str) -> tuple[str, ...]:
    return tuple("" if on else why for on in kept)


def _timed(work: Callable[[], T]) -> tuple[T, float]:
    begun = time.perf_counter()
    result = work()
    return result, time.perf_counter() - begun
